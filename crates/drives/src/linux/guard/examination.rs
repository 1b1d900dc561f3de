//! What stands against writing to a device, as values, and the words for it.

use std::fmt;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

use hollow_mile_core::drive::erasure::Erasure;

use hollow_mile_core::drive::protocol::signature::Signature;

use super::super::sysfs::{BlockDevice, Sysfs, entries, name_of};
use super::content::Content;
use super::openers::Opener;
use super::permission;
use super::reach::{Carrier, Extent, Reach};
use super::users::{Use, Users};

/// What the user has agreed to.
#[derive(Debug, Clone, Default)]
pub struct Consent {
    /// The serial, as typed.
    pub erase: Option<String>,
    /// Names of what may be lost: `gpt`, `ext4`.
    pub give_up: Vec<String>,
    /// Paths whose drives are never written: the ledger, this program.
    pub protect: Vec<PathBuf>,
    /// How the route erases the whole drive. Nothing stops that once it has begun, so that each way must be given up by its word.
    pub erasures: Vec<Erasure>,
}

/// Something that no consent can lift.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Obstacle {
    /// Somebody uses it, or bytes that it shares.
    Used(Use),
    /// A process may write to it.
    Open(Opener),
    /// The system's root, the ledger or this program lies on it.
    Protected {
        /// What.
        what: &'static str,
        /// Where.
        path: PathBuf,
    },
    /// The kernel or the drive forbids writes.
    ReadOnly,
    /// What is needed to look at it, in a sentence.
    NoPermission(String),
    /// Why its content could not be read.
    Unreadable(String),
    /// What lies under this device could not be seen.
    Bottomless(String),
}

impl fmt::Display for Obstacle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Used(Use::Mounted { source, point }) => write!(f, "{source} is mounted on {point}"),
            Self::Used(Use::Member { of, device }) => write!(f, "{device} belongs to the mounted {of}"),
            Self::Used(Use::Swap(path)) => write!(f, "{path} is swap in use"),
            Self::Used(Use::BuiltOn(name)) => write!(f, "{name} is built on it"),
            Self::Used(Use::Covered { by, over }) => {
                write!(f, "{by} lies over the same bytes ({over}): detach it with `losetup -d /dev/{by}`")
            }
            Self::Used(Use::Exported(what)) => write!(f, "the kernel exports it: {what}"),
            Self::Open(o) => {
                write!(f, "process {} ({}) has it open for writing", o.process, o.name)
            }
            Self::Protected { what, path } => write!(f, "{what} ({}) lies on it", path.display()),
            Self::ReadOnly => write!(f, "it is read-only"),
            Self::NoPermission(why) => write!(f, "{why}"),
            Self::Unreadable(why) => write!(f, "its content cannot be examined: {why}"),
            Self::Bottomless(name) => write!(f, "what lies under {name} cannot be seen"),
        }
    }
}

/// One reason why a device is not written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// No consent can lift it.
    Obstacle(Obstacle),
    /// It holds this, which was not given up.
    Holds(Vec<String>),
    /// Another serial was typed.
    WrongSerial {
        /// What it is.
        serial: String,
        /// What was typed, printable.
        typed: String,
    },
    /// No serial was typed.
    NoConsent {
        /// What to type.
        serial: String,
    },
    /// The kernel says that somebody uses it, and not who.
    Busy,
    /// The kernel would not open it, and why.
    NotOpened(String),
    /// The route erases the whole drive in these ways, which were not agreed to.
    Unstoppable(Vec<Erasure>),
    /// It cannot be erased as a whole, and why.
    NotErased(String),
    /// Its path leads to another device now.
    AnotherDevice,
    /// Another program holds its lock.
    Locked,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Obstacle(o) => o.fmt(f),
            Self::Holds(names) => {
                write!(f, "it holds {}: to lose that, add --give-up {}", held(names), names.join(","))
            }
            Self::WrongSerial { serial, typed } => {
                write!(f, "the serial is {serial}, and \"{typed}\" was typed")
            }
            Self::NoConsent { serial } => {
                write!(f, "consent is missing: type its serial, --erase \"{serial}\"")
            }
            Self::Busy => {
                write!(
                    f,
                    "something uses it: it is mounted, part of a volume, or another program hauls on it"
                )
            }
            Self::Unstoppable(all) => {
                let words: Vec<&str> = all.iter().map(|e| e.word()).collect();
                write!(
                    f,
                    "{} erases all of the drive, also what the host cannot address, and nothing stops it once it has begun: to agree, \
                     add --give-up {}",
                    words.join(" and "),
                    words.join(",")
                )
            }
            Self::NotErased(why) => write!(f, "{why}"),
            Self::NotOpened(why) => write!(f, "it cannot be opened for writing: {why}"),
            Self::AnotherDevice => write!(f, "its path leads to another device now"),
            Self::Locked => write!(f, "another program has locked it"),
        }
    }
}

/// Marks of partition tables.
const TABLES: [&str; 6] = ["gpt", "mbr", "sun", "bsd", "sgi", "apple"];

/// Names that are asked for in the list of what is given up, beside those of on-disk formats.
const DATA: &str = "data";
const PARTITIONS: &str = "partitions";
const READERS: &str = "readers";
/// An array that is short of a member or at work on itself: writing to it is asked about.
const DEGRADED: &str = "degraded";

/// What a device holds, in words, from the names by which it is given up.
#[must_use]
pub fn held(names: &[String]) -> String {
    names.iter().map(|n| plain_name(n)).collect::<Vec<_>>().join(" and ")
}

fn plain_name(name: &str) -> &str {
    match name {
        DATA => "data without a known mark",
        READERS => "what other processes are reading",
        DEGRADED => "an array that is not whole",
        other => other,
    }
}

/// What could not be seen, and is no reason against it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unseen {
    /// So many processes of other users could not be looked into.
    Processes(usize),
    /// This is a container: processes outside are hidden.
    Outside,
}

impl fmt::Display for Unseen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Processes(n) => write!(
                f,
                "{n} processes of other users cannot be looked into: whether one has it open is not known"
            ),
            Self::Outside => {
                write!(
                    f,
                    "processes outside this container cannot be seen: whether one has it open is not known"
                )
            }
        }
    }
}

/// What stands on and against writing to a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Examination {
    /// The device.
    pub device: PathBuf,
    /// What must be typed.
    pub word_to_type: String,
    /// What no consent can lift.
    pub obstacles: Vec<Obstacle>,
    /// Partition tables, file systems and the like, each of which must be given up by name.
    pub signatures: Vec<Signature>,
    /// What would be lost, a line each.
    pub losses: Vec<String>,
    /// What could not be seen.
    pub unseen: Vec<Unseen>,
}

/// Why a device will not be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The device.
    pub device: PathBuf,
    /// All reasons.
    pub reasons: Vec<Reason>,
    /// What would be lost, where that was the reason.
    pub losses: Vec<String>,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let reasons: Vec<String> = self.reasons.iter().map(ToString::to_string).collect();
        write!(f, "{} will not be written: {}", self.device.display(), reasons.join("; "))?;
        if !self.losses.is_empty() {
            write!(f, ". It would cost: {}", self.losses.join("; "))?;
        }
        Ok(())
    }
}

impl std::error::Error for Refusal {}

fn told(s: &Signature) -> String {
    format!("{} {}", s.name, s.detail).trim().to_owned()
}

impl Examination {
    /// Looks at a device; reads some of its bytes, and writes nothing.
    #[must_use]
    pub fn of(sysfs: &Sysfs, users: &Users, device: &BlockDevice, protect: &[PathBuf]) -> Self {
        let mut e = Self {
            device: device.node(),
            word_to_type: device.word_to_type(),
            obstacles: Vec::new(),
            signatures: Vec::new(),
            losses: Vec::new(),
            unseen: Vec::new(),
        };
        let reach = Reach::of(sysfs, device);
        e.obstacles.extend(reach.unseen.iter().cloned().map(Obstacle::Bottomless));
        e.obstacles.extend(users.of(device, &reach).into_iter().map(Obstacle::Used));
        let openers = users.openers(device, &reach);
        let (writers, readers): (Vec<Opener>, Vec<Opener>) = openers.into_iter().partition(|o| o.writes);
        e.obstacles.extend(writers.into_iter().map(Obstacle::Open));
        e.look_at_protected(sysfs, &reach, protect);
        if reach.through.iter().any(BlockDevice::is_read_only) {
            e.obstacles.push(Obstacle::ReadOnly);
        }
        e.look_at_content(sysfs, device, &reach);
        if !readers.is_empty() {
            let who: Vec<String> = readers.iter().map(|o| format!("{} ({})", o.process, o.name)).collect();
            let detail = format!("process {}", who.join(", "));
            e.losses.push(format!("what it is read for by {detail}"));
            e.signatures.push(Signature { name: READERS.into(), detail });
        }
        let doubts: Vec<String> = reach.through.iter().flat_map(BlockDevice::array_doubts).collect();
        if !doubts.is_empty() {
            e.losses.extend(doubts.iter().cloned());
            e.signatures.push(Signature { name: DEGRADED.into(), detail: doubts.join("; ") });
        }
        let (unreadable, contained) = users.hidden();
        e.unseen.extend((unreadable > 0).then_some(Unseen::Processes(unreadable)));
        e.unseen.extend(contained.then_some(Unseen::Outside));
        e
    }

    /// The system's root, the ledger and this program: the drives that carry them, and their own files.
    fn look_at_protected(&mut self, sysfs: &Sysfs, reach: &Reach, protect: &[PathBuf]) {
        const OWN: &str = "the ledger or this program";
        let root = [("the system's root", PathBuf::from("/"))];
        let own = protect.iter().map(|p| (OWN, p.clone()));
        let disks: Vec<&str> = reach.through.iter().map(|d| d.disk().name.as_str()).collect();
        for (what, path) in root.into_iter().chain(own) {
            let below = sysfs.under(&path);
            let said = Obstacle::Protected { what, path };
            if disks.iter().any(|d| below.iter().any(|b| b == d)) && !self.obstacles.contains(&said) {
                self.obstacles.push(said);
            }
        }
        let ledger = |p: &PathBuf| name_of(p).starts_with("ledger");
        let files = protect.iter().flat_map(|p| match p.is_dir() {
            true => entries(p).into_iter().filter(ledger).collect(),
            false => vec![p.clone()],
        });
        for path in files {
            let Ok(meta) = std::fs::metadata(&path) else { continue };
            let own = Reach { extents: vec![Extent::file(meta.dev(), meta.ino())], ..Reach::default() };
            if meta.is_file() && own.meets(reach) {
                self.obstacles.push(Obstacle::Protected { what: OWN, path });
            }
        }
    }

    fn look_at_content(&mut self, sysfs: &Sysfs, device: &BlockDevice, reach: &Reach) {
        match Content::of(&device.node(), device.size()) {
            Ok(content) => {
                self.losses.extend(content.signatures.iter().map(told));
                self.signatures = content.signatures;
                self.look_at_partitions(sysfs, device, reach);
                self.look_at_hosts(reach);
                // What lies in a part with a mark is that mark's.
                let named = self.signatures.iter().any(|s| s.name != PARTITIONS);
                if !named && content.foreign > 0 {
                    let Content { foreign, looked, .. } = content;
                    let data = Signature {
                        name: DATA.into(),
                        detail: format!("without a known mark, in {foreign} of {looked} places looked at"),
                    };
                    self.losses.push(told(&data));
                    self.signatures.push(data);
                }
            }
            Err(why) if why.kind() == std::io::ErrorKind::PermissionDenied => {
                self.obstacles.push(Obstacle::NoPermission(permission(&device.node(), "examined")));
            }
            Err(why) => self.obstacles.push(Obstacle::Unreadable(why.to_string())),
        }
    }

    /// A loop device may show a part of what lies under it: whatever is known there by its start would be harmed in its middle.
    /// Of a partition table that is not so: its parts are looked at themselves.
    fn look_at_hosts(&mut self, reach: &Reach) {
        for (path, size) in &reach.hosts {
            let content = Content::of(path, *size).unwrap_or_default();
            for mut s in content.signatures.into_iter().filter(|s| !TABLES.contains(&s.name.as_str())) {
                if !self.signatures.iter().any(|known| known.name == s.name) {
                    s.detail = format!("{} in {}, of which this is a part", s.detail, path.display());
                    s.detail = s.detail.trim().to_owned();
                    self.losses.push(told(&s));
                    self.signatures.push(s);
                }
            }
        }
    }

    /// Partitions that the kernel knows on anything that the device reaches: each is a place where something may lie, also
    /// when the table that told of it is gone.
    fn look_at_partitions(&mut self, sysfs: &Sysfs, device: &BlockDevice, reach: &Reach) {
        let mut without_table = Vec::new();
        for disk in reach.through.iter().filter(|d| d.whole.is_none()) {
            for part in disk.partitions() {
                let Some(part) = sysfs.by_number(part.number) else { continue };
                let start = part.start().get();
                let extent = Extent { on: Carrier::Disk(disk.number), start, end: start + part.size().get() };
                let own = Reach { extents: vec![extent], ..Reach::default() };
                let passed = reach.goes_through(part.number) || part.number == device.number;
                if passed || !own.meets(reach) {
                    continue;
                }
                let inside = Content::of(&part.node(), part.size()).unwrap_or_default();
                let names: Vec<String> = inside.signatures.iter().map(told).collect();
                let holds = match (names.is_empty(), inside.foreign) {
                    (false, _) => names.join(", "),
                    (true, 0) => "nothing known".into(),
                    (true, _) => "data without a known mark".into(),
                };
                self.losses.push(format!("{} ({}): {holds}", part.name, part.size()));
                for mut s in inside.signatures {
                    if !self.signatures.iter().any(|known| known.name == s.name) {
                        s.detail = format!("{} in {}", s.detail, part.name).trim().to_owned();
                        self.signatures.push(s);
                    }
                }
                without_table.push(part.name.clone());
            }
        }
        if !without_table.is_empty() && !self.signatures.iter().any(|s| TABLES.contains(&s.name.as_str())) {
            let detail = format!("{}, known to the kernel and in no table", without_table.join(", "));
            self.signatures.push(Signature { name: PARTITIONS.into(), detail });
        }
    }

    /// Whether this consent is enough.
    ///
    /// # Errors
    /// All that is missing.
    pub fn verdict(&self, consent: &Consent) -> Result<(), Refusal> {
        let mut reasons: Vec<Reason> = self.obstacles.iter().cloned().map(Reason::Obstacle).collect();
        let mut costs = false;
        let mut kept: Vec<String> = self.signatures.iter().map(|s| s.name.clone()).collect();
        kept.retain(|name| !consent.give_up.contains(name));
        kept.dedup();
        if !kept.is_empty() {
            reasons.push(Reason::Holds(kept));
            costs = true;
        }
        let agreed = |e: &Erasure| consent.give_up.iter().any(|g| g == e.word());
        let not_agreed: Vec<Erasure> = consent.erasures.iter().copied().filter(|e| !agreed(e)).collect();
        if !not_agreed.is_empty() {
            reasons.push(Reason::Unstoppable(not_agreed));
            costs = true;
        }
        let serial = self.word_to_type.clone();
        match &consent.erase {
            Some(typed) if typed.trim() == self.word_to_type => {}
            Some(typed) => {
                let typed: String = typed.chars().filter(|c| !c.is_control()).take(60).collect();
                reasons.push(Reason::WrongSerial { serial, typed });
            }
            None => {
                reasons.push(Reason::NoConsent { serial });
                costs = true;
            }
        }
        if reasons.is_empty() {
            return Ok(());
        }
        let losses = if costs { self.losses.clone() } else { Vec::new() };
        Err(Refusal { device: self.device.clone(), reasons, losses })
    }

    /// It could be written once consent is given.
    #[must_use]
    pub fn is_free(&self) -> bool {
        self.obstacles.is_empty()
    }

    /// Somebody uses it, and it is known how.
    pub(super) fn is_used(&self) -> bool {
        self.obstacles.iter().any(|o| matches!(o, Obstacle::Used(_)))
    }

    /// Nothing stands against it but processes that have it open, which may be a matter of a moment.
    pub(super) fn is_only_opened(&self) -> bool {
        let opened = self.obstacles.iter().any(|o| matches!(o, Obstacle::Open(_)));
        let read = self.signatures.iter().any(|s| s.name == READERS);
        (opened || read) && self.obstacles.iter().all(|o| matches!(o, Obstacle::Open(_)))
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
                let names: Vec<&str> = self.signatures.iter().map(|s| plain_name(&s.name)).collect();
                format!("holds {}; may be written once that is given up", names.join(", "))
            }
        }
    }
}
