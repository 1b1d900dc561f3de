//! What can be done with a route before it is driven, and the start of it.

use super::actions::Action;
use super::app::App;
use super::views::route::Plan;
use crate::command::Speed;
use crate::error::AppError;
use crate::orders::{Orders, Seat};
use crate::watch::keeper;

impl App {
    pub(super) fn act_in_route(&mut self, action: Action) {
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
        let mut seats = vec![self.seat(&plan, plan.drive.clone(), &plan.serial)];
        for (target, serial) in &self.route.also {
            seats.push(self.seat(&plan, target.clone(), serial));
        }
        let orders = Orders {
            home: self.home.clone(),
            route: plan.route,
            seats,
            continues: None,
            repeat: 1,
            // A minute a second: a cache end is on screen soon, and one can still watch.
            speed: Speed::Times(60.0),
            metrics: None,
            ends_with_starter: !self.route.goes_on,
        };
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
