//! All that is known of a drive over its hauls, and how it is, in sentences.

use hollow_mile_core::drive::health::Health;
use hollow_mile_core::drive::protocol::nvme::SelfTestKind;
use hollow_mile_core::quantity::text::named;
use std::path::Path;

use super::members;
use super::words::date;
use crate::claims;
use crate::error::AppError;
use hollow_mile_charts::scene::Scene;
use hollow_mile_core::archive::claims::Claims;
use hollow_mile_core::archive::digest::{Digest, SlowStretch, Treatment};
use hollow_mile_core::archive::life;
use hollow_mile_core::archive::life::{Projection, WearPoint};
use hollow_mile_core::conclude::models::Refusal;
use hollow_mile_core::drive::DriveIdentity;
use hollow_mile_core::quantity::units::{Bytes, significant};
use hollow_mile_ledger::{HaulRow, Ledger, Wear};

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
    /// The same by what it writes to its media; `None` where that cannot be told.
    pub media_projection: Option<Projection>,
    /// How it was treated in all.
    pub treated: Treatment,
    /// Slow stretches with the number of hauls that saw each.
    pub slow: Vec<(SlowStretch, usize)>,
}

/// The health readings of a drive before and after each of its hauls, oldest first.
#[must_use]
pub fn wear_points(wear: &[Wear], rows: &[&HaulRow]) -> Vec<WearPoint> {
    let mut points: Vec<WearPoint> = wear
        .iter()
        .flat_map(|w| {
            let elapsed = rows.iter().find(|r| r.haul == w.haul).map_or(0, |r| r.elapsed.as_millis() as i64);
            [(w.started_unix_ms, &w.before), (w.started_unix_ms + elapsed, &w.after)]
        })
        .map(|(at, vitals)| WearPoint {
            unix_ms: at,
            host_written: vitals.host_bytes_written,
            percentage_used: vitals.percentage_used,
            media_written: vitals.media_written.map(|m| m.bytes),
        })
        .collect();
    points.sort_by_key(|p| p.unix_ms);
    points.dedup();
    points
}

/// Bytes that may be written to a drive over its life: as its maker claims, or as it says itself.
#[must_use]
pub fn endurance_of(claims: Option<&Claims>, identity: &DriveIdentity) -> Option<Bytes> {
    claims.and_then(|c| c.endurance).or(identity.rated_writes)
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
                named(wanted)
            ))),
            [serial] => {
                let serial = (*serial).to_owned();
                Self::of_serial(ledger, home, &serial, rows)
            }
            many => Err(AppError::usage(format!(
                "\"{}\" stands for {} drives: {}",
                named(wanted),
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
        let endurance = endurance_of(claims.as_ref(), &identity);
        let rows: Vec<&HaulRow> = hauls.iter().map(|p| &p.row).collect();
        let wear = wear_points(&ledger.wear(serial)?, &rows);
        Ok(Self {
            projection: life::project(&wear, endurance),
            media_projection: life::project_by_media(&wear).ok(),
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
            &crate::told::words::date,
            &crate::told::words::local_time,
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

/// What is known of a drive, in sentences.
#[must_use]
pub fn drive_file(file: &DriveFile) -> Vec<String> {
    let mut out = vec![match &file.projection {
        Ok(p) => p.sentence(date),
        Err(r) => r.words(),
    }];
    out.extend(file.media_projection.as_ref().map(|p| p.sentence(date)));
    out.push(format!("Treated: {}", file.treated_words()));
    out.extend(file.cost_words());
    for (s, hauls) in file.slow.iter().take(8) {
        let share = s.share.map(|s| format!(" at {:.0} %", s * 100.0)).unwrap_or_default();
        out.push(format!(
            "Slow from {} to {}{share}, by {hauls} haul{}.",
            Bytes::new(s.position_bytes),
            Bytes::new(s.position_end_bytes),
            if *hauls == 1 { "" } else { "s" }
        ));
    }
    // The newest haul that could tell is told.
    let of = |p: &Past| p.row.haul.clone();
    let cache = file.hauls.iter().find_map(|p| Some((of(p), p.digest.cache_model.known()?.known())));
    out.extend(cache.map(|(haul, words)| format!("Cache, by haul {haul}: {}", words.join(" "))));
    let heat = file.hauls.iter().find_map(|p| p.digest.heat_model.known().map(|_| p));
    out.extend(heat.map(|p| format!("Heat, by haul {}: {}", of(p), p.digest.heat_words().join(" "))));
    if let Some(c) = &file.claims {
        let newest =
            file.hauls.iter().rev().flat_map(|p| c.against(&p.digest).into_iter().map(move |s| (p, s)));
        let mut told: Vec<(String, String)> = Vec::new();
        for (p, s) in newest {
            told.retain(|(name, _)| *name != s.name);
            told.push((s.name.clone(), format!("Claim, by haul {}: {}.", p.row.haul, s.words())));
        }
        out.extend(told.into_iter().map(|t| t.1));
        let warm = file.hauls.iter().map(|p| (p, c.heat_words(&p.digest))).find(|(_, w)| !w.is_empty());
        out.extend(
            warm.iter()
                .flat_map(|(p, words)| words.iter().map(|w| format!("Claim, by haul {}: {w}.", p.row.haul))),
        );
        if let Some(writes) = c.drive_writes_per_day(file.identity.capacity) {
            out.push(format!(
                "Warranty: {} years, {} drive writes a day.",
                significant(c.warranty_years.unwrap_or(0.0)),
                significant((writes * 100.0).round() / 100.0)
            ));
        }
    }
    out
}

/// How a drive is, in one sentence.
#[must_use]
pub fn wellness(h: &Health) -> String {
    let v = &h.vitals;
    let mut parts: Vec<String> = Vec::new();
    if h.protocol.is_empty() && !h.members.is_empty() {
        return members::wellness(h);
    }
    if h.protocol.is_empty() {
        return "Nothing is known of its health: it cannot be asked.".into();
    }
    match h.warnings.as_slice() {
        [] if v.critical_warning.is_some() => parts.push("No warnings".into()),
        [] => {}
        all => parts.push(format!("It warns: {}", all.join("; "))),
    }
    let mut wear = Vec::new();
    wear.extend(v.percentage_used.map(|p| format!("{p:.0} % of its rated life used")));
    wear.extend(v.available_spare.map(|s| format!("{s} % spare")));
    if !wear.is_empty() {
        parts.push(wear.join(", "));
    }
    if let Some(t) = v.composite_temperature {
        let limit = h.warning_temperature.map(|l| format!(", warns at {l}")).unwrap_or_default();
        parts.push(format!("{t} now{limit}"));
    }
    if let Some(n) = v.media_errors.filter(|n| *n > 0) {
        parts.push(format!("{} media errors", hollow_mile_core::quantity::units::grouped(n)));
    }
    if let Some(p) = v.self_test_percent {
        parts.push(format!("a self-test runs, {p} % done"));
    }
    if parts.is_empty() {
        return format!("It tells little of its health by {}.", h.protocol);
    }
    format!("{}.", parts.join(". ").replace(". a ", "; a "))
}

/// Self-tests, a line each: the one that runs, then those that ended, newest first.
#[must_use]
pub fn self_tests(h: &Health) -> Vec<String> {
    if !h.self_test_supported {
        return vec!["self-test: the drive offers none".into()];
    }
    let mut lines = Vec::new();
    if let Some((kind, percent)) = h.self_tests.running {
        let kind = if matches!(kind, SelfTestKind::Other(0)) { "a".to_owned() } else { kind.words() };
        lines.push(format!("{kind} self-test is running, {percent} % done"));
    }
    lines.extend(h.self_tests.results.iter().map(|r| {
        let place = r.failing_lba.map(|b| format!(" at block {b}")).unwrap_or_default();
        format!("{} self-test {}{place}, after {} h of power", r.kind.words(), r.words, r.power_on_hours)
    }));
    if lines.is_empty() {
        lines.push("self-test: none has been run".into());
    }
    lines
}

#[cfg(test)]
mod tests {
    use hollow_mile_core::drive::Vitals;
    use hollow_mile_core::drive::protocol::nvme::{SelfTestLog, SelfTestResult};
    use hollow_mile_core::quantity::units::Celsius;

    use super::*;

    fn health(vitals: Vitals) -> Health {
        Health { protocol: "NVMe".into(), vitals, ..Health::default() }
    }

    #[test]
    fn how_a_drive_is_stands_in_one_sentence() {
        let well = Vitals {
            critical_warning: Some(0),
            percentage_used: Some(2.0),
            available_spare: Some(100),
            composite_temperature: Some(Celsius::new(34.0)),
            ..Vitals::default()
        };
        assert_eq!(
            wellness(&health(well.clone())),
            "No warnings. 2 % of its rated life used, 100 % spare. 34 °C now."
        );
        let limit = Health { warning_temperature: Some(Celsius::new(84.0)), ..health(well.clone()) };
        assert!(wellness(&limit).ends_with("34 °C now, warns at 84 °C."));
        let ill = Health {
            warnings: vec!["spare below its threshold".into(), "read only".into()],
            ..health(Vitals { media_errors: Some(1_200), ..well })
        };
        let told = wellness(&ill);
        assert!(told.starts_with("It warns: spare below its threshold; read only."), "{told}");
        assert!(told.contains("1 200 media errors"), "{told}");
    }

    #[test]
    fn what_cannot_be_asked_is_said() {
        assert_eq!(wellness(&Health::default()), "Nothing is known of its health: it cannot be asked.");
        assert_eq!(wellness(&health(Vitals::default())), "It tells little of its health by NVMe.");
        assert_eq!(self_tests(&Health::default()), ["self-test: the drive offers none"]);
        let never = Health { self_test_supported: true, ..Health::default() };
        assert_eq!(self_tests(&never), ["self-test: none has been run"]);
    }

    #[test]
    fn self_tests_are_told_newest_first_with_the_one_that_runs() {
        let result = SelfTestResult {
            kind: SelfTestKind::Extended,
            words: "failed".into(),
            failing_lba: Some(77),
            power_on_hours: 1_000,
            passed: false,
        };
        let log = SelfTestLog { running: Some((SelfTestKind::Short, 40)), results: vec![result] };
        let lines = self_tests(&Health { self_test_supported: true, self_tests: log, ..Health::default() });
        assert_eq!(lines.len(), 2, "{lines:?}");
        assert!(lines[0].ends_with("self-test is running, 40 % done"), "{lines:?}");
        assert!(lines[1].contains("failed at block 77, after 1000 h of power"), "{lines:?}");
    }
}
