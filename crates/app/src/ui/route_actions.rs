//! What can be done with a route before it is driven, and the start of it.

use super::actions::{Action, Screen};
use super::app::App;
use super::asking::{Question, Yes};
use super::views::route::{OnDrive, Plan, RouteView};
use crate::again::again;
use crate::command::Speed;
use crate::error::AppError;
use crate::orders::{Orders, Seat};
use crate::watch::keeper;

impl App {
    pub(super) fn act_in_route(&mut self, action: Action) {
        if action == Action::Start {
            let asked = self.ask_to_start();
            self.heed(asked);
        } else if action == Action::Vitals {
            self.show_vitals();
        } else {
            self.route.act(action);
        }
    }

    /// Says what will be written where, and asks, and how often.
    fn ask_to_start(&mut self) -> Result<(), AppError> {
        self.route.checked()?;
        self.route.consented()?;
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
        let haul = match self.screen {
            Screen::Haul => self.shown().and_then(|(r, _)| r.head()).map(|h| h.haul.clone()),
            Screen::Ledger => self.archive.chosen_row().map(|r| r.haul.clone()),
            _ => self.yard.chosen_row().and_then(|r| r.last_haul.clone()),
        };
        let haul =
            haul.ok_or_else(|| AppError::usage("There is no haul here to repeat: Enter plans one."))?;
        let again = again(&self.ledger, &haul)?;
        let row = self.yard.row_of(&again.drive, &again.serial).ok_or_else(|| {
            AppError::usage(format!(
                "{} is not in the yard: haul {haul} cannot be repeated here.",
                again.serial
            ))
        })?;
        self.route = RouteView::again(OnDrive::of(row, &self.ledger, self.archive.all()), again);
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
            continues: None,
            repeat: times,
            // A minute a second: a cache end is on screen soon, and one can still watch.
            speed: Speed::Times(60.0),
            metrics: None,
            ends_with_starter: !self.route.goes_on,
        })
    }

    pub(super) fn start(&mut self, times: u32) -> Result<(), AppError> {
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
            number: self.yard.count_hauls(serial),
        }
    }
}
