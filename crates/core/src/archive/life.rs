//! A drive over its hauls: how it was treated, and when it will be worn out if it goes on so.

use serde::Serialize;
use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::archive::digest::{SlowStretch, Treatment};
use crate::conclude::models::Refusal;
use crate::quantity::Interval;
use crate::quantity::units::{Bytes, significant};

const DAY_MS: f64 = 86_400_000.0;
/// Readings over less time say nothing of years.
const LEAST_DAYS: f64 = 3.0;
const LEAST_READINGS: usize = 3;

/// A health reading in time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WearPoint {
    /// Wall clock, milliseconds since 1970-01-01 UTC.
    pub unix_ms: i64,
    /// Bytes written by hosts over its life.
    pub host_written: Option<Bytes>,
    /// Percentage Used: 100 at rated endurance.
    pub percentage_used: Option<f64>,
    /// Bytes written to its media over its life.
    pub media_written: Option<Bytes>,
}

const PERCENT: &str = "percentage used";

/// How fast a drive wears, from the increments between readings.
#[derive(Debug, Clone, Copy)]
struct Pace {
    per_day: f64,
    /// Of the pace: its standard error.
    error: f64,
    /// What a day adds to the variance of the total.
    variance: f64,
    /// Student's factor for 95 %.
    t: f64,
}

impl Pace {
    /// Of readings (day, share of life), in order; `step` is that in which the share is read. Increments that follow each other may be
    /// alike (a busy week): blocks of two and four are looked at too, and the largest variance counts.
    fn of(line: &[(f64, f64)], step: f64) -> Self {
        let (first, last) = (line[0], line[line.len() - 1]);
        let days = last.0 - first.0;
        let per_day = (last.1 - first.1) / days;
        let variance_of = |block: usize| {
            let edges: Vec<(f64, f64)> = line.iter().copied().step_by(block).collect();
            let parts: Vec<(f64, f64)> = edges
                .windows(2)
                .map(|w| (w[1].0 - w[0].0, w[1].1 - w[0].1))
                .filter(|(days, _)| *days > 1e-6)
                .collect();
            let freedom = parts.len() as f64 - 1.0;
            (freedom >= 1.0).then(|| {
                let squares: f64 = parts.iter().map(|(d, x)| (x - per_day * d).powi(2) / d).sum();
                (squares / freedom, freedom)
            })
        };
        let (mut variance, mut freedom) = variance_of(1).unwrap_or((0.0, 1.0));
        for block in [2, 4] {
            if let Some((v, f)) = variance_of(block).filter(|(v, f)| *f >= 5.0 && *v > variance) {
                (variance, freedom) = (v, f);
            }
        }
        // Rounding of the first and the last reading.
        let rounding = (step / days).powi(2) / 6.0;
        let t = StudentsT::new(0.0, 1.0, freedom).map_or(12.7, |t| t.inverse_cdf(0.975));
        Self { per_day, error: (variance / days + rounding).sqrt(), variance, t }
    }
}

/// When a drive is worn out, if it goes on as it did.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Projection {
    /// What was followed: `bytes written of the endurance`, or `percentage used`.
    pub by: &'static str,
    /// How much of its life is used, 0 to 1.
    pub used: f64,
    /// Share of its life that a day takes, with 95 % interval.
    pub per_day: Interval,
    /// Days from the newest reading to the end: earliest, as it goes, latest; `None` where the slope may be nothing.
    pub days_left: (f64, f64, Option<f64>),
    /// Time of the newest reading, milliseconds since 1970-01-01 UTC.
    pub from_unix_ms: i64,
    /// Readings that were used.
    pub readings: usize,
    /// Days that they span.
    pub over_days: f64,
}

/// Follows the wear at its mean pace to the end.
///
/// Bytes against the endurance are used where both are known, since they are exact; a whole percentage otherwise. The interval comes
/// from what was written between one reading and the next, not from the totals, each of which has all those before in it; it has both
/// how well the pace is known (Student t) and how uneven the writing goes on to be (first passage of a walk with drift).
///
/// # Errors
/// When the readings are too few or too close together, or nothing was worn.
pub fn project(points: &[WearPoint], endurance: Option<Bytes>) -> Result<Projection, Refusal> {
    let of_bytes = |p: &WearPoint| Some(p.host_written?.as_f64() / endurance?.as_f64());
    let of_percent = |p: &WearPoint| Some(p.percentage_used? / 100.0);
    match in_order(points, &of_bytes) {
        v if v.len() >= LEAST_READINGS => follow("bytes written of the endurance", &v),
        _ => follow(PERCENT, &in_order(points, &of_percent)),
    }
}

fn in_order(points: &[WearPoint], of: &dyn Fn(&WearPoint) -> Option<f64>) -> Vec<(f64, f64)> {
    let mut all: Vec<(f64, f64)> =
        points.iter().filter_map(|p| Some((p.unix_ms as f64 / DAY_MS, of(p)?))).collect();
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all
}

/// A share of its life smaller than this is read too coarsely to tell what the media bear, percent.
const LEAST_USED: f64 = 3.0;
/// Percentage Used is a whole number, cut off or rounded as the maker likes: the share lies so far below and above what is read, percent.
const READ_BELOW: f64 = 0.5;
const READ_ABOVE: f64 = 1.0;

/// The same by what the drive wrote to its media: what these bear is what was written to them over the share of life that it used up. This sees
/// what the drive writes beyond what hosts do, and needs no endurance that somebody states; the coarse share makes its interval wide.
///
/// # Errors
/// When the drive does not count what it writes to its media, or too little of its life is used to tell what these bear; or as for
/// [`project`].
pub fn project_by_media(points: &[WearPoint]) -> Result<Projection, Refusal> {
    let refuse = |why: &str| {
        let why = format!("Cannot tell how long its media will last, because {why}.");
        Err(Refusal::new(why, "write to it and read its health again"))
    };
    let newest = points.iter().filter_map(|p| Some((p.unix_ms, p.media_written?, p.percentage_used?)));
    let Some((_, media, percent)) = newest.max_by_key(|p| p.0) else {
        return refuse("it does not count what it writes to its media");
    };
    if percent < LEAST_USED || media == Bytes::ZERO {
        return refuse(&format!("only {percent:.0} % of its life is used, and it says so in whole percent"));
    }
    // Half way between the bounds.
    let used = (percent + (READ_ABOVE - READ_BELOW) / 2.0) / 100.0;
    let bears = |used: f64| media.as_f64() / used;
    let of = |p: &WearPoint| Some(p.media_written?.as_f64() / bears(used));
    let mut all = follow("what was written to its media", &in_order(points, &of))?;
    let days = |used: f64| (1.0 - used).max(0.0) * bears(used) / bears(all.used) / all.per_day.value;
    let (early, middle, late) = all.days_left;
    let least = middle - days((percent + READ_ABOVE) / 100.0);
    let most = days((percent - READ_BELOW) / 100.0) - middle;
    // The two errors have nothing to do with each other.
    let both = |a: f64, b: f64| (a * a + b * b).sqrt();
    all.days_left = (
        (middle - both(middle - early, least)).max(0.0),
        middle,
        late.map(|l| middle + both(l - middle, most)),
    );
    Ok(all)
}

fn follow(by: &'static str, line: &[(f64, f64)]) -> Result<Projection, Refusal> {
    let refuse = |why: &str, remedy: &str| {
        Err(Refusal::new(format!("Cannot tell how long it will last, because {why}."), remedy))
    };
    let over_days = line.last().zip(line.first()).map_or(0.0, |(a, b)| a.0 - b.0);
    if line.len() < LEAST_READINGS || over_days < LEAST_DAYS {
        return refuse(
            &format!(
                "there is not enough history: {} readings over {} days",
                line.len(),
                significant((over_days * 10.0).round() / 10.0)
            ),
            "haul it, or take its vitals, again in a week",
        );
    }
    let pace = Pace::of(line, if by == PERCENT { 0.01 } else { 0.0 });
    if !(pace.per_day > 0.0 && pace.per_day.is_finite()) {
        return refuse("its wear did not grow between the readings", "write to it and read its health again");
    }
    let per_day = Interval::around(pace.per_day, pace.t * pace.error);
    let (last, used) = line[line.len() - 1];
    let left = (1.0 - used).max(0.0);
    let end = |per_day: f64, way: f64| {
        // What is written from now on is as uneven as before.
        let days = left / per_day;
        (days + way * pace.t * (left * pace.variance / per_day.powi(3)).sqrt()).max(0.0)
    };
    // Either error alone makes the one end of the interval or the other; both together are added as squares.
    let middle = left / pace.per_day;
    let apart = |per_day: f64, way: f64| {
        ((left / per_day - middle).powi(2) + (end(pace.per_day, way) - middle).powi(2)).sqrt()
    };
    let earliest = (middle - apart(per_day.high, -1.0)).max(0.0).max(left / (per_day.high * 4.0));
    let latest = (per_day.low > 0.0).then(|| middle + apart(per_day.low, 1.0));
    Ok(Projection {
        by,
        used,
        per_day,
        days_left: (earliest, middle, latest),
        from_unix_ms: (last * DAY_MS) as i64,
        readings: line.len(),
        over_days,
    })
}

impl Projection {
    /// In a sentence; `date` writes a moment of the wall clock.
    #[must_use]
    pub fn sentence(&self, date: impl Fn(i64) -> String) -> String {
        // Beyond a lifetime of people a date is no answer.
        let far = 36_500.0;
        let at = |days: f64| {
            if days > far {
                "in more than 100 years".to_owned()
            } else {
                date(self.from_unix_ms + (days * DAY_MS) as i64)
            }
        };
        let (early, middle, late) = self.days_left;
        let late = late.map_or_else(|| "no end in sight".to_owned(), at);
        format!(
            "{} % of its rated life is used. At this pace it is used up {} (95 %: {} to {late}), by {} in {} readings over {} days.",
            significant((self.used * 1e4).round() / 100.0),
            at(middle),
            at(early),
            self.by,
            self.readings,
            significant(self.over_days.round())
        )
    }
}

/// All treatments together.
#[must_use]
pub fn treated<'a>(all: impl IntoIterator<Item = &'a Treatment>) -> Treatment {
    all.into_iter().fold(Treatment::default(), |mut sum, t| {
        sum.written_bytes += t.written_bytes;
        sum.read_bytes += t.read_bytes;
        sum.rested_s += t.rested_s;
        sum.filled = sum.filled.into_iter().chain(t.filled).reduce(f64::max);
        sum.wiped |= t.wiped;
        sum.errors += t.errors;
        sum
    })
}

/// Slow stretches over all hauls: what overlaps is one, with the number of hauls that saw it.
#[must_use]
pub fn slow_stretches<'a>(hauls: impl IntoIterator<Item = &'a [SlowStretch]>) -> Vec<(SlowStretch, usize)> {
    let mut out: Vec<(SlowStretch, usize)> = Vec::new();
    for haul in hauls {
        for s in haul {
            let over = |o: &SlowStretch| {
                s.position_bytes < o.position_end_bytes && o.position_bytes < s.position_end_bytes
            };
            match out.iter_mut().find(|(o, _)| over(o)) {
                Some((o, n)) => {
                    o.position_bytes = o.position_bytes.min(s.position_bytes);
                    o.position_end_bytes = o.position_end_bytes.max(s.position_end_bytes);
                    o.share = o.share.into_iter().chain(s.share).reduce(f64::min);
                    *n += 1;
                }
                None => out.push((*s, 1)),
            }
        }
    }
    out.sort_by_key(|(s, _)| s.position_bytes);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(wear: impl Fn(f64) -> f64, days: &[f64]) -> Vec<WearPoint> {
        let point = |d: &f64| WearPoint {
            unix_ms: (d * DAY_MS) as i64,
            host_written: Some(Bytes::new((wear(*d) * 1e12) as u64)),
            percentage_used: None,
            media_written: None,
        };
        days.iter().map(point).collect()
    }

    #[test]
    fn a_steady_drive_ends_when_it_says() {
        // 1 TB a day of 1000 TB, 100 TB used on day 0.
        let days: Vec<f64> = (0..20).map(f64::from).collect();
        let p = project(&points(|d| 100.0 + d, &days), Some(Bytes::from_gb(1_000_000))).unwrap();
        assert!((p.used - 0.119).abs() < 1e-9 && (p.days_left.1 - 881.0).abs() < 0.1, "{p:?}");
        let uneven =
            project(&points(|d| 100.0 + d + (d * 2.0).sin() * 0.3, &days), Some(Bytes::from_gb(1_000_000)));
        let uneven = uneven.unwrap();
        assert!(uneven.days_left.0 < uneven.days_left.1 && uneven.days_left.1 < uneven.days_left.2.unwrap());
        assert!(uneven.days_left.0 < 881.0 && uneven.days_left.2.unwrap() > 881.0, "{uneven:?}");
    }

    /// Drives that write in bursts: exponential amounts, some weeks busier than others. The true pace is known.
    #[test]
    fn the_interval_holds_the_true_pace_nineteen_times_in_twenty() {
        use rand::{RngExt, SeedableRng};
        let mut rng = rand_xoshiro::Xoshiro256PlusPlus::seed_from_u64(8);
        let (mut held, mut ends, n) = (0, 0, 600);
        for _ in 0..n {
            let (mut total, mut day, mut busy) = (100.0, 0.0, 1.0f64);
            let mut readings = vec![(day, total)];
            for _ in 0..40 {
                let days = 0.5 + 3.0 * rng.random::<f64>();
                busy = (0.5 * busy.ln() + 0.4 * (rng.random::<f64>() - 0.5)).exp();
                total += 0.2 * days * busy * -(1.0 - rng.random::<f64>()).ln();
                day += days;
                readings.push((day, total));
            }
            let points: Vec<WearPoint> = readings
                .iter()
                .map(|(d, w)| WearPoint {
                    unix_ms: (d * DAY_MS) as i64,
                    host_written: Some(Bytes::new((w * 1e12) as u64)),
                    percentage_used: None,
                    media_written: None,
                })
                .collect();
            let p = project(&points, Some(Bytes::from_gb(1_000_000))).unwrap();
            let truth = 0.2 / 1000.0;
            held += usize::from((p.per_day.low..=p.per_day.high).contains(&truth));
            let end = (1.0 - p.used) / truth;
            ends += usize::from(p.days_left.0 <= end && p.days_left.2.is_none_or(|l| end <= l));
        }
        let share = |k: usize| k as f64 / f64::from(n);
        assert!((0.91..0.985).contains(&share(held)), "{}", share(held));
        assert!(share(ends) > 0.92, "{}", share(ends));
    }

    #[test]
    fn too_little_is_refused() {
        let e = project(&points(|d| d, &[0.0, 0.1, 0.2, 0.3]), Some(Bytes::from_gb(1_000_000))).unwrap_err();
        assert!(e.words().contains("not enough history: 4 readings over 0.3 days"), "{}", e.words());
        let e = project(&points(|_| 5.0, &[0.0, 5.0, 9.0]), Some(Bytes::from_gb(1_000_000))).unwrap_err();
        assert!(e.words().contains("did not grow"), "{}", e.words());
        assert!(project(&[], None).is_err());
    }

    #[test]
    fn media_end_by_the_share_of_life_that_they_used_up() {
        // 2 TB a day to the media, 400 TB over the first 20.25 % of its life: 1,975.3 TB in all.
        let at = |day: f64, percent: f64| WearPoint {
            unix_ms: (day * DAY_MS) as i64,
            host_written: None,
            percentage_used: Some(percent),
            media_written: Some(Bytes::new(((400.0 - 2.0 * (40.0 - day)) * 1e12) as u64)),
        };
        let all: Vec<WearPoint> =
            (0..=40).map(|d| at(f64::from(d), if d < 20 { 19.0 } else { 20.0 })).collect();
        let p = project_by_media(&all).unwrap();
        // (1,975.3 - 400) / 2 days; with 21 % used 752.4, with 19.5 % 825.6.
        assert!((p.days_left.1 - 787.65).abs() < 0.1 && (p.used - 0.2025).abs() < 1e-9, "{p:?}");
        assert!((p.days_left.0 - 752.4).abs() < 0.2 && (p.days_left.2.unwrap() - 825.6).abs() < 0.2, "{p:?}");
        let fresh: Vec<WearPoint> = (0..=40).map(|d| at(f64::from(d), 2.0)).collect();
        assert!(project_by_media(&fresh).unwrap_err().words().contains("only 2 % of its life is used"));
        assert!(
            project_by_media(&points(|d| d, &[0.0, 9.0])).unwrap_err().words().contains("does not count")
        );
    }

    #[test]
    fn stretches_that_overlap_are_one() {
        let s = |from, to| SlowStretch { position_bytes: from, position_end_bytes: to, share: Some(0.5) };
        let (a, b) = ([s(10, 20), s(50, 60)], [s(15, 25)]);
        let all = slow_stretches([a.as_slice(), b.as_slice()]);
        assert_eq!(
            all.iter().map(|(s, n)| (s.position_bytes, s.position_end_bytes, *n)).collect::<Vec<_>>(),
            [(10, 25, 2), (50, 60, 1)]
        );
    }
}
