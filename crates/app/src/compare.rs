//! Hauls side by side, and one drive over all its hauls: gathered from the ledger for the command line, the views, charts and
//! reports alike.

use std::path::Path;

use hollow_mile_charts::contrast as chart;
use hollow_mile_charts::scene::Scene;
use hollow_mile_core::archive::claims::Claims;
use hollow_mile_core::archive::contrast::overlay::Overlay;
use hollow_mile_core::archive::contrast::{Contrast, Group, Subject};
use hollow_mile_core::archive::digest::{Digest, SlowStretch, Treatment};
use hollow_mile_core::archive::life;
use hollow_mile_core::archive::life::{Projection, WearPoint};
use hollow_mile_core::conclude::models::Refusal;
use hollow_mile_core::drive::DriveIdentity;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_ledger::{HaulRow, Ledger};

use crate::claims;
use crate::error::AppError;

/// Columns of a curve in a chart.
const COLUMNS: usize = 660;

/// A contrast with the curves of its hauls.
pub struct Compared {
    /// What it says.
    pub contrast: Contrast,
    /// Who is compared, in the order given.
    pub subjects: Vec<Subject>,
    /// The record of each, thinned where it is long.
    pub curves: Vec<Readings>,
    /// Index of the side of each haul.
    pub side_of: Vec<usize>,
    /// How they were grouped.
    pub by: Group,
}

impl Compared {
    /// Compares these hauls.
    ///
    /// # Errors
    /// When one is not there, or they are one side only.
    pub fn of(
        ledger: &Ledger,
        hauls: &[String],
        by: Option<&str>,
        ambient: Option<Celsius>,
    ) -> Result<Self, AppError> {
        let mut subjects: Vec<Subject> = Vec::new();
        for haul in hauls {
            let subject = ledger.subject(haul)?;
            if subjects.iter().any(|s| s.head.haul == subject.head.haul) {
                return Err(AppError::usage(format!("haul {} is named twice", subject.head.haul)));
            }
            subjects.push(subject);
        }
        let group = by.map_or(Group::Alike, Group::of);
        let alone = |e: hollow_mile_core::archive::contrast::ContrastError| AppError::usage(e.to_string());
        let contrast = match (Contrast::of(&subjects, &group, ambient), by) {
            // Hauls that nothing sets apart are still several.
            (Err(_), None) if subjects.len() >= 2 => {
                return Self::with(ledger, subjects, Group::Haul, ambient);
            }
            (made, _) => made.map_err(alone)?,
        };
        Self::complete(ledger, subjects, group, contrast)
    }

    fn with(
        ledger: &Ledger,
        subjects: Vec<Subject>,
        by: Group,
        ambient: Option<Celsius>,
    ) -> Result<Self, AppError> {
        let contrast = Contrast::of(&subjects, &by, ambient).map_err(|e| AppError::usage(e.to_string()))?;
        Self::complete(ledger, subjects, by, contrast)
    }

    fn complete(
        ledger: &Ledger,
        subjects: Vec<Subject>,
        by: Group,
        contrast: Contrast,
    ) -> Result<Self, AppError> {
        let curves = subjects.iter().map(|s| ledger.curves(&s.head.haul)).collect::<Result<Vec<_>, _>>()?;
        let side = |s: &Subject| contrast.sides.iter().position(|g| g.hauls.contains(&s.head.haul));
        let side_of = subjects.iter().map(|s| side(s).unwrap_or(0)).collect();
        Ok(Self { contrast, subjects, curves, side_of, by })
    }

    /// The same hauls with heat brought to another air temperature.
    ///
    /// # Errors
    /// When they are one side only, which they were not before.
    pub fn in_air_of(&mut self, ambient: Option<Celsius>) -> Result<(), AppError> {
        self.contrast =
            Contrast::of(&self.subjects, &self.by, ambient).map_err(|e| AppError::usage(e.to_string()))?;
        Ok(())
    }

    /// Their curves on a ruler.
    #[must_use]
    pub fn overlay(&self, ruler: Ruler, columns: usize) -> Overlay {
        Overlay::of(&self.curves.iter().collect::<Vec<_>>(), ruler, columns)
    }

    /// As a page.
    #[must_use]
    pub fn chart(&self, ruler: Ruler) -> Scene {
        chart::contrast(&self.contrast, &self.overlay(ruler, COLUMNS), &self.side_of)
    }
}

/// A haul in a drive's file.
pub struct Past {
    /// As the ledger lists it.
    pub row: HaulRow,
    /// What is kept of it.
    pub digest: Digest,
}

/// Everything that is known of a drive over time.
pub struct DriveFile {
    /// As its newest haul knew it.
    pub identity: DriveIdentity,
    /// Its hauls, newest first.
    pub hauls: Vec<Past>,
    /// What its maker states.
    pub claims: Option<Claims>,
    /// Health readings, oldest first.
    pub wear: Vec<WearPoint>,
    /// Bytes that may be written to it over its life.
    pub endurance: Option<Bytes>,
    /// When it is worn out, or why that cannot be told.
    pub projection: Result<Projection, Refusal>,
    /// How it was treated in all.
    pub treated: Treatment,
    /// Slow stretches with the number of hauls that saw each.
    pub slow: Vec<(SlowStretch, usize)>,
}

impl DriveFile {
    /// Of the drive that is meant: by its serial, target or model, or a part of one that only one drive has.
    ///
    /// # Errors
    /// When no haul is of it, or it stands for several drives.
    pub fn of(ledger: &Ledger, home: &Path, wanted: &str) -> Result<Self, AppError> {
        let rows = ledger.hauls()?;
        let lower = wanted.to_lowercase();
        let exact = |r: &&HaulRow| r.serial.to_lowercase() == lower || r.drive.to_lowercase() == lower;
        let part =
            |r: &&HaulRow| [&r.serial, &r.drive, &r.model].iter().any(|t| t.to_lowercase().contains(&lower));
        let mut found: Vec<&HaulRow> = rows.iter().filter(exact).collect();
        if found.is_empty() {
            found = rows.iter().filter(part).collect();
        }
        let mut serials: Vec<&str> = found.iter().map(|r| r.serial.as_str()).collect();
        serials.sort_unstable();
        serials.dedup();
        match serials.as_slice() {
            [] => Err(AppError::usage(format!(
                "no haul is of a drive \"{}\": `hollow-mile ledger` lists them",
                wanted.escape_default()
            ))),
            [serial] => {
                let serial = (*serial).to_owned();
                Self::of_serial(ledger, home, &serial, rows)
            }
            many => Err(AppError::usage(format!(
                "\"{}\" stands for {} drives: {}",
                wanted.escape_default(),
                many.len(),
                many.join(", ")
            ))),
        }
    }

    fn of_serial(ledger: &Ledger, home: &Path, serial: &str, rows: Vec<HaulRow>) -> Result<Self, AppError> {
        let own: Vec<HaulRow> = rows.into_iter().filter(|r| r.serial == serial).collect();
        let newest = own.first().ok_or_else(|| AppError::usage(format!("no haul is of drive {serial}")))?;
        let identity = ledger.head(&newest.haul)?.drive;
        let mut hauls = Vec::new();
        for row in own {
            let digest = ledger.digest(&row.haul)?;
            hauls.push(Past { row, digest });
        }
        let claims = claims::of_model(home, &identity.model);
        let endurance = claims.as_ref().and_then(|c| c.endurance).or(identity.rated_writes);
        let mut wear = Vec::new();
        for w in ledger.wear(serial)? {
            let ended =
                hauls.iter().find(|p| p.row.haul == w.haul).map_or(0, |p| p.row.elapsed.as_millis() as i64);
            for (at, vitals) in [(w.started_unix_ms, &w.before), (w.started_unix_ms + ended, &w.after)] {
                wear.push(WearPoint {
                    unix_ms: at,
                    host_written: vitals.host_bytes_written,
                    percentage_used: vitals.percentage_used,
                });
            }
        }
        wear.sort_by_key(|p| p.unix_ms);
        wear.dedup();
        Ok(Self {
            projection: life::project(&wear, endurance),
            treated: life::treated(hauls.iter().map(|p| &p.digest.treatment)),
            slow: life::slow_stretches(hauls.iter().map(|p| p.digest.slow.as_slice())),
            identity,
            hauls,
            claims,
            wear,
            endurance,
        })
    }

    /// Its wear as a page.
    #[must_use]
    pub fn wear_chart(&self) -> Scene {
        let name = format!("{} {}", self.identity.serial, self.identity.model);
        hollow_mile_charts::models::wear(
            &name,
            &self.wear,
            self.endurance,
            &self.projection,
            &crate::text::date,
            &crate::text::local_time,
        )
    }

    /// How it was treated, in a sentence.
    #[must_use]
    pub fn treated_words(&self) -> String {
        let t = &self.treated;
        let mut parts = vec![format!(
            "{} hauls wrote {} and read {}",
            self.hauls.len(),
            Bytes::new(t.written_bytes),
            Bytes::new(t.read_bytes)
        )];
        parts.push(format!("rested {} in them", hollow_mile_core::quantity::units::span_words(t.rested_s)));
        parts.extend(t.filled.map(|f| format!("filled to {:.0} %", f * 100.0)));
        parts.push(if t.wiped { "wiped".into() } else { "never wiped".to_owned() });
        if t.errors > 0 {
            parts.push(format!("{} operations failed", hollow_mile_core::quantity::units::grouped(t.errors)));
        }
        format!("{}.", parts.join(", "))
    }

    /// What the test itself cost of the endurance, in a sentence.
    #[must_use]
    pub fn cost_words(&self) -> Option<String> {
        let claims = Claims { endurance: self.endurance, ..Claims::default() };
        let cost = claims.cost(Bytes::new(self.treated.written_bytes))?;
        Some(format!("Its hauls {}.", cost.words()))
    }
}
