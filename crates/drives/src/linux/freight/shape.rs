//! Reads the shape of an existing folder: sizes and layout, no name and no content.

use std::os::unix::fs::MetadataExt;
use std::path::Path;

use hollow_mile_core::drive::freight::{MOST_FILES, Shape};

/// The shape of a folder, and in sentences what of it could not be read. Links are not followed and not counted, other file systems in
/// it neither.
///
/// # Errors
/// When it is no folder, cannot be read at all, or holds more than a tree may have.
pub fn shape_of(folder: &Path) -> Result<(Shape, Vec<String>), String> {
    let shown = super::shown(folder);
    let meta = std::fs::metadata(folder).map_err(|e| format!("{shown} cannot be looked at: {e}"))?;
    if !meta.is_dir() {
        return Err(format!("{shown} is no folder"));
    }
    let (mut shape, mut unread, mut odd) = (Shape::new(), 0u64, 0u64);
    let mut open = vec![(folder.to_owned(), 0u32)];
    while let Some((path, number)) = open.pop() {
        let entries = match std::fs::read_dir(&path) {
            Ok(entries) => entries,
            Err(e) if number == 0 => return Err(format!("{shown} cannot be read: {e}")),
            Err(_) => {
                unread += 1;
                continue;
            }
        };
        for entry in entries {
            let Some(found) = entry.ok().and_then(|e| e.metadata().ok().map(|m| (e.path(), m))) else {
                unread += 1;
                continue;
            };
            let (path, found) = found;
            if found.dev() != meta.dev() || found.is_symlink() {
                odd += 1;
            } else if found.is_dir() {
                let Some(inner) = shape.add_folder(number) else {
                    return Err(format!(
                        "{shown} has more than 1,000,000 folders, or more than 64 in each other"
                    ));
                };
                open.push((path, inner));
            } else if found.is_file() {
                shape.add_file(number, found.len());
                if shape.files() > MOST_FILES {
                    return Err(format!("{shown} has more than 10,000,000 files"));
                }
            } else {
                odd += 1;
            }
        }
    }
    if shape.files() == 0 {
        return Err(format!("{shown} has no files that can be seen"));
    }
    let mut said = Vec::new();
    if unread > 0 {
        said.push(format!("{unread} entries of {shown} could not be read, and are left out"));
    }
    if odd > 0 {
        said.push(format!(
            "{odd} entries of {shown} are links, devices or other file systems, and are left out"
        ));
    }
    Ok((shape, said))
}
