//! What is to be said first of what was found: likes together, the gravest first. Values; the words are with whoever says them.

use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, clock};

/// Findings of one kind, in order of time.
#[derive(Debug, Clone, PartialEq)]
pub struct Likes<'a> {
    /// Of which kind.
    pub kind: FindingKind,
    /// At least one.
    pub all: Vec<&'a Finding>,
}

/// How grave a kind is, the gravest first: data wrong, errors, heat, the cache, slow places, the rest.
const fn gravity(kind: FindingKind) -> u8 {
    match kind {
        FindingKind::DataMismatch => 0,
        FindingKind::MediaError => 1,
        FindingKind::Throttle => 2,
        FindingKind::CacheEnd => 3,
        FindingKind::SlowZone => 4,
        FindingKind::FillSlowdown => 5,
        FindingKind::OtherTraffic => 6,
        FindingKind::HostLimit => 7,
        FindingKind::Background => 8,
        FindingKind::Bottleneck => 9,
        FindingKind::WriteBack => 10,
        FindingKind::KeptWaiting => 11,
        FindingKind::OffForecast => 12,
        FindingKind::Outlier => 13,
        FindingKind::Unexplained => 14,
    }
}

/// A finding of this kind says that the rate was not the same all the time.
#[must_use]
pub const fn changes_the_rate(kind: FindingKind) -> bool {
    match kind {
        FindingKind::CacheEnd
        | FindingKind::Throttle
        | FindingKind::SlowZone
        | FindingKind::FillSlowdown
        | FindingKind::Background
        | FindingKind::OtherTraffic
        | FindingKind::MediaError
        | FindingKind::WriteBack
        | FindingKind::Unexplained => true,
        // The first two hold a rate down as a whole, the next two say nothing of rates, the last two are of other hauls' rates.
        FindingKind::HostLimit
        | FindingKind::Bottleneck
        | FindingKind::DataMismatch
        | FindingKind::KeptWaiting
        | FindingKind::OffForecast
        | FindingKind::Outlier => false,
    }
}

/// Whether a contrast tells in its answer what became of findings of this kind; of the others its table does.
#[must_use]
pub const fn answers_a_contrast(kind: FindingKind) -> bool {
    match kind {
        FindingKind::CacheEnd | FindingKind::Throttle | FindingKind::SlowZone => true,
        FindingKind::FillSlowdown
        | FindingKind::Background
        | FindingKind::OtherTraffic
        | FindingKind::HostLimit
        | FindingKind::MediaError
        | FindingKind::DataMismatch
        | FindingKind::Bottleneck
        | FindingKind::WriteBack
        | FindingKind::KeptWaiting
        | FindingKind::OffForecast
        | FindingKind::Outlier
        | FindingKind::Unexplained => false,
    }
}

/// Findings by kind, the gravest kind first.
#[must_use]
pub fn likes(findings: &[Finding]) -> Vec<Likes<'_>> {
    let mut kinds = FindingKind::ALL;
    kinds.sort_by_key(|k| gravity(*k));
    kinds
        .into_iter()
        .map(|kind| Likes { kind, all: findings.iter().filter(|f| f.kind == kind).collect() })
        .filter(|l| !l.all.is_empty())
        .collect()
}

/// Where a finding lies, on the ruler that tells most of its kind: bytes written, where any were; else its address; else its time.
#[must_use]
pub fn place_words(f: &Finding) -> String {
    let by_address =
        matches!(f.kind, FindingKind::SlowZone | FindingKind::MediaError | FindingKind::DataMismatch)
            || f.written == Bytes::ZERO;
    match f.position.filter(|_| by_address) {
        Some(p) => p.to_string(),
        None if f.written > Bytes::ZERO => f.written.to_string(),
        None => clock(f.elapsed),
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn the_gravest_kind_is_first_and_likes_are_together() {
        let of = |kind, s| Finding { elapsed: Duration::from_secs(s), ..Finding::new(kind) };
        let all = [
            of(FindingKind::Unexplained, 1),
            of(FindingKind::CacheEnd, 2),
            of(FindingKind::MediaError, 3),
            of(FindingKind::CacheEnd, 4),
            of(FindingKind::DataMismatch, 5),
        ];
        let told: Vec<(FindingKind, usize)> = likes(&all).iter().map(|l| (l.kind, l.all.len())).collect();
        assert_eq!(
            told,
            [
                (FindingKind::DataMismatch, 1),
                (FindingKind::MediaError, 1),
                (FindingKind::CacheEnd, 2),
                (FindingKind::Unexplained, 1)
            ]
        );
    }

    #[test]
    fn a_place_is_told_on_the_ruler_that_has_one() {
        let mut f = Finding { elapsed: Duration::from_secs(90), ..Finding::new(FindingKind::Throttle) };
        assert_eq!(place_words(&f), "0:01:30", "nothing was written, and no address is known");
        f.position = Some(Bytes::from_gb(3));
        assert_eq!(place_words(&f), "3 GB", "a read haul has addresses");
        f.written = Bytes::from_gb(7);
        assert_eq!(place_words(&f), "7 GB");
        f.kind = FindingKind::MediaError;
        assert_eq!(place_words(&f), "3 GB");
    }
}
