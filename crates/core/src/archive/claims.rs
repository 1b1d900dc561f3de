//! Claims: what the maker states for a model, in a TOML file, and how a haul stands against them.

use crate::quantity::text::{line_and_column, named};
use serde::{Deserialize, Serialize};

use crate::archive::digest::{Digest, LoadFigure};
use crate::drive::{LoadKind, Pattern};
use crate::quantity::plain;
use crate::quantity::units::{Bytes, Celsius, Rate, grouped, significant};
use crate::quantity::{FigureId, Quantity};

/// Operations per second: `"900000 IOPS"`, `"900k IOPS"`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct PerSecond(f64);

impl PerSecond {
    /// The number.
    #[must_use]
    pub const fn get(self) -> f64 {
        self.0
    }
}

impl TryFrom<String> for PerSecond {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        let wrong = || format!("\"{}\" is not a number of operations such as 900k IOPS", named(&text));
        let number = text.trim().strip_suffix("IOPS").ok_or_else(wrong)?.trim();
        let (digits, scale) = match number.strip_suffix(['k', 'K']) {
            Some(d) => (d, 1e3),
            None => number.strip_suffix('M').map_or((number, 1.0), |d| (d, 1e6)),
        };
        let digits: String = digits.chars().filter(|c| !matches!(c, ' ' | '_')).collect();
        let value = digits.parse::<f64>().map_err(|_| wrong())? * scale;
        if value.is_finite() && value > 0.0 { Ok(Self(value)) } else { Err(wrong()) }
    }
}

impl From<PerSecond> for String {
    fn from(v: PerSecond) -> Self {
        format!("{} IOPS", v.0)
    }
}

/// What a maker states for a model.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Claims {
    /// The model, as the drive says it.
    pub model: String,
    /// Where that is stated.
    #[serde(default)]
    pub source: String,
    /// Sequential writes, "up to": what the cache takes.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub write: Option<Rate>,
    /// Sequential writes that last, where the maker states them.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub sustained_write: Option<Rate>,
    /// Sequential reads.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub read: Option<Rate>,
    /// Random reads of 4 KiB.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub random_read: Option<PerSecond>,
    /// Random writes of 4 KiB.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub random_write: Option<PerSecond>,
    /// Write cache.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub cache: Option<Bytes>,
    /// Bytes that may be written over its life (TBW).
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub endurance: Option<Bytes>,
    /// Years of warranty.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warranty_years: Option<f64>,
    /// Highest temperature at which it keeps its speed.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub full_speed_to: Option<Celsius>,
    /// Highest temperature at which it may run.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub operating_to: Option<Celsius>,
    /// Whatever else.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub notes: String,
}

/// Letters and digits are the same.
pub(super) fn same_model(a: &str, b: &str) -> bool {
    let plain = |t: &str| -> String {
        t.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
    };
    plain(a) == plain(b)
}

/// What is wrong with a TOML file, with line and column.
pub(super) fn at_line(text: &str, e: &toml::de::Error) -> String {
    let (line, column) = line_and_column(text, e.span().map_or(0, |s| s.start));
    format!("line {line}, column {column}: {}", e.message().replace('\n', " "))
}

/// A figure that was measured: value, interval, and by what.
type Found = (f64, Option<(f64, f64)>, String);

/// A figure against its claim.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Stands {
    /// What is claimed: `write, burst`.
    pub name: String,
    /// What it is a number of.
    pub unit: Quantity,
    /// As claimed.
    pub claimed: f64,
    /// As measured.
    pub measured: f64,
    /// Measured over claimed.
    pub ratio: f64,
    /// 95 % interval of the ratio, where the figure has one.
    pub interval: Option<(f64, f64)>,
    /// How it was measured.
    pub by: String,
}

/// What a haul cost of the endurance that is claimed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Cost {
    /// Bytes written.
    pub written_bytes: u64,
    /// Bytes claimed (TBW).
    pub endurance_bytes: u64,
    /// Share, 0 to 1.
    pub share: f64,
}

impl Claims {
    /// How a sequential write goes by what is claimed, so many bytes after the last rest: bytes and rate of each part. Without the size
    /// of the cache nobody claims how long "up to" holds, and what lasts counts for all. Empty where a part has no claim.
    #[must_use]
    pub fn sequential_write(&self, since_rest: Bytes, bytes: Bytes) -> Vec<(Bytes, Rate)> {
        let known = |r: Option<Rate>| r.filter(|r| r.get() > 0.0);
        let (fast, lasting) = (known(self.write), known(self.sustained_write));
        let parts = match self.cache {
            None => vec![(bytes, lasting.or(fast))],
            Some(cache) => {
                let held = cache.saturating_sub(since_rest).min(bytes);
                vec![(held, fast), (bytes.saturating_sub(held), lasting)]
            }
        };
        let parts = parts.into_iter().filter(|(bytes, _)| *bytes > Bytes::ZERO);
        parts.map(|(bytes, rate)| Some((bytes, rate?))).collect::<Option<_>>().unwrap_or_default()
    }

    /// Reads a claims file.
    ///
    /// # Errors
    /// With line and column: an unknown field, a wrong unit, a number out of place.
    pub fn parse(text: &str) -> Result<Self, String> {
        let claims: Self = toml::from_str(text).map_err(|e| at_line(text, &e))?;
        if claims.model.trim().is_empty() {
            return Err("model: a claims file names the model that it is of".into());
        }
        if claims.warranty_years.is_some_and(|y| !(y.is_finite() && y > 0.0 && y < 100.0)) {
            return Err("warranty_years: a number of years between 0 and 100 is needed".into());
        }
        let zero = |name: &str, v: Option<f64>| match v {
            Some(v) if v <= 0.0 => {
                Err(format!("{name}: a claim is more than nothing; leave it out where there is none"))
            }
            _ => Ok(()),
        };
        zero("write", claims.write.map(Rate::get))?;
        zero("sustained_write", claims.sustained_write.map(Rate::get))?;
        zero("read", claims.read.map(Rate::get))?;
        zero("cache", claims.cache.map(Bytes::as_f64))?;
        zero("endurance", claims.endurance.map(Bytes::as_f64))?;
        Ok(claims)
    }

    /// These claims are of this model: letters and digits are the same.
    #[must_use]
    pub fn is_of(&self, model: &str) -> bool {
        same_model(&self.model, model)
    }

    /// Drive writes per day over the warranty: endurance over capacity and days (JEDEC JESD218 states it so).
    #[must_use]
    pub fn drive_writes_per_day(&self, capacity: Bytes) -> Option<f64> {
        let days = self.warranty_years? * 365.25;
        (capacity > Bytes::ZERO).then_some(())?;
        Some(self.endurance?.as_f64() / capacity.as_f64() / days)
    }

    /// What so many bytes cost of the endurance.
    #[must_use]
    pub fn cost(&self, written: Bytes) -> Option<Cost> {
        let endurance = self.endurance?;
        Some(Cost {
            written_bytes: written.get(),
            endurance_bytes: endurance.get(),
            share: written.as_f64() / endurance.as_f64(),
        })
    }

    /// What the haul says of the claimed temperatures, in sentences; a ratio of temperatures would mean nothing.
    #[must_use]
    pub fn heat_words(&self, digest: &Digest) -> Vec<String> {
        let mut out = Vec::new();
        let throttle = digest.findings.iter().find(|f| f.kind == crate::quantity::FindingKind::Throttle);
        let hottest = digest.figure(FigureId::Hottest).map(|f| Celsius::new(f.value));
        match (self.full_speed_to, throttle.and_then(|f| f.temperature), hottest) {
            (Some(claimed), Some(at), _) => {
                let by = at.degrees() - claimed.degrees();
                let how = if by < -0.5 {
                    format!("{} sooner than claimed", Quantity::Kelvin.words(-by))
                } else {
                    "as claimed".into()
                };
                out.push(format!(
                    "full speed: throttled at {at}, claimed to keep its speed to {claimed}: {how}"
                ));
            }
            (Some(claimed), None, Some(hottest)) => {
                out.push(format!("full speed: kept up to {hottest}, claimed to {claimed}"));
            }
            _ => {}
        }
        if let Some((limit, hottest)) = self.operating_to.zip(hottest).filter(|(l, h)| h > l) {
            out.push(format!("operating: it was {hottest} warm, and may run up to {limit}"));
        }
        out
    }

    /// Each claim that the haul has a figure for. Burst and sustained stand apart.
    #[must_use]
    pub fn against(&self, digest: &Digest) -> Vec<Stands> {
        let mut out = Vec::new();
        let mut put = |name: &str, unit, claimed: Option<f64>, found: Option<Found>| {
            if let Some((claimed, (measured, interval, by))) = claimed.zip(found) {
                out.push(Stands {
                    name: name.into(),
                    unit,
                    claimed,
                    measured,
                    ratio: measured / claimed,
                    interval: interval.map(|(l, h)| (l / claimed, h / claimed)),
                    by,
                });
            }
        };
        let figure = |id: FigureId| {
            digest.figure(id).map(|f| (f.value, f.interval, format!("{} of this haul", id.name())))
        };
        // Burst and sustained are figures of writes only where the haul is one of writes at full speed.
        let writes = digest.treatment.written_bytes > digest.treatment.read_bytes && !digest.paced;
        let whole = |id: FigureId| figure(id).filter(|_| writes);
        let rate = |f: &LoadFigure| f.rate;
        let best = |kind: LoadKind, random: bool, block: Option<u64>, of: &dyn Fn(&LoadFigure) -> f64| {
            let fits = |l: &&LoadFigure| {
                l.kind == kind
                    && (l.pattern == Pattern::Random) == random
                    && block.is_none_or(|b| l.block_bytes == b)
            };
            let best = digest.loads.iter().filter(fits).max_by(|a, b| of(a).total_cmp(&of(b)))?;
            let scale = of(best) / best.rate.max(1.0);
            Some((of(best), best.interval.map(|(l, h)| (l * scale, h * scale)), best.words()))
        };
        let burst = whole(FigureId::Burst).or_else(|| best(LoadKind::Write, false, None, &rate));
        put("write, burst", Quantity::Rate, self.write.map(Rate::get), burst);
        // What lasts is shown beside the burst that is claimed, since it is what people get.
        let sustained = self.sustained_write.or(self.write).map(Rate::get);
        let name = if self.sustained_write.is_some() {
            "write, sustained"
        } else {
            "write, sustained (burst claimed)"
        };
        put(
            name,
            Quantity::Rate,
            sustained,
            whole(FigureId::Sustained).filter(|_| digest.figure(FigureId::Cache).is_some()),
        );
        put("read", Quantity::Rate, self.read.map(Rate::get), best(LoadKind::Read, false, None, &rate));
        let iops = LoadFigure::operations_per_s;
        let four = Some(4096);
        let random = |kind| best(kind, true, four, &iops);
        put("random read", Quantity::PerSecond, self.random_read.map(PerSecond::get), random(LoadKind::Read));
        put(
            "random write",
            Quantity::PerSecond,
            self.random_write.map(PerSecond::get),
            random(LoadKind::Write),
        );
        put("cache", Quantity::Bytes, self.cache.map(Bytes::as_f64), figure(FigureId::Cache));
        out
    }
}

impl Stands {
    /// `write, burst: 3 180 MB/s of 6 500 MB/s claimed, 0.49 (0.48 to 0.50)`.
    #[must_use]
    pub fn words(&self) -> String {
        let interval =
            self.interval.map(|(l, h)| format!(" ({} to {})", three(l), three(h))).unwrap_or_default();
        format!(
            "{}: {} of {} claimed, {}{interval}; by {}",
            self.name,
            self.unit.words(self.measured),
            self.unit.words(self.claimed),
            three(self.ratio),
            self.by
        )
    }
}

/// A ratio, to three places.
#[must_use]
pub fn three(v: f64) -> String {
    if v < 0.1 { significant((v * 1e4).round() / 1e4) } else { format!("{v:.3}") }
}

/// Endurance, which makers state in terabytes however many: `2 400 TB`.
#[must_use]
pub fn terabytes(bytes: u64) -> String {
    format!("{} TB", grouped((bytes as f64 / 1e12).round() as u64))
}

impl Cost {
    /// `wrote 800 GB, 0.033 % of the 2400 TB that the maker allows over its life`.
    #[must_use]
    pub fn words(&self) -> String {
        let percent = self.share * 100.0;
        let shown = if percent >= 0.1 { format!("{percent:.1}") } else { significant(percent) };
        format!(
            "wrote {}, {shown} % of the {} that the maker allows over its life",
            Bytes::new(self.written_bytes),
            terabytes(self.endurance_bytes)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::archive::digest::Figure;

    const TEXT: &str = "model = \"Ptarmigan 4 TB\"\nwrite = \"3500 MB/s\"\nrandom_read = \"550k IOPS\"\nendurance = \"2400 TB\"\nwarranty_years = 5\n";

    #[test]
    fn a_wrong_unit_is_told_with_its_line() {
        let e = Claims::parse(&TEXT.replace("3500 MB/s", "3500 GB")).unwrap_err();
        assert!(e.starts_with("line 2, column 9") && e.contains("3500 GB"), "{e}");
        let e = Claims::parse(&TEXT.replace("550k IOPS", "550k/s")).unwrap_err();
        assert!(e.starts_with("line 3") && e.contains("900k IOPS"), "{e}");
        assert!(Claims::parse(&TEXT.replace("write =", "wriet =")).unwrap_err().contains("wriet"));
        assert!(Claims::parse("model = \"\"").is_err());
        assert!(Claims::parse(&TEXT.replace("= 5", "= -5")).is_err());
    }

    #[test]
    fn temperatures_are_told_in_kelvin_and_not_as_ratios() {
        let claims = Claims {
            full_speed_to: Some(Celsius::new(82.0)),
            operating_to: Some(Celsius::new(70.0)),
            ..Claims::default()
        };
        let mut digest = crate::archive::digest::Digest::of(
            &crate::readings::Readings::new(),
            &crate::conclude::Conclusions::default(),
        );
        assert!(claims.heat_words(&digest).is_empty());
        digest.figures.push(Figure::of(FigureId::Hottest, 77.0, None));
        assert_eq!(
            claims.heat_words(&digest),
            [
                "full speed: kept up to 77 °C, claimed to 82 °C",
                "operating: it was 77 °C warm, and may run up to 70 °C"
            ]
        );
        digest.findings.push(crate::conclude::Finding {
            temperature: Some(Celsius::new(77.0)),
            ..crate::conclude::Finding::new(crate::quantity::FindingKind::Throttle)
        });
        assert!(claims.heat_words(&digest)[0].contains("5 K sooner than claimed"));
    }

    #[test]
    fn burst_and_sustained_stand_apart_and_a_paced_haul_judges_neither() {
        let claims = Claims::parse(TEXT).unwrap();
        let mut digest = crate::archive::digest::Digest::of(
            &crate::readings::Readings::new(),
            &crate::conclude::Conclusions::default(),
        );
        digest.treatment.written_bytes = 1;
        for (id, value) in [(FigureId::Burst, 3150e6), (FigureId::Sustained, 140e6), (FigureId::Cache, 312e9)]
        {
            digest.figures.push(Figure::of(id, value, Some((value * 0.99, value * 1.01))));
        }
        let told: Vec<(String, f64)> =
            claims.against(&digest).into_iter().map(|s| (s.name, s.ratio)).collect();
        assert_eq!(told.len(), 2, "{told:?}");
        assert!((told[0].1 - 0.9).abs() < 1e-12 && (told[1].1 - 0.04).abs() < 1e-12, "{told:?}");
        assert_eq!(told[1].0, "write, sustained (burst claimed)");
        let words = claims.against(&digest)[0].words();
        assert_eq!(
            words,
            "write, burst: 3 150 MB/s of 3 500 MB/s claimed, 0.900 (0.891 to 0.909); by burst of this haul"
        );
        digest.paced = true;
        assert!(claims.against(&digest).is_empty());
    }

    #[test]
    fn claims_read_back() {
        let c = Claims::parse(TEXT).unwrap();
        assert_eq!(Claims::parse(&toml::to_string(&c).unwrap()).unwrap(), c);
        assert!(c.is_of("PTARMIGAN-4TB") && !c.is_of("Ptarmigan 1 TB"));
        // 2400 TB over 4 TB and 1826.25 days.
        assert!((c.drive_writes_per_day(Bytes::from_gb(4000)).unwrap() - 0.3285).abs() < 1e-3);
        let cost = c.cost(Bytes::from_gb(800)).unwrap();
        assert_eq!(cost.words(), "wrote 800 GB, 0.033 % of the 2 400 TB that the maker allows over its life");
    }
}
