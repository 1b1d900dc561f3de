//! What must be known of a CSV file before its first row can be told: its head, its legs, whether its sensor measures.

use std::collections::BTreeMap;
use std::io::Read;
use std::time::Duration;

use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Conditions, HaulHead};
use hollow_mile_core::route::{Leg, LegKind, Route};

use super::CsvError;
use super::column::{Column, PerColumn};
use super::rows::{Raw, Rows};
use super::write::EARLIER;

/// What must be known of a file before its first row can be told.
#[derive(Default)]
pub(super) struct Before {
    pub keys: BTreeMap<String, String>,
    pub has: PerColumn<bool>,
    rows: u64,
    pub highest_leg: u16,
    pub highest_position: f64,
    /// Rows of each leg that rest, write, and read.
    votes: BTreeMap<u16, [usize; 3]>,
    /// A sensor that says the same 0 or 255 all the time says nothing.
    pub stuck: bool,
}

impl Before {
    pub fn of(input: impl Read) -> Result<Self, CsvError> {
        let wanted = PerColumn::of(|c| matches!(c, Column::Position | Column::Temperature | Column::Leg));
        let mut rows = Rows::new(input, wanted)?;
        let mut before = Self { has: PerColumn::of(|c| rows.index[c].is_some()), ..Self::default() };
        let default_kind = before.default_kind();
        let mut sensor: Option<(f64, bool)> = None;
        while let Some(row) = rows.next()? {
            before.rows += 1;
            // One row that can be used is enough; the others are only counted.
            rows.untimed = true;
            let leg = leg_of(&row, usize::MAX);
            before.highest_leg = before.highest_leg.max(leg);
            before.highest_position =
                before.highest_position.max(row.fields[Column::Position].unwrap_or(0.0));
            if let Some(t) = row.fields[Column::Temperature] {
                let (first, same) = sensor.unwrap_or((t, true));
                sensor = Some((first, same && t == first));
                // A sensor that moved once is not stuck.
                rows.wanted[Column::Temperature] = same && t == first;
            }
            let vote = before.votes.entry(leg.min(999)).or_default();
            match row.kind.unwrap_or(default_kind) {
                LegKind::Write | LegKind::Mixed => vote[1] += 1,
                LegKind::Read => vote[2] += 1,
                _ => vote[0] += 1,
            }
            // Without legs and addresses one row is like another: only what `#` lines say is still to be read.
            let moves = !before.has[Column::Temperature] || sensor.is_some_and(|(_, same)| !same);
            let plain = [Column::Leg, Column::LegKind, Column::Position].iter().all(|c| !before.has[*c]);
            if plain && moves {
                rows.read_notes()?;
                break;
            }
        }
        if before.rows == 0 {
            return Err(CsvError::Empty { first: rows.refused.first });
        }
        before.stuck = sensor.is_some_and(|(first, same)| same && (first == 0.0 || first >= 200.0));
        before.keys =
            std::mem::take(&mut *rows.keys.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
        Ok(before)
    }

    /// A log from elsewhere, which says nowhere what was under way.
    pub fn marks_no_pauses(&self) -> bool {
        !self.has[Column::Leg] && !self.has[Column::LegKind] && !self.keys.contains_key("route")
    }

    fn default_kind(&self) -> LegKind {
        if self.has[Column::Written] { LegKind::Write } else { LegKind::Read }
    }

    /// The legs that the rows tell of. A leg is what most of its rows say; without a word it writes, or reads when only
    /// reads were counted.
    pub fn legs(&self) -> Vec<Leg> {
        let last = self.votes.keys().next_back().copied().unwrap_or(0);
        let leg = |i: u16| {
            let [rest, write, read] = self.votes.get(&i).copied().unwrap_or_default();
            // A pause within a leg counts as rest, so any work at all decides.
            let kind = match (rest, write, read) {
                (_, w, r) if w >= r && w > 0 => LegKind::Write,
                (_, _, r) if r > 0 => LegKind::Read,
                (r, ..) if r > 0 => LegKind::Rest,
                _ => self.default_kind(),
            };
            Leg { depth: 1, ..Leg::new(kind) }
        };
        (0..=last).map(leg).collect()
    }

    pub fn number(&self, key: &str) -> Option<f64> {
        self.keys.get(key).and_then(|v| v.parse::<f64>().ok()).filter(|v| v.is_finite())
    }
}

pub(super) fn head_of(name: &str, before: &Before) -> HaulHead {
    let Before { keys, .. } = before;
    let number = |key: &str| before.number(key);
    let route: Option<Route> = keys.get("route").and_then(|json| serde_json::from_str(json).ok());
    let route = route.filter(|r| r.legs.len() > usize::from(before.highest_leg) && r.fits_together());
    let highest = before.highest_position;
    let capacity = number("capacity_bytes").unwrap_or(highest).max(0.0) as u64;
    HaulHead {
        haul: keys.get("haul").cloned().unwrap_or_else(|| name.to_owned()),
        drive: DriveIdentity {
            target: keys.get("drive").cloned().unwrap_or_else(|| name.to_owned()),
            kind: DriveKind::Imported,
            model: keys.get("model").cloned().unwrap_or_else(|| "unknown".into()),
            serial: keys.get("serial").cloned().unwrap_or_else(|| "unknown".into()),
            firmware: String::new(),
            capacity: Bytes::new(capacity),
            block: Bytes::new(number("block_bytes").unwrap_or(512.0).max(1.0) as u64),
            rotational: false,
            link: keys.get("link").and_then(|l| serde_json::from_str(l).ok()),
            throttle_limit: number("throttle_c").map(Celsius::new),
            rated_writes: None,
            fill_percent: None,
            device: None,
            zones: None,
            members: Vec::new(),
        },
        route: route.unwrap_or_else(|| Route {
            name: "imported".into(),
            about: String::new(),
            interval: Duration::from_millis(100),
            limits: Vec::new(),
            legs: before.legs(),
        }),
        conditions: Conditions {
            ambient: number("ambient_c").map(Celsius::new),
            earlier: (0..EARLIER)
                .map_while(|i| serde_json::from_str(keys.get(&format!("earlier.{i}"))?).ok())
                .collect(),
            ..Conditions::default()
        },
        started_unix_ms: 0,
        engine: "imported from CSV".into(),
        program: String::new(),
        forecast: None,
        held_to: hollow_mile_core::record::held_to::HeldTo::default(),
    }
}

/// The leg of a row, of a route that has so many.
pub(super) fn leg_of(row: &Raw, legs: usize) -> u16 {
    let leg = row.fields[Column::Leg].unwrap_or(0.0).clamp(0.0, 65_535.0) as u16;
    leg.min((legs.max(1) - 1) as u16)
}
