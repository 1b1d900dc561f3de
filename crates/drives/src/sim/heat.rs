//! The heat of a simulated drive: first order, with a limit and hysteresis.

use std::time::Duration;

use hollow_mile_core::quantity::units::Celsius;

use super::spec::{Cooling, Heat};

/// Temperature, and what the controller does about it.
#[derive(Debug, Clone)]
pub struct HeatModel {
    spec: Heat,
    cooling: Cooling,
    ambient: f64,
    degrees: f64,
    throttled: bool,
    transitions: u64,
    throttled_for: f64,
    /// The sensor gives whole degrees, once a second.
    reading: Celsius,
    reading_age: f64,
    /// Energy drawn and time passed since the meter was asked, J and s.
    drawn: (f64, f64),
}

impl HeatModel {
    /// At rest in this air, under the cooling of this name (or as it comes).
    pub fn new(spec: &Heat, ambient: Option<Celsius>, cooling: Option<&str>) -> Self {
        let by_name = |name: &str| spec.cooling.iter().find(|c| c.name.eq_ignore_ascii_case(name));
        let chosen = cooling.and_then(by_name).or(spec.cooling.first());
        let cooling = chosen.cloned().unwrap_or(Cooling {
            name: String::new(),
            resistance: 5.0,
            tau: Duration::from_secs(90),
        });
        let ambient = ambient.unwrap_or(spec.ambient).degrees();
        let degrees = ambient + cooling.resistance * spec.idle_watts;
        Self {
            spec: spec.clone(),
            cooling,
            ambient,
            degrees,
            throttled: false,
            transitions: 0,
            throttled_for: 0.0,
            reading: Celsius::new(degrees.round()),
            reading_age: 0.0,
            drawn: (0.0, 0.0),
        }
    }

    /// Mean power since it was last asked, W; at rest before any time has passed.
    pub fn watts(&mut self) -> f64 {
        let (joules, seconds) = std::mem::take(&mut self.drawn);
        if seconds > 0.0 { joules / seconds } else { self.spec.idle_watts }
    }

    /// What is left of the rate now.
    pub const fn factor(&self) -> f64 {
        if self.throttled { self.spec.factor } else { 1.0 }
    }

    /// What the sensor says.
    pub const fn reading(&self) -> Celsius {
        self.reading
    }

    /// How often the drive slowed down for heat, and for how many seconds in all.
    pub const fn throttling(&self) -> (u64, u64) {
        (self.transitions, self.throttled_for as u64)
    }

    /// Lets `seconds` pass while so many bytes a second are moved: the exact solution for constant power.
    pub fn pass(&mut self, seconds: f64, bytes_per_second: f64) {
        let watts = self.spec.idle_watts + self.spec.watts_per_gb_s * bytes_per_second / 1e9;
        self.drawn = (self.drawn.0 + watts * seconds, self.drawn.1 + seconds);
        let goal = self.ambient + self.cooling.resistance * watts;
        self.degrees = goal + (self.degrees - goal) * (-seconds / self.cooling.tau.as_secs_f64()).exp();
        if self.throttled {
            self.throttled_for += seconds;
        }
        if let Some(limit) = self.spec.throttle {
            let resume = self.spec.resume.map_or(limit.degrees() - 4.0, Celsius::degrees);
            if !self.throttled && self.degrees >= limit.degrees() {
                self.throttled = true;
                self.transitions += 1;
            } else if self.throttled && self.degrees < resume {
                self.throttled = false;
            }
        }
        self.reading_age += seconds;
        if self.reading_age >= 0.999 {
            self.reading_age = 0.0;
            self.reading = Celsius::new(self.degrees.round());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::quantity::plain::Plain;

    fn heat() -> Heat {
        Heat {
            idle_watts: 2.0,
            watts_per_gb_s: 2.0,
            ambient: Celsius::new(20.0),
            throttle: Some(Celsius::new(80.0)),
            resume: Some(Celsius::new(74.0)),
            factor: 0.4,
            metered: false,
            cooling: vec![Cooling {
                name: "bare".into(),
                resistance: 10.0,
                tau: Duration::read("60 s").unwrap(),
            }],
        }
    }

    #[test]
    fn it_settles_where_the_formula_says() {
        let mut h = HeatModel::new(&heat(), None, None);
        assert_eq!(h.reading().degrees(), 40.0);
        for _ in 0..6000 {
            h.pass(0.1, 1e9);
        }
        assert!((h.degrees - 60.0).abs() < 0.1, "20 + 10 × (2 + 2) = 60, not {}", h.degrees);
        let hot_room = HeatModel::new(&heat(), Some(Celsius::new(38.0)), Some("bare"));
        assert_eq!(hot_room.reading().degrees(), 58.0);
    }

    #[test]
    fn its_meter_says_the_mean_since_it_was_asked() {
        let mut h = HeatModel::new(&heat(), None, None);
        assert_eq!(h.watts(), 2.0);
        h.pass(1.0, 1e9);
        h.pass(3.0, 0.0);
        assert!((h.watts() - (4.0 + 3.0 * 2.0) / 4.0).abs() < 1e-12);
        assert_eq!(h.watts(), 2.0);
    }

    #[test]
    fn it_throttles_at_the_limit_and_lets_go_below_the_lower_one() {
        let mut h = HeatModel::new(&heat(), None, None);
        let mut seen = Vec::new();
        for _ in 0..6000 {
            let was = h.throttled;
            h.pass(0.1, 4e9 * h.factor());
            if was != h.throttled {
                seen.push(h.degrees.round());
            }
        }
        assert!(seen.len() > 6, "a sawtooth: {seen:?}");
        assert!(
            seen.iter().step_by(2).all(|t| *t == 80.0) && seen.iter().skip(1).step_by(2).all(|t| *t == 74.0)
        );
        assert_eq!(h.throttling().0 as usize, seen.len().div_ceil(2));
    }
}
