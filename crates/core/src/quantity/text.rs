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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_stay_letters_and_what_a_terminal_obeys_is_shown() {
        assert_eq!(named("38 °X, Küche, 温度, \"it's\""), "38 °X, Küche, 温度, \"it's\"");
        assert_eq!(named("a\u{1b}[2Jb\n\u{202e}"), "a\\u{1b}[2Jb\\n\\u{202e}");
    }
}
