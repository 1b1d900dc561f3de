//! How warm a drive gets: the first-order model dT/dt = (T_amb + R·P − T)/τ with P ≈ p0 + k·rate.
//!
//! Its solution is linear in everything but τ: the temperature is the idle level, plus a rise in proportion to the rate as
//! a low pass of time constant τ sees it, plus what is left of the start. For each τ these three follow by least squares,
//! and τ by search. The whole curve is fitted at once and not each reading from the one before (T[n+1] = a·T[n] +
//! b·rate[n] + c), because sensors of whole degrees make the latter too short: their rounding counts as quick cooling.

use serde::Serialize;

use crate::quantity::units::{Celsius, Rate, span_words};
use crate::readings::Readings;

use super::Refusal;
use super::fit::{Fit, golden, least_between, least_squares};
use super::grid::Grid;
use crate::quantity::Interval;

/// Points of the grid at most.
const POINTS: usize = 1500;
/// Points of the grid that the bootstrap fits, and how often.
const BOOTSTRAP_POINTS: usize = 300;
const REPLICATES: u32 = 40;
/// A record in which the temperature moved less than this tells nothing, K.
const LEAST_RANGE: f64 = 6.0;
/// Residuals beyond this are a poor fit: K, and share of the range.
const POOR: f64 = 1.6;
const POOR_SHARE: f64 = 0.12;

/// A fitted model.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct HeatModel {
    /// Time constant, seconds.
    pub tau_s: Interval,
    /// Temperature at rest in the long run, °C.
    pub idle_c: Interval,
    /// Rise in the long run for each GB/s, K.
    pub rise_k_per_gb_s: Interval,
    /// Root mean square of what is not explained, K.
    pub residual_k: f64,
    /// Air temperature stated for the haul, °C.
    pub ambient_c: Option<f64>,
    /// Limit of the drive, °C.
    pub limit_c: Option<f64>,
    /// Highest mean rate of a minute that the record has: further up is extrapolated.
    pub seen_mb_s: f64,
    #[serde(skip)]
    pub(crate) covariance: [[f64; 2]; 2],
    #[serde(skip)]
    pub(crate) t95: f64,
}

impl Grid {
    /// The best time constant, in ln, between two bounds, and the fit there.
    fn best(&self, low: f64, high: f64) -> Option<(f64, Fit)> {
        let cost = |ln_tau: f64| self.fit(ln_tau.exp()).map_or(f64::INFINITY, |f| f.squares);
        let ln_tau = least_between(low, high, cost);
        Some((ln_tau, self.fit(ln_tau.exp())?))
    }

    /// The columns for a time constant: idle level, rate as the low pass sees it, what is left of the start.
    fn columns(&self, tau: f64) -> [Vec<f64>; 3] {
        let keep = (-self.step_s / tau).exp();
        let (mut seen, mut left) = (0.0, 1.0);
        let mut rate = Vec::with_capacity(self.gb_s.len());
        let mut start = Vec::with_capacity(self.gb_s.len());
        for r in &self.gb_s {
            seen = seen * keep + r * (1.0 - keep);
            left *= keep;
            rate.push(seen);
            start.push(left);
        }
        [vec![1.0; self.gb_s.len()], rate, start]
    }

    fn fit(&self, tau: f64) -> Option<Fit> {
        least_squares(&self.columns(tau), &self.degrees)
    }
}

/// Standard deviations of the time constant (in ln), the idle level and the rise, and the covariance of the last two, by a parametric
/// bootstrap (Efron and Tibshirani 1993, chapter 6): the fitted curve with noise like that of the residuals, *rounded as the sensor
/// rounds*, fitted again. What rounding shifts one way is added to what it spreads.
struct Bootstrap {
    tau: f64,
    idle: f64,
    rise: f64,
    cross: f64,
}

impl Bootstrap {
    fn of(grid: &Grid, ln_tau: f64, fit: &Fit) -> Option<Self> {
        let thin = grid.thinned(BOOTSTRAP_POINTS);
        let columns = thin.columns(ln_tau.exp());
        let curve: Vec<f64> = (0..thin.degrees.len())
            .map(|i| columns.iter().zip(&fit.values).map(|(c, v)| c[i] * v).sum::<f64>())
            .collect();
        let off: Vec<f64> = thin.degrees.iter().zip(&curve).map(|(t, c)| t - c).collect();
        let n = off.len() as f64;
        let variance = off.iter().map(|o| o * o).sum::<f64>() / n;
        let near = off.windows(2).map(|w| w[0] * w[1]).sum::<f64>() / n;
        let step = grid.resolution;
        // What rounding does not explain; it forgets itself as the residuals do.
        let noise = (variance - step * step / 12.0).max(0.0).sqrt();
        let rho = if noise > 0.0 { (near / variance.max(1e-12)).clamp(0.0, 0.97) } else { 0.0 };
        let mut random = Random(0x2545_F491_4F6C_DD1D);
        let mut found: Vec<[f64; 3]> = Vec::new();
        for _ in 0..REPLICATES {
            let mut e = 0.0;
            // The sensor's edges lie anywhere.
            let edge = random.within(-0.5, 0.5) * step;
            let degrees = curve
                .iter()
                .map(|c| {
                    e = rho * e + (1.0 - rho * rho).sqrt() * noise * random.normal();
                    ((c + e + edge) / step).round() * step - edge
                })
                .collect();
            let again = Grid { degrees, gb_s: thin.gb_s.clone(), ..thin };
            // One valley, near the place that is known: no look around first.
            let cost = |t: f64| again.fit(t.exp()).map_or(f64::INFINITY, |f| f.squares);
            let t = golden(ln_tau - 0.8, ln_tau + 0.8, 12, cost);
            found.extend(
                again
                    .fit(t.exp())
                    .map(|f| [t - ln_tau, f.values[0] - fit.values[0], f.values[1] - fit.values[1]]),
            );
        }
        let m = found.len() as f64;
        (m >= 0.8 * f64::from(REPLICATES)).then(|| {
            // About the fit itself, so that a shift counts too.
            let product = |a: usize, b: usize| found.iter().map(|f| f[a] * f[b]).sum::<f64>() / m;
            Self { tau: product(0, 0).sqrt(), idle: product(1, 1), rise: product(2, 2), cross: product(1, 2) }
        })
    }
}

/// A small generator for the bootstrap (xorshift64*, Vigna 2016): the same record always has the same intervals.
struct Random(u64);

impl Random {
    fn unit(&mut self) -> f64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 11) as f64 / (1u64 << 53) as f64
    }

    fn within(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * self.unit()
    }

    fn normal(&mut self) -> f64 {
        (-2.0 * self.unit().max(1e-300).ln()).sqrt() * (std::f64::consts::TAU * self.unit()).cos()
    }
}

impl HeatModel {
    /// Fits the model to a record.
    ///
    /// # Errors
    /// When the record cannot tell, with why, and what haul could.
    pub fn of(readings: &Readings) -> Result<Self, Refusal> {
        let soak = "haul hot-walk: two minutes at rest, twenty of writing, fifteen of rest";
        let refuse =
            |why: &str| Err(Refusal::new(format!("Cannot tell how warm it gets, because {why}."), soak));
        let Some(grid) = Grid::of(readings.series(), POINTS, f64::INFINITY) else {
            return refuse("the record has no temperature, or fewer than thirty readings of it");
        };
        let (low, high) = grid.degrees.iter().fold((f64::MAX, f64::MIN), |(l, h), t| (l.min(*t), h.max(*t)));
        let range = high - low;
        if high >= 255.0 || low <= -50.0 {
            return refuse("the sensor gave readings that no drive has");
        }
        if range < LEAST_RANGE {
            return refuse(&format!("the temperature moved by {range:.1} K only"));
        }
        let total = grid.step_s * grid.degrees.len() as f64;
        let cost = |ln_tau: f64| grid.fit(ln_tau.exp()).map_or(f64::INFINITY, |f| f.squares);
        let (shortest, longest) = ((1.2 * grid.step_s).max(3.0).ln(), (2.0 * total).ln());
        let Some((ln_tau, fit)) = grid.best(shortest, longest) else {
            return refuse("load and rest cannot be told apart in it");
        };
        let tau = ln_tau.exp();
        if fit.residual > POOR || fit.residual > POOR_SHARE * range {
            return refuse(&format!(
                "a drive that warms in proportion to its rate does not fit it: {:.1} K are left over",
                fit.residual
            ));
        }
        // How far τ may go before the sum of squares grows by what chance allows, the others following.
        let allowed = fit.squares * (1.0 + (fit.t95().powi(2) / fit.freedom).min(4.0));
        let reach = |sign: f64| {
            let mut off = 0.02;
            while off < 3.0 && cost(ln_tau + sign * off) < allowed {
                off *= 1.3;
            }
            // To where it is, and not to the next of a few places.
            let (mut inside, mut outside) = (off / 1.3, off);
            for _ in 0..12 {
                let middle = 0.5 * (inside + outside);
                if cost(ln_tau + sign * middle) < allowed { inside = middle } else { outside = middle }
            }
            outside
        };
        let boot = Bootstrap::of(&grid, ln_tau, &fit);
        let t95 = fit.t95();
        let rounded = boot.as_ref().map_or(0.0, |b| t95 * b.tau);
        let (down, up) = (reach(-1.0).max(rounded), reach(1.0).max(rounded));
        if up > 1.0 || tau > total || down > 1.5 {
            return refuse(&format!(
                "it is too short, or too even, for its time constant: anything from {} to beyond {} fits",
                span_words((ln_tau - down).exp()),
                span_words((ln_tau + up.min(1.0)).exp())
            ));
        }
        // The others at the bounds of τ, beside their own error.
        let error = |weights: &[f64; 3]| {
            let at = |f: &Fit| f.values.iter().zip(weights).map(|(v, w)| v * w).sum::<f64>();
            let middle = at(&fit);
            let aside = [ln_tau - down, ln_tau + up]
                .iter()
                .filter_map(|t| grid.fit(t.exp()))
                .map(|f| (at(&f) - middle).abs())
                .fold(0.0, f64::max)
                / fit.t95();
            fit.variance(weights) + aside * aside
        };
        let (idle, rise) = (fit.values[0], fit.values[1]);
        let (vi, vr) = (error(&[1.0, 0.0, 0.0]), error(&[0.0, 1.0, 0.0]));
        let cross = (error(&[1.0, 1.0, 0.0]) - vi - vr) / 2.0;
        let (vi, vr, cross) = match boot {
            Some(b) if b.idle > vi || b.rise > vr => (b.idle.max(vi), b.rise.max(vr), b.cross),
            _ => (vi, vr, cross),
        };
        if rise <= 0.0 || t95 * vr.sqrt() > 0.5 * rise {
            return refuse("it does not show how much of the warmth comes from the load");
        }
        let window = (60.0 / grid.step_s).ceil().max(1.0) as usize;
        let seen =
            grid.gb_s.windows(window.min(grid.gb_s.len())).map(|w| w.iter().sum::<f64>() / w.len() as f64);
        Ok(Self {
            tau_s: Interval { value: tau, low: (ln_tau - down).exp(), high: (ln_tau + up).exp() },
            idle_c: Interval::around(idle, t95 * vi.sqrt()),
            rise_k_per_gb_s: Interval::around(rise, t95 * vr.sqrt()),
            residual_k: fit.residual,
            ambient_c: readings.head().and_then(|h| h.conditions.ambient).map(Celsius::degrees),
            limit_c: readings.throttle_limit().map(Celsius::degrees),
            seen_mb_s: seen.fold(0.0, f64::max) * 1e3,
            covariance: [[vi, cross], [cross, vr]],
            t95,
        })
    }

    /// The fitted curve beside what was measured: time in s, measured and fitted temperature in °C.
    #[must_use]
    pub fn curve(&self, readings: &Readings) -> Vec<(f64, f64, f64)> {
        let Some(grid) = Grid::of(readings.series(), POINTS, f64::INFINITY) else { return Vec::new() };
        let Some(fit) = grid.fit(self.tau_s.value) else { return Vec::new() };
        let columns = grid.columns(self.tau_s.value);
        let fitted = |i: usize| columns.iter().zip(&fit.values).map(|(c, v)| c[i] * v).sum::<f64>();
        grid.degrees.iter().enumerate().map(|(i, t)| (grid.step_s * (i + 1) as f64, *t, fitted(i))).collect()
    }

    /// By how much everything moves in air of this temperature: one to one. `None` when the haul's own air is not known.
    fn shift(&self, ambient: Option<f64>) -> Option<f64> {
        ambient.map_or(Some(0.0), |a| self.ambient_c.map(|own| a - own))
    }

    /// Temperature in the long run at this rate, °C; at another ambient, if one is given and the haul's own is known.
    #[must_use]
    pub fn steady(&self, rate: Rate, ambient: Option<f64>) -> Option<Interval> {
        let gb_s = rate.get() / 1e9;
        let [[vi, c], [_, vr]] = self.covariance;
        let variance = vi + 2.0 * gb_s * c + gb_s * gb_s * vr;
        let value = self.idle_c.value + gb_s * self.rise_k_per_gb_s.value + self.shift(ambient)?;
        Some(Interval::around(value, self.t95 * variance.max(0.0).sqrt()))
    }

    /// Seconds from rest to a temperature at this rate; `None` when it never gets there, or is there at rest.
    #[must_use]
    pub fn time_to(&self, degrees: f64, rate: Rate, ambient: Option<f64>) -> Option<Interval> {
        let steady = self.steady(rate, ambient)?;
        let idle = self.idle_c.value + self.shift(ambient)?;
        let time = |tau: f64, steady: f64| tau * ((steady - idle) / (steady - degrees)).ln();
        if steady.value <= degrees || idle >= degrees {
            return None;
        }
        // The hotter and the quicker, the sooner; a lower bound of the steady temperature below the goal means never.
        let high = if steady.low > degrees { time(self.tau_s.high, steady.low) } else { f64::INFINITY };
        Some(Interval {
            value: time(self.tau_s.value, steady.value),
            low: time(self.tau_s.low, steady.high),
            high,
        })
    }

    /// The highest rate at which the limit is never reached. `None` without a limit; not below zero.
    #[must_use]
    pub fn highest_rate(&self, ambient: Option<f64>) -> Option<Interval> {
        let limit = self.limit_c? - self.shift(ambient)?;
        let (idle, rise) = (self.idle_c.value, self.rise_k_per_gb_s.value);
        let rate = (limit - idle) / rise;
        // First-order propagation: d/d idle = −1/rise, d/d rise = −rate/rise.
        let [[vi, c], [_, vr]] = self.covariance;
        let variance = (vi + 2.0 * rate * c + rate * rate * vr) / (rise * rise);
        let half = self.t95 * variance.max(0.0).sqrt();
        let bound = |gb_s: f64| (gb_s * 1e9).max(0.0);
        Some(Interval { value: bound(rate), low: bound(rate - half), high: bound(rate + half) })
    }

    /// The model in sentences, for the air of the haul and for another.
    #[must_use]
    pub fn sentences(&self, rate: Rate, other_ambient: Option<f64>) -> Vec<String> {
        let mut out = vec![format!(
            "Time constant {} ({} to {}); {:.1} °C at rest, and {:.1} K more (± {:.1}) for each GB/s; residual {:.1} K.",
            span_words(self.tau_s.value.round()),
            span_words(self.tau_s.low),
            span_words(self.tau_s.high),
            self.idle_c.value,
            self.rise_k_per_gb_s.value,
            self.rise_k_per_gb_s.half(),
            self.residual_k
        )];
        let mut say = |ambient: Option<f64>| {
            let air =
                ambient.or(self.ambient_c).map_or_else(String::new, |a| format!("In air of {a:.0} °C: "));
            let Some(steady) = self.steady(rate, ambient) else { return };
            let mut words =
                format!("{air}{:.0} °C (± {:.1}) in the long run at {rate}", steady.value, steady.half());
            if let Some(limit) = self.limit_c {
                match self.time_to(limit, rate, ambient) {
                    Some(t) if t.high.is_finite() => words.push_str(&format!(
                        ", at its limit of {limit:.0} °C after {} ({} to {}) from rest",
                        span_words(t.value),
                        span_words(t.low),
                        span_words(t.high)
                    )),
                    Some(t) => words.push_str(&format!(
                        ", at its limit of {limit:.0} °C after {} or later, perhaps never",
                        span_words(t.low)
                    )),
                    None => words.push_str(&format!(", never at its limit of {limit:.0} °C")),
                }
            }
            words.push('.');
            out.push(words);
            if let Some(most) = self.highest_rate(ambient) {
                let far = most.value / 1e6 > 1.3 * self.seen_mb_s;
                out.push(format!(
                    "Up to {} ({} to {}) it never throttles{}.",
                    Rate::new(most.value),
                    Rate::new(most.low),
                    Rate::new(most.high),
                    if far { "; the haul was never that fast" } else { "" }
                ));
            }
        };
        say(None);
        if let Some(a) = other_ambient.filter(|a| self.ambient_c.is_some_and(|own| (own - a).abs() >= 0.5)) {
            say(Some(a));
        }
        if other_ambient.is_some() && self.ambient_c.is_none() {
            out.push("What it would be in other air cannot be told: the haul does not say how warm its own was (--ambient).".into());
        }
        out
    }
}
