//! The surveys that are tables: streams, blocks read back.

use crate::told::words::cells;
use std::time::Duration;

use hollow_mile_core::conclude::surveys::Surveys;
use hollow_mile_core::conclude::surveys::stream::StreamSurvey;
use hollow_mile_core::conclude::surveys::verify::VerifySurvey;
use hollow_mile_core::quantity::units::{Bytes, Rate, clock, latency};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::ui::theme::Theme;
use crate::ui::widgets::scroll::{Scroll, more};

/// One survey.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Page {
    /// Rate by position.
    #[default]
    Ground,
    /// Access time over nested shares.
    Spans,
    /// Figures against fill.
    Fill,
    /// Blocks, depths, workers, patterns.
    Ladder,
    /// Streams that were offered.
    Streams,
    /// Blocks read back.
    Verify,
}

impl Page {
    pub const ALL: [Self; 6] =
        [Self::Ground, Self::Spans, Self::Fill, Self::Ladder, Self::Streams, Self::Verify];

    pub const fn name(self) -> &'static str {
        match self {
            Self::Ground => "ground",
            Self::Spans => "spans",
            Self::Fill => "fill",
            Self::Ladder => "ladder",
            Self::Streams => "streams",
            Self::Verify => "verify",
        }
    }

    const fn is_in(self, s: &Surveys) -> bool {
        match self {
            Self::Ground => s.ground.is_some(),
            Self::Spans => s.spans.is_some(),
            Self::Fill => s.fill.is_some(),
            Self::Ladder => s.ladder.is_some(),
            Self::Streams => s.streams.is_some(),
            Self::Verify => s.verify.is_some(),
        }
    }
}

/// The surveys that a record has, in their order.
pub fn there(s: &Surveys) -> Vec<Page> {
    Page::ALL.into_iter().filter(|p| p.is_in(s)).collect()
}

/// What a survey says, in words.
pub fn sentences(page: Page, s: &Surveys) -> Vec<String> {
    let only = |page: Page| Surveys {
        ground: s.ground.clone().filter(|_| page == Page::Ground),
        spans: s.spans.clone().filter(|_| page == Page::Spans),
        ladder: s.ladder.clone().filter(|_| page == Page::Ladder),
        streams: s.streams.clone().filter(|_| page == Page::Streams),
        fill: s.fill.clone().filter(|_| page == Page::Fill),
        verify: s.verify.clone().filter(|_| page == Page::Verify),
    };
    only(page).sentences()
}

/// A row: cells, and a bar that ends at a share of its room, with half the width of its interval.
struct Row {
    cells: Vec<String>,
    bar: Option<(f64, f64)>,
    style: Style,
}

impl Row {
    fn of(cells: Vec<String>) -> Self {
        Self { cells, bar: None, style: Style::new() }
    }
}

/// A table whose bars take what room its cells leave.
struct Table {
    title: String,
    head: Vec<&'static str>,
    rows: Vec<Row>,
}

fn us(us: f64) -> String {
    latency(Duration::from_secs_f64((us / 1e6).max(0.0)))
}

/// Draws one.
pub fn render(page: Page, s: &Surveys, scroll: &Scroll, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let tables = match page {
        // Pictures of their own.
        Page::Ground | Page::Ladder | Page::Fill | Page::Spans => Vec::new(),
        Page::Streams => s.streams.as_ref().map(|t| vec![streams(t, theme)]).unwrap_or_default(),
        Page::Verify => s.verify.as_ref().map(verify).unwrap_or_default(),
    };
    let mut y = area.y;
    // The last row says what does not fit.
    let bottom = area.y + area.height.saturating_sub(1);
    let rows: usize = tables.iter().map(|t| t.rows.len()).sum();
    // Each table has two lines over its rows and a blank one under them.
    let room = usize::from(bottom.saturating_sub(area.y)).saturating_sub(3 * tables.len()).max(1);
    let first = scroll.first_of(rows, room);
    let mut skip = first;
    let mut drawn = first;
    for table in &tables {
        // Scrolled by rows, so that what does not fit can be reached.
        let hidden = skip.min(table.rows.len());
        skip -= hidden;
        if y + 2 >= bottom || (hidden == table.rows.len() && hidden > 0) {
            continue;
        }
        let until = draw(table, hidden, Rect { y, height: bottom - y, ..area }, buf, theme);
        drawn += usize::from(until.saturating_sub(y + 2));
        y = until + 1;
    }
    more(first, rows.saturating_sub(drawn), Rect { y: bottom, height: 1, ..area }, buf, theme);
}

fn draw(table: &Table, hidden: usize, area: Rect, buf: &mut Buffer, theme: &Theme) -> u16 {
    let mut y = area.y;
    buf.set_stringn(area.x, y, &table.title, usize::from(area.width), theme.accent());
    y += 1;
    let columns = table.head.len();
    let width = |c: usize| {
        let all = table.rows.iter().filter_map(|r| r.cells.get(c)).map(|t| cells(t));
        all.chain([cells(table.head[c])]).max().unwrap_or(0) as u16
    };
    let widths: Vec<u16> = (0..columns).map(width).collect();
    let mut x = area.x;
    for (head, w) in table.head.iter().zip(&widths) {
        let w = usize::from(*w);
        let room = usize::from((area.x + area.width).saturating_sub(x));
        buf.set_stringn(x, y, format!("{head:>w$}"), room, theme.faint());
        x += w as u16 + 2;
    }
    let bars = Rect { x, width: (area.x + area.width).saturating_sub(x + 1), ..area };
    y += 1;
    for row in table.rows.iter().skip(hidden) {
        if y >= area.y + area.height {
            break;
        }
        let mut x = area.x;
        for (cell, w) in row.cells.iter().zip(&widths) {
            let w = usize::from(*w);
            let room = usize::from((area.x + area.width).saturating_sub(x));
            buf.set_stringn(x, y, format!("{cell:>w$}"), room, Style::new());
            x += w as u16 + 2;
        }
        if let Some((share, half)) = row.bar.filter(|_| bars.width >= 8) {
            bar(Rect { y, height: 1, ..bars }, share, half, row.style, buf, theme);
        }
        y += 1;
    }
    y
}

/// A bar in eighths of a cell, with its interval as a whisker.
fn bar(area: Rect, share: f64, half: f64, style: Style, buf: &mut Buffer, theme: &Theme) {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let width = f64::from(area.width);
    let eighths = (share.clamp(0.0, 1.0) * width * 8.0).round() as usize;
    let whole = eighths / 8;
    let words = format!("{}{}", "█".repeat(whole), EIGHTHS[eighths % 8]);
    buf.set_stringn(area.x, area.y, words, usize::from(area.width), style);
    let cells = (half * width).round() as u16;
    let end = area.x + (share.clamp(0.0, 1.0) * width).round() as u16;
    if cells > 0 {
        for x in end..(end + cells).min(area.x + area.width) {
            buf.set_string(x, area.y, "─", theme.accent());
        }
        let last = (end + cells).min(area.x + area.width - 1);
        buf.set_string(last, area.y, "┤", theme.accent());
    }
}

fn streams(s: &StreamSurvey, theme: &Theme) -> Table {
    let most = s.trials.iter().map(|t| t.mb_s).fold(0.0, f64::max).max(1e-9) * 1.05;
    let rows = s
        .trials
        .iter()
        .map(|t| {
            let first = t.first_miss_s.map_or_else(
                || "none".into(),
                |s| {
                    let cause = t.cause.as_ref().map(|c| format!(" ({c})")).unwrap_or_default();
                    format!("{}{cause}", clock(Duration::from_secs_f64(s)))
                },
            );
            Row {
                cells: vec![
                    Rate::from_mb_s(t.mb_s).to_string(),
                    Bytes::new(t.buffer_bytes).to_string(),
                    if t.held { "held".into() } else { format!("missed {}", t.misses) },
                    first,
                    Bytes::new(t.backlog_bytes).to_string(),
                    Bytes::new(t.lost_bytes).to_string(),
                    us(t.p99_us),
                ],
                bar: Some((t.mb_s / most, 0.0)),
                style: theme.speed(if t.held { 1.0 } else { 0.1 }),
            }
        })
        .collect();
    Table {
        title: "streams as they were offered; latency counts from when each operation was due".into(),
        head: vec!["stream", "buffer", "", "first miss", "backlog", "lost", "p99"],
        rows,
    }
}

fn verify(v: &VerifySurvey) -> Vec<Table> {
    let counts = [
        ("written", v.written_bytes),
        ("read back", v.checked_bytes),
        ("wrong", v.wrong_bytes),
        ("from another address", v.misplaced_bytes),
        ("without stamp", v.unstamped_bytes),
        ("from an older write", v.stale_bytes),
        ("corrupt", v.corrupt_bytes),
        ("lost before a flush", v.unflushed_bytes),
    ];
    let rows = counts.iter().map(|(n, b)| Row::of(vec![(*n).into(), Bytes::new(*b).to_string()])).collect();
    let listed = v
        .mismatches
        .iter()
        .map(|m| {
            Row::of(vec![
                hollow_mile_core::quantity::units::grouped(m.position.get()),
                m.length.to_string(),
                m.wrong.words().to_owned(),
                m.belongs.map(|b| hollow_mile_core::quantity::units::grouped(b.get())).unwrap_or_default(),
            ])
        })
        .collect();
    vec![
        Table { title: "blocks read back".into(), head: vec!["", "bytes"], rows },
        Table {
            title: "stretches that did not read back as written".into(),
            head: vec!["first byte", "length", "in what way", "belongs at byte"],
            rows: listed,
        },
    ]
}
