//! Where a drive is not like the others of its model: its figures against theirs, as they stood when the haul began
//! ([`Sisters`]), and what theirs say of a finding.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};

use super::figures::figure;
use super::{Conclusions, Finding};
use crate::quantity::units::significant;
use crate::quantity::{FigureId, FigureKey, FindingKind};
use crate::readings::Readings;
use crate::record::HaulState;
use crate::record::held_to::{Expected, Sisters};

/// One drive in so many of a batch is odd, judged: what is told of one that looks odd is right the more seldom the rarer they are.
const ONE_IN: f64 = 50.0;
/// Student's t with more degrees of freedom is not gone by, however many drives there are: where every fifth drive of a model scatters three
/// times as much, 1.1 % of drives among 8 to 40 others would be called outliers, and 0.6 % are.
const MOST_FREEDOM: f64 = 14.0;
/// Told from this confidence on.
const SURE: f64 = 0.9;
const SUREST: f64 = 0.99;

/// A figure that is not like those of other drives.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Unlike {
    /// Which, and what the others show.
    #[serde(flatten)]
    pub expected: Expected,
    /// What this haul shows.
    pub value: f64,
    /// How many standard deviations of one further drive it lies from their mean.
    pub deviations: f64,
}

/// How sure it is that a drive so far away, in the furthest of so many figures, is none of theirs. An upper bound of what such a
/// distance is worth against chance, −e p ln p (T. Sellke, M. J. Bayarri and J. O. Berger, The American Statistician 55, 2001), with one
/// drive in [`ONE_IN`] odd.
fn confidence(deviations: f64, drives: usize, figures: usize) -> f64 {
    let Ok(t) = StudentsT::new(0.0, 1.0, (drives as f64 - 1.0).min(MOST_FREEDOM)) else { return 0.0 };
    let p = (2.0 * t.cdf(-deviations.abs()) * figures as f64).max(1e-300);
    // From 1/e on the bound says nothing.
    if p >= 1.0 / std::f64::consts::E {
        return 0.0;
    }
    let against = -std::f64::consts::E * p * p.ln();
    (1.0 / (1.0 + (ONE_IN - 1.0) * against)).min(SUREST)
}

fn against(expected: &Expected, value: f64) -> Unlike {
    let deviations = (value - expected.mean) / expected.deviation.max(f64::MIN_POSITIVE);
    Unlike { expected: expected.clone(), value, deviations }
}

impl Unlike {
    /// It differs by more than is taken for the same.
    fn matters(&self) -> bool {
        let FigureKey::Of(id) = self.expected.figure else { return false };
        let gap = (self.value - self.expected.mean).abs();
        id.quantity().margin(self.expected.mean).is_none_or(|m| gap > m)
    }

    fn words(&self, sisters: &Sisters) -> String {
        let FigureKey::Of(id) = self.expected.figure else { return String::new() };
        let words = |v: f64| id.quantity().words(v);
        format!(
            "{} {}; {} {} to {}, this one {} deviations from their mean.",
            id.name(),
            words(self.value),
            others(sisters, self.expected.drives),
            words(self.expected.low),
            words(self.expected.high),
            significant((self.deviations.abs() * 10.0).round() / 10.0)
        )
    }
}

/// `40 other drives of this model and firmware`.
fn others(sisters: &Sisters, drives: usize) -> String {
    let of = if sisters.same_firmware { "model and firmware" } else { "model" };
    format!("{drives} other drives of this {of}")
}

/// Figures that speak of a kind of finding, what says most first.
const fn speak_of(kind: FindingKind) -> &'static [FigureId] {
    match kind {
        FindingKind::CacheEnd => &[FigureId::Cache, FigureId::Sustained],
        FindingKind::Throttle => &[FigureId::UntilItThrottles, FigureId::Hottest],
        FindingKind::SlowZone => &[FigureId::SlowStretches, FigureId::MeanOverTheGround],
        FindingKind::HostLimit | FindingKind::Unexplained => &[FigureId::Sustained, FigureId::Mean],
        FindingKind::KeptWaiting => &[FigureId::LookoutP99],
        FindingKind::Bottleneck => &[FigureId::FreightRate],
        FindingKind::FillSlowdown
        | FindingKind::Background
        | FindingKind::OtherTraffic
        | FindingKind::MediaError
        | FindingKind::DataMismatch
        | FindingKind::WriteBack
        | FindingKind::OffForecast
        | FindingKind::Outlier => &[],
    }
}

/// Each figure against those of other drives, and how sure it is that it is not like them.
fn compared(sisters: &Sisters, figure: impl Fn(FigureId) -> Option<f64>) -> Vec<(FigureId, Unlike, f64)> {
    let one = |e: &Expected| {
        let FigureKey::Of(id) = e.figure else { return None };
        let unlike = against(e, figure(id).filter(|v| v.is_finite())?);
        let sure = || confidence(unlike.deviations, e.drives, sisters.figures.len());
        let sure = if unlike.matters() { sure() } else { 0.0 };
        Some((id, unlike, sure))
    };
    sisters.figures.iter().filter_map(one).collect()
}

fn odd(compared: Vec<(FigureId, Unlike, f64)>) -> Vec<(Unlike, f64)> {
    let mut odd: Vec<(Unlike, f64)> =
        compared.into_iter().filter(|c| c.2 >= SURE).map(|(_, unlike, sure)| (unlike, sure)).collect();
    odd.sort_by(|a, b| b.0.deviations.abs().total_cmp(&a.0.deviations.abs()));
    odd
}

/// Figures in which a drive is not like its sisters, the oddest first, each with how sure that is.
#[must_use]
pub fn odd_among(sisters: &Sisters, figure: impl Fn(FigureId) -> Option<f64>) -> Vec<(Unlike, f64)> {
    odd(compared(sisters, figure))
}

/// Tells where a haul that came to its end is not like those of other drives, and lets theirs speak of its other findings.
pub(super) fn apply(readings: &Readings, conclusions: &mut Conclusions) {
    let Some(sisters) = readings.head().and_then(|h| h.held_to.sisters.as_ref()) else { return };
    let Some((ended, HaulState::Done, _)) = readings.ended() else { return };
    // What a leg that was cut short tells is another figure.
    if !conclusions.cut_legs.is_empty() {
        return;
    }
    let all = compared(sisters, |id| figure(id, readings, conclusions));
    let mut told: Vec<FindingKind> = Vec::new();
    for finding in &mut conclusions.findings {
        // A figure is that of the first of a kind.
        if told.contains(&finding.kind) {
            continue;
        }
        told.push(finding.kind);
        let speaks = speak_of(finding.kind).iter().find_map(|id| all.iter().find(|a| a.0 == *id));
        if let Some((id, unlike, sure)) = speaks {
            let e = &unlike.expected;
            let words = |v: f64| id.quantity().words(v);
            let how = if *sure >= SURE { "not like them" } else { "like them" };
            finding.evidence.push(format!(
                "{}: {} {} to {}; {how}, {} here.",
                others(sisters, e.drives),
                id.name(),
                words(e.low),
                words(e.high),
                words(unlike.value)
            ));
        }
    }
    let unlike = odd(all);
    let Some(surest) = unlike.iter().map(|u| u.1).reduce(f64::max) else { return };
    let written = readings.written();
    conclusions.findings.push(Finding {
        elapsed: *ended,
        written,
        written_low: written,
        written_high: written,
        confidence: surest,
        evidence: unlike.iter().map(|(u, _)| u.words(sisters)).collect(),
        unlike: unlike.into_iter().map(|(u, _)| u).collect(),
        ..Finding::new(FindingKind::Outlier)
    });
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::conclude::limits::{self, Verdict};
    use crate::drive::{DriveIdentity, DriveKind};
    use crate::quantity::units::Bytes;
    use crate::record::held_to::HeldTo;
    use crate::record::{Event, HaulHead, Sample};
    use crate::route::Route;

    /// A haul of 2 GB at this rate among forty drives that sustain 1,000 MB/s give or take 10.
    fn haul(mb_s: u64, state: Option<HaulState>) -> Readings {
        let expected = |figure| Expected {
            figure: FigureKey::Of(figure),
            drives: 40,
            mean: 1e9,
            deviation: 10e6,
            low: 980e6,
            high: 1021e6,
        };
        let sisters = Sisters {
            drives: 40,
            hauls: 52,
            same_firmware: true,
            figures: vec![expected(FigureId::Mean), expected(FigureId::Sustained)],
        };
        let route = Route::from_toml("name='x'\n[[leg]]\nkind='write'\nuntil={bytes='64 GB'}\n").unwrap();
        let drive = DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000));
        let mut r = Readings::new();
        r.push(&Event::HaulStarted(Box::new(HaulHead {
            held_to: HeldTo {
                limits: vec!["mean >= 950 MB/s".parse().unwrap()],
                sisters: Some(sisters),
                ..HeldTo::default()
            },
            ..HaulHead::plain("made", drive, route)
        })));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for i in 1..=200 {
            r.push(&Event::Sample(Sample {
                end: Duration::from_millis(i * 100),
                span: Duration::from_millis(100),
                written: Bytes::new(mb_s * 100_000),
                ..Sample::default()
            }));
        }
        if let Some(state) = state {
            r.push(&Event::HaulEnded { at: Duration::from_secs(20), state, reason: None });
        }
        r
    }

    #[test]
    fn a_drive_that_is_not_like_the_others_is_told_once_its_haul_is_over() {
        let c = haul(800, Some(HaulState::Done)).conclude();
        let found = c.findings.iter().find(|f| f.kind == FindingKind::Outlier).unwrap();
        assert_eq!((found.elapsed, found.unlike.len()), (Duration::from_secs(20), 2));
        assert!((found.unlike[0].deviations + 20.0).abs() < 0.01 && found.confidence > 0.98, "{found:?}");
        assert!(
            found.evidence[0].contains("40 other drives of this model and firmware 980 MB/s to 1 021 MB/s"),
            "{:?}",
            found.evidence
        );
        let none = |r: Readings| r.conclude().findings.iter().all(|f| f.kind != FindingKind::Outlier);
        // Within the others; beyond them by as little as is taken for the same; not over yet; stopped.
        assert!(none(haul(1005, Some(HaulState::Done))) && none(haul(1019, Some(HaulState::Done))));
        assert!(none(haul(800, None)) && none(haul(800, Some(HaulState::Stopped))));
    }

    #[test]
    fn a_standing_limit_is_judged_like_one_of_the_route() {
        for (rate, verdict) in [(1000, Verdict::Met), (800, Verdict::Missed)] {
            let r = haul(rate, Some(HaulState::Done));
            let judged = limits::judge(&r, &r.conclude());
            assert_eq!((judged.len(), judged[0].verdict, judged[0].standing), (1, verdict, true));
        }
    }

    #[test]
    fn how_sure_it_is_grows_with_distance_and_shrinks_with_figures() {
        // By hand, 40 drives: t = 8 with 14 degrees of freedom is 1.369e-6 on both sides; of ten figures p = 1.369e-5,
        // −e p ln p = 4.169e-4, 1 / (1 + 49 × 4.169e-4) = 0.97998. At t = 6 likewise 0.7418.
        for (deviations, sure) in [(8.0, 0.97998), (6.0, 0.7418)] {
            let found = confidence(deviations, 40, 10);
            assert!((found - sure).abs() < 1e-4, "{deviations}: {found}");
        }
        assert!(confidence(8.0, 40, 1000) < confidence(8.0, 40, 1));
        // Eight drives say less of what lies eight deviations from them.
        assert!(confidence(8.0, 8, 10) < SURE && confidence(8.0, 40, 10) > SURE);
        assert!(confidence(0.5, 40, 10).abs() < 1e-12);
        assert!(confidence(-30.0, 40, 10) <= SUREST);
    }
}
