//! What the system's own library of on-disk marks says of a device, where it is installed: a check beside ours, never instead.

use std::ffi::{CStr, c_char, c_int, c_void};
use std::fs::File;
use std::os::fd::AsRawFd;
use std::sync::OnceLock;

use hollow_mile_core::drive::protocol::signature::Signature;

type Probe = *mut c_void;

/// Functions of libblkid that are called, as its header blkid.h declares them.
struct Library {
    new: unsafe extern "C" fn() -> Probe,
    free: unsafe extern "C" fn(Probe),
    set_device: unsafe extern "C" fn(Probe, c_int, i64, i64) -> c_int,
    partitions: unsafe extern "C" fn(Probe, c_int) -> c_int,
    probe: unsafe extern "C" fn(Probe) -> c_int,
    value: unsafe extern "C" fn(Probe, *const c_char, *mut *const c_char, *mut usize) -> c_int,
}

impl Library {
    fn get() -> Option<&'static Self> {
        static LIBRARY: OnceLock<Option<Library>> = OnceLock::new();
        LIBRARY.get_or_init(Self::load).as_ref()
    }

    fn load() -> Option<Self> {
        // SAFETY: the name is a C string; a library of the system runs no more than its own initialisers.
        let handle = unsafe { libc::dlopen(c"libblkid.so.1".as_ptr(), libc::RTLD_NOW | libc::RTLD_LOCAL) };
        if handle.is_null() {
            return None;
        }
        let symbol = |name: &CStr| {
            // SAFETY: the handle is open and is never closed; the name is a C string.
            let found = unsafe { libc::dlsym(handle, name.as_ptr()) };
            (!found.is_null()).then_some(found)
        };
        // SAFETY: the signatures are those of blkid.h, which have not changed since version 1 of the library.
        unsafe {
            Some(Self {
                new: std::mem::transmute::<*mut c_void, unsafe extern "C" fn() -> Probe>(symbol(
                    c"blkid_new_probe",
                )?),
                free: std::mem::transmute::<*mut c_void, unsafe extern "C" fn(Probe)>(symbol(
                    c"blkid_free_probe",
                )?),
                set_device: std::mem::transmute::<
                    *mut c_void,
                    unsafe extern "C" fn(Probe, c_int, i64, i64) -> c_int,
                >(symbol(c"blkid_probe_set_device")?),
                partitions: std::mem::transmute::<*mut c_void, unsafe extern "C" fn(Probe, c_int) -> c_int>(
                    symbol(c"blkid_probe_enable_partitions")?,
                ),
                probe: std::mem::transmute::<*mut c_void, unsafe extern "C" fn(Probe) -> c_int>(symbol(
                    c"blkid_do_probe",
                )?),
                value: std::mem::transmute::<
                    *mut c_void,
                    unsafe extern "C" fn(Probe, *const c_char, *mut *const c_char, *mut usize) -> c_int,
                >(symbol(c"blkid_probe_lookup_value")?),
            })
        }
    }
}

/// Our name for what the library calls so.
fn our_name(theirs: &str) -> String {
    let ours = match theirs {
        "LVM2_member" => "lvm2",
        "LVM1_member" => "lvm1",
        "linux_raid_member" => "md-raid",
        "crypto_LUKS" => "luks",
        "zfs_member" => "zfs",
        "vfat" => "fat",
        "dos" => "mbr",
        "mac" => "apple",
        "swsuspend" => "hibernation",
        "isw_raid_member" => "imsm-raid",
        "hfsplus" => "hfs",
        "jbd" => "journal",
        "ufs" => "ufs",
        "oracleasm" => "asm",
        "DM_integrity" => "integrity",
        "DM_verity_hash" => "verity",
        "DM_snapshot_cow" => "snapshot-cow",
        "VMFS_volume_member" | "VMFS" => "vmfs",
        other => return other.to_ascii_lowercase().replace("_raid_member", "-raid").replace('_', "-"),
    };
    ours.to_owned()
}

/// Everything that the library finds on an open device; nothing where it is not installed.
pub(super) fn of(file: &File) -> Vec<Signature> {
    let Some(library) = Library::get() else { return Vec::new() };
    let mut all = Vec::new();
    // SAFETY: a probe is made, used by this thread alone and freed; values are copied before the next call.
    unsafe {
        let probe = (library.new)();
        if probe.is_null() {
            return all;
        }
        if (library.set_device)(probe, file.as_raw_fd(), 0, 0) == 0 {
            (library.partitions)(probe, 1);
            // Each call goes on behind what the one before found; 32 are more than a device can have.
            for _ in 0..32 {
                if (library.probe)(probe) != 0 {
                    break;
                }
                for key in [c"TYPE", c"PTTYPE"] {
                    let mut value: *const c_char = std::ptr::null();
                    if (library.value)(probe, key.as_ptr(), &raw mut value, std::ptr::null_mut()) == 0
                        && !value.is_null()
                    {
                        let name = our_name(&CStr::from_ptr(value).to_string_lossy());
                        all.push(Signature { name, detail: "by the system's library of marks".into() });
                    }
                }
            }
        }
        (library.free)(probe);
    }
    all
}
