//! Chart of blocks read back: the drive row by row, what was seen in each part, and what stands elsewhere than it belongs.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::proof::{Moved, Seen, moved, parts};
use hollow_mile_core::conclude::surveys::verify::VerifySurvey;
use hollow_mile_core::drive::stamp::Wrong;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::{Readings, Ruler};

use crate::lanes::{LEFT, RIGHT, letter};
use crate::plot::{FAINT, TEXT};
use crate::scene::{Anchor, Ink, Scene};
use crate::surveys::{Missing, TOP, begin, missing};

const ROWS: usize = 32;
const COLUMNS: usize = 128;
const ROW: f64 = 12.0;
/// Pieces that get a letter.
const LETTERED: usize = 12;

/// The lightness of each differs, so that they are told apart in print.
const fn ink(seen: Seen) -> Ink {
    match seen {
        Seen::Nothing => Ink(244, 245, 247),
        Seen::Right => Ink(196, 212, 222),
        Seen::Wrong(Wrong::Corrupt) => Ink(96, 16, 40),
        Seen::Wrong(Wrong::Misplaced) => Ink(206, 122, 52),
        Seen::Wrong(Wrong::Unstamped) => Ink(128, 84, 150),
        Seen::Wrong(Wrong::Stale) => Ink(62, 96, 150),
        Seen::Wrong(Wrong::Unflushed) => Ink(160, 166, 174),
    }
}

/// The map of what was read back.
///
/// # Errors
/// When nothing was read back in the haul.
pub fn proof(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let Some(v) = &conclusions.surveys.verify else {
        return Err(missing("blocks that were read back", "`hollow-mile haul proof` writes and reads them"));
    };
    let pieces = moved(&v.mismatches);
    let listed = pieces.len().min(LETTERED);
    let below = TOP + 20.0 + ROWS as f64 * ROW;
    let height = below + 60.0 + 9.0 * 16.0 + listed as f64 * 16.0 + 60.0;
    let mut scene = begin(readings, "what was read back", height);
    let capacity = readings.extent(Ruler::Position).max(1.0);
    let all = parts(readings, ROWS * COLUMNS);
    let width = RIGHT - LEFT;
    let x = |column: f64| LEFT + column / COLUMNS as f64 * width;
    let y = |row: usize| TOP + 14.0 + row as f64 * ROW;
    for row in 0..ROWS {
        // Neighbours that look alike are one piece of ink.
        let cells: Vec<Seen> = all.iter().skip(row * COLUMNS).take(COLUMNS).map(|p| p.seen()).collect();
        let mut from = 0;
        for to in 1..=cells.len() {
            if to == cells.len() || cells[to] != cells[from] {
                let (a, b, t) = (x(from as f64), x(to as f64), y(row));
                scene.area(vec![(a, t), (b, t), (b, t + ROW - 1.0), (a, t + ROW - 1.0)], ink(cells[from]));
                from = to;
            }
        }
        if row % 4 == 0 {
            let address = Bytes::new((capacity * row as f64 / ROWS as f64) as u64);
            scene.words((LEFT - 8.0, y(row) + 9.0), address.to_string(), 10.0, FAINT, Anchor::End);
        }
    }
    let place = |address: f64| {
        let at = (address / capacity).clamp(0.0, 1.0 - 1e-9) * ROWS as f64;
        (x(at.fract() * COLUMNS as f64), y(at as usize) + 9.0)
    };
    for (i, p) in pieces.iter().enumerate().take(LETTERED) {
        let middle = p.length.as_f64() / 2.0;
        let capital = letter(i);
        let (a, b) = (place(p.stands.as_f64() + middle), place(p.belongs.as_f64() + middle));
        scene.heavy(a, capital.to_lowercase(), 12.0, TEXT, Anchor::Start);
        // Several may belong to one place.
        let beside = (b.0 + i as f64 * 11.0, b.1);
        scene.heavy(beside, capital, 12.0, TEXT, Anchor::Start);
    }
    if let Some(holds) = v.holds_bytes {
        let at = holds as f64 / capacity * ROWS as f64;
        let (px, py) = (x(at.fract() * COLUMNS as f64), y(at as usize));
        scene.line(vec![(px, py - 2.0), (px, py + ROW + 1.0)], TEXT, 2.5);
        let words = format!("{}: all that the drive holds", Bytes::new(holds));
        let (at, anchor) =
            if px > f64::midpoint(LEFT, RIGHT) { (px - 6.0, Anchor::End) } else { (px + 6.0, Anchor::Start) };
        scene.heavy((at, py + 9.5), words, 11.0, TEXT, anchor);
    }
    figures(&mut scene, v, below + 40.0, &pieces[..listed]);
    Ok(scene)
}

fn figures(scene: &mut Scene, v: &VerifySurvey, top: f64, pieces: &[Moved]) {
    let mut y = scene.paragraph((LEFT, top), &v.sentences().join(" "), 11.5, TEXT, RIGHT - LEFT) + 8.0;
    for (seen, bytes) in v.by_what_was_seen() {
        scene.area(
            vec![(LEFT, y - 9.0), (LEFT + 24.0, y - 9.0), (LEFT + 24.0, y + 1.0), (LEFT, y + 1.0)],
            ink(seen),
        );
        scene.words((LEFT + 32.0, y), seen.words(), 11.0, TEXT, Anchor::Start);
        scene.words((LEFT + 270.0, y), Bytes::new(bytes).to_string(), 11.0, TEXT, Anchor::End);
        y += 16.0;
    }
    y += 8.0;
    for (i, p) in pieces.iter().enumerate() {
        let capital = letter(i);
        let words = format!(
            "{} {capital}  {} stand at {} and belong at {}",
            capital.to_lowercase(),
            p.length,
            p.stands,
            p.belongs
        );
        scene.words((LEFT, y), words, 11.0, TEXT, Anchor::Start);
        y += 16.0;
    }
}
