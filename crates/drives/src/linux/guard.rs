//! The guard: every byte that is written to storage passes here, and nowhere else can the right to write be had.
//!
//! A [`Writable`] is that right. It has no constructor outside this module; the pump takes it for loads that write and
//! has nothing else to write with. It is given for a new file of our own, or for a device that nobody uses, that holds
//! nothing that was not given up by name, and whose serial was typed.

use std::fmt;
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use hollow_mile_core::protocol::signature::{self, Signature};
use hollow_mile_core::units::Bytes;
use rustix::fs::{FallocateFlags, FlockOperation, Mode, OFlags, fallocate, flock, fstat, major, minor, open};
use rustix::io::Errno;

use super::file_system::mounts;
use super::sysfs::{BlockDevice, Number, Sysfs};

/// The right to write to one file or device, and its open descriptor.
pub struct Writable {
    file: Arc<OwnedFd>,
    device: bool,
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

impl Writable {
    /// Makes a new file of our own; what exists is never touched. Direct I/O where the file system takes it.
    ///
    /// # Errors
    /// What the kernel says; `EXIST` when something is there.
    pub(super) fn create_file(path: &Path) -> Result<(Self, bool), Errno> {
        let mode = Mode::from_bits_truncate(0o600);
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        // Made first and opened for direct I/O then: a file system may make the file and refuse the flag.
        let plain = open(path, flags, mode)?;
        let made = fstat(&plain)?;
        let direct =
            open(path, OFlags::RDWR | OFlags::CLOEXEC | OFlags::DIRECT | OFlags::NOFOLLOW, Mode::empty());
        match direct {
            Ok(file) if fstat(&file).is_ok_and(|s| (s.st_dev, s.st_ino) == (made.st_dev, made.st_ino)) => {
                Ok((Self { file: Arc::new(file), device: false }, true))
            }
            _ => Ok((Self { file: Arc::new(plain), device: false }, false)),
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
        let refuse = |why: String| Refusal { device: node.clone(), reasons: vec![why], losses: Vec::new() };
        // Exclusive first: from here on the kernel lets nobody mount it or build on it while we look.
        let flags = OFlags::RDWR | OFlags::EXCL | OFlags::CLOEXEC | OFlags::DIRECT;
        // What has just let go of it may be held by the kernel for a moment still.
        let opened = (0..20).find_map(|i| match open(&node, flags, Mode::empty()) {
            Err(Errno::BUSY) if i < 19 => {
                std::thread::sleep(std::time::Duration::from_millis(25));
                None
            }
            other => Some(other),
        });
        let opened = opened.unwrap_or(Err(Errno::BUSY));
        let before = Examination::of(sysfs, device, &consent.protect);
        let file = match opened {
            Ok(file) => file,
            Err(e) => {
                let mut refusal = before.verdict(consent).err().unwrap_or_else(|| refuse(String::new()));
                let own = match e {
                    Errno::BUSY => {
                        "something uses it: it is mounted, part of a volume, or another program hauls on it"
                            .to_owned()
                    }
                    Errno::ACCESS | Errno::PERM => permission(&node, "written"),
                    Errno::ROFS => "it is read-only".to_owned(),
                    e => format!("it cannot be opened for writing: {e}"),
                };
                refusal.reasons.retain(|r| !r.is_empty());
                if e != Errno::BUSY || refusal.reasons.is_empty() {
                    refusal.reasons.push(own);
                }
                return Err(refusal);
            }
        };
        let opened_number = fstat(&file).map(|s| (major(s.st_rdev), minor(s.st_rdev)));
        if opened_number != Ok(device.number) {
            return Err(refuse(format!("{} is another device now", node.display())));
        }
        before.verdict(consent)?;
        flock(&file, FlockOperation::NonBlockingLockExclusive)
            .map_err(|_| refuse("another program has locked it".into()))?;
        Ok((Self { file: Arc::new(file), device: true }, before))
    }
}

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

fn group_name(id: u32) -> String {
    let groups = std::fs::read_to_string("/etc/group").unwrap_or_default();
    let name = groups.lines().find_map(|l| {
        let mut f = l.split(':');
        let name = f.next()?;
        (f.nth(1)?.parse() == Ok(id)).then(|| name.to_owned())
    });
    name.unwrap_or_else(|| id.to_string())
}

/// What the user has agreed to.
#[derive(Debug, Clone, Default)]
pub struct Consent {
    /// The serial, as typed.
    pub erase: Option<String>,
    /// Names of what may be lost: `gpt`, `ext4`.
    pub give_up: Vec<String>,
    /// Paths whose drives are never written: the ledger, this program.
    pub protect: Vec<PathBuf>,
}

/// What stands on and against writing to a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Examination {
    /// The device.
    pub device: PathBuf,
    /// What must be typed.
    pub word_to_type: String,
    /// What no consent can lift.
    pub obstacles: Vec<String>,
    /// Partition tables, file systems and the like, each of which must be given up by name.
    pub signatures: Vec<Signature>,
    /// What would be lost, a line each.
    pub losses: Vec<String>,
}

/// Why a device will not be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The device.
    pub device: PathBuf,
    /// All reasons.
    pub reasons: Vec<String>,
    /// What would be lost, where that was the reason.
    pub losses: Vec<String>,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} will not be written: {}", self.device.display(), self.reasons.join("; "))?;
        if !self.losses.is_empty() {
            write!(f, ". It would cost: {}", self.losses.join("; "))?;
        }
        Ok(())
    }
}

impl std::error::Error for Refusal {}

/// The first and the last bytes of a device; through the page cache, since a read-only look need not be aligned.
fn head_and_tail(node: &Path, size: Bytes) -> std::io::Result<(Vec<u8>, Vec<u8>)> {
    use std::io::{Read, Seek, SeekFrom};
    let mut file = std::fs::File::open(node)?;
    let mut read = |from: u64, length: usize| -> std::io::Result<Vec<u8>> {
        file.seek(SeekFrom::Start(from))?;
        let mut bytes = Vec::with_capacity(length);
        (&mut file).take(length as u64).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    let head = read(0, signature::HEAD)?;
    let tail = read(size.get().saturating_sub(signature::TAIL as u64), signature::TAIL)?;
    Ok((head, tail))
}

fn signatures_of(node: &Path, size: Bytes) -> std::io::Result<Vec<Signature>> {
    head_and_tail(node, size).map(|(head, tail)| signature::detect(&head, &tail, size))
}

impl Examination {
    /// Looks at a device; reads its first and last bytes, and writes nothing.
    #[must_use]
    pub fn of(sysfs: &Sysfs, device: &BlockDevice, protect: &[PathBuf]) -> Self {
        let node = device.node();
        let mut e = Self {
            device: node.clone(),
            word_to_type: device.word_to_type(),
            obstacles: Vec::new(),
            signatures: Vec::new(),
            losses: Vec::new(),
        };
        let partitions = device.partitions();
        let mut numbers: Vec<Number> = partitions.iter().map(|p| p.number).collect();
        numbers.push(device.number);
        numbers.extend(device.whole.as_ref().map(|w| w.number));
        for mount in mounts() {
            let by_source = || sysfs.by_path(Path::new(&mount.source)).ok().map(|d| d.number);
            if numbers.contains(&mount.number) || by_source().is_some_and(|n| numbers.contains(&n)) {
                e.obstacles.push(format!("{} is mounted on {}", mount.source, mount.point));
            }
        }
        for swap in std::fs::read_to_string("/proc/swaps").unwrap_or_default().lines().skip(1) {
            let path = swap.split_whitespace().next().unwrap_or("");
            if sysfs.by_path(Path::new(path)).is_ok_and(|d| numbers.contains(&d.number)) {
                e.obstacles.push(format!("{path} is swap in use"));
            }
        }
        let mut holders = device.holders();
        if let Some(whole) = &device.whole {
            holders.extend(whole.holders().into_iter().filter(|h| !holders.contains(h)).collect::<Vec<_>>());
        }
        if !holders.is_empty() {
            e.obstacles.push(format!("{} is built on it", holders.join(", ")));
        }
        let root = [("the system's root", PathBuf::from("/"))];
        let own = protect.iter().map(|p| ("the ledger or this program", p.clone()));
        for (what, path) in root.into_iter().chain(own) {
            if sysfs.under(&path).contains(&device.disk().name) {
                let said = format!("{what} ({}) lies on it", path.display());
                if !e.obstacles.contains(&said) {
                    e.obstacles.push(said);
                }
            }
        }
        if device.is_read_only() {
            e.obstacles.push("it is read-only".into());
        }
        e.look_at_content(device);
        e
    }

    fn look_at_content(&mut self, device: &BlockDevice) {
        match signatures_of(&device.node(), device.size()) {
            Ok(found) => self.signatures = found,
            Err(why) if why.kind() == std::io::ErrorKind::PermissionDenied => {
                self.obstacles.push(permission(&device.node(), "examined"));
            }
            Err(why) => self.obstacles.push(format!("its content cannot be examined: {why}")),
        }
        for s in &self.signatures {
            self.losses.push(format!("{} {}", s.name, s.detail).trim().to_owned());
        }
        for part in device.partitions() {
            let inside = signatures_of(&Path::new("/dev").join(&part.name), part.size).unwrap_or_default();
            let inside: Vec<String> =
                inside.iter().map(|s| format!("{} {}", s.name, s.detail).trim().to_owned()).collect();
            let holds = if inside.is_empty() { "nothing known".into() } else { inside.join(", ") };
            self.losses.push(format!("{} ({}): {holds}", part.name, part.size));
        }
    }

    /// Whether this consent is enough.
    ///
    /// # Errors
    /// All that is missing.
    pub fn verdict(&self, consent: &Consent) -> Result<(), Refusal> {
        let mut reasons = self.obstacles.clone();
        let mut losses = Vec::new();
        let kept: Vec<&str> = self
            .signatures
            .iter()
            .filter(|s| !consent.give_up.contains(&s.name))
            .map(|s| s.name.as_str())
            .collect();
        if !kept.is_empty() {
            reasons.push(format!(
                "it holds {}: to lose that, add --give-up {}",
                kept.join(" and "),
                kept.join(",")
            ));
            losses.clone_from(&self.losses);
        }
        match &consent.erase {
            Some(typed) if typed.trim() == self.word_to_type => {}
            Some(typed) => {
                let shown: String = typed.chars().filter(|c| !c.is_control()).take(60).collect();
                reasons.push(format!("the serial is {}, and \"{shown}\" was typed", self.word_to_type));
            }
            None => {
                reasons
                    .push(format!("consent is missing: type its serial, --erase \"{}\"", self.word_to_type));
                losses.clone_from(&self.losses);
            }
        }
        if reasons.is_empty() {
            Ok(())
        } else {
            Err(Refusal { device: self.device.clone(), reasons, losses })
        }
    }

    /// It could be written once consent is given.
    #[must_use]
    pub fn is_free(&self) -> bool {
        self.obstacles.is_empty()
    }

    /// The state of safety in a few words, for a row of the yard.
    #[must_use]
    pub fn words(&self) -> String {
        if let Some(first) = self.obstacles.first() {
            return format!("not to be written: {first}");
        }
        match self.signatures.len() {
            0 => "empty; may be written once its serial is typed".into(),
            _ => {
                let names: Vec<&str> = self.signatures.iter().map(|s| s.name.as_str()).collect();
                format!("holds {}; may be written once that is given up", names.join(", "))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn examination() -> Examination {
        Examination {
            device: "/dev/nvme0n1".into(),
            word_to_type: "KW 0417".into(),
            obstacles: Vec::new(),
            signatures: vec![
                Signature { name: "gpt".into(), detail: "1 partition: 2 GB".into() },
                Signature { name: "ext4".into(), detail: "label \"old\"".into() },
            ],
            losses: vec!["gpt 1 partition: 2 GB".into()],
        }
    }

    fn consent(erase: Option<&str>, give_up: &[&str]) -> Consent {
        Consent {
            erase: erase.map(Into::into),
            give_up: give_up.iter().map(|s| (*s).into()).collect(),
            protect: Vec::new(),
        }
    }

    #[test]
    fn consent_must_be_whole() {
        let e = examination();
        assert!(e.verdict(&consent(Some("KW 0417"), &["gpt", "ext4"])).is_ok());
        for (c, words) in [
            (consent(None, &["gpt", "ext4"]), "consent is missing"),
            (consent(Some("KW-0417"), &["gpt", "ext4"]), "was typed"),
            (consent(Some("kw 0417"), &["gpt", "ext4"]), "was typed"),
            (consent(Some(""), &["gpt", "ext4"]), "was typed"),
            (consent(Some("KW 0417"), &["gpt"]), "it holds ext4"),
            (consent(Some("KW 0417"), &[]), "it holds gpt and ext4"),
        ] {
            let refusal = e.verdict(&c).unwrap_err().to_string();
            assert!(
                refusal.starts_with("/dev/nvme0n1 will not be written") && refusal.contains(words),
                "{refusal}"
            );
        }
        assert!(
            e.verdict(&consent(None, &[]))
                .unwrap_err()
                .to_string()
                .contains("It would cost: gpt 1 partition")
        );
    }

    #[test]
    fn no_consent_lifts_an_obstacle() {
        let mut e = examination();
        e.obstacles.push("/dev/nvme0n1p1 is mounted on /mnt".into());
        let refusal = e.verdict(&consent(Some("KW 0417"), &["gpt", "ext4"])).unwrap_err();
        assert!(refusal.to_string().contains("mounted on /mnt"));
        assert!(!e.is_free() && e.words().starts_with("not to be written"));
    }

    #[test]
    fn a_file_that_exists_is_never_opened() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("thesis");
        std::fs::write(&path, "precious").unwrap();
        assert_eq!(Writable::create_file(&path).err(), Some(Errno::EXIST));
        let link = dir.path().join("link");
        std::os::unix::fs::symlink(dir.path().join("new"), &link).unwrap();
        assert_eq!(Writable::create_file(&link).err(), Some(Errno::EXIST));
    }
}
