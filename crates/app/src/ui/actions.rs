//! Every action by name, with its key and the view it belongs to. Keys, help and the `:` list all read this table.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

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
    /// All that is known of one drive.
    DriveFile,
}

impl Screen {
    /// Each of them.
    pub const ALL: [Self; 8] = [
        Self::Yard,
        Self::Route,
        Self::Haul,
        Self::Surveys,
        Self::Vitals,
        Self::Ledger,
        Self::Contrast,
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
            Self::DriveFile => "Drive file",
        }
    }

    /// The question that it answers.
    #[must_use]
    pub const fn question(self) -> &'static str {
        match self {
            Self::Yard => "Which drives are here, what is each, and what is known of it?",
            Self::Route => "What shall be done on this drive, and what will it cost?",
            Self::Haul => "What happens on the drive, where, and why?",
            Self::Surveys => "Which stretches are slow, and what changes with place, span, fill?",
            Self::Vitals => "Is the drive well, and what did the last haul do to it?",
            Self::Ledger => "Which hauls were there, and what was found?",
            Self::Contrast => "What differs between these hauls by more than the noise?",
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
    Vitals,
    LookAgain,
    ShortTest,
    ExtendedTest,
    EndTest,
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
}

/// A key with its action.
pub struct Binding {
    /// Where it works; everywhere when `None`.
    pub screen: Option<Screen>,
    /// As shown.
    pub keys: &'static str,
    /// What it does.
    pub action: Action,
    /// Its name in the `:` list.
    pub name: &'static str,
    /// In a sentence.
    pub help: &'static str,
    /// Shown in the bottom row, in this short form.
    pub hint: Option<&'static str>,
}

const fn b(
    screen: Option<Screen>,
    keys: &'static str,
    action: Action,
    name: &'static str,
    help: &'static str,
    hint: Option<&'static str>,
) -> Binding {
    Binding { screen, keys, action, name, help, hint }
}

const YARD: Option<Screen> = Some(Screen::Yard);
const ROUTE: Option<Screen> = Some(Screen::Route);
const HAUL: Option<Screen> = Some(Screen::Haul);
const GROUND: Option<Screen> = Some(Screen::Surveys);
const VITALS: Option<Screen> = Some(Screen::Vitals);
const LEDGER: Option<Screen> = Some(Screen::Ledger);
const CONTRAST: Option<Screen> = Some(Screen::Contrast);
const FILE: Option<Screen> = Some(Screen::DriveFile);

/// All of them.
pub const BINDINGS: &[Binding] = &[
    b(YARD, "Enter", Action::Open, "plan a haul", "Choose a route for this drive.", Some("plan a haul")),
    b(YARD, "m", Action::Mark, "mark", "Mark it: a route starts on all marked ones.", Some("mark")),
    b(YARD, "w", Action::Watch, "watch", "Watch the haul that runs on this drive.", Some("watch")),
    b(YARD, "v", Action::Vitals, "vitals", "Health and wear of this drive.", Some("vitals")),
    b(
        YARD,
        "u",
        Action::LookAgain,
        "look again",
        "Look at every drive of this machine again.",
        Some("look again"),
    ),
    b(ROUTE, "v", Action::Vitals, "vitals", "Health and wear of this drive.", Some("vitals")),
    b(VITALS, "u", Action::LookAgain, "look again", "Ask the drive again.", Some("look again")),
    b(
        VITALS,
        "t",
        Action::ShortTest,
        "short self-test",
        "Let the drive test itself: minutes at most.",
        Some("short self-test"),
    ),
    b(
        VITALS,
        "E",
        Action::ExtendedTest,
        "extended self-test",
        "Let the drive test itself in full: up to hours.",
        Some("extended"),
    ),
    b(VITALS, "A", Action::EndTest, "end the self-test", "End the self-test that runs.", Some("end it")),
    b(YARD, "T", Action::Tidy, "tidy up", "Remove a file that a killed haul left behind.", None),
    b(ROUTE, "Enter", Action::Open, "edit", "Change the figure under the cursor.", Some("change")),
    b(
        ROUTE,
        "Tab",
        Action::OtherPane,
        "other pane",
        "Go between the routes and their figures.",
        Some("routes/figures"),
    ),
    b(ROUTE, "s", Action::Start, "start", "Start the haul.", Some("start")),
    b(
        HAUL,
        "r",
        Action::TurnRuler,
        "turn the ruler",
        "Lay the record along time, bytes, or position.",
        Some("ruler"),
    ),
    b(HAUL, "f", Action::NextFlag, "next flag", "Go to the next flag.", Some("flag")),
    b(HAUL, "F", Action::FlagBefore, "flag before", "Go to the flag before.", None),
    b(
        HAUL,
        "Enter",
        Action::Open,
        "evidence",
        "Read all of the first finding in the panel.",
        Some("evidence"),
    ),
    b(HAUL, "Tab", Action::OtherPane, "other page", "Findings, figures, or cache and heat.", Some("page")),
    b(HAUL, "m", Action::Mark, "mark", "Mark this place; two marks tell what is between.", Some("mark")),
    b(
        HAUL,
        "t",
        Action::Lapse,
        "time-lapse",
        "Let a haul that is over happen again, fast.",
        Some("time-lapse"),
    ),
    b(HAUL, "b", Action::Hold, "hold a stream", "Ask whether it held a stream with a buffer.", None),
    b(
        HAUL,
        "s",
        Action::Surveys,
        "surveys",
        "What its surveys say: stretches, spans, fill.",
        Some("surveys"),
    ),
    b(
        GROUND,
        "Tab",
        Action::OtherPane,
        "other survey",
        "Go to the next survey of this haul.",
        Some("survey"),
    ),
    b(
        GROUND,
        "h ←",
        Action::CursorLeft,
        "cursor left",
        "Read the values one column to the left.",
        Some("values"),
    ),
    b(GROUND, "l →", Action::CursorRight, "cursor right", "Read the values one column to the right.", None),
    b(GROUND, "+", Action::ZoomIn, "zoom in", "Show half as much, around the cursor.", Some("zoom")),
    b(GROUND, "-", Action::ZoomOut, "zoom out", "Show twice as much.", None),
    b(GROUND, "[", Action::PanLeft, "move left", "Move the window towards the first address.", None),
    b(GROUND, "]", Action::PanRight, "move right", "Move the window towards the last address.", None),
    b(GROUND, "0", Action::Whole, "show all", "Show the whole drive again.", None),
    b(HAUL, "n", Action::Note, "note", "Write words into the record at this moment.", Some("note")),
    b(HAUL, "Space", Action::Pause, "pause", "Take the load off, or put it on again.", Some("pause")),
    b(HAUL, ">", Action::Faster, "faster", "Let the clock of a simulated drive run faster.", None),
    b(HAUL, "<", Action::Slower, "slower", "Let the clock of a simulated drive run slower.", None),
    b(HAUL, "e", Action::SkipLeg, "end the leg", "Go on to the next leg.", None),
    b(HAUL, "C", Action::Controls, "controls", "Take the controls, or give them to others.", None),
    b(HAUL, "X", Action::Stop, "stop", "End the haul; what was recorded stays.", Some("stop")),
    b(HAUL, "x", Action::Export, "export chart", "Write the lanes as an SVG file.", Some("chart")),
    b(HAUL, "h ←", Action::CursorLeft, "cursor left", "Read the values one column to the left.", None),
    b(HAUL, "l →", Action::CursorRight, "cursor right", "Read the values one column to the right.", None),
    b(HAUL, "+", Action::ZoomIn, "zoom in", "Show half as much, around the cursor.", Some("zoom")),
    b(HAUL, "-", Action::ZoomOut, "zoom out", "Show twice as much.", None),
    b(HAUL, "[", Action::PanLeft, "move left", "Move the window towards the beginning.", None),
    b(HAUL, "]", Action::PanRight, "move right", "Move the window towards the end.", None),
    b(HAUL, "0", Action::Whole, "show all", "Show the whole haul again.", None),
    b(LEDGER, "Enter", Action::Open, "open", "Open the haul, as it was live.", Some("open")),
    b(LEDGER, "/", Action::Filter, "filter", "Show only hauls with these words.", Some("filter")),
    b(LEDGER, "m", Action::Mark, "mark", "Mark this haul to be set beside others.", Some("mark")),
    b(
        LEDGER,
        "c",
        Action::SideBySide,
        "contrast",
        "Set the marked hauls side by side.",
        Some("side by side"),
    ),
    b(LEDGER, "o", Action::Group, "group", "Group by drive, model, route, condition or tag.", Some("group")),
    b(
        LEDGER,
        "d",
        Action::DriveFile,
        "drive file",
        "All that is known of this haul's drive.",
        Some("drive file"),
    ),
    b(LEDGER, "r", Action::Rename, "rename", "Give this haul another name.", None),
    b(LEDGER, "t", Action::Tags, "tags", "Change the tags of this haul.", Some("tags")),
    b(LEDGER, "n", Action::Note, "note", "Write a note on this haul.", None),
    b(LEDGER, "D", Action::Delete, "delete", "Take the marked hauls, or this one, out.", None),
    b(LEDGER, "u", Action::Undo, "undo", "Put back what was deleted last.", None),
    b(
        LEDGER,
        "p",
        Action::Report,
        "report",
        "Write a PDF on this haul, or on the marked ones.",
        Some("report"),
    ),
    b(
        CONTRAST,
        "r",
        Action::TurnRuler,
        "turn the ruler",
        "Lay the hauls along time, bytes, or position.",
        Some("ruler"),
    ),
    b(
        CONTRAST,
        "Tab",
        Action::OtherPane,
        "other page",
        "Figures, findings, or what was different.",
        Some("page"),
    ),
    b(
        CONTRAST,
        "a",
        Action::Ambient,
        "air temperature",
        "Bring heat to another air temperature.",
        Some("air"),
    ),
    b(CONTRAST, "x", Action::Export, "export chart", "Write the picture as an SVG file.", Some("chart")),
    b(CONTRAST, "p", Action::Report, "report", "Write the report as a PDF.", Some("report")),
    b(FILE, "Enter", Action::Open, "open", "Open the haul, as it was live.", Some("open")),
    b(FILE, "Tab", Action::OtherPane, "turn", "Turn to what did not fit.", Some("turn")),
    b(FILE, "x", Action::Export, "export chart", "Write the wear over time as an SVG file.", Some("chart")),
    b(
        YARD,
        "d",
        Action::DriveFile,
        "drive file",
        "All that is known of this drive from its hauls.",
        Some("drive file"),
    ),
    b(HAUL, "p", Action::Report, "report", "Write a PDF on this haul.", None),
    b(None, "k ↑", Action::Up, "up", "One row up.", None),
    b(None, "j ↓", Action::Down, "down", "One row down.", None),
    b(None, "g", Action::First, "first", "To the first row.", None),
    b(None, "G", Action::Last, "last", "To the last row.", None),
    b(None, "Y", Action::GoYard, "yard", "Go to the yard.", Some("yard")),
    b(None, "L", Action::GoLedger, "ledger", "Go to the ledger.", Some("ledger")),
    b(None, "Esc", Action::Back, "back", "Back to the view before.", Some("back")),
    b(None, ":", Action::Find, "actions", "Find any action by its name.", Some("actions")),
    b(None, "?", Action::Help, "help", "What this view shows and which keys it has.", Some("help")),
    b(None, "q", Action::Quit, "leave", "Leave the program.", Some("leave")),
];

fn is(key: &KeyEvent, word: &str) -> bool {
    match word {
        "Enter" => key.code == KeyCode::Enter,
        "Tab" => key.code == KeyCode::Tab,
        "Space" => key.code == KeyCode::Char(' '),
        "Esc" => key.code == KeyCode::Esc,
        "←" => key.code == KeyCode::Left,
        "→" => key.code == KeyCode::Right,
        "↑" => key.code == KeyCode::Up,
        "↓" => key.code == KeyCode::Down,
        _ => word.chars().next().is_some_and(|c| key.code == KeyCode::Char(c)),
    }
}

/// The action of a key in a view.
#[must_use]
pub fn action(screen: Screen, key: &KeyEvent) -> Option<Action> {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return (key.code == KeyCode::Char('c')).then_some(Action::Quit);
    }
    match key.code {
        KeyCode::Home => return Some(Action::First),
        KeyCode::End => return Some(Action::Last),
        // Plus without shift, as people press it.
        KeyCode::Char('=') if matches!(screen, Screen::Haul | Screen::Surveys) => {
            return Some(Action::ZoomIn);
        }
        _ => {}
    }
    available(screen).find(|b| b.keys.split(' ').any(|k| is(key, k))).map(|b| b.action)
}

/// What can be done in a view.
pub fn available(screen: Screen) -> impl Iterator<Item = &'static Binding> {
    BINDINGS.iter().filter(move |b| b.screen.is_none_or(|s| s == screen))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_view() {
        for screen in Screen::ALL {
            let mut seen = std::collections::HashSet::new();
            for binding in available(screen) {
                for key in binding.keys.split(' ') {
                    assert!(seen.insert(key), "{key} twice in {}", screen.name());
                }
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
