//! The columns of the ledger: what each shows, how wide it is, and how hauls are sorted by it.

use hollow_mile_ledger::HaulRow;

use crate::told::words::{self, cells};

/// A column of the list.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Column {
    /// When it began.
    #[default]
    Started,
    /// Serial of the drive.
    Serial,
    /// Its model.
    Model,
    /// Name of the route.
    Route,
    /// What the user calls it.
    Name,
    /// As stated, with tags.
    Conditions,
    /// How it stands.
    State,
    /// Bytes written.
    Written,
    /// What was found, and the user's note.
    Found,
    /// How the limits of its route stand.
    Limits,
}

impl Column {
    const ALL: [Self; 10] = [
        Self::Started,
        Self::Serial,
        Self::Model,
        Self::Route,
        Self::Name,
        Self::Conditions,
        Self::State,
        Self::Written,
        Self::Found,
        Self::Limits,
    ];

    pub const fn name(self) -> &'static str {
        match self {
            Self::Started => "started",
            Self::Serial => "serial",
            Self::Model => "model",
            Self::Route => "route",
            Self::Name => "name",
            Self::Conditions => "conditions",
            Self::State => "state",
            Self::Written => "written",
            Self::Found => "found",
            Self::Limits => "limits",
        }
    }

    pub fn next(self) -> Self {
        let at = Self::ALL.iter().position(|c| *c == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }

    /// Newest and most first, words by the alphabet with empty ones last.
    pub fn order(self, a: &HaulRow, b: &HaulRow) -> std::cmp::Ordering {
        let newest = || b.started_unix_ms.cmp(&a.started_unix_ms).then_with(|| a.haul.cmp(&b.haul));
        let by = match self {
            Self::Started => std::cmp::Ordering::Equal,
            Self::Written => b.written.cmp(&a.written),
            _ => {
                let (a, b) = (cell(a, self), cell(b, self));
                a.is_empty().cmp(&b.is_empty()).then_with(|| a.to_lowercase().cmp(&b.to_lowercase()))
            }
        };
        by.then_with(newest)
    }
}

/// How wide the longest cell of each column is.
#[derive(Debug, Clone, Copy, Default)]
pub struct Longest([u16; Column::ALL.len()]);

/// Cells that are put together from several things are looked at in so many of the newest hauls: of a hundred thousand that would take
/// longer than a key may wait.
const LOOKED_AT: usize = 2000;

impl Longest {
    /// Of these hauls, newest first.
    pub fn of(rows: &[HaulRow]) -> Self {
        let of = |column: Column| -> u16 {
            let plain: Option<fn(&HaulRow) -> &str> = match column {
                Column::Serial => Some(|r| &r.serial),
                Column::Model => Some(|r| &r.model),
                Column::Route => Some(|r| &r.route),
                Column::Name => Some(|r| r.label.as_deref().unwrap_or_default()),
                Column::Limits => Some(|r| &r.limits),
                _ => None,
            };
            let longest = match plain {
                Some(text) => rows.iter().map(|r| cells(text(r))).max(),
                None => rows.iter().take(LOOKED_AT).map(|r| cells(&cell(r, column))).max(),
            };
            let longest = longest.unwrap_or(0) as u16;
            // What an older haul has has its column, too.
            let has = |r: &HaulRow| {
                let c = &r.conditions;
                c.ambient.is_some() || c.cooling.is_some() || !c.tags.is_empty()
            };
            match column {
                Column::Conditions if longest == 0 && rows.iter().any(has) => u16::MAX,
                _ => longest,
            }
        };
        Self(Column::ALL.map(of))
    }

    fn in_column(&self, column: Column) -> u16 {
        Column::ALL.iter().zip(self.0).find(|(c, _)| **c == column).map_or(0, |(_, w)| w)
    }
}

/// Columns that a list of this width has, each with how wide it is at most; the last takes what is left.
pub fn columns(width: u16, longest: &Longest) -> Vec<(Column, u16)> {
    use Column::{Conditions, Found, Limits, Model, Name, Route, Serial, Started, State, Written};
    let all: &[(Column, u16)] = if width >= 150 {
        &[
            (Started, 16),
            (Serial, 8),
            (Model, 18),
            (Route, 11),
            (Name, 18),
            (Conditions, 18),
            (State, 9),
            (Written, 9),
            (Limits, 12),
            (Found, u16::MAX),
        ]
    } else if width >= 120 {
        &[
            (Started, 16),
            (Serial, 8),
            (Route, 11),
            (Name, 14),
            (Conditions, 16),
            (State, 9),
            (Found, u16::MAX),
        ]
    } else {
        &[(Started, 16), (Serial, 8), (Route, 10), (Name, 13), (State, 9), (Found, u16::MAX)]
    };
    // What no haul has takes no room, and no column more than its longest cell.
    all.iter()
        .filter_map(|(column, most)| {
            let longest = longest.in_column(*column);
            let optional = matches!(column, Name | Conditions | Limits);
            (!optional || longest > 0).then(|| {
                let least = cells(column.name()) as u16 + 2;
                (*column, longest.max(least).min(*most))
            })
        })
        .collect()
}

pub fn cell(row: &HaulRow, column: Column) -> String {
    match column {
        Column::Started => words::local_time(row.started_unix_ms),
        Column::Serial => row.serial.clone(),
        Column::Model => row.model.clone(),
        Column::Route => row.route.clone(),
        Column::Name => row.label.clone().unwrap_or_default(),
        Column::State => row.state.word().to_owned(),
        Column::Written => row.written.to_string(),
        Column::Limits => row.limits.clone(),
        Column::Conditions => {
            let c = &row.conditions;
            let mut parts: Vec<String> = c.ambient.map(|a| a.to_string()).into_iter().collect();
            parts.extend(c.cooling.clone());
            parts.extend(c.tags.iter().map(|(k, v)| format!("{k}={v}")));
            parts.join(", ")
        }
        Column::Found => {
            let note = row.note.as_ref().map(|n| format!("  “{n}”")).unwrap_or_default();
            format!("{}{note}", row.summary)
        }
    }
}
