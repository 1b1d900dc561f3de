//! Composite loads: operations of several sizes by share, over parts of a region by share of the accesses. Drawn by the alias method
//! (A. J. Walker, ACM TOMS 3, 1977; M. D. Vose, IEEE TSE 17, 1991): one look into a table for each operation.

use super::permutation::spread;
use crate::quantity::plain::Plain;
use crate::quantity::units::{Bytes, ParseUnitError};

/// A size of operations and their share of all: `67 % 4 KiB`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SizeShare {
    /// Bytes of one operation.
    pub block: Bytes,
    /// Percent of all operations.
    pub percent: f64,
}

/// A part of the region and the share of accesses that go there: `50 % in 5 %`. Parts lie one after the other from its start.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PartShare {
    /// Percent of all operations.
    pub percent: f64,
    /// Percent of the region.
    pub of_region: f64,
}

fn percent(text: &str, what: &'static str) -> Result<f64, ParseUnitError> {
    let number = text.trim().trim_end_matches('%').trim().parse::<f64>().ok();
    number.filter(|p| *p > 0.0 && *p <= 100.0).ok_or_else(|| ParseUnitError::new(text, what))
}

impl Plain for SizeShare {
    fn plain(&self) -> String {
        format!("{} % {}", self.percent, self.block.binary())
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        let (share, block) = text
            .split_once('%')
            .ok_or_else(|| ParseUnitError::new(text, "a share and a size: give one such as 67 % 4 KiB"))?;
        let percent = percent(share, "a share of the operations: give one such as 67 %")?;
        Ok(Self { block: Bytes::read(block.trim())?, percent })
    }
}

impl Plain for PartShare {
    fn plain(&self) -> String {
        format!("{} % in {} %", self.percent, self.of_region)
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        const WHAT: &str = "a share of the operations and of the region: give one such as 50 % in 5 %";
        let (share, part) = text.split_once(" in ").ok_or_else(|| ParseUnitError::new(text, WHAT))?;
        Ok(Self { percent: percent(share, WHAT)?, of_region: percent(part, WHAT)? })
    }
}

/// What a composite load draws from.
#[derive(Debug, Clone, PartialEq)]
pub struct Mixture {
    /// Sizes; at least one.
    pub sizes: Vec<SizeShare>,
    /// Parts of the region; empty where all of it is alike.
    pub parts: Vec<PartShare>,
}

impl Mixture {
    /// Size of the largest operation.
    #[must_use]
    pub fn largest(&self) -> Bytes {
        self.sizes.iter().map(|s| s.block).max().unwrap_or_default()
    }

    /// Mean size of an operation.
    #[must_use]
    pub fn mean(&self) -> Bytes {
        let whole: f64 = self.sizes.iter().map(|s| s.percent).sum();
        let sum: f64 = self.sizes.iter().map(|s| s.percent * s.block.as_f64()).sum();
        Bytes::new((sum / whole.max(f64::MIN_POSITIVE)).round() as u64)
    }
}

/// An operation that was drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Drawn {
    /// It writes.
    pub write: bool,
    /// First byte.
    pub address: u64,
    /// Bytes.
    pub length: u32,
}

#[derive(Debug, Clone, Copy)]
struct Outcome {
    write: bool,
    length: u32,
    /// First address, and how many there are, each so long after the one before.
    first: u64,
    places: u64,
}

/// Draws operations of a mixture over a region.
#[derive(Debug, Clone)]
pub struct Draw {
    outcomes: Vec<Outcome>,
    /// For each cell: below this of 2^32 its own outcome, else that of the other cell.
    cells: Vec<(u32, u32)>,
    seed: u64,
    count: u64,
}

impl Draw {
    /// Over the region from `start` to `end`; `read_percent` of the operations read.
    ///
    /// `None` where no operation fits.
    #[must_use]
    pub fn new(mixture: &Mixture, start: u64, end: u64, read_percent: u8, seed: u64) -> Option<Self> {
        let whole = [PartShare { percent: 100.0, of_region: 100.0 }];
        let parts = if mixture.parts.is_empty() { &whole[..] } else { &mixture.parts };
        let reads = f64::from(read_percent) / 100.0;
        let (mut outcomes, mut weights) = (Vec::new(), Vec::new());
        let mut from = 0.0;
        for part in parts {
            let at = |share: f64| start + ((end - start) as f64 * (share / 100.0).min(1.0)) as u64;
            let (low, high) = (at(from), at(from + part.of_region));
            from += part.of_region;
            for size in &mixture.sizes {
                let length = size.block.get().max(1);
                // On a multiple of its size, as file systems lay their blocks.
                let first = low.next_multiple_of(length);
                let places = high.saturating_sub(first) / length;
                for (write, share) in [(true, 1.0 - reads), (false, reads)] {
                    let weight = part.percent * size.percent * share;
                    if places > 0 && weight > 0.0 {
                        outcomes.push(Outcome { write, length: length as u32, first, places });
                        weights.push(weight);
                    }
                }
            }
        }
        (!outcomes.is_empty()).then(|| Self { cells: alias(&weights), outcomes, seed, count: 0 })
    }

    /// The next operation.
    #[allow(clippy::should_implement_trait, reason = "it never ends")]
    pub fn next(&mut self) -> Drawn {
        self.count += 1;
        let (one, two) = (spread(self.seed, 2 * self.count), spread(self.seed, 2 * self.count + 1));
        // The upper half chooses the cell, the lower one of its two outcomes.
        let cell = (((one >> 32) * self.cells.len() as u64) >> 32) as usize;
        let (below, other) = self.cells[cell];
        let outcome = self.outcomes[if (one as u32) < below { cell } else { other as usize }];
        let place = ((u128::from(two) * u128::from(outcome.places)) >> 64) as u64;
        Drawn {
            write: outcome.write,
            address: outcome.first + place * u64::from(outcome.length),
            length: outcome.length,
        }
    }
}

/// Vose's tables: each cell holds at most two outcomes, and all cells are as likely.
fn alias(weights: &[f64]) -> Vec<(u32, u32)> {
    let n = weights.len();
    let sum: f64 = weights.iter().sum();
    let mut left: Vec<f64> = weights.iter().map(|w| w / sum * n as f64).collect();
    let mut cells = vec![(u32::MAX, 0u32); n];
    let (mut small, mut large): (Vec<usize>, Vec<usize>) = (0..n).partition(|i| left[*i] < 1.0);
    while let (Some(s), Some(l)) = (small.pop(), large.last().copied()) {
        cells[s] = ((left[s] * f64::from(u32::MAX)) as u32, l as u32);
        left[l] -= 1.0 - left[s];
        if left[l] < 1.0 {
            large.pop();
            small.push(l);
        }
    }
    // What is left over differs from one by rounding alone.
    for i in small.into_iter().chain(large) {
        cells[i] = (u32::MAX, i as u32);
    }
    cells
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mixture(sizes: &[&str], parts: &[&str]) -> Mixture {
        Mixture {
            sizes: sizes.iter().map(|s| SizeShare::read(s).unwrap()).collect(),
            parts: parts.iter().map(|p| PartShare::read(p).unwrap()).collect(),
        }
    }

    /// The enterprise workload of JEDEC JESD219.
    #[test]
    fn shares_of_sizes_and_of_parts_are_what_was_asked() {
        let m = mixture(
            &[
                "4 % 512 B",
                "7 % 1536 B",
                "67 % 4 KiB",
                "10 % 8 KiB",
                "7 % 16 KiB",
                "3 % 32 KiB",
                "3 % 64 KiB",
            ],
            &["50 % in 5 %", "30 % in 15 %", "20 % in 80 %"],
        );
        // By hand: (20.48 + 107.52 + 2744.32 + 819.2 + 1146.88 + 983.04 + 1966.08) / 1.01, since its shares come to 101 %.
        assert_eq!((m.largest().get(), m.mean().get()), (65_536, 7_710));
        let (start, end) = (1 << 30, 1u64 << 36);
        let mut draw = Draw::new(&m, start, end, 40, 7).unwrap();
        let n = 400_000;
        let (mut of_4k, mut reads, mut in_parts) = (0, 0, [0u32; 3]);
        for _ in 0..n {
            let d = draw.next();
            assert!(d.address >= start && d.address + u64::from(d.length) <= end);
            assert!(d.address.is_multiple_of(u64::from(d.length)), "{d:?}");
            of_4k += u32::from(d.length == 4096);
            reads += u32::from(!d.write);
            let share = (d.address - start) as f64 / (end - start) as f64;
            in_parts[if share < 0.05 {
                0
            } else if share < 0.2 {
                1
            } else {
                2
            }] += 1;
        }
        let share = |k: u32| f64::from(k) / f64::from(n);
        for (found, asked) in [
            (share(of_4k), 0.67 / 1.01),
            (share(reads), 0.4),
            (share(in_parts[0]), 0.5),
            (share(in_parts[1]), 0.3),
            (share(in_parts[2]), 0.2),
        ] {
            // Four standard errors of a share of so many draws.
            assert!((found - asked).abs() < 0.0032, "{found} for {asked}");
        }
    }

    #[test]
    fn places_are_spread_over_the_whole_of_a_part() {
        let mut draw = Draw::new(&mixture(&["100 % 4 KiB"], &[]), 0, 4096 * 100, 100, 3).unwrap();
        let mut seen = [0u32; 100];
        (0..20_000).for_each(|_| seen[(draw.next().address / 4096) as usize] += 1);
        assert!(seen.iter().all(|n| (130..275).contains(n)), "{seen:?}");
    }

    #[test]
    fn what_does_not_fit_is_left_out_and_nothing_is_said_of_nothing() {
        let m = mixture(&["50 % 4 KiB", "50 % 1 MiB"], &["90 % in 1 %", "10 % in 99 %"]);
        // The first part is smaller than a MiB.
        let mut draw = Draw::new(&m, 0, 16 << 20, 0, 1).unwrap();
        for _ in 0..2000 {
            let d = draw.next();
            assert!(d.length == 4096 || d.address >= 16 * 1024 * 1024 / 100, "{d:?}");
        }
        assert!(Draw::new(&mixture(&["100 % 1 MiB"], &[]), 0, 4096, 0, 1).is_none());
    }

    #[test]
    fn texts_read_back() {
        for text in ["67 % 4 KiB", "0.5 % 512 B"] {
            assert_eq!(SizeShare::read(text).unwrap().plain(), text);
        }
        assert_eq!(PartShare::read("50 % in 5 %").unwrap().plain(), "50 % in 5 %");
        for wrong in ["4 KiB", "0 % 4 KiB", "101 % 4 KiB", "x % 4 KiB", "50 % large"] {
            assert!(SizeShare::read(wrong).is_err(), "{wrong}");
        }
        for wrong in ["50 %", "50 % in", "50 % in 0 %", "-1 % in 5 %"] {
            assert!(PartShare::read(wrong).is_err(), "{wrong}");
        }
    }
}
