//! How often findings of a kind are right, by what they stand on. The shares were counted on the proving grounds (`hollow-mile prove`,
//! both generators, seeds that no threshold was chosen on); docs/findings.md has the table.

use super::numbers::{AT_LIMIT, HOT, HOTTEST_ELSEWHERE};
use super::{Judge, Step};

/// What the end of a cache stands on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Footing {
    /// Far from any limit.
    Cool,
    /// Below its limit, but warm enough for a sensor that is not the hottest.
    Warm,
    /// At its limit, and slow long after it had cooled.
    AtLimit,
    /// No limit is known; too cool for one.
    CoolWithoutLimit,
    /// No limit is known, and it was warm.
    WarmWithoutLimit,
    /// No thermometer; too far down, or too soon, for heat.
    Blind,
}

impl Footing {
    /// So often it is one.
    pub const fn right(self) -> f64 {
        match self {
            Self::Cool => 0.99,
            Self::Warm => 0.98,
            Self::AtLimit => 0.95,
            Self::CoolWithoutLimit => 0.98,
            Self::WarmWithoutLimit => 0.95,
            Self::Blind => 0.98,
        }
    }
}

/// So often it is heat, when the drive counted it, or else when its limit is stated or was learned from the falls, and the speed came
/// back or not.
pub(super) const fn of_throttling(counted: bool, stated: bool, came_back: bool) -> f64 {
    match (counted, stated, came_back) {
        (true, ..) => 0.99,
        (false, true, _) => 0.985,
        (false, false, true) => 0.97,
        (false, false, false) => 0.98,
    }
}

impl Judge<'_> {
    pub(super) fn footing(&self, step: &Step<'_>) -> Footing {
        if self.is_blind(step) {
            return Footing::Blind;
        }
        let Some(t) = step.temperature else { return Footing::Blind };
        match self.limit {
            Some(limit) if t >= limit - AT_LIMIT => Footing::AtLimit,
            Some(limit) if t >= HOT && t >= limit - HOTTEST_ELSEWHERE => Footing::Warm,
            Some(_) => Footing::Cool,
            None if t >= HOT => Footing::WarmWithoutLimit,
            None => Footing::CoolWithoutLimit,
        }
    }
}
