//! A folder of our own: made new, marked, and removed with what we put into it and nothing else. No link is ever followed below it.

use std::collections::HashMap;
use std::ffi::CStr;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use hollow_mile_core::drive::freight::Tree;
use hollow_mile_core::drive::stamp::{FOLDER_MARK, FOLDER_NAME};
use rustix::fs::{
    AtFlags, CWD, Dir, FileType, Mode, OFlags, ResolveFlags, fstat, fsync, mkdirat, openat, openat2, statat,
    unlinkat,
};
use rustix::io::{Errno, write};

use super::{Announce, NotMade, new_mark};

/// A folder that this program made.
pub struct OwnFolder {
    path: PathBuf,
    root: Arc<OwnedFd>,
    identity: (u64, u64),
    removed: bool,
}

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

impl OwnFolder {
    /// Makes a folder in another, with a name that nothing has, and puts its mark into it.
    ///
    /// # Errors
    /// What the kernel says, and when it cannot be announced.
    pub fn create(parent: &Path, announce: Announce) -> Result<Self, NotMade> {
        let random = rand::random::<u64>();
        let path = parent.join(format!("{FOLDER_NAME}{random:016x}"));
        let mark = new_mark();
        announce(&path, &mark).map_err(NotMade::Unannounced)?;
        mkdirat(CWD, &path, Mode::from_bits_truncate(0o700))?;
        let root = openat(CWD, &path, FOLDER | OFlags::RDONLY, Mode::empty())?;
        let made = fstat(&root)?;
        let mut own =
            Self { path, root: Arc::new(root), identity: (made.st_dev, made.st_ino), removed: false };
        match own.make_mark(&mark) {
            Ok(()) => Ok(own),
            Err(e) => {
                // What has no mark is never removed later: now it is known as ours, and holds that mark at most.
                own.removed = true;
                let _ = unlinkat(&*own.root, FOLDER_MARK, AtFlags::empty());
                let _ = unlinkat(CWD, &own.path, AtFlags::REMOVEDIR);
                Err(e.into())
            }
        }
    }

    fn make_mark(&self, text: &str) -> Result<(), Errno> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let mark = openat(&*self.root, FOLDER_MARK, flags, Mode::from_bits_truncate(0o600))?;
        write(&mark, format!("{text}\n").as_bytes())?;
        // By it the folder is known again, also after a loss of power. What a file system cannot do so, it goes without.
        let _ = fsync(&mark).and_then(|()| fsync(&*self.root));
        Ok(())
    }

    /// Where it lies.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The descriptor of it.
    pub(in super::super) const fn root(&self) -> &Arc<OwnedFd> {
        &self.root
    }

    /// Makes a folder directly in it; gives the way to all that lies in that.
    pub(in super::super) fn make_inside(&self, name: &str) -> Result<Inside, Errno> {
        mkdirat(&*self.root, name, Mode::from_bits_truncate(0o700))?;
        let root = openat(&*self.root, name, FOLDER | OFlags::RDONLY, Mode::empty())?;
        Ok(Inside { root: Arc::new(root) })
    }

    /// Makes the file of a lookout in it: open for writing, and for reading past the page cache.
    pub(in super::super) fn make_lookout_file(&self) -> Result<(OwnedFd, OwnedFd), Errno> {
        let new = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let file = openat(&*self.root, "f0", new, Mode::from_bits_truncate(0o600))?;
        let read = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::DIRECT;
        Ok((file, openat(&*self.root, "f0", read, Mode::empty())?))
    }

    /// Removes what we made in it, and itself. What others put into it stays, and it with that.
    ///
    /// # Errors
    /// What could not be removed, in a sentence.
    pub fn remove(&mut self) -> Result<(), String> {
        if std::mem::replace(&mut self.removed, true) {
            return Ok(());
        }
        remove_own_folder(&self.path, Some(self.identity))
    }
}

impl Drop for OwnFolder {
    fn drop(&mut self) {
        let _ = self.remove();
    }
}

/// Removes a folder of ours with what we put into it. Where an identity (device and inode) is given, it must still be the same.
///
/// # Errors
/// What is left behind and why, in a sentence.
pub fn remove_own_folder(path: &Path, identity: Option<(u64, u64)>) -> Result<(), String> {
    let shown = path.display();
    let root = match openat(CWD, path, FOLDER | OFlags::RDONLY, Mode::empty()) {
        Ok(root) => root,
        Err(Errno::NOENT) => return Ok(()),
        Err(e) => return Err(format!("{shown} cannot be opened ({e}), and is left there")),
    };
    let stat = fstat(&root).map_err(|e| format!("{shown}: {e}"))?;
    if identity.is_some_and(|known| known != (stat.st_dev, stat.st_ino)) {
        return Ok(());
    }
    if statat(&root, FOLDER_MARK, AtFlags::SYMLINK_NOFOLLOW).is_err() {
        return Err(format!("{shown} has no mark of ours in it, and is left there"));
    }
    let mut left = Vec::new();
    clear(&root, stat.st_dev, &mut left).map_err(|e| format!("{shown} could not be cleared: {e}"))?;
    if let Some(first) = left.first() {
        let more = if left.len() > 1 { format!(" and {} more", left.len() - 1) } else { String::new() };
        return Err(format!("{shown} is left there: {first}{more} in it is not ours"));
    }
    // The mark goes last: what is left of a removal that is cut short is still known as ours.
    unlinkat(&root, FOLDER_MARK, AtFlags::empty()).map_err(|e| format!("{shown}: {e}"))?;
    unlinkat(CWD, path, AtFlags::REMOVEDIR).map_err(|e| format!("{shown} cannot be removed: {e}"))
}

/// A name that we give: a letter and a number.
fn is_ours(name: &[u8]) -> bool {
    let Some((first, number)) = name.split_first() else { return false };
    b"dft".contains(first) && !number.is_empty() && number.iter().all(u8::is_ascii_digit)
}

/// Removes what we made below a folder; what is not ours is named.
fn clear(folder: &OwnedFd, device: u64, left: &mut Vec<String>) -> Result<(), Errno> {
    let names: Vec<Vec<u8>> = Dir::read_from(folder)?
        .filter_map(Result::ok)
        .map(|e| e.file_name().to_bytes().to_vec())
        .filter(|n| !matches!(n.as_slice(), b"." | b".."))
        .collect();
    for name in names {
        if name == FOLDER_MARK.as_bytes() {
            continue;
        }
        let stat = match statat(folder, &name[..], AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(Errno::NOENT) => continue,
            Err(e) => return Err(e),
        };
        let kind = FileType::from_raw_mode(stat.st_mode);
        let ours = is_ours(&name) && stat.st_dev == device;
        match kind {
            FileType::Directory if ours => {
                let inner = openat(folder, &name[..], FOLDER | OFlags::RDONLY, Mode::empty())?;
                let before = left.len();
                clear(&inner, device, left)?;
                if left.len() == before {
                    unlinkat(folder, &name[..], AtFlags::REMOVEDIR)?;
                }
            }
            FileType::RegularFile if ours => unlinkat(folder, &name[..], AtFlags::empty())?,
            _ => left.push(String::from_utf8_lossy(&name).chars().filter(|c| !c.is_control()).collect()),
        }
    }
    Ok(())
}

/// A folder in a folder of ours, in which a tree lies.
#[derive(Clone)]
pub(in super::super) struct Inside {
    root: Arc<OwnedFd>,
}

/// So many folders are kept open by a thread at once.
const KEPT_OPEN: usize = 256;

/// The way of one thread to the files of a tree.
pub(in super::super) struct Way {
    root: Arc<OwnedFd>,
    open: HashMap<u32, Arc<OwnedFd>>,
    /// The last that was asked for: files come folder by folder as a rule.
    last: (u32, Arc<OwnedFd>),
}

impl Inside {
    pub(in super::super) fn way(&self) -> Way {
        Way { root: self.root.clone(), open: HashMap::new(), last: (0, self.root.clone()) }
    }

    pub(in super::super) const fn root(&self) -> &Arc<OwnedFd> {
        &self.root
    }
}

impl Way {
    /// The descriptor of a folder of the tree.
    fn folder(&mut self, tree: &Tree, folder: u32) -> Result<&OwnedFd, Errno> {
        if self.last.0 == folder {
            return Ok(&self.last.1);
        }
        let known = if folder == 0 { Some(&self.root) } else { self.open.get(&folder) };
        let found = match known {
            Some(found) => found.clone(),
            None => {
                if self.open.len() >= KEPT_OPEN {
                    self.open.clear();
                }
                let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_XDEV;
                let path = tree.folder_path(folder);
                let fd = openat2(&*self.root, path, FOLDER | OFlags::PATH, Mode::empty(), resolve)?;
                let fd = Arc::new(fd);
                self.open.insert(folder, fd.clone());
                fd
            }
        };
        self.last = (folder, found);
        Ok(&self.last.1)
    }

    /// Makes a file that must not exist.
    pub(in super::super) fn create(
        &mut self,
        tree: &Tree,
        file: u32,
        direct: bool,
    ) -> Result<OwnedFd, Errno> {
        let folder = self.folder(tree, tree.folder_of(file))?;
        let mut flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        flags.set(OFlags::DIRECT, direct);
        openat(folder, name(b'f', file).as_c_str(), flags, Mode::from_bits_truncate(0o600))
    }

    /// Opens a file for reading.
    pub(in super::super) fn open(&mut self, tree: &Tree, file: u32, direct: bool) -> Result<OwnedFd, Errno> {
        let folder = self.folder(tree, tree.folder_of(file))?;
        let mut flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        flags.set(OFlags::DIRECT, direct);
        openat(folder, name(b'f', file).as_c_str(), flags, Mode::empty())
    }

    /// Whether files can be opened past the page cache: tries one, and removes it.
    pub(in super::super) fn takes_direct(&mut self) -> Result<(), Errno> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        drop(openat(&*self.root, "f0", flags, Mode::from_bits_truncate(0o600))?);
        let direct = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::DIRECT;
        let tried = openat(&*self.root, "f0", direct, Mode::empty()).map(drop);
        unlinkat(&*self.root, "f0", AtFlags::empty())?;
        tried
    }

    /// Removes a file.
    pub(in super::super) fn remove(&mut self, tree: &Tree, file: u32) -> Result<(), Errno> {
        let folder = self.folder(tree, tree.folder_of(file))?;
        unlinkat(folder, name(b'f', file).as_c_str(), AtFlags::empty())
    }

    /// Makes a folder of the tree; those above it are there.
    pub(in super::super) fn make_folder(&mut self, tree: &Tree, folder: u32) -> Result<(), Errno> {
        let above = self.folder(tree, tree.above(folder))?;
        mkdirat(above, name(b'd', folder).as_c_str(), Mode::from_bits_truncate(0o700))
    }

    /// Removes a folder of the tree; it is empty.
    pub(in super::super) fn remove_folder(&mut self, tree: &Tree, folder: u32) -> Result<(), Errno> {
        self.open.remove(&folder);
        self.last = (0, self.root.clone());
        let above = self.folder(tree, tree.above(folder))?;
        unlinkat(above, name(b'd', folder).as_c_str(), AtFlags::REMOVEDIR)
    }
}

/// A name of ours, made without a heap: there are millions.
struct Name([u8; 12]);

fn name(letter: u8, number: u32) -> Name {
    let mut digits = [0u8; 10];
    let (mut left, mut from) = (number, digits.len());
    while left > 0 || from == digits.len() {
        from -= 1;
        digits[from] = b'0' + (left % 10) as u8;
        left /= 10;
    }
    let mut bytes = [0u8; 12];
    bytes[0] = letter;
    bytes[1..=digits.len() - from].copy_from_slice(&digits[from..]);
    Name(bytes)
}

impl Name {
    fn as_c_str(&self) -> &CStr {
        // A letter and ten digits leave the last byte a zero.
        CStr::from_bytes_until_nul(&self.0).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::super::to_nobody;
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn a_name_is_a_letter_and_its_number() {
        for n in [0, 7, 10, 4_294_967_295] {
            assert_eq!(name(b'f', n).as_c_str().to_str().unwrap(), format!("f{n}"));
        }
    }

    #[test]
    fn only_what_is_ours_goes_and_no_link_is_followed() {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("mine")).unwrap();
        fs::write(dir.path().join("mine/f1"), "precious").unwrap();
        let mut own = OwnFolder::create(dir.path(), &to_nobody).unwrap();
        let at = own.path().to_owned();
        own.make_inside("t1").unwrap();
        fs::create_dir(at.join("t1/d1")).unwrap();
        fs::write(at.join("t1/d1/f1"), "ours").unwrap();
        // A link with a name of ours, a file of the user's, and a folder of the user's with a name of ours.
        symlink(dir.path().join("mine"), at.join("t1/d2")).unwrap();
        fs::write(at.join("t1/notes.txt"), "precious").unwrap();
        let error = own.remove().unwrap_err();
        assert!(error.contains("is left there") && error.contains("1 more"), "{error}");
        assert!(!at.join("t1/d1").exists());
        assert_eq!(fs::read_to_string(at.join("t1/notes.txt")).unwrap(), "precious");
        assert_eq!(fs::read_to_string(dir.path().join("mine/f1")).unwrap(), "precious");
        // Once they are gone, it goes.
        fs::remove_file(at.join("t1/notes.txt")).unwrap();
        fs::remove_file(at.join("t1/d2")).unwrap();
        remove_own_folder(&at, None).unwrap();
        assert!(!at.exists());
        assert!(remove_own_folder(&at, None).is_ok(), "what is gone is gone");
    }

    #[test]
    fn another_folder_by_this_name_and_one_without_our_mark_stay() {
        let dir = tempfile::tempdir().unwrap();
        let mut own = OwnFolder::create(dir.path(), &to_nobody).unwrap();
        let at = own.path().to_owned();
        fs::rename(&at, dir.path().join("elsewhere")).unwrap();
        fs::create_dir(&at).unwrap();
        fs::write(at.join("f1"), "precious").unwrap();
        own.remove().unwrap();
        assert!(at.join("f1").exists());
        assert!(remove_own_folder(&at, None).unwrap_err().contains("no mark"));
        assert!(at.join("f1").exists());
    }

    #[test]
    fn a_folder_of_the_tree_that_became_a_link_leads_nowhere() {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("mine")).unwrap();
        fs::write(dir.path().join("mine/f0"), "precious").unwrap();
        let own = OwnFolder::create(dir.path(), &to_nobody).unwrap();
        let inside = own.make_inside("t1").unwrap();
        symlink(dir.path().join("mine"), own.path().join("t1/d1")).unwrap();
        let class = hollow_mile_core::drive::freight::FileClass {
            from: hollow_mile_core::quantity::units::Bytes::new(1),
            to: hollow_mile_core::quantity::units::Bytes::new(1),
            percent: 100.0,
        };
        let spec = hollow_mile_core::drive::freight::TreeSpec {
            classes: vec![class],
            total: None,
            count: Some(1),
            folder_depth: 1,
            folder_width: 1,
            seed: 0,
        };
        let tree = spec.make().unwrap();
        let mut way = inside.way();
        assert!(matches!(way.remove(&tree, 0), Err(Errno::LOOP | Errno::NOTDIR)));
        assert!(way.create(&tree, 0, false).is_err() && way.open(&tree, 0, false).is_err());
        assert_eq!(fs::read_to_string(dir.path().join("mine/f0")).unwrap(), "precious");
        fs::remove_file(own.path().join("t1/d1")).unwrap();
    }
}
