//! Text in lines of a width: figures stay with their units.

use super::words::{cells, cells_of};

/// Breaks text at spaces into lines of at most `width` cells; a longer word is cut.
#[must_use]
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    if width == 0 {
        return Vec::new();
    }
    // A figure that is wider than the line with its unit is taken apart again.
    let parts = words(text).into_iter().flat_map(|w| match w.rsplit_once(' ') {
        Some((a, b)) if cells(&w) > width => vec![a.to_owned(), b.to_owned()],
        _ => vec![w],
    });
    let mut used = 0;
    for word in parts {
        let length = cells(&word);
        if used > 0 && used + 1 + length > width {
            lines.push(String::new());
            used = 0;
        } else if used > 0
            && let Some(line) = lines.last_mut()
        {
            line.push(' ');
            used += 1;
        }
        for c in word.chars() {
            if used + cells_of(c) > width {
                lines.push(String::new());
                used = 0;
            }
            if let Some(line) = lines.last_mut() {
                line.push(c);
                used += cells_of(c);
            }
        }
    }
    lines
}

/// What stands behind a figure and is kept with it.
const UNITS: [&str; 16] =
    ["MB/s", "GB/s", "B", "kB", "MB", "GB", "TB", "°C", "K", "µs", "ms", "s", "min", "h", "%", "dips"];

/// Words, with the groups of a figure (`4 706`) and its unit kept together.
fn words(text: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for word in text.split(' ') {
        let three = word.chars().take(3).filter(char::is_ascii_digit).count() == 3
            && word.chars().nth(3).is_none_or(|c| !c.is_alphanumeric());
        let bare = word.trim_end_matches(['.', ',', ';', ':', ')']);
        let unit = UNITS.contains(&bare);
        match all.last_mut() {
            Some(last) if unit && last.ends_with(|c: char| c.is_ascii_digit()) => {
                last.push(' ');
                last.push_str(word);
            }
            Some(last) if three && last.ends_with(|c: char| c.is_ascii_digit()) => {
                last.push(' ');
                last.push_str(word);
            }
            _ => all.push(word.to_owned()),
        }
    }
    all
}
