//! The numbers by which causes are told apart, each with where it comes from: *habit* is what data sheets and sensors of drives have in
//! common, *derived* follows from what is named, *judged* was set by what it does on the proving ground (`hollow-mile prove --drives 4080`),
//! *chosen* is a round number that nobody fitted: it only does well there.

use std::time::Duration;

/// Sensors give whole degrees and are read once a second: this near below the limit counts as at it, K. Chosen, as the sum of half a
/// kelvin of rounding, half a kelvin in which limits are stated, and what a drive gains in a second.
pub(super) const AT_LIMIT: f64 = 1.6;
/// A drive that stays slow this far below its limit is not slow because of heat, K. Habit: wider than usual hysteresis.
pub(super) const WELL_BELOW: f64 = 8.0;
/// What falls further within this time after heat took speed away is the same fall. Chosen.
pub(super) const ONE_FALL: Duration = Duration::from_secs(5);
/// Throttling again within this time belongs to the same finding. A choice of words: what an engineer calls one event.
pub(super) const SAME_EPISODE: Duration = Duration::from_secs(600);
/// Readings so close to an event may tell of it or not. Chosen: health is looked at once a second.
pub(super) const MOMENT: Duration = Duration::from_millis(1500);
/// While a drive works its health is read so often, and a little more: ten seconds ([`crate::haul`]) and two to spare.
pub(super) const READ_WITHIN: Duration = Duration::from_secs(12);
/// No drive throttles below this, °C. Habit.
pub(super) const HOT: f64 = 60.0;
/// With a limit stated, the sensor that is told is as warm as this when another one throttles, °C. Habit.
pub(super) const WARM: f64 = 55.0;
/// Where the drive cools by more than this after a fall that stays, with a limit stated that its sensor was below, it was no heat, K.
/// Chosen: below most hystereses, since two things must go together, a hotter sensor elsewhere and a load that holds it there.
pub(super) const STAYS_WARM: f64 = 8.0;
/// What a drive counts as heat is heat from here on, °C: the sensor that is told may not be the hottest. Habit, as
/// [`HOTTEST_ELSEWHERE`] below [`HOT`].
pub(super) const COUNTED_FROM: f64 = 45.0;
/// Drives that let heat slow them state limits from here on, °C. Habit.
pub(super) const LIMITS_FROM: f64 = 62.0;
/// A drive that takes less power is cooler by more than a degree or two after so long, s. Derived: with a time constant of 400 s (a
/// heavy heatsink), 40 K above the air and a quarter of the speed gone it is 2 K cooler.
pub(super) const STANDS_S: f64 = 90.0;
/// At a limit that is stated, so long is enough: there a cache end is a matter of chance, s. Chosen.
pub(super) const STANDS_AT_LIMIT_S: f64 = 30.0;
/// So long a temperature stands that a controller holds, where no limit is known, s. Chosen.
pub(super) const PLATEAU_S: f64 = 45.0;
/// This far below its limit heat has let go, and not only swung, K. Chosen.
pub(super) const LET_GO: f64 = 3.4;
/// A sensor may be so much cooler than the hottest of the drive, K. Habit: a board beside its controller.
pub(super) const HOTTEST_ELSEWHERE: f64 = 16.0;
/// A sensor that follows late has its peak so long after a fall, s. Chosen, for lags up to a dozen seconds.
pub(super) const PEAK_S: u64 = 14;
/// A drive that is held at its limit may be cooler for so long, s. Chosen.
pub(super) const PINNED_GAP_S: f64 = 5.0;
/// The free rate of a drive that is held at its limit is looked for so long before. Chosen.
pub(super) const FREE_BEFORE: Duration = Duration::from_secs(25);
/// A rate that gives way slowly has lost little when the drive begins to count. Chosen.
pub(super) const BEFORE_IT_SHOWS: Duration = Duration::from_secs(30);
/// Two stages of throttling are no further apart, K. Habit.
pub(super) const STAGES_APART: f64 = 9.0;
/// No drive is at its limit sooner after it begins to work, s. Habit.
pub(super) const WARMS_UP_S: f64 = 8.0;
/// A sensor that says the same for so long, under a load of so much, measures nothing, s and MB/s. Chosen: a watt or two warm a drive
/// by more than a kelvin.
pub(super) const STUCK_S: f64 = 60.0;
pub(super) const WORKS_HARD_MB_S: f64 = 300.0;
/// So often it is heat where the sensor was below the limit that is stated, and near enough for one that is not the hottest. Judged.
pub(super) const HEAT_ELSEWHERE: f64 = 0.3;
/// So often it is heat, and not the end of a cache, in records without a thermometer. Judged.
pub(super) const HEAT_BLIND: f64 = 0.3;
/// The same of a drive that was hot when it fell, with no limit known. Judged.
pub(super) const HEAT_HOT: f64 = 0.6;
/// The same where the temperature stands from then on. Judged.
pub(super) const HEAT_STANDS: f64 = 0.8;
/// Samples from here on may hold more than one cycle of heat, s. Chosen.
pub(super) const LONG_SAMPLE_S: f64 = 1.9;
/// So many samples of cycles, that each holds more than one of, tell them. Chosen.
pub(super) const LEAST_LONG: usize = 8;
/// Rates while it warms up differ by no more than this, in ln. Chosen.
pub(super) const EVEN: f64 = 0.08;
/// A turn at full speed comes once in so many samples at least. Chosen.
pub(super) const RARELY: usize = 16;
/// In samples from so long on, s, the temperature at the end of one may be so far from the highest in it, K. Derived: a hysteresis is a
/// few kelvin wide.
pub(super) const MOVES_ON_S: f64 = 5.0;
pub(super) const MOVES_ON_K: f64 = 4.0;
/// A fall of no more than this, in ln, may be noise that remembers. Chosen.
pub(super) const MODEST: f64 = 0.45;
/// It is taken for noise up to so many deviations of stretches of its length. Chosen, for heavy tails.
pub(super) const BY_CHANCE: f64 = 5.0;
/// A temperature that stands though the drive does less is told from one that would hardly have moved from here on, K. Derived: by the
/// first-order model it cools by the share of the rate that is gone times what it had warmed by; this much is beyond two sensors' steps.
pub(super) const OWED_K: f64 = 3.0;
/// A rise that the mean rates show by less than this share of it is none. Chosen.
pub(super) const MOVES_AS_TOLD: f64 = 0.3;
/// A temperature that goes down by more than this from the first to the last third of a while does not stand, K.
pub(super) const SINKS_K: f64 = 0.9;
/// Share of its warming that a phase at full speed has left for its second half when heat ends it. Derived: a third or more while the
/// steady state is a hysteresis or more above the limit; nothing once it is reached.
pub(super) const STILL_WARMS: f64 = 0.18;
/// A sensor is coarse from such steps on, K. Chosen.
pub(super) const COARSE: f64 = 1.6;
/// The first phase at full speed is so many times as long as the usual one when it begins cold. Derived: from the air to the limit is many
/// times a hysteresis.
pub(super) const FROM_COLD: f64 = 1.6;
/// The same of falls of which the first was cooler, too. Chosen.
pub(super) const LONG_FROM_COLD: f64 = 2.5;
/// Lower is what is lower by so many steps of the sensor, or kelvins. Chosen: less than two steps apart may be one temperature.
pub(super) const LOWER_STEPS: f64 = 0.6;
/// The same of one reading against another. Chosen: one temperature may be read as two steps that lie side by side.
pub(super) const CLEARLY_LOWER_STEPS: f64 = 1.1;
/// What a record that ends soon after a fall takes off its confidence, and what is soon, s.
pub(super) const SHORT_TAIL: f64 = 0.26;
pub(super) const SHORT_TAIL_S: f64 = 10.0;
/// Confidence of heat in samples that hold whole cycles of it.
pub(super) const IN_LONG_SAMPLES: f64 = 0.97;
/// Confidence of heat at whose limit the drive stands, with no fall. Counted: 100 of 112.
pub(super) const HELD_AT_LIMIT: f64 = 0.89;
/// Confidence of heat whose cycles are too short for levels.
pub(super) const QUICK: f64 = 0.92;
/// Confidence of a cache that ended while heat held the drive.
pub(super) const HIDDEN_BY_HEAT: f64 = 0.94;
/// Confidence of a change of speed for which there is neither cache nor heat.
pub(super) const NEITHER: f64 = 0.95;
/// Confidence of dips that come regularly.
pub(super) const REGULAR_DIPS: f64 = 0.97;
/// Confidence of a rise that nothing explains: most are noise. Judged.
pub(super) const RISES: f64 = 0.3;
/// Confidence that heat had slowed what rose after it stood at its limit: the fall itself was not recorded. Judged.
pub(super) const RISES_AS_IT_COOLED: f64 = 0.6;
/// Wider than any usual hysteresis, K. Habit.
pub(super) const COOLED: f64 = 12.0;
/// So long is looked at for a temperature that stands, s. Chosen.
pub(super) const LOOK_S: u64 = 600;
/// The foot of a slope is looked for in means of so long, s. Chosen.
pub(super) const FOOT_S: f64 = 2.0;
/// Between two falls of a quick sawtooth of heat it is cooler by this at least, or by a step of its sensor, K. Chosen: two steps of a fine
/// sensor, since one that follows late shows little of a hysteresis.
pub(super) const LEAST_COOLING_K: f64 = 0.15;
/// The same where there are but two or three falls, K. Chosen: less than any usual hysteresis, more than a sensor's own noise.
pub(super) const PLAIN_COOLING_K: f64 = 1.0;
/// A fall that is over in this share of the usual time is a stall, and no tooth of a sawtooth. Chosen.
pub(super) const STALL: f64 = 0.25;
/// A fall that is placed a little late is past the peak by so much, K. Chosen.
pub(super) const PAST_PEAK_K: f64 = 0.6;
/// A fall of less, in ln, is none by itself.
pub(super) const LEAST_FALL: f64 = crate::conclude::levels::LEAST_STEP;
/// What is above the half of what was lost for this share of the time after a fall did not stay down. Chosen: a cache that frees a little
/// now and then is fast for less.
pub(super) const STAYS: f64 = 0.3;
/// Fast again for this share of the time is fast now and then. Chosen.
pub(super) const NOW_AND_THEN: f64 = 0.08;
/// So many samples tell such a share.
pub(super) const MOST_LOOKED_AT: usize = 4000;
/// What is slower than this share of the usual rate may be a tooth of a quick sawtooth. Chosen.
pub(super) const SLOW_SHARE: f64 = 0.8;
/// Falls of a quick sawtooth that tell one. Chosen.
pub(super) const LEAST_FALLS: usize = 4;
/// Coming back to less than this share of what it was is not coming back. Chosen; noise is a few hundredths.
pub(super) const BACK: f64 = 0.9;
/// A drop explained by heat's usual cut may differ from it so much, in ln. Chosen.
pub(super) const ALIKE: f64 = 0.2;
/// Dips at fewer samples than this are the grain of the record, not a rhythm of the drive. Chosen.
pub(super) const GRAIN: f64 = 8.0;
/// The same of dips that begin late. Chosen.
pub(super) const LATE_GRAIN: f64 = 4.0;
/// Dips that first come after so many of their periods may be heat: from the air to the limit is many times a hysteresis.
pub(super) const LATE_PERIODS: f64 = 3.0;
/// Then so often. Judged.
pub(super) const HEAT_IN_DIPS: f64 = 0.5;
/// A sample this far below its level is in a dip. Chosen.
pub(super) const DIP: f64 = 0.6;
/// So many dips show whether they are regular. Derived: of seven distances, four in five lie within
/// [`REGULAR`] of the median by chance in 2 of 10^5 records when they are exponential, in 3 of 10^3 when they lie evenly between 0.3 and 1.7 (simulated).
pub(super) const LEAST_DIPS: usize = 8;
/// A rise gives back what a fall took when they differ by no more than this, in ln; a fall of less than twice as much is too small for
/// that. Chosen.
pub(super) const GIVEN_BACK: f64 = 0.12;
/// Confidence that it was heat then: two falls in between may be alike by chance.
pub(super) const HEAT_GIVEN_BACK: f64 = 0.97;
/// What comes up by itself for less than this and goes down again swings, s. Chosen.
pub(super) const MOMENT_UP_S: f64 = 6.0;
/// A drive that warmed by so much in half a minute, beside a step of its sensor, and stands from its fall on, is held there, K. Derived: of
/// the temperatures to which it would go at the lower rate, some twenty kelvin wide, one in ten lies within a kelvin of where it is.
pub(super) const STOPPED_K: f64 = 1.5;
/// Confidence that it is heat then. Judged.
pub(super) const HEAT_HOLDS: f64 = 0.92;
/// What is reckoned of a sensor that follows late may be off by so much, K. Judged.
pub(super) const RECKONED_K: f64 = 4.0;
/// Four in five of their distances lie so close to the median: of those that lie evenly between 0.3 and 1.7 one in
/// five does, of exponential ones one in twelve (simulated).
pub(super) const REGULAR: f64 = 0.12;
/// A thread that is busy for this share of the time has none left. Chosen.
pub(super) const SATURATED: f64 = 0.97;
/// So near to what the link carries, the link is the limit. Chosen.
pub(super) const AT_CEILING: f64 = 0.9;
/// Shorter visits of a place tell nothing, s. Chosen: three samples at ten a second.
pub(super) const LEAST_VISIT_S: f64 = 0.3;
/// Confidence of "unexplained" where two causes look the same: in nearly all of these one of them is it. Judged.
pub(super) const UNDECIDED: f64 = 0.03;
/// Confidence of a single fall while it was hottest, with no limit stated.
pub(super) const HEAT_ONCE: f64 = 0.6;
/// So small a fall, in ln, is none of a cache more often than not. Chosen.
pub(super) const SMALL: f64 = 0.2;
/// Confidence of a fall of less than a fifth as a cache end: in about one of three it is none, when nothing else speaks for one. Judged.
pub(super) const SMALL_STEP: f64 = 0.63;
/// Cache ends this close to each other are one, as a share. Chosen.
pub(super) const SAME: f64 = 0.03;
/// Temperatures further apart than this are different, K. Chosen.
pub(super) const APART: f64 = 6.0;
/// Beside so many like falls in the same run, one that comes back is no end of a cache, which only a rest brings back. Chosen.
pub(super) const LEAST_LIKE: usize = 2;

/// What warmed by more than this in the seconds before a fall warmed quickly, K. Chosen: a drive near its balance takes minutes to.
pub(super) const WARMED_K: f64 = 2.0;
/// So many seconds. Chosen.
pub(super) const JUST_BEFORE_S: u64 = 10;
/// What cooled by less than this stood, K. Chosen: what a controller swings by.
pub(super) const STOOD_K: f64 = 1.5;
/// Samples of a level that are too many to be cycles of heat by chance, where each is long. Chosen.
pub(super) const PURE_SAMPLES: usize = 5;
/// A drive that warmed by no more than this in [`BALANCED_S`] is near its balance, K. Chosen.
pub(super) const BALANCED_K: f64 = 2.0;
/// So many seconds. Chosen.
pub(super) const BALANCED_S: u64 = 30;
/// It cooled once it fell: by more than what a sensor in tenths swings by, K. Chosen.
pub(super) const COOLS_K: f64 = 0.3;
