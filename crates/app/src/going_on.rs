//! What a haul takes over from an earlier one: where it was stopped, and what it left on the drive.

use hollow_mile_core::drive::stamp;
use hollow_mile_core::drive::stamp::{Expected, Origin};
use hollow_mile_core::haul::Resume;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::HaulHead;
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_ledger::Ledger;

use crate::error::AppError;

/// The tag of a haul that goes on from another.
pub const CONTINUES: &str = "continues";

/// The haul that this one goes on from. Only an earlier one counts: a tag is the user's to write.
fn before(head: &HaulHead, ledger: &Ledger) -> Option<String> {
    let (_, haul) = head.conditions.tags.iter().find(|(k, _)| k == CONTINUES)?;
    let row = ledger.haul(haul).ok()?;
    (row.started_unix_ms < head.started_unix_ms).then_some(row.haul)
}

/// Where a haul that was stopped goes on: its route as it was laid out, and the place in it.
///
/// # Errors
/// When there is no such haul, it ran another route, or it came to its end.
pub fn resume(haul: &str, route: &Route, ledger: &Ledger) -> Result<(Route, Resume), AppError> {
    let row = ledger.haul(haul)?;
    let readings = ledger.readings(&row.haul)?;
    let head = readings.head().ok_or_else(|| AppError::usage(format!("haul {} has no head", row.haul)))?;
    if head.route.name != route.name {
        return Err(AppError::usage(format!(
            "haul {} ran the route {}, not {}: continue it with that",
            row.haul, head.route.name, route.name
        )));
    }
    let over = || AppError::usage(format!("haul {} came to its end: there is nothing to continue", row.haul));
    if row.state == hollow_mile_core::record::HaulState::Done {
        return Err(over());
    }
    let place = readings.legs().len().saturating_sub(1);
    let leg = readings.legs().get(place).map_or(0, |l| usize::from(l.leg));
    let capacity = head.drive.capacity;
    let filled =
        head.route.legs[..leg.min(head.route.legs.len())].iter().fold(Bytes::ZERO, |filled, l| {
            match (l.kind, l.level) {
                (LegKind::Wipe, _) => Bytes::ZERO,
                (LegKind::Fill, Some(level)) => filled.max(level.of(capacity)),
                _ => filled,
            }
        });
    // Its stamps would tell of two hauls: a stamped write begins anew.
    let stamped = head.route.legs.get(leg).is_some_and(|l| l.stamped);
    let mut moved = if stamped { Bytes::ZERO } else { readings.moved_in(place) };
    let mut filled = filled;
    // A haul that itself went on in this leg had the bytes of the one before.
    if let Some(before) = before(head, ledger).filter(|_| place == 0) {
        let earlier = resume(&before, route, ledger)?.1;
        if earlier.leg == leg {
            moved += earlier.moved;
            filled = earlier.filled;
        }
    }
    // A level that was reached in part goes on from there.
    let is_fill = head.route.legs.get(leg).is_some_and(|l| l.kind == LegKind::Fill);
    let (filled, moved) = if is_fill { (filled + moved, Bytes::ZERO) } else { (filled, moved) };
    Ok((head.route.clone(), Resume { leg, moved, filled }))
}

/// What the haul that a verify leg names, or the one that is continued, left on the drive; `None` when the route reads
/// back only its own.
///
/// # Errors
/// When there is no such haul, it was on another drive, or one that is named wrote nothing stamped.
pub fn stamped(
    route: &Route,
    continued: Option<&str>,
    ledger: &Ledger,
    serial: &str,
) -> Result<Option<Expected>, AppError> {
    fn of(legs: &[Leg]) -> Option<&str> {
        legs.iter().find_map(|l| l.of.as_deref().or_else(|| of(&l.legs)))
    }
    let named = of(&route.legs);
    let Some(name) = named.or(continued) else { return Ok(None) };
    let row = ledger.haul(name)?;
    let readings = ledger.readings(&row.haul)?;
    let head = readings.head().ok_or_else(|| AppError::usage(format!("haul {} has no head", row.haul)))?;
    if head.drive.serial != serial && named.is_none() {
        return Ok(None);
    }
    if head.drive.serial != serial {
        return Err(AppError::usage(format!(
            "haul {} wrote to {}, and this drive is {serial}: its blocks are not here",
            row.haul, head.drive.serial
        )));
    }
    let last = readings.legs().iter().enumerate().rev().find_map(|(place, l)| {
        let leg = head.route.legs.get(usize::from(l.leg)).filter(|leg| leg.stamped)?;
        Some((place, l, leg, readings.moved_in(place))).filter(|f| f.3 > Bytes::ZERO)
    });
    let Some((_, reading, leg, written)) = last else {
        if named.is_none() {
            // What it read back may have been written by the haul that it went on from.
            let before = before(head, ledger);
            return before.map_or(Ok(None), |haul| stamped(route, Some(&haul), ledger, serial));
        }
        return Err(AppError::usage(format!("haul {} wrote no stamped blocks", row.haul)));
    };
    let flushed = reading.flushed.min(written);
    if flushed < written {
        eprintln!(
            "haul {} was cut short {} after its last flush: what it wrote since may be missing, and is told apart",
            row.haul,
            written.saturating_sub(flushed)
        );
    }
    let (start, end) = leg.region.on(head.drive.capacity, leg.block);
    let origin = Origin {
        drive: stamp::name(&head.drive.serial),
        haul: stamp::name(&row.haul),
        pass: reading.leg.into(),
    };
    let (start, end, written) = (start.get(), end.get(), written.get());
    Ok(Some(Expected { origin, start, end, written, flushed: flushed.get(), workers: leg.workers }))
}
