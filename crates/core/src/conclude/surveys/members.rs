//! The members of an array under load: what each moved, how busy and how warm it was, and whether the array waits for one of them.

use serde::{Deserialize, Serialize};

use crate::drive::LoadKind;
use crate::readings::{MemberLoad, Readings};
use crate::record::held_to::Alone;
use crate::route::LegKind;

/// Fewer moments tell nothing.
const FEWEST: u64 = 20;
/// The array waits for a member that is alone at its end at this share of the moments.
const WAITS: f64 = 0.8;
/// Warmer than every other by this, K: more than sensors of whole degrees and two slots make.
const WARMER_K: f64 = 5.0;

/// One member.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Member {
    /// Its name.
    pub name: String,
    /// Mean rate, MB/s.
    pub mb_s: f64,
    /// Mean share of the time in which it had something to do.
    pub busy: f64,
    /// Highest temperature, °C.
    pub hottest_c: Option<f64>,
}

/// All of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MembersSurvey {
    /// Seconds, about, in which they were looked at.
    pub moments: u64,
    /// Each.
    pub members: Vec<Member>,
    /// The one that the array waits for.
    pub waits_for: Option<String>,
    /// The one that is warmer than all others by five kelvin or more.
    pub warmest: Option<String>,
    /// Each load of it beside the same load on a member alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub scaling: Vec<Scaling>,
}

/// A load of an array beside the same load on one of its members alone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Scaling {
    /// The load in words.
    pub load: String,
    /// Mean rate of the array, MB/s.
    pub mb_s: f64,
    /// Mean over the members that were hauled alone, MB/s.
    pub alone_mb_s: f64,
    /// How many these are.
    pub hauled_alone: usize,
    /// Members in all.
    pub members: usize,
}

impl Scaling {
    /// How many times what a member moves alone.
    #[must_use]
    pub fn times(&self) -> f64 {
        self.mb_s / self.alone_mb_s.max(1e-9)
    }

    /// `write of 1 MiB in sequence, 32 in flight: 1.9 times what one of the 2 members moves alone`.
    #[must_use]
    pub fn words(&self) -> String {
        let by = match self.hauled_alone {
            1 => "by a haul on one of them".to_owned(),
            n => format!("by hauls on {n} of them"),
        };
        format!(
            "{}: {:.1} times what one of its {} members moves alone, {by}",
            self.load,
            self.times(),
            self.members
        )
    }
}

/// Each plain load of the record whose like was hauled on a member alone.
fn scaling(readings: &Readings) -> Vec<Scaling> {
    let Some(head) = readings.head() else { return Vec::new() };
    let series = readings.series();
    let plain = |l: &crate::readings::LegReading| {
        let leg = head.route.legs.get(usize::from(l.leg))?;
        (leg.kind.is_plain_load() && leg.rate.is_none() && l.ended.is_some()).then_some(leg)
    };
    let of = |l: &crate::readings::LegReading| {
        let leg = plain(l)?;
        let kind = match leg.kind {
            LegKind::Read => LoadKind::Read,
            LegKind::Mixed => LoadKind::Mixed,
            _ => LoadKind::Write,
        };
        let mb_s = readings.rate_of(l)?.mb_s();
        let like = |a: &&Alone| {
            (a.kind, a.pattern, a.block_bytes, a.depth)
                == (kind, leg.pattern, leg.mean_block().get(), leg.depth)
        };
        let alike: Vec<&Alone> = head.held_to.alone.iter().filter(like).collect();
        let mut serials: Vec<&str> = alike.iter().map(|a| a.serial.as_str()).collect();
        serials.sort_unstable();
        serials.dedup();
        let mean = alike.iter().map(|a| a.rate.mb_s()).sum::<f64>() / alike.len().max(1) as f64;
        (!alike.is_empty() && mean > 0.0).then(|| Scaling {
            load: leg.words(),
            mb_s,
            alone_mb_s: mean,
            hauled_alone: serials.len(),
            members: head.drive.members.len(),
        })
    };
    if series.is_empty() { Vec::new() } else { readings.legs().iter().filter_map(of).collect() }
}

/// What a record says of members; `None` where there are fewer than two, or too little was seen of them.
#[must_use]
pub fn survey(readings: &Readings) -> Option<MembersSurvey> {
    let all = readings.meters().members();
    let moments = all.iter().map(|m| m.moments).max().filter(|n| *n >= FEWEST && all.len() > 1)?;
    let hottest = |name: &str| {
        let lane = readings.temperatures().iter().find(|l| l.name == name)?;
        lane.readings.iter().map(|(_, t)| t.degrees()).reduce(f64::max)
    };
    let member = |m: &MemberLoad| Member {
        name: m.name.clone(),
        mb_s: m.mb_s / m.moments.max(1) as f64,
        busy: m.busy / m.moments.max(1) as f64,
        hottest_c: hottest(&m.name),
    };
    let members: Vec<Member> = all.iter().map(member).collect();
    let waits = all.iter().find(|m| m.alone as f64 >= WAITS * moments as f64);
    let warmest = members.iter().find(|m| {
        let others = members.iter().filter(|o| o.name != m.name).map(|o| o.hottest_c);
        m.hottest_c.is_some_and(|t| others.into_iter().all(|o| o.is_some_and(|o| t >= o + WARMER_K)))
    });
    Some(MembersSurvey {
        moments,
        waits_for: waits.map(|m| m.name.clone()),
        warmest: warmest.map(|m| m.name.clone()),
        scaling: scaling(readings),
        members,
    })
}

impl MembersSurvey {
    /// What is to be said of them; nothing where they are alike.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let of = |name: &Option<String>| self.members.iter().find(|m| Some(&m.name) == name.as_ref());
        let others =
            |name: &str| self.members.iter().filter(|m| m.name != name).map(|m| m.busy).fold(0.0, f64::max);
        let waits = of(&self.waits_for).map(|m| {
            format!(
                "The array waits for {}: it was busy {:.0} % of the time, and no other more than {:.0} %",
                m.name,
                m.busy * 100.0,
                others(&m.name) * 100.0
            )
        });
        let warmest = of(&self.warmest).and_then(|m| {
            let others = self.members.iter().filter(|o| o.name != m.name).filter_map(|o| o.hottest_c);
            let next = others.reduce(f64::max)?;
            Some(format!(
                "{} is the warmest member, {:.0} °C where the next has {next:.0} °C",
                m.name, m.hottest_c?
            ))
        });
        // The first load stands for the haul; all of them are in the panel and in JSON.
        let scaling = self.scaling.first().map(Scaling::words);
        let all: Vec<String> = [waits, warmest, scaling].into_iter().flatten().collect();
        (!all.is_empty()).then(|| format!("{}.", all.join(". ")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    use crate::drive::{MeterReading, MeterUnit};
    use crate::quantity::units::Celsius;
    use crate::record::Event;

    #[test]
    fn an_array_is_told_beside_what_a_member_moves_alone() {
        use crate::drive::{DriveIdentity, DriveKind, LoadSummary, Pattern};
        use crate::quantity::units::{Bytes, Rate};
        use crate::record::{HaulHead, LegEnd, Sample};
        let mut drive = DriveIdentity::plain("/dev/md0", DriveKind::Block, Bytes::from_gb(10));
        drive.members = vec!["A".into(), "B".into(), "C".into()];
        let leg = crate::route::Leg::new(LegKind::Read);
        let alone = |serial: &str, depth, mb_s| Alone {
            serial: serial.into(),
            kind: LoadKind::Read,
            pattern: Pattern::Sequential,
            block_bytes: leg.block.get(),
            depth,
            rate: Rate::from_mb_s(mb_s),
        };
        let route =
            crate::route::Route { legs: vec![leg.clone()], ..crate::route::shipped("cache-edge").unwrap() };
        let mut head = HaulHead::plain("h", drive, route);
        head.held_to.alone =
            vec![alone("A", leg.depth, 90.0), alone("B", leg.depth, 110.0), alone("C", leg.depth + 1, 7.0)];
        let mut r = Readings::new();
        r.push(&Event::HaulStarted(Box::new(head)));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for s in 1..=60u64 {
            let (end, span) = (Duration::from_secs(s), Duration::from_secs(1));
            r.push(&Event::Sample(Sample { end, span, read: Bytes::new(250_000_000), ..Sample::default() }));
        }
        let (at, summary) = (Duration::from_secs(60), LoadSummary::default());
        r.push(&Event::LegEnded { at, leg: 0, why: LegEnd::Duration, summary });
        let all = scaling(&r);
        // 250 of (90 + 110) / 2; C was hauled under another load.
        assert_eq!((all.len(), all[0].hauled_alone, all[0].members), (1, 2, 3));
        assert!((all[0].times() - 2.5).abs() < 1e-9, "{all:?}");
        assert!(
            all[0]
                .words()
                .ends_with("2.5 times what one of its 3 members moves alone, by hauls on 2 of them")
        );
    }

    /// An array whose members are that busy, percent, and that warm, for a minute under load.
    fn array(busy: &[f64], degrees: &[f64]) -> Option<MembersSurvey> {
        let mut r = Readings::new();
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for s in 1..=60u64 {
            let at = Duration::from_secs(s);
            let name = |i: usize| format!("nvme{i}n1");
            let mut readings = Vec::new();
            for (i, b) in busy.iter().enumerate() {
                let value =
                    |unit: MeterUnit, v: f64| MeterReading { name: name(i), value: unit.value(v).unwrap() };
                readings.push(value(MeterUnit::Busy, *b));
                readings.push(value(MeterUnit::MegabytesPerSecond, 500.0));
            }
            r.push(&Event::Meters { at, readings });
            let readings = degrees.iter().enumerate().map(|(i, t)| (name(i), Celsius::new(*t))).collect();
            r.push(&Event::Temperatures { at, readings });
        }
        survey(&r)
    }

    #[test]
    fn the_member_that_the_array_waits_for_is_named_and_equals_are_not() {
        let s = array(&[55.0, 97.0, 61.0], &[50.0, 52.0, 51.0]).unwrap();
        assert_eq!((s.waits_for.as_deref(), s.warmest.as_deref(), s.moments), (Some("nvme1n1"), None, 59));
        assert!((s.members[1].busy - 0.97).abs() < 1e-9 && (s.members[1].mb_s - 500.0).abs() < 1e-9);
        assert_eq!(
            s.sentence().unwrap(),
            "The array waits for nvme1n1: it was busy 97 % of the time, and no other more than 61 %."
        );
        let even = array(&[96.0, 97.0, 95.0], &[50.0, 52.0, 51.0]).unwrap();
        assert_eq!((even.waits_for.clone(), even.sentence()), (None, None));
        let warm = array(&[96.0, 97.0], &[71.0, 52.0]).unwrap();
        assert_eq!(
            warm.sentence().unwrap(),
            "nvme0n1 is the warmest member, 71 °C where the next has 52 °C."
        );
        assert!(array(&[97.0], &[50.0]).is_none(), "one drive is no array");
        assert!(array(&[], &[]).is_none());
    }
}
