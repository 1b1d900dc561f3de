//! What a route of freight legs needs before it begins: the trees that take the shape of a folder, and room for what lies there at once.

use std::ops::Add;
use std::path::Path;
use std::sync::Arc;

use hollow_mile_core::drive::freight::{Cargo, Carry, Shape, Side, Tree, Trees};
use hollow_mile_core::quantity::text::named;
use hollow_mile_core::route::{LaidOn, Leg, LegKind, Route, all_legs};
use hollow_mile_drives::linux::shape_of;

use crate::error::AppError;

/// Reads a shape: of a folder, or from the file of one.
///
/// # Errors
/// When it is neither, or cannot be read.
pub fn read_shape(path: &Path) -> Result<(Shape, Vec<String>), AppError> {
    if path.is_dir() {
        return shape_of(path).map_err(AppError::usage);
    }
    let text = std::fs::read_to_string(path).map_err(|e| AppError::file(path, "read", &e))?;
    let shape = Shape::from_toml(&text).map_err(|e| AppError::usage(format!("{}: {e}", path.display())))?;
    Ok((shape, Vec::new()))
}

/// The trees of legs that are like a folder, by what the legs call it, and what of those folders could not be read.
///
/// # Errors
/// When a folder or the file of a shape cannot be read.
pub fn trees(route: &Route) -> Result<(Trees, Vec<String>), AppError> {
    let (mut trees, mut said) = (Trees::new(), Vec::new());
    for (leg, _) in all_legs(route) {
        let Some(like) = leg.like.as_ref().filter(|l| !trees.contains_key(*l)) else { continue };
        let (shape, unread) = read_shape(Path::new(like))?;
        said.extend(unread);
        trees.insert(like.clone(), Arc::new(Tree::like(&shape, leg.seed)));
    }
    Ok((trees, said))
}

/// What a leg's tree takes; `None` where it states none.
fn cargo(leg: &Leg, trees: &Trees) -> Result<Option<Cargo>, AppError> {
    match &leg.like {
        Some(like) => Ok(trees.get(like).map(|t| t.cargo())),
        None if leg.has_tree() => {
            let tree =
                leg.tree_spec().make().map_err(|why| AppError::usage(format!("{}: {why}", leg.words())))?;
            Ok(Some(tree.cargo()))
        }
        None => Ok(None),
    }
}

/// The most that lies on the target and on the source at one time.
///
/// # Errors
/// When a tree cannot be made.
pub fn most_at_once(route: &Route, trees: &Trees) -> Result<(Cargo, Cargo), AppError> {
    let mut lying: [Vec<Cargo>; 2] = Default::default();
    let mut most = [Cargo::default(); 2];
    let mut stated: Option<Cargo> = None;
    for leg in route.laid_out(LaidOn::FileSystem).legs.iter().filter(|l| l.kind == LegKind::Freight) {
        let side = usize::from(leg.at == Side::Source);
        if let Some(own) = cargo(leg, trees)? {
            stated = Some(own);
        }
        match leg.carry {
            Carry::Write => lying[side].extend(stated),
            Carry::Copy => {
                let from = lying[1].last().copied().or(stated);
                lying[0].extend(from);
            }
            Carry::Delete => {
                lying[side].pop();
            }
            Carry::Read => {}
        }
        for (most, lying) in most.iter_mut().zip(&lying) {
            let now = lying.iter().copied().fold(Cargo::default(), Add::add);
            if now.bytes > most.bytes || now.files > most.files {
                *most = now;
            }
        }
    }
    Ok((most[0], most[1]))
}

/// Whether the legs of a route go with what a drive is: files with folders and simulated drives, all else with the others.
///
/// # Errors
/// The leg that does not, and what would do.
pub fn fits(
    route: &Route,
    is_folder: bool,
    is_simulated: bool,
    source: Option<&str>,
) -> Result<(), AppError> {
    let flat = route.laid_out(LaidOn::FileSystem);
    for leg in &flat.legs {
        let refuse =
            |why: &str| Err(AppError::usage(format!("{}, {}: {why}", named(&route.name), leg.words())));
        match leg.kind {
            LegKind::Freight if !is_folder && !is_simulated => {
                return refuse("files go on a file system: give --on folder:PATH, or a simulated drive");
            }
            LegKind::Freight if source.is_none() && (leg.carry == Carry::Copy || leg.at == Side::Source) => {
                return refuse(
                    "it needs a drive to copy from: give --from PATH, --from /dev/… or, for simulated drives, --from sim:NAME",
                );
            }
            LegKind::Freight | LegKind::Rest | LegKind::Group => {}
            _ if is_folder => {
                return refuse(
                    "a folder takes freight legs and rests: give a drive, or file:PATH with --size",
                );
            }
            _ => {}
        }
    }
    let uses = flat
        .legs
        .iter()
        .any(|l| l.kind == LegKind::Freight && (l.carry == Carry::Copy || l.at == Side::Source));
    if source.is_some() && !uses {
        return Err(AppError::usage("--from goes with routes that copy, such as hand-over"));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::quantity::units::Bytes;

    fn route(legs: &str) -> Route {
        Route::from_toml(&format!("name = 'x'\n{legs}")).unwrap()
    }

    const MEGABYTES: &str = "files = [{ size = '1 MB' }]\ncount = 10\n";

    #[test]
    fn room_is_asked_for_what_lies_there_at_once() {
        let write = format!("[[leg]]\nkind = 'freight'\ncarry = 'write'\n{MEGABYTES}");
        let delete = "[[leg]]\nkind = 'freight'\ncarry = 'delete'\n";
        let of = |legs: &str| most_at_once(&route(legs), &Trees::new()).unwrap();
        assert_eq!(of(&format!("{write}{delete}{write}{delete}")).0.bytes, Bytes::new(10_000_000));
        assert_eq!(of(&format!("{write}{write}{delete}")).0.bytes, Bytes::new(20_000_000));
        let (target, source) =
            of(&format!("{write}at = 'source'\n[[leg]]\nkind = 'freight'\ncarry = 'copy'\n"));
        assert_eq!((target.bytes, source.bytes), (Bytes::new(10_000_000), Bytes::new(10_000_000)));
    }

    #[test]
    fn legs_that_do_not_go_with_the_drive_are_named() {
        let write = route(&format!("[[leg]]\nkind = 'freight'\ncarry = 'write'\n{MEGABYTES}"));
        let raw = route("[[leg]]\nkind = 'write'\nuntil = { bytes = '1 GB' }\n");
        let copy = route(&format!("[[leg]]\nkind = 'freight'\ncarry = 'copy'\n{MEGABYTES}"));
        let said = |r: &Route, folder, sim, from| fits(r, folder, sim, from).unwrap_err().message;
        assert!(said(&write, false, false, None).contains("--on folder:PATH"));
        assert!(said(&raw, true, false, None).contains("takes freight legs and rests"));
        assert!(said(&copy, true, false, None).contains("--from"));
        assert!(said(&write, true, false, Some("/x")).contains("goes with routes that copy"));
        assert!(fits(&write, true, false, None).is_ok() && fits(&copy, false, true, Some("sim:x")).is_ok());
    }
}
