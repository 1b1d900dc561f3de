//! What earlier hauls of the same drive found: a cache ends at the same bytes again, whatever the temperature, and a slow stretch
//! is slow again.

use super::numbers::{APART, SAME};
use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::units::Celsius;
use crate::record::Earlier;

use super::{Judge, Step};

/// The short name of a haul.
fn short(haul: &str) -> &str {
    haul.get(..4).unwrap_or(haul)
}

impl Judge<'_> {
    /// Adds what earlier hauls say to a cache end; gives by how much less it is to be doubted.
    pub(super) fn recall_cache_end(&self, f: &mut Finding, step: &Step<'_>) -> f64 {
        let here = self.since_rest(&step.place).as_f64();
        let ends = self.cx.earlier.iter().filter(|e| e.kind == FindingKind::CacheEnd);
        let near = |e: &&Earlier| (e.bytes.as_f64() / here.max(1.0) - 1.0).abs() < SAME;
        let Some(same) = ends.clone().find(near) else {
            if let Some(other) = ends.clone().next() {
                f.evidence.push(format!(
                    "In haul {} it ended after {}: fill and rest may differ.",
                    short(&other.haul),
                    other.bytes
                ));
            }
            return 1.0;
        };
        let warm = step.temperature.zip(same.temperature.map(Celsius::degrees));
        let at = same
            .temperature
            .map_or_else(String::new, |t| format!(" at {}", Celsius::new(t.degrees().round())));
        let apart = warm.is_some_and(|(a, b)| (a - b).abs() >= APART);
        f.evidence.push(format!(
            "Same place in haul {}: {}{at}{}.",
            short(&same.haul),
            same.bytes,
            if apart { ", so it is the bytes and not the heat" } else { "" }
        ));
        if apart { 0.3 } else { 0.6 }
    }

    /// A drop at a place where an earlier haul was slow too is the place.
    pub(super) fn recall_place(&self, f: &mut Finding) {
        let (Some(from), Some(to)) = (f.position, f.position_end) else { return };
        let overlaps = |e: &&Earlier| {
            let (Some(a), Some(b)) = (e.position, e.position_end) else { return false };
            let common = to.min(b).saturating_sub(from.max(a)).as_f64();
            let longer = (to.saturating_sub(from)).max(b.saturating_sub(a)).as_f64();
            matches!(e.kind, FindingKind::SlowZone | FindingKind::Unexplained) && common > 0.6 * longer
        };
        let Some(same) = self.cx.earlier.iter().find(overlaps) else { return };
        if f.kind != FindingKind::Unexplained {
            return;
        }
        f.kind = FindingKind::SlowZone;
        f.confidence = 0.92;
        f.evidence.pop();
        f.evidence.push(format!("Slow there in haul {} as well: it is the place.", short(&same.haul)));
    }
}
