//! The curves of several hauls on one ruler. Along time and bytes each leg begins at one place for all of them, however long
//! the leg before it took in each; along position they lie as they are.

use std::time::Duration;

use crate::readings::{Column, Readings, Ruler};

/// A leg on the common ruler.
#[derive(Debug, Clone, PartialEq)]
pub struct Section {
    /// Index in the route.
    pub leg: u16,
    /// What it does, in a word.
    pub word: &'static str,
    /// Where it begins on the common ruler.
    pub from: f64,
    /// As long as the longest of all hauls.
    pub length: f64,
}

/// Hauls on one ruler.
#[derive(Debug, Clone, PartialEq)]
pub struct Overlay {
    /// Which.
    pub ruler: Ruler,
    /// Its length.
    pub extent: f64,
    /// Legs, in order; none along position.
    pub sections: Vec<Section>,
    /// Columns of each haul, in the order given.
    pub curves: Vec<Vec<Column>>,
}

/// Where the legs of a haul begin and end on a ruler.
fn legs(readings: &Readings, ruler: Ruler) -> Vec<(u16, f64, f64)> {
    let place = |at: Duration| match ruler {
        Ruler::Elapsed => at.as_secs_f64(),
        // What had been moved when it was so late.
        _ => {
            let series = readings.series();
            let i = series.index_at(at + Duration::from_nanos(1));
            if i >= series.len() { series.extent(ruler) } else { series.moved_before(i) as f64 }
        }
    };
    let all = readings.legs();
    all.iter()
        .enumerate()
        .map(|(i, l)| {
            let begin = if ruler == Ruler::Moved { l.moved_before.as_f64() } else { place(l.from) };
            let end = match all.get(i + 1) {
                Some(next) if ruler == Ruler::Moved => next.moved_before.as_f64(),
                Some(next) => place(next.from),
                None => readings.extent(ruler),
            };
            (l.leg, begin, end.max(begin))
        })
        .collect()
}

impl Overlay {
    /// Lays hauls over each other, so many columns wide.
    #[must_use]
    pub fn of(hauls: &[&Readings], ruler: Ruler, columns: usize) -> Self {
        if ruler == Ruler::Position {
            let extent = hauls.iter().map(|r| r.extent(ruler)).fold(0.0, f64::max);
            let curves = hauls.iter().map(|r| r.columns(ruler, 0.0, extent, columns)).collect();
            return Self { ruler, extent, sections: Vec::new(), curves };
        }
        let each: Vec<Vec<(u16, f64, f64)>> = hauls.iter().map(|r| legs(r, ruler)).collect();
        let mut order: Vec<u16> = each.iter().flatten().map(|l| l.0).collect();
        order.sort_unstable();
        order.dedup();
        let mut sections: Vec<Section> = Vec::new();
        let mut from = 0.0;
        for leg in order {
            let of = each.iter().flatten().filter(|l| l.0 == leg);
            let length = of.map(|l| l.2 - l.1).fold(0.0, f64::max);
            let word = hauls
                .iter()
                .find_map(|r| Some(r.head()?.route.legs.get(usize::from(leg))?.kind.word()))
                .unwrap_or("leg");
            sections.push(Section { leg, word, from, length });
            from += length;
        }
        let extent = from.max(f64::MIN_POSITIVE);
        let width = extent / columns.max(1) as f64;
        let curves = hauls
            .iter()
            .zip(&each)
            .map(|(readings, own)| {
                let mut out = vec![Column::default(); columns];
                for section in &sections {
                    let Some((_, begin, end)) = own.iter().find(|l| l.0 == section.leg) else { continue };
                    let first = (section.from / width).floor() as usize;
                    let past = (((section.from + (end - begin)) / width).ceil() as usize).min(columns);
                    if past <= first {
                        continue;
                    }
                    let low = begin + first as f64 * width - section.from;
                    let high = begin + past as f64 * width - section.from;
                    let part = readings.columns(ruler, low.max(*begin), high.min(*end), past - first);
                    for (slot, column) in out[first..past].iter_mut().zip(part) {
                        if column != Column::default() {
                            *slot = column;
                        }
                    }
                }
                out
            })
            .collect();
        Self { ruler, extent, sections, curves }
    }
}

#[cfg(test)]
#[path = "overlay_tests.rs"]
mod tests;
