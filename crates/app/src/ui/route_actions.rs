//! What can be done with a route before it is driven, and the start of it.

use std::io::Write;

use hollow_mile_core::quantity::text::named;
use hollow_mile_core::record::HaulState;
use hollow_mile_core::route::{Edit, Leg, Route};

use super::actions::{Action, Screen};
use super::app::App;
use super::asking::{Question, Words, Yes};
use super::views::route::{OnDrive, Plan, RouteView};
use crate::again::again;
use crate::command::Speed;
use crate::error::AppError;
use crate::orders::{Orders, Seat};
use crate::queue::Between;
use crate::watch::keeper;

impl App {
    pub(super) fn act_in_route(&mut self, action: Action) {
        if action == Action::Start {
            let asked = self.ask_to_start();
            self.heed(asked);
        } else if action == Action::Vitals {
            self.show_vitals();
        } else {
            let done = self.change_route(action);
            self.heed(done);
            self.keep_draft();
        }
    }

    fn change_route(&mut self, action: Action) -> Result<(), AppError> {
        match action {
            Action::AddLeg => self.prompt(Words::Leg, "write".into()),
            Action::CopyLeg => return self.route.edit(&Edit::Copy),
            Action::LegUp => return self.route.edit(&Edit::Up),
            Action::LegDown => return self.route.edit(&Edit::Down),
            Action::Delete => {
                self.route.edit(&Edit::Remove)?;
                self.say("The leg is out: u puts it back.");
            }
            Action::Undo if self.route.undo() => self.say("Taken back."),
            Action::Undo => self.say("The route is as it was."),
            Action::SaveRoute => {
                let name = self.route.drafted().map(|r| format!("my-{}", r.name)).unwrap_or_default();
                self.prompt(Words::Route, name);
            }
            _ => self.route.act(action),
        }
        Ok(())
    }

    /// Keeps what was entered for the drive, for next time.
    pub(super) fn keep_draft(&mut self) {
        let kept = self.route.entered().map_or(Ok(()), |(drive, drafts)| drafts.write(&self.home, &drive));
        self.heed(kept);
    }

    /// Adds a leg of this kind, with what it cannot be without.
    pub(super) fn add_leg(&mut self, kind: &str) -> Result<(), AppError> {
        let leg = new_leg(kind)?;
        self.route.edit(&Edit::Insert(Box::new(leg)))?;
        self.keep_draft();
        Ok(())
    }

    /// Keeps the route that is drafted under a name of the user's.
    pub(super) fn save_route(&mut self, name: &str) -> Result<(), AppError> {
        if !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
            return Err(AppError::usage(format!("\"{}\" has more than letters, digits and -", named(name))));
        }
        if hollow_mile_core::route::shipped(name).is_some() {
            return Err(AppError::usage(format!("{name} is a route that ships: give yours another name")));
        }
        let Some(route) = self.route.drafted() else { return Ok(()) };
        let route = Route { name: name.to_owned(), ..route.clone() };
        let text = route.to_toml().map_err(|e| AppError::machine(format!("no TOML: {e}")))?;
        let folder = crate::home::routes(&self.home);
        let path = folder.join(format!("{name}.toml"));
        let wrong = |e: std::io::Error| AppError::file(&path, "written", &e);
        std::fs::create_dir_all(&folder).map_err(wrong)?;
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(&path).map_err(wrong)?;
        file.write_all(text.as_bytes()).map_err(wrong)?;
        self.route.add(route);
        self.say(format!("Route written: {}", path.display()));
        Ok(())
    }

    /// Goes on where the haul that is shown, or under the cursor, was stopped.
    pub(super) fn continue_haul(&mut self) -> Result<(), AppError> {
        let haul = self.haul_meant()?;
        let row = self.ledger.haul(&haul)?;
        match row.state {
            HaulState::Done => {
                return Err(AppError::usage(format!("Haul {haul} came to its end: A runs it again.")));
            }
            HaulState::Running => return Err(AppError::usage(format!("Haul {haul} is under way."))),
            HaulState::Stopped | HaulState::CutShort | HaulState::Failed => {}
        }
        self.take_over(&haul)?;
        self.route.continue_from(haul);
        self.ask_or_plan()
    }

    /// Says what will be written where, and asks, and how often.
    fn ask_to_start(&mut self) -> Result<(), AppError> {
        self.route.checked()?;
        self.route.consented()?;
        if let Some(haul) = &self.route.continues {
            let mut lines = self.route.what_starts();
            lines.push(format!("It goes on where haul {haul} was stopped."));
            self.ask(Question::yes_or_no(lines, Yes::Start { times: 1 }));
            return Ok(());
        }
        let mut answers = vec![
            ('y', "once", Yes::Start { times: 1 }),
            ('2', "to 9 that many times", Yes::Start { times: 2 }),
        ];
        answers.extend(('3'..='9').zip(3..).map(|(key, times)| (key, "", Yes::Start { times })));
        answers.push(('w', "wait in the queue", Yes::Queue { times: 1 }));
        self.ask(Question::choice(self.route.what_starts(), answers, "no"));
        Ok(())
    }

    /// The haul that is shown or under the cursor, once more.
    pub(super) fn haul_again(&mut self) -> Result<(), AppError> {
        if self.screen == Screen::Ledger && self.archive.marked_rows().len() > 1 {
            return self.ask_to_repeat_marked();
        }
        let haul = self.haul_meant()?;
        self.take_over(&haul)?;
        self.ask_or_plan()
    }

    /// The haul that is shown, or under the cursor.
    fn haul_meant(&self) -> Result<String, AppError> {
        let haul = match self.screen {
            Screen::Haul => self.shown().and_then(|(r, _)| r.head()).map(|h| h.haul.clone()),
            Screen::Ledger => self.archive.chosen_row().map(|r| r.haul.clone()),
            _ => self.yard.chosen_row().and_then(|r| r.last_haul.clone()),
        };
        haul.ok_or_else(|| AppError::usage("There is no haul here: Enter in the yard plans one."))
    }

    /// Plans what a haul did: drive, route, conditions.
    fn take_over(&mut self, haul: &str) -> Result<(), AppError> {
        let again = again(&self.ledger, haul)?;
        let row = self.yard.row_of(&again.drive, &again.serial).ok_or_else(|| {
            AppError::usage(format!("{} is not in the yard: haul {haul} cannot go on here.", again.serial))
        })?;
        self.route = RouteView::again(OnDrive::of(row, &self.ledger, self.archive.all()), again);
        Ok(())
    }

    /// Asks to start what is planned, or shows it where consent has to be typed first.
    fn ask_or_plan(&mut self) -> Result<(), AppError> {
        if self.route.consented().is_ok() {
            return self.ask_to_start();
        }
        self.go(Screen::Route);
        self.say("All is as it was, but for the consent to lose what is on the drive: type it, then s.");
        Ok(())
    }

    /// What the Route view plans, as orders.
    pub(super) fn orders(&self, times: u32) -> Result<Orders, AppError> {
        let plan = self.route.checked()?;
        let seats =
            plan.drives.iter().map(|(target, serial)| self.seat(&plan, target.clone(), serial)).collect();
        Ok(Orders {
            home: self.home.clone(),
            route: plan.route,
            seats,
            continues: self.route.continues.clone(),
            repeat: times,
            // A minute a second: a cache end is on screen soon, and one can still watch.
            speed: Speed::Times(60.0),
            metrics: None,
            ends_with_starter: !self.route.goes_on,
        })
    }

    pub(super) fn start(&mut self, times: u32) -> Result<(), AppError> {
        // What comes between is the queue's to wait for.
        if times > 1 && self.route.between != Between::default() {
            return self.queue_plan(times);
        }
        let orders = self.orders(times)?;
        if self.apart {
            let kept = keeper::start(&orders)?;
            for haul in kept.hauls.clone() {
                self.attach(&haul)?;
            }
            if let Some(doubt) = kept.doubts.first() {
                self.say(doubt.clone());
            }
            self.kept.push(kept);
        } else {
            for (_, session) in orders.begin(orders.open(0)?, None)? {
                self.watch(session, orders.speed);
            }
        }
        Ok(())
    }

    /// One of the drives of a plan, with its part of the consent.
    fn seat(&self, plan: &Plan, drive: String, serial: &str) -> Seat {
        let typed = plan.consent.erase.as_deref().unwrap_or_default();
        let erase = typed.split(',').map(str::trim).find(|t| *t == serial).unwrap_or(typed);
        Seat {
            drive,
            size: plan.size,
            conditions: plan.conditions.clone(),
            erase: (!erase.is_empty()).then(|| erase.to_owned()),
            give_up: plan.consent.give_up.clone(),
            thermometers: Vec::new(),
            meters: Vec::new(),
            number: self.yard.count_hauls(serial),
        }
    }
}

/// A leg of this kind with what it cannot be without; everything else is as it usually is.
fn new_leg(kind: &str) -> Result<Leg, AppError> {
    let own = match kind {
        "write" | "read" => "until = { bytes = \"10 GB\" }",
        "mixed" => "read_percent = 70\nuntil = { duration = \"1 min\" }",
        "rest" => "until = { duration = \"1 min\" }",
        "fill" => "level = \"50 %\"",
        "pace" => "rate = \"500 MB/s\"\nuntil = { duration = \"5 min\" }",
        "breather" => {
            "rests = [\"1 min\", \"4 min\"]\nuntil = { past_cache_end = \"20 GB\", duration = \"20 min\" }"
        }
        "verify" => "of = \"last\"",
        "freight" => "carry = \"write\"\nfiles = [{ size = \"1 MiB\" }]\ntotal = \"1 GB\"",
        "group" => "repeat = 2\n[[leg.leg]]\nkind = \"write\"\nuntil = { bytes = \"10 GB\" }",
        _ => "",
    };
    let kind = named(kind).replace(['"', '\\'], "");
    let text = format!("name = \"new\"\n[[leg]]\nkind = \"{kind}\"\n{own}\n");
    Ok(Route::from_toml(&text)?.legs.remove(0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::route::LegKind;

    #[test]
    fn a_leg_of_every_kind_can_be_added() {
        for kind in LegKind::ALL {
            let leg = new_leg(kind.word()).unwrap_or_else(|e| unreachable!("{}: {}", kind.word(), e.message));
            assert_eq!(leg.kind, kind);
        }
        for wrong in ["wryte", "", "write\"\nkind = \"read", "\\"] {
            assert!(new_leg(wrong).is_err(), "{wrong}");
        }
    }
}
