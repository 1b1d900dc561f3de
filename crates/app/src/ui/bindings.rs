//! Every key with what it does, in one table: keys, help, the bottom row, the `:` list and `docs/keys.md` are made of it.
//! A key has one meaning in all views.

use super::actions::{Action, Screen, available};

/// A key with its action.
pub struct Binding {
    /// Where it works; everywhere when empty.
    pub screens: &'static [Screen],
    /// As shown, with spaces between; empty for what the `:` list alone does.
    pub keys: &'static str,
    /// What it does.
    pub action: Action,
    /// Its name in the `:` list.
    pub name: &'static str,
    /// In a sentence.
    pub help: &'static str,
    /// Other words that people look for it by.
    pub also: &'static str,
    /// Shown in the bottom row, in this short form.
    pub hint: Option<&'static str>,
}

impl Binding {
    /// Each of its keys.
    pub fn all_keys(&self) -> impl Iterator<Item = &'static str> {
        self.keys.split(' ').filter(|k| !k.is_empty())
    }

    /// Its name, its sentence or the words it is looked for by have this word.
    #[must_use]
    pub fn has(&self, word: &str) -> bool {
        [self.name, self.help, self.also].iter().any(|t| t.to_lowercase().contains(word))
    }

    const fn also(self, also: &'static str) -> Self {
        Self { also, ..self }
    }
}

const fn key(
    screens: &'static [Screen],
    keys: &'static str,
    action: Action,
    name: &'static str,
    help: &'static str,
) -> Binding {
    Binding { screens, keys, action, name, help, also: "", hint: None }
}

const fn hint(
    screens: &'static [Screen],
    keys: &'static str,
    action: Action,
    (name, hint): (&'static str, &'static str),
    help: &'static str,
) -> Binding {
    Binding { screens, keys, action, name, help, also: "", hint: Some(hint) }
}

const YARD: &[Screen] = &[Screen::Yard];
const ROUTE: &[Screen] = &[Screen::Route];
const HAUL: &[Screen] = &[Screen::Haul];
const SURVEYS: &[Screen] = &[Screen::Surveys];
const VITALS: &[Screen] = &[Screen::Vitals];
const LEDGER: &[Screen] = &[Screen::Ledger];
const CONTRAST: &[Screen] = &[Screen::Contrast];
const BATCH: &[Screen] = &[Screen::Batch];
const BENCHES: &[Screen] = &[Screen::Benches];
const FILE: &[Screen] = &[Screen::DriveFile];
const LISTS: &[Screen] = &[Screen::Ledger, Screen::DriveFile];
const PICTURES: &[Screen] = &[Screen::Haul, Screen::Surveys];
const ALL: &[Screen] = &[];

/// All of them. In each view those of its own come first in the bottom row.
pub const BINDINGS: &[Binding] = &[
    // What a view is for.
    hint(
        YARD,
        "Enter",
        Action::Open,
        ("plan a haul", "plan a haul"),
        "Choose a route for it, or for the marked ones.",
    )
    .also("route start write"),
    hint(ROUTE, "Enter", Action::Open, ("edit", "change"), "Change the figure under the cursor.")
        .also("field set type"),
    hint(
        HAUL,
        "Enter",
        Action::Open,
        ("evidence", "evidence"),
        "Read all of the first finding in the panel.",
    )
    .also("why cause proof"),
    hint(LISTS, "Enter", Action::Open, ("open", "open"), "Open the haul, as it was live.").also("show view"),
    hint(ROUTE, "s", Action::Start, ("start", "start"), "Say what is written where, and ask.")
        .also("run begin go write"),
    hint(
        LEDGER,
        "c",
        Action::SideBySide,
        ("contrast", "side by side"),
        "Set the marked hauls, or its group, side by side.",
    )
    .also("compare differ"),
    hint(
        LEDGER,
        "P",
        Action::Together,
        ("batch", "batch"),
        "Take the drives of the marked, or all, together.",
    )
    .also("promise tolerance odd fleet lot"),
    key(LEDGER, "V", Action::Fleet, "fleet", "The hauls of all benches, or of this one.")
        .also("benches bench all server"),
    key(&[Screen::Ledger, Screen::Batch], "B", Action::GoBenches, "benches", "The benches of the fleet.")
        .also("fleet who"),
    hint(BENCHES, "Enter", Action::Open, ("its hauls", "hauls"), "The hauls of this bench.")
        .also("open ledger"),
    hint(LEDGER, "/", Action::Filter, ("filter", "filter"), "Show only hauls with these words.")
        .also("search find"),
    hint(ROUTE, "I", Action::AddLeg, ("add a leg", "add leg"), "Add a leg behind this one.")
        .also("insert new"),
    key(ROUTE, "&", Action::CopyLeg, "copy the leg", "This leg once more, behind itself.").also("duplicate"),
    key(ROUTE, "D", Action::Delete, "take a leg out", "Take this leg out; u takes that back.")
        .also("remove delete"),
    key(ROUTE, "{", Action::LegUp, "leg earlier", "Move this leg one place up.").also("order"),
    key(ROUTE, "}", Action::LegDown, "leg later", "Move this leg one place down.").also("order"),
    key(ROUTE, "u", Action::Undo, "undo", "Take the last change of the route back.").also("revert reset"),
    hint(
        ROUTE,
        "W",
        Action::SaveRoute,
        ("save as a route", "save"),
        "Keep it as a route of your own, under a name.",
    )
    .also("write store own"),
    key(
        &[Screen::Haul, Screen::Ledger],
        "K",
        Action::Continue,
        "continue",
        "Go on where this haul was stopped.",
    )
    .also("resume go on"),
    // Marks.
    hint(
        &[Screen::Yard, Screen::Ledger],
        "m",
        Action::Mark,
        ("mark", "mark"),
        "Mark it, or take its mark away.",
    )
    .also("select tag choose"),
    hint(HAUL, "m", Action::Mark, ("mark", "mark"), "Mark this place; two marks tell what is between.")
        .also("measure range select"),
    key(&[Screen::Yard, Screen::Ledger], "M", Action::ClearMarks, "clear marks", "Take all marks away.")
        .also("unmark none"),
    hint(
        LEDGER,
        "*",
        Action::MarkGroup,
        ("mark the group", "mark group"),
        "Mark its group, or all repeats of this haul.",
    )
    .also("select all"),
    hint(
        &[Screen::Haul, Screen::Ledger, Screen::Yard],
        "A",
        Action::Again,
        ("haul again", "again"),
        "Same drive, route and conditions once more.",
    )
    .also("repeat rerun restart run"),
    // Drives.
    hint(YARD, "w", Action::Watch, ("watch", "watch"), "Watch the haul that runs on this drive.")
        .also("live follow attach"),
    hint(
        &[Screen::Yard, Screen::Route],
        "v",
        Action::Vitals,
        ("vitals", "vitals"),
        "Health and wear of this drive.",
    )
    .also("smart temperature"),
    hint(
        &[Screen::Yard, Screen::Ledger],
        "d",
        Action::DriveFile,
        ("drive file", "drive file"),
        "All that is known of this drive from its hauls.",
    )
    .also("history life"),
    hint(
        &[Screen::Yard, Screen::Vitals],
        "U",
        Action::LookAgain,
        ("look again", "look again"),
        "Ask the drives again what they are.",
    )
    .also("refresh reload rescan update"),
    hint(
        VITALS,
        "z",
        Action::ShortTest,
        ("short self-test", "short self-test"),
        "Let the drive test itself: minutes at most.",
    ),
    hint(
        VITALS,
        "Z",
        Action::ExtendedTest,
        ("extended self-test", "extended"),
        "Let the drive test itself in full: up to hours.",
    )
    .also("long"),
    key(YARD, "Q", Action::Queue, "queue", "What waits for this drive: edit it, pause it.")
        .also("wait list next"),
    key(VITALS, "", Action::EndTest, "end the self-test", "End the self-test that runs.")
        .also("abort stop cancel"),
    key(YARD, "T", Action::Tidy, "tidy up", "Remove a file that a killed haul left behind.")
        .also("clean leftover remove"),
    key(YARD, "i", Action::Simulated, "simulated drives", "All simulated drives, or only those with hauls.")
        .also("stand-in virtual pretend hide"),
    // A haul.
    hint(HAUL, "f", Action::NextFlag, ("next flag", "flag"), "Go to the next flag.").also("finding"),
    key(HAUL, "F", Action::FlagBefore, "flag before", "Go to the flag before.").also("finding previous"),
    hint(HAUL, "S", Action::Surveys, ("surveys", "surveys"), "What its surveys say: stretches, spans, fill.")
        .also("ladder ground scan streams proof verify"),
    hint(HAUL, ".", Action::Follow, ("follow", "follow"), "Keep the newest in sight: 10 min, or as zoomed.")
        .also("live now tail newest"),
    hint(
        HAUL,
        "t",
        Action::Lapse,
        ("time-lapse", "time-lapse"),
        "Let a haul that is over happen again, fast.",
    )
    .also("replay"),
    key(HAUL, "b", Action::Hold, "hold a stream", "Ask whether it held a stream with a buffer.")
        .also("record buffer"),
    hint(HAUL, "Space", Action::Pause, ("pause", "pause"), "Take the load off, or put it on again.")
        .also("resume"),
    key(HAUL, ">", Action::Faster, "faster", "Let the clock of a simulated drive run faster.").also("speed"),
    key(HAUL, "<", Action::Slower, "slower", "Let the clock of a simulated drive run slower.").also("speed"),
    hint(HAUL, "E", Action::FindOut, ("find out why", "why"), "Try out why the write fell; asks first.")
        .also("experiment decide cause try"),
    key(HAUL, "e", Action::SkipLeg, "end the leg", "Go on to the next leg; asks first.").also("skip next"),
    key(HAUL, "C", Action::Controls, "controls", "Take the controls, or give them to others.")
        .also("take over"),
    hint(HAUL, "X", Action::Stop, ("stop", "stop"), "End the haul; what was recorded stays.")
        .also("abort cancel end"),
    // The ledger.
    hint(LEDGER, "o", Action::Group, ("group", "group"), "Group by drive, model, route, condition or tag.")
        .also("by"),
    key(LEDGER, "O", Action::Sort, "sort", "Sort by the next column.").also("order column"),
    key(LEDGER, "R", Action::Reverse, "turn the order", "Sort the other way round.")
        .also("reverse descending ascending"),
    key(LEDGER, "N", Action::Rename, "name", "Give this haul another name.").also("rename label"),
    hint(LEDGER, "#", Action::Tags, ("tags", "tags"), "Change the tags of this haul.")
        .also("label key value"),
    key(LEDGER, "D", Action::Delete, "delete", "Take the marked hauls, or this one, out; asks.")
        .also("remove erase"),
    key(LEDGER, "u", Action::Undo, "undo", "Put back what was deleted last.").also("restore"),
    hint(
        &[Screen::Haul, Screen::Ledger],
        "n",
        Action::Note,
        ("note", "note"),
        "Write words about it into the record.",
    )
    .also("comment write"),
    hint(
        &[Screen::Haul, Screen::Ledger, Screen::Contrast, Screen::Batch],
        "p",
        Action::Report,
        ("report", "report"),
        "Write a PDF on it, or on the marked ones.",
    )
    .also("print pdf export"),
    hint(
        &[Screen::Haul, Screen::Contrast, Screen::Batch, Screen::DriveFile],
        "x",
        Action::Export,
        ("export chart", "chart"),
        "Write what is shown as an SVG file.",
    )
    .also("svg picture image save"),
    hint(
        CONTRAST,
        "a",
        Action::Ambient,
        ("air temperature", "air"),
        "Bring heat to another air temperature.",
    )
    .also("ambient"),
    hint(
        &[Screen::Haul, Screen::Contrast],
        "r",
        Action::TurnRuler,
        ("turn the ruler", "ruler"),
        "Lay it along time, bytes, or position.",
    )
    .also("axis x"),
    // Moving.
    hint(HAUL, "Tab", Action::OtherPane, ("next page", "page"), "Findings, figures, or cache and heat.")
        .also("panel models"),
    hint(SURVEYS, "Tab", Action::OtherPane, ("next page", "survey"), "Go to the next survey of this haul.")
        .also("panel"),
    hint(
        ROUTE,
        "Tab",
        Action::OtherPane,
        ("next page", "routes/figures"),
        "Go between the routes and their figures.",
    )
    .also("pane"),
    hint(
        CONTRAST,
        "Tab",
        Action::OtherPane,
        ("next page", "page"),
        "Figures, findings, or what was different.",
    )
    .also("panel"),
    hint(FILE, "Tab", Action::OtherPane, ("next page", "page"), "Turn to what did not fit.")
        .also("panel more"),
    hint(
        VITALS,
        "Tab",
        Action::OtherPane,
        ("next page", "page"),
        "The drive now, or after each of its hauls.",
    )
    .also("panel history"),
    hint(
        BATCH,
        "Enter",
        Action::Open,
        ("drive file", "drive"),
        "All that is known of the drive under the cursor.",
    )
    .also("open serial"),
    hint(BATCH, "Tab", Action::OtherPane, ("next page", "page"), "Dots, numbers, or what is odd and why.")
        .also("table odd"),
    key(BATCH, "h ←", Action::CursorLeft, "drive before", "The drive with the next lesser value."),
    key(BATCH, "l →", Action::CursorRight, "next drive", "The drive with the next larger value."),
    key(PICTURES, "h ←", Action::CursorLeft, "cursor left", "Read the values one column to the left.")
        .also("values"),
    key(PICTURES, "l →", Action::CursorRight, "cursor right", "Read the values one column to the right.")
        .also("values"),
    key(PICTURES, "⇧←", Action::LeapLeft, "leap left", "Ten columns to the left."),
    key(PICTURES, "⇧→", Action::LeapRight, "leap right", "Ten columns to the right."),
    hint(
        PICTURES,
        "+ =",
        Action::ZoomIn,
        ("zoom in", "zoom"),
        "Show half as much; the cursor stays where it is.",
    )
    .also("closer"),
    key(PICTURES, "-", Action::ZoomOut, "zoom out", "Show twice as much; the cursor stays.")
        .also("farther wider"),
    key(PICTURES, "[", Action::PanLeft, "move left", "Move the window towards the beginning.")
        .also("pan scroll"),
    key(PICTURES, "]", Action::PanRight, "move right", "Move the window towards the end.").also("pan scroll"),
    key(PICTURES, "0", Action::Whole, "show all", "Show the whole again.").also("reset fit"),
    // Everywhere.
    key(ALL, "k ↑", Action::Up, "up", "One row up."),
    key(ALL, "j ↓", Action::Down, "down", "One row down."),
    key(ALL, "PgUp", Action::PageUp, "page up", "Ten rows up; a whole window to the left."),
    key(ALL, "PgDn", Action::PageDown, "page down", "Ten rows down; a whole window to the right."),
    key(ALL, "g Home", Action::First, "first", "To the first row; to the beginning of a haul.")
        .also("top beginning"),
    key(ALL, "G End", Action::Last, "last", "To the last row; to the newest of a haul.")
        .also("bottom newest"),
    hint(ALL, "Y", Action::GoYard, ("yard", "yard"), "Go to the yard: all drives.").also("drives home"),
    hint(ALL, "L", Action::GoLedger, ("ledger", "ledger"), "Go to the ledger: all hauls.")
        .also("archive history hauls"),
    hint(ALL, "Esc", Action::Back, ("back", "back"), "Back to the view before.").also("close"),
    hint(ALL, ":", Action::Find, ("actions", "actions"), "Find any action by its name.")
        .also("command palette"),
    hint(ALL, "?", Action::Help, ("help", "help"), "What this view shows and which keys it has.")
        .also("keys"),
    key(ALL, "Ctrl-L", Action::Redraw, "redraw", "Draw the screen anew.").also("refresh clear"),
    hint(ALL, "q", Action::Quit, ("leave", "leave"), "Leave the program; asks while hauls run.")
        .also("quit exit close"),
];

/// The actions of a view whose name or help has these words.
#[must_use]
pub fn find_actions(screen: Screen, words: &str) -> Vec<&'static Binding> {
    let words = words.to_lowercase();
    available(screen).filter(|b| words.split_whitespace().all(|w| b.has(w))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The tables of `docs/keys.md`: what works everywhere, then each view.
    fn tables() -> String {
        let mut out = String::new();
        let mut table = |title: &str, of: &dyn Fn(&&Binding) -> bool| {
            out += &format!("## {title}\n\n| Key | Action | What it does |\n|---|---|---|\n");
            for b in BINDINGS.iter().filter(of) {
                let keys: Vec<String> = b.all_keys().map(|k| format!("`{k}`")).collect();
                out += &format!("| {} | {} | {} |\n", keys.join(" "), b.name, b.help);
            }
            out.push('\n');
        };
        table("Everywhere", &|b| b.screens.is_empty());
        for screen in Screen::ALL {
            table(screen.name(), &|b| b.screens.contains(&screen));
        }
        out
    }

    #[test]
    fn the_docs_have_this_table() {
        let docs = include_str!("../../../../docs/keys.md");
        assert!(docs.contains(tables().trim_end()), "put this into docs/keys.md:\n{}", tables());
    }
}
