//! A haul once more: the same drive, route and conditions as an earlier one.

use std::path::Path;
use std::time::Duration;

use hollow_mile_core::conclude::Finding;
use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Conditions, Fall, HaulHead};
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

use hollow_mile_charts::lanes::letter;

use crate::command::Speed;
use crate::error::AppError;
use crate::going_on::CONTINUES;
use crate::orders::{Orders, Seat};

/// The tag of a haul that repeats an earlier one, with the identifier of the first of them.
pub const AGAIN: &str = "again";

/// The tag of a haul that looks into a finding of an earlier one: its identifier, and the letter.
pub const DECIDES: &str = "decides";

/// What a haul takes over from an earlier one. Consent to lose data is none of it: that is given anew.
#[derive(Debug, Clone, PartialEq)]
pub struct Again {
    /// The drive, as the user named it.
    pub drive: String,
    /// Its serial.
    pub serial: String,
    /// Of a file: how large.
    pub size: Option<Bytes>,
    /// The route as it was laid out.
    pub route: Route,
    /// As they were stated, with a tag that tells of what it is a repeat.
    pub conditions: Conditions,
}

impl Again {
    /// Orders to do it, with consent that was given for it; `number` is how many hauls the drive had.
    #[must_use]
    pub fn orders(&self, home: &Path, erase: Option<String>, give_up: Vec<String>, number: u64) -> Orders {
        Orders {
            home: home.to_owned(),
            route: self.route.clone(),
            seats: vec![Seat {
                drive: self.drive.clone(),
                size: self.size,
                conditions: self.conditions.clone(),
                erase,
                give_up,
                thermometers: Vec::new(),
                meters: Vec::new(),
                number,
            }],
            continues: None,
            repeat: 1,
            speed: Speed::Most,
            metrics: None,
            ends_with_starter: false,
        }
    }
}

/// What to do to repeat a haul.
///
/// # Errors
/// When there is no such haul, or it was not made on a drive of this machine.
pub fn again(ledger: &Ledger, haul: &str) -> Result<Again, AppError> {
    let row = ledger.haul(haul)?;
    let head = ledger.head(&row.haul)?;
    if head.drive.kind == DriveKind::Imported {
        return Err(AppError::usage(format!(
            "haul {} was imported: its drive is not on this machine",
            row.haul
        )));
    }
    // Label and tags as they are now, the rest as it was stated then.
    let mut conditions = Conditions {
        label: row.label.clone(),
        tags: row.conditions.tags.clone(),
        earlier: Vec::new(),
        rested_for: None,
        ..head.conditions
    };
    let origin = conditions.tags.iter().find(|(k, _)| k == AGAIN).map_or(row.haul, |(_, v)| v.clone());
    conditions.tags.retain(|(k, _)| k != AGAIN && k != CONTINUES);
    conditions.tags.push((AGAIN.into(), origin));
    Ok(Again {
        size: (head.drive.kind == DriveKind::File).then_some(head.drive.capacity),
        drive: head.drive.target,
        serial: head.drive.serial,
        route: head.route,
        conditions,
    })
}

/// The finding of this letter, or the newest fall without one, with the readings of its haul so far.
fn fall_of(
    ledger: &Ledger,
    haul: &str,
    finding: Option<&str>,
) -> Result<(String, Finding, Readings), AppError> {
    let mut readings = Readings::new();
    ledger.replay(haul, |e| readings.push(e))?;
    let all = readings.conclude().findings;
    let names: Vec<String> = (0..all.len()).map(letter).collect();
    let at = match finding {
        Some(name) => names.iter().position(|n| n.eq_ignore_ascii_case(name)),
        None => all.iter().rposition(|f| readings.fall_of(f).is_some()),
    };
    let known =
        if names.is_empty() { "it has none so far".into() } else { format!("it has {}", names.join(", ")) };
    let at = at.ok_or_else(|| {
        let wanted = finding.map_or_else(|| "finding of a fall".to_owned(), |f| format!("finding {f}"));
        AppError::usage(format!("haul {haul} has no {wanted}: {known}"))
    })?;
    if readings.fall_of(&all[at]).is_none() {
        let (name, what) = (&names[at], all[at].kind.word());
        return Err(AppError::usage(format!(
            "finding {name} of haul {haul} is a {what}, and no fall of the rate: there is nothing to try"
        )));
    }
    Ok((names[at].clone(), all[at].clone(), readings))
}

/// A fall of a haul under way, to be looked into.
///
/// # Errors
/// When there is none, or when the leg under way is one in which nothing can be tried.
pub fn fall_in(ledger: &Ledger, haul: &str, finding: Option<&str>) -> Result<Fall, AppError> {
    let (name, found, readings) = fall_of(ledger, haul, finding)?;
    let leg = readings.legs().last().map_or(0, |l| usize::from(l.leg));
    let may_on = |h: &HaulHead| Some(h.route.legs.get(leg)?.may_decide_on(&h.drive));
    let may = readings.head().and_then(may_on).unwrap_or(false);
    let began = readings.legs().last().map_or(Duration::ZERO, |l| l.from);
    if !may || found.elapsed < began {
        return Err(nothing_to_try(&name, haul, leg));
    }
    if readings.inquiries().last().is_some_and(|i| i.ended.is_none()) {
        return Err(AppError::usage(format!("haul {haul} is being tried out already")));
    }
    readings.fall_of(&found).ok_or_else(|| nothing_to_try(&name, haul, leg))
}

fn nothing_to_try(name: &str, haul: &str, leg: usize) -> AppError {
    AppError::usage(format!(
        "finding {name} of haul {haul} cannot be looked into in leg {}: experiments go with the plain write by one worker in which it fell, without stamps, drawn sizes or places, or a rate, and not on host-managed zones",
        leg + 1
    ))
}

/// What to do to find out by experiments why the rate fell at a finding: the same drive and route up to the leg of the finding, in which
/// they are made.
///
/// # Errors
/// When there is no such haul or finding, when it is of no fall, or of a leg in which nothing can be tried.
pub fn deciding(ledger: &Ledger, haul: &str, finding: &str) -> Result<Again, AppError> {
    let mut again = again(ledger, haul)?;
    let row = ledger.haul(haul)?;
    let (name, found, readings) = fall_of(ledger, &row.haul, Some(finding))?;
    let leg =
        readings.legs().iter().rev().find(|l| l.from <= found.elapsed).map_or(0, |l| usize::from(l.leg));
    again.route.legs.truncate(leg + 1);
    again.route.limits.clear();
    // It is no repeat: its route is another.
    again.conditions.tags.retain(|(k, _)| k != AGAIN);
    again.conditions.tags.push((DECIDES.into(), format!("{} {name}", row.haul)));
    match again.route.legs.last_mut() {
        Some(leg) if readings.head().is_some_and(|h| leg.may_decide_on(&h.drive)) => leg.decide = true,
        _ => return Err(nothing_to_try(&name, &row.haul, leg)),
    }
    Ok(again)
}
