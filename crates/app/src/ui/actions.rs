//! Every action by name, with its key and the view it belongs to. Keys, help and the `:` list all read this table.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

pub use super::bindings::{BINDINGS, Binding};

/// Which view is on screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Screen {
    /// All drives.
    Yard,
    /// What to do on one.
    Route,
    /// A haul, live or kept.
    Haul,
    /// What its surveys say: by position, by span, by fill.
    Surveys,
    /// Health and wear of one drive.
    Vitals,
    /// All hauls.
    Ledger,
    /// Hauls side by side.
    Contrast,
    /// Drives of one kind taken together.
    Batch,
    /// The benches of the fleet.
    Benches,
    /// All that is known of one drive.
    DriveFile,
}

impl Screen {
    /// Each of them.
    pub const ALL: [Self; 10] = [
        Self::Yard,
        Self::Route,
        Self::Haul,
        Self::Surveys,
        Self::Vitals,
        Self::Ledger,
        Self::Contrast,
        Self::Batch,
        Self::Benches,
        Self::DriveFile,
    ];
}

impl Screen {
    /// Its name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Yard => "Yard",
            Self::Route => "Route",
            Self::Haul => "Haul",
            Self::Surveys => "Surveys",
            Self::Vitals => "Vitals",
            Self::Ledger => "Ledger",
            Self::Contrast => "Contrast",
            Self::Batch => "Batch",
            Self::Benches => "Benches",
            Self::DriveFile => "Drive file",
        }
    }

    /// The question that it answers.
    #[must_use]
    pub const fn question(self) -> &'static str {
        match self {
            Self::Yard => "What hauls, how far is it, what is wrong, and which drives are here?",
            Self::Route => "What shall be done on this drive, and what will it cost?",
            Self::Haul => "What happens on the drive, where, and why?",
            Self::Surveys => "Which stretches are slow, and what changes with place, span, fill?",
            Self::Vitals => "Is the drive well, and what did the last haul do to it?",
            Self::Ledger => "Which hauls were there, and what was found?",
            Self::Contrast => "What differs between these hauls by more than the noise?",
            Self::Batch => "What may be promised of all such drives, and which are odd?",
            Self::Benches => "Who is there, what hauls, how far is it, and what is wrong?",
            Self::DriveFile => "How was this drive treated, what is it like, and how long will it last?",
        }
    }
}

/// What the user can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs, reason = "each is said in words in the table below")]
pub enum Action {
    Up,
    Down,
    First,
    Last,
    Open,
    Back,
    Help,
    Find,
    Quit,
    GoYard,
    GoLedger,
    Watch,
    Filter,
    OtherPane,
    Start,
    TurnRuler,
    Pause,
    SkipLeg,
    /// Find out by experiments why the rate fell.
    FindOut,
    Stop,
    Note,
    Faster,
    Slower,
    CursorLeft,
    CursorRight,
    ZoomIn,
    ZoomOut,
    PanLeft,
    PanRight,
    Whole,
    Export,
    Tidy,
    Simulated,
    Vitals,
    LookAgain,
    ShortTest,
    ExtendedTest,
    EndTest,
    /// Take the drives of hauls together.
    Together,
    /// Show the hauls of all benches, or of this one.
    Fleet,
    GoBenches,
    Mark,
    NextFlag,
    FlagBefore,
    Lapse,
    Hold,
    Surveys,
    Group,
    SideBySide,
    DriveFile,
    Rename,
    Tags,
    Delete,
    Undo,
    Report,
    Ambient,
    Controls,
    PageUp,
    PageDown,
    LeapLeft,
    LeapRight,
    Follow,
    ClearMarks,
    MarkGroup,
    Sort,
    Reverse,
    Again,
    Queue,
    AddLeg,
    CopyLeg,
    LegUp,
    LegDown,
    SaveRoute,
    Continue,
    Redraw,
}

fn is(key: &KeyEvent, word: &str) -> bool {
    let shift = key.modifiers.contains(KeyModifiers::SHIFT);
    match word {
        // Taken before letters are.
        "Ctrl-L" => false,
        "Home" => key.code == KeyCode::Home,
        "End" => key.code == KeyCode::End,
        "PgUp" => key.code == KeyCode::PageUp,
        "PgDn" => key.code == KeyCode::PageDown,
        "⇧←" => key.code == KeyCode::Left && shift,
        "⇧→" => key.code == KeyCode::Right && shift,
        "Enter" => key.code == KeyCode::Enter,
        "Tab" => key.code == KeyCode::Tab,
        "Space" => key.code == KeyCode::Char(' '),
        "Esc" => key.code == KeyCode::Esc,
        "←" => key.code == KeyCode::Left && !shift,
        "→" => key.code == KeyCode::Right && !shift,
        "↑" => key.code == KeyCode::Up,
        "↓" => key.code == KeyCode::Down,
        _ => word.chars().next().is_some_and(|c| key.code == KeyCode::Char(c)),
    }
}

/// The action of a key in a view.
#[must_use]
pub fn action(screen: Screen, key: &KeyEvent) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return match key.code {
            KeyCode::Char('c') => Some(Action::Quit),
            KeyCode::Char('l') => Some(Action::Redraw),
            _ => None,
        };
    }
    available(screen).find(|b| b.all_keys().any(|k| is(key, k))).map(|b| b.action)
}

/// What can be done in a view.
pub fn available(screen: Screen) -> impl Iterator<Item = &'static Binding> {
    BINDINGS.iter().filter(move |b| b.screens.is_empty() || b.screens.contains(&screen))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_means_one_thing_in_all_views() {
        for a in BINDINGS {
            for b in BINDINGS {
                let shared = a.all_keys().find(|k| b.all_keys().any(|other| other == *k));
                assert!(shared.is_none() || a.action == b.action, "{}: {} and {}", a.keys, a.name, b.name);
                let twice = a.action == b.action && !std::ptr::eq(a, b);
                let together = Screen::ALL.iter().any(|s| {
                    let here = |x: &Binding| x.screens.is_empty() || x.screens.contains(s);
                    here(a) && here(b)
                });
                assert!(!(twice && together), "{} stands twice in one view", a.name);
            }
        }
    }

    #[test]
    fn no_line_of_the_help_is_cut() {
        for b in BINDINGS {
            assert!(b.help.chars().count() <= 49 && b.name.chars().count() <= 18, "{}: {}", b.name, b.help);
        }
        for screen in Screen::ALL {
            assert!(screen.question().chars().count() <= 72, "{}", screen.question());
        }
    }

    #[test]
    fn keys_find_their_actions() {
        let key = |c| KeyEvent::new(c, KeyModifiers::NONE);
        assert_eq!(action(Screen::Haul, &key(KeyCode::Char('r'))), Some(Action::TurnRuler));
        assert_eq!(action(Screen::Yard, &key(KeyCode::Char('r'))), None);
        assert_eq!(action(Screen::Ledger, &key(KeyCode::Up)), Some(Action::Up));
    }
}
