//! A leg in a line for people.

use super::leg::{Leg, LegKind, SelfTestLength};
use crate::drive::Pattern;
use crate::drive::erasure::Erasure;
use crate::drive::freight::Side;
use crate::quantity::plain::Plain;
use crate::quantity::text::named;

impl Leg {
    /// `4 KiB`, or `512 B to 64 KiB`.
    fn size_words(&self) -> String {
        let sizes = || self.mix.iter().map(|s| s.block);
        match (sizes().min(), sizes().max()) {
            (Some(least), Some(most)) if least < most => format!("{} to {}", least.binary(), most.binary()),
            (Some(one), _) => one.binary(),
            _ => self.block.binary(),
        }
    }

    /// One line for people: `write 100 %, 1 MiB × 32`.
    #[must_use]
    pub fn words(&self) -> String {
        let mut ends: Vec<String> = Vec::new();
        if let Some(a) = self.until.bytes {
            ends.push(a.plain());
        }
        if let Some(d) = self.until.duration {
            ends.push(d.plain());
        }
        if let Some(t) = self.until.temperature {
            ends.push(format!("{} {t}", if self.kind == LegKind::Rest { "cooled to" } else { "at" }));
        }
        if let Some(b) = self.until.past_cache_end {
            ends.push(format!("{} past the cache end", b.plain()));
        }
        if self.until.steady {
            ends.push("steady".into());
        }
        let ends = ends.join(" or ");
        let word = self.kind.word();
        let for_so_long = if ends.is_empty() { String::new() } else { format!(" {ends}") };
        let many = |n: usize, one: &str| format!("{n} {one}{}", if n == 1 { "" } else { "s" });
        let mut words = match self.kind {
            LegKind::Rest => return format!("rest {ends}"),
            LegKind::Selftest => {
                return format!(
                    "selftest, {}",
                    if self.test == SelfTestLength::Short { "short" } else { "extended" }
                );
            }
            LegKind::Group => {
                return format!(
                    "group of {}, {}",
                    many(self.legs.len(), "leg"),
                    self.over.words(self.repeat, self.steady.is_some())
                );
            }
            LegKind::Breather => return format!("breather, {}", many(self.rests.len(), "rest")),
            LegKind::Wipe if self.by == Erasure::Discard => word.to_owned(),
            LegKind::Wipe => format!("wipe by {}", self.by),
            LegKind::Fill => format!("fill to {}", self.level.map(|l| l.plain()).unwrap_or_default()),
            LegKind::Scan => {
                let passes = many(self.passes().into(), "pass").replace("passs", "passes");
                format!("scan, {} {passes}, {} bins", self.operation.word(), self.bins())
            }
            LegKind::Spans => format!("spans, {} × {}", self.spans().len(), self.rounds()),
            LegKind::Ladder => format!("ladder, {}, {}", many(self.rungs(), "rung"), self.operation.word()),
            LegKind::Pace => {
                let stream = self.stream.clone().or(self.rate.map(|r| r.plain())).unwrap_or_default();
                let search = if self.search { "highest rate that holds, from " } else { "" };
                format!("pace{for_so_long}, {} {search}{stream}", self.operation.word())
            }
            LegKind::Verify => match self.sample {
                Some(part) => format!("verify {} of it", part.plain()),
                None => "verify".into(),
            },
            LegKind::Freight => {
                let what = match (&self.like, self.total, self.count) {
                    (Some(like), ..) => format!(" a tree like {}", named(like)),
                    (None, Some(total), _) => format!(" {} of files", total.plain()),
                    (None, None, Some(n)) => format!(" {}", many(n as usize, "file")),
                    (None, None, None) => " the tree".into(),
                };
                let at = if self.at == Side::Source { " at the source" } else { "" };
                format!("freight, {}{what}{at}", self.carry.word())
            }
            LegKind::Mixed => {
                let reads = self.read_percent.unwrap_or(50);
                format!("{word}{for_so_long}, {reads} % reads, {} × {}", self.size_words(), self.depth)
            }
            LegKind::Write | LegKind::Read => {
                format!("{word}{for_so_long}, {} × {}", self.size_words(), self.depth)
            }
        };
        if self.workers > 1 {
            words += &if self.kind == LegKind::Freight {
                format!(", {} files at once", self.workers)
            } else {
                format!(" by {} workers", self.workers)
            };
        }
        if self.pattern == Pattern::Random {
            words += ", random";
        }
        if !self.spread.is_empty() {
            let parts: Vec<String> = self.spread.iter().map(Plain::plain).collect();
            words += &format!(", {}", parts.join(", "));
        }
        if let Some(from) = self.region.from {
            words += &format!(", from {}", from.plain());
        }
        if let Some(to) = self.region.to {
            words += &format!(", up to {}", to.plain());
        }
        if let Some(rate) = self.rate.filter(|_| self.kind != LegKind::Pace) {
            words += &format!(", at most {rate}");
        }
        if self.stamped {
            words += ", stamped";
        }
        if let Some(every) = self.flush_every {
            words += &format!(", flushed every {}", every.binary());
        }
        if let Some(every) = self.lookout {
            words += &format!(", a lookout every {}", every.plain());
        }
        if let Some(turn) = &self.turn {
            words += &format!(" ({})", turn.label);
        }
        words
    }
}
