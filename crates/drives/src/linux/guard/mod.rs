//! The guard: every byte that is written to storage passes here, and nowhere else can the right to write be had.
//!
//! A [`Writable`] is that right. It has no constructor outside this module; the pump takes it for loads that write and
//! has nothing else to write with. It is given for a new file of our own, or for a device that nobody uses, that holds
//! nothing that was not given up by name, and whose serial was typed.

mod content;
mod examination;
mod openers;
mod own_folder;
mod reach;
mod second_opinion;
mod users;

#[cfg(test)]
mod made_up;
#[cfg(test)]
mod tests;

use std::os::fd::{AsRawFd, OwnedFd};
use std::path::Path;
use std::sync::Arc;

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::protocol::sat::{
    Command, Extended, Transfer, pass_through, pass_through_extended,
};
use hollow_mile_core::drive::stamp;
use hollow_mile_core::quantity::units::Bytes;
use rustix::fs::{
    AtFlags, CWD, FallocateFlags, FlockOperation, Mode, OFlags, XattrFlags, fallocate, flock, fsetxattr,
    fstat, linkat, major, minor, open,
};
use rustix::io::Errno;

use super::erase;
use super::pass_through::{ata_out, nvme_admin_within};
use super::sysfs::{BlockDevice, Sysfs};

pub use examination::{Consent, Examination, Obstacle, Reason, Refusal, Unseen, held};
pub use openers::Opener;
pub(super) use own_folder::{Inside, Way};
pub use own_folder::{OwnFolder, remove_own_folder};
pub use users::{Use, Users};

/// The right to write to one file or device, and its open descriptor.
pub struct Writable {
    file: Arc<OwnedFd>,
    device: bool,
    /// Ways to erase the whole drive that were agreed to.
    erasures: Vec<Erasure>,
}

/// A command by which a drive erases all of itself, or a step on the way there.
pub(super) enum EraseCommand {
    /// NVMe: opcode, namespace, dwords 10 and 11.
    Nvme((u8, u32, u32, u32)),
    /// ATA, of 48 bits.
    Extended(Extended),
    /// ATA, of 28 bits.
    Plain(Command),
    /// ATA, of 28 bits, with a page that holds a password.
    WithPassword(Command, Box<[u8; 512]>),
}

/// An open file or device, with or without the right to write to it.
#[derive(Clone)]
pub enum Access {
    /// Opened read-only: the kernel refuses writes too.
    Read(Arc<OwnedFd>),
    /// Passed the guard.
    Write(Arc<Writable>),
}

impl Access {
    /// The descriptor, for a queue that has checked what it may do with it.
    pub(super) fn descriptor(&self) -> &Arc<OwnedFd> {
        match self {
            Self::Read(file) => file,
            Self::Write(writable) => &writable.file,
        }
    }

    /// It may be written.
    pub(super) const fn may_write(&self) -> bool {
        matches!(self, Self::Write(_))
    }
}

/// BLKDISCARD of linux/fs.h: `_IO(0x12, 119)`; takes the first byte and the length.
const BLKDISCARD: libc::c_ulong = 0x1277;
/// BLKRESETZONE of linux/blkzoned.h: `_IOW(0x12, 131, struct blk_zone_range)`; takes the first sector of 512 B and their number.
const BLKRESETZONE: libc::c_ulong = 0x4010_1283;
/// BLKZEROOUT of linux/fs.h: `_IO(0x12, 127)`; takes the same.
const BLKZEROOUT: libc::c_ulong = 0x127f;

/// Hears of a file or folder of ours before it is made: where, and the mark that it will carry. When it cannot write that
/// down, in a sentence, nothing is made: no kill may leave behind what nobody knows.
pub type Announce<'a> = &'a dyn Fn(&Path, &str) -> Result<(), String>;

/// Nobody is told: for what ends with the program, whatever comes.
///
/// # Errors
/// Never.
pub fn to_nobody(_: &Path, _: &str) -> Result<(), String> {
    Ok(())
}

/// Why something of our own was not made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotMade {
    /// The kernel refused.
    #[error(transparent)]
    Kernel(#[from] Errno),
    /// It could not be written down before.
    #[error("{0}")]
    Unannounced(String),
}

/// By this a file or folder of ours is known again.
fn new_mark() -> String {
    format!("{:032x}", rand::random::<u128>())
}

/// Makes a new file that carries a mark: a device and inode number are soon another file's. Where the file system can, it
/// gets its name with the mark on it, so that no kill falls between the two. One without attributes goes without.
fn make_marked(path: &Path, mark: &str) -> Result<OwnedFd, Errno> {
    let mode = Mode::from_bits_truncate(0o600);
    let put = |file: &OwnedFd| fsetxattr(file, stamp::FILE_MARK, mark.as_bytes(), XattrFlags::CREATE);
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if let Ok(nameless) = open(folder, OFlags::RDWR | OFlags::TMPFILE | OFlags::CLOEXEC, mode) {
        let _ = put(&nameless);
        let itself = format!("/proc/self/fd/{}", nameless.as_raw_fd());
        match linkat(CWD, itself, CWD, path, AtFlags::SYMLINK_FOLLOW) {
            Ok(()) => return Ok(nameless),
            Err(Errno::EXIST) => return Err(Errno::EXIST),
            // No /proc, or no links there: as everywhere else.
            Err(_) => {}
        }
    }
    let file = open(path, OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC, mode)?;
    let _ = put(&file);
    Ok(file)
}

impl Writable {
    /// Makes a new file of our own; what exists is never touched. Direct I/O where the file system takes it.
    ///
    /// # Errors
    /// What the kernel says, `EXIST` when something is there; and when it cannot be announced.
    pub(super) fn create_file(path: &Path, announce: Announce) -> Result<(Self, bool), NotMade> {
        let mark = new_mark();
        announce(path, &mark).map_err(NotMade::Unannounced)?;
        let plain = make_marked(path, &mark)?;
        let made = fstat(&plain)?;
        // Made first and opened for direct I/O then: a file system may make the file and refuse the flag.
        let direct =
            open(path, OFlags::RDWR | OFlags::CLOEXEC | OFlags::DIRECT | OFlags::NOFOLLOW, Mode::empty());
        match direct {
            Ok(file) if fstat(&file).is_ok_and(|s| (s.st_dev, s.st_ino) == (made.st_dev, made.st_ino)) => {
                Ok((Self { file: Arc::new(file), device: false, erasures: Vec::new() }, true))
            }
            _ => Ok((Self { file: Arc::new(plain), device: false, erasures: Vec::new() }, false)),
        }
    }

    /// Takes up the room that a new file needs before its first byte, so that it cannot run out in the middle.
    pub(super) fn allocate(&self, size: Bytes) -> Result<(), Errno> {
        match fallocate(&*self.file, FallocateFlags::empty(), 0, size.get()) {
            Err(Errno::OPNOTSUPP | Errno::NOSYS) => Ok(()),
            other => other,
        }
    }

    /// Tells the drive, or the file system, that this range is no longer needed.
    pub(super) fn discard(&self, start: u64, length: u64) -> std::io::Result<()> {
        if !self.device {
            let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
            return Ok(fallocate(&*self.file, flags, start, length)?);
        }
        let range = [start, length];
        // SAFETY: BLKDISCARD reads two u64 from the pointer, which lives through the call.
        let result = unsafe { libc::ioctl(self.file.as_raw_fd(), BLKDISCARD, range.as_ptr()) };
        if result == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
    }

    /// Makes this range read as zeroes.
    pub(super) fn zero(&self, start: u64, length: u64) -> std::io::Result<()> {
        if !self.device {
            return Ok(fallocate(&*self.file, FallocateFlags::ZERO_RANGE, start, length)?);
        }
        let range = [start, length];
        // SAFETY: BLKZEROOUT reads two u64 from the pointer, which lives through the call.
        let result = unsafe { libc::ioctl(self.file.as_raw_fd(), BLKZEROOUT, range.as_ptr()) };
        if result == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
    }

    /// Empties the zones of this range, which begins and ends with a zone.
    pub(super) fn reset_zones(&self, start: u64, length: u64) -> std::io::Result<()> {
        let range = [start / 512, length / 512];
        // SAFETY: BLKRESETZONE reads two u64 from the pointer, which lives through the call.
        let result = unsafe { libc::ioctl(self.file.as_raw_fd(), BLKRESETZONE, range.as_ptr()) };
        if result == 0 { Ok(()) } else { Err(std::io::Error::last_os_error()) }
    }

    /// Sends the drive a command that erases all of it. Returns when the drive says that it is done with the command, within so many ms.
    ///
    /// # Errors
    /// When this way was not agreed to, or what the drive says.
    pub(super) fn erase_whole(
        &self,
        by: Erasure,
        command: &EraseCommand,
        timeout_ms: u32,
    ) -> std::io::Result<()> {
        if !self.erasures.contains(&by) {
            return Err(std::io::ErrorKind::PermissionDenied.into());
        }
        let file = &*self.file;
        match command {
            EraseCommand::Nvme(command) => nvme_admin_within(file, *command, &mut [], timeout_ms).map(drop),
            EraseCommand::Extended(command) => {
                ata_out(file, &pass_through_extended(*command, Transfer::None), &mut [], timeout_ms)
            }
            EraseCommand::Plain(command) => {
                ata_out(file, &pass_through(*command, Transfer::None, false), &mut [], timeout_ms)
            }
            EraseCommand::WithPassword(command, page) => {
                let mut page = **page;
                ata_out(file, &pass_through(*command, Transfer::Out(1), false), &mut page, timeout_ms)
            }
        }
    }

    /// Makes what was written durable.
    pub(super) fn flush(&self) -> std::io::Result<()> {
        Ok(rustix::fs::fdatasync(&*self.file)?)
    }

    /// Opens a device for writing, when nothing stands against it and the consent is whole.
    ///
    /// # Errors
    /// Why not, all reasons at once. Nothing was written then, and nothing is kept open.
    pub fn open_device(
        sysfs: &Sysfs,
        device: &BlockDevice,
        consent: &Consent,
    ) -> Result<(Self, Examination), Refusal> {
        let node = device.node();
        let refuse = |why: Reason| Refusal { device: node.clone(), reasons: vec![why], losses: Vec::new() };
        if !consent.erasures.is_empty()
            && let Err(why) = erase::may_erase(device, &consent.erasures)
        {
            return Err(refuse(Reason::NotErased(why)));
        }
        // Exclusive first: from here on the kernel lets nobody mount it or build on it while we look.
        let flags = OFlags::RDWR | OFlags::EXCL | OFlags::CLOEXEC | OFlags::DIRECT;
        let examine = || Examination::of(sysfs, &Users::now(sysfs), device, &consent.protect);
        let (mut opened, mut before) = (open(&node, flags, Mode::empty()), examine());
        let until = std::time::Instant::now() + PATIENCE;
        while std::time::Instant::now() < until {
            // What has just let go of it may be held by the kernel for a moment still, and who watches for new devices opens
            // each for a moment.
            let busy = matches!(opened, Err(Errno::BUSY));
            if !(busy && !before.is_used() || before.is_only_opened()) {
                break;
            }
            std::thread::sleep(A_MOMENT);
            if busy {
                opened = open(&node, flags, Mode::empty());
            }
            before = examine();
        }
        let file = match opened {
            Ok(file) => file,
            Err(e) => {
                let mut reasons = before.verdict(consent).err().map_or_else(Vec::new, |r| r.reasons);
                if e != Errno::BUSY || !reasons.iter().any(|r| matches!(r, Reason::Obstacle(_))) {
                    reasons.push(match e {
                        Errno::BUSY => Reason::Busy,
                        Errno::ACCESS | Errno::PERM => {
                            Reason::Obstacle(Obstacle::NoPermission(permission(&node, "written")))
                        }
                        Errno::ROFS => Reason::Obstacle(Obstacle::ReadOnly),
                        e => Reason::NotOpened(e.to_string()),
                    });
                }
                return Err(Refusal { device: node.clone(), reasons, losses: before.losses });
            }
        };
        let opened_number = fstat(&file).map(|s| (major(s.st_rdev), minor(s.st_rdev)));
        if opened_number != Ok(device.number) {
            return Err(refuse(Reason::AnotherDevice));
        }
        before.verdict(consent)?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|_| refuse(Reason::Locked))?;
        Ok((Self { file: Arc::new(file), device: true, erasures: consent.erasures.clone() }, before))
    }
}

/// For so long a device is waited for that may be free in a moment, and between two looks at it.
const PATIENCE: std::time::Duration = std::time::Duration::from_millis(500);
const A_MOMENT: std::time::Duration = std::time::Duration::from_millis(25);

/// Opens a device for reading only. Needs no consent; stands back when somebody writes to it.
///
/// # Errors
/// In a sentence.
pub fn open_for_reading(device: &BlockDevice) -> Result<Access, String> {
    let node = device.node();
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::DIRECT;
    let file = open(&node, flags, Mode::empty()).map_err(|e| match e {
        Errno::ACCESS | Errno::PERM => {
            format!("{} cannot be read: {}", node.display(), permission(&node, "read"))
        }
        Errno::NODEV | Errno::NXIO | Errno::NOENT => format!("{} is gone", node.display()),
        e => format!("{} cannot be opened for reading: {e}", node.display()),
    })?;
    if flock(&file, FlockOperation::NonBlockingLockShared).is_err() {
        return Err(format!(
            "{} is locked by a program that writes to it: both would spoil each other's figures",
            node.display()
        ));
    }
    Ok(Access::Read(Arc::new(file)))
}

/// What is missing when the kernel says no, and what still works.
fn permission(node: &Path, verb: &str) -> String {
    use std::os::unix::fs::MetadataExt;
    let group = std::fs::metadata(node).map(|m| m.gid()).ok();
    let group = group.map_or_else(|| "its group".to_owned(), |g| format!("group {}", group_name(g)));
    format!(
        "no permission: to be {verb} it needs you in {group} or the capability CAP_DAC_OVERRIDE; its identity in the yard works without"
    )
}

/// By the system's databases, /etc/group or a directory of users.
fn group_name(id: u32) -> String {
    uzers::get_group_by_gid(id).map_or_else(|| id.to_string(), |g| g.name().to_string_lossy().into_owned())
}
