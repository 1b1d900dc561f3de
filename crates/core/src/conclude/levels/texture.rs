//! Rates that swing second by second, and are one level all the same: a drive that writes to the medium and tidies up in turns, or fills
//! small buffers one after the other.
//!
//! The segmenter cuts such a stretch into its swings. Here the swings are told by their order: up, down, up, for many times, each short,
//! the ups like each other and the downs too. The stretch is smoothed over some of its periods and weighed as one.

use std::ops::Range;

use crate::quantity::stats;

/// Swings of this length, on the median, are texture, s; no single one may be longer than three of them.
const SWING_S: f64 = 4.0;
/// So many swings up or down make a texture.
const LEAST_SWINGS: usize = 8;
/// What falls further, in ln, is no swing: it stalls.
const STALL: f64 = 1.6;
/// Their highs, and their lows, resemble each other to this share of the way between.
const ALIKE: f64 = 0.35;

/// The band of a texture is wider on either side by this share of the way between its highs and its lows.
const BESIDE: f64 = 0.3;
/// So many times the usual swing is none. Chosen: a swing that noise cut short is followed by one of twice the usual size at most.
const BEYOND: f64 = 3.0;
/// So many swings tell the usual one.
const OF_LATE: usize = 32;
/// At either end of the band lies this share of the points of a piece that swings. Chosen.
const END_SHARE: f64 = 0.12;

/// The ln(rate) that a texture fills.
type Band = std::ops::RangeInclusive<f64>;

/// A piece of a stretch: what goes one way, in one or more segments.
#[derive(Debug, Clone)]
struct Piece {
    points: Range<usize>,
    middle: f64,
}

/// Stretches that swing, in order, each with the length of a period in points.
pub fn stretches(
    points: &[f32],
    starts: &[usize],
    seconds: &dyn Fn(Range<usize>) -> f64,
) -> Vec<(Range<usize>, usize)> {
    let pieces: Vec<Piece> = starts
        .iter()
        .enumerate()
        .map(|(i, s)| {
            let points_of = *s..starts.get(i + 1).copied().unwrap_or(points.len());
            let middle = stats::median(&mut stats::spaced(&points[points_of.clone()], 15)).unwrap_or(0.0);
            Piece { points: points_of, middle }
        })
        .collect();
    let short = |p: &Piece| seconds(p.points.clone()) <= 3.0 * SWING_S;
    let mut found: Vec<(Range<usize>, usize, Band)> = Vec::new();
    let mut i = 0;
    while i < pieces.len() {
        // Beside a standstill every swing is small: none begins with one.
        let stalls = pieces.get(i + 1).is_some_and(|next| (next.middle - pieces[i].middle).abs() > STALL);
        if !short(&pieces[i]) || stalls {
            i += 1;
            continue;
        }
        let (swings, past) = in_turns(&pieces, i, &short);
        if let Some(band) = is_texture(&swings, seconds) {
            let period = 2 * (pieces[past - 1].points.end - pieces[i].points.start) / swings.len();
            // What lies beside it, is short and within its band belongs to it.
            let fits = |p: &&Piece| {
                short(p) && band.contains(&p.middle) || swings_within(&points[p.points.clone()], &band)
            };
            let mut first = i - pieces[..i].iter().rev().take_while(fits).count();
            let mut last = past + pieces[past..].iter().take_while(fits).count();
            // A piece that is more like what lies beyond than like a swing belongs to that: noise had cut it off.
            if let Some(beyond) = first.checked_sub(1).map(|k| pieces[k].middle) {
                first += pieces[first..past].iter().take_while(|p| is_nearer(p, beyond, &band)).count();
            }
            if let Some(beyond) = pieces.get(last).map(|p| p.middle) {
                last -= pieces[i..last].iter().rev().take_while(|p| is_nearer(p, beyond, &band)).count();
            }
            let (Some(before), Some(after)) = (pieces.get(first), pieces[..last].last()) else { break };
            let (before, after) = (before.points.start, after.points.end);
            if before >= after {
                i = past.max(i + 1);
                continue;
            }
            // Noise breaks the order at times: what goes on soon in the same band is the same texture.
            let alike = |b: &Band| {
                let (wide, apart) =
                    (b.end() - b.start(), (b.end() - band.end()).abs().max((b.start() - band.start()).abs()));
                apart < 0.3 * wide
            };
            match found.last_mut() {
                Some((last, _, b)) if before <= last.end + 8 * period && alike(b) => last.end = after,
                // It may lie within what the one before took in.
                Some((last, ..)) if after > last.end => {
                    let from = before.max(last.end);
                    found.push((from..after, period, band));
                }
                Some(_) => {}
                None => found.push((before..after, period, band)),
            }
        }
        i = past.max(i + 1);
    }
    found.into_iter().map(|(points, period, _)| (points, period)).collect()
}

/// Pieces from `first` on that go up and down in turns, and where that is over. Noise cuts a swing in two at times: pieces that differ
/// by little are one.
fn in_turns(pieces: &[Piece], first: usize, short: &dyn Fn(&Piece) -> bool) -> (Vec<Piece>, usize) {
    let mut swings = vec![pieces[first].clone()];
    let mut j = first + 1;
    while j < pieces.len() && short(&pieces[j]) {
        let (next, n) = (&pieces[j], swings.len());
        let turned =
            n < 2 || (next.middle > swings[n - 1].middle) != (swings[n - 1].middle > swings[n - 2].middle);
        let usual = n >= 2
            && (next.middle - swings[n - 1].middle).abs()
                < 0.4 * (swings[n - 1].middle - swings[n - 2].middle).abs();
        // A fall beyond what it swings by is no swing: it swings at another level from there on.
        if n > 3 && (next.middle - swings[n - 1].middle).abs() > BEYOND * usual_swing(&swings) {
            break;
        }
        if usual {
            let last = &mut swings[n - 1];
            let (a, b) = (last.points.len() as f64, next.points.len() as f64);
            last.middle = (a * last.middle + b * next.middle) / (a + b);
            last.points.end = next.points.end;
        } else if turned {
            swings.push(next.clone());
        } else {
            break;
        }
        j += 1;
    }
    (swings, j)
}

/// A piece is nearer to this ln(rate) than to the highs and the lows of a texture.
fn is_nearer(piece: &Piece, beyond: f64, band: &Band) -> bool {
    let beside = BESIDE / (1.0 + 2.0 * BESIDE) * (band.end() - band.start());
    let (low, high) = (band.start() + beside, band.end() - beside);
    (piece.middle - beyond).abs() < (piece.middle - low).abs().min((piece.middle - high).abs())
}

/// By how much it went up or down as a rule, of late: a record may swing ten thousand times.
fn usual_swing(swings: &[Piece]) -> f64 {
    let late = &swings[swings.len().saturating_sub(OF_LATE)..];
    let mut all: Vec<f64> = late.windows(2).map(|w| (w[1].middle - w[0].middle).abs()).collect();
    stats::median(&mut all).unwrap_or(f64::INFINITY)
}

/// A long piece that the segmenter did not cut any more, used to swings by then: its points lie in the band, many at either end.
fn swings_within(points: &[f32], band: &Band) -> bool {
    let some = stats::spaced(points, 301);
    let wide = band.end() - band.start();
    let share = |from: f64, to: f64| {
        let (low, high) = (band.start() + from * wide, band.start() + to * wide);
        some.iter().filter(|v| (low..=high).contains(v)).count() as f64 / some.len().max(1) as f64
    };
    some.len() > 20 && share(0.0, 1.0) > 0.85 && share(0.0, 0.4) > END_SHARE && share(0.6, 1.0) > END_SHARE
}

/// Many swings, short, each like the others: the band that they fill, in ln(rate).
fn is_texture(swings: &[Piece], seconds: &dyn Fn(Range<usize>) -> f64) -> Option<Band> {
    let mut lengths: Vec<f64> = swings.iter().map(|s| seconds(s.points.clone())).collect();
    if swings.len() < LEAST_SWINGS || stats::median(&mut lengths).is_none_or(|l| l > SWING_S) {
        return None;
    }
    let side = |first: usize| {
        let mut some: Vec<f64> = swings.iter().skip(first).step_by(2).map(|s| s.middle).collect();
        stats::median_and_spread(&mut some).unwrap_or_default()
    };
    let ((a, spread_a), (b, spread_b)) = (side(0), side(1));
    let apart = (a - b).abs();
    let alike = spread_a.max(spread_b) < ALIKE * apart && apart < STALL;
    alike.then(|| a.min(b) - BESIDE * apart..=a.max(b) + BESIDE * apart)
}

/// The points, smoothed over three periods of each stretch that swings: the mean of the rates, not of their logarithms.
pub fn smoothed(points: &[f32], stretches: &[(Range<usize>, usize)]) -> Vec<f32> {
    let mut out = points.to_vec();
    for (whole, period) in stretches {
        let top = points[whole.clone()].iter().copied().fold(f32::NEG_INFINITY, f32::max);
        let mut sums = vec![0.0f64];
        for v in &points[whole.clone()] {
            sums.push(sums[sums.len() - 1] + f64::from(*v - top).exp());
        }
        let half = (3 * period / 2).max(1);
        for k in 0..whole.len() {
            // The window keeps its length at the ends.
            let from = k.saturating_sub(half).min(whole.len().saturating_sub(2 * half + 1));
            let to = (from + 2 * half + 1).min(whole.len());
            let mean = (sums[to] - sums[from]) / (to - from) as f64;
            out[whole.start + k] = (mean.max(1e-9).ln()) as f32 + top;
        }
    }
    out
}

/// Starts without those within a stretch that swings.
pub fn without_inner(starts: &[usize], stretches: &[(Range<usize>, usize)]) -> Vec<usize> {
    let inner = |s: &usize| stretches.iter().any(|(w, _)| w.start < *s && *s < w.end);
    starts.iter().copied().filter(|s| !inner(s)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn stretches_are_in_order_and_apart_whatever_is_cut_where(
            pieces in proptest::collection::vec((1usize..40, 10.0f32..24.0), 1..80), length in 0.02f64..2.0
        ) {
            let points: Vec<f32> = pieces.iter().flat_map(|(n, v)| vec![*v; *n]).collect();
            let starts: Vec<usize> = pieces.iter().scan(0, |at, (n, _)| { let s = *at; *at += n; Some(s) }).collect();
            let found = stretches(&points, &starts, &|r| r.len() as f64 * length);
            let mut past = 0;
            for (r, period) in &found {
                proptest::prop_assert!(past <= r.start && r.start < r.end && r.end <= points.len() && *period > 0, "{found:?}");
                past = r.end;
            }
            proptest::prop_assert_eq!(smoothed(&points, &found).len(), points.len());
            proptest::prop_assert_eq!(without_inner(&starts, &found)[0], 0);
        }
    }

    #[test]
    fn a_piece_of_the_level_beside_swings_is_none_of_them() {
        // A level of which noise cut off a piece at either end, and swings between that hardly reach it.
        let at = |k: usize| match k {
            0..300 | 946..1300 => 21.0,
            300..323 | 923..946 => 20.985,
            _ if (k - 323) % 30 < 17 => 20.27,
            _ => 20.83,
        };
        let points: Vec<f32> = (0..1300).map(at).collect();
        let cuts = (1..1300).filter(|k| points[*k] != points[k - 1]);
        let starts: Vec<usize> = std::iter::once(0).chain(cuts).collect();
        assert_eq!(stretches(&points, &starts, &|r| r.len() as f64 * 0.2), [(323..923, 31)]);
    }

    #[test]
    fn swings_are_one_stretch_and_smooth_and_a_few_are_none() {
        let swing = |k: usize| if k % 20 < 10 { 21.0 } else { 20.0 };
        let points: Vec<f32> =
            (0..600).map(|k| if (200..400).contains(&k) { swing(k) } else { 20.5 }).collect();
        let starts: Vec<usize> = std::iter::once(0).chain((200..=400).step_by(10)).collect();
        let tenth = |r: Range<usize>| r.len() as f64 * 0.1;
        let found = stretches(&points, &starts, &tenth);
        assert_eq!(found, [(200..400, 20)]);
        assert_eq!(without_inner(&starts, &found), [0, 200, 400]);
        let smooth = smoothed(&points, &found);
        let mean = ((1.0 + f64::exp(-1.0)) / 2.0).ln() + 21.0;
        assert!((f64::from(smooth[300]) - mean).abs() < 0.02, "{}", smooth[300]);
        assert!(smooth[..200].iter().all(|v| *v == 20.5));
        // The segmenter did not cut it any more after a while; what is even there is another level.
        let long = |swings: bool| -> Vec<f32> {
            let here = |k: usize| (200..400).contains(&k) || swings && (400..800).contains(&k);
            (0..1000).map(|k| if here(k) { swing(k) } else { 20.5 }).collect()
        };
        let used: Vec<usize> = starts.iter().copied().chain([800]).collect();
        assert_eq!(stretches(&long(true), &used, &tenth), [(200..800, 20)]);
        assert_eq!(stretches(&long(false), &used, &tenth), [(200..400, 20)]);
        // A standstill in the middle ends none: what swings on behind it is the same.
        let stands = |k: usize| if (300..304).contains(&k) { 10.0 } else { swing(k) };
        let points: Vec<f32> = (0..600).map(stands).collect();
        let mut cut: Vec<usize> = (0..600).step_by(10).chain([304]).collect();
        cut.sort_unstable();
        assert_eq!(stretches(&points, &cut, &tenth), [(0..600, 20)]);
        // The same at a second a point are levels of ten seconds.
        assert!(stretches(&points, &starts, &|r| r.len() as f64).is_empty());
        assert!(stretches(&points, &[0, 200, 210, 220, 230], &tenth).is_empty());
    }
}
