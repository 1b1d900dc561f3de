//! Blocks read back as a map: the drive row by row of equal length, what was seen in each part as a shape and a shade, letters that pair
//! what stands where with where it belongs, and the edge of what the drive really holds.

use hollow_mile_charts::lanes::letter;
use hollow_mile_core::conclude::surveys::proof::{Moved, Seen, moved, parts};
use hollow_mile_core::conclude::surveys::verify::VerifySurvey;
use hollow_mile_core::drive::stamp::Wrong;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::{Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::told::words::cells;
use crate::ui::theme::Theme;
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{Scroll, more};

const PANEL: u16 = 37;
/// Pieces that get a letter on the map.
const LETTERED: usize = 12;

/// How a verdict looks: a shape, and a shade.
fn look(seen: Seen, theme: &Theme) -> (&'static str, Style) {
    match seen {
        Seen::Nothing => ("·", theme.faint()),
        Seen::Right => ("█", theme.speed(0.35)),
        Seen::Wrong(Wrong::Corrupt) => ("╳", theme.accent()),
        Seen::Wrong(Wrong::Misplaced) => ("╱", theme.accent().remove_modifier(Modifier::BOLD)),
        Seen::Wrong(Wrong::Unstamped) => ("□", theme.accent()),
        Seen::Wrong(Wrong::Stale) => ("▤", theme.latency()),
        Seen::Wrong(Wrong::Unflushed) => ("░", theme.latency()),
    }
}

/// Draws it; `cursor` is a share of the drive.
pub fn render(
    v: &VerifySurvey,
    r: &Readings,
    cursor: Option<f64>,
    scroll: &Scroll,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let panel_width = PANEL;
    if area.height < 8 || area.width < LABELS + panel_width + 20 {
        return;
    }
    let map = Rect {
        x: area.x + LABELS,
        y: area.y + 1,
        width: area.width - LABELS - panel_width - 2,
        height: area.height - 2,
    };
    let pieces = moved(&v.mismatches);
    let under = draw_map(v, r, &pieces, cursor, map, buf, theme);
    let below = if under.is_some() { 3 } else { 0 };
    let panel = Rect { x: map.x + map.width + 2, width: panel_width, height: area.height - below, ..area };
    figures(v, &pieces, scroll, panel, buf, theme);
    if let Some((from, to, seen)) = under {
        let low = Rect { y: panel.y + panel.height + 1, height: below - 1, ..panel };
        let mut out = Writer::new(low, buf);
        out.line(&format!("at {} to {}", Bytes::new(from), Bytes::new(to)), theme.faint());
        out.line(seen.words(), theme.strong());
    }
}

/// Gives what lies under the cursor: first byte, one past the last, and what was seen there.
fn draw_map(
    v: &VerifySurvey,
    r: &Readings,
    pieces: &[Moved],
    cursor: Option<f64>,
    map: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) -> Option<(u64, u64, Seen)> {
    let capacity = r.extent(Ruler::Position).max(1.0);
    let count = usize::from(map.width) * usize::from(map.height);
    let all = parts(r, count);
    let place = |address: f64| {
        let i = ((address / capacity * count as f64) as usize).min(count - 1);
        (map.x + (i % usize::from(map.width)) as u16, map.y + (i / usize::from(map.width)) as u16)
    };
    let row = short(Bytes::new((capacity / f64::from(map.height)) as u64));
    buf.set_stringn(
        map.x,
        map.y - 1,
        format!("the drive from its first address on, {row} a row"),
        usize::from(map.width),
        theme.faint(),
    );
    for (i, part) in all.iter().enumerate() {
        let (symbol, style) = look(part.seen(), theme);
        let (x, y) =
            (map.x + (i % usize::from(map.width)) as u16, map.y + (i / usize::from(map.width)) as u16);
        buf.set_string(x, y, symbol, style);
    }
    let step = (map.height / 6).max(1);
    for y in (0..map.height).step_by(usize::from(step)) {
        let address = Bytes::new((capacity * f64::from(y) / f64::from(map.height)) as u64);
        let words = short(address);
        buf.set_stringn(map.x - LABELS, map.y + y, format!("{words:>7}"), 7, theme.faint());
    }
    buf.set_stringn(
        map.x - LABELS,
        map.y + map.height,
        format!("{:>7} the last address", short(Bytes::new(capacity as u64))),
        usize::from(map.width + LABELS),
        theme.faint(),
    );
    // Small letters stand where blocks stand, capitals where they belong.
    for (i, piece) in pieces.iter().enumerate().take(LETTERED) {
        let middle = piece.length.as_f64() / 2.0;
        let mark = Style::reset().add_modifier(Modifier::BOLD | Modifier::REVERSED);
        for (at, name) in [
            (piece.belongs.as_f64() + middle, letter(i)),
            (piece.stands.as_f64() + middle, letter(i).to_lowercase()),
        ] {
            let (x, y) = place(at.min(capacity - 1.0));
            // Where two would stand in one place the next is free.
            let free = (x..map.x + map.width)
                .find(|x| buf.cell((*x, y)).is_some_and(|c| !c.modifier.contains(Modifier::REVERSED)));
            buf.set_string(free.unwrap_or(x), y, name, mark);
        }
    }
    if let Some(holds) = v.holds_bytes {
        edge(holds as f64 / capacity, Bytes::new(holds), map, buf);
    }
    let share = cursor?;
    let (x, y) = place(share * capacity);
    buf.set_style(Rect { x, y, width: 1, height: 1 }, theme.chosen());
    let i = ((share * count as f64) as usize).min(count - 1);
    let width = capacity / count as f64;
    Some(((width * i as f64) as u64, (width * (i + 1) as f64) as u64, all.get(i)?.seen()))
}

/// A thousand and less of a unit in seven columns.
fn short(bytes: Bytes) -> String {
    let b = bytes.as_f64();
    let (scale, unit) = match b {
        b if b >= 1e12 => (1e12, "TB"),
        b if b >= 1e9 => (1e9, "GB"),
        b if b >= 1e6 => (1e6, "MB"),
        _ => (1e3, "kB"),
    };
    let v = b / scale;
    match v {
        0.0 => "0".into(),
        v if v < 10.0 => format!("{v:.1} {unit}"),
        v => format!("{v:.0} {unit}"),
    }
}

/// Where the drive ends, whatever it says.
fn edge(share: f64, holds: Bytes, map: Rect, buf: &mut Buffer) {
    let down = share.clamp(0.0, 1.0) * f64::from(map.height);
    let (row, part) = (down as u16, down.fract());
    if row >= map.height {
        return;
    }
    let y = map.y + row;
    let x = map.x + (part * f64::from(map.width)) as u16;
    let name = format!(" {holds}, all that the drive holds ");
    // At the right of the edge, at its left where it would run out of the map, or below it.
    let (length, right) = (cells(&name) as u16, map.x + map.width);
    let (from, at) = match () {
        () if x + 1 + length <= right => (x + 1, y),
        () if x >= map.x + length => (x - length, y),
        () => (right.saturating_sub(length).max(map.x), (y + 1).min(map.y + map.height - 1)),
    };
    let words = Style::reset().add_modifier(Modifier::BOLD);
    buf.set_stringn(from, at, &name, usize::from(right - from), words);
    buf.set_string(x.min(map.x + map.width - 1), y, "┃", words);
}

fn figures(v: &VerifySurvey, pieces: &[Moved], scroll: &Scroll, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let width = usize::from(area.width);
    let mut y = area.y;
    buf.set_stringn(area.x, y, format!("of {} written", Bytes::new(v.written_bytes)), width, theme.accent());
    y += 1;
    for (seen, bytes) in v.by_what_was_seen() {
        let (symbol, style) = look(seen, theme);
        buf.set_stringn(area.x, y, symbol.repeat(2), 2, style);
        let text = if bytes == 0 { theme.faint() } else { theme.strong() };
        let words = format!("{:<21}{:>11}", seen.words(), Bytes::new(bytes).to_string());
        buf.set_stringn(area.x + 4, y, words, width.saturating_sub(4), text);
        y += 1;
    }
    y += 1;
    let left = area.y + area.height;
    if y + 4 > left {
        return;
    }
    if pieces.is_empty() && v.mismatches.is_empty() {
        let mut out = Writer::new(Rect { y, height: left - y, ..area }, buf);
        out.text("Every block that was read came back as it was written.", 0, theme.faint());
        return;
    }
    let moved_rows = pieces.iter().enumerate().map(|(i, p)| {
        let name =
            if i < LETTERED { format!("{} {}", letter(i).to_lowercase(), letter(i)) } else { "   ".into() };
        format!("{name}{:>9}{:>12}{:>12}", short(p.length), short(p.stands), short(p.belongs))
    });
    let others = v.mismatches.iter().filter(|m| m.belongs.is_none()).map(|m| {
        let seen = Seen::Wrong(m.wrong);
        let sign = look(seen, theme).0;
        format!("{sign}  {:>9}{:>12}  {}", short(m.length), short(m.position), seen.words())
    });
    let rows: Vec<String> = moved_rows.chain(others).collect();
    let head = format!("{:<3}{:>9}{:>12}{:>12}", "", "length", "stands at", "belongs at");
    buf.set_stringn(area.x, y, head, width, theme.faint());
    y += 1;
    let fits = usize::from(left.saturating_sub(y + 1));
    let first = scroll.first_of(rows.len(), fits);
    for (i, words) in rows.iter().skip(first).take(fits).enumerate() {
        buf.set_stringn(area.x, y + i as u16, fit(words, width), width, theme.strong());
    }
    let last = Rect { y: left - 1, height: 1, ..area };
    more(first, rows.len().saturating_sub(first + fits), last, buf, theme);
}
