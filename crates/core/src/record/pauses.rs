//! Pauses in a record that marks none, such as a log from elsewhere: where nothing moves for long, nothing was asked.

use std::time::Duration;

use super::event::Event;

/// Nothing for so long is a pause; a stall of a drive that goes on is shorter, as a rule.
pub const LEAST_PAUSE: Duration = Duration::from_secs(5);

/// Marks pauses among events that pass through, in order. What is silent is held back until it is known what it is.
#[derive(Debug, Default)]
pub struct Pauses {
    held: Vec<Event>,
    silent: Duration,
    paused: bool,
}

impl Pauses {
    /// Takes the next event and hands on what is settled.
    pub fn pass(&mut self, event: Event, take: &mut dyn FnMut(Event)) {
        match &event {
            Event::Sample(s) if s.written.get() + s.read.get() == 0 && s.errors == 0 => {
                self.silent += s.span;
                self.held.push(event);
                if self.paused {
                    self.hand_on(take);
                } else if self.silent >= LEAST_PAUSE {
                    self.paused = true;
                    let first = self.held.iter().find_map(|e| match e {
                        Event::Sample(s) => Some(s.end.saturating_sub(s.span)),
                        _ => None,
                    });
                    take(Event::Paused { at: first.unwrap_or_default() });
                    self.hand_on(take);
                }
            }
            Event::Sample(s) => {
                let at = s.end.saturating_sub(s.span);
                self.hand_on(take);
                if std::mem::take(&mut self.paused) {
                    take(Event::Resumed { at });
                }
                self.silent = Duration::ZERO;
                take(event);
            }
            Event::LegStarted { .. } | Event::LegEnded { .. } | Event::HaulEnded { .. } => {
                self.hand_on(take);
                (self.silent, self.paused) = (Duration::ZERO, false);
                take(event);
            }
            _ if self.held.is_empty() => take(event),
            _ => self.held.push(event),
        }
    }

    fn hand_on(&mut self, take: &mut dyn FnMut(Event)) {
        self.held.drain(..).for_each(take);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Bytes;
    use crate::record::{HaulState, Sample};

    /// What becomes of samples of a second that move so many bytes: `p` and `r` where a pause begins and ends.
    fn marked(moved: &[u64]) -> String {
        let mut out = String::new();
        let mut take = |e: Event| {
            out.push_str(&match e {
                Event::Sample(s) => s.written.get().to_string(),
                Event::Paused { at } => format!("p{}:", at.as_secs()),
                Event::Resumed { at } => format!("r{}:", at.as_secs()),
                Event::HaulEnded { .. } => ".".into(),
                _ => "?".into(),
            });
        };
        let mut pauses = Pauses::default();
        for (i, bytes) in moved.iter().enumerate() {
            let end = Duration::from_secs(i as u64 + 1);
            let span = Duration::from_secs(1);
            let sample = Sample { end, span, written: Bytes::new(*bytes), ..Sample::default() };
            pauses.pass(Event::Sample(sample), &mut take);
        }
        let at = Duration::from_secs(moved.len() as u64);
        pauses.pass(Event::HaulEnded { at, state: HaulState::Done, reason: None }, &mut take);
        out
    }

    #[test]
    fn five_seconds_of_nothing_are_a_pause_and_four_a_stall() {
        assert_eq!(marked(&[7, 7, 0, 0, 0, 0, 7]), "7700007.");
        assert_eq!(marked(&[7, 7, 0, 0, 0, 0, 0, 7, 7]), "77p2:00000r7:77.");
        assert_eq!(marked(&[7, 0, 0, 0, 0, 0, 0]), "7p1:000000.");
        assert_eq!(marked(&[0, 0, 7, 0, 0]), "00700.");
    }
}
