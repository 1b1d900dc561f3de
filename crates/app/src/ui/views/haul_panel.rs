//! The panel of a haul: findings with their evidence, figures, cache and heat; the range between two marks; what is now.

use crate::told::findings;
use crate::told::headline;
use crate::told::power::{member_lines, meter_lines, power_lines, power_now};
use crate::told::wear::wear_lines;
use crate::told::words;
use std::time::Duration;

use hollow_mile_charts::lanes::letter;
use hollow_mile_core::conclude::limits;
use hollow_mile_core::conclude::limits::Verdict;
use hollow_mile_core::conclude::verdict::place_words;
use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate, clock, latency, mb_s_figure, span_words};
use hollow_mile_core::readings::Consistency;
use hollow_mile_core::readings::{LatencyField, Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::haul::{HaulView, Page};

use crate::ui::frame::Frame;
use crate::ui::live::Live;
use crate::ui::widgets::arms::{self, ArmLine};
use crate::ui::widgets::panel::{Writer, wrap};

/// Limits that are shown below the panel.
const LIMITS_SHOWN: usize = 4;

/// Draws the panel: a page above, what is now and under the cursor below.
pub fn render(
    frame: &Frame<'_>,
    r: &Readings,
    c: &Conclusions,
    (from, to): (f64, f64),
    area: Rect,
    buf: &mut Buffer,
) {
    let theme = frame.theme;
    let now = now_lines(frame, r, c);
    let cursor = cursor_lines(frame.haul, r, (from, to));
    let below = (now.len() + cursor.len() + usize::from(!cursor.is_empty()) + 1) as u16;
    let upper = Rect { height: area.height.saturating_sub(below), ..area };
    let shown = Page::ALL.iter().position(|p| *p == frame.haul.page).unwrap_or(0);
    frame.tabs(&Page::ALL.map(Page::name), shown, Rect { height: 1, ..area }, buf);
    let mut out = Writer::new(Rect { y: upper.y + 1, height: upper.height.saturating_sub(1), ..upper }, buf);
    out.gap();
    between(frame, r, c, &mut out);
    match frame.haul.page {
        Page::Findings => findings(frame, r, c, usize::from(area.width), &mut out),
        Page::Figures => paragraphs(frame, &figures(c, r), &mut out),
        Page::Models => paragraphs(frame, &models(frame, r, c), &mut out),
    }
    let lower = Rect { y: area.y + upper.height, height: area.height - upper.height, ..area };
    let mut out = Writer::new(lower, buf);
    for (name, value) in &cursor {
        out.pair(name, value, 9, theme.accent(), theme.strong());
    }
    if !cursor.is_empty() {
        out.gap();
    }
    for (name, value) in &now {
        out.pair(name, value, 9, theme.faint(), theme.strong());
    }
}

/// What happened between two marks.
fn between(frame: &Frame<'_>, r: &Readings, c: &Conclusions, out: &mut Writer<'_>) {
    let lines = match frame.haul.marks.as_slice() {
        [] => return,
        [_] => vec!["One mark is set: m at another place tells what lies between.".to_owned()],
        [a, b, ..] => r
            .between(frame.haul.ruler, *a, *b, c)
            .map_or_else(|| vec!["Nothing lies between the marks.".to_owned()], |b| b.words(letter)),
    };
    out.line("between the marks", frame.theme.accent());
    for line in &lines {
        out.text(line, 3, frame.theme.strong());
    }
    out.gap();
}

type Paragraph = (&'static str, Vec<String>);

fn paragraphs(frame: &Frame<'_>, all: &[Paragraph], out: &mut Writer<'_>) {
    for (name, lines) in all.iter().skip(frame.haul.scroll.min(all.len().saturating_sub(1))) {
        if out.left() < 2 {
            break;
        }
        out.line(name, frame.theme.accent());
        for line in lines {
            out.text(line, 2, ratatui::style::Style::new());
        }
        out.gap();
    }
}

fn figures(c: &Conclusions, r: &Readings) -> Vec<Paragraph> {
    let f = &c.figures;
    let mb = |v: Option<Rate>| v.map_or_else(|| "none".to_owned(), |v| v.to_string());
    let mut speed = vec![format!("burst {}, sustained {}", mb(f.burst), mb(f.sustained))];
    speed.extend(f.cache_bytes.map(|b| format!("{} absorbed at full speed", Bytes::new(b))));
    let even = |c: &Consistency| {
        vec![
            format!("mean {}, varies by {:.1} %", mb(Some(c.mean)), c.variation * 100.0),
            format!("worst second {}", mb(Some(c.worst_second))),
            format!("p1 {}, p99 {}", mb(Some(c.p1)), mb(Some(c.p99))),
            format!("longest stall {}", span_words(c.longest_stall_s)),
        ]
    };
    let mut all = vec![("speed", speed)];
    all.extend(f.whole().map(|c| ("the whole", even(&c))));
    all.extend(f.after_cache.as_ref().map(|c| ("after the cache end", even(c))));
    let members = c.surveys.members.as_ref().map(member_lines).unwrap_or_default();
    for (name, lines) in [
        ("power", power_lines(r)),
        ("meters", meter_lines(r)),
        ("members", members),
        ("written to the media", wear_lines(r, c)),
    ] {
        all.extend((!lines.is_empty()).then_some((name, lines)));
    }
    all.extend(findings::steady(f).map(|s| ("steady state, rounds of a minute", vec![s])));
    all.extend(Some(r.doubts()).filter(|d| !d.is_empty()).map(|d| ("doubts", d)));
    all
}

fn models(frame: &Frame<'_>, r: &Readings, c: &Conclusions) -> Vec<Paragraph> {
    let Some((_, models)) = &frame.haul.models else { return vec![("cache and heat", vec!["…".into()])] };
    // What a warmer room would do; `findings --ambient` tells it for any.
    let own = r.head().and_then(|h| h.conditions.ambient);
    let warmer = own.map(|t| Celsius::new(t.degrees() + 10.0));
    vec![("cache", models.cache_words()), ("heat", models.heat_words(c.figures.hottest_rate(), warmer))]
}

fn findings(frame: &Frame<'_>, r: &Readings, c: &Conclusions, width: usize, out: &mut Writer<'_>) {
    let theme = frame.theme;
    let arms_of = |f: &Finding| f.decided.as_deref().map(arms::lines).unwrap_or_default();
    let mut entries: Vec<(String, String, Vec<ArmLine>, Vec<String>)> = c
        .findings
        .iter()
        .enumerate()
        .map(|(i, f)| (letter(i), finding_head(f), arms_of(f), f.evidence.clone()))
        .collect();
    let count = entries.len();
    for (i, (at, words)) in r.notes().iter().enumerate() {
        let head = format!("\"{words}\"  {}", clock(*at));
        entries.push((letter(count + i), head, Vec::new(), Vec::new()));
    }
    if entries.is_empty() {
        out.text("No findings so far.", 0, theme.faint());
    }
    let first = frame.haul.scroll.min(entries.len().saturating_sub(1));
    for (name, line, tried, evidence) in entries.iter().skip(first) {
        if out.left() < 2 {
            break;
        }
        let width = width.saturating_sub(4);
        for (i, part) in wrap(line, width).iter().enumerate() {
            out.pair(if i == 0 { name } else { "" }, part, 3, theme.accent(), theme.strong());
        }
        arms::draw(tried, 3, width as u16 + 4, out, theme);
        for (i, sentence) in evidence.iter().enumerate() {
            // Evidence is read sentence by sentence: each begins with a mark.
            for (j, part) in wrap(sentence, width.saturating_sub(2)).iter().enumerate() {
                let mark = if j == 0 { "·" } else { " " };
                let style = if i == 0 { ratatui::style::Style::new() } else { theme.faint() };
                out.pair("", &format!("{mark} {part}"), 3, theme.faint(), style);
            }
        }
        out.gap();
    }
    for fault in r.faults().iter().rev().take(2) {
        out.text(&format!("fault {}: {}", clock(fault.at), fault.message), 3, theme.strong());
    }
}

fn finding_head(f: &Finding) -> String {
    format!("{}  {}  {:.2}", f.kind.word(), place_words(f), f.confidence)
}

fn now_lines(frame: &Frame<'_>, r: &Readings, c: &Conclusions) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    let kept = frame.haul.kept.as_ref();
    let live = frame.shown_live.filter(|l| l.runs());
    if live.is_some() {
        let p99 = r.last().and_then(|s| s.latency).map(|l| Duration::from_micros(l.p99_us.into()));
        if live.is_some_and(|l| l.paused) {
            lines.push(("now", "paused: the load is off".into()));
        } else {
            let rate = headline::rate_now(r).map_or_else(|| "at rest".into(), |r| r.to_string());
            lines.push(("now", rate));
            lines.push(("p99", p99.map_or_else(|| "none".into(), latency)));
        }
    }
    lines.extend(power_now(r).filter(|_| live.is_some()).map(|watts| ("power", watts)));
    if let Some(n) = live.and_then(|_| r.steady_rounds()) {
        lines.push(("steady", format!("{n} of 5 rounds inside")));
    }
    let mut moved = format!("{} written", r.written());
    if r.read() > Bytes::ZERO {
        moved.push_str(&format!(", {} read", r.read()));
    }
    lines.push(("so far", moved));
    if let Some(road) = live.and_then(Live::road) {
        let time = road.left_of_leg.map(|t| format!("about {}", words::about(t)));
        let bytes = headline::left(r).and_then(|l| l.1).map(|b| b.to_string());
        let leg: Vec<String> = [time, bytes].into_iter().flatten().collect();
        if !leg.is_empty() {
            lines.push(("leg left", leg.join(", ")));
        }
        if let Some(all) = road.left_words().filter(|_| road.legs.len() > 1) {
            let done =
                road.done().map(|d| format!(", {:.0} % done", (d * 100.0).floor())).unwrap_or_default();
            lines.push(("all left", format!("about {all}{done}")));
        }
    }
    if let Some(live) = live.filter(|l| l.simulated) {
        lines.push(("clock", if live.paused { "stands".into() } else { live.speed.words() }));
    }
    // Who else is there, and whether one may speak; nothing to tell while one is alone.
    if let Some(desk) = live.and_then(Live::desk) {
        match &desk.holder {
            Some(who) if !desk.yours => lines.push(("controls", format!("{who} has them; C takes them"))),
            _ if desk.watchers > 1 => lines.push(("watched", format!("on {} terminals", desk.watchers))),
            _ => {}
        }
    }
    if r.errors() > 0 {
        lines.push(("errors", r.errors().to_string()));
    }
    // Missed ones first: they are what one has to know.
    let mut limits = limits::judge(r, c);
    limits.sort_by_key(|l| l.verdict != Verdict::Missed);
    for l in limits.iter().take(LIMITS_SHOWN) {
        let of = if l.standing { ", of its model" } else { "" };
        lines.push(("limit", format!("{}: {} ({}){of}", l.verdict.word(), l.limit, l.because)));
    }
    if let Some(head) = r.head() {
        let mut conditions: Vec<String> = Vec::new();
        conditions.extend(head.conditions.ambient.map(|t| format!("ambient {t}")));
        conditions.extend(head.conditions.cooling.clone());
        conditions.extend(head.conditions.slot.clone());
        conditions.extend(head.conditions.label.clone());
        if !conditions.is_empty() {
            lines.push(("with", conditions.join(", ")));
        }
        if let Some(left) = kept.and_then(|k| k.row.kept_samples) {
            let all = kept.map_or(0, |k| k.row.samples);
            lines.push(("samples", format!("compacted: {left} of {all} are left")));
        }
        if kept.is_some() {
            lines.push(("started", words::local_time(head.started_unix_ms)));
        }
        lines.push(("engine", r.engine().to_owned()));
        lines.push(("haul", head.haul.clone()));
    }
    lines
}

fn cursor_lines(view: &HaulView, r: &Readings, (from, to): (f64, f64)) -> Vec<(&'static str, String)> {
    let Some(cursor) = view.window.cursor else { return Vec::new() };
    let place = from + cursor * (to - from);
    let width = (to - from) / 100.0;
    let column = r.columns(view.ruler, (place - width / 2.0).max(0.0), place + width / 2.0, 1);
    let Some(column) = column.first() else { return Vec::new() };
    let words = match view.ruler {
        Ruler::Elapsed => clock(Duration::from_secs_f64(place.max(0.0))),
        _ => Bytes::new(place.max(0.0) as u64).to_string(),
    };
    let figure = |r: Option<Rate>| r.map_or_else(|| "none".into(), |r| mb_s_figure(r.mb_s()));
    let mut lines = vec![
        ("cursor", words),
        (
            "rate",
            format!("{} MB/s, {} to {}", figure(column.rate), figure(column.slowest), figure(column.fastest)),
        ),
    ];
    let there = |field: &LatencyField| {
        let half = width / 2.0;
        let all = field.columns(view.ruler, (place - half).max(0.0), place + half, 1).pop()?;
        let told = all.told();
        let words = told.iter().filter(|t| t.0 != "p99.99" && t.0 != "p99.999");
        let words: Vec<String> = words.map(|(name, took)| format!("{name} {}", latency(*took))).collect();
        (!words.is_empty()).then(|| words.chunks(2).map(|two| two.join(", ")).collect::<Vec<_>>())
    };
    let mut waited = |name: &'static str, words: Vec<String>| {
        let names = std::iter::once(name).chain(std::iter::repeat(""));
        lines.extend(names.zip(words));
    };
    match there(r.latencies()) {
        Some(words) => waited("took", words),
        None => waited("p99", vec![column.p99.map_or_else(|| "none".into(), latency)]),
    }
    if let Some(words) = there(r.lookout()) {
        waited("lookout", words);
    }
    lines.push(("heat", column.hottest.map_or_else(|| "none".into(), |t| t.to_string())));
    lines
}
