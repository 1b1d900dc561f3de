//! A record that is kept for years: fewer samples, and every extreme as it was.

use crate::drive::LatencySummary;
use crate::quantity::units::Bytes;
use crate::record::{Event, FreightSecond, Latencies, Sample, Whose};
use std::time::Duration;

/// Samples of two legs are not joined, nor a load and a rest.
fn apart(a: &Sample, b: &Sample) -> bool {
    let idle = |s: &Sample| s.written + s.read == Bytes::ZERO;
    a.leg != b.leg || idle(a) != idle(b)
}

fn joined(a: &Sample, b: &Sample) -> Sample {
    let both = |x: Option<Bytes>, y: Option<Bytes>| x.zip(y).map(|(x, y)| x + y).or(x).or(y);
    let latency = match (a.latency, b.latency) {
        (Some(x), Some(y)) => Some(LatencySummary {
            operations: x.operations.saturating_add(y.operations),
            p50_us: x.p50_us.max(y.p50_us),
            p99_us: x.p99_us.max(y.p99_us),
            max_us: x.max_us.max(y.max_us),
        }),
        (x, y) => x.or(y),
    };
    Sample {
        span: a.span + b.span,
        written: a.written + b.written,
        read: a.read + b.read,
        errors: a.errors.saturating_add(b.errors),
        other: both(a.other, b.other),
        temperature: b.temperature.or(a.temperature),
        position: b.position.or(a.position),
        latency,
        ..b.clone()
    }
}

/// Joins samples, but leaves those with an extreme of their group as they are: the slowest and the fastest, the longest
/// latency and the highest p99, the coldest and the hottest, and every one with a failed operation. Other events stay, and so do
/// the samples of a step, which a survey takes one by one.
///
/// What is lost: how the samples between two of these lay. What is not: bytes, time, errors, and every extreme of a group.
#[derive(Debug)]
pub struct Thin {
    each: usize,
    group: Vec<Sample>,
    keeps_steps: bool,
    in_step: bool,
    /// Latencies of the load and of the lookout, up to now.
    latencies: [Option<Latencies>; 2],
    /// What happened to files, up to now.
    freight: Option<FreightSecond>,
    out: Vec<Event>,
}

impl Thin {
    /// Groups of `each` samples, at least one. Of a group up to thirteen are left: six extremes and what lies between them.
    #[must_use]
    pub fn new(each: usize) -> Self {
        Self {
            each: each.max(1),
            group: Vec::new(),
            keeps_steps: true,
            in_step: false,
            latencies: [None, None],
            freight: None,
            out: Vec::new(),
        }
    }

    /// The same for what is only looked at: samples of a step are joined like others, and its survey cannot be taken again.
    #[must_use]
    pub fn overview(each: usize) -> Self {
        Self { keeps_steps: false, ..Self::new(each) }
    }

    /// Takes the next event.
    pub fn push(&mut self, event: &Event) {
        if matches!(event, Event::Flushed { .. }) && !self.keeps_steps {
            // Several a second may come of them, and nothing of them is seen.
            return;
        }
        if let Event::Latencies(latencies) = event {
            return self.push_latencies(latencies);
        }
        if let Event::Freight(second) = event {
            return self.push_freight(second);
        }
        let Event::Sample(s) = event else {
            self.close();
            if matches!(event, Event::LegEnded { .. } | Event::Paused { .. }) {
                self.close_latencies();
            }
            match event {
                Event::StepStarted { .. } => self.in_step = self.keeps_steps,
                // What an experiment says is said by its own samples.
                Event::ArmStarted { .. } => self.in_step = true,
                Event::StepEnded { .. } | Event::InquiryEnded { .. } | Event::LegEnded { .. } => {
                    self.in_step = false;
                }
                _ => {}
            }
            self.out.push(event.clone());
            return;
        };
        if self.in_step {
            self.out.push(event.clone());
            return;
        }
        if self.group.len() >= self.each || self.group.last().is_some_and(|o| apart(o, s)) {
            self.close();
        }
        self.group.push(s.clone());
    }

    /// Seconds are added up until they are as long as a group of samples.
    fn push_latencies(&mut self, newest: &Latencies) {
        let long = self.group.last().map_or(Duration::ZERO, |s| s.span.saturating_mul(self.each as u32));
        let kept = &mut self.latencies[usize::from(newest.whose == Whose::Lookout)];
        match kept {
            Some(kept) if kept.goes_on_in(newest) => kept.join(newest),
            _ => self.out.extend(kept.replace(newest.clone()).map(|l| Event::Latencies(Box::new(l)))),
        }
        if kept.as_ref().is_some_and(|l| l.span >= long) {
            self.out.extend(kept.take().map(|l| Event::Latencies(Box::new(l))));
        }
    }

    /// Seconds are added up until they are as long as a group of samples.
    fn push_freight(&mut self, newest: &FreightSecond) {
        let long = self.group.last().map_or(Duration::ZERO, |s| s.span.saturating_mul(self.each as u32));
        match &mut self.freight {
            Some(kept) if kept.leg == newest.leg => kept.join(newest),
            kept => {
                let before = kept.replace(newest.clone());
                self.out.extend(before.map(|f| Event::Freight(Box::new(f))));
            }
        }
        if self.freight.as_ref().is_some_and(|f| f.span >= long) {
            self.out.extend(self.freight.take().map(|f| Event::Freight(Box::new(f))));
        }
    }

    fn close_latencies(&mut self) {
        self.out.extend(self.freight.take().map(|f| Event::Freight(Box::new(f))));
        let kept = self.latencies.iter_mut().filter_map(Option::take);
        self.out.extend(kept.map(|l| Event::Latencies(Box::new(l))));
    }

    fn close(&mut self) {
        let group = std::mem::take(&mut self.group);
        let extremes = extremes(&group);
        let mut between: Option<Sample> = None;
        for (i, s) in group.into_iter().enumerate() {
            if extremes.contains(&i) || s.errors > 0 {
                self.out.extend(between.take().map(Event::Sample));
                self.out.push(Event::Sample(s));
            } else {
                between = Some(between.map_or_else(|| s.clone(), |b| joined(&b, &s)));
            }
        }
        self.out.extend(between.map(Event::Sample));
    }

    /// The thinned record.
    #[must_use]
    pub fn finish(mut self) -> Vec<Event> {
        self.close();
        self.close_latencies();
        self.out
    }
}

type Value<'a> = &'a dyn Fn(&Sample) -> Option<f64>;

/// Which samples of a group are its extremes; the first of equal ones.
fn extremes(group: &[Sample]) -> Vec<usize> {
    let rate = |s: &Sample| Some(s.rate().get());
    let longest = |s: &Sample| s.latency.map(|l| f64::from(l.max_us));
    let p99 = |s: &Sample| s.latency.map(|l| f64::from(l.p99_us));
    let degrees = |s: &Sample| s.temperature.map(|t| t.degrees());
    let of: [(Value<'_>, bool); 6] =
        [(&rate, false), (&rate, true), (&longest, true), (&p99, true), (&degrees, false), (&degrees, true)];
    of.into_iter()
        .filter_map(|(value, largest)| {
            let all = group.iter().enumerate().filter_map(|(i, s)| value(s).map(|v| (i, v)));
            let better = |a: f64, b: f64| if largest { b > a } else { b < a };
            all.reduce(|a, b| if better(a.1, b.1) { b } else { a }).map(|(i, _)| i)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use proptest::prelude::*;

    use super::*;
    use crate::drive::LatencySummary;
    use crate::quantity::units::{Bytes, Celsius};

    proptest! {
        #[test]
        fn no_byte_no_second_no_error_and_no_extreme_is_lost(
            drawn in proptest::collection::vec((0u32..1000, 30i32..90, 1u32..100_000, 0u32..50), 1..600), each in 20usize..200
        ) {
            let all: Vec<Sample> = drawn.iter().enumerate().map(|(i, (bytes, degrees, us, fault))| Sample {
                end: Duration::from_secs(i as u64 + 1),
                span: Duration::from_secs(1),
                written: Bytes::new(u64::from(*bytes)),
                temperature: Some(Celsius::new(f64::from(*degrees))),
                latency: Some(LatencySummary { operations: 1, p50_us: us / 3, p99_us: us / 2, max_us: *us }),
                errors: u32::from(*fault == 0),
                ..Sample::default()
            }).collect();
            let mut thin = Thin::new(each);
            all.iter().for_each(|s| thin.push(&Event::Sample(s.clone())));
            let left: Vec<Sample> =
                thin.finish().into_iter().filter_map(|e| if let Event::Sample(s) = e { Some(s) } else { None }).collect();
            let sum = |of: &[Sample]| of.iter().fold((0, Duration::ZERO, 0), |a, s| (a.0 + s.written.get(), a.1 + s.span, a.2 + s.errors));
            prop_assert_eq!(sum(&left), sum(&all));
            let ends = |of: &[Sample]| {
                let degrees = || of.iter().filter_map(|s| s.temperature).map(|t| t.degrees());
                let rates = || of.iter().map(|s| s.rate().get());
                (
                    rates().fold(f64::MAX, f64::min), rates().fold(0.0, f64::max),
                    degrees().fold(f64::MAX, f64::min), degrees().fold(f64::MIN, f64::max),
                    of.iter().filter_map(|s| s.latency).map(|l| (l.max_us, l.p99_us)).fold((0, 0), |a, b| (a.0.max(b.0), a.1.max(b.1))),
                )
            };
            prop_assert_eq!(ends(&left), ends(&all));
            // Loads and rests are groups of their own.
            let changes = drawn.windows(2).filter(|w| (w[0].0 == 0) != (w[1].0 == 0)).count();
            let faults = drawn.iter().filter(|d| d.3 == 0).count();
            prop_assert!(left.len() <= 13 * (all.len() / each + 1 + changes) + 2 * faults, "{} of {}", left.len(), all.len());
        }
    }
}
