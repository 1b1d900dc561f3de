//! How warm a drive will be from leg to leg of a route, as the heat models of its hauls have it, and when it will be as warm or as
//! cool as a leg wants it.

use crate::archive::digest::HeatDigest;
use crate::quantity::units::{Celsius, Rate};

/// A time until a temperature, s: at least, most likely, at most (`None`: it may never be).
pub type Wait = (f64, f64, Option<f64>);

const NO_WAIT: Wait = (0.0, 0.0, Some(0.0));

/// A drive that begins at rest and follows the model of one haul: dT/dt = (T∞ − T)/τ.
#[derive(Debug, Clone)]
pub struct Warmth<'a> {
    model: &'a HeatDigest,
    degrees: f64,
}

impl<'a> Warmth<'a> {
    /// At rest in the air of that haul.
    #[must_use]
    pub const fn at_rest(model: &'a HeatDigest) -> Self {
        Self { model, degrees: model.idle_c.value }
    }

    /// What it comes to in the long run at a rate, °C: no more than the drive lets itself become.
    fn in_the_long_run(&self, rate: Rate) -> f64 {
        let free = self.model.idle_c.value + self.model.rise_k_per_gb_s.value * rate.get() / 1e9;
        self.model.limit_c.map_or(free, |limit| free.min(limit.max(self.model.idle_c.value)))
    }

    /// Goes on at a rate for so many seconds.
    pub fn pass(&mut self, rate: Rate, seconds: f64) {
        let goal = self.in_the_long_run(rate);
        self.degrees = goal + (self.degrees - goal) * (-seconds.max(0.0) / self.model.tau_s.value).exp();
    }

    /// Seconds until it is as cool as this at rest; `None` when it never is.
    #[must_use]
    pub fn until_cool(&self, goal: Celsius) -> Option<Wait> {
        let (idle, tau, goal) = (self.model.idle_c, self.model.tau_s, goal.degrees());
        if self.degrees <= goal {
            return Some(NO_WAIT);
        }
        self.wait(goal, [idle.low, idle.value, idle.high], [tau.low, tau.value, tau.high])
    }

    /// Seconds until it is as warm as this at a rate; `None` when it never is.
    #[must_use]
    pub fn until_warm(&self, goal: Celsius, rate: Rate) -> Option<Wait> {
        if self.degrees >= goal.degrees() {
            return Some(NO_WAIT);
        }
        let tau = self.model.tau_s;
        let rise = self.model.rise_k_per_gb_s;
        let off = |k_per_gb_s: f64| (k_per_gb_s - rise.value) * rate.get() / 1e9;
        let to = self.in_the_long_run(rate);
        let long_run = [to + off(rise.high), to, to + off(rise.low)];
        self.wait(goal.degrees(), long_run, [tau.low, tau.value, tau.high])
    }

    /// On the way to one of three temperatures, the one that is soonest at the goal first, each with its time constant.
    fn wait(&self, goal: f64, long_run: [f64; 3], tau: [f64; 3]) -> Option<Wait> {
        let from = self.degrees;
        let one = |to: f64, tau: f64| {
            let passes = if goal > from { to > goal } else { to < goal };
            passes.then(|| tau * ((from - to) / (goal - to)).ln())
        };
        let likely = one(long_run[1], tau[1])?;
        Some((one(long_run[0], tau[0]).unwrap_or(likely), likely, one(long_run[2], tau[2])))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::Interval;

    fn model(limit_c: Option<f64>) -> HeatDigest {
        HeatDigest {
            tau_s: Interval { value: 100.0, low: 90.0, high: 120.0 },
            rise_k_per_gb_s: Interval { value: 20.0, low: 18.0, high: 22.0 },
            idle_c: Interval { value: 30.0, low: 28.0, high: 32.0 },
            residual_k: 0.5,
            ambient_c: None,
            limit_c,
            seen_mb_s: 2000.0,
            covariance: [[0.0; 2]; 2],
            t95: 2.0,
            at_mb_s: 2000.0,
        }
    }

    fn two() -> Rate {
        Rate::new(2e9)
    }

    #[test]
    fn it_warms_and_cools_with_its_time_constant() {
        let model = model(None);
        let mut drive = Warmth::at_rest(&model);
        // On the way from 30 to 70 °C: half of it after ln 2 time constants.
        let (low, likely, high) = drive.until_warm(Celsius::new(50.0), two()).unwrap();
        assert!((likely - 100.0 * 2f64.ln()).abs() < 1e-9, "{likely}");
        // To 74 °C with 90 s, and to 66 °C with 120 s.
        assert!((low - 90.0 * (44.0f64 / 24.0).ln()).abs() < 1e-9, "{low}");
        assert!((high.unwrap() - 120.0 * (36.0f64 / 16.0).ln()).abs() < 1e-9, "{high:?}");
        drive.pass(two(), likely);
        assert!((drive.degrees - 50.0).abs() < 1e-9);
        let (_, likely, high) = drive.until_cool(Celsius::new(35.0)).unwrap();
        assert!((likely - 100.0 * 4f64.ln()).abs() < 1e-9, "{likely}");
        assert!(high.unwrap() > likely);
        drive.pass(Rate::ZERO, likely);
        assert!((drive.degrees - 35.0).abs() < 1e-9);
    }

    #[test]
    fn what_is_so_already_takes_no_time_and_what_never_will_be_has_none() {
        let model = model(Some(60.0));
        let mut drive = Warmth::at_rest(&model);
        assert_eq!(drive.until_cool(Celsius::new(40.0)), Some(NO_WAIT));
        assert_eq!(drive.until_warm(Celsius::new(25.0), two()), Some(NO_WAIT));
        assert_eq!(drive.until_warm(Celsius::new(65.0), two()), None);
        drive.pass(two(), 10_000.0);
        // It throttles at its limit.
        assert!((drive.degrees - 60.0).abs() < 1e-6);
        assert_eq!(drive.until_cool(Celsius::new(29.0)), None);
        // At half the rate it cools, and never gets warmer.
        assert_eq!(drive.until_warm(Celsius::new(61.0), Rate::new(1e9)), None);
        // It may stand at 32 °C at rest, and then never comes to 31 °C.
        let (_, _, high) = drive.until_cool(Celsius::new(31.0)).unwrap();
        assert_eq!(high, None);
    }
}
