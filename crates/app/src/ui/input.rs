//! Keys, pasted text and the mouse: to the overlay, to what takes text, or to the actions of the view.

use ratatui::crossterm::event::{
    Event as TermEvent, KeyCode, KeyEvent, KeyEventKind, MouseButton, MouseEventKind,
};
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use super::actions::{Action, Screen, action};
use super::app::{App, Overlay};
use super::asking::paste_into;
use super::bindings::find_actions;
use super::frame::Spot;

impl App {
    /// Takes an event of the terminal.
    pub fn on_event(&mut self, event: &TermEvent) {
        match event {
            TermEvent::Key(key) if key.kind != KeyEventKind::Release => {
                if self.overlay.is_some() {
                    self.on_overlay_key(event, key);
                } else if self.takes_text() {
                    self.on_text_key(event, key);
                } else if let Some(action) = action(self.screen, key) {
                    self.act(action);
                }
            }
            TermEvent::Paste(text) => self.on_paste(text),
            TermEvent::Mouse(mouse) if self.overlay.is_none() && !self.takes_text() => match mouse.kind {
                MouseEventKind::ScrollDown => self.act(Action::Down),
                MouseEventKind::ScrollUp => self.act(Action::Up),
                MouseEventKind::Down(MouseButton::Left) => self.press(mouse.column, mouse.row),
                MouseEventKind::Drag(MouseButton::Left) => self.drag(mouse.column, mouse.row),
                MouseEventKind::Up(MouseButton::Left) => self.release(mouse.column, mouse.row),
                _ => {}
            },
            _ => {}
        }
    }

    /// Pasted text goes where text is asked for, and is nowhere a key.
    fn on_paste(&mut self, text: &str) {
        let between = self.route.between_pasted_lines();
        match &mut self.overlay {
            Some(Overlay::Prompt(prompt)) => return paste_into(&mut prompt.input, text, " "),
            Some(Overlay::Find { input, chosen }) => {
                *chosen = 0;
                return paste_into(input, text, " ");
            }
            Some(Overlay::Hold(input, _)) => return paste_into(input, text, " "),
            Some(Overlay::Help | Overlay::Evidence(_) | Overlay::Ask(_) | Overlay::Queue { .. }) => {}
            None => match self.screen {
                Screen::Route => {
                    if let Some(input) = &mut self.route.editing {
                        return paste_into(input, text, between);
                    }
                }
                Screen::Ledger if self.archive.filtering => return self.archive.paste(text),
                _ => {}
            },
        }
        self.say("Pasted text was left alone: nothing here takes text. n, /, or a field does.");
    }

    /// The mouse was pressed: on a row, a tab, a flag, in the lanes.
    fn press(&mut self, x: u16, y: u16) {
        self.pressed = None;
        match self.spot(x, y) {
            Some(Spot::Row(row)) => self.choose(row),
            Some(Spot::Tab(times)) => (0..times).for_each(|_| self.act(Action::OtherPane)),
            Some(Spot::Flag(i)) => {
                if self.shown().is_some_and(|(_, c)| i < c.findings.len()) {
                    self.show_evidence(i);
                } else {
                    self.go_to_flag(i as isize - self.haul.first_shown() as isize);
                }
            }
            Some(Spot::Plot(share)) => {
                self.pressed = Some(share);
                self.put_cursor(share);
            }
            None => {}
        }
    }

    fn drag(&mut self, x: u16, y: u16) {
        if let (Some(_), Some(Spot::Plot(share))) = (self.pressed, self.spot(x, y)) {
            self.put_cursor(share);
        }
    }

    /// What was dragged over becomes the window.
    fn release(&mut self, x: u16, y: u16) {
        let Some(from) = self.pressed.take() else { return };
        if let Some(Spot::Plot(to)) = self.spot(x, y) {
            self.zoom_between(from.min(to), from.max(to));
        }
    }

    pub(super) fn takes_text(&self) -> bool {
        match self.screen {
            Screen::Route => self.route.editing.is_some(),
            Screen::Ledger => self.archive.filtering,
            _ => false,
        }
    }

    /// Letters are text now, and no actions.
    #[must_use]
    pub fn is_typing(&self) -> bool {
        match self.overlay {
            Some(Overlay::Prompt(_) | Overlay::Find { .. } | Overlay::Hold(..)) => true,
            Some(Overlay::Help | Overlay::Evidence(_) | Overlay::Ask(_) | Overlay::Queue { .. }) => false,
            None => self.takes_text(),
        }
    }

    fn on_text_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match self.screen {
            Screen::Route => {
                self.route.on_text_key(event, key);
                if self.route.editing.is_none() {
                    self.keep_draft();
                }
            }
            _ => self.archive.on_text_key(event, key),
        }
    }

    fn on_overlay_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match self.overlay.take() {
            None | Some(Overlay::Help) => {}
            Some(Overlay::Ask(question)) => self.on_question_key(question, key),
            Some(Overlay::Prompt(prompt)) => self.on_prompt_key(prompt, event, key),
            Some(Overlay::Evidence(index)) => self.on_evidence_key(index, key),
            Some(Overlay::Queue { drive, chosen }) => self.on_queue_key(drive, chosen, key),
            Some(Overlay::Hold(input, answer)) => self.on_stream_key(input, answer, event, key),
            Some(Overlay::Find { input, chosen }) => self.on_find_key(input, chosen, event, key),
        }
    }

    fn on_evidence_key(&mut self, index: usize, key: &KeyEvent) {
        match key.code {
            KeyCode::Esc | KeyCode::Enter | KeyCode::Char('q') => {}
            KeyCode::Up | KeyCode::Char('k' | 'F') => self.show_evidence(index.saturating_sub(1)),
            KeyCode::Down | KeyCode::Char('j' | 'f') => self.show_evidence(index + 1),
            _ => self.overlay = Some(Overlay::Evidence(index)),
        }
    }

    fn on_stream_key(
        &mut self,
        mut input: Input,
        mut answer: Vec<String>,
        event: &TermEvent,
        key: &KeyEvent,
    ) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => answer = self.ask_stream(input.value()),
            _ => {
                input.handle_event(event);
            }
        }
        self.overlay = Some(Overlay::Hold(input, answer));
    }

    fn on_find_key(&mut self, mut input: Input, mut chosen: usize, event: &TermEvent, key: &KeyEvent) {
        let found = find_actions(self.screen, input.value());
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => {
                if let Some(action) = found.get(chosen).map(|b| b.action) {
                    self.act(action);
                }
                return;
            }
            KeyCode::Up => chosen = chosen.saturating_sub(1),
            KeyCode::Down => chosen = (chosen + 1).min(found.len().saturating_sub(1)),
            _ => {
                input.handle_event(event);
                chosen = 0;
            }
        }
        self.overlay = Some(Overlay::Find { input, chosen });
    }
}
