//! Limits that nobody states, learned from falls that are alike; and when falls are.

use super::numbers::*;
use super::{Context, Step};
use crate::quantity::stats;
use std::time::Duration;

/// With no limit stated: three drops at the same temperature with the speed back below it tell one; two do, when
/// they take the same share from the same rate and the speed was back cooler in between.
pub(super) fn limit_from_cycles(steps: &[Step<'_>], cx: &Context<'_>, began: Duration) -> Option<f64> {
    if !falls_while_warming(steps, cx, began) {
        return None;
    }
    limit_from_many(steps, cx).or_else(|| limit_from_twins(steps))
}

/// The first of the like falls that came back was at a lower temperature than those after it, and came nearly as soon as they do: heat
/// does not fall below its limit, and from cold it takes many times as long to come there as from where it let go.
pub(super) fn fall_by_the_clock(steps: &[Step<'_>], cx: &Context<'_>, began: Duration) -> bool {
    let mut back: Vec<&Step<'_>> =
        steps.windows(2).filter(|w| w[0].is_drop() && !w[1].is_drop()).map(|w| &w[0]).collect();
    let mut cuts: Vec<f64> = back.iter().map(|s| cut(s)).collect();
    let Some(usual) = stats::median(&mut cuts) else { return false };
    let Some(one) =
        back.iter().copied().min_by(|a, b| (cut(a) - usual).abs().total_cmp(&(cut(b) - usual).abs()))
    else {
        return false;
    };
    back.retain(|s| alike(s, one));
    let Some((first, later)) = back.split_first() else { return false };
    let at_later = stats::median(&mut later.iter().filter_map(|s| s.at_once).collect::<Vec<_>>());
    let lower =
        at_later.zip(first.at_once).is_some_and(|(l, f)| f < l - LOWER_STEPS * cx.resolution.max(1.0));
    let usual_s = stats::median(&mut spells(steps));
    let took_s = first.place.elapsed.saturating_sub(began).as_secs_f64();
    lower && usual_s.is_some_and(|u| took_s < LONG_FROM_COLD * u)
}

/// How long it was at full speed between two falls each time, s.
fn spells(steps: &[Step<'_>]) -> Vec<f64> {
    let between = steps.windows(2).filter(|w| !w[0].is_drop() && w[1].is_drop());
    between.map(|w| (w[1].place.elapsed.saturating_sub(w[0].place.elapsed)).as_secs_f64()).collect()
}

fn limit_from_twins(steps: &[Step<'_>]) -> Option<f64> {
    let drops: Vec<usize> = (0..steps.len()).filter(|i| steps[*i].is_drop()).collect();
    drops.windows(2).find_map(|pair| {
        let (a, b) = (&steps[pair[0]], &steps[pair[1]]);
        let (ta, tb) = (a.temperature?, b.temperature?);
        let back = &steps[pair[1].checked_sub(1).filter(|i| *i > pair[0])?];
        let same_rate = (b.before().get() / a.before().get().max(1.0)).ln().abs() < 0.08;
        let same_cut = (cut(a) - cut(b)).abs() < 0.1 && cut(a) < -0.2;
        let cooler = back.temperature.is_some_and(|t| t < ta.min(tb) - 1.5);
        // What falls by the clock did so before the drive was as warm.
        let before = |s: &Step<'_>| {
            s.is_drop() && alike(s, a) && s.temperature.is_some_and(|t| t < ta.min(tb) - APART)
        };
        let by_the_clock = steps[..pair[0]].iter().any(before);
        (same_rate && same_cut && cooler && !by_the_clock && (ta - tb).abs() <= 1.2 && ta.min(tb) >= HOT)
            .then_some(ta.max(tb))
    })
}

fn limit_from_many(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    let mut drops: Vec<f64> = steps.iter().filter(|s| s.is_drop()).filter_map(|s| s.temperature).collect();
    let coolest = |s: &Step<'_>| cx.coldest(cx.around(s.place.elapsed, 4, PEAK_S));
    let rises: Vec<f64> = steps.iter().filter(|s| !s.is_drop()).filter_map(coolest).collect();
    drops.sort_by(f64::total_cmp);
    let middle = *drops.get(drops.len() / 2)?;
    let close = 1.1 + 0.5 * cx.resolution.max(1.0);
    let alike = drops.iter().filter(|t| (*t - middle).abs() <= close).count();
    let lower = rises.iter().filter(|t| **t < middle - 1.0).count();
    // What falls by the clock falls while the drive still warms up, too, and goes on at full speed when it is warmer.
    let first = steps.iter().filter(|s| s.is_drop()).find_map(|s| s.temperature);
    let at_once = first.is_some_and(|t| (t - middle).abs() <= close + 1.0);
    // A limit is where it falls, not now and then: nearly all of the falls are there, and no drive throttles when it is cool.
    (alike >= 3 && at_once && 5 * alike >= 4 * drops.len() && lower >= 2 && middle >= HOT).then_some(middle)
}

/// Heat takes speed away as the drive comes to its limit, still warming; what falls by the clock has long been as warm as it gets, as a
/// rule. Of the phases at full speed, the second half warms by a good part of the whole.
fn falls_while_warming(steps: &[Step<'_>], cx: &Context<'_>, began: Duration) -> bool {
    let mut shares: Vec<f64> = steps
        .windows(2)
        .filter(|w| !w[0].is_drop() && w[1].is_drop())
        .filter_map(|w| {
            let (from, to) = (w[0].place.elapsed, w[1].place.begins);
            let low = cx.coldest(cx.around(from, 4, PEAK_S))?;
            let top = w[1].temperature?;
            let middle = cx.hottest(cx.around(from + (to.saturating_sub(from)) / 2, 1, 1))?;
            // Within a step or two of the sensor nothing is seen of the half.
            (top - low > 0.9 && (cx.resolution < COARSE || top - low > 2.0 * cx.resolution))
                .then(|| (top - middle) / (top - low))
        })
        .collect();
    match stats::median(&mut shares) {
        Some(m) => m >= STILL_WARMS,
        None => cx.resolution < COARSE || first_takes_longer(steps, began),
    }
}

/// From cold it takes longer to come to a limit than from where heat let go; what falls by the clock falls as soon the first time.
fn first_takes_longer(steps: &[Step<'_>], began: Duration) -> bool {
    let Some(first) = steps.iter().position(Step::is_drop) else { return true };
    let from_cold = steps[first].place.elapsed.saturating_sub(began).as_secs_f64();
    stats::median(&mut spells(&steps[first..])).is_none_or(|m| from_cold > FROM_COLD * m)
}

pub(super) fn cut(step: &Step<'_>) -> f64 {
    (step.after().get().max(1.0) / step.before().get().max(1.0)).ln()
}

/// The same fall from the same rate.
pub(super) fn alike(a: &Step<'_>, b: &Step<'_>) -> bool {
    let same_rate = (b.before().get() / a.before().get().max(1.0)).ln().abs() < 0.1;
    same_rate && (cut(a) - cut(b)).abs() < 0.12
}

/// A controller takes about the same share each time: a drop of another size, once the usual one is known, is not its.
pub(super) fn fits_cut(step: &Step<'_>, usual: Option<f64>) -> bool {
    usual.is_none_or(|u| (cut(step) - u).abs() < 0.35)
}
