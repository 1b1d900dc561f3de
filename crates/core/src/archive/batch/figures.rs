//! One figure over the drives of a batch: what may be promised of it, and which drives are odd in it.

use super::layers::{self, OfDrive};
use super::{
    BatchDrive, BatchRow, Effect, LEVEL, Level, MOST_ODD, Method, NoPromise, OF_A_MOMENT, OddIn, OfLevel,
    Promise, Shape, Split, Subject, shape, tolerance, turn,
};
use crate::archive::digest::Figure;
use crate::quantity::stats::Interval;
use crate::quantity::{Better, FigureKey};

/// What may be promised by these drives.
pub(super) fn promise(
    drives: &[OfDrive],
    better: Better,
    shape: Shape,
    step: f64,
    level: Level,
) -> Result<Promise, NoPromise> {
    let Some(layers) = layers::layers(drives) else { return Err(NoPromise::OneDrive) };
    let sign = turn(better);
    let mut turned: Vec<f64> =
        drives.iter().map(|d| sign * d.values.iter().sum::<f64>() / d.values.len() as f64).collect();
    turned.sort_by(f64::total_cmp);
    // What is read in steps may be off by half of one.
    let promise = |bound: f64, method, confidence| Promise {
        bound: sign * bound - sign * step / 2.0,
        method,
        confidence,
    };
    if !shape.is_taken_as_normal() {
        return match tolerance::order_statistic(drives.len(), level) {
            Some((rank, confidence)) => Ok(promise(turned[rank - 1], Method::Order { rank }, confidence)),
            None => Err(NoPromise::TooFewWithoutShape {
                drives: drives.len(),
                needed: tolerance::values_without_distribution(level),
                content: tolerance::content_of_worst(drives.len(), level.confidence),
                worst: sign * turned[0],
            }),
        };
    }
    if layers.within_freedom > 0
        && let Some(limits) = tolerance::by_repeats(&layers, level)
    {
        let bound = if sign > 0.0 { limits.low } else { -limits.high };
        return Ok(promise(bound, Method::NormalRepeats, level.confidence));
    }
    let factor = tolerance::one_sided_factor(drives.len(), level);
    let bound = sign * layers.mean - factor * layers.variance_of_means.sqrt();
    Ok(promise(bound, Method::Normal { factor }, level.confidence))
}

/// A figure's hauls, by drive.
pub(super) struct Gathered<'a> {
    pub figure: &'a Figure,
    pub step: f64,
    pub drives: Vec<OfDrive>,
    pub hauls: Vec<(usize, f64, usize)>,
}

pub(super) fn gather<'a>(figure: &'a Figure, hauls: &[&Subject], of: &[usize]) -> Gathered<'a> {
    let mut drives: Vec<OfDrive> = Vec::new();
    let mut all = Vec::new();
    for (i, (s, drive)) in hauls.iter().zip(of).enumerate() {
        let Some(found) = s.digest.figures.iter().find(|f| f.name == figure.name) else { continue };
        if !found.value.is_finite() {
            continue;
        }
        all.push((*drive, found.value, i));
        match drives.iter_mut().find(|d| d.drive == *drive) {
            Some(d) => {
                d.values.push(found.value);
                d.own = None;
            }
            None => drives.push(OfDrive { drive: *drive, values: vec![found.value], own: found.interval }),
        }
    }
    drives.sort_by_key(|d| d.drive);
    let largest = all.iter().map(|h| h.1.abs()).fold(0.0, f64::max);
    let step = match &figure.name {
        FigureKey::Of(id) => id.step(largest),
        FigureKey::Own(_) => figure.quantity.step(),
    };
    Gathered { figure, step, drives, hauls: all }
}

/// Levels of a thing that makes a difference: its name, and for each level its name and the places of its drives in the figure's list.
pub(super) type Levels = (String, Vec<(String, Vec<usize>)>);

impl Gathered<'_> {
    fn deviations(&self) -> Vec<f64> {
        layers::layers(&self.drives).map_or_else(Vec::new, |l| layers::deviations(&self.drives, &l))
    }

    /// Drives by the levels of what makes the largest difference; `None` where nothing does, or a level has too few.
    pub fn levels(&self, row: usize, effects: &[Effect], drives: &[BatchDrive]) -> Option<Levels> {
        let own = effects.iter().filter(|e| e.row == row && !e.paired);
        let thing = own.min_by(|a, b| a.p.total_cmp(&b.p)).map(|e| e.thing.clone())?;
        let mut levels: Vec<(String, Vec<usize>)> = Vec::new();
        for (place, d) in self.drives.iter().enumerate() {
            let level = &drives[d.drive].facts.iter().find(|f| f.0 == thing)?.1;
            match levels.iter_mut().find(|l| l.0 == *level) {
                Some((_, places)) => places.push(place),
                None => levels.push((level.clone(), vec![place])),
            }
        }
        levels.sort();
        (levels.len() > 1 && levels.iter().all(|l| l.1.len() >= shape::LEAST)).then_some((thing, levels))
    }

    /// The drives with what the levels make of the difference taken off.
    fn without_levels(&self, levels: Option<&Levels>) -> Vec<OfDrive> {
        let mut drives = self.drives.clone();
        for (_, places) in levels.iter().flat_map(|l| &l.1) {
            let mean_of =
                |p: &usize| self.drives[*p].values.iter().sum::<f64>() / self.drives[*p].values.len() as f64;
            let mean = places.iter().map(mean_of).sum::<f64>() / places.len() as f64;
            places.iter().for_each(|p| drives[*p].values.iter_mut().for_each(|v| *v -= mean));
        }
        drives
    }

    /// What may be promised of all: by one distribution, or else by one for each level.
    fn promised(
        &self,
        drives: &[OfDrive],
        split: Option<&Split>,
        level: Level,
    ) -> Result<Promise, NoPromise> {
        let better = self.figure.better;
        let deviations = layers::layers(drives).map_or_else(Vec::new, |l| layers::deviations(drives, &l));
        let shape = shape::shape(&deviations, self.step_in_deviations());
        let all = promise(drives, better, shape, self.step, level);
        let Some(split) = split.filter(|_| !shape.is_taken_as_normal()) else { return all };
        let each: Option<Vec<f64>> = split.levels.iter().map(|l| Some(l.promise.ok()?.bound)).collect();
        let worst =
            each.and_then(|e| e.into_iter().min_by(|a, b| (turn(better) * a).total_cmp(&(turn(better) * b))));
        match worst {
            Some(bound) => Ok(Promise { bound, method: Method::Levels, confidence: level.confidence }),
            None => all,
        }
    }

    fn split(&self, levels: &Levels, odd: &[usize], level: Level) -> Split {
        // All of them hold together as surely as one was asked to.
        let confidence = 1.0 - (1.0 - level.confidence) / levels.1.len() as f64;
        let of_level = |(name, places): &(String, Vec<usize>)| {
            let drives: Vec<OfDrive> =
                places.iter().map(|p| self.drives[*p].clone()).filter(|d| !odd.contains(&d.drive)).collect();
            let made = layers::layers(&drives);
            let deviations = made.map_or_else(Vec::new, |l| layers::deviations(&drives, &l));
            let shape = shape::shape(&deviations, self.step_in_deviations());
            OfLevel {
                level: name.clone(),
                drives: places.len(),
                centre: made.map_or(f64::NAN, |l| l.mean),
                promise: promise(
                    &drives,
                    self.figure.better,
                    shape,
                    self.step,
                    Level { confidence, ..level },
                ),
            }
        };
        Split { thing: levels.0.clone(), levels: levels.1.iter().map(of_level).collect() }
    }

    /// The row, the odd drives given.
    pub fn row(&self, levels: Option<&Levels>, odd: &[usize], level: Level) -> BatchRow {
        let (name, better) = (self.figure.name.clone(), self.figure.better);
        let layers = layers::layers(&self.drives);
        let points = layers::points(&self.drives, layers.as_ref());
        let shape = shape::shape(&self.deviations(), self.step_in_deviations());
        let centre = layers.map_or_else(
            || Interval::around(points.first().map_or(f64::NAN, |p| p.value), 0.0),
            |l| Interval::around(l.mean, l.half_of_mean().max(self.step / 2.0)),
        );
        let between = layers.map(|l| {
            let by = (l.within_freedom > 0).then(|| tolerance::by_repeats(&l, level)).flatten();
            let value = l.between();
            let (low, high) = by.map_or((f64::NAN, f64::NAN), |b| b.between);
            if low.is_finite() { Interval { value, low, high } } else { chi_interval(value, l.drives) }
        });
        let split = |odd: &[usize]| levels.map(|l| self.split(l, odd, level));
        let of_all = split(&[]);
        let others: Vec<OfDrive> = self.drives.iter().filter(|d| !odd.contains(&d.drive)).cloned().collect();
        let without_odd =
            (others.len() < self.drives.len()).then(|| self.promised(&others, split(odd).as_ref(), level));
        BatchRow {
            name,
            unit: self.figure.quantity,
            better,
            points,
            centre,
            between,
            within: layers.filter(|l| l.within_freedom > 0).map(|l| l.within.sqrt()),
            shape,
            promise: self.promised(&self.drives, of_all.as_ref(), level),
            without_odd,
            split: of_all,
        }
    }

    fn step_in_deviations(&self) -> f64 {
        let deviation = layers::layers(&self.drives).map_or(0.0, |l| l.variance_of_means.sqrt());
        if deviation > 0.0 { self.step / deviation } else { f64::INFINITY }
    }
}

/// 95 % interval of a deviation by chi-squared.
fn chi_interval(deviation: f64, n: usize) -> Interval {
    use statrs::distribution::{ChiSquared, ContinuousCDF};
    let freedom = n as f64 - 1.0;
    let Ok(chi) = ChiSquared::new(freedom) else { return Interval::around(deviation, 0.0) };
    let at = |p: f64| deviation * (freedom / chi.inverse_cdf(p)).sqrt();
    Interval { value: deviation, low: at(0.975), high: at(0.025) }
}

/// Odd drives of all figures: (drive, figure, deviations from the others). What firmware and the like make is taken off first.
pub(super) fn odd_drives(all: &[Gathered<'_>], levels: &[Option<Levels>]) -> Vec<(usize, OddIn)> {
    let of_a_moment = |g: &Gathered<'_>| OF_A_MOMENT.iter().any(|id| g.figure.name == FigureKey::Of(*id));
    let is_tested =
        |g: &Gathered<'_>| g.drives.len() >= shape::LEAST && g.step_in_deviations() < 2.0 && !of_a_moment(g);
    let tested: Vec<bool> = all.iter().map(is_tested).collect();
    let asked = tested.iter().filter(|t| **t).count().max(1);
    let mut found = Vec::new();
    for (row, g) in all.iter().enumerate().filter(|(row, _)| tested[*row]) {
        let drives = g.without_levels(levels[row].as_ref());
        let Some(of_all) = layers::layers(&drives) else { continue };
        let deviations = layers::deviations(&drives, &of_all);
        let most = MOST_ODD.min(drives.len() / 5).max(1);
        let odd = shape::odd_ones(&deviations, most, LEVEL / asked as f64);
        let others: Vec<OfDrive> =
            (0..drives.len()).filter(|i| !odd.contains(i)).map(|i| drives[i].clone()).collect();
        let Some(layers) = layers::layers(&others) else { continue };
        // Tails that are long by nature make many "odd" ones: what the others look like decides whether they may be called so.
        let rest = layers::deviations(&others, &layers);
        let steps = g.step_in_deviations() > 0.5;
        if !steps && shape::normality_p(&rest).is_some_and(|p| p < 0.01) {
            continue;
        }
        let apart = layers::deviations(&odd.iter().map(|i| drives[*i].clone()).collect::<Vec<_>>(), &layers);
        for (i, deviations) in odd.into_iter().zip(apart) {
            let d = &g.drives[i];
            let value = d.values.iter().sum::<f64>() / d.values.len() as f64;
            found.push((d.drive, OddIn { row, value, deviations }));
        }
    }
    found
}
