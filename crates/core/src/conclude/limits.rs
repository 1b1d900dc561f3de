//! How the limits of a route stand.

use serde::Serialize;

use crate::quantity::FigureId;
use crate::quantity::units::{Celsius, clock};
use crate::readings::Readings;
use crate::route::Limit;

use super::{Conclusions, Finding, figure};

/// How a limit stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It holds.
    Met,
    /// It does not.
    Missed,
    /// The record does not say.
    Open,
}

impl Verdict {
    /// As on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Met => "met",
            Self::Missed => "missed",
            Self::Open => "open",
        }
    }
}

/// A limit with how it stands.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Judged {
    /// As it was written.
    pub limit: String,
    /// How it stands.
    pub verdict: Verdict,
    /// What was measured, with its unit, or why it is open.
    pub because: String,
    /// It is a standing one of the model, and not one of the route.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub standing: bool,
}

impl Limit {
    /// How it stands, given figures, findings and the air around the drive.
    #[must_use]
    pub fn judge(
        &self,
        figure: impl Fn(FigureId) -> Option<f64>,
        findings: &[Finding],
        ambient: Option<Celsius>,
    ) -> Judged {
        let (verdict, because) = match self {
            Self::ErrorsAllowed => (
                Verdict::Met,
                figure(FigureId::Errors).map_or_else(String::new, |n| FigureId::Errors.quantity().words(n)),
            ),
            Self::Figure { of, at_least, bound, .. } => match figure(*of) {
                Some(v) if (v >= *bound) == *at_least || v == *bound => {
                    (Verdict::Met, of.quantity().words(v))
                }
                Some(v) => (Verdict::Missed, of.quantity().words(v)),
                None => (Verdict::Open, "not measured".into()),
            },
            Self::No { kind, below_ambient, .. } => {
                let found = findings.iter().find(|f| kind.is_none_or(|k| f.kind == k));
                match (found, below_ambient.zip(ambient), below_ambient) {
                    (_, Some((below, now)), _) if now >= below => {
                        (Verdict::Open, format!("the air had {now}"))
                    }
                    (None, ..) => (Verdict::Met, "none found".into()),
                    (Some(_), None, Some(_)) => {
                        (Verdict::Open, "the ambient temperature was not stated".into())
                    }
                    (Some(f), ..) => {
                        let at = clock(f.elapsed);
                        (Verdict::Missed, format!("{} at {at}", f.kind.word()))
                    }
                }
            }
        };
        Judged { limit: self.text().to_owned(), verdict, because, standing: false }
    }
}

/// How the limits of the route stand, and then those of the model that the route does not have as well.
#[must_use]
pub fn judge(readings: &Readings, conclusions: &Conclusions) -> Vec<Judged> {
    let Some(head) = readings.head() else { return Vec::new() };
    let of = |id: FigureId| figure(id, readings, conclusions);
    let ambient = head.conditions.ambient;
    let judged = |l: &Limit| l.judge(of, &conclusions.findings, ambient);
    let standing = head.held_to.limits.iter().filter(|l| !head.route.limits.contains(l));
    head.route
        .limits
        .iter()
        .map(judged)
        .chain(standing.map(|l| Judged { standing: true, ..judged(l) }))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::FindingKind;

    fn judge(limit: &str, value: Option<f64>) -> Verdict {
        limit.parse::<Limit>().unwrap().judge(|_| value, &[], None).verdict
    }

    #[test]
    fn figures_are_judged_at_their_bound() {
        assert_eq!(judge("sustained >= 620 MB/s", Some(620e6)), Verdict::Met);
        assert_eq!(judge("sustained ≥ 620 MB/s", Some(619e6)), Verdict::Missed);
        assert_eq!(judge("hottest <= 70 °C", Some(71.0)), Verdict::Missed);
        assert_eq!(judge("longest stall < 2 s", Some(0.1)), Verdict::Met);
        assert_eq!(judge("cache >= 100 GB", None), Verdict::Open);
        assert_eq!(judge("mismatches <= 0", Some(0.0)), Verdict::Met);
    }

    #[test]
    fn a_finding_is_excused_by_warm_air() {
        let limit: Limit = "no throttle below 38 °C ambient".parse().unwrap();
        let finding = Finding::new(FindingKind::Throttle);
        let at = |degrees: Option<f64>| {
            limit.judge(|_| None, std::slice::from_ref(&finding), degrees.map(Celsius::new)).verdict
        };
        assert_eq!(
            (at(Some(24.0)), at(Some(40.0)), at(None)),
            (Verdict::Missed, Verdict::Open, Verdict::Open)
        );
        assert_eq!(limit.judge(|_| None, &[], None).verdict, Verdict::Met);
    }
}
