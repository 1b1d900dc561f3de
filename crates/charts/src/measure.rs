//! How wide words are in the fonts that come with the program, and how a text is broken into lines.

use std::sync::OnceLock;

use ttf_parser::Face as Font;

/// The font of text.
pub const REGULAR: &[u8] = include_bytes!("../fonts/sans.ttf");
/// Its heavy cut.
pub const BOLD: &[u8] = include_bytes!("../fonts/sans-bold.ttf");

/// Which cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Face {
    /// For text.
    Regular,
    /// For titles.
    Bold,
}

fn font(face: Face) -> Option<&'static Font<'static>> {
    static FONTS: OnceLock<[Option<Font<'static>>; 2]> = OnceLock::new();
    let fonts = FONTS.get_or_init(|| [Font::parse(REGULAR, 0).ok(), Font::parse(BOLD, 0).ok()]);
    fonts[usize::from(face == Face::Bold)].as_ref()
}

/// The text without control characters, and with a sign for each character that the fonts do not have.
#[must_use]
pub fn writable(text: &str) -> String {
    text.chars()
        .map(|c| match c {
            c if c.is_control() => ' ',
            '\u{202f}' | '\u{2009}' => '\u{a0}',
            c if is_known(c) => c,
            _ => '\u{fffd}',
        })
        .collect()
}

fn is_known(c: char) -> bool {
    font(Face::Regular).is_some_and(|f| f.glyph_index(c).is_some())
}

/// The characters of a text that the fonts do not have.
pub fn lacking(text: &str) -> impl Iterator<Item = char> + '_ {
    text.chars().filter(|c| !c.is_control() && !matches!(c, '\u{202f}' | '\u{2009}') && !is_known(*c))
}

/// Width of a text, in the unit of `size`; kerning is left out.
#[must_use]
pub fn width(text: &str, size: f64, face: Face) -> f64 {
    let Some(font) = font(face) else { return 0.0 };
    let one = |c: char| font.glyph_index(c).and_then(|g| font.glyph_hor_advance(g)).unwrap_or(0);
    let units: f64 = text.chars().map(|c| f64::from(one(c))).sum();
    units / f64::from(font.units_per_em()) * size
}

/// Units that stand with their figure on one line.
const UNITS: [&str; 15] =
    ["MB/s", "GB/s", "B", "kB", "MB", "GB", "TB", "°C", "K", "µs", "ms", "s", "min", "h", "%"];

/// The text with unbreakable spaces within figures and before their units: `4 706 MB/s`.
fn kept_together(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for (i, word) in text.split(' ').enumerate() {
        let group = word.chars().take_while(char::is_ascii_digit).count() == 3
            && word.chars().nth(3).is_none_or(|c| !c.is_alphanumeric());
        let unit = UNITS.contains(&word.trim_end_matches(['.', ',', ';', ':', ')']));
        if i > 0 {
            let figure = out.ends_with(|c: char| c.is_ascii_digit());
            out.push(if figure && (group || unit) { '\u{a0}' } else { ' ' });
        }
        out.push_str(word);
    }
    out
}

/// Breaks a text into lines no wider than this, at spaces; a word that is wider stands alone, cut.
#[must_use]
pub fn lines(text: &str, size: f64, face: Face, most: f64) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    let mut line = String::new();
    let text = kept_together(text);
    for word in text.split(' ') {
        let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
        if !line.is_empty() && width(&longer, size, face) > most {
            out.push(std::mem::take(&mut line));
            line = fitting(word, size, face, most);
        } else {
            line = fitting(&longer, size, face, most);
        }
    }
    out.push(line);
    out
}

/// The text, or as much of it as fits, with a sign that there was more.
#[must_use]
pub fn fitting(text: &str, size: f64, face: Face, most: f64) -> String {
    if width(text, size, face) <= most {
        return text.to_owned();
    }
    let mut cut: String = text.to_owned();
    while !cut.is_empty() && width(&cut, size, face) + width("…", size, face) > most {
        cut.pop();
    }
    format!("{}…", cut.trim_end())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_no_wider_than_asked_and_lose_no_word() {
        let text =
            "The cache ended at 312.4 GB (± 0.6 GB); since then 142 MB/s, steady, at 61 °C in the bay.";
        for most in [60.0, 120.0, 400.0] {
            let all = lines(text, 10.0, Face::Regular, most);
            assert!(all.iter().all(|l| width(l, 10.0, Face::Regular) <= most), "{all:?}");
            assert_eq!(all.join(" ").replace('\u{a0}', " "), text);
        }
        let all = lines("from 4 706 MB/s to 1 786 MB/s", 10.0, Face::Regular, 70.0);
        assert!(all.iter().any(|l| l.contains("4\u{a0}706\u{a0}MB/s")), "{all:?}");
        assert!(fitting(&"m".repeat(50), 10.0, Face::Regular, 50.0).ends_with('…'));
    }

    #[test]
    fn the_font_has_what_charts_write() {
        let signs = "0123456789 MB/s µs °C ≥ ≤ ± × → − – — “” Größe Ω Δ σ τ № Кит";
        assert_eq!(writable(signs), signs);
        assert_eq!(writable("a\u{1b}[2J漢"), "a [2J\u{fffd}");
    }
}
