//! The state of the interface, and what each action does to it.

use std::borrow::Cow;
use std::cell::RefCell;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::models::Models;
use hollow_mile_core::readings::Readings;
use hollow_mile_ledger::Ledger;
use ratatui::layout::Rect;
use tui_input::Input;

use super::actions::{Action, Screen};
use super::asking::{Prompt, Question, Yes};
use super::follow_yard::FollowYard;
use super::frame::{Frame, SpotOf};
use super::listing::Listing;
use super::live::Live;
use super::making::Making;
use super::review::{Came, Loading};
use super::theme::Theme;
use super::views::batch::BatchView;
use super::views::benches::BenchesView;
use super::views::contrast::ContrastView;
use super::views::drive_file::DriveFileView;
use super::views::haul::HaulView;
use super::views::ledger::LedgerView;
use super::views::route::RouteView;
use super::views::surveys::SurveysView;
use super::views::vitals::VitalsView;
use super::views::yard::YardView;
use super::widgets::glance::Glance;
use crate::command::Speed;
use crate::error::AppError;
use crate::fleet::Following;
use crate::queue;
use crate::session::Session;
use crate::told::estimate::known_of;
use crate::watch::keeper::Kept;
use crate::watch::watching::Watching;
use hollow_mile_ledger::fleet::Mirror;

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
    /// What waits for a drive.
    Queue {
        /// The drive.
        drive: String,
        /// The one under the cursor.
        chosen: usize,
    },
    /// A line to type.
    Prompt(Prompt),
    /// A question.
    Ask(Question),
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
    /// The surveys of the haul.
    pub surveys: SurveysView,
    /// All hauls.
    pub archive: LedgerView,
    /// Hauls side by side.
    pub contrast: ContrastView,
    /// The benches of the fleet.
    pub benches: BenchesView,
    /// Drives taken together.
    pub batch: BatchView,
    /// All that is known of one drive.
    pub drive_file: DriveFileView,
    /// Hauls that were deleted since the program began, by the occasion.
    pub(super) deleted: Vec<Vec<String>>,
    /// What takes longer than a key may wait.
    pub(super) making: Option<Making>,
    /// How far the list of hauls is read.
    pub(super) listing: Listing,
    /// Hauls under way, and those that ended meanwhile.
    pub live: Vec<Live>,
    /// Processes that keep hauls which were started here.
    pub kept: Vec<Kept>,
    /// Hauls are kept by processes of their own. Not so in tests that draw views without the program.
    pub apart: bool,
    /// What lies over the view.
    pub overlay: Option<Overlay>,
    /// The haul that a list shows below itself.
    pub glance: Option<Glance>,
    /// What of the screen the mouse can press, as it was drawn last.
    pub spots: RefCell<Vec<(Rect, SpotOf)>>,
    /// Where in a picture the mouse was pressed.
    pub(super) pressed: Option<f64>,
    /// The screen is to be drawn anew from nothing.
    pub redraw: bool,
    pub(super) follow_yard: Option<FollowYard>,
    unreadable: Option<String>,
    /// Follows the fleet's server while hauls of all benches are shown.
    following: Option<Following>,
    /// Counts what others wrote into the ledger.
    changes: i64,
    looked_elsewhere: Instant,
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
            surveys: SurveysView::default(),
            archive: LedgerView::default(),
            contrast: ContrastView::default(),
            batch: BatchView::default(),
            benches: BenchesView::default(),
            drive_file: DriveFileView::default(),
            deleted: Vec::new(),
            making: None,
            listing: Listing::default(),
            home,
            demo,
            theme,
            ledger,
            screen: Screen::Yard,
            came_from: Vec::new(),
            live: Vec::new(),
            kept: Vec::new(),
            apart: false,
            overlay: None,
            glance: None,
            spots: RefCell::default(),
            pressed: None,
            redraw: false,
            unreadable: None,
            following: None,
            changes: 0,
            looked_elsewhere: Instant::now(),
            message: None,
            quit: false,
        };
        // Who works with drives of their own asks for those that ship.
        app.yard.show_simulated(demo);
        app.reload()?;
        app.offer_to_tidy()?;
        Ok(app)
    }

    /// Shows the hauls of the whole fleet, or those of this bench.
    ///
    /// # Errors
    /// When this bench is in no fleet.
    pub fn show_fleet(&mut self, on: bool) -> Result<(), AppError> {
        /// What other benches do is seen within two seconds.
        const PULLED: Duration = Duration::from_secs(1);
        if on {
            self.ledger = Mirror::open(&self.home)?.into_ledger();
            self.following = Following::begin(&self.home, PULLED).ok();
        } else {
            self.following = None;
            self.ledger = Ledger::open(&self.home)?;
        }
        self.archive = LedgerView::default();
        self.reload()
    }

    /// The hauls of the whole fleet are shown.
    #[must_use]
    pub const fn shows_fleet(&self) -> bool {
        self.ledger.is_mirror()
    }

    fn offer_to_tidy(&mut self) -> Result<bool, AppError> {
        let Some(left) = self.ledger.leftovers()?.into_iter().find(|l| l.certain) else { return Ok(false) };
        let question = format!(
            "Haul {} was killed and left {} ({}) behind. Remove it?",
            left.haul,
            left.path.display(),
            left.size
        );
        self.ask(Question::yes_or_no(vec![question], Yes::Remove(left)));
        Ok(true)
    }

    /// Shows a sentence in the bottom row for a while.
    pub fn say(&mut self, text: impl Into<String>) {
        self.message = Some((text.into(), Instant::now()));
    }

    /// The sentence to show now.
    #[must_use]
    pub fn message(&self) -> Option<Cow<'_, str>> {
        let said = self.message.as_ref().filter(|(_, at)| at.elapsed() < MESSAGE_STAYS);
        let making = || self.making.as_ref().map(|m| Cow::Owned(m.words()));
        said.map(|(m, _)| Cow::Borrowed(m.as_str())).or_else(making)
    }

    pub(super) fn heed(&mut self, result: Result<(), AppError>) {
        if let Err(e) = result {
            self.say(e.message);
        }
    }

    /// Follows a session and shows it.
    pub fn watch(&mut self, session: Session, speed: Speed) {
        let live = Live::new(session, speed);
        self.show_live(&live.haul);
        self.live.push(live);
        self.go(Screen::Haul);
    }

    /// Follows a haul that another process keeps, and shows it.
    ///
    /// # Errors
    /// When it is not under way, or does not answer.
    pub fn attach(&mut self, haul: &str) -> Result<(), AppError> {
        if !self.live.iter().any(|l| l.haul == haul && l.runs()) {
            let watching = Watching::attach(&self.home, haul)?;
            self.live.retain(|l| l.haul != haul);
            self.live.push(Live::watching(watching));
        }
        self.show_live(haul);
        self.go(Screen::Haul);
        Ok(())
    }

    /// Shows a haul under way, from its beginning, whatever was shown of another.
    pub(super) fn show_live(&mut self, haul: &str) {
        self.haul = HaulView::live(haul);
        self.surveys = SurveysView::default();
    }

    /// It ends when this program is left: it runs in it, or was started from here and not to go on.
    #[must_use]
    pub fn ends_with_us(&self, live: &Live) -> bool {
        live.is_here() || self.kept.iter().any(|k| k.ends && k.hauls.contains(&live.haul))
    }

    /// Hauls that end when this program is left; of a keeper whose hauls come one after the other, one at the least.
    pub(super) fn ending_with_us(&mut self) -> usize {
        self.kept.retain_mut(|k| !k.reap());
        let runs = |haul: &String| self.live.iter().any(|l| l.runs() && l.haul == *haul);
        let kept = self.kept.iter().filter(|k| k.ends);
        let kept: usize =
            kept.map(|k| k.hauls.iter().filter(|h| runs(h)).count().max(usize::from(k.repeats))).sum();
        kept + self.live.iter().filter(|l| l.runs() && l.is_here()).count()
    }

    /// Hauls under way.
    #[must_use]
    pub fn running(&self) -> usize {
        self.live.iter().filter(|l| l.runs()).count()
    }

    /// Takes what happened on the hauls. True when the screen may have changed.
    pub fn follow(&mut self, budget: Duration) -> bool {
        self.follow_until(budget, &|| false)
    }

    /// As [`Self::follow`], but a key that waits is not kept waiting: at most for one batch, and one conclusion.
    pub fn follow_until(&mut self, budget: Duration, waits: &dyn Fn() -> bool) -> bool {
        let share = budget / u32::try_from(self.running().max(1)).unwrap_or(1);
        // One at a time is concluded from, whichever waited longest.
        let due = self.live.iter().filter(|l| l.is_due()).min_by_key(|l| l.concluded_when());
        let due = due.map(|l| l.haul.clone());
        let mut changed = false;
        let mut ended = false;
        let mut error = None;
        for live in &mut self.live {
            let ran = live.runs();
            let concludes = due.as_ref() == Some(&live.haul);
            match live.follow(share, concludes, waits) {
                Ok(c) => changed |= c,
                Err(e) => error = Some(e),
            }
            if let Some(why) = live.watched().and_then(Watching::refused) {
                error = Some(AppError::usage(format!("Not done: {why}. C takes the controls over.")));
            }
            ended |= ran && !live.runs();
        }
        if let Some(e) = error {
            self.say(e.message);
            changed = true;
        }
        self.expect_of_live();
        let target = |l: &Live| l.readings.head().map(|h| h.drive.target.clone());
        self.yard.kept_here_are(self.live.iter().filter(|l| l.runs()).filter_map(target).collect());
        self.kept.retain_mut(|k| !k.reap());
        changed |= self.take_news();
        changed |= self.follow_listing();
        changed |= self.look_elsewhere();
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

    /// Asks once of each haul how long its legs should take, as soon as its head is there.
    fn expect_of_live(&mut self) {
        for live in self.live.iter_mut().filter(|l| l.expected.is_none()) {
            let Some(head) = live.readings.head() else { continue };
            let known = known_of(&self.ledger, self.archive.all(), &head.drive);
            live.expected = Some(known.legs(&head.route, head.drive.capacity));
        }
    }

    /// Lets a time-lapse run on, takes a record that was read meanwhile, makes models anew. True when it shows.
    fn follow_review(&mut self, budget: Duration) -> bool {
        let mut changed = self.haul.lapse.as_mut().is_some_and(|l| l.follow(budget));
        // Its seconds are counted on screen.
        changed |= self.making.is_some();
        changed |= self.take_made();
        changed |= self.follow_tail(Duration::ZERO);
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
        if matches!(self.screen, Screen::Haul | Screen::Surveys) {
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

    /// Takes what another bench committed of the haul that is shown, waiting so long for it at most. True when it shows.
    pub(super) fn follow_tail(&mut self, at_most: Duration) -> bool {
        let Some(tail) = &self.haul.tail else { return false };
        match tail.came_within(at_most) {
            (None, over) => {
                if over {
                    self.haul.tail = None;
                }
                over
            }
            (Some(Ok(Came::Whole(whole))), _) => {
                self.haul.complete(whole.0, whole.1);
                true
            }
            (Some(Ok(Came::More(events))), _) => self.haul.goes_on(&events),
            (Some(Err(e)), _) => {
                self.haul.tail = None;
                self.say(e);
                true
            }
        }
    }

    /// Something moves by itself, so that the screen is drawn again and again.
    #[must_use]
    pub fn is_moving(&self) -> bool {
        self.running() > 0
            || self.haul.loading.is_some()
            || self.haul.tail.is_some()
            || self.making.is_some()
            || self.listing.is_coming()
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

    /// The haul under the cursor of a list, when it is another than the one glanced at.
    #[must_use]
    pub fn wants_glance(&self) -> Option<String> {
        let wanted = match self.screen {
            Screen::Yard => self.yard.chosen_row().and_then(|r| r.last_haul.clone()),
            Screen::Ledger => self.archive.chosen_row().map(|r| r.haul.clone()),
            Screen::Route
            | Screen::Haul
            | Screen::Surveys
            | Screen::Vitals
            | Screen::Contrast
            | Screen::Batch
            | Screen::Benches
            | Screen::DriveFile => None,
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

    /// What every view gets of this.
    #[must_use]
    pub fn frame(&self) -> Frame<'_> {
        let shown = self.shown();
        let survey = shown
            .filter(|_| self.screen == Screen::Surveys)
            .and_then(|(_, c)| self.surveys.question(&c.surveys));
        Frame {
            theme: &self.theme,
            screen: self.screen,
            question: survey.unwrap_or(self.screen.question()),
            demo: self.demo,
            whose: match (self.demo, self.shows_fleet()) {
                (true, false) => "demo data".to_owned(),
                (true, true) => "demo data, all benches".to_owned(),
                (_, true) => "all benches of the fleet".to_owned(),
                _ => self.home.display().to_string(),
            },
            running: self.running(),
            live: &self.live,
            haul: &self.haul,
            shown,
            shown_live: self.shown_live(),
            glance: self.glance.as_ref(),
            queues: self.yard.queues(),
            spots: &self.spots,
        }
    }

    pub(super) fn go(&mut self, screen: Screen) {
        if self.screen != screen {
            self.came_from.retain(|s| *s != screen);
            self.came_from.push(self.screen);
            self.screen = screen;
        }
    }

    /// The view to which Esc goes next.
    pub(super) fn comes_before(&mut self, screen: Screen) {
        self.came_from.retain(|s| *s != screen);
        self.came_from.push(screen);
    }

    /// Does an action.
    pub fn act(&mut self, action: Action) {
        match action {
            Action::Quit if self.ending_with_us() > 0 => self.ask_to_leave(),
            // Others go on; the words for that stand below when the screen is given back.
            Action::Quit => self.quit = true,
            Action::Help => self.overlay = Some(Overlay::Help),
            Action::Find => self.overlay = Some(Overlay::Find { input: Input::default(), chosen: 0 }),
            Action::Back => self.back(),
            Action::Again => {
                let asked = self.haul_again();
                self.heed(asked);
            }
            Action::Continue => {
                let asked = self.continue_haul();
                self.heed(asked);
            }
            Action::Redraw => self.redraw = true,
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
                Screen::Surveys => self.act_in_surveys(action),
                Screen::Vitals => self.act_in_vitals(action),
                Screen::Ledger => self.act_in_ledger(action),
                Screen::Contrast => self.act_in_contrast(action),
                Screen::Batch => self.act_in_batch(action),
                Screen::Benches => self.act_in_benches(action),
                Screen::DriveFile => self.act_in_drive_file(action),
            },
        }
    }

    pub(super) fn back(&mut self) {
        if self.screen == Screen::Haul && self.haul.put_down() {
            return;
        }
        if self.screen == Screen::Ledger && self.archive.clear_filter() {
            return;
        }
        self.screen = self.came_from.pop().unwrap_or(Screen::Yard);
    }

    /// Asks the ledger, once a second while a list is on screen, what is under way elsewhere. True when it shows.
    fn look_elsewhere(&mut self) -> bool {
        if let Some(told) = self.following.as_ref().and_then(Following::benches) {
            let (yard, rows) = (&self.yard, self.archive.all());
            self.benches.are(told, rows, |haul| yard.expected_of(haul));
            if self.screen == Screen::Benches {
                return true;
            }
        }
        let lists = matches!(self.screen, Screen::Yard | Screen::Ledger | Screen::Benches);
        if !self.apart || !lists || self.looked_elsewhere.elapsed() < Duration::from_secs(1) {
            return false;
        }
        self.looked_elsewhere = Instant::now();
        // A ledger that cannot be read now is asked again; whoever opens a haul is told.
        let Ok(rows) = self.ledger.under_way() else { return false };
        // How long each should take is asked once.
        for row in &rows {
            if self.yard.expects(&row.haul) {
                continue;
            }
            let expected = self.ledger.head(&row.haul).ok().and_then(|head| {
                let known = known_of(&self.ledger, self.archive.all(), &head.drive);
                known.route(&head.route, head.drive.capacity).ok()
            });
            self.yard.expect(&row.haul, expected.map(|s| s.likely));
        }
        // What is said of hauls here is sent as well.
        crate::fleet::start(&self.home);
        let changed = self.ledger.changes().unwrap_or(0);
        let elsewhere = self.shows_fleet() && changed != self.changes;
        self.changes = changed;
        let any = !rows.is_empty() | self.yard.queues_are(queue::all(&self.home));
        if self.yard.under_way_are(rows) | elsewhere {
            let result = self.reload_news();
            self.heed(result);
            return true;
        }
        any
    }
}
