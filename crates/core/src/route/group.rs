//! Groups: legs repeated over levels of fill, regions, block sizes, depths, or a number of times; and how a route is laid
//! out flat before it is run, so that every leg of the record is one that can be done.

use serde::{Deserialize, Serialize};

use super::Route;
use super::amount::{Amount, Region};
use super::leg::{Leg, LegKind, Until};
use super::rounds::Round;
use crate::quantity::plain;
use crate::quantity::plain::Plain;
use crate::quantity::units::Bytes;

/// Over what the legs of a group are repeated: one of these, or none.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Over {
    /// Levels of fill, rising; the drive is brought to each.
    #[serde(with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub fill: Vec<Amount>,
    /// Parts of the drive.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub region: Vec<Region>,
    /// Sizes of an operation.
    #[serde(with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub block: Vec<Bytes>,
    /// Operations in flight.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub depth: Vec<u32>,
}

impl Over {
    /// How many of the lists have something in them.
    #[must_use]
    pub fn lists(&self) -> usize {
        [self.fill.len(), self.region.len(), self.block.len(), self.depth.len()]
            .iter()
            .filter(|n| **n > 0)
            .count()
    }

    fn rounds(&self) -> usize {
        self.fill.len() + self.region.len() + self.block.len() + self.depth.len()
    }

    pub(super) fn words(&self, repeat: Option<u32>, steady: bool) -> String {
        if steady {
            return format!("until steady, {} rounds at most", repeat.unwrap_or(1));
        }
        let what = match (self.fill.len(), self.region.len(), self.block.len(), self.depth.len()) {
            (0, 0, 0, 0) => return format!("{} times", repeat.unwrap_or(1)),
            (_, 0, 0, 0) => format!("at {} levels of fill", self.fill.len()),
            (0, _, 0, 0) => format!("over {} regions", self.region.len()),
            (0, 0, _, 0) => format!("over {} block sizes", self.block.len()),
            _ => format!("over {} depths", self.depth.len()),
        };
        repeat.map_or_else(|| what.clone(), |n| format!("{what}, {n} times each"))
    }
}

/// Which turn of a group a leg is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Turn {
    /// Number of the leg as it was written, from 0; those of other turns have the same. `None` for what a group does
    /// of itself: bringing the drive to a level, and settling.
    pub part: Option<u16>,
    /// Which turn, from 0, over all groups around it.
    pub round: u16,
    /// `30 % full`, `round 2 of 3`.
    pub label: String,
    /// The level of fill, percent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fill_percent: Option<f64>,
    /// Which round of a group that goes on until it is steady.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rounds: Option<Round>,
}

/// Legs of a route that is laid out.
pub const MOST_LEGS: usize = 20_000;

/// How many legs a route has when it is laid out, reckoned and not laid out: repeats within repeats are soon more than any
/// machine counts to. A turn that brings nothing counts as one.
pub(super) fn legs_when_laid_out(legs: &[Leg]) -> u64 {
    let of = |leg: &Leg| {
        let times = u64::from(leg.repeat.unwrap_or(1).max(1));
        match leg.kind {
            LegKind::Group => {
                let turns = leg.over.rounds().max(1) as u64;
                let own = leg.over.fill.len() as u64 * (1 + u64::from(leg.settle.is_some()));
                let inside = legs_when_laid_out(&leg.legs).max(1);
                turns.saturating_mul(times).saturating_mul(inside).saturating_add(own)
            }
            LegKind::Breather => 1 + 2 * leg.rests.len() as u64,
            LegKind::Spans => 1,
            _ => times,
        }
    };
    legs.iter().map(of).fold(0, u64::saturating_add)
}

fn percent(level: Amount) -> Option<f64> {
    match level {
        Amount::Percent(p) => Some(p),
        Amount::Bytes(_) => None,
    }
}

struct Layout {
    legs: Vec<Leg>,
    parts: u16,
    /// Fill levels bound the region on a drive; on a file system the file stays as it is.
    bound: bool,
    rounds: u16,
    /// Groups of rounds that were laid out.
    steady_groups: u16,
}

#[derive(Clone, Default)]
struct Around {
    labels: Vec<String>,
    fill: Option<Amount>,
    region: Option<Region>,
    block: Option<Bytes>,
    depth: Option<u32>,
    round: Option<u16>,
}

impl Around {
    fn turn(&self, part: Option<u16>) -> Option<Turn> {
        self.round.map(|round| Turn {
            part,
            round,
            label: self.labels.join(", "),
            fill_percent: self.fill.and_then(percent),
            rounds: None,
        })
    }
}

impl Layout {
    fn add(&mut self, leg: Leg) {
        // Whoever checks the route counts; here is only kept from running away.
        if self.legs.len() <= MOST_LEGS {
            self.legs.push(leg);
        }
    }

    fn group(&mut self, group: &Leg, around: &Around) {
        let turns = group.over.rounds().max(1);
        let times = group.repeat.unwrap_or(1).max(1);
        let first_part = self.parts;
        let steady = group.steady.clone().map(|s| (s, self.steady_groups));
        self.steady_groups += u16::from(steady.is_some());
        for turn in 0..turns {
            let mut here = around.clone();
            here.round = Some(self.rounds);
            let over = &group.over;
            if let Some(level) = over.fill.get(turn) {
                here.fill = Some(*level);
                here.labels.push(format!("{} full", level.plain()));
                let fill = Leg { level: Some(*level), ..Leg::new(LegKind::Fill) };
                self.add(Leg { turn: here.turn(None), ..fill });
                if let Some(settle) = group.settle {
                    let until = Until { duration: Some(settle), ..Until::default() };
                    self.add(Leg { turn: here.turn(None), until, ..Leg::new(LegKind::Rest) });
                }
            } else if let Some(region) = over.region.get(turn) {
                here.region = Some(*region);
                here.labels.push(format!("region {} of {turns}", turn + 1));
            } else if let Some(block) = over.block.get(turn) {
                here.block = Some(*block);
                here.labels.push(block.binary());
            } else if let Some(depth) = over.depth.get(turn) {
                here.depth = Some(*depth);
                here.labels.push(format!("depth {depth}"));
            }
            for time in 0..times {
                let mut here = here.clone();
                if times > 1 {
                    here.labels.push(format!("round {} of {times}", time + 1));
                }
                here.round = Some(self.rounds);
                self.rounds += 1;
                // The same numbers in every turn: that is what makes the turns comparable.
                self.parts = first_part;
                let first = self.legs.len();
                for leg in &group.legs {
                    self.leg(leg, &here);
                }
                let Some((steady, group)) = steady.clone() else { continue };
                for (place, leg) in self.legs[first..].iter_mut().enumerate() {
                    let (number, most, place) = (time as u16, times as u16, place as u16);
                    if let Some(turn) = &mut leg.turn {
                        turn.rounds = Some(Round { group, number, most, place, steady: steady.clone() });
                    }
                }
            }
        }
    }

    fn leg(&mut self, leg: &Leg, around: &Around) {
        if leg.kind == LegKind::Group {
            return self.group(leg, around);
        }
        let part = self.parts;
        self.parts += 1;
        let mut leg = leg.clone();
        leg.block = around.block.unwrap_or(leg.block);
        leg.depth = around.depth.unwrap_or(leg.depth);
        if leg.region == Region::default() {
            leg.region = around.region.unwrap_or_default();
            if self.bound && leg.kind.moves() && leg.kind != LegKind::Fill {
                leg.region.to = leg.region.to.or(around.fill);
            }
        }
        if leg.kind == LegKind::Breather {
            return self.breather(&leg, around, part);
        }
        // Spans repeat inside the leg.
        let times = if leg.kind == LegKind::Spans { 1 } else { leg.repeat.take().unwrap_or(1).max(1) };
        for time in 0..times {
            let mut here = around.clone();
            if times > 1 {
                here.labels.push(format!("repeat {} of {times}", time + 1));
                here.round = here.round.or(Some(0));
            }
            let turn = here.turn(Some(part)).or_else(|| leg.turn.clone());
            self.add(Leg { turn, ..leg.clone() });
        }
    }

    /// A first write to the end of the cache, then each rest and a write after it.
    fn breather(&mut self, leg: &Leg, around: &Around, part: u16) {
        let write = Leg { kind: LegKind::Write, rests: Vec::new(), ..leg.clone() };
        self.add(Leg { turn: around.turn(Some(part)), ..write.clone() });
        for rest in &leg.rests {
            let until = Until { duration: Some(*rest), ..Until::default() };
            let lookout = leg.lookout;
            self.add(Leg { turn: around.turn(None), until, lookout, ..Leg::new(LegKind::Rest) });
            self.add(Leg { turn: around.turn(Some(part)), ..write.clone() });
        }
    }
}

/// What a route is laid out for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LaidOn {
    /// A whole drive, which fills bring to a level.
    Drive,
    /// A file, beside which fills bring its file system to a level.
    FileSystem,
}

impl LaidOn {
    /// For a target that is a file, or else for a drive.
    #[must_use]
    pub const fn file_system_if(is_file: bool) -> Self {
        if is_file { Self::FileSystem } else { Self::Drive }
    }
}

impl Route {
    /// The route with its groups and repeats laid out one leg after the other, as it is run and recorded. A route that is
    /// laid out already stays as it is. On a file system fills bring the file system to a level and leave the file of
    /// the haul as it is, else they also bound where the legs after them work.
    #[must_use]
    pub fn laid_out(&self, on: LaidOn) -> Self {
        let mut layout =
            Layout { legs: Vec::new(), parts: 0, bound: on == LaidOn::Drive, rounds: 0, steady_groups: 0 };
        for leg in &self.legs {
            layout.leg(leg, &Around::default());
        }
        Self { legs: layout.legs, ..self.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn route(text: &str) -> Route {
        Route::from_toml(text).unwrap()
    }

    #[test]
    fn a_group_is_laid_out_turn_by_turn() {
        let written = route(
            "name = \"x\"\n[[leg]]\nkind = \"group\"\nsettle = \"10 s\"\nrepeat = 2\nover = { fill = [\"10 %\", \"50 %\"] }\n\
             [[leg.leg]]\nkind = \"write\"\nuntil = { bytes = \"1 GB\" }\n[[leg.leg]]\nkind = \"read\"\nuntil = { bytes = \"1 GB\" }\n\
             [[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }\n",
        );
        let flat = written.laid_out(LaidOn::Drive);
        let words: Vec<String> = flat.legs.iter().map(Leg::words).collect();
        assert_eq!(flat.legs.len(), 2 * (2 + 2 * 2) + 1, "{words:#?}");
        assert_eq!(words[0], "fill to 10 % (10 % full)");
        assert_eq!(words[2], "write 1 GB, 1 MiB × 32, up to 10 % (10 % full, round 1 of 2)");
        let parts: Vec<Option<u16>> =
            flat.legs.iter().map(|l| l.turn.as_ref().and_then(|t| t.part)).collect();
        assert_eq!(&parts[..6], [None, None, Some(0), Some(1), Some(0), Some(1)]);
        let on_file = written.laid_out(LaidOn::FileSystem);
        assert_eq!(on_file.legs[2].region, Region::default(), "the file stays as it is");
        assert_eq!(flat.laid_out(LaidOn::Drive), flat, "laying out twice changes nothing");
        assert_eq!(Route::from_toml(&flat.to_toml().unwrap()).unwrap(), flat);
    }

    #[test]
    fn a_breather_rests_before_every_write_but_the_first() {
        let flat = route(
            "name = \"x\"\n[[leg]]\nkind = \"breather\"\nrests = [\"1 min\", \"4 min\"]\nuntil = { past_cache_end = \"1 GB\" }\n",
        )
        .laid_out(LaidOn::Drive);
        let kinds: Vec<LegKind> = flat.legs.iter().map(|l| l.kind).collect();
        assert_eq!(kinds, [LegKind::Write, LegKind::Rest, LegKind::Write, LegKind::Rest, LegKind::Write]);
    }

    #[test]
    fn every_leg_of_a_round_says_which_it_is() {
        let flat = route(
            "name = \"x\"\n[[leg]]\nkind = \"group\"\nrepeat = 6\nsteady = { legs = [3, 1], figure = \"mean-latency\" }\n\
             [[leg.leg]]\nkind = \"group\"\nover = { block = [\"4 KiB\", \"1 MiB\"] }\n[[leg.leg.leg]]\nkind = \"read\"\nuntil = { duration = \"1 min\" }\n\
             [[leg.leg]]\nkind = \"write\"\nuntil = { duration = \"1 min\" }\n\
             [[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }\n",
        )
        .laid_out(LaidOn::Drive);
        assert_eq!(flat.legs.len(), 6 * 3 + 1);
        let rounds: Vec<_> =
            flat.legs.iter().map(|l| l.turn.as_ref().and_then(|t| t.rounds.clone())).collect();
        for (i, round) in rounds[..18].iter().map(|r| r.clone().unwrap()).enumerate() {
            assert_eq!((usize::from(round.number), usize::from(round.place)), (i / 3, i % 3));
            assert_eq!((round.most, round.followed()), (6, [Some(1), None, Some(0)][i % 3]));
        }
        assert_eq!(rounds[18], None);
        assert!(flat.legs[5].words().ends_with("(round 2 of 6)"), "{}", flat.legs[5].words());
        assert_eq!(Route::from_toml(&flat.to_toml().unwrap()).unwrap(), flat);
    }

    #[test]
    fn repeats_and_depths_change_what_they_say() {
        let flat = route(
            "name = \"x\"\n[[leg]]\nkind = \"group\"\nover = { depth = [1, 8] }\n[[leg.leg]]\nkind = \"read\"\nrepeat = 3\nuntil = { bytes = \"1 GB\" }\n",
        )
        .laid_out(LaidOn::Drive);
        let depths: Vec<u32> = flat.legs.iter().map(|l| l.depth).collect();
        assert_eq!(depths, [1, 1, 1, 8, 8, 8]);
        assert!(flat.legs[5].words().ends_with("(depth 8, repeat 3 of 3)"), "{}", flat.legs[5].words());
    }
}
