//! A haul outlives its terminal: who keeps it is one process, who watches it are any number of others.
//!
//! Every haul under way listens on a socket in the folder of the ledger that its user alone can open ([`post`]). A
//! watcher ([`watching`]) reads from the ledger what was committed before it came, and hears the rest as it happens, so
//! that it sees the same events as the record has. One of them at a time holds the controls.

pub mod frame;
pub mod keeper;
pub mod post;
pub mod watching;

use std::fs::File;
use std::path::{Path, PathBuf};

use std::os::fd::AsRawFd;
use std::os::unix::fs::DirBuilderExt;

/// Folder of the sockets.
#[must_use]
pub fn folder(home: &Path) -> PathBuf {
    home.join("live")
}

/// Removes the sockets of hauls whose process was killed: nobody listens there any more.
pub fn tidy(home: &Path) {
    let sockets = std::fs::read_dir(folder(home)).into_iter().flatten().flatten().map(|e| e.path());
    for path in sockets.filter(|p| p.extension().is_some_and(|e| e == "socket")) {
        let Some(haul) = path.file_stem().and_then(|s| s.to_str()) else { continue };
        let Ok((_folder, short)) = socket(home, haul) else { continue };
        let refused = |e: std::io::Error| e.kind() == std::io::ErrorKind::ConnectionRefused;
        if std::os::unix::net::UnixStream::connect(short).is_err_and(refused) {
            let _ = std::fs::remove_file(path);
        }
    }
}

/// The folder, made when it is not there, and a path to the socket of `haul` in it that is short enough for the kernel
/// (108 bytes, unix(7)), however deep the folder lies. The path holds while the file is open.
fn socket(home: &Path, haul: &str) -> std::io::Result<(File, PathBuf)> {
    let folder = folder(home);
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder)?;
    let file = File::open(folder)?;
    let path = PathBuf::from(format!("/proc/self/fd/{}/{haul}.socket", file.as_raw_fd()));
    Ok((file, path))
}
