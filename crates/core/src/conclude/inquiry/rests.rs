//! What the rests of the cooling experiment show: reads and the load on both sides of one, and how many bytes were fast after it.

use crate::quantity::Interval;
use crate::quantity::units::{Bytes, Celsius};
use crate::readings::{ArmReading, Series};
use crate::record::{ArmKind, Experiment, Recovers};

use super::rates::{Arm, LogRate, SETTLES_S, arm, rate_over};

/// The rate right after a rest is what the first second shows; what comes after may be lost already.
const AT_ONCE_S: f64 = 1.0;
/// What is fast for less than this after a rest cannot be set beside another, s.
const LEAST_LASTS_S: f64 = 1.5;

/// What the rest of the cooling experiment showed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Cooled {
    /// How long it was, s.
    pub rest_s: f64,
    /// How much cooler the drive was after it, K; `None` without a thermometer.
    pub by: Option<f64>,
    /// How much faster reads were after the rest than before it.
    pub reads: Option<LogRate>,
    /// The same of the rest before this one.
    pub reads_first: Option<LogRate>,
    /// How much faster the load was right after the rest than before it.
    pub again: Option<LogRate>,
    /// How long that lasted, s; `None` where it did not end.
    pub lasted_s: Option<f64>,
    /// Temperature when it was lost once more.
    pub lost_at: Option<Celsius>,
}

/// Half way, by its logarithm, from the rate after the fall to the one before.
fn half_of(here: LogRate, lost: f64) -> f64 {
    (here.value + 0.5 * lost).exp()
}

/// Of the newest rest that tells.
pub(super) fn cooled(series: &Series, arms: &[ArmReading], here: LogRate, lost: f64) -> Option<Cooled> {
    // A rest that the load had not fallen again before tells nothing: what was read before it was cool already.
    let fell_before = |rest: usize| {
        let first = arms[..rest].iter().rposition(|a| a.arm.kind == ArmKind::ToFall);
        first
            .is_none_or(|i| i + 2 < rest || arm(series, &arms[i], half_of(here, lost), here.value.exp()).fell)
    };
    let behind =
        |rest: usize, kind: ArmKind| arms[rest..arms.len().min(rest + 3)].iter().any(|a| a.arm.kind == kind);
    // What a light load comes before tells nothing of the load at once.
    let rests: Vec<usize> = (0..arms.len())
        .rev()
        .filter(|i| {
            let is_rest = arms[*i].arm.kind == ArmKind::Rest && arms[*i].arm.experiment == Experiment::Cool;
            is_rest && fell_before(*i) && !behind(*i, ArmKind::Lighter)
        })
        .collect();
    // One that was cut tells less than the one before it.
    let newest = rests.iter().position(|r| behind(*r, ArmKind::Again)).unwrap_or(0);
    let mut rests = rests.into_iter().skip(newest);
    let rest = rests.next()?;
    let of = |i: Option<usize>| i.map(|i| arm(series, &arms[i], 0.0, 0.0));
    let rest_s = arm(series, &arms[rest], 0.0, 0.0).seconds;
    let samples = arms[rest].samples(series.len());
    let degrees = |i: usize| series.degrees(i);
    let before = (0..samples.start).rev().take(20).find_map(degrees);
    let at_end = samples.clone().rev().take(20).find_map(degrees);
    // The arms of this rest, and not of one before it.
    let after =
        |rest: usize, kind: ArmKind| (rest..arms.len().min(rest + 3)).find(|i| arms[*i].arm.kind == kind);
    let later = |kind: ArmKind| after(rest, kind);
    let reads = |rest: usize| {
        let hot = of(arms[..rest].iter().rposition(|a| a.arm.kind == ArmKind::ReadHot)).and_then(|a| a.rate);
        let cool = of(after(rest, ArmKind::ReadCool)).and_then(|a| a.rate);
        cool.zip(hot).map(|(c, h)| c.over(h))
    };
    let again = later(ArmKind::Again).map(|i| arms[i].samples(series.len()));
    let begun = later(ArmKind::Again).map(|i| arms[i].from.as_secs_f64());
    let at_once = again.clone().zip(begun).and_then(|(s, from)| {
        let past = s.clone().find(|i| series.end_s(*i) > from + AT_ONCE_S + SETTLES_S).unwrap_or(s.end);
        LogRate::of(series, s.start..past, from + SETTLES_S.min(0.1))
    });
    // It is lost when two parts in a row are nearer to the rate before the rest.
    let half = half_of(here, lost);
    let fast = at_once.is_some_and(|a| a.value > here.value + 0.5 * lost);
    let fell = again.filter(|_| fast).and_then(|s| {
        let slow = |i: &usize| rate_over(series, *i..*i + 1) < half;
        s.clone()
            .find(|i| slow(i) && s.clone().skip_while(|j| j < i).take(5).all(|j| slow(&j)) && s.end - i >= 4)
    });
    Some(Cooled {
        rest_s,
        by: before.zip(at_end).map(|(b, a)| b - a),
        reads: reads(rest),
        reads_first: rests.next().and_then(reads),
        again: at_once.map(|a| a.over(here)),
        lasted_s: fell.zip(begun).map(|(i, from)| series.end_s(i) - from),
        lost_at: fell.and_then(|i| (0..=i).rev().take(20).find_map(degrees)).map(Celsius::new),
    })
}

/// How the load went after a rest: the arms behind it, up to the next.
struct AfterRest {
    rest_s: f64,
    /// Bytes of a light load before the full one.
    light: Option<u64>,
    /// Bytes of the full one that were fast.
    fast: u64,
    fell: bool,
}

fn after_rests(over: &[ArmReading], arms: &[Arm]) -> Vec<AfterRest> {
    let is_rest = |i: &usize| over[*i].arm.experiment == Experiment::Cool && arms[*i].kind == ArmKind::Rest;
    let after = |rest: usize| {
        let mut behind = arms[rest + 1..].iter().skip_while(|a| a.kind == ArmKind::ReadCool).peekable();
        let light = behind.next_if(|a| a.kind == ArmKind::Lighter).map(|a| a.bytes);
        let again = behind.next().filter(|a| a.kind == ArmKind::Again)?;
        // Where it did not fall in its own time, it was waited for.
        let to_fall = behind.next().filter(|a| a.kind == ArmKind::ToFall && !again.fell);
        let fast = again.fast_bytes + to_fall.map_or(0, |a| a.fast_bytes);
        let fell = again.fell || to_fall.is_some_and(|a| a.fell);
        Some(AfterRest { rest_s: arms[rest].seconds, light, fast, fell })
    };
    (0..arms.len()).filter(is_rest).filter_map(after).collect()
}

/// As many bytes as a model has, within its interval and so many times: a cache shrinks with fill, and drains a little otherwise each time.
const AS_MODELLED: f64 = 1.3;
/// A model with a wider interval than this, as ratio of its ends, predicts nothing.
const WIDEST_MODEL: f64 = 4.0;

/// Bytes that were fast after the first rest, against what the model of the drive's cache has back by then.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AgainstModel {
    /// What the model has, bytes.
    pub predicted: Interval,
    /// What was fast.
    pub fast: Bytes,
    /// It fell; else it took so many at least.
    pub fell: bool,
}

impl AgainstModel {
    /// As many (0) or not (1); `None` where that is not known.
    pub(super) fn outcome(self) -> Option<usize> {
        match self.fast.as_f64() {
            b if b > AS_MODELLED * self.predicted.high => Some(1),
            _ if !self.fell => None,
            b => Some(usize::from(b < self.predicted.low / AS_MODELLED)),
        }
    }
}

/// What was fast after the first rest, against the model.
pub(super) fn against_model(over: &[ArmReading], arms: &[Arm], model: &Recovers) -> Option<AgainstModel> {
    let first = after_rests(over, arms).into_iter().next().filter(|a| a.light.is_none() && a.fast > 0)?;
    let predicted = model.bytes_after(first.rest_s);
    let tells = predicted.low > 0.0 && predicted.high <= WIDEST_MODEL * predicted.low;
    tells.then_some(AgainstModel { predicted, fast: Bytes::new(first.fast), fell: first.fell })
}

/// A second rest is no longer than the first, within a part in ten, and no shorter than a share of it.
const REST_AGAIN: std::ops::RangeInclusive<f64> = LEAST_REST_AGAIN..=1.1;
/// A rest that is cut to a smaller share of what it was to be tells too little to be begun.
pub const LEAST_REST_AGAIN: f64 = 0.55;
/// A cache begins to come back so long after a rest began, at the latest, s.
const COMES_BACK_AFTER_S: f64 = 20.0;
/// Bytes after two rests are the same within this share, and plainly are more from here on.
const SAME_BYTES: f64 = 0.1;
const PLAINLY_MORE: f64 = 1.25;

/// The load after a second rest, the first part of it light, against that after the first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LightFirst {
    /// Bytes until it fell, as a share of those after the first rest.
    pub share: f64,
    /// It fell; else it took so many at least.
    pub fell: bool,
    /// How long the second rest was, as a share of the first.
    pub rest: f64,
    /// How long the first was, s.
    pub first_s: f64,
}

impl LightFirst {
    /// As many bytes as come back in a rest of that length (0), more (1), fewer (2); `None` where that is not plain.
    pub(super) fn outcome(self) -> Option<usize> {
        // What comes back in a rest does so evenly, from its beginning or from a while later on.
        let late = COMES_BACK_AFTER_S.min(0.5 * self.rest * self.first_s);
        let least = (self.rest * self.first_s - late) / (self.first_s - late).max(1e-9);
        match self.share {
            s if s > PLAINLY_MORE * self.rest => Some(1),
            _ if !self.fell => None,
            s if s < (1.0 - SAME_BYTES) * least - SAME_BYTES => Some(2),
            s if s >= (1.0 - SAME_BYTES) * least && s <= (1.0 + SAME_BYTES) * self.rest => Some(0),
            _ => None,
        }
    }
}

/// Bytes until it fell after the first rest, and after a second one with a light load first against that. `before` is in bytes a second.
pub(super) fn until_lost(
    over: &[ArmReading],
    arms: &[Arm],
    before: f64,
) -> (Option<Bytes>, Option<LightFirst>) {
    let all = after_rests(over, arms);
    let plain =
        all.first().filter(|a| a.light.is_none() && a.fell && a.fast as f64 >= LEAST_LASTS_S * before);
    let second = all.get(1).and_then(|a| Some((a, a.light?)));
    let light_first = plain.zip(second).and_then(|(plain, (second, light))| {
        let (rest, first_s) = (second.rest_s / plain.rest_s, plain.rest_s);
        let share = (light + second.fast) as f64 / plain.fast as f64;
        REST_AGAIN.contains(&rest).then_some(LightFirst { share, fell: second.fell, rest, first_s })
    });
    (plain.map(|p| Bytes::new(p.fast)), light_first)
}
