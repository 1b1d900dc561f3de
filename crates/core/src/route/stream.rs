//! A stream: a rate, as such or as the geometry that makes it.

use std::str::FromStr;

use serde::Serialize;

use crate::quantity::units::Rate;

/// A stream: a rate, or the geometry that makes it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Stream {
    /// Bytes a second.
    pub rate: Rate,
}

impl FromStr for Stream {
    type Err = String;

    /// `620 MB/s`, or factors that make bits a second: `16 channels x 24 bit x 96 kHz`, `4096 x 2160 x 30 bit x 60 Hz`.
    fn from_str(s: &str) -> Result<Self, String> {
        let expected = |what: &str| {
            format!(
                "{what}: give a rate (620 MB/s), or factors that make bits a second (16 channels x 24 bit x 96 kHz)"
            )
        };
        if let Ok(rate) = s.trim().parse::<Rate>() {
            return if rate.get() > 0.0 {
                Ok(Self { rate })
            } else {
                Err(expected("a stream needs a rate above zero"))
            };
        }
        let (mut bits, mut has_bits, mut has_time) = (1.0, false, false);
        for factor in s.split(['x', '×', '*']) {
            let factor = factor.trim();
            let digits = factor.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(factor.len());
            let number: f64 =
                factor[..digits].parse().map_err(|_| expected(&format!("'{factor}' is not a factor")))?;
            let scale = match factor[digits..].trim().to_ascii_lowercase().as_str() {
                "" | "channels" | "channel" | "samples" | "pixels" | "beams" | "lanes" | "sensors" => 1.0,
                "bit" | "bits" if !has_bits => {
                    has_bits = true;
                    1.0
                }
                "byte" | "bytes" if !has_bits => {
                    has_bits = true;
                    8.0
                }
                unit @ ("hz" | "khz" | "mhz" | "ghz" | "/s" | "per second" | "fps") if !has_time => {
                    has_time = true;
                    match unit {
                        "khz" => 1e3,
                        "mhz" => 1e6,
                        "ghz" => 1e9,
                        _ => 1.0,
                    }
                }
                other => {
                    return Err(expected(&format!("'{other}' in '{factor}' is not known, or given twice")));
                }
            };
            bits *= number * scale;
        }
        if !has_bits || !has_time {
            return Err(expected(&format!("'{s}' says no bits, or not how often")));
        }
        let rate = Rate::new(bits / 8.0);
        if rate.get() > 0.0 && rate.get().is_finite() {
            Ok(Self { rate })
        } else {
            Err(expected("a stream needs a rate above zero"))
        }
    }
}
