//! What was different about the sides of a contrast, and what that does to it.

use serde::Serialize;

use super::{Side, Subject};
use crate::quantity::plain::Plain;
use crate::quantity::units::Bytes;
use crate::record::HaulState;

/// What makes hauls repeats of each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Group {
    /// Whatever is stated of them is the same.
    Alike,
    /// Each haul stands for itself.
    Haul,
    /// One condition, by its name: `cooling`, `drive`, or a tag.
    By(String),
}

/// A condition that is not the same on all sides.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Differs {
    /// What belongs together and cannot be changed apart: a drive comes with its model and firmware.
    pub thing: &'static str,
    /// Its name.
    pub name: String,
    /// On each side; several values joined where the hauls of a side differ among themselves.
    pub values: Vec<String>,
}

impl Differs {
    /// Two values are stated, and not the same. What one side does not state may be the same there; but nobody states that
    /// there is no cooler, or no tag.
    fn is_a_change(&self) -> bool {
        let mut stated: Vec<&String> = self.values.iter().filter(|v| *v != "not stated").collect();
        stated.sort();
        stated.dedup();
        stated.len() > 1 || matches!(self.thing, "cooling" | "tag")
    }
}

/// A condition of a haul.
struct Condition {
    thing: &'static str,
    name: &'static str,
    of: fn(&Subject) -> String,
}

impl Condition {
    /// What two hauls have in common when they are alike in this: the words, or for legs, whose words leave much out, all of
    /// what they are.
    fn key(&self, s: &Subject) -> String {
        if self.name == LEGS { leg_values(s).join("\n") } else { (self.of)(s) }
    }
}

const LEGS: &str = "legs";

/// Each leg with every field that is set, in the form of its file.
fn leg_values(s: &Subject) -> Vec<String> {
    s.head.route.legs.iter().map(|l| toml::to_string(l).unwrap_or_else(|_| l.words())).collect()
}

/// Where the legs of some hauls are not the same, in the words of each haul: `leg 2 compressible 90`.
fn where_legs_differ(all: &[&Subject], s: &Subject) -> String {
    let tables = |s: &Subject| -> Vec<toml::Table> {
        s.head.route.legs.iter().map(|l| toml::Table::try_from(l).unwrap_or_default()).collect()
    };
    let (each, own): (Vec<_>, _) = (all.iter().map(|s| tables(s)).collect(), tables(s));
    let longest = each.iter().map(Vec::len).max().unwrap_or(0);
    let mut words = Vec::new();
    for i in 0..longest {
        let mut keys: Vec<&String> = each.iter().filter_map(|t| t.get(i)).flat_map(|t| t.keys()).collect();
        keys.sort();
        keys.dedup();
        for key in keys.into_iter().filter(|k| *k != "turn") {
            let of = |tables: &Vec<toml::Table>| tables.get(i).and_then(|t| t.get(key).cloned());
            if each.iter().any(|t| of(t) != of(&each[0])) {
                let value = of(&own).map_or_else(|| "not set".into(), |v| v.to_string());
                words.push(format!("leg {} {key} {value}", i + 1));
            }
        }
    }
    words.truncate(4);
    words.join(", ")
}

fn or_none(text: Option<String>) -> String {
    text.filter(|t| !t.is_empty()).unwrap_or_else(|| "not stated".into())
}

fn full(s: &Subject) -> String {
    // Whole tens: that a drive is a little fuller at the second haul is no other condition.
    or_none(s.head.drive.fill_percent.map(|f| format!("{:.0} %", (f / 10.0).round() * 10.0)))
}

const CONDITIONS: [Condition; 14] = [
    Condition { thing: "drive", name: "model", of: |s| or_none(Some(s.head.drive.model.clone())) },
    Condition { thing: "drive", name: "drive", of: |s| or_none(Some(s.head.drive.serial.clone())) },
    Condition { thing: "drive", name: "capacity", of: |s| s.head.drive.capacity.to_string() },
    Condition { thing: "firmware", name: "firmware", of: |s| or_none(Some(s.head.drive.firmware.clone())) },
    Condition { thing: "cooling", name: "cooling", of: |s| or_none(s.head.conditions.cooling.clone()) },
    Condition {
        thing: "ambient",
        name: "ambient",
        of: |s| or_none(s.head.conditions.ambient.map(|a| a.to_string())),
    },
    Condition { thing: "slot", name: "slot", of: |s| or_none(s.head.conditions.slot.clone()) },
    Condition { thing: "slot", name: "link", of: |s| or_none(s.head.drive.link.as_ref().map(|l| l.words())) },
    Condition { thing: "source", name: "copied from", of: |s| or_none(s.head.conditions.source.clone()) },
    Condition { thing: "fill", name: "full at the start", of: full },
    Condition { thing: "route", name: "route", of: |s| s.head.route.name.clone() },
    Condition { thing: "route", name: LEGS, of: legs },
    Condition { thing: "host", name: "engine", of: |s| or_none(Some(s.head.engine.clone())) },
    Condition { thing: "host", name: "program", of: |s| s.head.program.clone() },
];

fn legs(s: &Subject) -> String {
    let all: Vec<String> = s.head.route.legs.iter().map(crate::route::Leg::words).collect();
    // Long routes are told by their beginning and their length; the whole is in each record.
    match all.len() {
        0..=3 => all.join("; "),
        n => {
            format!("{}; … {n} legs, {:08x}", all[..2].join("; "), crc32fast::hash(all.join(";").as_bytes()))
        }
    }
}

/// Tags of a haul that tell conditions; what the program ties hauls together with is left out.
fn tags(s: &Subject) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = s.tags.clone();
    // Which haul this one goes on from or repeats is no condition.
    all.retain(|(k, _)| k != "continues" && k != "again");
    all.sort();
    all
}

impl Group {
    /// Names that can be grouped by beside tags.
    #[must_use]
    pub fn names() -> Vec<&'static str> {
        ["haul", "alike"].into_iter().chain(CONDITIONS.iter().map(|c| c.name)).collect()
    }

    /// Of a word on the command line.
    #[must_use]
    pub fn of(word: &str) -> Self {
        match word {
            "alike" => Self::Alike,
            "haul" => Self::Haul,
            other => Self::By(other.to_owned()),
        }
    }

    /// The name that it groups by, when there is no such condition and none of the hauls has such a tag.
    pub(super) fn unknown(&self, subjects: &[Subject]) -> Option<String> {
        let Self::By(name) = self else { return None };
        let known = CONDITIONS.iter().any(|c| c.name == name)
            || subjects.iter().any(|s| tags(s).iter().any(|t| t.0 == *name));
        (!known).then(|| name.clone())
    }

    pub(super) fn key(&self, s: &Subject) -> Vec<String> {
        match self {
            Self::Haul => vec![s.head.haul.clone()],
            Self::Alike => {
                let mut key: Vec<String> = CONDITIONS
                    .iter()
                    // Another program or another thread count does not make another side; it is warned of.
                    .filter(|c| c.thing != "host")
                    .map(|c| c.key(s))
                    .collect();
                key.extend(tags(s).into_iter().map(|(k, v)| format!("{k}={v}")));
                key
            }
            Self::By(name) => vec![value(s, name)],
        }
    }

    pub(super) fn why_one_side(&self) -> String {
        match self {
            Self::Alike => "nothing that is stated sets them apart".into(),
            Self::Haul => "it is the same haul".into(),
            Self::By(name) => format!("\"{name}\" is the same in all"),
        }
    }
}

/// A condition or a tag by its name.
fn value(s: &Subject, name: &str) -> String {
    let condition = CONDITIONS.iter().find(|c| c.name == name).map(|c| (c.of)(s));
    let tag = || tags(s).into_iter().find(|(k, _)| k == name).map(|(_, v)| v);
    condition.or_else(tag).unwrap_or_else(|| "not stated".into())
}

fn joined(group: &[&Subject], of: impl Fn(&Subject) -> String) -> String {
    let mut values: Vec<String> = group.iter().map(|s| of(s)).collect();
    values.sort();
    values.dedup();
    values.join(" and ")
}

/// Conditions and tags that are not the same on all sides.
pub(super) fn differs(groups: &[Vec<&Subject>]) -> Vec<Differs> {
    let mut all = Vec::new();
    let mut put = |thing, name: &str, of: &dyn Fn(&Subject) -> String| {
        let values: Vec<String> = groups.iter().map(|g| joined(g, of)).collect();
        if values.iter().any(|v| *v != values[0]) {
            all.push(Differs { thing, name: name.to_owned(), values });
        }
    };
    for c in CONDITIONS.iter().filter(|c| c.name != LEGS) {
        put(c.thing, c.name, &c.of);
    }
    let subjects: Vec<&Subject> = groups.iter().flatten().copied().collect();
    let told = |s: &Subject| {
        let of_others = || subjects.iter().any(|o| legs(o) == legs(s) && leg_values(o) != leg_values(s));
        if of_others() { format!("{}: {}", legs(s), where_legs_differ(&subjects, s)) } else { legs(s) }
    };
    put("route", LEGS, &told);
    let mut names: Vec<String> = groups.iter().flatten().flat_map(|s| tags(s)).map(|(k, _)| k).collect();
    names.sort();
    names.dedup();
    for name in names {
        put("tag", &name, &|s: &Subject| value(s, &name));
    }
    // Another model has another serial and another size: that is one difference, and not worth three lines.
    if all.iter().any(|d| d.name == "model") {
        all.retain(|d| d.name != "capacity" && d.thing != "firmware");
        // And its connection comes with it.
        all.iter_mut().filter(|d| d.name == "link").for_each(|d| d.thing = "drive");
    }
    all
}

/// What sets a side apart: what differs, or else its label or its haul.
pub(super) fn name(groups: &[Vec<&Subject>], i: usize, differs: &[Differs]) -> String {
    let telling: Vec<&Differs> = differs
        .iter()
        .filter(|d| !matches!(d.name.as_str(), "legs" | "engine" | "program" | "link"))
        .take(3)
        .collect();
    let parts: Vec<String> = telling
        .iter()
        .map(|d| match d.values[i].as_str() {
            "not stated" => format!("{} not stated", d.name),
            v if matches!(d.name.as_str(), "drive" | "model" | "route") => v.to_owned(),
            v => format!("{} {v}", d.name),
        })
        .collect();
    let mut words = parts.join(", ");
    // Sides that these words do not tell apart are told by their hauls.
    let same = |j: &usize| *j != i && telling.iter().all(|d| d.values[*j] == d.values[i]);
    if words.is_empty() || (0..groups.len()).any(|j| same(&j)) {
        let first = groups[i][0];
        let label = first.label.clone().or_else(|| first.head.conditions.label.clone());
        let own = label.unwrap_or_else(|| format!("haul {}", first.head.haul));
        words = if words.is_empty() { own } else { format!("{words}, {own}") };
    }
    words
}

/// What makes a comparison weaker than it looks.
pub(super) fn warnings(groups: &[Vec<&Subject>], sides: &[Side], differs: &[Differs]) -> Vec<String> {
    let mut out = Vec::new();
    let mut things: Vec<&str> = Vec::new();
    for d in differs.iter().filter(|d| d.is_a_change()) {
        let thing = if d.thing == "tag" { d.name.as_str() } else { d.thing };
        if !things.contains(&thing) {
            things.push(thing);
        }
    }
    if let [most @ .., last] = things.as_slice()
        && !most.is_empty()
    {
        out.push(format!(
            "{} things changed at once: {} and {last}. A difference cannot be put down to one of them.",
            ["Two", "Three", "Four", "Five"].get(things.len() - 2).map_or("Several", |w| w),
            most.join(", ")
        ));
    }
    for (group, side) in groups.iter().zip(sides) {
        for d in CONDITIONS.iter().filter(|c| c.thing != "host") {
            let values = joined(group, d.of);
            if group.iter().any(|s| d.key(s) != d.key(group[0])) {
                out.push(format!("The hauls of {} are not alike: {} {values}.", side.letter, d.name));
            }
        }
        for s in group {
            for cut in &s.digest.treatment.cut_legs {
                out.push(format!(
                    "Haul {} ({}): leg {} was ended by hand {}, so it may lack what the others have.",
                    s.head.haul,
                    side.letter,
                    cut.leg + 1,
                    cut.how_far()
                ));
            }
            if matches!(
                s.state,
                HaulState::Stopped | HaulState::CutShort | HaulState::Failed | HaulState::Running
            ) {
                let how = match s.state {
                    HaulState::Running => "is still under way",
                    HaulState::Stopped => "was stopped",
                    HaulState::Failed => "ended because the drive failed",
                    _ => "was cut short",
                };
                out.push(format!(
                    "Haul {} ({}) {how} after {}: it may lack what the others have.",
                    s.head.haul,
                    side.letter,
                    Bytes::new(s.digest.treatment.written_bytes + s.digest.treatment.read_bytes)
                ));
            }
        }
    }
    // What was run one side after the other may differ by the hour, the room or the wear.
    let started = |g: &[&Subject]| {
        let times: Vec<i64> = g.iter().map(|s| s.head.started_unix_ms).filter(|t| *t > 0).collect();
        (times.len() == g.len() && g.len() > 1).then_some(())?;
        times.iter().min().copied().zip(times.iter().max().copied())
    };
    if let Some((a, b)) = groups.first().and_then(|g| started(g)).zip(groups.get(1).and_then(|g| started(g)))
        && (a.1 < b.0 || b.1 < a.0)
    {
        out.push(format!(
            "All hauls of {} ran before those of {}: what changes with time looks like a difference. Run them in turns.",
            if a.1 < b.0 { &sides[0].letter } else { &sides[1].letter },
            if a.1 < b.0 { &sides[1].letter } else { &sides[0].letter }
        ));
    }
    let all: Vec<&Subject> = groups.iter().flatten().copied().collect();
    let moved = |s: &&Subject| (s.digest.treatment.written_bytes + s.digest.treatment.read_bytes) as f64;
    let (least, most) = all.iter().map(moved).fold((f64::MAX, 0.0f64), |(l, m), v| (l.min(v), m.max(v)));
    if least < 0.8 * most {
        out.push(format!(
            "They moved between {} and {}: figures over the whole haul are of different lengths.",
            Bytes::new(least as u64),
            Bytes::new(most as u64)
        ));
    }
    let mut intervals: Vec<std::time::Duration> = all.iter().map(|s| s.head.route.interval).collect();
    intervals.sort();
    intervals.dedup();
    if let [shortest, .., longest] = intervals.as_slice() {
        out.push(format!(
            "Samples are {} to {} long: a short stall shows in the shorter ones only.",
            shortest.plain(),
            longest.plain()
        ));
    }
    out
}
