//! What goes over the socket of a haul under way: frames of a length, a kind, and either events or one JSON object.
//!
//! A frame is four bytes of length (little-endian, of what follows), one byte of kind, and the rest: `e` a batch as in
//! the ledger's record, `s` JSON.

use hollow_mile_core::record::Event;
use hollow_mile_core::record::bytes;
use serde::{Deserialize, Serialize};

use crate::command::{Command, Speed};

/// Both sides speak the same version, or none: program and ledger are of one machine.
pub const VERSION: u32 = 1;
/// No message is larger; whoever announces more is no friend.
const MOST_BYTES: usize = 16 << 20;

/// Who holds the controls, and what they stand at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Desk {
    /// The load is off, or the simulated clock stands.
    pub paused: bool,
    /// How fast a simulated clock runs.
    pub speed: Speed,
    /// Who holds the controls, in words; nobody when `None`.
    pub holder: Option<String>,
    /// It is the one who reads this.
    pub yours: bool,
    /// How many watch.
    pub watchers: u32,
}

/// The first thing that a watcher hears.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Hello {
    /// [`VERSION`].
    pub version: u32,
    /// Which haul.
    pub haul: String,
    /// Its drive, as the user named it.
    pub drive: String,
    /// Its route.
    pub route: String,
    /// The process that keeps it.
    pub process: u32,
    /// Events that are in the ledger; the stream goes on after these.
    pub events: u64,
    /// The drive computes its own time.
    pub simulated: bool,
    /// It ends when the terminal that started it goes.
    pub ends_with_starter: bool,
    /// The controls.
    pub desk: Desk,
}

/// What is said, in either direction.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Said {
    /// From the haul: what it is.
    Hello(Box<Hello>),
    /// From the haul: the controls have changed.
    Desk(Desk),
    /// From the haul: what was asked is not done, and why.
    Refused(String),
    /// From a watcher: who it is, in words.
    Who(String),
    /// From a watcher: give me the controls; from another too, when `over`.
    Take {
        /// Whoever holds them loses them.
        over: bool,
    },
    /// From a watcher: somebody else may have the controls.
    Release,
    /// From a watcher: do this.
    Do(Command),
}

/// One frame.
#[derive(Debug, Clone, PartialEq)]
pub enum Message {
    /// What happened.
    Events(Vec<Event>),
    /// What is said.
    Said(Said),
}

impl Message {
    /// As it goes over the socket.
    ///
    /// # Errors
    /// When an event cannot be written as JSON, or it is too large.
    pub fn to_bytes(&self) -> Result<Vec<u8>, String> {
        let (kind, body) = match self {
            Self::Events(events) => (b'e', bytes::encode(events, serde_json::to_vec)),
            Self::Said(said) => (b's', serde_json::to_vec(said)),
        };
        let body = body.map_err(|e| e.to_string())?;
        let length = u32::try_from(body.len() + 1).ok().filter(|l| *l as usize <= MOST_BYTES);
        let length = length.ok_or("a message is too large")?;
        let mut out = Vec::with_capacity(body.len() + 5);
        out.extend_from_slice(&length.to_le_bytes());
        out.push(kind);
        out.extend_from_slice(&body);
        Ok(out)
    }
}

/// Puts frames together from the pieces in which they arrive.
#[derive(Debug)]
pub struct Frames {
    bytes: Vec<u8>,
    most: usize,
}

impl Default for Frames {
    fn default() -> Self {
        Self { bytes: Vec::new(), most: MOST_BYTES }
    }
}

impl Frames {
    /// Of commands alone, which are short: more than that is not even taken in.
    #[must_use]
    pub const fn of_commands() -> Self {
        Self { bytes: Vec::new(), most: 64 << 10 }
    }

    /// Takes a piece.
    pub fn take(&mut self, piece: &[u8]) {
        self.bytes.extend_from_slice(piece);
    }

    /// The next message that is whole.
    ///
    /// # Errors
    /// When what came is none: nothing after it can be understood.
    #[allow(clippy::should_implement_trait, reason = "it can fail, and go on when more has come")]
    pub fn next(&mut self) -> Result<Option<Message>, String> {
        let Some(length) = self.bytes.first_chunk::<4>().map(|b| u32::from_le_bytes(*b) as usize) else {
            return Ok(None);
        };
        if length == 0 || length > self.most {
            return Err(format!("a message of {length} bytes"));
        }
        let Some(frame) = self.bytes.get(4..4 + length) else { return Ok(None) };
        let body = &frame[1..];
        let json = |e: serde_json::Error| e.to_string();
        let message = match frame[0] {
            b'e' => bytes::decode(body, |j| serde_json::from_slice(j).map_err(json))
                .map_err(|e| e.to_string())
                .map(Message::Events),
            b's' => serde_json::from_slice(body).map_err(json).map(Message::Said),
            kind => Err(format!("a message of unknown kind {kind}")),
        }?;
        self.bytes.drain(..4 + length);
        Ok(Some(message))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn messages_come_out_as_they_went_in_however_they_are_cut() {
        let note = Event::Note { at: Duration::from_secs(3), text: "fan on".into() };
        let messages = [
            Message::Said(Said::Do(Command::Speed(Speed::Times(60.0)))),
            Message::Events(vec![note]),
            Message::Said(Said::Take { over: true }),
            Message::Said(Said::Refused("no".into())),
        ];
        let bytes: Vec<u8> = messages.iter().flat_map(|m| m.to_bytes().unwrap()).collect();
        for size in [1, 2, 3, 5, 64, bytes.len()] {
            let (mut frames, mut seen) = (Frames::default(), Vec::new());
            for piece in bytes.chunks(size) {
                frames.take(piece);
                while let Some(m) = frames.next().unwrap() {
                    seen.push(m);
                }
            }
            assert_eq!(seen, messages);
        }
    }

    #[test]
    fn a_command_that_is_too_long_is_refused_by_its_length() {
        for (length, good) in [(64u32 << 10, true), ((64 << 10) + 1, false)] {
            let mut frames = Frames::of_commands();
            frames.take(&length.to_le_bytes());
            assert_eq!(frames.next().is_ok(), good, "{length}");
        }
    }

    #[test]
    fn strangers_are_not_understood_and_not_believed() {
        for bytes in [
            &[0, 0, 0, 0, 0][..],
            &[255, 255, 255, 255],
            &[2, 0, 0, 0, b'x', 1],
            &[3, 0, 0, 0, b's', b'{', b'}'],
        ] {
            let mut frames = Frames::default();
            frames.take(bytes);
            assert!(frames.next().is_err(), "{bytes:?}");
        }
    }
}
