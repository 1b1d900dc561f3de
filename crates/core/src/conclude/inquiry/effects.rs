//! What the arms of an inquiry show: differences of rates, each with its standard error, as shares of what was lost.
//!
//! Rates are compared by their logarithms, where the causes of a fall add up: a drive that has a tenth of its speed because half of it went
//! for heat and four fifths for its cache shows both parts, whichever is taken away.

use std::ops::Range;

use crate::quantity::stats::student_975;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::readings::{ArmReading, InquiryReading, Series};
use crate::record::{ArmKind, Experiment, Turns};

/// What an arm begins with is left out, s: queues fill, and heads move.
const SETTLES_S: f64 = 0.25;
/// Of an arm with more samples than this the last is left out: while a queue is emptied less of it is at work.
const ENDS_WITH: usize = 8;
/// Parts of an arm that are compared, s.
const PART_S: f64 = 0.25;
/// Parts beside each other are alike: their spread says less than it would of independent ones.
const ALIKE: f64 = 1.5;
/// Nor does one that fell within less than this share of its bytes and its time: it was about to fall.
const TOO_SOON: f64 = 0.55;
/// It fell after just as many when it did within this share of them.
const JUST: f64 = 0.08;
/// What is fast for less than this is a moment of the machine, s; and of a smaller loss, as a logarithm, noise is half way back.
const GLIMPSE_S: f64 = 0.4;
const PLAIN_LOSS: f64 = 0.3;
/// A fast stretch into which something was put is as long as usual within this share of it, and plainly is not from so many times that on.
const EVENLY: f64 = 0.04;
const PLAINLY: f64 = 2.5;
/// Twice as much as the stretches before it differ by is the same; where that is more than this share, they say nothing of one.
pub(super) const MOST_JUST: f64 = 0.1;
/// It ended in the fall that is asked about when it is as slow as that, within this of the logarithm.
const SAME_LOW: f64 = 0.15;
/// What is fast for less than this after a rest cannot be set beside another, s.
const LEAST_LASTS_S: f64 = 1.5;
/// A paced load keeps its rate as long as it has this share of it.
pub const KEEPS: f64 = 0.88;
/// No arm tells a rate better than this, as a share.
const LEAST_ERROR: f64 = 0.01;
/// From so many arms on their own scatter tells how well their mean is known.
const ENOUGH_ARMS: usize = 4;
/// So many standard errors of a normal to each side hold 95 %.
const NORMAL_975: f64 = 1.96;

/// The logarithm of a rate, with its standard error.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LogRate {
    /// ln of bytes per second.
    pub value: f64,
    /// Standard error.
    pub error: f64,
}

/// So many of `n` values are left out on each side: a quarter.
const fn trimmed(n: usize) -> usize {
    n / 4
}

/// The mean of the middle half with its standard error, of two or more; all of fewer than four. A moment in which everything stands still is not
/// what a drive does at a place or after a rest. (K. K. Yuen, The two-sample trimmed t for unequal population variances, Biometrika 61,
/// 1974: the error from the values drawn in to the last that are kept.)
fn middle(values: &mut [f64]) -> Option<(f64, f64)> {
    let (n, out) = (values.len(), trimmed(values.len()));
    (n >= 2).then_some(())?;
    values.sort_by(f64::total_cmp);
    let kept = &values[out..n - out];
    let mean = kept.iter().sum::<f64>() / kept.len() as f64;
    let drawn_in = |i: usize| values[i.clamp(out, n - out - 1)];
    let of_drawn_in = (0..n).map(drawn_in).sum::<f64>() / n as f64;
    let squares: f64 = (0..n).map(|i| (drawn_in(i) - of_drawn_in).powi(2)).sum();
    let h = kept.len() as f64;
    Some((mean, (squares / (h * (h - 1.0))).sqrt()))
}

impl LogRate {
    /// The rate of a stretch of samples, of which the beginning is left out; `None` where nothing moved long enough.
    fn of(series: &Series, samples: Range<usize>, from_s: f64) -> Option<Self> {
        let mut parts: Vec<f64> = Vec::new();
        let (mut bytes, mut seconds, mut all) = (0u64, 0.0, (0u64, 0.0));
        // What an arm ends with is the rest of its queue.
        let past = if samples.len() > ENDS_WITH { samples.end - 1 } else { samples.end };
        for i in samples.start..past {
            let begin = if i == 0 { 0.0 } else { series.end_s(i - 1) };
            if begin + 1e-9 < from_s {
                continue;
            }
            let (moved, took) = (series.moved(i) - series.moved_before(i), series.end_s(i) - begin);
            (bytes, seconds) = (bytes + moved, seconds + took);
            all = (all.0 + moved, all.1 + took);
            if seconds >= PART_S {
                parts.push(bytes as f64 / seconds);
                (bytes, seconds) = (0, 0.0);
            }
        }
        if all.0 == 0 || all.1 <= 0.0 {
            return None;
        }
        let whole = all.0 as f64 / all.1;
        // Of one part nothing is known; it is taken to scatter as rates of a quarter second may.
        let Some((mean, error)) = middle(&mut parts).filter(|(mean, _)| *mean > 0.0) else {
            return Some(Self { value: whole.ln(), error: 0.1 });
        };
        Some(Self { value: mean.ln(), error: (ALIKE * error / mean).max(LEAST_ERROR) })
    }

    /// The mean of several, whose own scatter counts too. Of a few arms the scatter of the parts within each counts as well; of more, that of the
    /// arms alone, widened as t is against the normal: where bytes come in pulses, the parts within an arm scatter and the arms do not.
    pub(super) fn mean(all: &[Self]) -> Option<Self> {
        let n = all.len() as f64;
        (n > 0.0).then_some(())?;
        let within = (all.iter().map(|a| a.error.powi(2)).sum::<f64>() / n).sqrt() / n.sqrt();
        let mut values: Vec<f64> = all.iter().map(|a| a.value).collect();
        let (value, between) = middle(&mut values).unwrap_or((values[0], 0.0));
        if all.len() < ENOUGH_ARMS {
            return Some(Self { value, error: within.max(between) });
        }
        let wider = student_975(n - 2.0 * trimmed(all.len()) as f64 - 1.0) / NORMAL_975;
        let error = within.max(between).min(wider * between).max(LEAST_ERROR / n.sqrt());
        Some(Self { value, error })
    }

    /// How much faster this is than another.
    fn over(self, other: Self) -> Self {
        Self { value: self.value - other.value, error: self.error.hypot(other.error) }
    }

    /// How much of it is open whether there is a difference of more than this: 0 where there surely is one, or surely none.
    pub(super) fn may_be_none(self, least: f64) -> f64 {
        if self.value.abs() > 3.0 * self.error + least { 0.0 } else { (self.error / least).clamp(0.0, 1.0) }
    }

    /// As a rate.
    #[must_use]
    pub fn rate(self) -> Rate {
        Rate::new(self.value.exp())
    }
}

/// An arm with its rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arm {
    /// What was done.
    pub kind: ArmKind,
    /// How fast; `None` of a rest, and of what was too short to tell.
    pub rate: Option<LogRate>,
    /// How long, s.
    pub seconds: f64,
    /// Bytes moved in it.
    pub bytes: u64,
    /// Of these, those that moved at more than half way from the rate after the fall to the one before.
    pub fast_bytes: u64,
    /// At its end it was nearer to the rate after the fall than to the one before.
    pub fell: bool,
}

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

/// A fast stretch of what comes and goes, into which a rest or reads were put.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretched {
    /// Bytes written in it, as a share of the usual.
    pub share: f64,
    /// It ended; else it holds so many at least.
    pub fell: bool,
    /// Shares that differ by less are the same.
    pub just: f64,
}

impl Stretched {
    /// As long as usual (0), longer (1), shorter (2); `None` where that is not plain.
    pub(super) fn outcome(self) -> Option<usize> {
        let off = self.share - 1.0;
        let plainly = PLAINLY * self.just;
        match off {
            // Stretches that are not even say nothing of one.
            _ if self.just > MOST_JUST => None,
            o if o > plainly => Some(1),
            _ if !self.fell => None,
            o if o.abs() < self.just => Some(0),
            o if o < -plainly => Some(2),
            _ => None,
        }
    }
}

/// What was measured so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Effects {
    /// Every arm, in order.
    pub arms: Vec<Arm>,
    /// The rate of the load as it is now.
    pub here: Option<LogRate>,
    /// How much slower that is than before the fall.
    pub lost: f64,
    /// How much faster the load is elsewhere.
    pub elsewhere: Option<LogRate>,
    /// How much faster reads are than the load.
    pub reads: Option<LogRate>,
    /// How much faster a heavier load is.
    pub heavier: Option<LogRate>,
    /// Of the newest rest that tells.
    pub cooled: Option<Cooled>,
    /// Bytes of the load that were fast after the first rest until it fell once more.
    pub until_lost: Option<Bytes>,
    /// The same after a second rest, of which the first part was written by a light load, against that.
    pub light_first: Option<LightFirst>,
    /// The load got back most of what it had lost, with nothing done.
    pub came_back: bool,
    /// It was fast for a moment in one arm of the load as it is: it may have come back, or something was ready to be written fast by then.
    pub glimpsed: bool,
    /// It had come and gone before, and this time it did not come back: it is another fall than those.
    pub stayed: bool,
    /// It came back, and fell once more to stay: that is the next fall, and says nothing of this one.
    pub fell_again_to_stay: bool,
    /// How often a lighter load fell after just as many bytes or seconds as the full one and came back; within about as many; and how often it
    /// did not fall.
    pub lighter: [u32; 3],
    /// A fast stretch with a rest in it.
    pub rested: Option<Stretched>,
    /// A fast stretch with reads in it.
    pub read_between: Option<Stretched>,
    /// How much faster reads are when the rate is back than while it is low, of what comes and goes.
    pub reads_back: Option<LogRate>,
    /// How much faster the load is before the address of the fall than behind it.
    pub stretch: Option<LogRate>,
    /// How much faster it is with nothing asked of the drive beside it than with twice as much.
    pub quiet: Option<LogRate>,
}

/// Bytes a second over samples that count in no figure of the load.
fn rate_over(series: &Series, samples: Range<usize>) -> f64 {
    let Some(last) = samples.end.checked_sub(1).filter(|l| *l >= samples.start) else { return 0.0 };
    let begin = samples.start.checked_sub(1).map_or(0.0, |i| series.end_s(i));
    (series.moved(last) - series.moved_before(samples.start)) as f64 / (series.end_s(last) - begin).max(1e-9)
}

fn arm(series: &Series, a: &ArmReading, half: f64) -> Arm {
    let samples = a.samples(series.len());
    let from = a.from.as_secs_f64();
    let end = samples.end.checked_sub(1).map_or(from, |last| series.end_s(last));
    let moved = |i: usize| series.moved(i) - series.moved_before(i);
    let last = samples.end.saturating_sub(5).max(samples.start)..samples.end;
    let pace = a.arm.rate.map_or(half, |r| KEEPS * r.get());
    Arm {
        kind: a.arm.kind,
        rate: LogRate::of(series, samples.clone(), from + SETTLES_S),
        seconds: (end - from).max(0.0),
        bytes: samples.clone().map(moved).sum(),
        fast_bytes: samples.clone().filter(|i| rate_over(series, *i..*i + 1) > half).map(moved).sum(),
        fell: samples.len() >= 3 && rate_over(series, last) < pace,
    }
}

/// The rate right after a rest is what the first second shows; what comes after may be lost already.
const AT_ONCE_S: f64 = 1.0;

/// Half way, by its logarithm, from the rate after the fall to the one before.
fn half_of(here: LogRate, lost: f64) -> f64 {
    (here.value + 0.5 * lost).exp()
}

fn cooled(series: &Series, arms: &[ArmReading], here: LogRate, lost: f64) -> Option<Cooled> {
    // A rest that the load had not fallen again before tells nothing: what was read before it was cool already.
    let fell_before = |rest: usize| {
        let first = arms[..rest].iter().rposition(|a| a.arm.kind == ArmKind::ToFall);
        first.is_none_or(|i| i + 2 < rest || arm(series, &arms[i], half_of(here, lost)).fell)
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
    let of = |i: Option<usize>| i.map(|i| arm(series, &arms[i], 0.0));
    let rest_s = arm(series, &arms[rest], 0.0).seconds;
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

/// How often a lighter load fell after as many bytes as the full one is fast for, within about as many, and how often it did not fall.
fn falls_when_lighter(arms: &[Arm], turns: Turns, half: f64) -> [u32; 3] {
    let mut seen = [0; 3];
    // A load that was held to its pace is as slow as that in a moment in which the machine stands still. What fell is low for a while.
    let was_low = |a: Option<&Arm>| a.and_then(|a| a.rate).is_some_and(|r| r.value < half.ln());
    let back = |a: Option<&Arm>| a.is_some_and(|a| a.kind == ArmKind::ToBack && !a.fell);
    let began_fast = |at: usize| {
        let read = arms[at - 1].kind == ArmKind::ReadCool;
        back((at - 1).checked_sub(usize::from(read)).and_then(|i| arms.get(i)))
    };
    // What begins in the middle of a fast stretch is no measure.
    for at in (1..arms.len()).filter(|i| arms[*i].kind == ArmKind::Lighter && began_fast(*i)) {
        let arm = &arms[at];
        // What was written after it had come back, and before the lighter load was on, belongs to it.
        let waited = arms[..at].iter().rev().take(2).find(|a| a.kind == ArmKind::ToBack);
        let bytes_before = waited.map_or(0, |a| a.fast_bytes) as f64;
        let all = turns.fast_bytes.as_f64().max(1.0);
        let bytes = (arm.bytes as f64 + bytes_before) / all;
        let seconds = arm.seconds / turns.fast_s.max(0.1) + bytes_before / all;
        let late = bytes > turns.enough().max(1.0 + turns.uneven);
        let soon = bytes.max(seconds) < TOO_SOON;
        let just = JUST.max(1.5 * turns.uneven);
        // One that does not come back was the end of something else.
        if arm.fell && !late && !soon && back(arms.get(at + 1)) && was_low(arms.get(at + 1)) {
            let as_many = (bytes - 1.0).abs() < just || (seconds - 1.0).abs() < just;
            seen[usize::from(!as_many)] += 1;
        } else if !arm.fell && bytes >= turns.enough() {
            seen[2] += 1;
        }
    }
    seen
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

/// A second rest is no longer than the first, within a part in ten, and no shorter than a share of it.
const REST_AGAIN: std::ops::RangeInclusive<f64> = LEAST_REST_AGAIN..=1.1;
pub(super) const LEAST_REST_AGAIN: f64 = 0.55;
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
fn until_lost(over: &[ArmReading], arms: &[Arm], before: f64) -> (Option<Bytes>, Option<LightFirst>) {
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

/// The fast stretch into which an arm of this kind was put.
fn stretched(
    inquiry: &InquiryReading,
    series: &Series,
    over: &[ArmReading],
    arms: &[Arm],
    kind: ArmKind,
) -> Option<Stretched> {
    let (turns, so_far) = inquiry.fall.turns.zip(inquiry.fall.fast_so_far)?;
    let put = |a: &ArmReading| a.arm.experiment == Experiment::Cycle && a.arm.kind == kind;
    let at = over.iter().position(put)? + 1;
    let to_fall = arms.get(at).filter(|a| a.kind == ArmKind::ToFall)?;
    // What ends it is the fall that is asked about, and not another: it is as slow.
    let samples = over.get(at)?.samples(series.len());
    let last = rate_over(series, samples.end.saturating_sub(3).max(samples.start)..samples.end);
    let as_slow = (last.max(1.0) / inquiry.fall.after.get().max(1.0)).ln().abs() < SAME_LOW;
    if to_fall.fell && !as_slow {
        return None;
    }
    let share = (so_far.as_f64() + to_fall.fast_bytes as f64) / turns.fast_bytes.as_f64().max(1.0);
    Some(Stretched { share, fell: to_fall.fell, just: EVENLY.max(2.0 * turns.uneven) })
}

impl Effects {
    /// Whether it came back with nothing done; `None` while too little was seen.
    #[must_use]
    pub fn comes_back(&self) -> Option<bool> {
        let seen = self.arms.iter().filter(|a| a.kind == ArmKind::Here).count();
        (self.came_back || seen >= 3 && !self.glimpsed).then_some(self.came_back)
    }

    /// How long the load was seen as it is, before any rest, s.
    #[must_use]
    pub fn looked_s(&self) -> f64 {
        let before_rest = self.arms.iter().take_while(|a| a.kind != ArmKind::Rest);
        before_rest
            .filter(|a| matches!(a.kind, ArmKind::Here | ArmKind::Quiet | ArmKind::Asked))
            .map(|a| a.seconds)
            .sum()
    }

    /// Of an inquiry as far as it has come.
    #[must_use]
    pub fn of(inquiry: &InquiryReading, series: &Series) -> Self {
        let over: Vec<ArmReading> = inquiry.arms.iter().filter(|a| a.ended.is_some()).copied().collect();
        let half = (inquiry.fall.before.get() * inquiry.fall.after.get()).sqrt();
        let arms: Vec<Arm> = over.iter().map(|a| arm(series, a, half)).collect();
        let rates = |kind: ArmKind| -> Vec<LogRate> {
            arms.iter().filter(|a| a.kind == kind).filter_map(|a| a.rate).collect()
        };
        let here_all = rates(ArmKind::Here);
        let here = LogRate::mean(&here_all);
        let before = inquiry.fall.before.get().max(1.0).ln();
        let stated = before - inquiry.fall.after.get().max(1.0).ln();
        let lost = here.map_or(stated, |h| before - h.value);
        let (until_lost, light_first) = until_lost(&over, &arms, before.exp());
        let faster =
            |kind: ArmKind| LogRate::mean(&rates(kind)).zip(here).map(|(there, here)| there.over(here));
        let between = |a: ArmKind, b: ArmKind| {
            LogRate::mean(&rates(a)).zip(LogRate::mean(&rates(b))).map(|(a, b)| a.over(b))
        };
        // Only what is not after a rest tells of coming back by itself.
        let rested = arms.iter().position(|a| a.kind == ArmKind::Rest).unwrap_or(arms.len());
        let by_itself: Vec<LogRate> =
            arms[..rested].iter().filter(|a| a.kind == ArmKind::Here).filter_map(|a| a.rate).collect();
        let most_of = if stated >= PLAIN_LOSS { 0.4 } else { 0.2 };
        let back = by_itself.iter().filter(|h| h.value > before - most_of * stated).count();
        let fast_s = |a: &Arm| a.fast_bytes as f64 / before.exp();
        let as_it_is = |a: &&Arm| matches!(a.kind, ArmKind::Here | ArmKind::Quiet | ArmKind::Asked);
        let glimpsed =
            stated >= PLAIN_LOSS && arms[..rested].iter().filter(as_it_is).any(|a| fast_s(a) >= GLIMPSE_S);
        // What slows reads too has gone where these are suddenly faster.
        let reads: Vec<f64> = arms[..rested]
            .iter()
            .filter(|a| matches!(a.kind, ArmKind::Read | ArmKind::ReadHot))
            .filter_map(|a| a.rate.map(|r| r.value))
            .collect();
        // What rises little by little, or back to what it was before a moment of standstill, is no sudden end of anything.
        let rose = |i: usize| reads[i] - reads[..i].iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let reads_rose = (1..reads.len()).map(rose).fold(0.0, f64::max) > (0.4 * stated).max(0.12);
        // What had come and gone was waited for, and did not come; or it did, and not once more. Where reads are faster by then, what slowed them
        // has gone, and something else keeps the load low.
        let waited = || arms.iter().filter(|a| a.kind == ArmKind::ToBack);
        let never_back = waited().next().is_some_and(|a| a.fell);
        let stayed = never_back && !reads_rose;
        let fell_again_to_stay = waited().next_back().is_some_and(|a| a.fell) && !stayed;
        Self {
            elsewhere: faster(ArmKind::Elsewhere),
            reads: LogRate::mean(&[rates(ArmKind::Read), rates(ArmKind::ReadHot)].concat())
                .zip(here)
                .map(|(there, here)| there.over(here)),
            heavier: faster(ArmKind::Heavier),
            reads_back: inquiry.fall.turns.and_then(|_| between(ArmKind::ReadCool, ArmKind::ReadHot)),
            stretch: between(ArmKind::Before, ArmKind::Behind),
            quiet: between(ArmKind::Quiet, ArmKind::Asked),
            cooled: here.and_then(|here| cooled(series, &over, here, lost)),
            until_lost,
            light_first,
            came_back: inquiry.fall.recurs && !stayed
                || by_itself.len() >= 2 && back >= 1
                || reads_rose && !stayed,
            glimpsed,
            stayed,
            fell_again_to_stay,
            rested: stretched(inquiry, series, &over, &arms, ArmKind::Rest),
            read_between: stretched(inquiry, series, &over, &arms, ArmKind::Read),
            lighter: inquiry.fall.turns.map_or([0; 3], |turns| falls_when_lighter(&arms, turns, half)),
            arms,
            here,
            lost,
        }
    }
}
