//! What a record says: findings with their causes, figures, surveys, models, and how the limits of the route stand.
//!
//! [`Readings::conclude`] depends on nothing but the events so far, so live and replay agree.

mod again;
mod causes;
pub mod doubts;
mod figures;
mod fills;
mod finding;
mod found;
pub mod inquiry;
mod levels;
pub mod limits;
pub mod models;
mod off_forecast;
mod place;
mod range;
pub mod sisters;
mod slope;
mod stints;
pub mod surveys;
#[cfg(test)]
mod tests;
mod together;
pub mod verdict;

pub use figures::{Figures, figure, measured, quantile};
pub use finding::{Assumption, Candidate, Conclusions, Finding};
pub use range::Between;
pub use slope::{Slope, slope_ends};
pub use stints::{LevelReading, Stint};

use std::time::Duration;

use crate::quantity::units::{Bytes, Rate};
use crate::readings::run::Run;
use crate::readings::{Readings, Ruler};
use crate::route::Leg;
use surveys::{Surveys, freight, ground as ground_survey, lookout, verify};

impl Readings {
    /// What the events so far allow to conclude. Costs a few milliseconds on a day's record.
    #[must_use]
    pub fn conclude(&self) -> Conclusions {
        let mut conclusions = self.conclude_apart();
        together::together(&mut conclusions.findings);
        inquiry::carry_over(self, &mut conclusions.findings);
        conclusions
    }

    /// The same, with every fall on its own.
    fn conclude_apart(&self) -> Conclusions {
        let mut cx = causes::Context {
            series: &self.series,
            limit: self.throttle_limit(),
            dead_sensor: self.sensor_is_dead(),
            capacity: self.head().map_or(Bytes::ZERO, |h| h.drive.capacity),
            vitals: self.vitals(),
            earlier: self.head().map_or(&[], |h| h.conditions.earlier.as_slice()),
            link: self.head().and_then(|h| h.drive.link.as_ref()),
            resolution: self.series.temperature_step(),
            late: None,
            flushes: &self.flushes,
            extremes: std::cell::OnceCell::new(),
        };
        let mut found_in = Vec::new();
        let mut longest: Option<figures::Longest> = None;
        let runs: Vec<_> = self.runs.iter().filter(|r| r.len() > 0).collect();
        let levels: Vec<_> = runs.iter().map(|r| levels::levels(r, &self.series)).collect();
        // Where nothing falls there is no temperature of a fall.
        if levels.iter().any(|l| l.windows(2).any(|w| w[1].entry < w[0].exit)) {
            cx.late = (!cx.dead_sensor).then(|| causes::Late::of(&self.series)).flatten();
        }
        for (run, levels) in runs.into_iter().zip(&levels) {
            let found = causes::attribute(run, levels, &cx);
            let step = self.step_at(run.first).map(|s| s.step.task);
            found_in.push(found.into_iter().filter(|f| found::says(step, f.kind)).collect());
            let seconds = run.seconds(&self.series, &(0..run.len()));
            if longest.as_ref().is_none_or(|l| seconds > l.seconds) {
                let mean = Rate::new(self.series.mean_rate(run.samples(&(0..run.len()))));
                let slope = slope::slope(run, levels, &self.series);
                let samples = run.samples(&(0..run.len()));
                longest = Some(figures::Longest { seconds, mean, slope, samples });
            }
        }
        again::alike(&mut found_in);
        let mut findings: Vec<Finding> = found_in.into_iter().flatten().collect();
        findings.extend(self.fill_slowdowns(&findings));
        let (ground, verify) = (self.scan().and_then(ground_survey::survey), verify::survey(self));
        findings.extend(found::of_surveys(self, ground.as_ref(), verify.as_ref()));
        findings.extend(off_forecast::findings(self));
        let freight = freight::survey(self);
        findings.extend(freight.iter().flat_map(|f| freight::findings(self, f)));
        inquiry::apply(self, &mut findings);
        findings.sort_by_key(|f| f.elapsed);
        let lookout = lookout::survey(self, &findings);
        findings.extend(lookout.iter().flat_map(|l| lookout::findings(self, l)));
        findings.sort_by_key(|f| f.elapsed);
        let figures = Figures::of(self, &findings, longest.as_ref());
        let surveys = Surveys::of(self, ground, verify, lookout, freight, &findings);
        let mut conclusions = Conclusions { findings, figures, surveys, cut_legs: self.cut_legs() };
        sisters::apply(self, &mut conclusions);
        conclusions
    }

    /// Like loads compared at different levels of fill.
    fn fill_slowdowns(&self, findings: &[crate::conclude::Finding]) -> Vec<crate::conclude::Finding> {
        let known: Vec<&Run> = self.runs.iter().filter(|r| r.len() > 0 && r.fill_ppm.is_some()).collect();
        // Without two levels of fill there is nothing to compare.
        if known.len() < 2 {
            return Vec::new();
        }
        let levels: Vec<Vec<levels::Level>> = known.iter().map(|r| self.levels_of(r)).collect();
        let loads: Vec<fills::Load<'_>> = known
            .iter()
            .zip(&levels)
            .map(|(r, levels)| {
                let samples = r.samples(&(0..r.len()));
                let from = self.series.written_before(samples.start);
                let (begin, end) = (self.series.end(samples.start), self.series.end(samples.end - 1));
                let ends = findings
                    .iter()
                    .filter(|f| f.may_be_cache_end() && f.elapsed >= begin && f.elapsed <= end);
                fills::Load {
                    kind: r.kind,
                    leg: self.leg_at(begin),
                    cache: ends.map(|f| f.written.saturating_sub(Bytes::new(from))).min(),
                    samples,
                    rested_s: r.rested_s.filter(|_| !r.after_inquiry),
                    fill: r.fill_ppm.map(|f| f64::from(f) / 1e6),
                    levels,
                }
            })
            .collect();
        fills::slowdowns(&self.series, &loads)
    }

    /// The leg that was under way at a moment.
    fn leg_at(&self, at: Duration) -> Option<&Leg> {
        self.leg(self.legs().iter().rev().find(|l| l.from <= at)?.leg)
    }

    /// The place of a finding on a ruler.
    #[must_use]
    pub fn place_of_finding(&self, ruler: Ruler, finding: &crate::conclude::Finding) -> Option<f64> {
        match ruler {
            Ruler::Moved if self.read() == Bytes::ZERO => Some(finding.written.as_f64()),
            Ruler::Position if finding.position.is_some() => finding.position.map(Bytes::as_f64),
            _ => self.place_of(ruler, finding.elapsed),
        }
    }
}
