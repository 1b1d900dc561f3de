//! `export`: samples, findings or figures of a haul as CSV, JSON or Parquet.

use crate::told::words;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use clap::ValueEnum;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::MeterReading;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, FreightSecond, HaulHead, Sample, Whose};
use hollow_mile_core::route::LegKind;
use hollow_mile_ledger::csv;
use parquet::basic::{Compression, Repetition, Type as Physical, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType, Int64Type};
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;

use super::archive::{Existing, create};
use super::open_ledger;
use crate::error::{AppError, Exit};

/// How a haul is written out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ExportKind {
    /// Comma-separated, a row an interval (or a finding, or a figure)
    Csv,
    /// One JSON document
    Json,
    /// Columns, compressed
    Parquet,
}

/// What of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Of {
    /// Every interval
    Samples,
    /// What was found, with places and evidence
    Findings,
    /// Figures with their intervals
    Figures,
    /// How many operations took how long, second by second
    Latencies,
    /// What happened to files, second by second
    Freight,
    /// What meters beside the drive said
    Meters,
}

/// What is written out, and where to.
#[derive(Debug, clap::Args)]
pub struct ExportArgs {
    /// A haul: id, unique beginning of one, or `last`
    haul: String,
    /// How
    #[arg(long = "as", value_enum, default_value = "csv")]
    kind: ExportKind,
    /// What
    #[arg(long, value_enum, default_value = "samples")]
    of: Of,
    /// File to write; standard output without it
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Write over a file that exists
    #[arg(long)]
    force: bool,
}

/// A column of a table, with what is missing left out.
pub(super) enum Cells {
    Number(Vec<Option<f64>>),
    Count(Vec<Option<i64>>),
    Text(Vec<Option<String>>),
}

/// A table that all three forms are written from.
pub(super) struct Table {
    pub columns: Vec<(&'static str, Cells)>,
}

pub(super) fn count(v: u64) -> i64 {
    i64::try_from(v).unwrap_or(i64::MAX)
}

/// What holds of each sample beside itself, in order: whether the load was off, and the drive's count of thermal transitions.
fn beside(events: &[Event]) -> (Vec<bool>, Vec<Option<u64>>) {
    let (mut paused, mut transitions) = (false, None);
    let (mut off, mut counted) = (Vec::new(), Vec::new());
    let mut ended = None;
    for event in events {
        match event {
            // The leg's own load is off in experiments as well.
            Event::Paused { .. } | Event::InquiryStarted { .. } => paused = true,
            Event::Resumed { .. } | Event::InquiryEnded { .. } | Event::LegStarted { .. } => paused = false,
            Event::Vitals { at, vitals } => {
                transitions = vitals.thermal_transitions;
                // A reading of the same moment belongs to the sample that ends with it.
                if let Some(last) = counted.last_mut().filter(|_| ended == Some(*at)) {
                    *last = transitions;
                }
            }
            Event::Sample(s) => {
                ended = Some(s.end);
                off.push(paused);
                counted.push(transitions);
            }
            _ => {}
        }
    }
    (off, counted)
}

/// The columns of the telemetry CSV, over all samples.
pub(super) fn samples(events: &[Event]) -> Table {
    let all: Vec<&Sample> = events
        .iter()
        .filter_map(|e| match e {
            Event::Sample(s) => Some(s),
            _ => None,
        })
        .collect();
    let number = |of: &dyn Fn(&Sample) -> Option<f64>| Cells::Number(all.iter().map(|s| of(s)).collect());
    let integer =
        |of: &dyn Fn(&Sample) -> Option<u64>| Cells::Count(all.iter().map(|s| of(s).map(count)).collect());
    let sums = |of: &dyn Fn(&Sample) -> Option<u64>| {
        let mut sum = 0u64;
        let running = all.iter().map(|s| {
            of(s).map(|v| {
                sum += v;
                count(sum)
            })
        });
        Cells::Count(running.collect())
    };
    let latency = |of: fn(&hollow_mile_core::drive::LatencySummary) -> u32| {
        Cells::Count(all.iter().map(|s| s.latency.as_ref().map(|l| i64::from(of(l)))).collect())
    };
    let (off, transitions) = beside(events);
    let legs = events.iter().find_map(|e| match e {
        Event::HaulStarted(head) => Some(head.route.legs.as_slice()),
        _ => None,
    });
    let kind = |s: &Sample| legs.and_then(|l| l.get(usize::from(s.leg))).map_or(LegKind::Write, |l| l.kind);
    let kinds = all.iter().zip(off).map(|(s, off)| if off { LegKind::Rest } else { kind(s) });
    Table {
        columns: vec![
            ("elapsed_s", number(&|s| Some(s.end.as_secs_f64()))),
            ("leg", integer(&|s| Some(s.leg.into()))),
            ("leg_kind", Cells::Text(kinds.map(|k| Some(k.word().to_owned())).collect())),
            ("written_bytes", sums(&|s| Some(s.written.get()))),
            ("read_bytes", sums(&|s| Some(s.read.get()))),
            ("position_bytes", integer(&|s| s.position.map(Bytes::get))),
            ("temperature_c", number(&|s| s.temperature.map(Celsius::degrees))),
            ("operations", latency(|l| l.operations)),
            ("latency_p50_us", latency(|l| l.p50_us)),
            ("latency_p99_us", latency(|l| l.p99_us)),
            ("latency_max_us", latency(|l| l.max_us)),
            ("other_bytes", sums(&|s| s.other.map(Bytes::get))),
            ("errors", sums(&|s| Some(s.errors.into()))),
            ("fill_percent", number(&|s| s.fill_ppm.map(|f| f64::from(f) / 1e4))),
            ("thermal_transitions", Cells::Count(transitions.into_iter().map(|t| t.map(count)).collect())),
            ("host_busy_percent", number(&|s| s.host_busy_ppm.map(|f| f64::from(f) / 1e4))),
            ("interval_s", number(&|s| Some(s.span.as_secs_f64()))),
        ],
    }
}

pub(super) fn findings(c: &Conclusions) -> Table {
    let all = &c.findings;
    let number = |of: &dyn Fn(&hollow_mile_core::conclude::Finding) -> Option<f64>| {
        Cells::Number(all.iter().map(of).collect())
    };
    let bytes = |of: &dyn Fn(&hollow_mile_core::conclude::Finding) -> Option<Bytes>| {
        Cells::Count(all.iter().map(|f| of(f).map(|b| count(b.get()))).collect())
    };
    Table {
        columns: vec![
            ("kind", Cells::Text(all.iter().map(|f| Some(f.kind.word().to_owned())).collect())),
            ("elapsed_s", number(&|f| Some(f.elapsed.as_secs_f64()))),
            ("end_elapsed_s", number(&|f| f.end_elapsed.map(|e| e.as_secs_f64()))),
            ("transition_s", number(&|f| f.transition.map(|e| e.as_secs_f64()))),
            ("written_bytes", bytes(&|f| Some(f.written))),
            ("written_low", bytes(&|f| Some(f.written_low))),
            ("written_high", bytes(&|f| Some(f.written_high))),
            ("position_bytes", bytes(&|f| f.position)),
            ("position_end_bytes", bytes(&|f| f.position_end)),
            ("before_mb_s", number(&|f| f.before.map(|r| r.mb_s()))),
            ("after_mb_s", number(&|f| f.after.map(|r| r.mb_s()))),
            ("temperature_c", number(&|f| f.temperature.map(Celsius::degrees))),
            ("confidence", number(&|f| Some(f.confidence))),
            ("evidence", Cells::Text(all.iter().map(|f| Some(f.evidence.join(" "))).collect())),
        ],
    }
}

/// A row a bin of each second, of the load and of the lookout.
fn latencies(events: &[Event]) -> Table {
    let stretches = events.iter().filter_map(|e| match e {
        Event::Latencies(l) => Some(l),
        _ => None,
    });
    let rows: Vec<_> = stretches.flat_map(|l| l.counts.bins().map(move |b| (l, b))).collect();
    let us = |ns: u64| Some(ns as f64 / 1e3);
    let whose = |w: Whose| match w {
        Whose::Load => "load",
        Whose::Lookout => "lookout",
    };
    Table {
        columns: vec![
            ("elapsed_s", Cells::Number(rows.iter().map(|(l, _)| Some(l.end.as_secs_f64())).collect())),
            ("span_s", Cells::Number(rows.iter().map(|(l, _)| Some(l.span.as_secs_f64())).collect())),
            ("leg", Cells::Count(rows.iter().map(|(l, _)| Some(i64::from(l.leg))).collect())),
            ("whose", Cells::Text(rows.iter().map(|(l, _)| Some(whose(l.whose).to_owned())).collect())),
            ("from_us", Cells::Number(rows.iter().map(|(_, b)| us(b.from_ns)).collect())),
            ("to_us", Cells::Number(rows.iter().map(|(_, b)| us(b.to_ns)).collect())),
            ("operations", Cells::Count(rows.iter().map(|(_, b)| Some(count(b.count))).collect())),
        ],
    }
}

/// A row a reading of meters.
fn meters(events: &[Event]) -> Table {
    let moments = events.iter().filter_map(|e| match e {
        Event::Meters { at, readings } => Some((*at, readings)),
        _ => None,
    });
    let rows: Vec<_> = moments.flat_map(|(at, all)| all.iter().map(move |r| (at, r))).collect();
    let text =
        |of: &dyn Fn(&MeterReading) -> String| Cells::Text(rows.iter().map(|(_, r)| Some(of(r))).collect());
    Table {
        columns: vec![
            ("elapsed_s", Cells::Number(rows.iter().map(|(at, _)| Some(at.as_secs_f64())).collect())),
            ("meter", text(&|r| r.name.clone())),
            ("unit", text(&|r| r.value.unit.to_string())),
            ("value", Cells::Number(rows.iter().map(|(_, r)| Some(r.value.get())).collect())),
        ],
    }
}

/// A row a second of freight legs.
fn freight(events: &[Event]) -> Table {
    let rows: Vec<&FreightSecond> =
        events.iter().filter_map(|e| if let Event::Freight(f) = e { Some(&**f) } else { None }).collect();
    let seconds = |of: &dyn Fn(&FreightSecond) -> Duration| {
        Cells::Number(rows.iter().map(|r| Some(of(r).as_secs_f64())).collect())
    };
    let counts =
        |of: &dyn Fn(&FreightSecond) -> u64| Cells::Count(rows.iter().map(|r| Some(count(of(r)))).collect());
    let bytes = |of: &dyn Fn(&FreightSecond) -> Option<Bytes>| {
        Cells::Count(rows.iter().map(|r| of(r).map(|b| count(b.get()))).collect())
    };
    Table {
        columns: vec![
            ("elapsed_s", seconds(&|r| r.end)),
            ("span_s", seconds(&|r| r.span)),
            ("leg", counts(&|r| r.leg.into())),
            ("files", counts(&|r| r.done.files)),
            ("folders", counts(&|r| r.done.folders)),
            ("threads", counts(&|r| r.done.threads.into())),
            ("data_s", seconds(&|r| r.done.spent.data)),
            ("metadata_s", seconds(&|r| r.done.spent.metadata)),
            ("stalled_s", seconds(&|r| r.done.spent.stalled)),
            ("durable_s", seconds(&|r| r.done.spent.durable)),
            ("machine_s", seconds(&|r| r.done.spent.machine)),
            ("starved_s", seconds(&|r| r.done.spent.starved)),
            ("idle_s", seconds(&|r| r.done.spent.idle)),
            ("source_data_s", seconds(&|r| r.done.spent.source_data)),
            ("source_metadata_s", seconds(&|r| r.done.spent.source_metadata)),
            ("source_machine_s", seconds(&|r| r.done.spent.source_machine)),
            ("held_s", seconds(&|r| r.done.spent.held)),
            (
                "queue_percent",
                Cells::Number(rows.iter().map(|r| r.done.queue_ppm.map(|p| f64::from(p) / 1e4)).collect()),
            ),
            ("device_written_bytes", bytes(&|r| r.done.device_written)),
            ("device_read_bytes", bytes(&|r| r.done.device_read)),
            (
                "device_busy_s",
                Cells::Number(rows.iter().map(|r| r.done.device_busy.map(|d| d.as_secs_f64())).collect()),
            ),
            ("unwritten_bytes", bytes(&|r| r.done.unwritten)),
            (
                "source_temperature_c",
                Cells::Number(rows.iter().map(|r| r.done.source_temperature.map(Celsius::degrees)).collect()),
            ),
        ],
    }
}

pub(super) fn figures(r: &Readings, c: &Conclusions) -> Table {
    let digest = hollow_mile_core::archive::digest::Digest::of(r, c);
    let all = digest.figures;
    let unit = |f: &hollow_mile_core::archive::digest::Figure| {
        serde_json::to_value(f.quantity).ok().and_then(|v| v.as_str().map(str::to_owned))
    };
    Table {
        columns: vec![
            ("figure", Cells::Text(all.iter().map(|f| Some(f.name.to_string())).collect())),
            ("unit", Cells::Text(all.iter().map(unit).collect())),
            ("value", Cells::Number(all.iter().map(|f| Some(f.value)).collect())),
            ("low", Cells::Number(all.iter().map(|f| f.interval.map(|i| i.0)).collect())),
            ("high", Cells::Number(all.iter().map(|f| f.interval.map(|i| i.1)).collect())),
        ],
    }
}

impl Cells {
    pub fn len(&self) -> usize {
        match self {
            Self::Number(v) => v.len(),
            Self::Count(v) => v.len(),
            Self::Text(v) => v.len(),
        }
    }
    fn json(&self, i: usize) -> serde_json::Value {
        match self {
            Self::Number(v) => v[i].into(),
            Self::Count(v) => v[i].into(),
            Self::Text(v) => v[i].clone().into(),
        }
    }
}

/// A field of a CSV file, in quotes where it needs them.
fn field(v: &serde_json::Value) -> String {
    match v {
        serde_json::Value::Null => String::new(),
        serde_json::Value::String(s) if s.contains([',', '"', '\n', '\r']) => {
            format!("\"{}\"", s.replace('"', "\"\""))
        }
        serde_json::Value::String(s) => s.clone(),
        other => other.to_string(),
    }
}

impl Table {
    fn rows(&self) -> usize {
        self.columns.first().map_or(0, |c| c.1.len())
    }

    fn csv(&self) -> Vec<u8> {
        let names: Vec<&str> = self.columns.iter().map(|c| c.0).collect();
        let mut out = names.join(",") + "\n";
        for i in 0..self.rows() {
            let cells: Vec<String> = self.columns.iter().map(|c| field(&c.1.json(i))).collect();
            out.push_str(&cells.join(","));
            out.push('\n');
        }
        out.into_bytes()
    }

    fn json(&self) -> Vec<serde_json::Value> {
        let row = |i: usize| {
            let cells = self.columns.iter().map(|(n, c)| ((*n).to_owned(), c.json(i)));
            serde_json::Value::Object(cells.collect())
        };
        (0..self.rows()).map(row).collect()
    }

    /// Apache Parquet: an optional column each, zstd, what the record is of as key-value metadata.
    pub fn parquet(&self, about: Vec<KeyValue>) -> Result<Vec<u8>, parquet::errors::ParquetError> {
        let fields = self.columns.iter().map(|(name, cells)| {
            let (physical, logical) = match cells {
                Cells::Number(_) => (Physical::DOUBLE, None),
                Cells::Count(_) => (Physical::INT64, None),
                Cells::Text(_) => (Physical::BYTE_ARRAY, Some(parquet::basic::LogicalType::String)),
            };
            let built = Type::primitive_type_builder(name, physical)
                .with_repetition(Repetition::OPTIONAL)
                .with_logical_type(logical)
                .build()?;
            Ok(Arc::new(built))
        });
        let fields = fields.collect::<Result<Vec<_>, parquet::errors::ParquetError>>()?;
        let schema = Arc::new(Type::group_type_builder("haul").with_fields(fields).build()?);
        let properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(ZstdLevel::try_new(3)?))
            .set_created_by(format!("hollow-mile {}", env!("CARGO_PKG_VERSION")))
            .set_key_value_metadata(Some(about))
            .build();
        let mut out = Vec::new();
        let mut writer = SerializedFileWriter::new(&mut out, schema, Arc::new(properties))?;
        let mut group = writer.next_row_group()?;
        for (_, cells) in &self.columns {
            let Some(mut column) = group.next_column()? else { break };
            match cells {
                Cells::Number(v) => {
                    let (levels, values) = optional(v);
                    column.typed::<DoubleType>().write_batch(&values, Some(&levels), None)?;
                }
                Cells::Count(v) => {
                    let (levels, values) = optional(v);
                    column.typed::<Int64Type>().write_batch(&values, Some(&levels), None)?;
                }
                Cells::Text(v) => {
                    let bytes: Vec<Option<ByteArray>> =
                        v.iter().map(|t| t.as_deref().map(ByteArray::from)).collect();
                    let (levels, values) = optional(&bytes);
                    column.typed::<ByteArrayType>().write_batch(&values, Some(&levels), None)?;
                }
            }
            column.close()?;
        }
        group.close()?;
        writer.close()?;
        Ok(out)
    }
}

/// Definition levels, and the values that are there.
fn optional<T: Clone>(all: &[Option<T>]) -> (Vec<i16>, Vec<T>) {
    (all.iter().map(|v| i16::from(v.is_some())).collect(), all.iter().flatten().cloned().collect())
}

pub(super) fn about(head: &HaulHead) -> Vec<KeyValue> {
    let json = serde_json::to_string(head).unwrap_or_default();
    let pairs = [
        ("haul", head.haul.clone()),
        ("drive", head.drive.target.clone()),
        ("model", head.drive.model.clone()),
        ("serial", head.drive.serial.clone()),
        ("route", head.route.name.clone()),
        ("capacity_bytes", head.drive.capacity.get().to_string()),
        ("head", json),
    ];
    pairs.into_iter().map(|(k, v)| KeyValue { key: k.to_owned(), value: Some(v) }).collect()
}

pub fn run(args: &ExportArgs) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let row = ledger.haul(&args.haul)?;
    let mut events = Vec::new();
    ledger.replay(&row.haul, |e| events.push(e.clone()))?;
    let (readings, conclusions) = ledger.concluded(&row.haul)?;
    if let Some(kept) = row.kept_samples.filter(|_| matches!(args.of, Of::Samples)) {
        eprintln!(
            "haul {} was compacted: {kept} samples of {} are left, others are joined between its extremes; findings made from the file may differ from those that are kept",
            row.haul, row.samples
        );
    }
    let table = match args.of {
        Of::Samples => samples(&events),
        Of::Findings => findings(&conclusions),
        Of::Figures => figures(&readings, &conclusions),
        Of::Latencies => latencies(&events),
        Of::Freight => freight(&events),
        Of::Meters => meters(&events),
    };
    let bytes = match (args.kind, args.of) {
        // The telemetry CSV of the contract carries more than its rows: it comes back the same.
        (ExportKind::Csv, Of::Samples) => {
            let mut out = Vec::new();
            csv::export(&events, &mut out)
                .map_err(|e| AppError::usage(format!("haul {} cannot be written as CSV: {e}", row.haul)))?;
            out
        }
        (ExportKind::Csv, _) => table.csv(),
        (ExportKind::Json, of) => {
            let name = match of {
                Of::Samples => "samples",
                Of::Findings => "findings",
                Of::Figures => "figures",
                Of::Latencies => "latencies",
                Of::Freight => "freight",
                Of::Meters => "meters",
            };
            let document =
                serde_json::json!({ "haul": row.haul, "head": readings.head(), name: table.json() });
            let text = serde_json::to_string(&document)
                .map_err(|e| AppError::usage(format!("haul {} cannot be written as JSON: {e}", row.haul)))?;
            format!("{}\n", words::escaped_json(&text)).into_bytes()
        }
        (ExportKind::Parquet, _) => table
            .parquet(readings.head().map(about).unwrap_or_default())
            .map_err(|e| AppError::usage(format!("haul {} cannot be written as Parquet: {e}", row.haul)))?,
    };
    match &args.output {
        Some(path) => {
            let mut file = create(path, Existing::replace_if(args.force))?;
            file.write_all(&bytes).map_err(|e| AppError::file(path, "written", &e))?;
        }
        None if args.kind == ExportKind::Parquet && std::io::IsTerminal::is_terminal(&std::io::stdout()) => {
            return Err(AppError::usage("Parquet is not for a terminal: name a file with -o"));
        }
        None => match std::io::stdout().lock().write_all(&bytes) {
            Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
                return Err(AppError::machine(format!("standard output cannot be written: {e}")));
            }
            _ => {}
        },
    }
    Ok(Exit::Done)
}
