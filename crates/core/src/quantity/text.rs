//! Text from users, drives and files, as it may be shown.

/// What a terminal would obey, or show in another order or not at all: controls, marks of direction, characters without width.
#[must_use]
pub fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

/// What was given, to be named in a message: as it was written, but for what a terminal would obey, which is shown by its code.
#[must_use]
pub fn named(given: &str) -> String {
    given.chars().fold(String::new(), |mut out, c| {
        if is_unsafe(c) {
            out.extend(c.escape_default());
        } else {
            out.push(c);
        }
        out
    })
}

/// Turns a byte offset in `text` into a line and a column, both from 1, the column in characters.
#[must_use]
pub fn line_and_column(text: &str, offset: usize) -> (usize, usize) {
    let mut offset = offset.min(text.len());
    while !text.is_char_boundary(offset) {
        offset -= 1;
    }
    let before = &text[..offset];
    let start = before.rfind('\n').map_or(0, |i| i + 1);
    (before.matches('\n').count() + 1, before[start..].chars().count() + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_stay_letters_and_what_a_terminal_obeys_is_shown() {
        assert_eq!(named("38 °X, Küche, 温度, \"it's\""), "38 °X, Küche, 温度, \"it's\"");
        assert_eq!(named("a\u{1b}[2Jb\n\u{202e}"), "a\\u{1b}[2Jb\\n\\u{202e}");
    }
}
