//! Told when it matters, to whoever looks elsewhere: terminal bell, window title, and a desktop notification where asked for, at a
//! finding, a missed limit, the end of a haul, a fault.

use std::io::Write;

use hollow_mile_core::conclude::limits::{self, Verdict};
use hollow_mile_core::record::HaulState;

use super::app::App;
use super::live::Live;
use crate::told::headline;
use crate::told::road::Road;
use crate::told::words::printable;

/// Which ways of telling there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ways {
    bell: bool,
    title: bool,
    /// OSC 9, as some terminals take for a notification.
    osc9: bool,
    /// OSC 777, as others do.
    osc777: bool,
}

impl Ways {
    /// From `HOLLOW_MILE_TELL`, such as `bell, title, osc9`; bell and title where it is not set.
    #[must_use]
    pub fn of_environment() -> Self {
        std::env::var("HOLLOW_MILE_TELL").map_or(Self::of("bell, title"), |told| Self::of(&told))
    }

    fn of(words: &str) -> Self {
        let has = |word: &str| words.split([',', ' ']).any(|w| w.trim().eq_ignore_ascii_case(word));
        Self { bell: has("bell"), title: has("title"), osc9: has("osc9"), osc777: has("osc777") }
    }

    /// Tells it to the terminal.
    ///
    /// # Errors
    /// When that takes nothing.
    pub fn tell(self, words: &str, out: &mut impl Write) -> std::io::Result<()> {
        let words = plain(words);
        if self.osc9 {
            write!(out, "\x1b]9;{words}\x07")?;
        }
        if self.osc777 {
            write!(out, "\x1b]777;notify;Hollow Mile;{words}\x07")?;
        }
        if self.bell {
            out.write_all(b"\x07")?;
        }
        out.flush()
    }

    /// Keeps the title that the window has, to be given back.
    ///
    /// # Errors
    /// When the terminal takes nothing.
    pub fn keep_title(self, out: &mut impl Write) -> std::io::Result<()> {
        if self.title { out.write_all(b"\x1b[22;2t").and_then(|()| out.flush()) } else { Ok(()) }
    }

    /// Gives the window its title back.
    ///
    /// # Errors
    /// When the terminal takes nothing.
    pub fn give_title_back(self, out: &mut impl Write) -> std::io::Result<()> {
        if self.title { out.write_all(b"\x1b[23;2t").and_then(|()| out.flush()) } else { Ok(()) }
    }

    /// Gives the window a title.
    ///
    /// # Errors
    /// When the terminal takes nothing.
    pub fn title(self, words: &str, out: &mut impl Write) -> std::io::Result<()> {
        if self.title {
            write!(out, "\x1b]2;{}\x07", plain(words)).and_then(|()| out.flush())
        } else {
            Ok(())
        }
    }
}

/// Text between escapes: nothing in it may end them.
fn plain(words: &str) -> String {
    printable(words).chars().map(|c| if c == '\n' || c == ';' { ',' } else { c }).collect()
}

/// What was told of a haul so far.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ToldOf {
    findings: usize,
    missed: usize,
    faults: usize,
    ended: bool,
}

impl ToldOf {
    /// What is new on a haul, in words; keeps what was told.
    pub fn news(&mut self, live: &Live) -> Option<String> {
        let (r, c) = (&live.readings, &live.conclusions);
        let serial = r.head().map_or("", |h| h.drive.serial.as_str());
        let missed = limits::judge(r, c).iter().filter(|l| l.verdict == Verdict::Missed).count();
        let now = Self {
            findings: c.findings.len().max(self.findings),
            missed: missed.max(self.missed),
            faults: r.faults().len(),
            ended: r.ended().is_some(),
        };
        let words = match r.ended() {
            Some((_, state, _)) if !self.ended => Some(match state {
                HaulState::Failed => format!("{serial}: the haul failed"),
                HaulState::Stopped | HaulState::CutShort => format!("{serial}: the haul was stopped"),
                _ => format!("{serial}: the haul is done. {}", headline::answer(r, c)),
            }),
            _ if now.faults > self.faults => r.faults().last().map(|f| format!("{serial}: {}", f.message)),
            _ if now.missed > self.missed => Some(format!("{serial}: a limit is missed")),
            _ if now.findings > self.findings => Some(format!("{serial}: {}", headline::answer(r, c))),
            _ => None,
        };
        *self = now;
        words
    }
}

impl App {
    /// What is new since it was last asked, a sentence each.
    pub fn take_alarms(&mut self) -> Vec<String> {
        self.live.iter_mut().filter_map(Live::news).collect()
    }

    /// The title of the window.
    #[must_use]
    pub fn title(&self) -> String {
        let running: Vec<&Live> = self.live.iter().filter(|l| l.runs()).collect();
        let done = |l: &&Live| {
            let serial = l.readings.head().map_or("", |h| h.drive.serial.as_str()).to_owned();
            let share = l.road().as_ref().and_then(Road::done);
            share.map_or(serial.clone(), |s| format!("{serial} {:.0} %", (s * 100.0).floor()))
        };
        match running.as_slice() {
            [] => "Hollow Mile".into(),
            [one] => format!("{} · Hollow Mile", done(one)),
            [one, ..] => format!("{} hauling, {} · Hollow Mile", running.len(), done(one)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_told_in_the_ways_that_were_asked_for_and_ends_no_escape_early() {
        let told = |ways: &str, words: &str| {
            let mut out = Vec::new();
            Ways::of(ways).tell(words, &mut out).unwrap();
            String::from_utf8(out).unwrap()
        };
        assert_eq!(told("bell, title", "x"), "\x07");
        assert_eq!(told("none", "x"), "");
        assert_eq!(told("OSC9", "a\x07b;c\nd"), "\x1b]9;a\u{fffd}b,c,d\x07");
        assert_eq!(told("bell osc777", "done"), "\x1b]777;notify;Hollow Mile;done\x07\x07");
        let mut out = Vec::new();
        Ways::of("title").title("KW-0417 34 %", &mut out).unwrap();
        assert_eq!(out, b"\x1b]2;KW-0417 34 %\x07");
    }
}
