//! What held files up, along the ruler: a row of segments, each with its word where there is room.

use hollow_mile_core::conclude::surveys::freight::held_up;
use hollow_mile_core::drive::freight::{Carry, Freighted, Side};
use hollow_mile_core::quantity::waited_for::WaitedFor;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::lane::LABELS;
use crate::ui::theme::{Layer, Theme};

/// Less than this is no waiting for one thing.
const LEAST: f64 = 0.1;

/// In a word or two, for a segment.
const fn word(on: WaitedFor, carry: Carry, side: Side) -> &'static str {
    match (on, carry, side) {
        (WaitedFor::Source, ..) | (WaitedFor::Target, _, Side::Source) => "source",
        (WaitedFor::Target, Carry::Copy, _) => "target",
        (WaitedFor::Target, ..) => "drive",
        (WaitedFor::FileSystem, ..) => "file system",
        (WaitedFor::Machine, ..) => "machine",
        (WaitedFor::SmallFiles, ..) => "each file",
    }
}

/// A shape for each, so that segments differ without colour, and a place on the ramp of speed.
const fn look(on: WaitedFor) -> (&'static str, f64) {
    match on {
        WaitedFor::Source => ("▒", 0.0),
        WaitedFor::Target => ("█", 0.25),
        WaitedFor::FileSystem => ("▓", 0.5),
        WaitedFor::Machine => ("░", 0.75),
        WaitedFor::SmallFiles => ("▚", 1.0),
    }
}

/// Draws it in one row, with its name at the left; `columns` is what was done in each column, and how it is carried.
pub fn render(area: Rect, buf: &mut Buffer, columns: &[Option<(Freighted, Carry, Side)>], theme: &Theme) {
    if area.height == 0 || area.width <= LABELS {
        return;
    }
    buf.set_stringn(area.x, area.y, "held by", usize::from(LABELS - 1), theme.faint());
    let of = |c: &Option<(Freighted, Carry, Side)>| {
        let (done, carry, side) = c.as_ref()?;
        let (on, _) = held_up(done, *carry).filter(|h| h.1 >= LEAST)?;
        Some((on, word(on, *carry, *side)))
    };
    let held: Vec<Option<(WaitedFor, &str)>> = columns.iter().map(of).collect();
    let mut from = 0;
    for part in held.chunk_by(|a, b| a == b) {
        let (x, width) = (area.x + LABELS + from as u16, part.len());
        from += part.len();
        let Some((on, word)) = part[0] else { continue };
        let (shape, place) = look(on);
        let (shape, style) =
            if theme.has_tones() { ("█", theme.filled(place, Layer::Full)) } else { (shape, Style::new()) };
        buf.set_string(x, area.y, shape.repeat(width), style);
        if width >= word.len() + 4 {
            let on_it = if theme.has_tones() {
                let ground = style.fg.unwrap_or_default();
                Style::new().bg(ground).fg(ratatui::style::Color::White)
            } else {
                Style::new()
            };
            buf.set_string(x + 1, area.y, format!(" {word} "), on_it);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::theme::Depth;
    use hollow_mile_core::drive::freight::Spent;
    use std::time::Duration;

    #[test]
    fn neighbours_that_wait_for_the_same_are_one_segment_with_its_word() {
        let of = |spent| {
            Some((Freighted { threads: 1, spent, ..Freighted::default() }, Carry::Copy, Side::Target))
        };
        let s = Duration::from_secs(1);
        let target = of(Spent { data: s, ..Spent::default() });
        let source = of(Spent { starved: s, source_data: s, ..Spent::default() });
        let mut columns = vec![target; 12];
        columns.push(None);
        columns.extend(vec![source; 12]);
        let area = Rect::new(0, 0, LABELS + 25, 1);
        let mut buf = Buffer::empty(area);
        render(area, &mut buf, &columns, &Theme::new(Depth::Mono));
        let row: String = (0..area.width).map(|x| buf[(x, 0)].symbol().to_owned()).collect();
        assert_eq!(row, "held by █ target ███ ▒ source ▒▒▒");
    }
}
