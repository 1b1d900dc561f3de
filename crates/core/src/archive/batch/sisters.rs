//! What other drives of a model showed by the same route: against it a single haul is held while nothing but its own record is at hand.

use super::figures::gather;
use super::hauls::{counted, serial};
use super::{OF_A_MOMENT, Subject, layers, shape};
use crate::archive::digest::Figure;
use crate::archive::forecast::Air;
use crate::drive::DriveIdentity;
use crate::quantity::FigureKey;
use crate::record::HaulState;
use crate::record::held_to::{Expected, Sisters};
use crate::route::Route;

/// Fewer drives are no crowd: what is normal among them cannot be seen.
pub const LEAST_DRIVES: usize = shape::LEAST;

fn drives_among(hauls: &[&Subject]) -> usize {
    hauls.iter().map(|s| serial(s)).collect::<std::collections::BTreeSet<_>>().len()
}

/// A figure over the drives; `None` where it does not tell what one further drive should show.
fn expected(figure: &Figure, hauls: &[&Subject], of: &[usize]) -> Option<Expected> {
    let of_a_moment = OF_A_MOMENT.iter().any(|id| figure.name == FigureKey::Of(*id));
    if of_a_moment || !matches!(figure.name, FigureKey::Of(_)) {
        return None;
    }
    let gathered = gather(figure, hauls, of);
    // Odd ones among them stay: where drives now and then lie far off, taking those away would make the next one look odd.
    let kept = &gathered.drives;
    let layers = layers::layers(kept).filter(|l| l.drives >= LEAST_DRIVES)?;
    let deviation = layers.variance_of_means.sqrt();
    if deviation <= 1e-9 * layers.mean.abs() || gathered.step > 2.0 * deviation {
        return None;
    }
    // Tails that are long by nature make many "odd" ones. Steps of the scale are seen by the test as peaks.
    let is_coarse = gathered.step > 0.5 * deviation;
    if !is_coarse && shape::normality_p(&layers::deviations(kept, &layers)).is_some_and(|p| p < 0.01) {
        return None;
    }
    let drives = layers.drives as f64;
    // A haul of a further drive: it lies as far from the centre as drives do, its haul as far from it as repeats do, and the centre
    // itself is known so well.
    let one = if layers.within_freedom > 0 {
        layers.between().powi(2) + layers.within
    } else {
        layers.variance_of_means
    };
    let variance = one.max(layers.variance_of_means) + layers.variance_of_means / drives;
    let means = || kept.iter().map(|d| d.values.iter().sum::<f64>() / d.values.len() as f64);
    Some(Expected {
        figure: figure.name.clone(),
        drives: layers.drives,
        mean: layers.mean,
        deviation: variance.sqrt().hypot(gathered.step / 2.0),
        low: means().fold(f64::INFINITY, f64::min),
        high: means().fold(f64::NEG_INFINITY, f64::max),
    })
}

/// What the other drives of a drive's model showed by this route (as it is laid out) in such air; `None` where they are too few to tell.
#[must_use]
pub fn sisters(own: &DriveIdentity, route: &Route, air: &Air, subjects: &[Subject]) -> Option<Sisters> {
    let is_like = |s: &&Subject| {
        let drive = &s.head.drive;
        s.state == HaulState::Done
            && drive.model == own.model
            && drive.capacity == own.capacity
            && drive.serial != own.serial
            && s.head.route.legs == route.legs
            && Air::of(&s.head.conditions).is_like(air)
    };
    let like: Vec<&Subject> = subjects.iter().filter(is_like).collect();
    let (all, _) = counted(like);
    let same: Vec<&Subject> = all.iter().filter(|s| s.head.drive.firmware == own.firmware).copied().collect();
    // Another firmware may be another drive: only where there are too few with its own they do.
    let same_firmware = drives_among(&same) >= LEAST_DRIVES;
    let hauls = if same_firmware { same } else { all };
    let mut serials: Vec<&str> = hauls.iter().map(|s| serial(s)).collect();
    serials.sort_unstable();
    serials.dedup();
    if serials.len() < LEAST_DRIVES {
        return None;
    }
    let of: Vec<usize> = hauls.iter().map(|s| serials.binary_search(&serial(s)).unwrap_or(0)).collect();
    let longest = hauls.iter().map(|s| &s.digest.figures).max_by_key(|f| f.len())?;
    let figures: Vec<Expected> = longest.iter().filter_map(|f| expected(f, &hauls, &of)).collect();
    (!figures.is_empty()).then_some(Sisters {
        drives: serials.len(),
        hauls: hauls.len(),
        same_firmware,
        figures,
    })
}
