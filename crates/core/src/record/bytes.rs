//! The bytes of a record: batches of events, as the ledger keeps them.
//!
//! A batch is what was committed at once, at most a second of it. Samples lie in it column by column, each column as
//! variable-length integers of differences from the sample before, so that a steady haul costs about 30 bytes a
//! sample; all other events are JSON at their index, but for latencies. Everything in a [`Sample`] is a whole number, so a batch decodes
//! to exactly what went in.
//!
//! Layout, version 9: `version, count of samples, columns…, count of others, (index in batch, length, JSON)…`. Latencies (not
//! before version 3) have in place of JSON: 1, end ns, span ns, leg × 2 (+ 1: the lookout's), bins; meters (not before version 5): 2, at ns,
//! count, and of each: length of its name, name, unit, millionths.
//! Columns: end ns, span ns, leg, written, read, position, temperature, latency (operations, p50, p99, max), other,
//! errors, fill, busy (not in version 1). An optional column starts with a marker: 0 never, 1 always, 2 bitmap follows.

use std::time::Duration;

use crate::drive::{LatencySummary, MeterReading, MeterUnit, MeterValue};
use crate::quantity::histogram::Histogram;
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{Event, Latencies, Sample, Whose};

/// Version 4 brought events of freight, version 5 those of meters, version 6 those of inquiries, versions 7 to 9 further
/// experiments, which older programs do not know.
const VERSION: u8 = 9;
/// Begins an event that is no JSON, which begins with a brace: latencies, since version 3.
const LATENCIES: u8 = 1;
/// The same: what meters said, since version 5.
const METERS: u8 = 2;

/// Why the bytes of a batch could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BatchError {
    /// The bytes end too early.
    #[error("the batch is torn: it ends after {at} bytes in the middle of {what}")]
    Torn {
        /// How far it was read.
        at: usize,
        /// What was being read.
        what: &'static str,
    },
    /// Written by a newer program.
    #[error("the batch has format version {found}, this program reads up to 9")]
    Version {
        /// What it says.
        found: u8,
    },
    /// The bytes are all there, but make no sense.
    #[error("the batch is damaged: {0}")]
    Damaged(String),
}

fn put(out: &mut Vec<u8>, mut v: u64) {
    while v >= 0x80 {
        out.push((v as u8) | 0x80);
        v >>= 7;
    }
    out.push(v as u8);
}

fn put_signed(out: &mut Vec<u8>, v: i64) {
    put(out, ((v << 1) ^ (v >> 63)) as u64);
}

struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
    what: &'static str,
}

impl<'a> Reader<'a> {
    fn torn(&self) -> BatchError {
        BatchError::Torn { at: self.at, what: self.what }
    }
    fn byte(&mut self) -> Result<u8, BatchError> {
        let b = *self.bytes.get(self.at).ok_or_else(|| self.torn())?;
        self.at += 1;
        Ok(b)
    }
    fn get(&mut self) -> Result<u64, BatchError> {
        let mut v = 0u64;
        for shift in (0..70).step_by(7) {
            let b = self.byte()?;
            if shift == 63 && b > 1 {
                break;
            }
            v |= u64::from(b & 0x7f) << shift;
            if b & 0x80 == 0 {
                return Ok(v);
            }
        }
        Err(BatchError::Damaged(format!("a number in {} is too long", self.what)))
    }
    fn get_signed(&mut self) -> Result<i64, BatchError> {
        let v = self.get()?;
        Ok((v >> 1) as i64 ^ -((v & 1) as i64))
    }
    fn count(&mut self, limit: usize) -> Result<usize, BatchError> {
        let n = self.get()?;
        usize::try_from(n)
            .ok()
            .filter(|n| *n <= limit)
            .ok_or_else(|| BatchError::Damaged(format!("{n} {} cannot be", self.what)))
    }
    fn slice(&mut self, len: usize) -> Result<&'a [u8], BatchError> {
        let end = self.at.checked_add(len).ok_or_else(|| self.torn())?;
        let slice = self.bytes.get(self.at..end).ok_or_else(|| self.torn())?;
        self.at = end;
        Ok(slice)
    }
    /// Differences of a column that has a value in every sample.
    fn column(&mut self, what: &'static str, n: usize) -> Result<Vec<u64>, BatchError> {
        self.what = what;
        let mut last = 0u64;
        (0..n)
            .map(|_| {
                last = last.wrapping_add(self.get_signed()? as u64);
                Ok(last)
            })
            .collect()
    }
    fn optional(&mut self, what: &'static str, n: usize) -> Result<Vec<Option<u64>>, BatchError> {
        self.what = what;
        match self.byte()? {
            0 => Ok(vec![None; n]),
            1 => Ok(self.column(what, n)?.into_iter().map(Some).collect()),
            2 => {
                let bits = self.slice(n.div_ceil(8))?.to_vec();
                let present = |i: usize| bits[i / 8] >> (i % 8) & 1 == 1;
                let mut values = self.column(what, (0..n).filter(|i| present(*i)).count())?.into_iter();
                Ok((0..n).map(|i| if present(i) { values.next() } else { None }).collect())
            }
            other => Err(BatchError::Damaged(format!("marker {other} before {what}"))),
        }
    }
}

fn put_column(out: &mut Vec<u8>, values: impl Iterator<Item = u64>) {
    let mut last = 0u64;
    for v in values {
        put_signed(out, v.wrapping_sub(last) as i64);
        last = v;
    }
}

fn put_optional(out: &mut Vec<u8>, values: &[Option<u64>]) {
    let present = values.iter().flatten().count();
    if present == 0 {
        out.push(0);
    } else if present == values.len() {
        out.push(1);
        put_column(out, values.iter().flatten().copied());
    } else {
        out.push(2);
        let mut bits = vec![0u8; values.len().div_ceil(8)];
        for (i, _) in values.iter().enumerate().filter(|(_, v)| v.is_some()) {
            bits[i / 8] |= 1 << (i % 8);
        }
        out.extend(bits);
        put_column(out, values.iter().flatten().copied());
    }
}

/// Spans longer than 584 years do not occur; they are cut there.
fn nanos(span: Duration) -> u64 {
    u64::try_from(span.as_nanos()).unwrap_or(u64::MAX)
}

/// Writes events as one batch. `to_json` turns an event that is no sample into text.
///
/// # Errors
/// What `to_json` says.
pub fn encode<E>(events: &[Event], to_json: impl Fn(&Event) -> Result<Vec<u8>, E>) -> Result<Vec<u8>, E> {
    let samples: Vec<&Sample> =
        events.iter().filter_map(|e| if let Event::Sample(s) = e { Some(s) } else { None }).collect();
    let mut out = Vec::with_capacity(64 + samples.len() * 16);
    out.push(VERSION);
    put(&mut out, samples.len() as u64);
    put_column(&mut out, samples.iter().map(|s| nanos(s.end)));
    put_column(&mut out, samples.iter().map(|s| nanos(s.span)));
    put_column(&mut out, samples.iter().map(|s| u64::from(s.leg)));
    put_column(&mut out, samples.iter().map(|s| s.written.get()));
    put_column(&mut out, samples.iter().map(|s| s.read.get()));
    let mut optional = |f: &dyn Fn(&Sample) -> Option<u64>| {
        put_optional(&mut out, &samples.iter().map(|s| f(s)).collect::<Vec<_>>());
    };
    optional(&|s| s.position.map(Bytes::get));
    optional(&|s| s.temperature.map(|t| i64::from(t.millis()) as u64));
    optional(&|s| s.latency.map(|l| u64::from(l.operations)));
    optional(&|s| s.latency.map(|l| u64::from(l.p50_us)));
    optional(&|s| s.latency.map(|l| u64::from(l.p99_us)));
    optional(&|s| s.latency.map(|l| u64::from(l.max_us)));
    optional(&|s| s.other.map(Bytes::get));
    put_column(&mut out, samples.iter().map(|s| u64::from(s.errors)));
    put_optional(&mut out, &samples.iter().map(|s| s.fill_ppm.map(u64::from)).collect::<Vec<_>>());
    put_optional(&mut out, &samples.iter().map(|s| s.host_busy_ppm.map(u64::from)).collect::<Vec<_>>());
    put(&mut out, (events.len() - samples.len()) as u64);
    for (index, event) in events.iter().enumerate() {
        if !matches!(event, Event::Sample(_)) {
            let bytes = match event {
                Event::Latencies(latencies) => written(latencies),
                Event::Meters { at, readings } => metered(*at, readings),
                event => to_json(event)?,
            };
            put(&mut out, index as u64);
            put(&mut out, bytes.len() as u64);
            out.extend(bytes);
        }
    }
    Ok(out)
}

/// Latencies, second by second, are too many for text.
fn written(latencies: &Latencies) -> Vec<u8> {
    let mut out = vec![LATENCIES];
    put(&mut out, nanos(latencies.end));
    put(&mut out, nanos(latencies.span));
    put(&mut out, u64::from(latencies.leg) << 1 | u64::from(latencies.whose == Whose::Lookout));
    latencies.counts.write(&mut out);
    out
}

/// Meters, second by second, are too many for text as well.
fn metered(at: Duration, readings: &[MeterReading]) -> Vec<u8> {
    let mut out = vec![METERS];
    put(&mut out, nanos(at));
    put(&mut out, readings.len() as u64);
    for MeterReading { name, value } in readings {
        put(&mut out, name.len() as u64);
        out.extend(name.as_bytes());
        out.push(value.unit as u8);
        put_signed(&mut out, value.micros);
    }
    out
}

fn meters(bytes: &[u8]) -> Result<Event, BatchError> {
    let mut r = Reader { bytes, at: 1, what: "meters" };
    let damaged = |what: &str| BatchError::Damaged(format!("{what} of a meter that makes no sense"));
    let at = Duration::from_nanos(r.get()?);
    let count = r.count(bytes.len())?;
    let mut readings = Vec::with_capacity(count);
    for _ in 0..count {
        let length = r.count(bytes.len())?;
        let name = String::from_utf8(r.slice(length)?.to_vec()).map_err(|_| damaged("the name"))?;
        let unit = MeterUnit::ALL.get(usize::from(r.byte()?)).copied().ok_or_else(|| damaged("the unit"))?;
        readings.push(MeterReading { name, value: MeterValue { unit, micros: r.get_signed()? } });
    }
    Ok(Event::Meters { at, readings })
}

fn latencies(bytes: &[u8]) -> Result<Latencies, BatchError> {
    let mut r = Reader { bytes, at: 1, what: "latencies" };
    let (end, span, leg) = (r.get()?, r.get()?, r.get()?);
    let counts = Histogram::read(&mut &bytes[r.at..]);
    Ok(Latencies {
        end: Duration::from_nanos(end),
        span: Duration::from_nanos(span),
        leg: narrow(leg >> 1, "leg")?,
        whose: if leg & 1 == 1 { Whose::Lookout } else { Whose::Load },
        counts: counts.ok_or_else(|| BatchError::Damaged("latencies that make no sense".into()))?,
    })
}

/// Longer than any haul: a century.
const LONGEST: Duration = Duration::from_secs(100 * 365 * 86_400);
/// More than any drive moves in an interval: an exbibyte.
const MOST_BYTES: u64 = 1 << 60;

fn narrow<T: TryFrom<u64>>(v: u64, what: &str) -> Result<T, BatchError> {
    T::try_from(v).map_err(|_| BatchError::Damaged(format!("{v} is no {what}")))
}

/// Reads a batch. `from_json` reads the events that are no samples.
///
/// # Errors
/// When the bytes are torn, damaged or from a newer program; never panics.
pub fn decode(
    bytes: &[u8],
    from_json: impl Fn(&[u8]) -> Result<Event, String>,
) -> Result<Vec<Event>, BatchError> {
    let mut r = Reader { bytes, at: 0, what: "version" };
    let version = r.byte()?;
    if !(1..=VERSION).contains(&version) {
        return Err(BatchError::Version { found: version });
    }
    r.what = "samples";
    // Every sample takes at least six bytes, so a count that the bytes cannot hold is refused before allocating.
    let n = r.count(bytes.len())?;
    let ends = r.column("end", n)?;
    let spans = r.column("span", n)?;
    let legs = r.column("leg", n)?;
    let written = r.column("written", n)?;
    let read = r.column("read", n)?;
    let position = r.optional("position", n)?;
    let temperature = r.optional("temperature", n)?;
    let operations = r.optional("operations", n)?;
    let p50 = r.optional("p50", n)?;
    let p99 = r.optional("p99", n)?;
    let max = r.optional("max", n)?;
    let other = r.optional("other", n)?;
    let errors = r.column("errors", n)?;
    let fill = r.optional("fill", n)?;
    let busy = if version == 1 { vec![None; n] } else { r.optional("busy", n)? };
    let sample = |i: usize| -> Result<Sample, BatchError> {
        let latency = match (operations[i], p50[i], p99[i], max[i]) {
            (Some(n), Some(a), Some(b), Some(c)) => Some(LatencySummary {
                operations: narrow(n, "count of operations")?,
                p50_us: narrow(a, "latency")?,
                p99_us: narrow(b, "latency")?,
                max_us: narrow(c, "latency")?,
            }),
            _ => None,
        };
        // Nothing takes a century: sums of what is read here cannot run over.
        let within = |v: u64, most: Duration| u128::from(v) <= most.as_nanos();
        if !within(ends[i], LONGEST) || !within(spans[i], LONGEST) {
            return Err(BatchError::Damaged("a time beyond a century".into()));
        }
        if written[i] > MOST_BYTES || read[i] > MOST_BYTES {
            return Err(BatchError::Damaged("more bytes in a sample than any drive has".into()));
        }
        Ok(Sample {
            end: Duration::from_nanos(ends[i]),
            span: Duration::from_nanos(spans[i]),
            leg: narrow(legs[i], "leg")?,
            written: Bytes::new(written[i]),
            read: Bytes::new(read[i]),
            position: position[i].map(Bytes::new),
            temperature: temperature[i]
                .map(|t| i32::try_from(t as i64).map(Celsius::from_millis))
                .transpose()
                .map_err(|_| BatchError::Damaged("a temperature out of range".into()))?,
            latency,
            other: other[i].map(Bytes::new),
            errors: narrow(errors[i], "count of errors")?,
            fill_ppm: fill[i].map(|f| narrow(f, "fill")).transpose()?,
            host_busy_ppm: busy[i].map(|b| narrow(b, "share")).transpose()?,
        })
    };
    r.what = "other events";
    let others = r.count(bytes.len())?;
    let mut events = Vec::with_capacity(n + others);
    let mut next = 0;
    for _ in 0..others {
        let index = r.count(n + others)?;
        let len = r.count(bytes.len())?;
        let json = r.slice(len)?;
        while events.len() < index && next < n {
            events.push(Event::Sample(sample(next)?));
            next += 1;
        }
        if events.len() != index {
            return Err(BatchError::Damaged(format!("an event stands at index {index}, which is taken")));
        }
        let event = match json.first() {
            Some(&LATENCIES) => Event::Latencies(Box::new(latencies(json)?)),
            Some(&METERS) => meters(json)?,
            _ => from_json(json).map_err(BatchError::Damaged)?,
        };
        if event.at() > LONGEST {
            return Err(BatchError::Damaged("a time beyond a century".into()));
        }
        events.push(event);
    }
    for i in next..n {
        events.push(Event::Sample(sample(i)?));
    }
    Ok(events)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn to_json(e: &Event) -> Result<Vec<u8>, serde_json::Error> {
        serde_json::to_vec(e)
    }
    fn from_json(b: &[u8]) -> Result<Event, String> {
        serde_json::from_slice(b).map_err(|e| e.to_string())
    }

    fn any_event() -> impl Strategy<Value = Event> {
        let opt = |s: core::ops::Range<u64>| proptest::option::of(s);
        let sample = (
            (0u64..3_000_000_000_000_000_000, 0u64..1 << 40, 0u16..9, 0u64..1 << 50, 0u64..1 << 50),
            (
                opt(0..u64::MAX),
                proptest::option::of(-60_000i32..150_000),
                opt(0..1 << 40),
                0u32..9,
                opt(0..1_000_001),
            ),
            proptest::option::of((0u32..1000, any::<u32>(), any::<u32>(), any::<u32>())),
        )
            .prop_map(|((end, span, leg, written, read), (position, t, other, errors, fill), l)| {
                Event::Sample(Sample {
                    end: Duration::from_nanos(end),
                    span: Duration::from_nanos(span),
                    leg,
                    written: Bytes::new(written),
                    read: Bytes::new(read),
                    position: position.map(Bytes::new),
                    temperature: t.map(Celsius::from_millis),
                    latency: l.map(|(operations, p50_us, p99_us, max_us)| LatencySummary {
                        operations,
                        p50_us,
                        p99_us,
                        max_us,
                    }),
                    other: other.map(Bytes::new),
                    errors,
                    fill_ppm: fill.map(|f| f as u32),
                    host_busy_ppm: position.map(|p| p as u32),
                })
            });
        let note = (any::<u32>(), ".{0,12}")
            .prop_map(|(at, text)| Event::Note { at: Duration::from_millis(at.into()), text });
        let latencies = (
            0u32..9,
            any::<u32>(),
            any::<u16>(),
            any::<bool>(),
            proptest::collection::vec((0u64..1 << 45, 0u64..9000), 0..50),
        )
            .prop_map(|(span, end, leg, lookout, points)| {
                Event::Latencies(Box::new(Latencies {
                    end: Duration::from_millis(end.into()),
                    span: Duration::from_secs(span.into()),
                    leg,
                    whose: if lookout { Whose::Lookout } else { Whose::Load },
                    counts: Histogram::of(points),
                }))
            });
        let reading = (".{0,9}", 0..MeterUnit::ALL.len(), any::<i64>()).prop_map(|(name, unit, micros)| {
            MeterReading { name, value: MeterValue { unit: MeterUnit::ALL[unit], micros } }
        });
        let meters = (any::<u32>(), proptest::collection::vec(reading, 0..4))
            .prop_map(|(at, readings)| Event::Meters { at: Duration::from_millis(at.into()), readings });
        prop_oneof![5 => sample, 1 => note, 2 => latencies, 1 => meters]
    }

    proptest! {
        #[test]
        fn what_is_encoded_decodes_to_itself(events in proptest::collection::vec(any_event(), 0..60)) {
            let bytes = encode(&events, to_json).unwrap();
            prop_assert_eq!(decode(&bytes, from_json).unwrap(), events);
        }

        #[test]
        fn a_torn_batch_is_an_error_and_no_panic(
            events in proptest::collection::vec(any_event(), 1..20), cut in 0.0f64..1.0
        ) {
            let bytes = encode(&events, to_json).unwrap();
            let cut = (bytes.len() as f64 * cut) as usize;
            prop_assert!(decode(&bytes[..cut], from_json).is_err());
        }

        #[test]
        fn garbage_is_an_error_and_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = decode(&bytes, from_json);
            for version in 1..=VERSION {
                let mut versioned = vec![version];
                versioned.extend(&bytes);
                let _ = decode(&versioned, from_json);
            }
        }
    }

    #[test]
    fn a_steady_haul_costs_few_bytes_a_sample() {
        let events: Vec<Event> = (1..=1000u64)
            .map(|i| {
                Event::Sample(Sample {
                    end: Duration::from_millis(i * 100),
                    span: Duration::from_millis(100),
                    written: Bytes::from_mib(300 + i % 3),
                    position: Some(Bytes::from_mib(300 * i)),
                    temperature: Some(Celsius::new(61.0)),
                    ..Sample::default()
                })
            })
            .collect();
        let bytes = encode(&events, to_json).unwrap();
        assert!(bytes.len() < 1000 * 24, "{} bytes for 1,000 samples", bytes.len());
    }
}
