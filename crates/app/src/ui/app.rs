//! The state of the interface, and what each action does to it.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::finding::Conclusions;
use hollow_mile_core::haul::Setup;
use hollow_mile_core::models::Models;
use hollow_mile_core::models::stream::{self, Stream};
use hollow_mile_core::readings::Readings;
use hollow_mile_drives::linux::guard::Consent;
use hollow_mile_ledger::{Ledger, Leftover};
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent, MouseEventKind};
use ratatui::layout::Rect;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use super::actions::{Action, Screen, action, available};
use super::follow_yard::FollowYard;
use super::live::Live;
use super::review::{Lapse, Loading};
use super::theme::Theme;
use super::views::haul::{HaulView, Hit};
use super::views::ledger::LedgerView;
use super::views::route::RouteView;
use super::views::vitals::VitalsView;
use super::views::yard::YardView;
use super::widgets::glance::Glance;
use crate::error::AppError;
use crate::machine;
use crate::session::{Command, Session, Speed};
use crate::targets::{self, Target, Wish};

/// What lies over the view and takes the keys.
pub enum Overlay {
    /// What this view shows and which keys it has.
    Help,
    /// Actions by name.
    Find {
        /// What was typed.
        input: Input,
        /// The chosen one of those that match.
        chosen: usize,
    },
    /// All of a finding.
    Evidence(usize),
    /// A stream and a buffer to ask about, and what was answered.
    Hold(Input, Vec<String>),
    /// Words for the record.
    Note(Input),
    /// A question with yes or no.
    Ask {
        /// In a sentence.
        question: String,
        /// What yes does.
        yes: Yes,
    },
}

/// What yes does.
#[derive(Debug, Clone)]
pub enum Yes {
    /// Stop the haul that is shown.
    Stop,
    /// Stop all hauls and leave.
    Leave,
    /// Remove this file.
    Remove(Leftover),
}

/// The state of the interface.
pub struct App {
    /// Folder of the ledger.
    pub home: PathBuf,
    /// On the demo's data.
    pub demo: bool,
    /// Colours.
    pub theme: Theme,
    /// The archive.
    pub ledger: Ledger,
    /// What is on screen.
    pub screen: Screen,
    came_from: Vec<Screen>,
    /// All drives.
    pub yard: YardView,
    /// What to do on one.
    pub route: RouteView,
    /// Health of one drive.
    pub vitals: VitalsView,
    /// A haul.
    pub haul: HaulView,
    /// All hauls.
    pub archive: LedgerView,
    /// Hauls under way, and those that ended meanwhile.
    pub live: Vec<Live>,
    /// What lies over the view.
    pub overlay: Option<Overlay>,
    /// The haul that a list shows below itself.
    pub glance: Option<Glance>,
    /// Where the view was drawn last, for the mouse.
    pub area: std::cell::Cell<Rect>,
    follow_yard: Option<FollowYard>,
    unreadable: Option<String>,
    message: Option<(String, Instant)>,
    /// Leave after this event.
    pub quit: bool,
}

const MESSAGE_STAYS: Duration = Duration::from_secs(8);

impl App {
    /// At the yard of a ledger.
    ///
    /// # Errors
    /// When the ledger cannot be opened.
    pub fn new(home: PathBuf, demo: bool, theme: Theme) -> Result<Self, AppError> {
        let ledger = Ledger::open(&home)?;
        let mut app = Self {
            yard: YardView::default(),
            route: RouteView::default(),
            vitals: VitalsView::default(),
            follow_yard: (!demo).then(|| FollowYard::new(home.clone())).flatten(),
            haul: HaulView::default(),
            archive: LedgerView::default(),
            home,
            demo,
            theme,
            ledger,
            screen: Screen::Yard,
            came_from: Vec::new(),
            live: Vec::new(),
            overlay: None,
            glance: None,
            area: std::cell::Cell::default(),
            unreadable: None,
            message: None,
            quit: false,
        };
        app.reload()?;
        app.offer_to_tidy()?;
        Ok(app)
    }

    /// Reads the list of hauls anew.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn reload(&mut self) -> Result<(), AppError> {
        let rows = self.ledger.hauls()?;
        self.yard.know(&rows);
        self.archive.show(rows);
        Ok(())
    }

    fn offer_to_tidy(&mut self) -> Result<bool, AppError> {
        let Some(left) = self.ledger.leftovers()?.into_iter().next() else { return Ok(false) };
        self.overlay = Some(Overlay::Ask {
            question: format!(
                "Haul {} was killed and left {} ({}) behind. Remove it?",
                left.haul,
                left.path.display(),
                left.size
            ),
            yes: Yes::Remove(left),
        });
        Ok(true)
    }

    /// Shows a sentence in the bottom row for a while.
    pub fn say(&mut self, text: impl Into<String>) {
        self.message = Some((text.into(), Instant::now()));
    }

    /// The sentence to show now.
    #[must_use]
    pub fn message(&self) -> Option<&str> {
        self.message.as_ref().filter(|(_, at)| at.elapsed() < MESSAGE_STAYS).map(|(m, _)| m.as_str())
    }

    fn heed(&mut self, result: Result<(), AppError>) {
        if let Err(e) = result {
            self.say(e.message);
        }
    }

    /// Follows a session and shows it.
    pub fn watch(&mut self, session: Session, speed: Speed) {
        let live = Live::new(session, speed);
        self.haul = HaulView::live(&live.haul);
        self.live.push(live);
        self.go(Screen::Haul);
    }

    /// Hauls under way.
    #[must_use]
    pub fn running(&self) -> usize {
        self.live.iter().filter(|l| l.runs()).count()
    }

    /// Takes what happened on the hauls. True when the screen may have changed.
    pub fn follow(&mut self, budget: Duration) -> bool {
        let share = budget / u32::try_from(self.running().max(1)).unwrap_or(1);
        let mut changed = false;
        let mut ended = false;
        let mut error = None;
        for live in &mut self.live {
            let ran = live.runs();
            match live.follow(share) {
                Ok(c) => changed |= c,
                Err(e) => error = Some(e),
            }
            ended |= ran && !live.runs();
        }
        if let Some(e) = error {
            self.say(e.message);
            changed = true;
        }
        changed |= self.take_news();
        changed |= self.follow_review(budget);
        if ended {
            let result = self.reload();
            self.heed(result);
            if let Some(follow) = &self.follow_yard {
                follow.look_again();
            }
        }
        changed
    }

    /// Lets a time-lapse run on, takes a record that was read meanwhile, makes models anew. True when it shows.
    fn follow_review(&mut self, budget: Duration) -> bool {
        let mut changed = self.haul.lapse.as_mut().is_some_and(|l| l.follow(budget));
        match self.haul.loading.as_ref().and_then(Loading::done) {
            None => {}
            Some(Ok(whole)) => {
                self.haul.complete(whole.0, whole.1);
                changed = true;
            }
            Some(Err(e)) => {
                self.haul.loading = None;
                self.say(e);
                changed = true;
            }
        }
        if self.screen == Screen::Haul {
            let mut view = std::mem::take(&mut self.haul);
            let shown = match (&view.lapse, &view.kept) {
                (Some(_), _) => None,
                (None, Some(kept)) => Some((&kept.readings, &kept.conclusions)),
                (None, None) => view.shown_in(&self.live),
            };
            // Read apart from the view, which keeps what is made of it.
            let made =
                shown.and_then(|(r, c)| view.models_due(r).then(|| (r.series().len(), Models::of(r, c))));
            changed |= made.is_some();
            view.keep_models(made);
            self.haul = view;
        }
        changed
    }

    /// Something moves by itself, so that the screen is drawn again and again.
    #[must_use]
    pub fn is_moving(&self) -> bool {
        self.running() > 0
            || self.haul.loading.is_some()
            || self.haul.lapse.as_ref().is_some_and(|l| l.runs())
    }

    /// Takes what the drives of this machine have become. True when a drive is on screen that changed.
    fn take_news(&mut self) -> bool {
        let Some(news) = self.follow_yard.as_ref().and_then(FollowYard::news) else { return false };
        let target = self.vitals.identity.as_ref().map(|i| i.target.clone());
        if let Some(now) = news.iter().find(|n| Some(&n.identity.target) == target.as_ref()) {
            self.vitals.health = now.health.clone();
        }
        self.yard.devices_are(news);
        matches!(self.screen, Screen::Yard | Screen::Vitals)
    }

    /// Shows the health of the drive under the cursor of the yard.
    fn show_vitals(&mut self) {
        let Some(row) = self.yard.chosen_row() else { return };
        if row.identity.kind == DriveKind::File {
            return self.say("A file has no vitals of its own: choose the drive that it lies on.");
        }
        let now = row.now.as_ref().map(|n| (n.identity.clone(), n.health.clone()));
        let asked = || Target::parse(&row.identity.target).and_then(|t| machine::health(&t, &self.home));
        match now.map_or_else(asked, Ok) {
            Ok((identity, health)) => {
                self.vitals = VitalsView::of(identity, health, &self.ledger);
                self.go(Screen::Vitals);
            }
            Err(e) => self.say(e.message),
        }
    }

    fn act_in_vitals(&mut self, action: Action) {
        let extended = match action {
            Action::ShortTest => Some(false),
            Action::ExtendedTest => Some(true),
            Action::EndTest => None,
            Action::LookAgain => {
                let target = self.vitals.identity.as_ref().map(|i| i.target.clone()).unwrap_or_default();
                match Target::parse(&target).and_then(|t| machine::health(&t, &self.home)) {
                    Ok((identity, health)) => {
                        self.vitals = VitalsView::of(identity, health, &self.ledger);
                        self.say("Asked again.");
                    }
                    Err(e) => self.say(e.message),
                }
                return;
            }
            _ => return self.vitals.act(action),
        };
        let target = self.vitals.identity.as_ref().map(|i| i.target.clone()).unwrap_or_default();
        let Ok(Target::Device(path)) = Target::parse(&target) else {
            return self.say("A simulated drive tests itself in a route with a selftest leg.");
        };
        let told = machine::device(&path, &self.home)
            .and_then(|d| d.prober.self_test(extended).map_err(AppError::usage));
        match told {
            Ok(()) if extended.is_none() => self.say("The self-test was told to end."),
            Ok(()) => self.say("The self-test has begun."),
            Err(e) => self.say(e.message),
        }
        if let Some(follow) = &self.follow_yard {
            follow.look_again();
        }
    }

    /// The haul under the cursor of a list, when it is another than the one glanced at.
    #[must_use]
    pub fn wants_glance(&self) -> Option<String> {
        let wanted = match self.screen {
            Screen::Yard => self.yard.chosen_row().and_then(|r| r.last_haul.clone()),
            Screen::Ledger => self.archive.chosen_row().map(|r| r.haul.clone()),
            Screen::Route | Screen::Haul | Screen::Vitals => None,
        };
        wanted.filter(|w| {
            self.glance.as_ref().is_none_or(|g| g.haul != *w) && self.unreadable.as_ref() != Some(w)
        })
    }

    /// Reads the haul under the cursor. True when there is something new to draw.
    pub fn take_glance(&mut self) -> bool {
        let Some(wanted) = self.wants_glance() else { return false };
        self.glance = Glance::read(&self.ledger, &wanted);
        self.unreadable = self.glance.is_none().then_some(wanted);
        true
    }

    /// The haul on screen: its readings, and what is concluded from them.
    #[must_use]
    pub fn shown(&self) -> Option<(&Readings, &Conclusions)> {
        match (&self.haul.lapse, &self.haul.kept) {
            (Some(lapse), _) => Some((&lapse.readings, &lapse.conclusions)),
            (None, Some(kept)) => Some((&kept.readings, &kept.conclusions)),
            (None, None) => self.shown_live().map(|l| (&l.readings, &l.conclusions)),
        }
    }

    /// The live haul on screen.
    #[must_use]
    pub fn shown_live(&self) -> Option<&Live> {
        let haul = self.haul.live.as_deref()?;
        self.live.iter().find(|l| l.haul == haul)
    }

    fn ask_shown(&mut self, command: Command) {
        let haul = self.haul.live.clone();
        match self.live.iter_mut().find(|l| Some(&l.haul) == haul.as_ref() && l.runs()) {
            Some(live) => live.ask(command),
            None => self.say("This haul is over."),
        }
    }

    fn go(&mut self, screen: Screen) {
        if self.screen != screen {
            self.came_from.retain(|s| *s != screen);
            self.came_from.push(self.screen);
            self.screen = screen;
        }
    }

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
    fn click(&mut self, x: u16, y: u16) {
        let Some((r, c)) = self.shown() else { return };
        match self.haul.at(self.area.get(), x, y, r, c) {
            Some(Hit::Flag(i)) if i < c.findings.len() => self.show_evidence(i),
            Some(Hit::Flag(i)) => self.go_to_flag(i as isize - self.haul.first_shown() as isize),
            Some(Hit::Lanes(share)) => self.haul.cursor = Some(share),
            None => {}
        }
    }

    fn takes_text(&self) -> bool {
        match self.screen {
            Screen::Route => self.route.editing.is_some(),
            Screen::Ledger => self.archive.filtering,
            _ => false,
        }
    }

    fn on_text_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match self.screen {
            Screen::Route => self.route.on_text_key(event, key),
            _ => self.archive.on_text_key(event, key),
        }
    }

    fn on_overlay_key(&mut self, event: &TermEvent, key: &KeyEvent) {
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

    fn confirm(&mut self, yes: Yes) {
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
                    Ok(()) => self.say(format!("{path} is removed.")),
                    Err(e) => self.say(e.message),
                }
            }
        }
    }

    /// Does an action.
    pub fn act(&mut self, action: Action) {
        match action {
            Action::Quit if self.running() > 0 => {
                let n = self.running();
                let hauls = if n == 1 { "A haul is".to_owned() } else { format!("{n} hauls are") };
                let question = format!("{hauls} under way. Stop and leave? What was recorded stays.");
                self.overlay = Some(Overlay::Ask { question, yes: Yes::Leave });
            }
            Action::Quit => self.quit = true,
            Action::Help => self.overlay = Some(Overlay::Help),
            Action::Find => self.overlay = Some(Overlay::Find { input: Input::default(), chosen: 0 }),
            Action::Back => self.back(),
            Action::GoYard => self.go(Screen::Yard),
            Action::GoLedger => {
                let result = self.reload();
                self.heed(result);
                self.go(Screen::Ledger);
            }
            Action::Tidy => match self.offer_to_tidy() {
                Ok(true) => {}
                Ok(false) => self.say("Nothing was left behind."),
                Err(e) => self.say(e.message),
            },
            _ => match self.screen {
                Screen::Yard => self.act_in_yard(action),
                Screen::Route => self.act_in_route(action),
                Screen::Haul => self.act_in_haul(action),
                Screen::Vitals => self.act_in_vitals(action),
                Screen::Ledger => self.act_in_ledger(action),
            },
        }
    }

    fn back(&mut self) {
        if self.screen == Screen::Haul && self.haul.put_down() {
            return;
        }
        if self.screen == Screen::Ledger && self.archive.clear_filter() {
            return;
        }
        self.screen = self.came_from.pop().unwrap_or(Screen::Yard);
    }

    fn act_in_yard(&mut self, action: Action) {
        match action {
            Action::Open => {
                let (routes, broken) = targets::all_routes(&self.home);
                if let Some(first) = broken.first() {
                    self.say(format!("Left out: {first}"));
                }
                if let Some(row) = self.yard.chosen_row() {
                    let levels =
                        row.last_haul.as_deref().map(|h| super::views::route::known_levels(&self.ledger, h));
                    self.route = RouteView::plan(row, routes, levels.unwrap_or_default());
                    self.go(Screen::Route);
                }
            }
            Action::Vitals => self.show_vitals(),
            Action::LookAgain => match &self.follow_yard {
                Some(follow) => {
                    follow.look_again();
                    self.say("Looking at every drive again.");
                }
                None => self.say("The demo has simulated drives alone."),
            },
            Action::Watch => {
                let serial = self.yard.chosen_row().map(|r| r.identity.target.clone());
                let on_drive = |l: &&Live| l.readings.head().map(|h| h.drive.target.clone()) == serial;
                match self.live.iter().rev().find(on_drive).map(|l| l.haul.clone()) {
                    Some(haul) => {
                        self.haul = HaulView::live(&haul);
                        self.go(Screen::Haul);
                    }
                    None => self.say("No haul runs on this drive: Enter plans one."),
                }
            }
            _ => self.yard.act(action),
        }
    }

    fn act_in_route(&mut self, action: Action) {
        if action == Action::Start {
            let result = self.start();
            self.heed(result);
        } else if action == Action::Vitals {
            self.show_vitals();
        } else {
            self.route.act(action);
        }
    }

    fn start(&mut self) -> Result<(), AppError> {
        let plan = self.route.checked()?;
        let wish = Wish {
            size: plan.size,
            conditions: plan.conditions.clone(),
            repeat: self.yard.count_hauls(&plan.serial),
            destroys: plan.route.destroys(),
            consent: Consent { protect: machine::protected(&self.home), ..plan.consent },
            thermometers: Vec::new(),
        };
        let opened = targets::open(&plan.target, &wish)?;
        let setup = Setup {
            haul: self.ledger.new_haul_id()?,
            route: plan.route,
            conditions: plan.conditions,
            started_unix_ms: jiff::Timestamp::now().as_millisecond(),
            program: env!("CARGO_PKG_VERSION").into(),
        };
        // A minute a second: a cache end is on screen soon, and one can still watch.
        let speed = Speed::Times(60.0);
        let session = Session::start(opened, setup, self.ledger.another()?, speed)?;
        self.watch(session, speed);
        Ok(())
    }

    /// Shows all of a finding, and puts the cursor where it is.
    fn show_evidence(&mut self, index: usize) {
        let count = self.shown().map_or(0, |(_, c)| c.findings.len());
        if count == 0 {
            return self.say("Nothing was found so far.");
        }
        let index = index.min(count - 1);
        let step = index as isize - self.haul.first_shown() as isize;
        self.go_to_flag(step);
        self.overlay = Some(Overlay::Evidence(index));
    }

    fn go_to_flag(&mut self, step: isize) {
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
    fn ask_stream(&self, words: &str) -> Vec<String> {
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

    fn time_lapse(&mut self) {
        if self.haul.lapse.take().is_some() {
            return;
        }
        let Some(kept) = &self.haul.kept else {
            return self.say("A time-lapse is for a haul that is over: open one from the ledger.");
        };
        match Lapse::begin(&self.ledger, &kept.row.haul, kept.row.elapsed) {
            Ok(lapse) => self.haul.lapse = Some(Box::new(lapse)),
            Err(e) => self.say(e.message),
        }
    }

    fn act_in_lapse(&mut self, action: Action) -> bool {
        let Some(lapse) = &mut self.haul.lapse else { return false };
        match action {
            Action::Pause => lapse.paused = !lapse.paused,
            Action::Faster => lapse.pace(2.0),
            Action::Slower => lapse.pace(0.5),
            _ => return false,
        }
        true
    }

    fn act_in_haul(&mut self, action: Action) {
        if self.act_in_lapse(action) {
            return;
        }
        match action {
            Action::NextFlag => self.go_to_flag(1),
            Action::FlagBefore => self.go_to_flag(-1),
            Action::Open => self.show_evidence(self.haul.first_shown()),
            Action::Lapse => self.time_lapse(),
            Action::Hold => {
                self.overlay = Some(Overlay::Hold(Input::new("620 MB/s, 8 GiB".into()), Vec::new()));
            }
            Action::Pause => {
                let paused = self.shown_live().is_some_and(|l| l.paused);
                self.ask_shown(Command::Pause(!paused));
            }
            Action::SkipLeg => self.ask_shown(Command::SkipLeg),
            Action::Stop if self.shown_live().is_some_and(Live::runs) => {
                let question = "Stop this haul? What was recorded stays.".into();
                self.overlay = Some(Overlay::Ask { question, yes: Yes::Stop });
            }
            Action::Stop => self.say("This haul is over."),
            Action::Note if self.shown_live().is_some_and(Live::runs) => {
                self.overlay = Some(Overlay::Note(Input::default()));
            }
            Action::Note => self.say("This haul is over: its record is closed."),
            Action::Faster | Action::Slower => match self.shown_live() {
                Some(live) if live.simulated && live.runs() => {
                    let speed =
                        if action == Action::Faster { live.speed.faster() } else { live.speed.slower() };
                    self.ask_shown(Command::Speed(speed));
                }
                _ => self.say("Only the clock of a simulated drive under way can be set."),
            },
            Action::Export => {
                let result = self.export();
                match result {
                    Ok(path) => self.say(format!("Chart written: {}", path.display())),
                    Err(e) => self.say(e.message),
                }
            }
            _ => {
                let mut view = std::mem::take(&mut self.haul);
                if let Some((readings, _)) = view.shown_in(&self.live) {
                    let extent = readings.extent(view.ruler);
                    view.act(action, extent);
                } else {
                    let lapse = view.lapse.as_ref().map(|l| &l.readings);
                    let shown = lapse.or(view.kept.as_ref().map(|k| &k.readings));
                    let extent = shown.map_or(0.0, |r| r.extent(view.ruler));
                    view.act(action, extent);
                }
                self.haul = view;
            }
        }
    }

    /// Writes the lanes as a file in the present folder, or in the ledger's when that cannot be written.
    fn export(&self) -> Result<PathBuf, AppError> {
        let (readings, conclusions) =
            self.shown().ok_or_else(|| AppError::usage("There is no haul to draw."))?;
        let haul = readings.head().map_or("haul", |h| h.haul.as_str());
        let along = match self.haul.ruler {
            hollow_mile_core::readings::Ruler::Elapsed => "elapsed",
            hollow_mile_core::readings::Ruler::Moved => "written",
            hollow_mile_core::readings::Ruler::Position => "position",
        };
        let svg = hollow_mile_charts::lanes::lanes(readings, conclusions, self.haul.ruler).to_svg();
        let folders = [std::env::current_dir().unwrap_or_default(), self.home.clone()];
        let mut last = AppError::usage("No folder can be written.");
        for folder in folders {
            for n in 0..100 {
                let more = if n == 0 { String::new() } else { format!("-{n}") };
                let path = folder.join(format!("{haul}-lanes-{along}{more}.svg"));
                let made = std::fs::OpenOptions::new().write(true).create_new(true).open(&path);
                match made.and_then(|mut f| std::io::Write::write_all(&mut f, svg.as_bytes())) {
                    Ok(()) => return Ok(path),
                    Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                    Err(e) => {
                        last = AppError::file(&path, "written", &e);
                        break;
                    }
                }
            }
        }
        Err(last)
    }

    fn act_in_ledger(&mut self, action: Action) {
        if action != Action::Open {
            return self.archive.act(action);
        }
        let Some(row) = self.archive.chosen_row().cloned() else { return };
        if self.live.iter().any(|l| l.haul == row.haul) {
            self.haul = HaulView::live(&row.haul);
            return self.go(Screen::Haul);
        }
        // A long record is read meanwhile.
        if let Some((readings, conclusions)) = self.ledger.overview(&row.haul)
            && let Ok(loading) = Loading::begin(&self.ledger, &row.haul)
        {
            self.haul = HaulView::kept(row, readings, conclusions);
            self.haul.loading = Some(loading);
            return self.go(Screen::Haul);
        }
        match self.ledger.readings(&row.haul) {
            Ok(readings) => {
                let conclusions = readings.conclude();
                self.haul = HaulView::kept(row, readings, conclusions);
                self.go(Screen::Haul);
            }
            Err(e) => self.say(e.to_string()),
        }
    }
}

/// The actions of a view whose name or help has these words.
#[must_use]
pub fn find_actions(screen: Screen, words: &str) -> Vec<&'static super::actions::Binding> {
    let words = words.to_lowercase();
    available(screen)
        .filter(|b| words.split_whitespace().all(|w| b.name.contains(w) || b.help.to_lowercase().contains(w)))
        .collect()
}
