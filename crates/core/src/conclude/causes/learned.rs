//! Limits that nobody states, learned from falls that are alike; and when falls are.

use super::numbers::*;
use super::{Context, Step};

/// With no limit stated: three drops at the same temperature with the speed back below it tell one; two do, when
/// they take the same share from the same rate and the speed was back cooler in between.
pub(super) fn limit_from_cycles(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    limit_from_many(steps, cx).or_else(|| limit_from_twins(steps, cx))
}

pub(super) fn limit_from_twins(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    if !falls_while_warming(steps, cx) {
        return None;
    }
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

pub(super) fn limit_from_many(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
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
    if !falls_while_warming(steps, cx) {
        return None;
    }
    // A limit is where it falls, not now and then: nearly all of the falls are there, and no drive throttles when it is cool.
    (alike >= 3 && at_once && 5 * alike >= 4 * drops.len() && lower >= 2 && middle >= HOT).then_some(middle)
}

/// Heat takes speed away as the drive comes to its limit, still warming; what falls by the clock has long been as warm as it gets, as a
/// rule. Of the phases at full speed, the second half warms by a good part of the whole.
pub(super) fn falls_while_warming(steps: &[Step<'_>], cx: &Context<'_>) -> bool {
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
    match crate::quantity::stats::median(&mut shares) {
        Some(m) => m >= STILL_WARMS,
        None => cx.resolution < COARSE || first_takes_longer(steps),
    }
}

/// From cold it takes longer to come to a limit than from where heat let go; what falls by the clock falls as soon the first time.
fn first_takes_longer(steps: &[Step<'_>]) -> bool {
    let Some(first) = steps.iter().position(Step::is_drop) else { return true };
    let spells = steps[first..].windows(2).filter(|w| !w[0].is_drop() && w[1].is_drop());
    let mut later: Vec<f64> =
        spells.map(|w| (w[1].place.elapsed.saturating_sub(w[0].place.elapsed)).as_secs_f64()).collect();
    let from_cold = steps[first].place.elapsed.as_secs_f64();
    crate::quantity::stats::median(&mut later).is_none_or(|m| from_cold > FROM_COLD * m)
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
