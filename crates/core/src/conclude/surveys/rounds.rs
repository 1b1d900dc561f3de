//! Groups whose rounds go on until a figure is steady: how it settled, the measurement window, and what each leg of a round gave in it.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::quantity::stats::{Repeated, histogram_quantile};
use crate::quantity::steady::{Steadiness, WINDOW, first_steady_of_all, newest_inside, window_of_all};
use crate::quantity::units::{Bytes, Rate, counted, latency};
use crate::readings::rounds::mean_ns;
use crate::readings::{LegReading, Readings};
use crate::route::{Followed, Leg, LegKind, Round, Until};

/// Shares of operations at which it is told how long the slower ones take: to five nines.
const SLOWER: [f64; 15] =
    [0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001, 5e-4, 2e-4, 1e-4, 5e-5, 2e-5, 1e-5];

/// One leg of a round, over the rounds of the measurement window; over the last five where there is none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LegOfRound {
    /// Which leg of the round, from 1.
    pub leg: u16,
    /// The leg in words, without its round.
    pub measure: String,
    /// Which way the bytes go.
    pub kind: LegKind,
    /// Share of operations that read, percent.
    pub read_percent: u8,
    /// Size of an operation, bytes; of several sizes their mean.
    pub block_bytes: u64,
    /// Operations in flight, by all workers together.
    pub depth: u32,
    /// Threads that issue them.
    pub workers: u32,
    /// Mean rate, MB/s, with its interval over the rounds.
    pub mb_s: Repeated,
    /// Operations per second.
    pub operations_per_s: f64,
    /// Mean latency of all operations of the window, µs.
    pub mean_us: f64,
    /// Quantiles of their latency, µs: 99 %, 99.9 %, 99.999 %, and the longest.
    pub p99_us: f64,
    /// 99.9 %.
    pub p999_us: f64,
    /// 99.999 %; needs 100,000 operations.
    pub p99999_us: Option<f64>,
    /// The longest.
    pub longest_us: f64,
    /// Operations that were timed.
    pub operations: u64,
    /// How long the slowest of them take: latency in µs, and the share of operations that takes longer; from half of them to one in 100,000,
    /// as far as there are so many.
    #[serde(default)]
    pub slower: Vec<(f64, f64)>,
}

/// A leg whose figure is followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FollowedLeg {
    /// Which leg of the round, from 1.
    pub leg: u16,
    /// Which leg, in words.
    pub of: String,
    /// Its figure in each round so far: MB/s, or µs. `None` where it did not run to its end.
    pub values: Vec<Option<f64>>,
    /// How steady it is in the measurement window, or else over the last five rounds.
    pub steadiness: Option<Steadiness>,
    /// Its mean over the same.
    pub mean: Option<f64>,
}

/// One group of rounds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rounds {
    /// The figure that is followed.
    pub figure: Followed,
    /// Of these legs, the first of the route file first.
    pub followed: Vec<FollowedLeg>,
    /// Rounds that are over.
    pub rounds: usize,
    /// Rounds at most.
    pub most: u16,
    /// First round of the measurement window, from 0; `None` while there is none.
    pub window_from: Option<usize>,
    /// How many of the newest rounds, five at most, are steady together so far.
    #[serde(default)]
    pub inside: usize,
    /// What each leg of a round gave.
    pub legs: Vec<LegOfRound>,
}

/// What groups of rounds say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct RoundsSurvey {
    /// In the order of the route.
    pub groups: Vec<Rounds>,
}

impl Rounds {
    /// The rounds of the measurement window, or else the last five.
    #[must_use]
    pub fn window(&self) -> std::ops::Range<usize> {
        let from = self.window_from.unwrap_or_else(|| self.rounds.saturating_sub(WINDOW));
        from..(from + WINDOW).min(self.rounds)
    }

    /// The leg is one of those that are followed.
    #[must_use]
    pub fn follows(&self, leg: &LegOfRound) -> bool {
        self.followed.iter().any(|f| f.leg == leg.leg)
    }

    /// A value of the figure with its unit.
    #[must_use]
    pub fn value_words(&self, value: f64) -> String {
        match self.figure {
            Followed::Rate => Rate::from_mb_s(value).to_string(),
            Followed::MeanLatency | Followed::P99Latency => {
                latency(Duration::from_secs_f64(value.max(0.0) / 1e6))
            }
        }
    }

    /// What is told of a leg of the round, and in words: operations a second, or the latency that is followed in µs.
    #[must_use]
    pub fn told(&self, leg: &LegOfRound) -> (f64, String) {
        let time = |us: f64| (us, latency(Duration::from_secs_f64((us / 1e6).max(0.0))));
        match self.figure {
            Followed::Rate => (leg.operations_per_s, counted(leg.operations_per_s)),
            Followed::MeanLatency => time(leg.mean_us),
            Followed::P99Latency => time(leg.p99_us),
        }
    }

    /// In a sentence: whether it became steady, when, and at what.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let first = self.followed.first()?;
        let mean = self.value_words(first.mean?);
        let figure = self.figure.words();
        let what = format!("{figure} {mean} ({})", first.of);
        let worst = |of: fn(&Steadiness) -> f64| {
            self.followed.iter().filter_map(|f| f.steadiness.as_ref()).map(of).fold(0.0, f64::max) * 100.0
        };
        let (excursion, slope) = (worst(|s| s.excursion), worst(|s| s.slope));
        let many = self.followed.len();
        let of = if many > 1 { format!(" at most in {many} legs") } else { String::new() };
        Some(match self.window_from {
            Some(from) => format!(
                "Steady in rounds {} to {}: {what}; excursion {excursion:.1} %, slope {slope:.1} %{of}.",
                from + 1,
                from + WINDOW
            ),
            None if self.rounds >= usize::from(self.most) => format!(
                "Not steady after {} rounds: {what} over the last five; excursion {excursion:.0} %, slope {slope:.0} %{of}.",
                self.rounds
            ),
            None => format!(
                "Not steady so far: {} of {} rounds at most are over, the newest {} of the {WINDOW} that a window needs are steady together. {}.",
                self.rounds,
                self.most,
                self.inside,
                capital(&what)
            ),
        })
    }
}

fn capital(words: &str) -> String {
    let mut all = words.chars();
    all.next().map_or_else(String::new, |c| c.to_uppercase().chain(all).collect())
}

impl RoundsSurvey {
    /// One sentence a group.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        self.groups.iter().filter_map(Rounds::sentence).collect()
    }
}

/// The load of a leg: without its round, and without its end, which all of them share as a rule.
fn bare(leg: &Leg) -> Leg {
    Leg { turn: None, until: Until::default(), ..leg.clone() }
}

fn leg_of_round(readings: &Readings, place: u16, legs: &[&LegReading]) -> Option<LegOfRound> {
    let leg = readings.leg(legs.first()?.leg)?;
    let rates: Vec<f64> = legs.iter().filter_map(|l| Some(readings.rate_of(l)?.mb_s())).collect();
    let mb_s = Repeated::of(&rates)?;
    let mut all = std::collections::BTreeMap::<u64, u64>::new();
    for (value, count) in legs.iter().filter_map(|l| l.ended.as_ref()).flat_map(|(_, _, s)| &s.histogram) {
        *all.entry(*value).or_default() += count;
    }
    let histogram: Vec<(u64, u64)> = all.into_iter().collect();
    let operations = histogram.iter().map(|(_, n)| n).sum();
    let us = |q: f64| histogram_quantile(&histogram, q).unwrap_or(0.0) / 1e3;
    Some(LegOfRound {
        leg: place + 1,
        measure: bare(leg).words(),
        kind: leg.kind,
        read_percent: match leg.kind {
            LegKind::Read => 100,
            LegKind::Mixed => leg.read_percent.unwrap_or(50),
            _ => 0,
        },
        block_bytes: leg.mean_block().get(),
        depth: leg.depth,
        workers: leg.workers,
        operations_per_s: mb_s.mean * 1e6 / leg.mean_block().as_f64(),
        mb_s,
        mean_us: mean_ns(&histogram).unwrap_or(0.0) / 1e3,
        p99_us: us(0.99),
        p999_us: us(0.999),
        p99999_us: (operations >= 100_000).then(|| us(0.99999)),
        longest_us: histogram.last().map_or(0.0, |l| l.0 as f64 / 1e3),
        slower: SLOWER
            .into_iter()
            .take_while(|share| share * operations as f64 >= 1.0)
            .map(|share| (us(1.0 - share), share))
            .collect(),
        operations,
    })
}

/// What the groups of rounds of a record say so far.
#[must_use]
pub fn survey(readings: &Readings) -> Option<RoundsSurvey> {
    let of: Vec<(&LegReading, &Round)> =
        readings.legs().iter().filter_map(|l| Some((l, readings.round_of(l)?))).collect();
    let groups: Vec<Rounds> =
        of.chunk_by(|a, b| a.1.group == b.1.group).filter_map(|group| rounds(readings, group)).collect();
    (!groups.is_empty()).then_some(RoundsSurvey { groups })
}

fn rounds(readings: &Readings, of: &[(&LegReading, &Round)]) -> Option<Rounds> {
    let round = of.first()?.1;
    let figure = round.steady.figure;
    let scale = if figure == Followed::Rate { 1e6 } else { 1e3 };
    let figures: Vec<Vec<Option<f64>>> = readings
        .rounds(round)
        .into_iter()
        .map(|f| f.into_iter().map(|v| v.map(|v| v / scale)).collect())
        .collect();
    let mut all = Rounds {
        figure,
        followed: Vec::new(),
        rounds: figures.iter().map(Vec::len).min().unwrap_or(0),
        most: round.most,
        window_from: first_steady_of_all(&figures),
        inside: newest_inside(&figures),
        legs: Vec::new(),
    };
    let within = all.window();
    let steady = window_of_all(&figures, within.start);
    let route = readings.head()?.route.legs.as_slice();
    let words = |which: usize| {
        let is = |l: &&Leg| {
            let turn = l.turn.as_ref().and_then(|t| t.rounds.as_ref());
            turn.is_some_and(|r| r.group == round.group && r.followed() == Some(which))
        };
        route.iter().find(is).map(|l| bare(l).words()).unwrap_or_default()
    };
    all.followed = figures
        .into_iter()
        .enumerate()
        .map(|(i, values)| {
            let inside: Vec<f64> =
                values.get(within.clone()).unwrap_or(&[]).iter().copied().flatten().collect();
            FollowedLeg {
                leg: round.steady.legs[i],
                of: words(i),
                steadiness: steady.as_ref().and_then(|s| s.get(i).copied()),
                mean: Repeated::of(&inside).map(|r| r.mean),
                values,
            }
        })
        .collect();
    let places = of.iter().map(|(_, r)| r.place).max().unwrap_or(0);
    let over = |(l, r): &&(&LegReading, &Round), place: u16| {
        r.place == place && within.contains(&usize::from(r.number)) && l.ended.is_some()
    };
    all.legs = (0..=places)
        .filter_map(|place| {
            let legs: Vec<&LegReading> = of.iter().filter(|l| over(l, place)).map(|(l, _)| *l).collect();
            leg_of_round(readings, place, &legs)
        })
        .collect();
    Some(all)
}

/// The legs of a round in rows and columns, by the two things in which they differ most.
#[derive(Debug)]
pub struct RoundGrid<'a> {
    /// What the rows are, and each of them.
    pub rows: (&'static str, Vec<String>),
    /// What the columns are, and each of them.
    pub columns: (&'static str, Vec<String>),
    /// Row by row.
    pub cells: Vec<Vec<Option<&'a LegOfRound>>>,
}

/// Something in which legs of a round may differ.
struct Differs {
    name: &'static str,
    of: fn(&LegOfRound) -> u64,
    words: fn(u64) -> String,
}

const DIFFERS: [Differs; 4] = [
    Differs { name: "block", of: |l| l.block_bytes, words: |v| Bytes::new(v).binary() },
    Differs { name: "threads", of: |l| l.workers.into(), words: |v| v.to_string() },
    Differs { name: "reads", of: |l| l.read_percent.into(), words: |v| format!("{v} %") },
    Differs {
        name: "outstanding of each thread",
        of: |l| u64::from(l.depth / l.workers.max(1)),
        words: |v| v.to_string(),
    },
];

impl Rounds {
    /// Its legs in rows and columns; `None` while none is over.
    #[must_use]
    pub fn grid(&self) -> Option<RoundGrid<'_>> {
        let values = |d: &Differs| {
            let mut all: Vec<u64> = self.legs.iter().map(d.of).collect();
            all.sort_unstable();
            all.dedup();
            all
        };
        let mut by_many: Vec<(&Differs, Vec<u64>)> = DIFFERS.iter().map(|d| (d, values(d))).collect();
        by_many.sort_by_key(|(_, values)| std::cmp::Reverse(values.len()));
        // Rows and columns as they are listed above, whichever has more.
        let mut two: Vec<(&Differs, Vec<u64>)> = by_many.into_iter().take(2).collect();
        two.sort_by_key(|(d, _)| DIFFERS.iter().position(|x| x.name == d.name));
        let [(down, rows), (across, columns)] = two.as_slice() else { return None };
        let cell = |row: u64, column: u64| {
            self.legs.iter().find(|l| ((down.of)(l), (across.of)(l)) == (row, column))
        };
        let words = |d: &Differs, values: &[u64]| (d.name, values.iter().map(|v| (d.words)(*v)).collect());
        (!self.legs.is_empty()).then(|| RoundGrid {
            cells: rows.iter().map(|r| columns.iter().map(|c| cell(*r, *c)).collect()).collect(),
            rows: words(down, rows),
            columns: words(across, columns),
        })
    }
}
