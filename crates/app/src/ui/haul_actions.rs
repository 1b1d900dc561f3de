//! What the keys of the Haul view do.

use std::path::PathBuf;
use std::time::Duration;

use hollow_mile_charts::lanes::lanes_between;
use hollow_mile_core::conclude::Finding;
use hollow_mile_core::conclude::models::stream;
use hollow_mile_core::record::HaulHead;
use hollow_mile_core::route::Stream;
use tui_input::Input;

use super::actions::{Action, Screen};
use super::app::{App, Overlay};
use super::asking::{Question, Words, Yes};
use super::ledger_actions::write_beside;
use super::review::Lapse;
use super::views::surveys::has_any;
use crate::command::Command;
use crate::error::AppError;
use crate::told::headline;

impl App {
    pub(super) fn act_in_surveys(&mut self, action: Action) {
        let mut view = std::mem::take(&mut self.surveys);
        if let Some((_, c)) = self.shown() {
            view.act(action, &c.surveys);
        }
        self.surveys = view;
    }

    /// Shows all of a finding, and puts the cursor where it is.
    pub(super) fn show_evidence(&mut self, index: usize) {
        let count = self.shown().map_or(0, |(_, c)| c.findings.len());
        if count == 0 {
            return self.say("Nothing was found so far.");
        }
        let index = index.min(count - 1);
        let step = index as isize - self.haul.first_shown() as isize;
        self.go_to_flag(step);
        self.overlay = Some(Overlay::Evidence(index));
    }

    pub(super) fn go_to_flag(&mut self, step: isize) {
        let ruler = self.haul.ruler;
        let Some((r, c)) = self.shown() else { return };
        let findings = c.findings.iter().map(|f| r.place_of_finding(ruler, f));
        let places: Vec<Option<f64>> =
            findings.chain(r.notes().iter().map(|(at, _)| r.place_of(ruler, *at))).collect();
        let extent = r.extent(ruler);
        if self.haul.to_flag(&places, step, extent).is_none() {
            self.say("There are no flags so far.");
        }
    }

    /// Whether the write that is shown could have taken a stream, given as `620 MB/s, 8 GiB`.
    pub(super) fn ask_stream(&self, words: &str) -> Vec<String> {
        let (stream, buffer) = words.split_once(',').unwrap_or((words, "0 B"));
        let asked = stream.parse::<Stream>().and_then(|s| {
            let buffer = buffer.trim().parse().map_err(|e| format!("the buffer: {e}"))?;
            Ok((s, buffer))
        });
        match (asked, self.shown()) {
            (Err(e), _) => vec![e],
            (_, None) => vec!["There is no haul to ask.".into()],
            (Ok((stream, buffer)), Some((r, c))) => {
                stream::hold(r, c, stream, buffer).map_or_else(|r| vec![r.words()], |h| h.sentences())
            }
        }
    }

    pub(super) fn time_lapse(&mut self) {
        if self.haul.lapse.take().is_some() {
            return;
        }
        // One that ended since the program was opened is over too.
        let ended = self.shown_live().filter(|l| !l.runs()).map(|l| (l.haul.clone(), l.readings.elapsed()));
        let kept = self.haul.kept.as_ref().map(|k| (k.row.haul.clone(), k.row.elapsed));
        let Some((haul, elapsed)) = kept.or(ended) else {
            return self.say("A time-lapse is for a haul that is over.");
        };
        match Lapse::begin(&self.ledger, &haul, elapsed) {
            Ok(lapse) => self.haul.lapse = Some(Box::new(lapse)),
            Err(e) => self.say(e.message),
        }
    }

    pub(super) fn act_in_lapse(&mut self, action: Action) -> bool {
        let Some(lapse) = &mut self.haul.lapse else { return false };
        match action {
            Action::Pause => lapse.paused = !lapse.paused,
            Action::Faster => lapse.pace(2.0),
            Action::Slower => lapse.pace(0.5),
            _ => return false,
        }
        true
    }

    /// Takes the controls of a haul that other terminals see too, or gives them up.
    fn change_controls(&mut self) {
        let Some((watching, desk)) = self.shown_live().and_then(|l| l.watched().zip(l.desk())) else {
            return self.say("Only a haul under way has controls that others could hold.");
        };
        watching.hold(!desk.yours);
        self.say(if desk.yours { "The controls are free for others." } else { "The controls are taken." });
    }

    pub(super) fn ask_shown(&mut self, command: Command) {
        let asked = self.ask_shown_or(command);
        self.heed(asked);
    }

    /// Asks the haul that is shown for something.
    ///
    /// # Errors
    /// When it is over, or somebody else holds its controls.
    pub(super) fn ask_shown_or(&mut self, command: Command) -> Result<(), AppError> {
        self.may_command()?;
        let haul = self.haul.live.clone();
        if let Some(live) = self.live.iter_mut().find(|l| Some(&l.haul) == haul.as_ref()) {
            live.ask(command);
        }
        Ok(())
    }

    /// Whether anything may be asked of the haul that is shown.
    ///
    /// # Errors
    /// When it is over, or somebody else holds its controls.
    pub(super) fn may_command(&self) -> Result<(), AppError> {
        let Some(live) = self.shown_live().filter(|l| l.runs()) else {
            return Err(AppError::usage("This haul is over."));
        };
        match live.desk().filter(|d| !d.yours).and_then(|d| d.holder) {
            Some(who) => {
                Err(AppError::usage(format!("{who} holds the controls of this haul. C takes them over.")))
            }
            None => Ok(()),
        }
    }

    /// Asks before a leg or the haul is ended, and for the words of a note; whoever may not do so is told before typing.
    fn ask_in_haul(&mut self, action: Action) -> Result<(), AppError> {
        if action == Action::Note && self.shown_live().is_none_or(|l| !l.runs()) {
            return Err(AppError::usage(
                "This haul is over, its record is closed: n in the ledger notes on it.",
            ));
        }
        self.may_command()?;
        match action {
            Action::Note => self.prompt(Words::Moment, String::new()),
            Action::SkipLeg => {
                let so_far = self.shown().and_then(|(r, _)| headline::leg_so_far(r)).unwrap_or_default();
                let lines = vec![
                    format!("End this leg now? {so_far}"),
                    "The record keeps that it was ended by hand.".into(),
                ];
                self.ask(Question::yes_or_no(lines, Yes::SkipLeg));
            }
            _ => {
                let lines = vec!["Stop this haul? What was recorded stays.".into()];
                self.ask(Question::yes_or_no(lines, Yes::Stop));
            }
        }
        Ok(())
    }

    /// Asks whether experiments shall tell why the rate fell at the flag that the panel begins with.
    fn ask_to_find_out(&mut self) -> Result<(), AppError> {
        self.may_command()?;
        let first = self.haul.first_shown();
        let Some((r, c)) = self.shown() else { return Ok(()) };
        let leg = r.legs().last().map_or(0, |l| l.leg);
        let may = |h: &HaulHead| Some(h.route.legs.get(usize::from(leg))?.may_decide_on(&h.drive));
        if !r.head().and_then(may).unwrap_or(false) {
            return Err(AppError::usage(
                "Experiments go with a plain write leg by one worker: not with stamps, drawn sizes or places, a rate, or backwards, and not on host-managed zones.",
            ));
        }
        if r.inquiries().last().is_some_and(|i| i.ended.is_none()) {
            return Err(AppError::usage("It is being tried out already."));
        }
        let from = r.legs().last().map_or(Duration::ZERO, |l| l.from);
        let here = |f: &&Finding| f.elapsed >= from && r.fall_of(f).is_some();
        let all = c.findings.iter().enumerate();
        let chosen =
            all.clone().skip(first).map(|f| f.1).find(here).or_else(|| c.findings.iter().rev().find(here));
        let Some(fall) = chosen.and_then(|f| r.fall_of(f)) else {
            return Err(AppError::usage(
                "In this leg the rate has not fallen: there is nothing to find out.",
            ));
        };
        let lines = vec![
            format!("Find out why the rate fell from {} to {}?", fall.before, fall.after),
            "The load is taken off in turn for other loads, within the leg's own region: a twentieth of the leg's time and bytes at most, and no \
             more than ten minutes. They count in no figure."
                .into(),
        ];
        self.ask(Question::yes_or_no(lines, Yes::FindOut(Box::new(fall))));
        Ok(())
    }

    pub(super) fn act_in_haul(&mut self, action: Action) {
        if self.act_in_lapse(action) {
            return;
        }
        match action {
            Action::NextFlag => self.go_to_flag(1),
            Action::FlagBefore => self.go_to_flag(-1),
            Action::Open => self.show_evidence(self.haul.first_shown()),
            Action::Surveys if self.shown().is_some_and(|(_, c)| has_any(c)) => self.go(Screen::Surveys),
            Action::Surveys => self.say(
                "This haul has no survey: routes with a scan, spans, fill, ladder, pace or verify leg, or with a lookout, make one.",
            ),
            Action::Lapse => self.time_lapse(),
            Action::Hold => {
                self.overlay = Some(Overlay::Hold(Input::new("620 MB/s, 8 GiB".into()), Vec::new()));
            }
            Action::Pause => {
                let paused = self.shown_live().is_some_and(|l| l.paused);
                self.ask_shown(Command::Pause(!paused));
            }
            Action::FindOut => {
                let asked = self.ask_to_find_out();
                self.heed(asked);
            }
            Action::SkipLeg | Action::Stop | Action::Note => {
                let asked = self.ask_in_haul(action);
                self.heed(asked);
            }
            Action::Controls => self.change_controls(),
            Action::Faster | Action::Slower => match self.shown_live() {
                Some(live) if live.simulated && live.runs() => {
                    let speed =
                        if action == Action::Faster { live.speed.faster() } else { live.speed.slower() };
                    self.ask_shown(Command::Speed(speed));
                }
                _ => self.say("Only the clock of a simulated drive under way can be set."),
            },
            Action::Report => {
                let haul = self.shown().and_then(|(r, _)| r.head()).map(|h| h.haul.clone());
                match haul {
                    Some(_) if self.shown_live().is_some_and(|l| l.runs()) => {
                        self.say("A report is written when the haul is over.");
                    }
                    Some(haul) => self.write_report(&[haul]),
                    None => {}
                }
            }
            Action::Export => {
                let result = self.export();
                self.told_written("Chart", result);
            }
            _ => {
                let ruler = self.haul.ruler;
                let known = self.shown().map(|(r, c)| (r.extent(ruler), c.findings.len() + r.notes().len()));
                let (extent, entries) = known.unwrap_or_default();
                self.haul.act(action, extent, entries);
            }
        }
    }

    /// The cursor on a column of the picture that is shown.
    pub(super) fn put_cursor(&mut self, share: f64) {
        match self.screen {
            Screen::Haul => self.haul.window.cursor = Some(share),
            Screen::Surveys => self.surveys.window.cursor = Some(share),
            _ => {}
        }
    }

    /// Shows what lies between two columns of the picture; one column alone is a press, and no wish for a window.
    pub(super) fn zoom_between(&mut self, from: f64, to: f64) {
        if to - from < 0.02 {
            return;
        }
        let ruler = self.haul.ruler;
        let (window, extent) = match self.screen {
            Screen::Haul => {
                let extent = self.shown().map_or(0.0, |(r, _)| r.extent(ruler));
                (&mut self.haul.window, extent)
            }
            Screen::Surveys => (&mut self.surveys.window, 1.0),
            _ => return,
        };
        let (begin, end) = window.span(extent);
        let at = |share: f64| begin + share * (end - begin);
        window.between(at(from), at(to), extent);
    }

    /// Writes the lanes as a file in the present folder, or in the ledger's when that cannot be written.
    pub(super) fn export(&self) -> Result<PathBuf, AppError> {
        let (readings, conclusions) =
            self.shown().ok_or_else(|| AppError::usage("There is no haul to draw."))?;
        let haul = readings.head().map_or("haul", |h| h.haul.as_str());
        let along = match self.haul.ruler {
            hollow_mile_core::readings::Ruler::Elapsed => "elapsed",
            hollow_mile_core::readings::Ruler::Moved => "written",
            hollow_mile_core::readings::Ruler::Position => "position",
        };
        let (ruler, window) = (self.haul.ruler, self.haul.window);
        let shown = window.is_zoomed().then(|| window.span(readings.extent(ruler)));
        let svg = lanes_between(readings, conclusions, ruler, shown).to_svg();
        let part = if shown.is_some() { "-part" } else { "" };
        write_beside(self, &format!("{haul}-lanes-{along}{part}"), "svg", svg.as_bytes())
    }
}
