//! What lies over a view: help, the list of actions, a line to type, a question.

use hollow_mile_charts::lanes::letter;
use hollow_mile_core::quantity::units::{Bytes, clock};
use hollow_mile_core::quantity::width;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::widgets::{Block, BorderType, Clear, Widget};
use tui_input::Input;

use crate::ui::actions::available;
use crate::ui::app::Overlay;
use crate::ui::asking::{Prompt, Question, Words};
use crate::ui::bindings::find_actions;
use crate::ui::frame::Frame;
use crate::ui::theme::Theme;
use crate::ui::widgets::arms;
use crate::ui::widgets::panel::{Writer, with_cursor, wrap};

fn framed(area: Rect, width: u16, height: u16, title: &str, theme: &Theme, buf: &mut Buffer) -> Rect {
    let width = width.min(area.width.saturating_sub(4));
    let height = height.min(area.height.saturating_sub(2));
    let frame =
        Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 3, width, height };
    Clear.render(frame, buf);
    let block = Block::bordered()
        .border_type(BorderType::Rounded)
        .border_style(theme.faint())
        .title(format!(" {title} "))
        .title_style(theme.accent());
    let inner = block.inner(frame);
    block.render(frame, buf);
    Rect { x: inner.x + 1, width: inner.width.saturating_sub(2), ..inner }
}

/// Draws the overlay, if there is one.
pub fn render(overlay: Option<&Overlay>, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    match overlay {
        None => {}
        Some(Overlay::Help) => {
            let bindings: Vec<_> = available(frame.screen).collect();
            let inner = framed(area, 76, bindings.len() as u16 + 5, frame.screen.name(), frame.theme, buf);
            let mut out = Writer::new(inner, buf);
            out.line(frame.question, theme.strong());
            out.gap();
            // Where they do not all fit, the list of actions has the rest.
            let room = usize::from(out.left());
            let shown = if bindings.len() > room { room.saturating_sub(1) } else { bindings.len() };
            for b in &bindings[..shown] {
                out.pair(
                    b.keys,
                    &format!("{:<15} {}", b.name, b.help),
                    7,
                    theme.accent(),
                    ratatui::style::Style::new(),
                );
            }
            if shown < bindings.len() {
                out.line(
                    &format!("and {} more: the : key lists them all", bindings.len() - shown),
                    theme.faint(),
                );
            }
        }
        Some(Overlay::Find { input, chosen }) => {
            let found = find_actions(frame.screen, input.value());
            let inner = framed(area, 76, 20, "actions", frame.theme, buf);
            let mut out = Writer::new(inner, buf);
            out.line(&format!(": {}", with_cursor(input, usize::from(inner.width) - 2)), theme.accent());
            out.gap();
            let from = chosen.saturating_sub(usize::from(inner.height).saturating_sub(4));
            for (i, b) in found.iter().enumerate().skip(from) {
                let style = if i == *chosen { theme.chosen() } else { ratatui::style::Style::new() };
                out.line(&format!("{:<16} {:<7} {}", b.name, b.keys, b.help), style);
            }
            if found.is_empty() {
                out.line("No action has these words.", theme.faint());
            }
        }
        Some(Overlay::Evidence(index)) => evidence(frame, *index, area, buf),
        Some(Overlay::Hold(input, answer)) => {
            let lines: Vec<String> = answer.iter().flat_map(|a| wrap(a, 72)).collect();
            let inner =
                framed(area, 78, lines.len() as u16 + 6, "would it have held a stream?", frame.theme, buf);
            let mut out = Writer::new(inner, buf);
            typed(input, &mut out, usize::from(inner.width), theme);
            out.gap();
            for line in &lines {
                out.line(line, theme.strong());
            }
            if !lines.is_empty() {
                out.gap();
            }
            out.line("Stream, buffer. A stream is a rate, or 64 channels x 24 bit x 96 kHz.", theme.faint());
            out.line("Enter asks, Esc goes back.", theme.faint());
        }
        Some(Overlay::Queue { drive, chosen }) => queue(frame, drive, *chosen, area, buf),
        Some(Overlay::Prompt(prompt)) => line_to_type(prompt, area, buf, theme),
        Some(Overlay::Ask(asked)) => question(asked, area, buf, theme),
    }
}

/// What waits for a drive.
fn queue(frame: &Frame<'_>, drive: &str, chosen: usize, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(q) = frame.queues.iter().find(|q| q.drive == drive) else { return };
    let height = q.entries.len() as u16 + 8;
    let inner = framed(area, 90, height, &format!("queue of {drive}"), theme, buf);
    let mut out = Writer::new(inner, buf);
    let state = match (&q.trouble, q.paused) {
        (Some(why), _) => format!("It waits because {why}. Space goes on."),
        (None, true) => "Paused: nothing begins. Space goes on.".into(),
        (None, false) => "It goes on by itself, also when you leave.".into(),
    };
    out.text(&state, 0, if q.trouble.is_some() { theme.accent() } else { theme.strong() });
    if let Some(now) = &q.now {
        out.text(&format!("now  {now}"), 5, theme.strong());
    }
    out.gap();
    let room = usize::from(out.left()).saturating_sub(2).max(1);
    let from = chosen.saturating_sub(room - 1);
    for (i, entry) in q.entries.iter().enumerate().skip(from).take(room) {
        let style = if i == chosen { theme.chosen() } else { ratatui::style::Style::new() };
        out.line(&format!("{:>3}  {}", i + 1, entry.words()), style);
    }
    if q.entries.is_empty() {
        out.line("Nothing waits.", theme.faint());
    }
    out.gap();
    out.line("j k choose    - + earlier, later    D take out    Space pause    Esc back", theme.accent());
}

fn line_to_type(prompt: &Prompt, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let (title, help) = match prompt.words {
        Words::Moment => ("note for the record", "Enter writes it down at this moment."),
        Words::Label => ("name of this haul", "Enter keeps it; an empty one takes it away."),
        Words::Tags => ("tags of this haul", "name=value, with commas between. Enter keeps them."),
        Words::Note => ("note on this haul", "Enter keeps it; an empty one takes it away."),
        Words::Leg => {
            ("kind of the new leg", "write, read, mixed, rest, fill, scan, spans, … Enter adds it.")
        }
        Words::Route => ("name of your route", "Letters, digits and -. Enter keeps it in your routes."),
        Words::Ambient => ("air temperature", "As 38 °C. Enter brings heat to it; empty, as it was."),
    };
    let faults: Vec<String> = prompt.fault.iter().flat_map(|f| wrap(f, 64)).collect();
    let inner = framed(area, 70, 5 + faults.len() as u16, title, theme, buf);
    let mut out = Writer::new(inner, buf);
    typed(&prompt.input, &mut out, usize::from(inner.width), theme);
    faults.iter().for_each(|f| out.line(f, theme.accent()));
    out.gap();
    out.line(&format!("{help} Esc cancels."), theme.faint());
}

/// What is typed, with the cursor where it is; the part around it when it is long.
fn typed(input: &Input, out: &mut Writer<'_>, width: usize, theme: &Theme) {
    out.line(&with_cursor(input, width), theme.accent());
}

fn question(asked: &Question, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let lines: Vec<String> = asked.lines.iter().flat_map(|l| wrap(l, 72)).collect();
    let inner = framed(area, 78, lines.len() as u16 + 4, "please confirm", theme, buf);
    let mut out = Writer::new(inner, buf);
    let room = usize::from(out.left()).saturating_sub(2);
    for line in lines.iter().take(if lines.len() > room { room.saturating_sub(1) } else { room }) {
        out.line(line, theme.strong());
    }
    if lines.len() > room {
        out.line("and more: make the window higher", theme.faint());
    }
    out.gap();
    // One without words goes with the one before it.
    let told = asked.answers.iter().filter(|a| !a.1.is_empty());
    let answers: Vec<String> = told.map(|(key, words, _)| format!("{key} {words}")).collect();
    out.line(&format!("{}    n {}", answers.join("    "), asked.no), theme.accent());
    asked.is_seen();
}

/// All of a finding: where it is on every ruler, what changed, how sure it is, and why.
fn evidence(frame: &Frame<'_>, index: usize, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some((r, c)) = frame.shown else { return };
    let Some(f) = c.findings.get(index) else { return };
    let plain = ratatui::style::Style::new();
    let rates = f.before.zip(f.after).map(|(b, a)| format!("{b} → {a}"));
    let rates = rates.or_else(|| f.after.map(|a| a.to_string()));
    let until = f.end_elapsed.map_or_else(String::new, |e| format!(" to {}", clock(e)));
    let mut rows = vec![("when", format!("{}{until}", clock(f.elapsed)))];
    if r.written() > Bytes::ZERO {
        let within = width::bounds(f.written_low, f.written_high);
        rows.push(("written", format!("{}, 95 % within {within}", f.written)));
    }
    let end = f.position_end.map_or_else(String::new, |e| format!(" to {e}"));
    rows.extend(f.position.map(|p| ("address", format!("{p}{end}"))));
    rows.extend(rates.map(|r| ("rate", r)));
    rows.extend(f.temperature.map(|t| ("heat", t.to_string())));
    rows.push(("sure", format!("{:.0} of 100 such findings are right", f.confidence * 100.0)));
    let tried = f.decided.as_deref().map(arms::lines).unwrap_or_default();
    let lines: Vec<Vec<String>> = f.evidence.iter().map(|e| wrap(e, 82)).collect();
    let picture = tried.len() + usize::from(!tried.is_empty());
    let height = rows.len() + picture + lines.iter().map(Vec::len).sum::<usize>() + 5;
    let title = format!("{}  {}", letter(index), f.kind.word());
    let inner = framed(area, 90, height as u16, &title, frame.theme, buf);
    let mut out = Writer::new(inner, buf);
    for (name, value) in &rows {
        out.pair(name, value, 9, theme.faint(), theme.strong());
    }
    out.gap();
    arms::draw(&tried, 0, inner.width, &mut out, theme);
    if !tried.is_empty() {
        out.gap();
    }
    for sentence in &lines {
        for (i, line) in sentence.iter().enumerate() {
            out.line(&format!("{} {line}", if i == 0 { "·" } else { " " }), plain);
        }
    }
    out.gap();
    out.line("f F the next, the one before    Esc back", theme.accent());
}
