//! What a chart is made of: lines, areas and words at places. One scene, several writers.

use crate::measure::{Face, lines};

/// A colour, as red, green and blue.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ink(pub u8, pub u8, pub u8);

/// Which part of the words stands at their place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// Their beginning.
    Start,
    /// Their middle.
    Middle,
    /// Their end.
    End,
}

/// How a line is broken, so that lines are told apart without colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Dash {
    /// Not at all.
    Solid,
    /// Even dashes.
    Dashed,
    /// Dots.
    Dotted,
    /// Long dashes.
    Long,
    /// A dash and a dot.
    Mixed,
}

impl Dash {
    /// Lengths of what is drawn and what is left out, in turn, in points.
    #[must_use]
    pub const fn pattern(self) -> &'static [f32] {
        match self {
            Self::Solid => &[],
            Self::Dashed => &[4.0, 3.0],
            Self::Dotted => &[1.3, 2.2],
            Self::Long => &[9.0, 3.5],
            Self::Mixed => &[7.0, 2.5, 1.5, 2.5],
        }
    }
}

/// One thing drawn. Places in points, from the upper left corner.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// A line through points.
    Line {
        /// In order.
        points: Vec<(f64, f64)>,
        /// Colour.
        ink: Ink,
        /// Width.
        width: f64,
        /// How it is broken.
        dash: Dash,
    },
    /// A filled area.
    Area {
        /// Its corners.
        points: Vec<(f64, f64)>,
        /// Colour.
        ink: Ink,
    },
    /// Words.
    Words {
        /// Baseline.
        at: (f64, f64),
        /// What they say.
        text: String,
        /// Height of the letters.
        size: f64,
        /// Colour.
        ink: Ink,
        /// Which part stands at `at`.
        anchor: Anchor,
        /// Heavy.
        bold: bool,
    },
    /// Where a pointer that rests on the page is told something; in print there is nothing.
    Spot {
        /// Upper left corner.
        from: (f64, f64),
        /// Lower right corner.
        to: (f64, f64),
        /// What is told.
        words: String,
    },
}

/// From one baseline to the next, in heights of the letters.
const LINE: f64 = 1.3;

/// How much higher a page has to be for this text to stand in lines of this width and not in one.
#[must_use]
pub fn beyond_one_line(text: &str, size: f64, most: f64) -> f64 {
    (lines(text, size, Face::Regular, most).len() as f64 - 1.0) * size * LINE
}

/// A page.
#[derive(Debug, Clone, PartialEq)]
pub struct Scene {
    /// Points.
    pub width: f64,
    /// Points.
    pub height: f64,
    /// What it shows, in words, for readers that see no picture.
    pub title: String,
    /// In the order of drawing.
    pub shapes: Vec<Shape>,
}

impl Scene {
    /// An empty page.
    #[must_use]
    pub const fn new(width: f64, height: f64, title: String) -> Self {
        Self { width, height, title, shapes: Vec::new() }
    }

    /// Adds a line.
    pub fn line(&mut self, points: Vec<(f64, f64)>, ink: Ink, width: f64) {
        self.shapes.push(Shape::Line { points, ink, width, dash: Dash::Solid });
    }

    /// Adds a broken line.
    pub fn dashes(&mut self, points: Vec<(f64, f64)>, ink: Ink, width: f64) {
        self.stroke(points, ink, width, Dash::Dashed);
    }

    /// Adds a line, broken or not.
    pub fn stroke(&mut self, points: Vec<(f64, f64)>, ink: Ink, width: f64, dash: Dash) {
        self.shapes.push(Shape::Line { points, ink, width, dash });
    }

    /// Adds all of another page, moved and scaled; its words are no smaller than `smallest`.
    pub fn place(&mut self, other: &Self, at: (f64, f64), scale: f64, smallest: f64) {
        let moved = |p: &(f64, f64)| (at.0 + p.0 * scale, at.1 + p.1 * scale);
        self.shapes.extend(other.shapes.iter().map(|s| match s {
            Shape::Line { points, ink, width, dash } => Shape::Line {
                points: points.iter().map(moved).collect(),
                ink: *ink,
                width: width * scale,
                dash: *dash,
            },
            Shape::Area { points, ink } => {
                Shape::Area { points: points.iter().map(moved).collect(), ink: *ink }
            }
            Shape::Words { at, text, size, ink, anchor, bold } => Shape::Words {
                at: moved(at),
                text: text.clone(),
                size: (size * scale).max(smallest),
                ink: *ink,
                anchor: *anchor,
                bold: *bold,
            },
            Shape::Spot { from, to, words } => {
                Shape::Spot { from: moved(from), to: moved(to), words: words.clone() }
            }
        }));
    }

    /// Adds a place that tells something to a pointer that rests on it.
    pub fn spot(&mut self, from: (f64, f64), to: (f64, f64), words: String) {
        self.shapes.push(Shape::Spot { from, to, words });
    }

    /// Adds a spot around a point.
    pub fn spot_at(&mut self, (x, y): (f64, f64), words: String) {
        self.spot((x - 6.0, y - 6.0), (x + 6.0, y + 6.0), words);
    }

    /// Adds an area.
    pub fn area(&mut self, points: Vec<(f64, f64)>, ink: Ink) {
        self.shapes.push(Shape::Area { points, ink });
    }

    /// Adds a text in as many lines as it takes to be no wider than this, one under the other. Gives the baseline of a next one.
    pub fn paragraph(&mut self, at: (f64, f64), text: &str, size: f64, ink: Ink, most: f64) -> f64 {
        let mut y = at.1;
        for line in lines(text, size, Face::Regular, most) {
            // Spaces that kept figures and units together have done their work.
            self.words((at.0, y), line.replace('\u{a0}', " "), size, ink, Anchor::Start);
            y += size * LINE;
        }
        y
    }

    /// Adds words.
    pub fn words(&mut self, at: (f64, f64), text: impl Into<String>, size: f64, ink: Ink, anchor: Anchor) {
        self.shapes.push(Shape::Words { at, text: text.into(), size, ink, anchor, bold: false });
    }

    /// Adds heavy words.
    pub fn heavy(&mut self, at: (f64, f64), text: impl Into<String>, size: f64, ink: Ink, anchor: Anchor) {
        self.shapes.push(Shape::Words { at, text: text.into(), size, ink, anchor, bold: true });
    }
}
