//! A lookout: the share of reads that wait longer than so long, at rest and under load.

use hollow_mile_core::readings::{During, Readings};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::theme::Theme;
use crate::ui::widgets::tails::{self, Curve, Named};

const NAMED: Named = Named {
    title: "share of reads that wait longer than",
    axis: "wait, from when a read was due",
    counted: "reads",
};

/// Draws them.
pub fn render(readings: &Readings, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let curve = |letter: &str, name: &str, during, style| Curve {
        letter: letter.to_owned(),
        name: name.to_owned(),
        counts: readings.lookout().during(during),
        style,
    };
    let curves = [
        curve("R", "at rest", During::Rest, theme.latency()),
        curve("L", "under load", During::Load, theme.speed(0.5)),
    ];
    tails::render(&curves, &NAMED, area, buf, theme);
}
