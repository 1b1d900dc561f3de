//! The numbers by which causes are told apart, each with where it comes from: *habit* is what data sheets and sensors of drives have in
//! common, *derived* follows from the physics that is named, *judged* was set by what it does on the proving ground
//! (`hollow-mile prove --drives 2000`, three seeds).

use std::time::Duration;

/// Sensors give whole degrees and are read once a second: this near below the limit counts as at it, K. Derived: half a kelvin of
/// rounding, half a kelvin in which limits are stated, and 0.6 K that a drive gains in a second at most.
pub(super) const AT_LIMIT: f64 = 1.6;
/// A drive that stays slow this far below its limit is not slow because of heat, K. Habit: hysteresis is 3 to 6 K.
pub(super) const WELL_BELOW: f64 = 8.0;
/// What falls further within this time after heat took speed away is the same fall. Judged.
pub(super) const ONE_FALL: Duration = Duration::from_secs(5);
/// Throttling again within this time belongs to the same finding. A choice of words: what an engineer calls one event.
pub(super) const SAME_EPISODE: Duration = Duration::from_secs(600);
/// Readings so close to an event may tell of it or not. Derived: health is looked at once a second, and a reading takes up to half a second.
pub(super) const MOMENT: Duration = Duration::from_millis(1500);
/// While a drive works its health is read so often, and a little more: ten seconds ([`crate::haul`]) and two to spare.
pub(super) const READ_WITHIN: Duration = Duration::from_secs(12);
/// No drive throttles below this, °C. Habit: the lowest stated limits are 65 to 70 °C.
pub(super) const HOT: f64 = 60.0;
/// Drives that let heat slow them state limits from here on, °C. Habit.
pub(super) const LIMITS_FROM: f64 = 68.0;
/// A drive that takes less power is cooler by more than a degree or two after so long, s. Derived: with a time constant of 400 s (a
/// heavy heatsink), 40 K above the air and a quarter of the speed gone it is 2 K cooler.
pub(super) const STANDS_S: f64 = 90.0;
/// At a limit that is stated, so long is enough: there a cache end is a matter of chance, s. Judged.
pub(super) const STANDS_AT_LIMIT_S: f64 = 30.0;
/// Wider than any usual hysteresis, K. Habit.
pub(super) const COOLED: f64 = 12.0;
/// So long is looked at for a temperature that stands, s. Derived: longer than any time constant of a drive in air.
pub(super) const LOOK_S: u64 = 600;
/// Falls of a quick sawtooth that tell one. Judged.
pub(super) const LEAST_FALLS: usize = 4;
/// Coming back to less than this share of what it was is not coming back. Judged; noise is a few hundredths.
pub(super) const BACK: f64 = 0.9;
/// A drop explained by heat's usual cut may differ from it so much, in ln. Judged.
pub(super) const ALIKE: f64 = 0.2;
/// A sample this far below its level is in a dip. Judged: noise never goes there, housekeeping does.
pub(super) const DIP: f64 = 0.6;
/// So many dips show whether they are regular. Derived: of seven random distances four in five lie within [`REGULAR`] once in 10^4.
pub(super) const LEAST_DIPS: usize = 8;
/// Four in five of their distances lie so close to the median: of random ones one in five does. Derived for exponential distances.
pub(super) const REGULAR: f64 = 0.12;
/// A thread that is busy for this share of the time has none left. Derived: the clock of a thread has a grain of a hundredth.
pub(super) const SATURATED: f64 = 0.97;
/// So near to what the link carries, the link is the limit. Habit: protocol overhead beyond the payload's ceiling is below a tenth.
pub(super) const AT_CEILING: f64 = 0.9;
/// Shorter visits of a place tell nothing, s. Derived: a handful of samples at 10 a second.
pub(super) const LEAST_VISIT_S: f64 = 0.3;
/// Confidence of "unexplained" where two causes look the same: in nearly all of these one of them is it. Judged.
pub(super) const UNDECIDED: f64 = 0.05;
/// Confidence of a single fall while it was hottest, with no limit stated. Judged.
pub(super) const HEAT_ONCE: f64 = 0.85;
/// Confidence of a fall of less than a fifth as a cache end: in about one of three it is none, when nothing else speaks for one. Judged.
pub(super) const SMALL_STEP: f64 = 0.63;
/// Cache ends this close to each other are one, as a share. Habit: a cache that depends on fill moves by more between hauls.
pub(super) const SAME: f64 = 0.03;
/// Temperatures further apart than this are different, K. Derived: twice what another room does to a drive.
pub(super) const APART: f64 = 6.0;
