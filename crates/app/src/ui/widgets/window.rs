//! The part of a ruler that is shown, and the cursor in it. Whatever is done to the window, the point under the cursor stays the
//! point under the cursor.

use crate::ui::actions::Action;

/// What is seen of a ruler that begins at nought.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Window {
    /// From, to; all of it when `None`.
    shown: Option<(f64, f64)>,
    /// Where the cursor is, as a share of what is shown.
    pub cursor: Option<f64>,
    /// The end of the ruler stays in sight, with so much before it.
    follows: Option<f64>,
}

/// Closer than this share of the whole it does not go.
const CLOSEST: f64 = 1.0 / 4096.0;

impl Window {
    /// From where to where, on a ruler of this length.
    #[must_use]
    pub fn span(&self, extent: f64) -> (f64, f64) {
        let extent = extent.max(f64::MIN_POSITIVE);
        match (self.follows, self.shown) {
            // The width may be from before the first sample, or from a ruler of another unit.
            (Some(width), _) => ((extent - width.max(extent * CLOSEST)).max(0.0), extent),
            (None, Some(shown)) => shown,
            (None, None) => (0.0, extent),
        }
    }

    /// It shows less than all.
    #[must_use]
    pub const fn is_zoomed(&self) -> bool {
        self.shown.is_some() || self.follows.is_some()
    }

    /// The newest stays in sight.
    #[must_use]
    pub const fn follows(&self) -> bool {
        self.follows.is_some()
    }

    /// The place under the cursor, or that in the middle.
    #[must_use]
    pub fn place(&self, extent: f64) -> f64 {
        let (from, to) = self.span(extent);
        from + self.cursor.unwrap_or(0.5) * (to - from)
    }

    /// Shows so much from there on, as far as the ruler goes; the cursor stays on its place where that is still in sight.
    fn lay(&mut self, from: f64, width: f64, extent: f64) {
        let place = self.cursor.map(|_| self.place(extent));
        let width = width.clamp(extent * CLOSEST, extent.max(f64::MIN_POSITIVE));
        let from = from.clamp(0.0, (extent - width).max(0.0));
        self.follows = None;
        self.shown = (width < extent * 0.9999).then_some((from, from + width));
        self.cursor = place.map(|p| ((p - from) / width).clamp(0.0, 1.0));
    }

    /// Shows what lies between two places.
    pub fn between(&mut self, from: f64, to: f64, extent: f64) {
        self.lay(from, to - from, extent);
    }

    /// Puts the cursor on a place, and the window over it where it was out of sight.
    pub fn go_to(&mut self, place: f64, extent: f64) {
        let (from, to) = self.span(extent);
        let width = to - from;
        if !(from..=to).contains(&place) {
            self.lay(place - width / 2.0, width, extent);
        }
        let (from, to) = self.span(extent);
        self.cursor = Some(((place - from) / (to - from)).clamp(0.0, 1.0));
    }

    /// Follows the newest: as much as is shown, or `usual` where all is.
    pub fn follow(&mut self, usual: f64, extent: f64) {
        let (from, to) = self.span(extent);
        self.follows = Some(if self.shown.is_some() { to - from } else { usual });
        self.shown = None;
    }

    /// Shows all; false when it did.
    pub fn whole(&mut self) -> bool {
        let was = self.is_zoomed();
        (self.shown, self.follows) = (None, None);
        was
    }

    fn zoom(&mut self, factor: f64, extent: f64) {
        let (from, to) = self.span(extent);
        let width = (to - from) * factor;
        if self.follows.is_some() {
            // It keeps to the end of the ruler.
            let place = self.cursor.map(|_| self.place(extent));
            self.follows = Some(width.clamp(extent * CLOSEST, extent.max(f64::MIN_POSITIVE)));
            let (from, to) = self.span(extent);
            self.cursor = place.map(|p| ((p - from) / (to - from)).clamp(0.0, 1.0));
            return;
        }
        let share = self.cursor.unwrap_or(0.5);
        self.lay(self.place(extent) - share * width, width, extent);
    }

    /// Moves by this share of what is shown.
    fn pan(&mut self, share: f64, extent: f64) {
        let (from, to) = self.span(extent);
        let cursor = self.cursor;
        self.lay(from + share * (to - from), to - from, extent);
        // The window moves under the cursor, which stays in its column.
        self.cursor = cursor;
    }

    /// Does what a key asks for. False when it is none of the window's.
    pub fn act(&mut self, action: Action, extent: f64) -> bool {
        let to = |share: f64| Some(share.clamp(0.0, 1.0));
        let cursor = self.cursor.unwrap_or(0.5);
        match action {
            Action::CursorLeft => self.cursor = to(cursor - 0.01),
            Action::CursorRight => self.cursor = to(cursor + 0.01),
            Action::LeapLeft => self.cursor = to(cursor - 0.1),
            Action::LeapRight => self.cursor = to(cursor + 0.1),
            Action::ZoomIn => self.zoom(0.5, extent),
            Action::ZoomOut => self.zoom(2.0, extent),
            Action::PanLeft => self.pan(-0.25, extent),
            Action::PanRight => self.pan(0.25, extent),
            Action::PageUp => self.pan(-1.0, extent),
            Action::PageDown => self.pan(1.0, extent),
            Action::First => self.pan(-f64::MAX.sqrt(), extent),
            Action::Last => self.pan(f64::MAX.sqrt(), extent),
            Action::Whole => {
                let place = self.cursor.map(|_| self.place(extent));
                self.whole();
                self.cursor = place.map(|p| (p / extent.max(f64::MIN_POSITIVE)).clamp(0.0, 1.0));
            }
            _ => return false,
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_point_under_the_cursor_stays_there_at_every_zoom() {
        for share in [0.0, 0.1, 0.5, 0.93, 1.0] {
            let mut w = Window { cursor: Some(share), ..Window::default() };
            let place = w.place(1000.0);
            for action in [Action::ZoomIn, Action::ZoomIn, Action::ZoomIn, Action::ZoomOut, Action::ZoomIn] {
                w.act(action, 1000.0);
                assert!((w.place(1000.0) - place).abs() < 1e-9, "{share}: {} {place}", w.place(1000.0));
                assert!((w.cursor.unwrap() - share).abs() < 1e-9, "and its column");
            }
            for _ in 0..5 {
                w.act(Action::ZoomOut, 1000.0);
                assert!((w.place(1000.0) - place).abs() < 1e-9);
            }
            assert!(!w.is_zoomed());
        }
        // Near the end the window cannot go on, and the cursor goes to its place instead.
        let mut w = Window::default();
        w.between(900.0, 950.0, 1000.0);
        w.cursor = Some(0.5);
        w.act(Action::ZoomOut, 1000.0);
        w.act(Action::ZoomOut, 1000.0);
        assert_eq!((w.span(1000.0), w.place(1000.0)), ((800.0, 1000.0), 925.0));
    }

    #[test]
    fn what_followed_a_haul_without_a_sample_shows_something_once_it_has_some() {
        let mut w = Window::default();
        w.follow(600.0, 0.0);
        w.act(Action::ZoomIn, 0.0);
        w.act(Action::CursorLeft, 0.0);
        let (from, to) = w.span(4.999_999_999_9);
        assert!(to - from > 1e-3, "{from} to {to}");
        w.go_to(2.0, 5.0);
        assert!(w.cursor.is_some_and(f64::is_finite), "{w:?}");
        // So many seconds are nothing in bytes.
        w.follow(600.0, 4000.0);
        let (from, to) = w.span(4e18);
        assert!(to - from > 1e12, "{from} to {to}");
    }

    #[test]
    fn it_follows_the_newest_at_any_length_until_it_is_moved() {
        let mut w = Window::default();
        w.follow(600.0, 4000.0);
        assert_eq!(w.span(4000.0), (3400.0, 4000.0));
        assert_eq!(w.span(5000.0), (4400.0, 5000.0));
        w.act(Action::ZoomIn, 5000.0);
        assert_eq!(w.span(6000.0), (5700.0, 6000.0));
        w.act(Action::PanLeft, 6000.0);
        assert_eq!(w.span(7000.0), (5625.0, 5925.0));
        w.follow(600.0, 7000.0);
        assert_eq!(w.span(7000.0), (6700.0, 7000.0));
        // A haul shorter than that is shown whole.
        let mut w = Window::default();
        w.follow(600.0, 30.0);
        assert_eq!(w.span(30.0), (0.0, 30.0));
        assert!(w.whole() && !w.whole());
    }

    #[test]
    fn the_ends_are_two_keys_away() {
        let mut w = Window::default();
        w.between(400.0, 500.0, 1000.0);
        w.act(Action::First, 1000.0);
        assert_eq!(w.span(1000.0), (0.0, 100.0));
        w.act(Action::Last, 1000.0);
        assert_eq!(w.span(1000.0), (900.0, 1000.0));
        w.act(Action::PageUp, 1000.0);
        assert_eq!(w.span(1000.0), (800.0, 900.0));
    }
}
