//! What a haul of files shows beside its lanes: both sides of a copy, the queue between them, and what holds it up.

use hollow_mile_core::drive::freight::{Carry, Freighted, Side};
use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::readings::{Column, Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::theme::Theme;
use crate::ui::widgets::{held as strip, lane};

/// What was done in a column, and in which leg.
pub type Done = Option<(u16, Freighted)>;

/// A copy is in the record.
pub fn copies(r: &Readings) -> bool {
    let leg = |n: u16| r.head().and_then(|h| h.route.legs.get(usize::from(n)));
    r.legs().iter().any(|l| leg(l.leg).is_some_and(|l| l.carry == Carry::Copy))
}

fn column(rate: Rate) -> Column {
    let rate = Some(rate);
    Column { rate, slowest: rate, fastest: rate, ..Column::default() }
}

/// The target above, and below it the source and the queue, or the source alone where there is room for one.
#[allow(clippy::too_many_arguments, reason = "a view is drawn from all it has")]
pub fn rates(
    r: &Readings,
    ruler: Ruler,
    (from, to): (f64, f64),
    done: &[Done],
    target: &Rect,
    [source, queue]: [Rect; 2],
    buf: &mut Buffer,
    theme: &Theme,
) {
    let sides = r.both_ways(ruler, from, to, done.len() * 2);
    let legs = r.head().map(|h| h.route.legs.as_slice()).unwrap_or_default();
    let at_source = |i: usize| {
        let leg = done.get(i / 2).and_then(|d| d.as_ref()).and_then(|d| legs.get(usize::from(d.0)));
        leg.is_some_and(|l| l.at == Side::Source)
    };
    // What is laid at the source, or read back there, is none of the target's.
    let of = |side: fn(&(Rate, Rate)) -> Rate, own: bool| -> Vec<Column> {
        let one = |(i, s): (usize, &Option<(Rate, Rate)>)| match (s, at_source(i), own) {
            (Some(s), false, _) => column(side(s)),
            (Some(s), true, false) => column(Rate::new(s.0.get().max(s.1.get()))),
            _ => Column::default(),
        };
        sides.iter().enumerate().map(one).collect()
    };
    lane::rate_named(*target, buf, &of(|s| s.0, true), "target, MB/s", theme);
    lane::rate_named(source, buf, &of(|s| s.1, false), "source, MB/s", theme);
    if queue != source {
        let full = |d: &Done| d.as_ref().and_then(|d| d.1.queue_ppm).map(|p| f64::from(p) / 1e4);
        let values: Vec<Option<f64>> = done.iter().flat_map(|d| [full(d), full(d)]).collect();
        lane::percent(
            queue,
            buf,
            &values,
            "queue, % full (full: the source waits; empty: the target does)",
            theme,
        );
    }
}

/// What held files up, in its row.
pub fn held(r: &Readings, done: Vec<Done>, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let legs = r.head().map(|h| h.route.legs.as_slice()).unwrap_or_default();
    let columns: Vec<_> = done
        .into_iter()
        .map(|d| {
            let (leg, done) = d?;
            let leg = legs.get(usize::from(leg))?;
            Some((done, leg.carry, leg.at))
        })
        .collect();
    strip::render(area, buf, &columns, theme);
}

/// Temperature of the source, two values a column.
pub fn warmth(done: &[Done]) -> Vec<Option<f64>> {
    let of = |d: &Done| d.as_ref().and_then(|d| d.1.source_temperature).map(|t| t.degrees());
    done.iter().flat_map(|d| [of(d), of(d)]).collect()
}
