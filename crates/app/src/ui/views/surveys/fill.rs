//! A fill sweep as a picture: each load's rate against how full the drive was, one strip a load over one shared axis from 0 to 100 %,
//! with its 95 % interval. What does not hold stands out.

use hollow_mile_core::conclude::surveys::fill::{AgainstFill, AtLevel, FillSurvey};
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::units::{Rate, mb_s_figure, significant};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::told::words::cells;
use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::{Canvas, row_of};
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::{Scroll, more};

/// Rows of a strip: its words, and its picture.
const LEAST: u16 = 5;
const MOST: u16 = 11;
/// Room for figures at the right.
const FIGURES: u16 = 24;

/// Draws the sweep.
pub fn render(survey: &FillSurvey, scroll: &Scroll, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let count = survey.measures.len();
    if count == 0 || area.height < LEAST + 3 || area.width < LABELS + FIGURES + 20 {
        return;
    }
    // The axis takes two rows, and a word on what is out of sight one.
    let room = area.height - 3;
    let fits = usize::from(room / LEAST).clamp(1, count);
    let each = (room / fits as u16).min(MOST);
    let first = scroll.first_of(count, fits);
    let plot = Rect { x: area.x + LABELS, width: area.width - LABELS - FIGURES, ..area };
    for (i, measure) in survey.measures.iter().skip(first).take(fits).enumerate() {
        let at = Rect { y: area.y + i as u16 * each, height: each, ..area };
        strip(measure, at, plot, buf, theme);
    }
    axis(Rect { y: area.y + fits as u16 * each, height: 2, ..plot }, buf, theme);
    let below = Rect { y: area.y + area.height - 1, height: 1, ..area };
    more(first, count - first - fits, below, buf, theme);
}

fn column(percent: f64, plot: Rect) -> u16 {
    plot.x + (percent.clamp(0.0, 100.0) / 100.0 * f64::from(plot.width - 1)).round() as u16
}

fn strip(m: &AgainstFill, area: Rect, plot: Rect, buf: &mut Buffer, theme: &Theme) {
    let last = m.levels.last().map_or(1.0, |l| l.of_first);
    let verdict = if m.holds {
        "holds".to_owned()
    } else {
        format!("does not hold: {:.0} % of the first level is left", last * 100.0)
    };
    let (x, _) = buf.set_stringn(
        area.x,
        area.y,
        &m.measure,
        usize::from(area.width),
        if m.holds { theme.strong() } else { theme.accent() },
    );
    let room = usize::from((area.x + area.width - FIGURES).saturating_sub(x + 2));
    let style = if m.holds { theme.faint() } else { theme.accent() };
    buf.set_stringn(x + 2, area.y, fit(&verdict, room), room, style);
    let picture = Rect { x: plot.x, y: area.y + 1, width: plot.width, height: area.height - 2 };
    let half = |l: &AtLevel| l.mb_s.interval.unwrap_or(0.0);
    let top = m.levels.iter().map(|l| l.mb_s.mean + half(l)).fold(0.0, f64::max).max(1e-9) * 1.05;
    for (share, y) in [(1.0, picture.y), (0.0, picture.y + picture.height - 1)] {
        let words = format!("{:>7}", mb_s_figure(top * share));
        buf.set_stringn(area.x, y, words, 7, theme.faint());
    }
    let mut canvas = Canvas::new(picture);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |percent: f64, mb_s: f64| (percent / 100.0 * width, (mb_s / top).clamp(0.0, 1.0) * height);
    for pair in m.levels.windows(2) {
        let (a, b) =
            (place(pair[0].fill_percent, pair[0].mb_s.mean), place(pair[1].fill_percent, pair[1].mb_s.mean));
        let (from, to) = (pair[0].mb_s.mean, pair[1].mb_s.mean);
        canvas.line(a, b, |t| theme.speed((from + (to - from) * t) / top));
    }
    for l in &m.levels {
        let (x, low) = place(l.fill_percent, (l.mb_s.mean - half(l)).max(0.0));
        let (_, high) = place(l.fill_percent, l.mb_s.mean + half(l));
        for up in low.round() as usize..=high.round() as usize {
            canvas.dot(x.round() as usize, up, theme.accent());
        }
    }
    canvas.paint(picture, buf);
    // A level whose data was in the cache alone says nothing of the drive behind it.
    for l in &m.levels {
        let row = row_of(l.mb_s.mean / top, picture.height);
        let cached = l.cached.is_some_and(|c| c >= 0.99);
        let (mark, style) = if cached { ("c", theme.accent()) } else { ("●", theme.strong()) };
        buf.set_string(column(l.fill_percent, plot), picture.y + row, mark, style);
    }
    let right = Rect { x: plot.x + plot.width + 2, y: area.y, width: FIGURES - 2, height: area.height - 1 };
    let said = |l: &AtLevel| {
        let rate = match l.mb_s.interval {
            Some(half) => Quantity::Rate.plus_minus(l.mb_s.mean * 1e6, half * 1e6),
            None => Rate::from_mb_s(l.mb_s.mean).to_string(),
        };
        format!("{:>3} %  {}", significant(l.fill_percent), rate.trim_end_matches(" MB/s"))
    };
    let (ends, room) = (m.levels.len(), usize::from(right.height));
    let shown: Vec<usize> = if ends <= room {
        (0..ends).collect()
    } else {
        (0..room).map(|i| i * (ends - 1) / (room - 1).max(1)).collect()
    };
    for (row, level) in shown.into_iter().enumerate() {
        let words = said(&m.levels[level]);
        buf.set_stringn(
            right.x,
            right.y + row as u16,
            fit(&words, usize::from(right.width)),
            usize::from(right.width),
            theme.faint(),
        );
    }
}

/// The axis that all strips share.
fn axis(at: Rect, buf: &mut Buffer, theme: &Theme) {
    for x in at.x..at.x + at.width {
        buf.set_string(x, at.y, "─", theme.faint());
    }
    for percent in [0, 20, 40, 60, 80, 100] {
        let x = column(f64::from(percent), at);
        buf.set_string(x, at.y, "┬", theme.faint());
        let words = percent.to_string();
        let from = x.saturating_sub(words.len() as u16 / 2).max(at.x);
        buf.set_string(from, at.y + 1, words, theme.faint());
    }
    let whole = " full, % of the drive; rates in MB/s; c: from the cache alone ";
    let name =
        if cells(whole) + 8 < usize::from(at.width) { whole } else { " full, %; MB/s; c: cache alone " };
    let x = at.x + at.width.saturating_sub(cells(name) as u16) / 2;
    buf.set_stringn(x, at.y, name, usize::from(at.width), theme.faint());
}
