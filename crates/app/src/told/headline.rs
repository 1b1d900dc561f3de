//! The headline of a haul: what happened, and why, in a few sentences.

use std::time::Duration;

use hollow_mile_core::conclude::inquiry::cause_words;
use hollow_mile_core::conclude::surveys::freight::held_up;
use hollow_mile_core::conclude::surveys::lookout::LookoutSurvey;
use hollow_mile_core::conclude::surveys::members::MembersSurvey;
use hollow_mile_core::conclude::verdict::{self, Likes};
use hollow_mile_core::conclude::{Assumption, Conclusions, Figures, Finding};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate, clock, grouped, significant, span_words};
use hollow_mile_core::quantity::{FigureKey, FindingKind, width};
use hollow_mile_core::readings::{CutLeg, Readings};
use hollow_mile_core::record::HaulState;
use hollow_mile_core::route::{Leg, LegKind};

/// A cause that is less likely is not named.
const WORTH_NAMING: f64 = 0.05;

/// A drive that came so near to its limit, K, was at it as far as its sensor can say: heat is not denied then.
const AT_LIMIT_K: f64 = 2.0;

/// Half the width of a finding's 95 % interval: `± 0.6 GB`.
#[must_use]
pub fn plus_minus(f: &Finding) -> String {
    format!("± {}", width::half(f.written_low, f.written_high))
}

/// The leg that is under way.
fn current_leg(r: &Readings) -> Option<(&Leg, Duration)> {
    let reading = r.legs().last()?;
    let leg = r.head()?.route.legs.get(usize::from(reading.leg))?;
    Some((leg, r.elapsed().saturating_sub(reading.from)))
}

/// Rate over the last ten seconds or so.
#[must_use]
pub fn rate_now(r: &Readings) -> Option<Rate> {
    let s = r.series();
    let last = s.len().checked_sub(1)?;
    let from = s.index_at(s.end(last).saturating_sub(Duration::from_secs(10)));
    (s.loaded_s(from..last + 1) > 0.0).then(|| Rate::new(s.mean_rate(from..last + 1)))
}

/// Rests that are told one by one.
const RESTS_TOLD: usize = 4;

/// The answer, in words, as it stands at the top of a haul: what happened, and why.
#[must_use]
pub fn answer(r: &Readings, c: &Conclusions) -> String {
    let mut parts: Vec<String> = Vec::new();
    match r.ended() {
        Some((_, HaulState::Failed, reason)) => {
            parts.push(format!("The drive failed: {}.", reason.as_deref().unwrap_or("it did not say why")));
        }
        Some((at, HaulState::Stopped, _)) => parts.push(format!("Stopped after {}.", clock(*at))),
        _ => {}
    }
    parts.extend(c.cut_legs.iter().map(CutLeg::sentence));
    if r.series().is_empty() {
        parts.push("Nothing is recorded yet.".into());
        return parts.join(" ");
    }
    let live = r.ended().is_none();
    let surveyed = c.surveys.sentences();
    let has_survey = !surveyed.is_empty();
    parts.extend(surveyed);
    parts.extend(c.surveys.members.as_ref().and_then(MembersSurvey::sentence));
    let cache: Vec<&Finding> = c.findings.iter().filter(|f| f.kind == FindingKind::CacheEnd).collect();
    let heat: Vec<&Finding> = c.findings.iter().filter(|f| f.kind == FindingKind::Throttle).collect();
    let open = c.findings.iter().filter(|f| f.kind == FindingKind::Unexplained).count();
    if let Some(last) = cache.last() {
        // Of the first load in which it ended; what came after a rest is another beginning.
        let loads: Vec<_> = r.stints(c).into_iter().filter(|s| !s.ends.is_empty()).collect();
        let first: Vec<&Finding> = loads.first().map_or_else(|| cache.clone(), |s| s.ends.iter().collect());
        let places: Vec<String> =
            first.iter().map(|f| format!("{} ({})", f.written, plus_minus(f))).collect();
        let verb = if places.len() == 1 { "The cache ended at" } else { "The cache ended in steps, at" };
        parts.push(format!("{verb} {}.", join(&places)));
        let again: Vec<String> = loads
            .iter()
            .skip(1)
            .filter_map(|s| {
                let bytes = s.ends.first()?.written.saturating_sub(s.written_before);
                // From one leg to the next is no rest.
                let rested = s.rested_s.filter(|t| *t >= 1.0 && !s.after_inquiry)?;
                Some(format!("{bytes} after {}", span_words(rested)))
            })
            .take(RESTS_TOLD)
            .collect();
        if !again.is_empty() {
            parts.push(format!("Rest brought back {}.", join(&again)));
        }
        if let Some(after) = last.after {
            let steady = c.figures.steady.is_some_and(|s| s.reached);
            parts.push(format!("{after} since{}.", if steady { ", steady" } else { "" }));
        }
    }
    if let Some(first) = heat.first() {
        let at = first.temperature.map(|t| format!(" at {t}")).unwrap_or_default();
        let rates =
            first.before.zip(first.after).map(|(b, a)| format!(", from {b} down to {a}")).unwrap_or_default();
        parts.push(format!("Heat throttles{at}{rates}, first after {}.", clock(first.elapsed)));
    } else if let (Some(limit), Some(hottest)) = (r.throttle_limit(), c.figures.hottest_c)
        && hottest < limit.degrees() - AT_LIMIT_K
        && !c.findings.iter().any(|f| f.may_be.iter().any(|m| m.kind == FindingKind::Throttle))
    {
        let subject = if cache.is_empty() { "Heat did not slow it" } else { "Heat is not the cause" };
        parts.push(format!("{subject}: {} at most, limit {}.", Celsius::new(hottest), degrees(limit)));
    }
    let slow = c.findings.iter().find(|f| f.kind == FindingKind::Unexplained && f.position_end.is_some());
    if let Some((f, from, to)) =
        slow.and_then(|f| Some((f, f.position?, f.position_end?))).filter(|_| open == 1)
    {
        let rates = f.before.zip(f.after).map(|(b, a)| format!(", {b} down to {a}")).unwrap_or_default();
        parts.push(format!("Slow from {from} to {to} of the drive{rates}; one visit does not tell why."));
    } else if let Some(f) = c.findings.iter().find(|f| !f.may_be.is_empty()).filter(|_| open == 1) {
        let rates = f.before.zip(f.after).map(|(b, a)| format!(" from {b} to {a}")).unwrap_or_default();
        let likely = f.may_be.iter().filter(|m| m.share >= WORTH_NAMING).take(3);
        let causes: Vec<String> =
            likely.map(|m| format!("{} ({:.0} %)", cause_words(m.kind), m.share * 100.0)).collect();
        let what = if f.decided.as_ref().is_some_and(|d| !d.arms.is_empty()) {
            "what was tried"
        } else {
            "the record"
        };
        parts.push(format!("Fell{rates} at {}: {}; {what} does not decide.", f.written, causes.join(" or ")));
    } else if let Some((f, times)) = c.findings.iter().find_map(|f| Some((f, f.times?))).filter(|_| open == 1)
    {
        let rates = f.before.zip(f.after).map(|(b, a)| format!(" from {b} to {a}")).unwrap_or_default();
        parts.push(format!("Falls{rates} and comes back, {times} times; the record does not tell why."));
    } else if open > 0 {
        let (word, verb) = if open == 1 { ("change", "is") } else { ("changes", "are") };
        parts.push(format!("{open} {word} of speed {verb} unexplained."));
    }
    let others: Vec<String> =
        verdict::likes(&c.findings).iter().filter_map(|l| beside(r, l, has_survey)).collect();
    let changed = c.findings.iter().any(|f| verdict::changes_the_rate(f.kind));
    if cache.is_empty() && heat.is_empty() && open == 0 && !has_survey {
        let rate = c.figures.burst.unwrap_or_default();
        let wrote = r.written() > Bytes::ZERO;
        parts.insert(
            parts.len().min(1),
            match (live, wrote, changed) {
                (true, true, _) => format!("No cache end so far: {}.", so_far(&c.figures, r.written())),
                (false, true, false) => {
                    format!("No cache end within {}: {}.", r.written(), whole(&c.figures))
                }
                (false, true, true) => format!("No cache end within {}: {rate} as a rule.", r.written()),
                (_, false, false) => match is_even(&c.figures) {
                    true => format!("No change of speed: {rate}."),
                    false => format!("No sudden change of speed: {}.", whole(&c.figures)),
                },
                (_, false, true) => format!("{rate} as a rule."),
            },
        );
    }
    parts.extend(others);
    parts.extend(c.surveys.lookout.as_ref().and_then(LookoutSurvey::sentence));
    if r.errors() > 0 {
        let at = usize::from(matches!(r.ended(), Some((_, HaulState::Failed | HaulState::Stopped, _))));
        parts.insert(at, faults(r));
    }
    if live && current_leg(r).is_some_and(|(l, _)| l.kind == LegKind::Rest) {
        parts.insert(0, "Resting.".into());
    }
    parts.join(" ")
}

/// One figure stands for all seconds: not so on platters, or in a swing.
fn is_even(f: &Figures) -> bool {
    f.slope.is_none() && f.p1.zip(f.p99).is_none_or(|(low, high)| low.get() >= 0.85 * high.get())
}

/// How fast the whole was: one rate, the ends of a slope, or the median with what lies around it.
fn whole(f: &Figures) -> String {
    let rate = f.burst.unwrap_or_default();
    match (f.slope, f.p1.zip(f.p99)) {
        (Some(s), _) => format!("{} at its start, {} at its end", s.start, s.end),
        (None, Some((low, high))) if !is_even(f) => {
            format!("{rate} in the median, {low} to {high} second by second")
        }
        _ => format!("{rate} throughout"),
    }
}

/// How fast it is while it goes on.
fn so_far(f: &Figures, written: Bytes) -> String {
    match f.slope {
        Some(s) => format!("{} at its start, {} after {written}", s.start, s.end),
        None => format!("{} after {written}", f.burst.unwrap_or_default()),
    }
}

/// What is to be said of findings that the rest of the answer does not speak of: of each kind its first, and how many more.
fn beside(r: &Readings, likes: &Likes<'_>, has_survey: bool) -> Option<String> {
    let first = likes.all.first()?;
    let rates = first.before.zip(first.after).map(|(b, a)| format!(", {b} down to {a}")).unwrap_or_default();
    let more = match likes.all.len() - 1 {
        0 => String::new(),
        n => format!(" ({n} more)"),
    };
    let at = clock(first.elapsed);
    Some(match likes.kind {
        // The answer has sentences of their own for these, and counts failed operations.
        FindingKind::Bottleneck | FindingKind::WriteBack => return None,
        FindingKind::CacheEnd
        | FindingKind::Throttle
        | FindingKind::Unexplained
        | FindingKind::DataMismatch
        | FindingKind::KeptWaiting
        | FindingKind::MediaError => return None,
        // A scan tells its slow stretches itself.
        FindingKind::SlowZone if has_survey => return None,
        FindingKind::SlowZone => {
            let from = first.position.unwrap_or_default();
            let to = first.position_end.map_or_else(|| " on".into(), |to| format!(" to {to} of the drive"));
            format!("Slow from {from}{to}{rates}{more}: it is the place.")
        }
        FindingKind::FillSlowdown => format!("Slower because it is fuller{rates}, from {at} on{more}."),
        FindingKind::OtherTraffic => format!("Others used the drive from {at} on{rates}{more}."),
        FindingKind::HostLimit => {
            // The analysis names the link where a rate is within a tenth of what it carries.
            let ceiling = r.head().and_then(|h| h.drive.link.as_ref()?.payload_ceiling());
            let at_link = first.after.zip(ceiling).is_some_and(|(a, c)| a.get() >= 0.9 * c.get());
            let who = if at_link { "The link" } else { "This machine" };
            format!("{who} sets the rate, not the drive{more}.")
        }
        FindingKind::Background => format!("Regular dips from {at} on{rates}{more}."),
        FindingKind::Outlier => outlier(first),
        FindingKind::OffForecast => {
            let (expected, met) = (first.before.unwrap_or_default(), first.after.unwrap_or_default());
            format!(
                "Off its forecast from {at} on: {met} where {expected} was expected{}{more}.",
                failed(first)
            )
        }
    })
}

/// Not like the other drives of its model: how many they are, and the figure in which it lies furthest from them.
fn outlier(f: &Finding) -> String {
    let Some(u) = f.unlike.first() else { return "It is not like the other drives of its model.".into() };
    let (e, name) = (&u.expected, u.expected.figure.name());
    let FigureKey::Of(id) = &e.figure else { return format!("Its {name} is not like that of others.") };
    let words = |v: f64| id.quantity().words(v);
    let more = match f.unlike.len() - 1 {
        0 => String::new(),
        n => format!(", and {n} more"),
    };
    format!(
        "Not like {} other drives of its model: {name} {} where they have {} to {}{more}.",
        e.drives,
        words(u.value),
        words(e.low),
        words(e.high)
    )
}

/// What of a forecast did not hold.
fn failed(f: &Finding) -> String {
    match f.failed {
        None | Some(Assumption::Level) => String::new(),
        Some(Assumption::Change { expected_bytes, found_bytes }) => {
            let sooner = if found_bytes < expected_bytes { "sooner" } else { "later" };
            let by = Bytes::new(found_bytes.abs_diff(expected_bytes));
            format!(", since the level changed {by} {sooner}")
        }
        Some(Assumption::Heat { expected_c, found_c }) => {
            format!(", at {} and not {} at most", Celsius::new(found_c), Celsius::new(expected_c))
        }
        Some(Assumption::Link { carries_mb_s }) => {
            format!(", on a link that carries {}", Rate::from_mb_s(carries_mb_s))
        }
    }
}

fn degrees(t: Celsius) -> String {
    significant(t.degrees())
}

fn join(parts: &[String]) -> String {
    match parts {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

/// What the leg under way has moved, of how much: `Leg 1, write, has moved 712 GB of 4 TB.`
#[must_use]
pub fn leg_so_far(r: &Readings) -> Option<String> {
    let (leg, in_leg) = current_leg(r)?;
    let reading = r.legs().last()?;
    let name = format!("Leg {}, {},", reading.leg + 1, leg.kind.word());
    if !leg.kind.moves() {
        return Some(format!("{name} has taken {}.", clock(in_leg)));
    }
    let files = r.freight().of_leg(reading.leg);
    if let Some(last) = files.last() {
        let done: u64 = files.iter().map(|s| s.done.files).sum();
        let hand = last.done.in_hand.map(|b| format!(", one of {b} in hand")).unwrap_or_default();
        let (done, of) = (grouped(done), grouped(last.done.of_files));
        let held = held_up(&last.done, leg.carry).filter(|h| h.1 > 0.2);
        let held =
            held.map(|h| format!("; it waits for {}", h.0.words(leg.carry, leg.at))).unwrap_or_default();
        return Some(format!("{name} {done} of {of} files in {}{hand}{held}.", clock(in_leg)));
    }
    let moved = r.moved_in(r.legs().len().saturating_sub(1));
    let of = leg.bytes_on(r.head()?.drive.capacity).map(|b| format!(" of {b}")).unwrap_or_default();
    Some(format!("{name} has moved {moved}{of} in {}.", clock(in_leg)))
}

/// What is left of the leg under way: time, bytes. `None` when the leg does not say.
#[must_use]
pub fn left(r: &Readings) -> Option<(Option<Duration>, Option<Bytes>)> {
    let (leg, in_leg) = current_leg(r)?;
    let capacity = r.head()?.drive.capacity;
    let moved = r.moved_in(r.legs().len().saturating_sub(1));
    let bytes = leg.bytes_on(capacity).map(|b| b.saturating_sub(moved));
    let by_bytes = bytes.zip(rate_now(r)).and_then(|(b, rate)| rate.time_for(b));
    let by_time = leg.until.duration.map(|d| d.saturating_sub(in_leg));
    let time = match (by_bytes, by_time) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    };
    (time.is_some() || bytes.is_some()).then_some((time, bytes))
}

/// Failed operations in one sentence, with the first addresses.
#[must_use]
pub fn faults(r: &Readings) -> String {
    let mut places: Vec<u64> = r.faults().iter().filter_map(|f| Some(f.position?.get())).collect();
    places.sort_unstable();
    places.dedup();
    let shown: Vec<String> =
        places.iter().take(8).map(|p| hollow_mile_core::quantity::units::grouped(*p)).collect();
    let more = if places.len() > shown.len() { ", …" } else { "" };
    let n = hollow_mile_core::quantity::units::grouped(r.errors());
    let word = if r.errors() == 1 { "operation" } else { "operations" };
    if shown.is_empty() {
        return format!("{n} {word} failed.");
    }
    format!("{n} {word} failed, at byte {}{more}.", shown.join(", "))
}

#[cfg(test)]
mod tests {
    use hollow_mile_core::conclude::Candidate;
    use hollow_mile_core::drive::{DriveIdentity, DriveKind};
    use hollow_mile_core::record::{Event, HaulHead, Sample};
    use hollow_mile_core::route;

    use super::*;

    /// A minute of writing at 100 MB/s that is over.
    fn readings(errors: u32) -> Readings {
        let mut r = Readings::new();
        r.push(&Event::HaulStarted(Box::new(HaulHead::plain(
            "made",
            DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000)),
            route::shipped("long-haul").unwrap(),
        ))));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for i in 1..=60 {
            let (end, span) = (Duration::from_secs(i), Duration::from_secs(1));
            let written = Bytes::new(100_000_000);
            r.push(&Event::Sample(Sample { end, span, written, errors, ..Sample::default() }));
        }
        let at = Duration::from_secs(60);
        r.push(&Event::HaulEnded { at, state: HaulState::Done, reason: None });
        r
    }

    #[test]
    fn a_slope_is_told_by_its_ends() {
        let mut r = readings(0);
        let mut c = r.conclude();
        let (start, end) = (Rate::from_mb_s(267.0), Rate::from_mb_s(141.0));
        c.figures.slope = Some(hollow_mile_core::conclude::Slope { start, end });
        assert_eq!(answer(&r, &c), "No cache end within 6 GB: 267 MB/s at its start, 141 MB/s at its end.");
        r = ended(None, None);
        assert_eq!(answer(&r, &c), "No cache end so far: 267 MB/s at its start, 141 MB/s after 6 GB.");
    }

    #[test]
    fn throughout_is_said_only_where_nothing_says_otherwise() {
        let r = readings(0);
        let clean = r.conclude();
        assert!(clean.findings.is_empty());
        assert_eq!(answer(&r, &clean), "No cache end within 6 GB: 100 MB/s throughout.");
        for kind in FindingKind::ALL {
            let found = Finding {
                before: Some(Rate::from_mb_s(2000.0)),
                after: Some(Rate::from_mb_s(1000.0)),
                position: Some(Bytes::from_gb(1)),
                position_end: Some(Bytes::from_gb(2)),
                ..Finding::new(kind)
            };
            let c = Conclusions { findings: vec![found], ..clean.clone() };
            let told = answer(&r, &c);
            let changes = verdict::changes_the_rate(kind);
            assert!(!(changes && told.contains("throughout")), "{kind:?}: {told}");
            let words = match kind {
                FindingKind::CacheEnd => "The cache ended",
                FindingKind::Throttle => "Heat throttles",
                FindingKind::SlowZone => "Slow from 1 GB to 2 GB of the drive, 2 000 MB/s down to 1 000 MB/s",
                FindingKind::FillSlowdown => "Slower because it is fuller",
                FindingKind::Background => "Regular dips",
                FindingKind::OtherTraffic => {
                    "Others used the drive from 0:00:00 on, 2 000 MB/s down to 1 000 MB/s"
                }
                FindingKind::HostLimit => "This machine sets the rate",
                FindingKind::OffForecast => {
                    "Off its forecast from 0:00:00 on: 1 000 MB/s where 2 000 MB/s was expected"
                }
                FindingKind::Outlier => "not like the other drives of its model",
                FindingKind::Unexplained => "one visit does not tell why",
                // They are said from what was counted, from what the lookout saw, and from what freight legs say.
                FindingKind::MediaError
                | FindingKind::DataMismatch
                | FindingKind::KeptWaiting
                | FindingKind::Bottleneck
                | FindingKind::WriteBack => "",
            };
            assert!(told.contains(words), "{kind:?}: {told}");
        }
    }

    #[test]
    fn heat_is_denied_only_far_from_the_limit_and_where_nothing_may_be_heat() {
        let mut r = Readings::new();
        let mut drive = DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000));
        drive.throttle_limit = Some(Celsius::new(88.0));
        let route = route::shipped("long-haul").unwrap();
        r.push(&Event::HaulStarted(Box::new(HaulHead::plain("made", drive, route))));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        let (end, written) = (Duration::from_secs(1), Bytes::new(100_000_000));
        r.push(&Event::Sample(Sample { end, span: end, written, ..Sample::default() }));
        let told = |hottest: f64, findings: Vec<Finding>| {
            let mut c = Conclusions { findings, ..r.conclude() };
            c.figures.hottest_c = Some(hottest);
            answer(&r, &c)
        };
        let open = |kind| Finding {
            may_be: vec![Candidate { kind, share: 0.4 }],
            ..Finding::new(FindingKind::Unexplained)
        };
        let denied = "Heat did not slow it: 80 °C at most, limit 88.";
        assert!(told(80.0, Vec::new()).contains(denied));
        assert!(told(80.0, vec![open(FindingKind::Background)]).contains(denied));
        for said in [
            told(88.0, Vec::new()),
            told(86.5, Vec::new()),
            told(88.0, vec![Finding::new(FindingKind::CacheEnd)]),
            told(80.0, vec![open(FindingKind::Throttle)]),
        ] {
            assert!(!said.contains("Heat did not") && !said.contains("Heat is not"), "{said}");
        }
    }

    #[test]
    fn failed_operations_stand_first() {
        let r = readings(2);
        let told = answer(&r, &r.conclude());
        assert!(told.starts_with("120 operations failed."), "{told}");
    }

    /// The same minute, ended in another way, or not at all.
    fn ended(state: Option<HaulState>, reason: Option<&str>) -> Readings {
        let whole = readings(0);
        let mut r = Readings::new();
        r.push(&Event::HaulStarted(Box::new(whole.head().unwrap().clone())));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for i in 1..=60 {
            let (end, span) = (Duration::from_secs(i), Duration::from_secs(1));
            let written = Bytes::new(100_000_000);
            r.push(&Event::Sample(Sample { end, span, written, ..Sample::default() }));
        }
        if let Some(state) = state {
            let reason = reason.map(str::to_owned);
            r.push(&Event::HaulEnded { at: Duration::from_secs(60), state, reason });
        }
        r
    }

    #[test]
    fn how_it_ended_stands_before_what_was_seen() {
        for (state, reason, words) in [
            (Some(HaulState::Done), None, "No cache end within 6 GB: 100 MB/s throughout."),
            (
                Some(HaulState::Stopped),
                None,
                "Stopped after 0:01:00. No cache end within 6 GB: 100 MB/s throughout.",
            ),
            (
                Some(HaulState::Failed),
                Some("it is gone"),
                "The drive failed: it is gone. No cache end within 6 GB: 100 MB/s throughout.",
            ),
            (
                Some(HaulState::Failed),
                None,
                "The drive failed: it did not say why. No cache end within 6 GB: 100 MB/s throughout.",
            ),
            (None, None, "No cache end so far: 100 MB/s after 6 GB."),
        ] {
            let r = ended(state, reason);
            assert_eq!(answer(&r, &r.conclude()), words);
        }
        assert_eq!(answer(&Readings::new(), &Conclusions::default()), "Nothing is recorded yet.");
    }

    fn found(kind: FindingKind, at_s: u64) -> Finding {
        Finding {
            elapsed: Duration::from_secs(at_s),
            written: Bytes::from_gb(at_s / 10),
            before: Some(Rate::from_mb_s(2000.0)),
            after: Some(Rate::from_mb_s(1000.0)),
            temperature: Some(Celsius::new(80.0)),
            ..Finding::new(kind)
        }
    }

    fn told(kinds: &[FindingKind]) -> String {
        let r = readings(0);
        let findings = kinds.iter().zip(1u64..).map(|(k, i)| found(*k, i * 10)).collect();
        answer(&r, &Conclusions { findings, ..r.conclude() })
    }

    #[test]
    fn likes_are_told_once_with_how_many_more() {
        use FindingKind::{Background, OtherTraffic, Throttle, Unexplained};
        let dips = told(&[Background, Background, Background]);
        assert!(
            dips.contains("Regular dips from 0:00:10 on, 2 000 MB/s down to 1 000 MB/s (2 more)."),
            "{dips}"
        );
        let heat = told(&[Throttle, Throttle]);
        assert_eq!(heat.matches("Heat throttles").count(), 1, "{heat}");
        assert!(
            heat.contains("at 80 °C, from 2 000 MB/s down to 1 000 MB/s, first after 0:00:10."),
            "{heat}"
        );
        assert!(told(&[Unexplained]).contains("1 change of speed is unexplained."));
        assert!(told(&[Unexplained, Unexplained]).contains("2 changes of speed are unexplained."));
        let (r, often) = (readings(0), Finding { times: Some(27), ..found(Unexplained, 10) });
        let words = answer(&r, &Conclusions { findings: vec![often], ..r.conclude() });
        assert!(words.contains("Falls from 2 000 MB/s to 1 000 MB/s and comes back, 27 times;"), "{words}");
        let both = told(&[OtherTraffic, Background]);
        assert!(both.contains("Others used the drive") && both.contains("Regular dips"), "{both}");
    }

    #[test]
    fn what_the_record_does_not_decide_is_told_with_its_candidates() {
        use hollow_mile_core::conclude::Candidate;
        use hollow_mile_core::conclude::inquiry::{Decision, ToldArm};
        use hollow_mile_core::record::ArmKind;
        let r = readings(0);
        let open = Finding {
            written: Bytes::from_gb(3),
            before: Some(Rate::from_mb_s(2000.0)),
            after: Some(Rate::from_mb_s(900.0)),
            may_be: vec![
                Candidate { kind: FindingKind::CacheEnd, share: 0.7 },
                Candidate { kind: FindingKind::Throttle, share: 0.3 },
            ],
            ..Finding::new(FindingKind::Unexplained)
        };
        let tried = Finding {
            may_be: vec![
                Candidate { kind: FindingKind::HostLimit, share: 0.8 },
                Candidate { kind: FindingKind::SlowZone, share: 0.19 },
                Candidate { kind: FindingKind::Throttle, share: 0.01 },
            ],
            decided: Some(Box::new(Decision {
                arms: vec![ToldArm { kind: ArmKind::Here, seconds: 2.0, mb_s: None }],
                ..Decision::default()
            })),
            ..open.clone()
        };
        let said = answer(&r, &Conclusions { findings: vec![tried], ..r.conclude() });
        let words =
            "this machine or the link (80 %) or slow addresses (19 %); what was tried does not decide.";
        assert!(said.contains(words), "{said}");
        let said = answer(&r, &Conclusions { findings: vec![open], ..r.conclude() });
        let words = "Fell from 2 000 MB/s to 900 MB/s at 3 GB: the end of the cache (70 %) or heat (30 %); the record does not decide.";
        assert!(said.contains(words), "{said}");
    }

    #[test]
    fn throughout_is_said_only_where_it_is_true() {
        let r = readings(0);
        let with = |p1: f64, p99: f64| {
            let mut c = r.conclude();
            (c.figures.p1, c.figures.p99) = (Some(Rate::from_mb_s(p1)), Some(Rate::from_mb_s(p99)));
            answer(&r, &Conclusions { findings: Vec::new(), ..c })
        };
        assert!(with(960.0, 1040.0).contains("throughout"), "{}", with(960.0, 1040.0));
        let slope = with(130.0, 260.0);
        assert!(
            !slope.contains("throughout") && slope.contains("130 MB/s to 260 MB/s second by second"),
            "{slope}"
        );
    }

    #[test]
    fn several_cache_ends_are_told_in_their_order() {
        let two = told(&[FindingKind::CacheEnd, FindingKind::CacheEnd]);
        assert!(two.starts_with("The cache ended in steps, at 1 GB ("), "{two}");
        assert!(two.contains(") and 2 GB (") && two.contains("1 000 MB/s since."), "{two}");
        let heat_too = told(&[FindingKind::CacheEnd, FindingKind::Throttle]);
        assert!(
            heat_too.contains("The cache ended at 1 GB") && heat_too.contains("Heat throttles"),
            "{heat_too}"
        );
    }

    #[test]
    fn what_is_left_of_a_leg_is_the_sooner_of_bytes_and_time() {
        let r = ended(None, None);
        let (time, bytes) = left(&r).unwrap();
        // long-haul writes 4 TB of this drive: 3,994 GB at 100 MB/s.
        assert_eq!(bytes, Some(Bytes::from_gb(3994)));
        assert!((time.unwrap().as_secs_f64() / 39_940.0 - 1.0).abs() < 0.01, "{time:?}");
        assert!(rate_now(&r).is_some_and(|r| (r.mb_s() - 100.0).abs() < 1.0));
        assert_eq!(left(&Readings::new()), None);
    }
}
