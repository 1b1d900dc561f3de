//! `hollow-mile prove --decide`: experiments on drives whose record alone does not tell why they fall.

use std::sync::atomic::{AtomicU64, Ordering};

use hollow_mile_core::record::Experiment;
use hollow_mile_drives::proving::{InquiryScore, Riddle, prove_inquiry};
use serde::Serialize;

use super::prove::done;
use super::worlds::share;
use super::{Answer, say, say_json, table};
use crate::error::{AppError, Exit};

#[derive(Default, Serialize)]
struct Row {
    riddle: &'static str,
    /// Drives that fell.
    fell: usize,
    /// Inquiries that were made.
    asked: usize,
    /// Answers that stand at 0.99.
    decided: usize,
    /// Of these, those that are right.
    right: usize,
    /// In the end, by experiment or by the record: the right cause is said; something is said at 0.9 and more; and of these those that are right.
    named: usize,
    sure: usize,
    sure_right: usize,
    /// The record alone: the right cause was named; named at 0.9 and more; and of these those that are right.
    alone_named: usize,
    alone_sure: usize,
    alone_right: usize,
}

#[derive(Serialize)]
struct Tried {
    experiment: &'static str,
    hauls: usize,
}

#[derive(Serialize)]
struct RiddleProof {
    drives: u64,
    seed: u64,
    rows: Vec<Row>,
    /// All together.
    all: Row,
    /// Drives on which nothing is the matter, and inquiries on them.
    sound: usize,
    asked_on_sound: usize,
    /// Hauls in which each experiment was tried.
    tried: Vec<Tried>,
    /// Share of the haul's time and of its bytes that an inquiry takes.
    time_median: Option<f64>,
    time_p95: Option<f64>,
    bytes_median: Option<f64>,
}

fn quantile(values: &mut [f64], q: f64) -> Option<f64> {
    values.sort_by(f64::total_cmp);
    values.get(((values.len().max(1) - 1) as f64 * q).round() as usize).copied()
}

fn proof(mut s: InquiryScore, drives: u64, seed: u64) -> RiddleProof {
    let rows: Vec<Row> =
        s.by.iter()
            .map(|(riddle, c)| Row {
                riddle: riddle.word(),
                fell: c.fell,
                asked: c.asked,
                decided: c.decided,
                right: c.right,
                named: c.named,
                sure: c.sure,
                sure_right: c.sure_right,
                alone_named: c.named_alone,
                alone_sure: c.sure_alone,
                alone_right: c.right_alone,
            })
            .collect();
    let mut all = Row { riddle: "all", ..Row::default() };
    for r in &rows {
        all.fell += r.fell;
        all.asked += r.asked;
        all.decided += r.decided;
        all.right += r.right;
        all.named += r.named;
        all.sure += r.sure;
        all.sure_right += r.sure_right;
        all.alone_named += r.alone_named;
        all.alone_sure += r.alone_sure;
        all.alone_right += r.alone_right;
    }
    RiddleProof {
        drives,
        seed,
        rows,
        all,
        sound: s.sound.0,
        asked_on_sound: s.sound.1,
        tried: Experiment::ALL
            .map(|e| Tried { experiment: e.word(), hauls: s.tried.get(&e).copied().unwrap_or(0) })
            .into(),
        time_median: quantile(&mut s.time, 0.5),
        time_p95: quantile(&mut s.time, 0.95),
        bytes_median: quantile(&mut s.bytes, 0.5),
    }
}

pub fn run(drives: u64, seed: u64, mistakes: bool, answer: Answer) -> Result<Exit, AppError> {
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    // Each drive depends on its number alone; some take many times as long as others.
    let next = AtomicU64::new(0);
    let part = || {
        let mut score = InquiryScore::default();
        loop {
            let i = next.fetch_add(1, Ordering::Relaxed);
            if i >= drives {
                break;
            }
            let riddle = Riddle::ALL[(i % Riddle::ALL.len() as u64) as usize];
            prove_inquiry(riddle, seed.wrapping_mul(1_000_003).wrapping_add(i), &mut score);
        }
        score
    };
    let parts = std::thread::scope(|scope| {
        let all: Vec<_> = (0..threads).map(|_| scope.spawn(part)).collect();
        all.into_iter().map(done).collect::<Result<Vec<_>, _>>()
    })?;
    let mut score = parts.into_iter().fold(InquiryScore::default(), InquiryScore::with);
    if mistakes {
        score.mistakes.sort();
        score.mistakes.iter().for_each(|m| eprintln!("{m}"));
    }
    let p = proof(score, drives, seed);
    if answer == Answer::Json {
        say_json(&p)?;
        return Ok(Exit::Done);
    }
    let percent = |part: usize, whole: usize| format!("{:.1} %", 100.0 * share(part, whole));
    let head = [
        "DRIVES THAT FALL FOR",
        "FELL",
        "DECIDED",
        "RIGHT",
        "WRONG",
        "SAID",
        "SURE, WRONG",
        "ALONE",
        "SURE, WRONG",
    ];
    let mut lines = vec![head.map(String::from).to_vec()];
    lines.extend(p.rows.iter().chain([&p.all]).map(|r| {
        vec![
            r.riddle.to_owned(),
            r.fell.to_string(),
            percent(r.decided, r.fell),
            percent(r.right, r.fell),
            percent(r.decided - r.right, r.fell),
            percent(r.named, r.fell),
            percent(r.sure - r.sure_right, r.fell),
            percent(r.alone_named, r.fell),
            percent(r.alone_sure - r.alone_right, r.fell),
        ]
    }));
    let at = |v: Option<f64>| v.map_or_else(|| "none".into(), |v| format!("{:.1} %", 100.0 * v));
    let tried: Vec<String> = p.tried.iter().map(|t| format!("{} {}", t.experiment, t.hauls)).collect();
    say(&format!(
        "{drives} drives made so that the record alone cannot tell, seed {seed}\n\n{}\n\
         SAID: the right cause is what the haul says in the end. ALONE: what the record says without experiments.\n\
         {} sound drives: {} inquiries\n\
         hauls in which each was tried: {}\n\
         an inquiry takes {} of the haul's time (median; {} p95) and {} of its bytes",
        table(&lines),
        p.sound,
        p.asked_on_sound,
        tried.join(", "),
        at(p.time_median),
        at(p.time_p95),
        at(p.bytes_median)
    ))?;
    Ok(Exit::Done)
}
