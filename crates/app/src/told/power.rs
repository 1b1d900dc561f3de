//! What the drive draws, as a haul tells it.

use std::time::Duration;

use hollow_mile_core::conclude::surveys::members::{Member, MembersSurvey};
use hollow_mile_core::drive::health::Health;
use hollow_mile_core::drive::protocol::nvme_power::PowerState;
use hollow_mile_core::quantity::text::named;
use hollow_mile_core::quantity::units::{latency, mb_s_figure, significant};
use hollow_mile_core::quantity::{Interval, Quantity};
use hollow_mile_core::readings::{Energy, Meters, Readings};
use serde::Serialize;

use super::measured::{Bounded, bounded, measured_words};

/// Power under load of one leg.
#[derive(Debug, Serialize)]
pub struct LegPower {
    leg: u16,
    seconds: f64,
    joules: f64,
    power_w: Option<Bounded>,
    joules_per_gb: Option<Bounded>,
}

/// Power of a haul in which it was measured.
#[derive(Debug, Serialize)]
pub struct PowerRow {
    rest_w: Option<Bounded>,
    load_w: Option<Bounded>,
    highest_w: Option<f64>,
    joules_per_gb: Option<Bounded>,
    mb_s_per_w: Option<Bounded>,
    legs: Vec<LegPower>,
}

impl PowerRow {
    /// Of these meters; `None` where none of them tells power.
    #[must_use]
    pub fn of(meters: &Meters) -> Option<Self> {
        let leg = |(leg, e): &(u16, Energy)| LegPower {
            leg: *leg,
            seconds: e.seconds(),
            joules: e.joules(),
            power_w: bounded(e.watts(), 1.0),
            joules_per_gb: bounded(e.joules_per_byte(), 1e9),
        };
        (!meters.power().is_empty()).then(|| Self {
            rest_w: bounded(meters.rest().watts(), 1.0),
            load_w: bounded(meters.load().watts(), 1.0),
            highest_w: meters.highest(),
            joules_per_gb: bounded(meters.load().joules_per_byte(), 1e9),
            mb_s_per_w: bounded(meters.load().bytes_per_joule(), 1e-6),
            legs: meters.legs().iter().map(leg).collect(),
        })
    }
}

/// What it draws now; `None` where no meter tells it.
#[must_use]
pub fn power_now(readings: &Readings) -> Option<String> {
    readings.meters().power().last().map(|p| Quantity::Watts.words(p.1))
}

/// What the panel says of power, nothing where no meter tells it.
#[must_use]
pub fn power_lines(readings: &Readings) -> Vec<String> {
    let meters = readings.meters();
    let words =
        |name: &str, q: Quantity, i: Option<Interval>| i.map(|i| format!("{name} {}", measured_words(q, i)));
    [
        words("at rest", Quantity::Watts, meters.rest().watts()),
        words("under load", Quantity::Watts, meters.load().watts()),
        meters.highest().map(|w| format!("highest {}", Quantity::Watts.words(w))),
        words("energy", Quantity::JoulesPerByte, meters.load().joules_per_byte()),
        words("rate", Quantity::BytesPerJoule, meters.load().bytes_per_joule()),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// What each meter of the user's said last, a line each; members of an array have lines of their own.
#[must_use]
pub fn meter_lines(readings: &Readings) -> Vec<String> {
    let own = readings.meters().newest().iter().filter(|r| !r.value.unit.is_of_member());
    own.map(|r| format!("{} {}", named(&r.name), r.value)).collect()
}

/// What each member of an array did under load, a line each.
#[must_use]
pub fn member_lines(survey: &MembersSurvey) -> Vec<String> {
    let one = |m: &Member| {
        let warm = m.hottest_c.map(|t| format!(", {t:.0} °C at most")).unwrap_or_default();
        format!("{} {} MB/s, {:.0} % busy{warm}", m.name, mb_s_figure(m.mb_s), m.busy * 100.0)
    };
    let scaled = survey.scaling.iter().map(hollow_mile_core::conclude::surveys::members::Scaling::words);
    survey.members.iter().map(one).chain(scaled).collect()
}

/// The power states of a drive, one a line; the one that is set says so.
#[must_use]
pub fn power_states(health: &Health) -> Vec<String> {
    let time = |us: u32| latency(Duration::from_micros(us.into()));
    let one = |s: &PowerState| {
        let mut parts: Vec<String> = Vec::new();
        parts.extend(s.maximum_w.map(|w| format!("{} W at most", significant(w))));
        parts.extend(s.active_w.map(|w| format!("{} W active", significant(w))));
        parts.extend(s.idle_w.map(|w| format!("{} W idle", significant(w))));
        parts.extend((!s.operational).then(|| "moves no data".to_owned()));
        parts.extend(s.entry_us.map(|us| format!("{} in", time(us))));
        parts.extend(s.exit_us.map(|us| format!("{} out", time(us))));
        if parts.is_empty() {
            parts.push("nothing is told of it".into());
        }
        let set = if health.vitals.power_state == Some(s.number) { ", set now" } else { "" };
        format!("{}: {}{set}", s.number, parts.join(", "))
    };
    health.power_states.iter().map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::drive::Vitals;

    #[test]
    fn members_say_what_they_did() {
        let member =
            |name: &str, hottest_c| Member { name: name.into(), mb_s: 512.4, busy: 0.971, hottest_c };
        let members = vec![member("nvme0n1", Some(61.0)), member("nvme1n1", None)];
        let survey =
            MembersSurvey { moments: 40, members, waits_for: None, warmest: None, scaling: Vec::new() };
        assert_eq!(
            member_lines(&survey),
            ["nvme0n1 512.4 MB/s, 97 % busy, 61 °C at most", "nvme1n1 512.4 MB/s, 97 % busy"]
        );
    }

    #[test]
    fn states_say_what_they_draw_and_which_is_set() {
        let state = |number, maximum_w, operational, exit_us| PowerState {
            number,
            maximum_w,
            operational,
            entry_us: None,
            exit_us,
            idle_w: None,
            active_w: None,
        };
        let health = Health {
            power_states: vec![
                state(0, Some(8.25), true, None),
                state(1, None, true, None),
                state(4, Some(0.005), false, Some(45_000)),
            ],
            vitals: Vitals { power_state: Some(0), ..Vitals::default() },
            ..Health::default()
        };
        assert_eq!(
            power_states(&health),
            [
                "0: 8.25 W at most, set now",
                "1: nothing is told of it",
                "4: 0.005 W at most, moves no data, 45 ms out"
            ]
        );
    }
}
