//! Standing limits: what every haul of a model has to meet, whatever its route says. In a TOML file beside the ledger.

use serde::{Deserialize, Serialize};

use super::batch::{Batch, BatchRow};
use super::claims::{at_line, same_model};
use crate::drive::DriveIdentity;
use crate::quantity::{Better, FigureKey};
use crate::route::{Limit, Route};

/// Limits of a model.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Standing {
    /// The model, as the drive says it.
    pub model: String,
    /// Only drives with this firmware.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub firmware: Option<String>,
    /// Only hauls by this route.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// Where they come from.
    #[serde(default)]
    pub source: String,
    /// As in a route.
    pub limits: Vec<Limit>,
}

impl Standing {
    /// Reads a file of standing limits.
    ///
    /// # Errors
    /// With line and column: an unknown field, a wrong limit; or that it holds none.
    pub fn parse(text: &str) -> Result<Self, String> {
        let standing: Self = toml::from_str(text).map_err(|e| at_line(text, &e))?;
        if standing.model.trim().is_empty() {
            return Err("model: a file of standing limits names the model that they are of".into());
        }
        if standing.limits.is_empty() {
            return Err("limits: at least one is needed, such as \"sustained >= 1000 MB/s\"".into());
        }
        if standing.limits.contains(&Limit::ErrorsAllowed) {
            return Err("limits: whether errors are allowed is said by a route, not by a model".into());
        }
        Ok(standing)
    }

    /// Those that hold for a haul of this drive by this route: what its route does not measure is not asked.
    #[must_use]
    pub fn of_haul(&self, drive: &DriveIdentity, route: &Route) -> Vec<Limit> {
        let holds = same_model(&self.model, &drive.model)
            && self.firmware.as_ref().is_none_or(|f| *f == drive.firmware)
            && self.route.as_ref().is_none_or(|r| *r == route.name);
        let measured = |l: &&Limit| l.is_measured_by(route).is_ok();
        if holds { self.limits.iter().filter(measured).cloned().collect() } else { Vec::new() }
    }

    /// What a batch promises, as limits for every further haul by its route: every figure of the table that it bounds, rounded to the
    /// side that asks no more. `None` where it promises nothing.
    #[must_use]
    pub fn of_batch(batch: &Batch, source: String) -> Option<Self> {
        let limits: Vec<Limit> = batch.rows.iter().filter_map(limit_of).collect();
        (!limits.is_empty()).then(|| Self {
            model: batch.model.clone(),
            firmware: None,
            route: Some(batch.route.clone()),
            source,
            limits,
        })
    }
}

/// What a row promises without its odd drives, as a limit.
fn limit_of(row: &BatchRow) -> Option<Limit> {
    let FigureKey::Of(id) = row.name else { return None };
    let promise = row.without_odd.as_ref().unwrap_or(&row.promise).as_ref().ok()?;
    // A bound beyond what can be measured holds by itself.
    if !promise.bound.is_finite() || promise.bound <= 0.0 {
        return None;
    }
    let at_least = row.better == Better::Higher;
    let sign = if at_least { ">=" } else { "<=" };
    format!("{} {sign} {}", id.name(), id.quantity().bound(promise.bound, !at_least)).parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::DriveKind;
    use crate::quantity::units::Bytes;
    use crate::quantity::{FigureId, Quantity};

    const FILE: &str = "model = 'SKERRY S8'\nlimits = ['sustained >= 600 MB/s', 'slow stretches <= 0']\n";

    fn drive(model: &str, firmware: &str) -> DriveIdentity {
        let plain = DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(1000));
        DriveIdentity { model: model.into(), firmware: firmware.into(), ..plain }
    }

    #[test]
    fn limits_hold_for_drives_of_the_model_and_for_what_the_route_measures() {
        let standing = Standing::parse(FILE).unwrap();
        let route = |legs: &str| Route::from_toml(&format!("name='x'\n{legs}")).unwrap();
        let write = route("[[leg]]\nkind='write'\nuntil={bytes='64 GB'}\n");
        let texts = |s: &Standing, d: &DriveIdentity, r: &Route| -> Vec<String> {
            s.of_haul(d, r).iter().map(|l| l.text().to_owned()).collect()
        };
        assert_eq!(texts(&standing, &drive("Skerry S8", "1"), &write), ["sustained >= 600 MB/s"]);
        assert!(texts(&standing, &drive("Skerry S9", "1"), &write).is_empty());
        let rest = route("[[leg]]\nkind='rest'\nuntil={duration='10 s'}\n");
        assert!(texts(&standing, &drive("Skerry S8", "1"), &rest).is_empty());
        let only = Standing { firmware: Some("2".into()), route: Some("x".into()), ..standing };
        assert!(texts(&only, &drive("Skerry S8", "1"), &write).is_empty());
        assert_eq!(texts(&only, &drive("Skerry S8", "2"), &write).len(), 1);
    }

    #[test]
    fn a_file_that_is_none_is_said_with_its_line() {
        for (text, said) in [
            ("model = 'x'\nlimits = ['sustained > fast']\n", "line 2"),
            ("model = 'x'\nlimits = []\n", "at least one"),
            ("model = ' '\nlimits = ['no throttle']\n", "names the model"),
            ("model = 'x'\nlimits = ['errors allowed']\n", "said by a route"),
            ("model = 'x'\nlimit = ['no throttle']\n", "unknown field"),
        ] {
            let error = Standing::parse(text).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
    }

    #[test]
    fn every_bound_is_written_so_that_it_reads_back_and_asks_no_more() {
        for id in FigureId::all() {
            let q = id.quantity();
            for v in [0.001_234_5, 0.5, 1.0, 7.0, 59.96, 61.0, 4321.9, 1_234_567_890.0, 9.876_54e12] {
                for up in [false, true] {
                    let text = q.bound(v, up);
                    let Ok(back) = q.read(&text) else {
                        // No year of seconds and no thousand degrees are read.
                        assert!(v > 1000.0 && matches!(q, Quantity::Celsius | Quantity::Seconds), "{text}");
                        continue;
                    };
                    // Degrees are kept to a thousandth.
                    let beyond = if q == Quantity::Celsius { 0.001 } else { 1e-8 * v };
                    assert!(
                        if up { back >= v - beyond } else { back <= v + beyond },
                        "{} {v}: {text}",
                        id.name()
                    );
                    let whole = matches!(q, Quantity::Count | Quantity::Bytes | Quantity::PerSecond);
                    let step = if whole { (0.01 * v).max(1.0) } else { 0.01 * v };
                    assert!((back - v).abs() <= step + beyond, "{} {v}: {text}", id.name());
                }
            }
        }
    }
}
