//! The lanes of a haul as a page: rate, latency and temperature on one ruler, with flags for findings and notes.

use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::scale::Axis;
use hollow_mile_core::quantity::units::{Bytes, Rate, clock, latency, mb_s_figure};
use hollow_mile_core::readings::{Column, Readings, Ruler};
use hollow_mile_core::record::forecast::{Band, Part};

use crate::field;
use crate::plot::{FAINT, Plot, Range, SHADE, TEXT, headed};
use crate::scene::{Anchor, Ink, Scene, beyond_one_line};

pub(crate) const WIDTH: f64 = 1120.0;
pub(crate) const LEFT: f64 = 92.0;
pub(crate) const RIGHT: f64 = 1090.0;
const TOP: f64 = 96.0;
/// Places of a chart that tell a pointer what was measured there.
pub(crate) const TOLD: usize = 220;
/// One column of data a point and a half: finer than print, far coarser than a record, with extremes kept.
const COLUMNS: usize = 660;
/// Of the latency field: each is a few shapes of its own.
const FIELD_COLUMNS: usize = 220;

pub(crate) const BAND: Ink = Ink(176, 202, 207);
pub(crate) const RATE: Ink = Ink(20, 92, 104);
const LATENCY: Ink = Ink(84, 66, 134);
pub(crate) const HEAT: Ink = Ink(176, 78, 28);

/// The middle of a column.
pub(crate) fn column_x(i: usize) -> f64 {
    LEFT + (i as f64 + 0.5) / COLUMNS as f64 * (RIGHT - LEFT)
}

pub use hollow_mile_core::archive::contrast::letter;

/// What a ruler measures, in words without a unit.
#[must_use]
pub fn ruler_words(ruler: Ruler, readings: &Readings) -> &'static str {
    match ruler {
        Ruler::Elapsed => "elapsed",
        Ruler::Moved if readings.read() == Bytes::ZERO => "written",
        Ruler::Moved if readings.written() == Bytes::ZERO => "read",
        Ruler::Moved => "written and read",
        Ruler::Position => "position on the drive",
    }
}

/// The axis of a ruler.
#[must_use]
pub fn ruler_axis(ruler: Ruler, from: f64, to: f64, most: usize) -> Axis {
    match ruler {
        Ruler::Elapsed => scale::elapsed(from, to, most),
        Ruler::Moved | Ruler::Position => scale::bytes(from, to, most),
    }
}

/// A finding in one line: `cache-end at 312.4 GB, 3 180 → 142 MB/s, 0.99`.
#[must_use]
pub fn finding_line(f: &Finding) -> String {
    use hollow_mile_core::quantity::FindingKind::{DataMismatch, MediaError, SlowZone};
    let mut line = match f.position.filter(|_| matches!(f.kind, SlowZone | MediaError | DataMismatch)) {
        Some(position) => format!("{} at {position} of the drive", f.kind.word()),
        None => format!("{} at {}", f.kind.word(), hollow_mile_core::conclude::verdict::place_words(f)),
    };
    if let (Some(before), Some(after)) = (f.before, f.after) {
        line.push_str(&format!(", {} → {} MB/s", mb_s_figure(before.mb_s()), mb_s_figure(after.mb_s())));
    }
    line.push_str(&format!(", {}", clock(f.elapsed)));
    if let Some(end) = f.end_elapsed {
        line.push_str(&format!(" to {}", clock(end)));
    }
    line.push_str(&format!(", confidence {:.2}", f.confidence));
    line
}

/// Draws the lanes of a haul along a ruler.
#[must_use]
pub fn lanes(readings: &Readings, conclusions: &Conclusions, ruler: Ruler) -> Scene {
    lanes_between(readings, conclusions, ruler, None)
}

/// Draws the lanes of a haul between two places of a ruler; all of it when there are none.
#[must_use]
pub fn lanes_between(
    readings: &Readings,
    conclusions: &Conclusions,
    ruler: Ruler,
    window: Option<(f64, f64)>,
) -> Scene {
    let extent = readings.extent(ruler).max(f64::MIN_POSITIVE);
    let (from, to) = window.unwrap_or((0.0, extent));
    let flags = flags_between(readings, conclusions, ruler, (from, to));
    // What others waited has a lane of its own, where somebody looked out; by address nothing is known of it.
    let looked = !readings.lookout().is_empty() && ruler != Ruler::Position;
    let more = more_lanes(readings, ruler, (from, to));
    let lanes_height = if looked { 530.0 } else { 420.0 };
    let more_height = MORE_HEIGHT * more.len() as f64;
    let told: f64 =
        flags.iter().take(MOST_FLAGS).map(|f| 17.0 + beyond_one_line(&f.line, 11.5, FLAG_WORDS)).sum();
    let height = TOP + lanes_height + more_height + 96.0 + told + 20.0;
    let head = readings.head();
    let title = head.map_or_else(
        || "A haul".to_owned(),
        |h| format!("{} {}, {}", h.drive.serial, h.drive.model, h.route.name),
    );
    let mut scene = Scene::new(WIDTH, height, title.clone());
    headed(&mut scene, &title, &conditions_line(readings), &source(readings));

    let columns = readings.columns(ruler, from, to, COLUMNS);
    let plot = |top: f64, share: f64, low: f64, high: f64| Plot {
        left: LEFT,
        right: RIGHT,
        top: TOP + lanes_height * top,
        bottom: TOP + lanes_height * (top + share),
        x: Range::even(from, to),
        y: Range::even(low, high),
    };
    let fastest = columns.iter().filter_map(|c| c.fastest).map(Rate::get).fold(0.0, f64::max);
    let expected = readings.expected(ruler, from, to, COLUMNS);
    let hoped = expected.iter().flatten().filter_map(|p| p.rate).map(|b| b.high).fold(0.0, f64::max);
    let fastest = fastest.max(hoped.min(fastest * 2.0));
    let lane = |top: f64, share: f64| plot(top, share, 0.0, 1.0);
    let [rate, latency, lookout, heat] = if looked {
        [lane(0.0, 0.39), lane(0.44, 0.155), lane(0.645, 0.155), lane(0.85, 0.15)]
    } else {
        [lane(0.0, 0.50), lane(0.56, 0.18), lane(0.56, 0.18), lane(0.80, 0.20)]
    };
    let rate = Plot { y: Range::even(0.0, scale::rate_top(fastest)), ..rate };
    let along = Plot { top: TOP, bottom: TOP + lanes_height + more_height, ..rate };
    along.axis_x(&mut scene, &ruler_axis(ruler, from, to, 8), ruler_words(ruler, readings));
    draw_expected(&mut scene, &rate, &expected);
    draw_rate(&mut scene, &rate, &columns);
    if readings.latencies().is_empty() || ruler == Ruler::Position {
        draw_latency(&mut scene, latency, &columns);
    } else {
        field::draw(
            &mut scene,
            latency,
            &readings.latencies().columns(ruler, from, to, FIELD_COLUMNS),
            "latency",
        );
    }
    if looked {
        let waits = readings.lookout().columns(ruler, from, to, FIELD_COLUMNS);
        field::draw(&mut scene, lookout, &waits, "others wait");
    }
    draw_heat(&mut scene, heat, &columns, readings);
    for (i, (what, unit, values)) in more.iter().enumerate() {
        let top = TOP + lanes_height + MORE_HEIGHT * i as f64;
        let lane = Plot { top: top + 30.0, bottom: top + MORE_HEIGHT, ..lane(0.0, 0.0) };
        draw_plain(&mut scene, lane, what, unit, values);
    }
    let foot = TOP + lanes_height + more_height;
    draw_inquiries(&mut scene, &along, readings, ruler, (from, to));
    draw_flags(&mut scene, &rate, &flags, foot);
    let told = readings.columns(ruler, from, to, TOLD);
    let width = (RIGHT - LEFT) / TOLD as f64;
    for (i, c) in told.iter().enumerate() {
        let x = LEFT + width * i as f64;
        let at = from + (to - from) * (i as f64 + 0.5) / TOLD as f64;
        if let Some(words) = column_words(ruler, at, c) {
            scene.spot((x, TOP), (x + width, foot), words);
        }
    }
    scene
}

/// What a column says to a pointer: where it is, and what was measured there.
fn column_words(ruler: Ruler, at: f64, c: &Column) -> Option<String> {
    let rate = c.rate?;
    let place = match ruler {
        Ruler::Elapsed => clock(std::time::Duration::from_secs_f64(at.max(0.0))),
        Ruler::Moved | Ruler::Position => Bytes::new(at.max(0.0) as u64).to_string(),
    };
    let mut words = format!("{place}: {rate}");
    if let Some((slowest, fastest)) = c.slowest.zip(c.fastest).filter(|(s, f)| s != f) {
        words.push_str(&format!(" ({} to {})", mb_s_figure(slowest.mb_s()), mb_s_figure(fastest.mb_s())));
    }
    if let Some(p99) = c.p99 {
        words.push_str(&format!(", p99 {}", latency(p99)));
    }
    if let Some(t) = c.hottest {
        words.push_str(&format!(", {t}"));
    }
    Some(words)
}

/// Program, haul and engine: where a chart is from.
#[must_use]
pub fn source(readings: &Readings) -> String {
    readings.head().map_or_else(String::new, |h| {
        format!("Hollow Mile {} · haul {} · {}", h.program, h.haul, readings.engine())
    })
}

/// The conditions of a haul in a line.
#[must_use]
pub fn conditions_line(readings: &Readings) -> String {
    let Some(head) = readings.head() else { return String::new() };
    let mut parts = vec![format!("{}", head.drive.capacity), format!("written {}", readings.written())];
    parts.push(format!("elapsed {} h:mm:ss", clock(readings.elapsed())));
    if let Some(t) = head.conditions.ambient {
        parts.push(format!("ambient {t}"));
    }
    parts.extend(head.conditions.cooling.iter().map(|c| format!("cooling {c}")));
    parts.extend(head.conditions.slot.iter().map(|s| format!("slot {s}")));
    if !head.drive.firmware.is_empty() {
        parts.push(format!("firmware {}", head.drive.firmware));
    }
    parts.join(" · ")
}

/// Unbroken stretches of columns that have a value.
pub(crate) fn stretches<T: Copy>(
    columns: &[Column],
    value: impl Fn(&Column) -> Option<T>,
) -> Vec<Vec<(usize, T)>> {
    let mut all: Vec<Vec<(usize, T)>> = vec![Vec::new()];
    for (i, column) in columns.iter().enumerate() {
        match (value(column), all.last_mut()) {
            (Some(v), Some(last)) => last.push((i, v)),
            (None, Some(last)) if !last.is_empty() => all.push(Vec::new()),
            _ => {}
        }
    }
    all.retain(|s| !s.is_empty());
    all
}

/// The band of the forecast, behind what was measured.
fn draw_expected(scene: &mut Scene, plot: &Plot, expected: &[Option<Part>]) {
    let bands: Vec<Option<Band>> = expected.iter().map(|p| p.as_ref().and_then(|p| p.rate)).collect();
    let mut from = 0;
    while from < bands.len() {
        let run: Vec<Band> = bands[from..].iter().map_while(|b| *b).collect();
        if run.len() > 1 {
            let at = |i: usize, v: f64| (column_x(from + i), plot.y(v.min(plot.y.high)));
            let upper = run.iter().enumerate().map(|(i, b)| at(i, b.high));
            let lower = run.iter().enumerate().rev().map(|(i, b)| at(i, b.low));
            scene.area(upper.chain(lower).collect(), SHADE);
        }
        from += run.len() + 1;
    }
    if bands.iter().any(Option::is_some) {
        let words = "ground: expected from earlier hauls, nine samples in ten";
        scene.words((LEFT + 90.0, plot.top - 7.0), words, 10.0, FAINT, Anchor::Start);
    }
}

fn draw_rate(scene: &mut Scene, plot: &Plot, columns: &[Column]) {
    plot.axis_y(scene, &scale::rates(plot.y.high, 5), "rate");
    for stretch in stretches(columns, |c| c.slowest.zip(c.fastest)) {
        let edge = |(i, v): (usize, Rate)| (column_x(i), plot.y(v.get()));
        let upper = stretch.iter().map(|(i, (_, f))| edge((*i, *f)));
        let lower = stretch.iter().rev().map(|(i, (s, _))| edge((*i, *s)));
        scene.area(upper.chain(lower).collect(), BAND);
    }
    for stretch in stretches(columns, |c| c.rate) {
        scene.line(stretch.iter().map(|(i, v)| (column_x(*i), plot.y(v.get()))).collect(), RATE, 1.6);
    }
    let x = RIGHT;
    scene.words(
        (x, plot.top - 7.0),
        "line: mean · band: slowest to fastest interval",
        10.0,
        FAINT,
        Anchor::End,
    );
}

fn draw_latency(scene: &mut Scene, mut plot: Plot, columns: &[Column]) {
    let values: Vec<f64> = columns.iter().filter_map(|c| c.p99).map(|d| d.as_secs_f64() * 1e6).collect();
    let (Some(low), Some(high)) =
        (values.iter().copied().reduce(f64::min), values.iter().copied().reduce(f64::max))
    else {
        scene.heavy((LEFT, plot.top - 7.0), "latency p99: not in the record", 11.5, TEXT, Anchor::Start);
        return;
    };
    let low = low.max(1.0).log10().floor();
    let high = high.max(1.0).log10().ceil().max(low + 1.0);
    plot.y = Range::log(10f64.powf(low), 10f64.powf(high));
    plot.axis_y(scene, &scale::latencies(plot.y.low, plot.y.high), "latency p99");
    for stretch in stretches(columns, |c| c.p99) {
        let place = |us: f64| plot.y(us.max(1.0));
        let points = stretch.iter().map(|(i, v)| (column_x(*i), place(v.as_secs_f64() * 1e6)));
        scene.line(points.collect(), LATENCY, 1.2);
    }
}

/// Height of a lane below the usual ones, with room for its name.
const MORE_HEIGHT: f64 = 105.0;

/// What few hauls have: the name of each such lane, its unit and its columns.
type More = (&'static str, &'static str, Vec<Option<f64>>);

/// What the drive draws, and its write amplification. By position neither has a place.
fn more_lanes(readings: &Readings, ruler: Ruler, (from, to): (f64, f64)) -> Vec<More> {
    if ruler == Ruler::Position {
        return Vec::new();
    }
    let mut all = Vec::new();
    if !readings.meters().power().is_empty() {
        all.push(("power", "W", readings.power_columns(ruler, from, to, COLUMNS)));
    }
    if !readings.write_amplification_over_time().is_empty() {
        let values = readings.write_amplification_columns(ruler, from, to, COLUMNS);
        all.push(("write amplification", "×", values));
    }
    all
}

/// A line from zero up.
fn draw_plain(scene: &mut Scene, mut plot: Plot, what: &str, unit: &'static str, values: &[Option<f64>]) {
    let most = values.iter().flatten().copied().fold(0.0, f64::max);
    plot.y = Range::even(0.0, scale::rate_top(most * 1e6) / 1e6);
    plot.axis_y(scene, &scale::plain(plot.y.high, 4, unit), what);
    let mut open: Vec<(f64, f64)> = Vec::new();
    for (i, value) in values.iter().enumerate() {
        match value {
            Some(v) => open.push((column_x(i), plot.y(*v))),
            None if open.is_empty() => {}
            None => scene.line(std::mem::take(&mut open), LATENCY, 1.2),
        }
    }
    if !open.is_empty() {
        scene.line(open, LATENCY, 1.2);
    }
}

fn draw_heat(scene: &mut Scene, mut plot: Plot, columns: &[Column], readings: &Readings) {
    let coldest = columns.iter().filter_map(|c| c.coldest).min();
    let hottest = columns.iter().filter_map(|c| c.hottest).max();
    let (Some(coldest), Some(hottest)) = (coldest, hottest) else {
        scene.heavy((LEFT, plot.top - 7.0), "temperature: not in the record", 11.5, TEXT, Anchor::Start);
        return;
    };
    let limit = readings.throttle_limit().map(|l| l.degrees());
    let low = (coldest.degrees() / 10.0).floor() * 10.0;
    let top = hottest.degrees().max(limit.unwrap_or(f64::MIN));
    plot.y = Range::even(low, ((top + 1.0) / 10.0).ceil() * 10.0);
    plot.axis_y(scene, &scale::degrees(plot.y.low, plot.y.high, 4), "temperature");
    if let Some(limit) = limit {
        let y = plot.y(limit);
        scene.dashes(vec![(LEFT, y), (RIGHT, y)], HEAT, 1.0);
        scene.words((RIGHT - 4.0, y - 4.0), format!("limit {limit} °C"), 10.0, HEAT, Anchor::End);
    }
    for stretch in stretches(columns, |c| c.hottest) {
        let points = stretch.iter().map(|(i, v)| (column_x(*i), plot.y(v.degrees())));
        scene.line(points.collect(), HEAT, 1.4);
    }
}

/// Flags that are told below the lanes.
const MOST_FLAGS: usize = 26;
/// Room for their words.
const FLAG_WORDS: f64 = RIGHT - LEFT - 24.0;

struct Flag {
    name: String,
    place: Option<f64>,
    line: String,
}

/// The flags that stand between two places, each with its letter of the whole haul; one without a place is told too.
fn flags_between(r: &Readings, c: &Conclusions, ruler: Ruler, (from, to): (f64, f64)) -> Vec<Flag> {
    let findings = c.findings.iter().map(|f| (r.place_of_finding(ruler, f), finding_line(f)));
    let notes = r
        .notes()
        .iter()
        .map(|(at, text)| (r.place_of(ruler, *at), format!("note \"{text}\", {}", clock(*at))));
    let all = findings.chain(notes).enumerate();
    let seen = all.filter(|(_, (place, _))| place.is_none_or(|p| (from..=to).contains(&p)));
    seen.map(|(i, (place, line))| Flag { name: letter(i), place, line }).collect()
}

/// A bracket under the lanes where experiments were made.
fn draw_inquiries(scene: &mut Scene, plot: &Plot, r: &Readings, ruler: Ruler, (from, to): (f64, f64)) {
    for (_, begin, end) in r.inquiries_between(ruler, (from, to)) {
        let (left, right) = (plot.x(begin.max(from)), plot.x(end.min(to)).max(plot.x(begin.max(from)) + 2.0));
        let y = plot.bottom - 4.0;
        scene.line(vec![(left, y - 5.0), (left, y), (right, y), (right, y - 5.0)], TEXT, 1.4);
        scene.words(((left + right) / 2.0, y - 16.0), "tried out".to_owned(), 10.0, TEXT, Anchor::Middle);
    }
}

fn draw_flags(scene: &mut Scene, plot: &Plot, flags: &[Flag], base: f64) {
    let mut free_from = f64::MIN;
    let mut y = base + 64.0;
    for flag in flags.iter().take(MOST_FLAGS) {
        if let Some(place) = flag.place {
            let x = plot.x(place);
            scene.dashes(vec![(x, plot.top - 4.0), (x, base)], TEXT, 0.8);
            // Letters of flags that stand close together step aside; their lines stay.
            let at = x.max(free_from);
            free_from = at + 12.0;
            scene.heavy((at, plot.top - 8.0 - 11.0), flag.name.clone(), 12.0, TEXT, Anchor::Middle);
        }
        scene.heavy((LEFT, y), flag.name.clone(), 11.5, TEXT, Anchor::Start);
        scene.paragraph((LEFT + 24.0, y), &flag.line, 11.5, TEXT, FLAG_WORDS);
        y += 17.0 + beyond_one_line(&flag.line, 11.5, FLAG_WORDS);
    }
    let more = flags.len().saturating_sub(MOST_FLAGS);
    if more > 0 {
        scene.words((LEFT + 24.0, y), format!("and {more} more"), 11.5, FAINT, Anchor::Start);
    }
}
