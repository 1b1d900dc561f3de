//! A haul once more: the same drive, route and conditions as an earlier one.

use std::path::Path;

use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::Conditions;
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

use crate::command::Speed;
use crate::error::AppError;
use crate::going_on::CONTINUES;
use crate::orders::{Orders, Seat};

/// The tag of a haul that repeats an earlier one, with the identifier of the first of them.
pub const AGAIN: &str = "again";

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
