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

/// A change of the legs themselves, at one of them. It stays among the legs of its group.
#[derive(Debug, Clone, PartialEq)]
pub enum Edit {
    /// The leg once more, behind itself.
    Copy,
    /// Without it.
    Remove,
    /// One place nearer to the beginning.
    Up,
    /// One place nearer to the end.
    Down,
    /// This one behind it.
    Insert(Box<Leg>),
}

/// Changes the legs at a place of [`all_legs`]. Gives the place of the leg that the change was about; `None` when there is no such
/// place, or the leg cannot go further. In a route without legs every place is its beginning.
pub fn edit_legs(legs: &mut Vec<Leg>, place: usize, edit: &Edit) -> Option<usize> {
    fn count(leg: &Leg) -> usize {
        1 + leg.legs.iter().map(count).sum::<usize>()
    }
    if legs.is_empty() {
        let Edit::Insert(leg) = edit else { return None };
        legs.push((**leg).clone());
        return Some(0);
    }
    let mut from = 0;
    for i in 0..legs.len() {
        let size = count(&legs[i]);
        if place > from && place < from + size {
            return edit_legs(&mut legs[i].legs, place - from - 1, edit).map(|p| p + from + 1);
        }
        if place == from {
            return match edit {
                Edit::Copy => {
                    legs.insert(i + 1, legs[i].clone());
                    Some(from + size)
                }
                Edit::Insert(leg) => {
                    legs.insert(i + 1, (**leg).clone());
                    Some(from + size)
                }
                Edit::Remove => {
                    legs.remove(i);
                    Some(from.saturating_sub(usize::from(i == legs.len() && i > 0)))
                }
                Edit::Up if i > 0 => {
                    let before = count(&legs[i - 1]);
                    legs.swap(i - 1, i);
                    Some(from - before)
                }
                Edit::Down if i + 1 < legs.len() => {
                    let after = count(&legs[i + 1]);
                    legs.swap(i, i + 1);
                    Some(from + after)
                }
                Edit::Up | Edit::Down => None,
            };
        }
        from += size;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::route::Route;

    fn route() -> Route {
        let leg = |bytes: u32, indent: &str| {
            format!("[[{indent}leg]]\nkind = \"write\"\nuntil = {{ bytes = \"{bytes} GB\" }}\n")
        };
        let group = "[[leg]]\nkind = \"group\"\nrepeat = 2\n";
        let text =
            format!("name = \"x\"\n{}{group}{}{}{}", leg(1, ""), leg(2, "leg."), leg(3, "leg."), leg(4, ""));
        Route::from_toml(&text).unwrap()
    }

    fn words(r: &Route) -> Vec<String> {
        all_legs(r)
            .iter()
            .map(|(l, d)| format!("{d}{}", l.until.bytes.map_or_else(|| "g".into(), |b| format!("{b:?}"))))
            .collect()
    }

    #[test]
    fn legs_are_copied_moved_and_taken_out_within_their_group() {
        let before = words(&route());
        let edited = |place: usize, edit: Edit| {
            let mut r = route();
            let at = edit_legs(&mut r.legs, place, &edit);
            (at, words(&r))
        };
        // Places: 0 write, 1 group, 2 and 3 in it, 4 write.
        let (at, all) = edited(2, Edit::Copy);
        assert_eq!((at, all.len(), &all[3]), (Some(3), 6, &before[2]));
        let (at, all) = edited(1, Edit::Copy);
        assert_eq!((at, all.len()), (Some(4), 8), "a group with all that is in it");
        assert_eq!(edited(1, Edit::Up), (Some(0), [1, 2, 3, 0, 4].map(|i| before[i].clone()).to_vec()));
        assert_eq!(edited(1, Edit::Down), (Some(2), [0, 4, 1, 2, 3].map(|i| before[i].clone()).to_vec()));
        assert_eq!(edited(2, Edit::Down), (Some(3), [0, 1, 3, 2, 4].map(|i| before[i].clone()).to_vec()));
        assert_eq!(edited(3, Edit::Down), (None, before.clone()), "it does not leave its group");
        assert_eq!(edited(4, Edit::Remove), (Some(3), before[..4].to_vec()));
        assert_eq!(edited(0, Edit::Remove), (Some(0), before[1..].to_vec()));
        assert_eq!(edited(9, Edit::Copy), (None, before.clone()));
        let mut none = Route { legs: Vec::new(), ..route() };
        assert_eq!(edit_legs(&mut none.legs, 5, &Edit::Insert(Box::new(route().legs[0].clone()))), Some(0));
        assert_eq!(none.legs.len(), 1);
    }
}
