//! Keys and the mouse: to the overlay, to what takes text, or to the actions of the view.

use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent, MouseEventKind};
use tui_input::backend::crossterm::EventHandler;

use super::actions::{Action, Screen, action};
use super::app::{App, Overlay, Yes, find_actions};
use super::views::haul::Hit;
use crate::command::Command;
use crate::error::AppError;

impl App {
    /// Takes an event of the terminal.
    pub fn on_event(&mut self, event: &TermEvent) {
        match event {
            TermEvent::Key(key) if key.kind != ratatui::crossterm::event::KeyEventKind::Release => {
                if self.overlay.is_some() {
                    self.on_overlay_key(event, key);
                } else if self.takes_text() {
                    self.on_text_key(event, key);
                } else if let Some(action) = action(self.screen, key) {
                    self.act(action);
                }
            }
            TermEvent::Mouse(mouse) if self.overlay.is_none() => match mouse.kind {
                MouseEventKind::ScrollDown => self.act(Action::Down),
                MouseEventKind::ScrollUp => self.act(Action::Up),
                MouseEventKind::Down(_) if self.screen == Screen::Haul => self.click(mouse.column, mouse.row),
                _ => {}
            },
            _ => {}
        }
    }

    /// A click in the lanes puts the cursor there; on a flag it opens the evidence.
    pub(super) fn click(&mut self, x: u16, y: u16) {
        let Some((r, c)) = self.shown() else { return };
        match self.haul.at(self.area.get(), x, y, r, c) {
            Some(Hit::Flag(i)) if i < c.findings.len() => self.show_evidence(i),
            Some(Hit::Flag(i)) => self.go_to_flag(i as isize - self.haul.first_shown() as isize),
            Some(Hit::Lanes(share)) => self.haul.cursor = Some(share),
            None => {}
        }
    }

    pub(super) fn takes_text(&self) -> bool {
        match self.screen {
            Screen::Route => self.route.editing.is_some(),
            Screen::Ledger => self.archive.filtering,
            _ => false,
        }
    }

    pub(super) fn on_text_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match self.screen {
            Screen::Route => self.route.on_text_key(event, key),
            _ => self.archive.on_text_key(event, key),
        }
    }

    pub(super) fn on_overlay_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        let Some(mut overlay) = self.overlay.take() else { return };
        match (&mut overlay, key.code) {
            (Overlay::Help, _) => return,
            (Overlay::Evidence(_), KeyCode::Esc | KeyCode::Enter | KeyCode::Char('q')) => return,
            (Overlay::Evidence(i), KeyCode::Up | KeyCode::Char('k' | 'F')) => {
                let i = i.saturating_sub(1);
                return self.show_evidence(i);
            }
            (Overlay::Evidence(i), KeyCode::Down | KeyCode::Char('j' | 'f')) => {
                let i = *i + 1;
                return self.show_evidence(i);
            }
            (Overlay::Evidence(_), _) => {}
            (Overlay::Ask { yes, .. }, KeyCode::Char('y' | 'Y')) => {
                let yes = yes.clone();
                return self.confirm(yes);
            }
            (Overlay::Ask { .. }, KeyCode::Char('n' | 'N')) | (_, KeyCode::Esc) => return,
            (Overlay::Ask { .. }, _) => {}
            (Overlay::Hold(input, answer), KeyCode::Enter) => *answer = self.ask_stream(input.value()),
            (Overlay::Hold(input, _), _) => {
                input.handle_event(event);
            }
            (Overlay::Note(input), KeyCode::Enter) => {
                let words = input.value().trim().to_owned();
                if !words.is_empty() {
                    self.ask_shown(Command::Note(words));
                }
                return;
            }
            (Overlay::Note(input), _) => {
                input.handle_event(event);
            }
            (Overlay::Words(words, input), KeyCode::Enter) => {
                let (words, text) = (*words, input.value().to_owned());
                return self.take_words(words, &text);
            }
            (Overlay::Words(_, input), _) => {
                input.handle_event(event);
            }
            (Overlay::Find { input, chosen }, KeyCode::Enter) => {
                let found = find_actions(self.screen, input.value());
                if let Some(action) = found.get(*chosen).map(|b| b.action) {
                    self.act(action);
                }
                return;
            }
            (Overlay::Find { chosen, .. }, KeyCode::Up) => *chosen = chosen.saturating_sub(1),
            (Overlay::Find { input, chosen }, KeyCode::Down) => {
                *chosen = (*chosen + 1).min(find_actions(self.screen, input.value()).len().saturating_sub(1));
            }
            (Overlay::Find { input, chosen }, _) => {
                input.handle_event(event);
                *chosen = 0;
            }
        }
        self.overlay = Some(overlay);
    }

    pub(super) fn confirm(&mut self, yes: Yes) {
        match yes {
            Yes::Stop => self.ask_shown(Command::Stop),
            Yes::Leave => {
                for live in &mut self.live {
                    let _ = live.end();
                }
                self.quit = true;
            }
            Yes::Remove(left) => {
                let result = self.ledger.remove_leftover(&left).map_err(AppError::from);
                let path = left.path.display().to_string();
                match result {
                    Ok(true) => self.say(format!("{path} is removed.")),
                    Ok(false) => self.say(format!("{path} is another file by now, and was left alone.")),
                    Err(e) => self.say(e.message),
                }
            }
        }
    }
}
