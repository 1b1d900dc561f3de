//! Legs of a route, those of groups too, one after the other.

use super::{Leg, Route};

/// Every leg of a route, those of groups after them, with how deep each lies.
#[must_use]
pub fn all_legs(route: &Route) -> Vec<(&Leg, usize)> {
    fn walk<'a>(legs: &'a [Leg], deep: usize, out: &mut Vec<(&'a Leg, usize)>) {
        for leg in legs {
            out.push((leg, deep));
            walk(&leg.legs, deep + 1, out);
        }
    }
    let mut out = Vec::new();
    walk(&route.legs, 0, &mut out);
    out
}

/// The leg at a place of [`all_legs`].
pub fn leg_mut(legs: &mut [Leg], place: usize) -> Option<&mut Leg> {
    fn count(leg: &Leg) -> usize {
        1 + leg.legs.iter().map(count).sum::<usize>()
    }
    let mut at = place;
    for leg in legs {
        if at == 0 {
            return Some(leg);
        }
        let size = count(leg);
        if at < size {
            return leg_mut(&mut leg.legs, at - 1);
        }
        at -= size;
    }
    None
}
