//! Commands to the drive itself: NVMe admin commands through the kernel's pass-through, ATA commands as SAT through SG_IO.
//!
//! Structures and numbers after include/uapi/linux/nvme_ioctl.h and scsi/sg.h of the kernel.

use std::fs::File;
use std::io::{Error, ErrorKind};
use std::os::fd::AsRawFd;

use hollow_mile_core::drive::protocol::sat;
use hollow_mile_core::drive::protocol::sat::{Command, Extended, Registers, Sense, Transfer};

/// A command that hangs must not hang the program for ever.
const TIMEOUT_MS: u32 = 10_000;

/// `struct nvme_passthru_cmd`.
#[repr(C)]
#[derive(Default)]
struct NvmeCommand {
    opcode: u8,
    flags: u8,
    reserved: u16,
    nsid: u32,
    cdw2: u32,
    cdw3: u32,
    metadata: u64,
    addr: u64,
    metadata_len: u32,
    data_len: u32,
    cdw10: u32,
    cdw11: u32,
    cdw12: u32,
    cdw13: u32,
    cdw14: u32,
    cdw15: u32,
    timeout_ms: u32,
    result: u32,
}

/// `_IOWR('N', 0x41, struct nvme_passthru_cmd)`.
const NVME_IOCTL_ADMIN_CMD: libc::c_ulong = 0xc048_4e41;
/// `_IO('N', 0x40)`: the namespace's number.
const NVME_IOCTL_ID: libc::c_ulong = 0x4e40;

/// All namespaces of a controller.
pub const ALL_NAMESPACES: u32 = 0xffff_ffff;

/// The namespace behind a block device; an error when it is no NVMe device.
pub fn nvme_namespace(file: &File) -> std::io::Result<u32> {
    // SAFETY: this ioctl takes no argument and returns a number.
    let id = unsafe { libc::ioctl(file.as_raw_fd(), NVME_IOCTL_ID) };
    u32::try_from(id).map_err(|_| Error::last_os_error())
}

/// Sends an admin command that brings `data` back; gives dword 0 of its completion.
pub fn nvme_admin(
    file: &File,
    opcode: u8,
    nsid: u32,
    cdw10: u32,
    cdw11: u32,
    data: &mut [u8],
) -> std::io::Result<u32> {
    nvme_admin_within(file, (opcode, nsid, cdw10, cdw11), data, TIMEOUT_MS)
}

/// As [`nvme_admin`], of a command (opcode, namespace, dwords 10 and 11) that may take so long, ms.
pub fn nvme_admin_within(
    file: &impl AsRawFd,
    (opcode, nsid, cdw10, cdw11): (u8, u32, u32, u32),
    data: &mut [u8],
    timeout_ms: u32,
) -> std::io::Result<u32> {
    let mut command = NvmeCommand {
        opcode,
        nsid,
        addr: if data.is_empty() { 0 } else { data.as_mut_ptr() as u64 },
        data_len: u32::try_from(data.len()).map_err(|_| Error::from(ErrorKind::InvalidInput))?,
        cdw10,
        cdw11,
        timeout_ms,
        ..NvmeCommand::default()
    };
    // SAFETY: the structure is what the kernel expects, and its buffer lives and is ours through the call.
    let status = unsafe { libc::ioctl(file.as_raw_fd(), NVME_IOCTL_ADMIN_CMD, &raw mut command) };
    match status {
        0 => Ok(command.result),
        s if s < 0 => Err(Error::last_os_error()),
        // Status code type and status code, without the phase tag (NVM Express Base 2.0, 3.3.3.2.1).
        s => Err(Error::new(
            if s & 0x7ff == 1 || s & 0x7ff == 2 { ErrorKind::Unsupported } else { ErrorKind::Other },
            format!("the drive answers with NVMe status {:X}h/{:02X}h", s >> 8 & 7, s & 0xff),
        )),
    }
}

/// `struct sg_io_hdr`.
#[repr(C)]
struct SgIoHeader {
    interface_id: libc::c_int,
    dxfer_direction: libc::c_int,
    cmd_len: u8,
    mx_sb_len: u8,
    iovec_count: u16,
    dxfer_len: u32,
    dxferp: *mut libc::c_void,
    cmdp: *const u8,
    sbp: *mut u8,
    timeout: u32,
    flags: u32,
    pack_id: libc::c_int,
    usr_ptr: *mut libc::c_void,
    status: u8,
    masked_status: u8,
    msg_status: u8,
    sb_len_wr: u8,
    host_status: u16,
    driver_status: u16,
    resid: libc::c_int,
    duration: u32,
    info: u32,
}

const SG_IO: libc::c_ulong = 0x2285;
const SG_DXFER_NONE: libc::c_int = -1;
const SG_DXFER_TO_DEV: libc::c_int = -2;
const SG_DXFER_FROM_DEV: libc::c_int = -3;

/// Sends an ATA command by SAT; `data` must be as long as the transfer. Gives the registers where they were asked for.
pub fn ata(
    file: &File,
    command: Command,
    transfer: Transfer,
    registers: bool,
    data: &mut [u8],
) -> std::io::Result<Option<Registers>> {
    let cdb = sat::pass_through(command, transfer, registers);
    let direction = if data.is_empty() { SG_DXFER_NONE } else { SG_DXFER_FROM_DEV };
    let answer = send(file, &cdb, direction, data, TIMEOUT_MS)?;
    answer.unless_refused()?;
    Ok(answer.said.and_then(|s| s.registers))
}

/// Sends an ATA command that brings 512 bytes along, or none, by SAT: its CDB, and how long it may take, ms.
pub fn ata_out(file: &impl AsRawFd, cdb: &[u8; 16], data: &mut [u8], timeout_ms: u32) -> std::io::Result<()> {
    let direction = if data.is_empty() { SG_DXFER_NONE } else { SG_DXFER_TO_DEV };
    send(file, cdb, direction, data, timeout_ms)?.unless_refused()
}

/// The registers in which a 48-bit command ends, also where they tell of an error.
pub fn ata_registers(file: &impl AsRawFd, command: Extended, timeout_ms: u32) -> std::io::Result<Registers> {
    let cdb = sat::pass_through_extended(command, Transfer::None);
    let answer = send(file, &cdb, SG_DXFER_NONE, &mut [], timeout_ms)?;
    match answer.said.and_then(|s| s.registers) {
        Some(registers) => Ok(registers),
        None => {
            answer.unless_refused().and(Err(Error::other("the adapter does not tell how the drive answered")))
        }
    }
}

/// How the adapter answered.
struct Answer {
    said: Option<Sense>,
    host_status: u16,
    status: u8,
    cut_short: bool,
}

impl Answer {
    fn unless_refused(&self) -> std::io::Result<()> {
        // ERR or DF in the drive's own status (ACS-4, 6.2): it refused the command.
        let refused = self.said.and_then(|s| s.registers).is_some_and(|r| r.status & 0x21 != 0);
        match self.said {
            Some(s) if s.is_unsupported() => Err(Error::new(
                ErrorKind::Unsupported,
                "the drive, or the bridge before it, does not take this command",
            )),
            _ if refused => Err(Error::new(ErrorKind::Unsupported, "the drive refuses this command")),
            Some(s) if !matches!(s.key, 0 | 1) => Err(Error::other(format!(
                "the drive answers with sense {:X}h/{:02X}h/{:02X}h",
                s.key, s.code.0, s.code.1
            ))),
            _ if self.host_status != 0 => {
                Err(Error::other(format!("the adapter reports host status {:#x}", self.host_status)))
            }
            _ if self.cut_short => Err(Error::other("the answer was cut short")),
            None if self.status != 0 => {
                Err(Error::other(format!("the adapter reports status {:#x}", self.status)))
            }
            _ => Ok(()),
        }
    }
}

fn send(
    file: &impl AsRawFd,
    cdb: &[u8; 16],
    direction: libc::c_int,
    data: &mut [u8],
    timeout_ms: u32,
) -> std::io::Result<Answer> {
    let mut sense = [0u8; 64];
    let mut header = SgIoHeader {
        interface_id: i32::from(b'S'),
        dxfer_direction: direction,
        cmd_len: cdb.len() as u8,
        mx_sb_len: sense.len() as u8,
        iovec_count: 0,
        dxfer_len: u32::try_from(data.len()).map_err(|_| Error::from(ErrorKind::InvalidInput))?,
        dxferp: data.as_mut_ptr().cast(),
        cmdp: cdb.as_ptr(),
        sbp: sense.as_mut_ptr(),
        timeout: timeout_ms,
        flags: 0,
        pack_id: 0,
        usr_ptr: std::ptr::null_mut(),
        status: 0,
        masked_status: 0,
        msg_status: 0,
        sb_len_wr: 0,
        host_status: 0,
        driver_status: 0,
        resid: 0,
        duration: 0,
        info: 0,
    };
    // SAFETY: the header is what the kernel expects; command, sense and data live and are ours through the call.
    if unsafe { libc::ioctl(file.as_raw_fd(), SG_IO, &raw mut header) } < 0 {
        return Err(Error::last_os_error());
    }
    Ok(Answer {
        said: Sense::decode(&sense[..usize::from(header.sb_len_wr).min(sense.len())]),
        host_status: header.host_status,
        status: header.status,
        cut_short: usize::try_from(header.resid).is_ok_and(|r| r > 0 && r <= data.len()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_structures_have_the_size_that_the_kernel_wants() {
        assert_eq!(size_of::<NvmeCommand>(), 72);
        assert_eq!(size_of::<SgIoHeader>(), 88);
    }

    #[test]
    fn what_is_no_drive_answers_with_an_error() {
        let file = File::open("/dev/null").unwrap();
        assert!(nvme_namespace(&file).is_err());
        assert!(nvme_admin(&file, 6, 0, 1, 0, &mut [0; 4096]).is_err());
        assert!(ata(&file, sat::IDENTIFY, Transfer::In(1), false, &mut [0; 512]).is_err());
    }
}
