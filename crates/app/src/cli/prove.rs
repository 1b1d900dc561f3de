//! `hollow-mile prove`: the analysis on random hauls with a known truth.

use std::thread::ScopedJoinHandle;

use hollow_mile_core::readings::Readings;
use hollow_mile_drives::proving::{
    CacheScore, ForecastScore, FreightScore, GroundScore, HeatScore, SHAPES, Score, judge, make, prove_cache,
    prove_forecast, prove_freight, prove_ground, prove_heat,
};
use serde::Serialize;

use super::worlds::{self, FamilyProof, Worlds, share};
use super::{Answer, say, say_json, table};
use crate::error::{AppError, Exit};

#[derive(Serialize)]
struct Kind {
    kind: &'static str,
    truths: usize,
    found: usize,
    matched: usize,
    recall: f64,
    precision: f64,
}

#[derive(Serialize)]
struct Tenth {
    from: f64,
    findings: usize,
    right: f64,
}

#[derive(Serialize)]
struct Proof {
    hauls: usize,
    seed: u64,
    kinds: Vec<Kind>,
    place_error_median: Option<f64>,
    place_error_p95: Option<f64>,
    inside_interval: f64,
    onset_error_median_s: Option<f64>,
    flat_hauls: usize,
    false_on_flat: usize,
    cause_right: f64,
    confusion: Vec<(String, String, usize)>,
    calibration: Vec<Tenth>,
    /// Kind, confidence, findings, right.
    by_confidence: Vec<(&'static str, f64, usize, usize)>,
    /// The same of the second ground.
    worlds_by_confidence: Vec<(&'static str, f64, usize, usize)>,
    ground: GroundProof,
    /// The second proving ground, by family, and all of them together last.
    worlds: Vec<FamilyProof>,
    worlds_calibration: Vec<Tenth>,
    worlds_confusion: Vec<(String, String, usize)>,
    /// Cache ends of the first and of the second proving ground that were left unexplained, with the end of a cache as the likeliest.
    named_first: [usize; 2],
    /// Heat that the record cannot tell from the end of a cache: all, told as heat, left open with heat among the causes, told as the end
    /// of a cache.
    lone_heat: (usize, usize, usize, usize),
    /// Ends of a cache that only a thermometer would tell from heat: all, told as such, left open with the cache among the causes.
    blind_ends: (usize, usize, usize),
    heat: HeatProof,
    cache: CacheProof,
    forecast: ForecastProof,
    freight: FreightProof,
}

/// How files were judged, on one drive and from one drive to another.
#[derive(Serialize)]
struct FreightProof {
    hauls: usize,
    /// Those of which something was named, rightly, and those of which that or nothing was right to say.
    named: usize,
    right: usize,
    right_or_none: usize,
    /// Those that one thing held up for two fifths of the time or more, and was named.
    held_up: usize,
    held_up_named: usize,
    /// Findings at 0.95 or more, and how many are right.
    sure: usize,
    sure_right: usize,
    false_findings: usize,
    /// Shares of the 95 % intervals of what a file and a byte cost that hold the truth.
    file_cost_inside: f64,
    byte_cost_inside: f64,
    /// The same of the size at which a file costs as much as its bytes, and of the shares of the time that would go without a thing.
    even_size_inside: f64,
    waits_inside: f64,
}

fn freight_proof(hauls: u64, seed: u64, mistakes: bool) -> FreightProof {
    let mut s = FreightScore::default();
    (0..hauls).for_each(|i| prove_freight(seed.wrapping_mul(1_000_003).wrapping_add(i), &mut s));
    if mistakes {
        s.mistakes.iter().chain(&s.missed).for_each(|m| eprintln!("{m}"));
    }
    FreightProof {
        hauls: s.hauls,
        named: s.named,
        right: s.right,
        right_or_none: s.right_or_none,
        held_up: s.held_up.0,
        held_up_named: s.held_up.1,
        sure: s.sure.0,
        sure_right: s.sure.1,
        false_findings: s.false_findings,
        file_cost_inside: share(s.costs.1, s.costs.0),
        byte_cost_inside: share(s.bytes.1, s.bytes.0),
        even_size_inside: share(s.evens.1, s.evens.0),
        waits_inside: share(s.shares.1, s.shares.0),
    }
}

/// How forecasts from three hauls did on the fourth.
#[derive(Serialize)]
struct ForecastProof {
    drives: usize,
    /// Share of the time that the rate was inside its 90 % band, over all drives alike.
    inside: f64,
    /// Of single drives: a tenth of them were inside for less, and for more.
    inside_p10: Option<f64>,
    inside_p90: Option<f64>,
    /// Share of the time that the temperature is inside its band.
    warm_inside: f64,
    /// How far the time to the end was off, as a share of it.
    time_off_median: Option<f64>,
    time_off_p95: Option<f64>,
    /// Drives that did not change and were said to be off their forecast.
    false_off: usize,
    /// Drives that changed, those that were found, and those of which the right cause was named.
    changed: usize,
    found_off: usize,
    named_off: usize,
}

fn forecast_proof(drives: u64, seed: u64) -> ForecastProof {
    let mut s = ForecastScore::default();
    (0..drives).for_each(|i| prove_forecast(seed.wrapping_mul(1_000_003).wrapping_add(i), &mut s));
    ForecastProof {
        drives: s.drives,
        inside: s.coverage(),
        inside_p10: at(&mut s.inside, 0.1),
        inside_p90: at(&mut s.inside, 0.9),
        warm_inside: s.warm_inside.iter().sum::<f64>() / s.warm_inside.len().max(1) as f64,
        time_off_median: at(&mut s.time_off, 0.5),
        time_off_p95: at(&mut s.time_off, 0.95),
        false_off: s.false_off,
        changed: s.changed,
        found_off: s.found_off,
        named_off: s.named_off,
    }
}

/// How the model of heat did on drives whose heat is known.
#[derive(Serialize)]
struct HeatProof {
    hauls: usize,
    fitted: usize,
    /// Shares of 95 % intervals that hold the truth.
    tau_inside: f64,
    idle_inside: f64,
    rise_inside: f64,
}

fn heat_proof(hauls: u64, seed: u64) -> HeatProof {
    let mut s = HeatScore::default();
    (0..hauls).for_each(|i| prove_heat(seed.wrapping_mul(1_000_003).wrapping_add(i), &mut s));
    let [tau_inside, idle_inside, rise_inside] = s.inside.map(|n| share(n, s.fitted));
    HeatProof { hauls: s.hauls, fitted: s.fitted, tau_inside, idle_inside, rise_inside }
}

/// How the model of the cache did on caches of which it is known how they come back.
#[derive(Serialize)]
struct CacheProof {
    hauls: usize,
    recoveries: usize,
    /// Shares of 95 % intervals that hold the truth: rest for half, rest for all, what was there before the first write.
    half_inside: f64,
    all_inside: f64,
    whole_inside: f64,
    /// How far the rests were off, as a share of them.
    half_off_median: Option<f64>,
    all_off_median: Option<f64>,
    /// Way of coming back, hauls told, intervals that hold: rest for half, rest for all.
    shapes: Vec<(&'static str, usize, usize, usize)>,
    /// Hauls at three levels of fill or more, and of them those of which it is told what shrinks with fill.
    fills: usize,
    shrinkings: usize,
    empty_inside: f64,
    full_inside: f64,
    /// Told of hauls at fewer levels.
    invented: usize,
}

fn cache_proof(hauls: u64, seed: u64) -> CacheProof {
    let mut s = CacheScore::default();
    (0..hauls).for_each(|i| prove_cache(seed.wrapping_mul(1_000_003).wrapping_add(i), &mut s));
    let [half_inside, all_inside, whole_inside] = s.recovery_inside.map(|n| share(n, s.recoveries));
    let [empty_inside, full_inside] = s.shrinking_inside.map(|n| share(n, s.shrinkings));
    CacheProof {
        hauls: s.hauls,
        recoveries: s.recoveries,
        half_inside,
        all_inside,
        whole_inside,
        half_off_median: at(&mut s.recovery_off[0], 0.5),
        all_off_median: at(&mut s.recovery_off[1], 0.5),
        shapes: SHAPES
            .iter()
            .zip(s.shapes)
            .map(|(name, (told, half, all))| (*name, told, half, all))
            .collect(),
        fills: s.fills,
        shrinkings: s.shrinkings,
        empty_inside,
        full_inside,
        invented: s.invented,
    }
}

/// How scans did on random drives with slow stretches.
#[derive(Serialize)]
struct GroundProof {
    drives: usize,
    truths: usize,
    found: usize,
    matched: usize,
    recall: f64,
    clean_drives: usize,
    false_on_clean: usize,
    overlap_median: Option<f64>,
    overlap_p5: Option<f64>,
    edges_within_one_bin: f64,
}

fn ground_proof(mut s: GroundScore) -> GroundProof {
    GroundProof {
        drives: s.drives,
        truths: s.truths,
        found: s.found,
        matched: s.matched,
        recall: share(s.matched, s.truths),
        clean_drives: s.clean,
        false_on_clean: s.false_on_clean,
        edges_within_one_bin: share(s.edges.iter().filter(|e| **e <= 1.0).count(), s.edges.len()),
        overlap_median: at(&mut s.overlaps, 0.5),
        overlap_p5: at(&mut s.overlaps, 0.05),
    }
}

fn at(values: &mut [f64], q: f64) -> Option<f64> {
    values.sort_by(f64::total_cmp);
    values.get(((values.len().max(1) - 1) as f64 * q).round() as usize).copied()
}

/// Kind, confidence, findings, right ones.
fn by_confidence(s: &Score) -> Vec<(&'static str, f64, usize, usize)> {
    s.by_confidence.iter().map(|((kind, c), (n, r))| (*kind, f64::from(*c) / 100.0, *n, *r)).collect()
}

fn tenths(s: &Score) -> Vec<Tenth> {
    let some = s.calibration.iter().enumerate().filter(|(_, (n, _))| *n > 0);
    some.map(|(i, (n, r))| Tenth { from: i as f64 / 10.0, findings: *n, right: share(*r, *n) }).collect()
}

fn confusion(s: &Score) -> Vec<(String, String, usize)> {
    s.confusion.iter().map(|((t, g), n)| ((*t).to_owned(), (*g).to_owned(), *n)).collect()
}

fn proof(
    mut s: Score,
    ground: GroundScore,
    worlds: Worlds,
    (heat, cache, forecast, freight): (HeatProof, CacheProof, ForecastProof, FreightProof),
    seed: u64,
) -> Proof {
    let told: usize = s.confusion.iter().filter(|((_, g), _)| *g != "nothing").map(|(_, n)| n).sum();
    let good = |t: &str, g: &str| {
        t == g || (t == "other" && matches!(g, "unexplained" | "other-traffic" | "slow-zone"))
    };
    let right: usize = s.confusion.iter().filter(|((t, g), _)| good(t, g)).map(|(_, n)| n).sum();
    Proof {
        hauls: s.hauls,
        seed,
        kinds: s
            .kinds
            .iter()
            .map(|(kind, (truths, found, matched))| Kind {
                kind,
                truths: *truths,
                found: *found,
                matched: *matched,
                recall: share(*matched, *truths),
                precision: share(*matched, *found),
            })
            .collect(),
        place_error_median: at(&mut s.place_errors, 0.5),
        place_error_p95: at(&mut s.place_errors, 0.95),
        inside_interval: share(s.inside, s.place_errors.len()),
        onset_error_median_s: at(&mut s.onset_errors, 0.5),
        flat_hauls: s.flat,
        false_on_flat: s.flat_false,
        cause_right: share(right, told),
        confusion: confusion(&s),
        calibration: tenths(&s),
        by_confidence: by_confidence(&s),
        worlds_by_confidence: by_confidence(&worlds.all),
        ground: ground_proof(ground),
        worlds_calibration: tenths(&worlds.all),
        worlds_confusion: confusion(&worlds.all),
        named_first: [s.named_first, worlds.all.named_first],
        lone_heat: worlds.all.lone_heat,
        blind_ends: worlds.all.blind_ends,
        heat,
        cache,
        forecast,
        freight,
        worlds: worlds.families,
    }
}

fn first_ground(hauls: u64, seed: u64) -> Score {
    let mut score = Score::default();
    for i in 0..hauls {
        let case = make(seed.wrapping_mul(1_000_003).wrapping_add(i));
        let mut readings = Readings::new();
        case.events.iter().for_each(|e| readings.push(e));
        judge(&case, &readings.conclude(), &mut score);
    }
    score
}

fn scanned(drives: u64, seed: u64) -> GroundScore {
    let mut s = GroundScore::default();
    (0..drives).for_each(|i| prove_ground(seed.wrapping_mul(1_000_003).wrapping_add(i), &mut s));
    s
}

/// What a thread of the proving ground came to.
///
/// # Errors
/// When it failed.
pub fn done<T>(thread: ScopedJoinHandle<'_, T>) -> Result<T, AppError> {
    thread.join().map_err(|_| AppError::machine("a thread of the proving ground failed"))
}

pub fn run(drives: u64, seed: u64, mistakes: bool, answer: Answer) -> Result<Exit, AppError> {
    let p = std::thread::scope(|scope| {
        let score = scope.spawn(|| first_ground(drives, seed));
        let worlds = scope.spawn(|| worlds::prove(drives, seed));
        // Of 500 hauls a share of 95 % is known to two points, of 2,000 to one; of one cache in fourteen it is told what goes with fill.
        let cache = scope.spawn(|| cache_proof(drives, seed));
        let heat = scope.spawn(|| heat_proof(drives.div_ceil(2), seed));
        // A quarter as many scans: each is a whole drive.
        let ground = scope.spawn(|| scanned(drives.div_ceil(4), seed));
        let forecast = scope.spawn(|| forecast_proof(drives.div_ceil(5), seed));
        let freight = scope.spawn(|| freight_proof(drives.div_ceil(8), seed, mistakes));
        let (score, ground, worlds) = (done(score)?, done(ground)?, done(worlds)?);
        if mistakes {
            worlds.all.mistakes.iter().for_each(|m| eprintln!("{m}"));
            score.mistakes.iter().chain(&ground.mistakes).for_each(|m| eprintln!("{m}"));
        }
        let models = (done(heat)?, done(cache)?, done(forecast)?, done(freight)?);
        Ok::<_, AppError>(proof(score, ground, worlds, models, seed))
    })?;
    if answer == Answer::Json {
        say_json(&p)?;
        return Ok(Exit::Done);
    }
    let percent = |v: f64| format!("{:.1} %", v * 100.0);
    let mut lines =
        vec![["KIND", "TRUE", "FOUND", "MATCHED", "RECALL", "PRECISION"].map(String::from).to_vec()];
    lines.extend(p.kinds.iter().map(|k| {
        vec![
            k.kind.to_owned(),
            k.truths.to_string(),
            k.found.to_string(),
            k.matched.to_string(),
            percent(k.recall),
            percent(k.precision),
        ]
    }));
    say(&format!("{} random hauls, seed {seed}\n\n{}\n", p.hauls, table(&lines)))?;
    say(&format!(
        "place of cache ends: error {} median, {} p95; {} within the 95 % interval\n\
         onset of throttling: error {:.1} s median\n\
         flat or merely noisy: {} hauls, {} false findings\n\
         cause right: {}\n",
        p.place_error_median.map_or_else(|| "none".into(), |v| format!("{:.3} %", v * 100.0)),
        p.place_error_p95.map_or_else(|| "none".into(), |v| format!("{:.3} %", v * 100.0)),
        percent(p.inside_interval),
        p.onset_error_median_s.unwrap_or(0.0),
        p.flat_hauls,
        p.false_on_flat,
        percent(p.cause_right)
    ))?;
    let mut lines = vec![["TRUE CAUSE", "GIVEN", "TIMES"].map(String::from).to_vec()];
    lines.extend(p.confusion.iter().map(|(t, g, n)| vec![t.clone(), g.clone(), n.to_string()]));
    say(&format!("{}\n", table(&lines)))?;
    say(&calibration(&p.calibration))?;
    let g = &p.ground;
    let word = |v: Option<f64>| v.map_or_else(|| "none".into(), |v| format!("{v:.3}"));
    say(&format!(
        "slow stretches, {} drives scanned: {} of {} found ({}), {} told in all\n\
         {} clean drives: {} false\n\
         overlap with the truth {} median, {} p5; {} of edges within one bin",
        g.drives,
        g.matched,
        g.truths,
        percent(g.recall),
        g.found,
        g.clean_drives,
        g.false_on_clean,
        word(g.overlap_median),
        word(g.overlap_p5),
        percent(g.edges_within_one_bin)
    ))?;
    say(&format!("\nthe second proving ground\n\n{}\n", worlds::lines(&p.worlds)))?;
    say(&calibration(&p.worlds_calibration))?;
    let (all, heat, open, cache) = p.lone_heat;
    say(&format!(
        "heat that no record tells from the end of a cache (one fall that stays, no limit stated, no count): {all} hauls, told as heat in {heat},\n\
         left open with heat among the causes in {open}, told as the end of a cache in {cache}"
    ))?;
    let (all, told, open) = p.blind_ends;
    say(&format!(
        "ends of a cache that only a thermometer would tell from heat (no thermometer, a fall of a size that heat makes): {all}, told as such {told},\n\
         left open with the cache among the causes {open}"
    ))?;
    let h = &p.heat;
    say(&format!(
        "left unexplained, with the end of a cache as the likeliest: {} of the first ground, {} of the second\n\
         heat model, {} of {} hauls fitted: 95 % intervals hold the time constant in {}, the temperature at rest in {}, the rise in {}",
        p.named_first[0],
        p.named_first[1],
        h.fitted,
        h.hauls,
        percent(h.tau_inside),
        percent(h.idle_inside),
        percent(h.rise_inside)
    ))?;
    let c = &p.cache;
    let off = |v: Option<f64>| v.map_or_else(|| "none".into(), percent);
    say(&format!(
        "cache model, {} of {} hauls with rests told: 95 % intervals hold the rest for half in {} (off by {} median), the rest for all in {} (off by {}),\n\
         the whole in {}; by the way it comes back (told, half held, all held): {}\n\
         what goes with fill, {} of {} hauls at three levels told: held on an empty drive in {}, on a full one in {}; {} told from fewer levels",
        c.recoveries,
        c.hauls,
        percent(c.half_inside),
        off(c.half_off_median),
        percent(c.all_inside),
        off(c.all_off_median),
        percent(c.whole_inside),
        c.shapes
            .iter()
            .map(|(n, told, half, all)| format!("{n} {told}, {half}, {all}"))
            .collect::<Vec<_>>()
            .join("; "),
        c.shrinkings,
        c.fills,
        percent(c.empty_inside),
        percent(c.full_inside),
        c.invented
    ))?;
    let f = &p.forecast;
    let share = |v: Option<f64>| v.map_or_else(|| "none".into(), percent);
    say(&format!(
        "forecasts from three hauls, {} drives: the rate is inside its 90 % band for {} of the time (a tenth of the drives below {}, a tenth above {});\n\
         the temperature is inside what was seen and a degree for {} of it; the time to the end is off by {} median, {} p95\n\
         off its forecast: {} of {} drives that changed are found, {} with what failed; {} of {} that did not are said to be",
        f.drives,
        percent(f.inside),
        share(f.inside_p10),
        share(f.inside_p90),
        percent(f.warm_inside),
        share(f.time_off_median),
        share(f.time_off_p95),
        f.found_off,
        f.changed,
        f.named_off,
        f.false_off,
        f.drives
    ))?;
    let f = &p.freight;
    say(&format!(
        "files, {} hauls: what held them up was named in {}, rightly in {}; of {} held up for two fifths of the time or more {} were named rightly;\n\
         what was said is right, or nothing was said where nothing takes half of the time, in {} ({}); given 0.95 or more: {} of {} right; {} findings of what is not there\n\
         95 % intervals hold what a file costs in {}, what a byte costs in {}, the size of a file at which both are alike in {}, \
         how much time would go without what is waited for in {}",
        f.hauls,
        f.named,
        f.right,
        f.held_up,
        f.held_up_named,
        f.right_or_none,
        percent(f.right_or_none as f64 / f.hauls.max(1) as f64),
        f.sure_right,
        f.sure,
        f.false_findings,
        percent(f.file_cost_inside),
        percent(f.byte_cost_inside),
        percent(f.even_size_inside),
        percent(f.waits_inside)
    ))?;
    Ok(Exit::Done)
}

fn calibration(tenths: &[Tenth]) -> String {
    let mut lines = vec![["CONFIDENCE", "FINDINGS", "RIGHT"].map(String::from).to_vec()];
    lines.extend(tenths.iter().map(|t| {
        let right = format!("{:.1} %", t.right * 100.0);
        vec![format!("{:.1} to {:.1}", t.from, t.from + 0.1), t.findings.to_string(), right]
    }));
    format!("{}\n", table(&lines))
}
