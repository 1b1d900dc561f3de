//! How long a route will take on a drive, in words, from what the ledger knows of the drive.

use hollow_mile_core::archive::estimate::{Basis, Known, Span};
use hollow_mile_core::archive::forecast::Air;
use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::forecast::Forecast;
use hollow_mile_core::record::{Conditions, HaulState};
use hollow_mile_core::route::{LaidOn, Route};
use hollow_mile_ledger::{HaulRow, Ledger};

use super::words;
use crate::claims;

/// Hauls of a drive that are asked, the newest first.
const ASKED: usize = 16;

/// What is known of a drive: from its own hauls among these rows, newest first, and from paper. Only what is at hand is asked:
/// no record is read for it.
#[must_use]
pub fn known_of(ledger: &Ledger, rows: &[HaulRow], drive: &DriveIdentity) -> Known {
    let link = drive.link.as_ref().and_then(Link::payload_ceiling);
    let mut known = Known::of_paper(claims::of_model(ledger.home(), &drive.model), link);
    let done = || rows.iter().filter(|r| r.state == HaulState::Done);
    let told = |r: &HaulRow| Some((ledger.head(&r.haul).ok()?, ledger.digest_at_hand(&r.haul)?));
    for row in done().filter(|r| r.serial == drive.serial).take(ASKED) {
        if let Some((head, digest)) = told(row) {
            let air = Air::of(&head.conditions);
            known.learn(&head.route, head.drive.capacity, air, row.elapsed, &digest);
        }
    }
    // Files on one machine have nothing in common but that.
    let is_sister = |r: &&HaulRow| r.model == drive.model && r.serial != drive.serial;
    let sisters = done().filter(|_| drive.kind != DriveKind::File).filter(is_sister);
    for (head, digest) in sisters.take(ASKED).filter_map(told) {
        known.learn_of_sister(&head.route, head.drive.capacity, Air::of(&head.conditions), &digest);
    }
    known
}

/// What a haul should be like, from earlier ones of its drive among these rows; `None` where nothing is known.
#[must_use]
pub fn forecast_of(
    ledger: &Ledger,
    rows: &[HaulRow],
    drive: &DriveIdentity,
    route: &Route,
    conditions: &Conditions,
) -> Option<Forecast> {
    let on = LaidOn::file_system_if(drive.kind == DriveKind::File);
    let air = Air::of(conditions);
    let forecast = known_of(ledger, rows, drive).forecast(&route.laid_out(on), drive.capacity, &air);
    (!forecast.legs.is_empty()).then_some(forecast)
}

/// How long it takes, in words: `32 to 41 min, by 3 hauls of this route on this drive`.
#[must_use]
pub fn takes(known: &Known, route: &Route, capacity: Bytes) -> String {
    match known.route(route, capacity) {
        Ok(span) => span_words(&span),
        Err(leg) => {
            let kind = route.legs.get(leg).map_or("", |l| l.kind.word());
            format!("not known: nothing tells beforehand how long leg {}, {kind}, takes", leg + 1)
        }
    }
}

/// A span, and what it is estimated from.
#[must_use]
pub fn span_words(span: &Span) -> String {
    let hauls = |n: usize| if n == 1 { "1 haul".to_owned() } else { format!("{n} hauls") };
    let by = match span.basis {
        Basis::Legs => "by its legs".to_owned(),
        Basis::SameRoute(n) => format!("by {} of this route on this drive", hauls(n)),
        Basis::Hauls(n) => format!("by {} of this drive", hauls(n)),
        Basis::Claims => "by what its maker claims".into(),
        Basis::Link => "by what its link carries".into(),
    };
    let (low, high) = (words::about(span.low), span.high.map(words::about));
    match high {
        None => format!("at least {low}, {by}"),
        Some(high) if high == low => format!("about {low}, {by}"),
        Some(high) => format!("{}, {by}", range(&low, &high)),
    }
}

/// `32 to 41 min` of `32 min` and `41 min`; whole where the units differ.
fn range(low: &str, high: &str) -> String {
    match (low.split_once(' '), high.split_once(' ')) {
        (Some((a, unit)), Some((b, other))) if unit == other && !unit.contains(' ') => {
            format!("{a} to {b} {unit}")
        }
        _ => format!("{low} to {high}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn a_span_is_said_as_people_say_it() {
        let span = |low, high: Option<u64>, basis| Span {
            low: Duration::from_secs(low),
            likely: Duration::from_secs(low),
            high: high.map(Duration::from_secs),
            basis,
        };
        for (given, said) in [
            (
                span(1920, Some(2460), Basis::SameRoute(3)),
                "32 to 41 min, by 3 hauls of this route on this drive",
            ),
            (span(3000, Some(5400), Basis::Hauls(1)), "50 min to 1 h 30 min, by 1 haul of this drive"),
            (span(600, Some(600), Basis::Legs), "about 10 min, by its legs"),
            (span(5400, None, Basis::Link), "at least 1 h 30 min, by what its link carries"),
        ] {
            assert_eq!(span_words(&given), said);
        }
    }
}
