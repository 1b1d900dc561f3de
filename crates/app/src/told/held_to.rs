//! What a haul is held to when it begins: the standing limits of its model, and other drives of it, of this bench and of the fleet.

use hollow_mile_core::archive::batch::sisters::sisters;
use hollow_mile_core::archive::contrast::Subject;
use hollow_mile_core::archive::digest::LoadFigure;
use hollow_mile_core::archive::forecast::Air;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::record::held_to::{Alone, HeldTo};
use hollow_mile_core::record::{Conditions, HaulState};
use hollow_mile_core::route::{LaidOn, Route};
use hollow_mile_ledger::Ledger;

use crate::error::AppError;
use crate::{fleet, limits};

/// Hauls of other drives that are asked, the newest first.
const ASKED: usize = 500;

/// Hauls of other drives of a model by a route. Only what is at hand is asked: no record is read for it.
fn others(ledger: &Ledger, drive: &DriveIdentity, route: &Route) -> Vec<Subject> {
    let rows = ledger.hauls().unwrap_or_default();
    rows.into_iter()
        .filter(|r| r.state == HaulState::Done && r.model == drive.model && r.route == route.name)
        .filter(|r| r.serial != drive.serial)
        .take(ASKED)
        .filter_map(|r| {
            let (head, digest) = (ledger.head(&r.haul).ok()?, ledger.digest_at_hand(&r.haul)?);
            Some(Subject { head, state: r.state, tags: r.conditions.tags, label: r.label, digest })
        })
        .collect()
}

/// What a drive moved under each load of its newest haul that has loads.
fn alone(ledger: &Ledger, serial: &str) -> Vec<Alone> {
    let mut rows = ledger.hauls().unwrap_or_default();
    rows.retain(|r| r.serial == serial && r.state == HaulState::Done);
    let newest =
        rows.iter().filter_map(|r| Some(ledger.digest_at_hand(&r.haul)?.loads)).find(|l| !l.is_empty());
    let of = |l: LoadFigure| Alone {
        serial: serial.to_owned(),
        kind: l.kind,
        pattern: l.pattern,
        block_bytes: l.block_bytes,
        depth: l.depth,
        rate: Rate::new(l.rate),
    };
    newest.into_iter().flatten().map(of).collect()
}

/// What a haul of this drive by this route is held to.
///
/// # Errors
/// When a file of standing limits cannot be read.
pub fn held_to(
    ledger: &Ledger,
    drive: &DriveIdentity,
    route: &Route,
    conditions: &Conditions,
) -> Result<HeldTo, AppError> {
    let limits = limits::of_haul(ledger.home(), drive, route)?;
    // Files on one machine have nothing in common but that.
    if drive.kind == DriveKind::File {
        return Ok(HeldTo { limits, ..HeldTo::default() });
    }
    let mut subjects = others(ledger, drive, route);
    // As it was when it was last followed: a haul waits for no server.
    if let Some(all) = fleet::ledger_at_hand(ledger.home()) {
        subjects.extend(others(&all, drive, route));
    }
    let laid = route.laid_out(LaidOn::Drive);
    let alone = drive.members.iter().flat_map(|serial| alone(ledger, serial)).collect();
    Ok(HeldTo { limits, sisters: sisters(drive, &laid, &Air::of(conditions), &subjects), alone })
}
