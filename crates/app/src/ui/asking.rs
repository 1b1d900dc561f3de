//! What lies over a view and waits for the user: a question, or a line to type. A question counts as answered only once it was
//! seen, so that keys which came with others, or pasted text, answer none.

use std::cell::Cell;

use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::record::Fall;
use hollow_mile_ledger::Leftover;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use tui_input::backend::crossterm::EventHandler;
use tui_input::{Input, InputRequest};

use super::app::{App, Overlay};
use crate::command::Command;
use crate::error::AppError;
use crate::queue;
use crate::told::tags::{retagged, tags_of};

/// What an answer does.
#[derive(Debug, Clone)]
pub enum Yes {
    /// Stop the haul that is shown.
    Stop,
    /// Go on to its next leg.
    SkipLeg,
    /// Find out by experiments why it fell.
    FindOut(Box<Fall>),
    /// Stop all hauls and leave.
    StopAndLeave,
    /// Let all hauls go on, and leave.
    LetRunAndLeave,
    /// Remove this file.
    Remove(Leftover),
    /// Take these hauls out of the ledger.
    Delete(Vec<String>),
    /// Put what the Route view plans into the queues of its drives.
    Queue {
        /// How often, in turns.
        times: u32,
    },
    /// Put these hauls once more into the queues of their drives.
    Repeat {
        /// Their identifiers.
        hauls: Vec<String>,
        /// How often, in turns.
        times: u32,
    },
    /// Take the haul at this place out of the queue of this drive.
    Unqueue(String, usize, Box<queue::Entry>),
    /// Start what the Route view plans.
    Start {
        /// How often, one after the other.
        times: u32,
    },
}

/// A question, and the keys that answer it.
pub struct Question {
    /// In sentences, one a line.
    pub lines: Vec<String>,
    /// Key, words, and what it does.
    pub answers: Vec<(char, &'static str, Yes)>,
    /// The words of the answer that does nothing.
    pub no: &'static str,
    /// It was on screen.
    seen: Cell<bool>,
}

impl Question {
    /// With a yes and a no.
    #[must_use]
    pub fn yes_or_no(lines: Vec<String>, yes: Yes) -> Self {
        Self::choice(lines, vec![('y', "yes", yes)], "no")
    }

    /// With several answers, and one that does nothing.
    #[must_use]
    pub const fn choice(
        lines: Vec<String>,
        answers: Vec<(char, &'static str, Yes)>,
        no: &'static str,
    ) -> Self {
        Self { lines, answers, no, seen: Cell::new(false) }
    }

    /// It was drawn.
    pub fn is_seen(&self) {
        self.seen.set(true);
    }
}

/// What a typed line is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Words {
    /// Words for the record of the haul that is shown, at this moment.
    Moment,
    /// The name of a haul.
    Label,
    /// Its tags.
    Tags,
    /// A note on it.
    Note,
    /// Air temperature to which the heat of a contrast is brought.
    Ambient,
    /// The kind of a new leg.
    Leg,
    /// The name of a route of one's own.
    Route,
}

/// A line that is typed.
pub struct Prompt {
    /// What for.
    pub words: Words,
    /// The haul that it is about, whatever stands under the cursor by then.
    pub haul: Option<String>,
    /// What was typed.
    pub input: Input,
    /// What was wrong with it. What was typed stays.
    pub fault: Option<String>,
}

/// Puts pasted text into a line: line ends become `between`, other control characters go.
pub fn paste_into(input: &mut Input, text: &str, between: &str) {
    let lines: Vec<&str> = text.split(['\n', '\r']).map(str::trim).filter(|l| !l.is_empty()).collect();
    let one = if lines.len() > 1 { lines.join(between) } else { text.replace(['\n', '\r'], "") };
    for c in one.chars().map(|c| if c == '\t' { ' ' } else { c }).filter(|c| !c.is_control()) {
        input.handle(InputRequest::InsertChar(c));
    }
}

impl App {
    /// Asks for a line.
    pub(super) fn prompt(&mut self, words: Words, value: String) {
        let haul = self.archive.chosen_row().map(|r| r.haul.clone());
        self.overlay = Some(Overlay::Prompt(Prompt { words, haul, input: Input::new(value), fault: None }));
    }

    /// Asks a question.
    pub(super) fn ask(&mut self, question: Question) {
        self.overlay = Some(Overlay::Ask(question));
    }

    /// Asks what becomes of hauls that would end with this program.
    pub(super) fn ask_to_leave(&mut self) {
        let count = self.ending_with_us();
        let hauls = if count == 1 { "A haul is".to_owned() } else { format!("{count} hauls are") };
        let lines = vec![format!("{hauls} under way. What was recorded stays, whatever you choose.")];
        let mut answers = vec![('s', "stop and leave", Yes::StopAndLeave)];
        // What this process itself runs ends with it.
        if self.live.iter().filter(|l| l.runs()).all(|l| !l.is_here()) {
            answers.insert(0, ('l', "let run and leave", Yes::LetRunAndLeave));
        }
        self.ask(Question::choice(lines, answers, "stay"));
    }

    /// A key while a question is asked.
    pub(super) fn on_question_key(&mut self, question: Question, key: &KeyEvent) {
        let pressed = match key.code {
            KeyCode::Char(c) => Some(c.to_ascii_lowercase()),
            _ => None,
        };
        let answer = question.answers.iter().find(|a| Some(a.0) == pressed).map(|a| a.2.clone());
        match (key.code, answer) {
            (KeyCode::Esc | KeyCode::Char('n' | 'N'), _) => {}
            (_, Some(yes)) if question.seen.get() => self.confirm(yes),
            _ => self.overlay = Some(Overlay::Ask(question)),
        }
    }

    /// A key while a line is typed.
    pub(super) fn on_prompt_key(&mut self, mut prompt: Prompt, event: &TermEvent, key: &KeyEvent) {
        match key.code {
            KeyCode::Esc => return,
            KeyCode::Enter => {
                match self.take_words(prompt.words, prompt.haul.as_deref(), prompt.input.value()) {
                    Ok(()) => return,
                    Err(e) => prompt.fault = Some(e.message),
                }
            }
            _ => {
                prompt.input.handle_event(event);
            }
        }
        self.overlay = Some(Overlay::Prompt(prompt));
    }

    /// Takes what was typed.
    ///
    /// # Errors
    /// When it makes no sense, or cannot be kept.
    fn take_words(&mut self, words: Words, haul: Option<&str>, text: &str) -> Result<(), AppError> {
        let text = text.trim();
        let some = (!text.is_empty()).then_some(text);
        match (words, haul) {
            (Words::Moment, _) => {
                some.map_or(Ok(()), |words| self.ask_shown_or(Command::Note(words.to_owned())))
            }
            (Words::Ambient, _) => {
                let ambient = some.map(str::parse::<Celsius>).transpose();
                let ambient = ambient.map_err(|e| AppError::usage(e.to_string()))?;
                self.contrast.compared.as_mut().map_or(Ok(()), |c| c.in_air_of(ambient))
            }
            (Words::Leg, _) => some.map_or(Ok(()), |kind| self.add_leg(kind)),
            (Words::Route, _) => some.map_or(Ok(()), |name| self.save_route(name)),
            (_, None) => Ok(()),
            (Words::Label, Some(haul)) => {
                self.ledger.rename(haul, some)?;
                self.reload()
            }
            (Words::Note, Some(haul)) => {
                self.ledger.note(haul, some)?;
                self.reload()
            }
            (Words::Tags, Some(haul)) => {
                // A tag given twice counts as it was given last.
                let tags = tags_of(text)?
                    .iter()
                    .fold(Vec::new(), |all, t| retagged(all, std::slice::from_ref(t), &[]));
                self.ledger.tag(haul, &tags)?;
                self.reload()
            }
        }
    }

    fn confirm(&mut self, yes: Yes) {
        match yes {
            Yes::Stop => self.ask_shown(Command::Stop),
            Yes::SkipLeg => self.ask_shown(Command::SkipLeg),
            Yes::FindOut(fall) => self.ask_shown(Command::FindOut(fall)),
            Yes::StopAndLeave => {
                for live in &mut self.live {
                    let _ = live.end();
                }
                self.quit = true;
            }
            Yes::LetRunAndLeave => {
                let left: Result<(), AppError> = self.kept.iter_mut().try_for_each(|k| k.leave_running());
                match left {
                    Ok(()) => self.quit = true,
                    Err(e) => self.say(e.message),
                }
            }
            Yes::Remove(left) => {
                let result = crate::targets::remove_leftover(&self.ledger, &left);
                let path = left.path.display().to_string();
                match result {
                    Ok(true) => self.say(format!("{path} is removed.")),
                    Ok(false) => self.say(format!("{path} is another file by now, and was left alone.")),
                    Err(e) => self.say(e.message),
                }
            }
            Yes::Delete(hauls) => self.delete_hauls(hauls),
            Yes::Queue { times } => {
                let queued = self.queue_plan(times);
                self.heed(queued);
            }
            Yes::Repeat { hauls, times } => {
                let queued = self.repeat_in_turns(&hauls, times);
                self.heed(queued);
            }
            Yes::Unqueue(drive, place, entry) => {
                // The one that was named, wherever it stands by now.
                let removed = queue::change(&self.home, &drive, |q| {
                    if let Some(at) = q.place_of(&entry, place) {
                        q.entries.remove(at);
                    }
                    place
                });
                self.reopen_queue(drive, removed);
            }
            Yes::Start { times } => {
                let result = self.start(times);
                self.heed(result);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pasted_lines_become_one() {
        let pasted = |text: &str| {
            let mut input = Input::new("a ".into());
            paste_into(&mut input, text, " ");
            input.value().to_owned()
        };
        assert_eq!(pasted("fan on\r\n  D\ny\n"), "a fan on D y");
        assert_eq!(pasted(" 20 GB\n"), "a  20 GB");
        assert_eq!(pasted("\u{1b}[2J\tq"), "a [2J q");
    }
}
