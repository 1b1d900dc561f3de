//! A part of a record: what happened between two places.

use std::time::Duration;

use crate::conclude::Conclusions;
use crate::quantity::histogram::Histogram;
use crate::quantity::units::{Bytes, Celsius, Rate, clock, grouped, latency, span_words};

use crate::readings::{Column, Readings, Ruler};

/// Quantiles in a sentence.
fn waited(what: &str, h: &Histogram) -> String {
    let told: Vec<String> =
        h.told().iter().map(|(name, took)| format!("{name} {}", latency(*took))).collect();
    format!("{what}: {}; {} of them.", told.join(", "), grouped(h.total()))
}

/// What happened between two places of a ruler.
#[derive(Debug, Clone, PartialEq)]
pub struct Between {
    /// When it began and ended; `None` by position, where passes lie over each other.
    pub time: Option<(Duration, Duration)>,
    /// Bytes written and read in it.
    pub moved: Option<(Bytes, Bytes)>,
    /// Rates, latency, temperatures.
    pub column: Column,
    /// How long operations took in it.
    pub latencies: Histogram,
    /// How long the lookout waited in it.
    pub lookout: Histogram,
    /// Temperature at its beginning and its end.
    pub warmed: Option<(Celsius, Celsius)>,
    /// Indices of the findings that begin in it.
    pub findings: Vec<usize>,
}

impl Readings {
    /// What lies between two places of a ruler; `None` when nothing does.
    #[must_use]
    pub fn between(&self, ruler: Ruler, a: f64, b: f64, conclusions: &Conclusions) -> Option<Between> {
        let (from, to) = (a.min(b), a.max(b));
        let inside = |(i, f): (usize, &crate::conclude::Finding)| {
            self.place_of_finding(ruler, f).is_some_and(|p| (from..=to).contains(&p)).then_some(i)
        };
        let findings = conclusions.findings.iter().enumerate().filter_map(inside).collect();
        if ruler == Ruler::Position {
            let column = self.columns(ruler, from, to, 1).into_iter().next().filter(|c| c.rate.is_some())?;
            let (latencies, lookout) = (Histogram::default(), Histogram::default());
            return Some(Between {
                time: None,
                moved: None,
                column,
                latencies,
                lookout,
                warmed: None,
                findings,
            });
        }
        let series = &self.series;
        let samples = series.between(ruler, from, to);
        if samples.is_empty() {
            return None;
        }
        let (first, last) = (samples.start, samples.end - 1);
        let begin = if first == 0 { Duration::ZERO } else { series.end(first - 1) };
        let written = series.written(last) - series.written_before(first);
        let moved = series.moved(last) - series.moved_before(first);
        let warmed = series.degrees(first).zip(series.degrees(last));
        Some(Between {
            time: Some((begin, series.end(last))),
            moved: Some((Bytes::new(written), Bytes::new(moved - written))),
            column: series.column(samples),
            latencies: self.latencies().between(ruler, from, to),
            lookout: self.lookout().between(ruler, from, to),
            warmed: warmed.map(|(a, b)| (Celsius::new(a), Celsius::new(b))),
            findings,
        })
    }
}

impl Between {
    /// In words.
    #[must_use]
    pub fn words(&self, letters: impl Fn(usize) -> String) -> Vec<String> {
        let mut out = Vec::new();
        if let Some((from, to)) = self.time {
            out.push(format!("{} to {}, {}.", clock(from), clock(to), span_words((to - from).as_secs_f64())));
        }
        let moved = |(w, r): (Bytes, Bytes)| match (w, r) {
            (Bytes::ZERO, Bytes::ZERO) => "Nothing moved".to_owned(),
            (w, Bytes::ZERO) => format!("{w} written"),
            (Bytes::ZERO, r) => format!("{r} read"),
            (w, r) => format!("{w} written, {r} read"),
        };
        let rate = |r: Option<Rate>| r.map_or_else(|| "none".to_owned(), |r| r.to_string());
        let bytes = self.moved.map(moved);
        let c = &self.column;
        out.push(match (bytes, c.rate) {
            (Some(bytes), None) => format!("{bytes}: at rest."),
            (bytes, _) => format!(
                "{}{} on average, {} to {}.",
                bytes.map_or_else(String::new, |b| format!("{b} at ")),
                rate(c.rate),
                rate(c.slowest),
                rate(c.fastest)
            ),
        });
        if self.latencies.is_empty() {
            out.extend(c.p99.map(|p| format!("p99 {} at most.", latency(p))));
        } else {
            out.push(waited("Operations took", &self.latencies));
        }
        if !self.lookout.is_empty() {
            out.push(waited("The lookout waited", &self.lookout));
        }
        if let Some((low, high)) = c.coldest.zip(c.hottest) {
            let change = self.warmed.map_or_else(String::new, |(a, b)| {
                format!(", {:+.0} K from end to end", b.degrees() - a.degrees())
            });
            out.push(format!("{low} to {high}{change}."));
        }
        if !self.findings.is_empty() {
            let names: Vec<String> = self.findings.iter().map(|i| letters(*i)).collect();
            out.push(format!("In it: {}.", names.join(", ")));
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Event;
    use crate::record::Sample;

    fn samples(rates: &[u32]) -> Vec<Event> {
        rates
            .iter()
            .enumerate()
            .map(|(i, r)| {
                Event::Sample(Sample {
                    end: Duration::from_secs(i as u64 + 1),
                    span: Duration::from_secs(1),
                    written: Bytes::new(u64::from(*r)),
                    temperature: Some(Celsius::new(40.0 + i as f64)),
                    ..Sample::default()
                })
            })
            .collect()
    }

    #[test]
    fn what_lies_between_two_marks_is_said() {
        let mut readings = Readings::new();
        samples(&[100_000_000, 200_000_000, 300_000_000, 400_000_000, 0, 600_000_000])
            .iter()
            .for_each(|e| readings.push(e));
        let c = readings.conclude();
        let b = readings.between(Ruler::Elapsed, 4.0, 1.0, &c).unwrap();
        assert_eq!(b.time, Some((Duration::from_secs(1), Duration::from_secs(4))));
        assert_eq!(b.moved, Some((Bytes::new(900_000_000), Bytes::ZERO)));
        assert_eq!((b.column.slowest, b.column.fastest), (Some(Rate::new(2e8)), Some(Rate::new(4e8))));
        assert_eq!(
            b.words(|i| i.to_string()),
            [
                "0:00:01 to 0:00:04, 3 s.",
                "900 MB written at 300 MB/s on average, 200 MB/s to 400 MB/s.",
                "41 °C to 43 °C, +2 K from end to end."
            ]
        );
        assert_eq!(readings.between(Ruler::Elapsed, 50.0, 60.0, &c), None);
    }
}
