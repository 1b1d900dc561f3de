//! Which hauls make a batch, and what is stated of each.

use super::{LeftOut, Subject};
use crate::record::HaulState;

/// Firmware, slot, cooling and tags of a haul; what the program ties hauls together with is left out.
pub(super) fn facts(s: &Subject) -> Vec<(String, String)> {
    let conditions = &s.head.conditions;
    let mut all: Vec<(String, String)> = [
        ("firmware", Some(s.head.drive.firmware.clone())),
        ("slot", conditions.slot.clone()),
        ("cooling", conditions.cooling.clone()),
    ]
    .into_iter()
    .filter_map(|(name, value)| Some((name.to_owned(), value.filter(|v| !v.is_empty())?)))
    .collect();
    all.extend(
        s.tags.iter().filter(|(k, _)| !matches!(k.as_str(), "continues" | "again" | "decides")).cloned(),
    );
    all.sort();
    all
}

pub(super) fn serial(s: &Subject) -> &str {
    if s.head.drive.serial.is_empty() { &s.head.drive.target } else { &s.head.drive.serial }
}

/// What most of them have; of equals the first.
pub(super) fn commonest<K: Ord + Clone>(keys: impl Iterator<Item = K>) -> Option<K> {
    let mut counts: std::collections::BTreeMap<K, usize> = std::collections::BTreeMap::new();
    keys.for_each(|k| *counts.entry(k).or_default() += 1);
    let most = counts.values().copied().max()?;
    counts.into_iter().find(|c| c.1 == most).map(|c| c.0)
}

/// Keeps the hauls of the class that most drives are in, of equals that of the oldest haul; gives how many were left out.
fn keep_commonest(hauls: &mut Vec<&Subject>, same: impl Fn(&Subject, &Subject) -> bool) -> usize {
    let mut classes: Vec<(&Subject, std::collections::BTreeSet<&str>)> = Vec::new();
    for s in hauls.iter() {
        match classes.iter_mut().find(|(first, _)| same(first, s)) {
            Some((_, drives)) => _ = drives.insert(serial(s)),
            None => classes.push((s, std::iter::once(serial(s)).collect())),
        }
    }
    let before = hauls.len();
    let most = classes.iter().map(|c| c.1.len()).max();
    if let Some((first, _)) = classes.into_iter().find(|c| Some(c.1.len()) == most) {
        hauls.retain(|s| same(first, s));
    }
    before - hauls.len()
}

/// The hauls that count: done, of the commonest model and size, by the commonest route, no copies.
pub(super) fn counted<'a>(subjects: impl IntoIterator<Item = &'a Subject>) -> (Vec<&'a Subject>, LeftOut) {
    let (mut hauls, others): (Vec<&Subject>, Vec<&Subject>) =
        subjects.into_iter().partition(|s| s.state == HaulState::Done);
    let unfinished = others.len();
    // The order in which they are given does not matter.
    hauls.sort_by(|a, b| (a.head.started_unix_ms, &a.head.haul).cmp(&(b.head.started_unix_ms, &b.head.haul)));
    let other_model = keep_commonest(&mut hauls, |a, b| {
        a.head.drive.model == b.head.drive.model && a.head.drive.capacity == b.head.drive.capacity
    });
    let other_route = keep_commonest(&mut hauls, |a, b| {
        a.head.route.name == b.head.route.name && a.head.route.legs == b.head.route.legs
    });
    let before = hauls.len();
    let mut of_drive: std::collections::BTreeMap<&str, Vec<&Subject>> = std::collections::BTreeMap::new();
    hauls.retain(|s| {
        let own = of_drive.entry(serial(s)).or_default();
        let copy = own.iter().any(|o| o.digest.figures == s.digest.figures && !s.digest.figures.is_empty());
        own.push(s);
        !copy
    });
    let copies = before - hauls.len();
    (hauls, LeftOut { other_route, unfinished, copies, other_model })
}
