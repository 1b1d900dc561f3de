//! Contrast: hauls side by side. What differs by more than the noise, on one ruler and in a table.

use crate::told::contrast::{Detail, table_of_figures, without_interval};
use hollow_mile_charts::contrast::ruler_name;
use hollow_mile_core::archive::contrast::letter;
use hollow_mile_core::quantity::histogram::Histogram;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Celsius, Rate};
use hollow_mile_core::readings::{Column, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::told::Compared;
use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::{Canvas, row_of};
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::panel::{Writer, wrap};
use crate::ui::widgets::ruler;
use crate::ui::widgets::scroll::Scroll;
use crate::ui::widgets::table::{table, widths};
use crate::ui::widgets::tails::{self, Curve, Named};

const LATENCY: Named = Named {
    title: "share of operations under load that take longer than",
    axis: "latency",
    counted: "operations",
};

/// What stands under the curves.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Page {
    /// Figures with intervals.
    #[default]
    Figures,
    /// Findings, matched.
    Findings,
    /// How long operations took.
    Latency,
    /// What was different.
    Conditions,
}

/// A contrast on screen.
pub struct ContrastView {
    /// What is compared; `None` before hauls were marked.
    pub compared: Option<Compared>,
    /// Along what.
    pub ruler: Ruler,
    page: Page,
    from: Scroll,
}

impl Default for ContrastView {
    fn default() -> Self {
        Self { compared: None, ruler: Ruler::Moved, page: Page::Figures, from: Scroll::default() }
    }
}

impl ContrastView {
    /// Of hauls that were compared.
    #[must_use]
    pub fn of(compared: Compared) -> Self {
        let moved = compared.subjects.iter().any(|s| s.digest.treatment.written_bytes > 0);
        let ruler = if moved { Ruler::Moved } else { Ruler::Elapsed };
        Self { compared: Some(compared), ruler, ..Self::default() }
    }

    /// Air temperature to which heat is brought now.
    #[must_use]
    pub fn ambient(&self) -> Option<Celsius> {
        self.compared.as_ref()?.contrast.ambient_c.map(Celsius::new)
    }

    /// Turns the ruler or the page, moves the table.
    pub fn act(&mut self, action: Action) {
        match action {
            Action::TurnRuler => self.ruler = self.ruler.turned(),
            Action::OtherPane => {
                self.page = match self.page {
                    Page::Figures => Page::Findings,
                    Page::Findings if self.compared.as_ref().is_some_and(Compared::has_latencies) => {
                        Page::Latency
                    }
                    Page::Findings | Page::Latency => Page::Conditions,
                    Page::Conditions => Page::Figures,
                };
                self.from = Scroll::default();
            }
            _ => self.from.act(action),
        }
    }
}

/// Sides are told apart by their letter on the curve; colour helps.
fn style_of(side: usize, theme: &Theme) -> Style {
    match side % 4 {
        0 => theme.speed(0.45),
        1 => theme.heat(1.0),
        2 => theme.speed(0.0),
        _ => theme.speed(1.0),
    }
}

/// One quantity of all hauls: a line each, with the letter of its side on it.
#[allow(clippy::too_many_arguments)]
fn curves(
    area: Rect,
    buf: &mut Buffer,
    title: &str,
    (low, high): (f64, f64),
    ticks: &scale::Axis,
    all: &[(usize, Vec<Option<f64>>)],
    theme: &Theme,
) {
    if area.height < 3 || area.width < LABELS + 8 {
        return;
    }
    buf.set_stringn(area.x + LABELS, area.y, title, usize::from(area.width - LABELS), theme.faint());
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 1, width: area.width - LABELS, height: area.height - 1 };
    let share = |v: f64| ((v - low) / (high - low).max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
    let row = |v: f64| plot.y + ((1.0 - share(v)) * f64::from(plot.height - 1)).round() as u16;
    for t in &ticks.ticks {
        let words = format!("{:>7}", t.words);
        buf.set_stringn(area.x, row(t.value), words, 7, theme.faint());
    }
    for (side, values) in all {
        let mut canvas = Canvas::new(plot);
        let top = canvas.rows().saturating_sub(1) as f64;
        let mut last: Option<usize> = None;
        for (x, v) in values.iter().enumerate() {
            let Some(v) = v else {
                last = None;
                continue;
            };
            let up = (share(*v) * top).round() as usize;
            let from = last.unwrap_or(up);
            for u in from.min(up)..=from.max(up) {
                canvas.dot(x, u, style_of(*side, theme));
            }
            last = Some(up);
        }
        canvas.paint(plot, buf);
    }
    // Letters over all lines, each side's at its own places.
    for (side, values) in all {
        let n = all.len().max(1);
        for k in 0..4 {
            let at = values.len() * (1 + 2 * (k * n + *side)) / (8 * n);
            if let Some(Some(v)) = values.get(at) {
                let style = style_of(*side, theme).add_modifier(Modifier::BOLD);
                let down = row_of(share(*v), plot.height);
                buf.set_string(plot.x + (at / 2) as u16, plot.y + down, letter(*side), style);
            }
        }
    }
}

/// Draws the contrast.
pub fn render(view: &ContrastView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(compared) = &view.compared else {
        return frame.top(area, buf, "mark two hauls or more in the ledger, then press c there");
    };
    let c = &compared.contrast;
    let sides: Vec<String> =
        c.sides.iter().map(|s| format!("{} {} ({})", s.letter, s.name, s.hauls.len())).collect();
    frame.top(area, buf, &sides.join("   "));
    let width = usize::from(area.width);
    let answers: Vec<String> = c.answer.iter().flat_map(|a| wrap(a, width)).take(4).collect();
    let mut out = Writer::new(Rect { y: area.y + 2, height: 6, ..area }, buf);
    answers.iter().for_each(|l| out.line(l, theme.strong()));
    for warning in c.warnings.iter().take(2) {
        out.line(&format!("! {warning}"), theme.accent());
    }
    let used = 2 + answers.len() as u16 + c.warnings.len().min(2) as u16 + 1;
    let body = Rect { y: area.y + used, height: area.height.saturating_sub(used), ..area };
    // The curves take a half, or what the table leaves.
    let table = c.figures.len() as u16 + 3;
    let upper = (body.height / 2).max(8).max(body.height.saturating_sub(table.max(16))).min(body.height);
    let plots = Rect { height: upper.saturating_sub(2), ..body };
    let columns = usize::from(plots.width.saturating_sub(LABELS)) * 2;
    let overlay = compared.overlay(view.ruler, columns);
    let of = |f: &dyn Fn(&Column) -> Option<f64>| -> Vec<(usize, Vec<Option<f64>>)> {
        compared
            .side_of
            .iter()
            .copied()
            .zip(overlay.curves.iter().map(|c| c.iter().map(f).collect()))
            .collect()
    };
    let rates = of(&|c| c.rate.map(Rate::get));
    let heat = of(&|c| c.hottest.map(|t| t.degrees()));
    let seen = |all: &[(usize, Vec<Option<f64>>)]| {
        all.iter()
            .flat_map(|a| a.1.iter().flatten().copied())
            .fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)))
    };
    let (coldest, hottest) = seen(&heat);
    // A title and two rows are a picture; where there is no room for that, it is said.
    let known = coldest <= hottest;
    let warm = known && plots.height >= 7;
    let lower = if warm { (plots.height / 3).max(3) } else { 0 };
    let rate_at = Rect { height: plots.height - lower, ..plots };
    let ticks = |h: u16| usize::from(h / 3).clamp(2, 6);
    let rows = |h: u16| usize::from(h.saturating_sub(1));
    let (axis, fastest) =
        scale::rates_on_rows(seen(&rates).1.max(0.0), rows(rate_at.height), ticks(rate_at.height));
    curves(rate_at, buf, "rate, MB/s", (0.0, fastest), &axis, &rates, theme);
    if known && !warm {
        let words = "no room for the temperature: a higher window has it";
        let x = plots.x + plots.width.saturating_sub(words.len() as u16);
        buf.set_stringn(x, plots.y, words, words.len(), theme.faint());
    }
    if warm {
        let at = Rect { y: rate_at.y + rate_at.height, height: lower, ..plots };
        let (axis, low, high) = scale::degrees_on_rows(coldest, hottest + 1.0, rows(lower), ticks(lower));
        curves(at, buf, "temperature, °C", (low, high), &axis, &heat, theme);
    }
    let at = Rect { y: plots.y + plots.height, height: 2, ..body };
    ruler::named(at, buf, view.ruler, (0.0, overlay.extent), ruler_name(view.ruler), theme);
    let at = Rect { y: body.y + upper + 1, height: body.height.saturating_sub(upper + 1), ..body };
    lower_page(view, compared, at, frame, buf);
}

/// A row of the table whose difference is one.
fn differs(row: &[String]) -> bool {
    row.iter().any(|c| c.starts_with("differs: "))
}

fn lower_page(view: &ContrastView, compared: &Compared, at: Rect, frame: &Frame<'_>, buf: &mut Buffer) {
    let theme = frame.theme;
    let c = &compared.contrast;
    let room = usize::from(at.height.saturating_sub(1)).max(1);
    match view.page {
        Page::Figures => {
            let (head, mut rows) =
                table_of_figures(c, if at.width >= 150 { Detail::Full } else { Detail::Short });
            // Where not all fits, what differs is worth more than the interval of each side.
            if widths(&head, &rows).iter().sum::<u16>() > at.width {
                for cell in rows.iter_mut().flat_map(|r| r.iter_mut().skip(1).take(c.sides.len())) {
                    *cell = without_interval(cell);
                }
            }
            let from = view.from.first_of(rows.len(), room);
            table(&head, &rows, from, differs, at, buf, theme);
        }
        Page::Findings => {
            let all: Vec<&String> = c.findings.iter().flat_map(|m| &m.sentences).collect();
            let mut out = Writer::new(at, buf);
            out.line("findings that belong together", theme.faint());
            if all.is_empty() {
                out.line("None was found in any of them.", Style::new());
            }
            let from = view.from.first_of(all.len(), 1);
            all.iter().skip(from).for_each(|s| out.text(s, 2, Style::new()));
        }
        Page::Latency => {
            let curve = |(side, counts): (usize, Histogram)| Curve {
                letter: c.sides[side].letter.clone(),
                name: c.sides[side].name.clone(),
                counts,
                style: style_of(side, theme),
            };
            let curves: Vec<Curve> = compared.latencies().into_iter().enumerate().map(curve).collect();
            if at.height < tails::LEAST_ROWS {
                let words = "no room for the curves of latency: a higher window has them";
                buf.set_stringn(at.x, at.y, words, usize::from(at.width), theme.faint());
            }
            tails::render(&curves, &LATENCY, at, buf, theme);
        }
        Page::Conditions => {
            let mut head = vec!["what was different".to_owned()];
            head.extend(c.sides.iter().map(|s| s.letter.clone()));
            let rows: Vec<Vec<String>> = c
                .differs
                .iter()
                .map(|d| std::iter::once(d.name.clone()).chain(d.values.iter().cloned()).collect())
                .collect();
            let upper = Rect { height: at.height.min(rows.len() as u16 + 2), ..at };
            table(&head, &rows, 0, differs, upper, buf, theme);
            let rest = Rect { y: at.y + upper.height, height: at.height - upper.height, ..at };
            let mut out = Writer::new(rest, buf);
            c.warnings.iter().for_each(|w| out.text(w, 2, Style::new()));
        }
    }
}
