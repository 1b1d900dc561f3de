//! Words that everything shares: moments, spans, and text that a terminal can be given.

use std::time::Duration;

use hollow_mile_core::conclude::limits::Judged;
pub use hollow_mile_core::quantity::text::is_unsafe;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// How a limit stands, in a line.
#[must_use]
pub fn limit(l: &Judged) -> String {
    let of = if l.standing { "limit of its model" } else { "limit" };
    format!("{of}  {:<6}  {}  ({})", l.verdict.word(), l.limit, l.because)
}

/// A moment in UTC after RFC 3339: `2026-09-14T06:30:00Z`.
#[must_use]
pub fn timestamp(unix_ms: i64) -> String {
    jiff::Timestamp::from_millisecond(unix_ms).map_or_else(|_| String::new(), |t| t.to_string())
}

/// A moment in this machine's time zone: `2026-09-14 08:30`.
#[must_use]
pub fn local_time(unix_ms: i64) -> String {
    jiff::Timestamp::from_millisecond(unix_ms).map_or_else(
        |_| String::new(),
        |t| t.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string(),
    )
}

/// The text without what a terminal would obey: names come from drives and files.
#[must_use]
pub fn printable(text: &str) -> String {
    let safe = |c: char| if is_unsafe(c) && !matches!(c, '\n' | '\t') { '\u{fffd}' } else { c };
    text.chars().map(safe).collect()
}

/// A JSON text with the same in escapes: they stand in strings alone, and the reader gets them as they were.
#[must_use]
pub fn escaped_json(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    for c in json.chars() {
        if is_unsafe(c) && c != '\n' {
            out.push_str(&format!("\\u{:04x}", u32::from(c)));
        } else {
            out.push(c);
        }
    }
    out
}

/// A day in this machine's time zone: `2026-09-14`.
#[must_use]
pub fn date(unix_ms: i64) -> String {
    local_time(unix_ms).split(' ').next().unwrap_or_default().to_owned()
}

/// A span as people say it: `32 min`, `1 h 20 min`, `40 s`.
#[must_use]
pub fn about(span: Duration) -> String {
    let s = span.as_secs();
    match s {
        0..=90 => format!("{s} s"),
        91..=5_399 => format!("{} min", (s + 30) / 60),
        5_400..=172_799 => format!("{} h {} min", s / 3600, s / 60 % 60),
        _ => format!("{} d {} h", s / 86_400, s / 3600 % 24),
    }
}

/// Keeps the hauls that have all of these words.
pub fn keep_with(rows: &mut Vec<hollow_mile_ledger::HaulRow>, filter: &[String]) {
    let wanted: Vec<String> = filter.iter().map(|w| w.to_lowercase()).collect();
    rows.retain(|r| {
        let hay = haystack(r);
        wanted.iter().all(|w| hay.contains(w.as_str()))
    });
}

/// All that a list of hauls can be searched for, in small letters.
#[must_use]
pub fn haystack(row: &hollow_mile_ledger::HaulRow) -> String {
    let c = &row.conditions;
    let mut words = vec![
        row.haul.as_str(),
        &row.drive,
        &row.model,
        &row.serial,
        &row.route,
        row.state.word(),
        &row.summary,
        &row.limits,
    ];
    for more in [&row.label, &row.note, &c.cooling, &c.slot] {
        words.extend(more.as_deref());
    }
    let mut hay = words.join(" ");
    if let Some(ambient) = c.ambient {
        hay.push_str(&format!(" {ambient}"));
    }
    for (k, v) in &c.tags {
        hay.push_str(&format!(" {k}={v}"));
    }
    hay.to_lowercase()
}

/// Cells of a terminal that a text takes: signs of East Asia take two, marks over letters none.
#[must_use]
pub fn cells(text: &str) -> usize {
    text.width()
}

/// The cells of one character.
#[must_use]
pub fn cells_of(c: char) -> usize {
    c.width().unwrap_or(0)
}

/// Cuts text to so many cells, with a mark where something is missing.
#[must_use]
pub fn fit(text: &str, width: usize) -> String {
    if cells(text) <= width {
        return text.to_owned();
    }
    let (mut cut, mut used) = (String::new(), 0);
    for c in text.chars() {
        used += cells_of(c);
        if used + 1 > width {
            break;
        }
        cut.push(c);
    }
    if width > 0 {
        cut.push('…');
    }
    cut
}

/// Columns with two spaces between them, as wide as their widest cell.
#[must_use]
pub fn table(rows: &[Vec<String>]) -> String {
    laid_out(rows, &widths_of(rows))
}

/// The same, no wider than this: what is widest is cut first.
#[must_use]
pub fn table_within(rows: &[Vec<String>], most: usize) -> String {
    /// Narrower than this a column says nothing.
    const LEAST: usize = 6;
    let mut widths = widths_of(rows);
    let gaps = 2 * widths.len().saturating_sub(1);
    while widths.iter().sum::<usize>() + gaps > most {
        let Some(widest) = widths.iter_mut().max_by_key(|w| **w).filter(|w| **w > LEAST) else { break };
        *widest -= 1;
    }
    laid_out(rows, &widths)
}

fn widths_of(rows: &[Vec<String>]) -> Vec<usize> {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width = |c: usize| rows.iter().filter_map(|r| r.get(c)).map(|t| cells(t)).max().unwrap_or(0);
    (0..columns).map(width).collect()
}

fn laid_out(rows: &[Vec<String>], widths: &[usize]) -> String {
    let padded = |(t, w): (&String, &usize)| {
        let t = fit(t, *w);
        let room = w.saturating_sub(cells(&t));
        format!("{t}{}", " ".repeat(room))
    };
    let line = |row: &Vec<String>| {
        let cells: Vec<String> = row.iter().zip(widths).map(padded).collect();
        cells.join("  ").trim_end().to_owned()
    };
    rows.iter().map(line).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_cut_and_put_in_columns_by_cells() {
        assert_eq!((cells("größe"), cells("容量"), cells("e\u{301}")), (5, 4, 1));
        assert_eq!(
            (fit("Moraine", 7).as_str(), fit("Moraine", 4).as_str(), fit("Moraine", 0).as_str()),
            ("Moraine", "Mor…", "")
        );
        // Half of a sign of two cells cannot be shown.
        assert_eq!((fit("容量 8", 4).as_str(), cells(&fit("容量 8", 4))), ("容…", 3));
        let rows = [["容量", "a"], ["size", "b"], ["x", "c"]].map(|r| r.map(String::from).to_vec());
        assert_eq!(table(&rows), "容量  a\nsize  b\nx     c");
        let long = [["KW-0417", "cache-end 312.4 GB and 4 more"], ["KW-0118", "nothing found"]];
        let long = long.map(|r| r.map(String::from).to_vec());
        assert_eq!(table_within(&long, 20), "KW-0417  cache-end …\nKW-0118  nothing fo…");
        assert_eq!(table_within(&long, 200), table(&long), "what fits stays as it is");
    }
}
