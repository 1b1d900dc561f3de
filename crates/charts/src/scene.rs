//! What a chart is made of: lines, areas and words at places. One scene, several writers.

use std::fmt::Write;

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
        /// Broken.
        dashed: bool,
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
        self.shapes.push(Shape::Line { points, ink, width, dashed: false });
    }

    /// Adds a broken line.
    pub fn dashes(&mut self, points: Vec<(f64, f64)>, ink: Ink, width: f64) {
        self.shapes.push(Shape::Line { points, ink, width, dashed: true });
    }

    /// Adds an area.
    pub fn area(&mut self, points: Vec<(f64, f64)>, ink: Ink) {
        self.shapes.push(Shape::Area { points, ink });
    }

    /// Adds words.
    pub fn words(&mut self, at: (f64, f64), text: impl Into<String>, size: f64, ink: Ink, anchor: Anchor) {
        self.shapes.push(Shape::Words { at, text: text.into(), size, ink, anchor, bold: false });
    }

    /// Adds heavy words.
    pub fn heavy(&mut self, at: (f64, f64), text: impl Into<String>, size: f64, ink: Ink, anchor: Anchor) {
        self.shapes.push(Shape::Words { at, text: text.into(), size, ink, anchor, bold: true });
    }

    /// The page as SVG 1.1 text.
    #[must_use]
    pub fn to_svg(&self) -> String {
        let (w, h) = (number(self.width), number(self.height));
        let mut out = format!(
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}\" \
             height=\"{h}\" viewBox=\"0 0 {w} {h}\" font-family=\"DejaVu Sans, Verdana, sans-serif\">\n\
             <title>{}</title>\n<rect width=\"{w}\" height=\"{h}\" fill=\"#ffffff\"/>\n",
            escaped(&self.title)
        );
        for shape in &self.shapes {
            // Writing to a String cannot fail.
            let _ = match shape {
                Shape::Line { points, ink, width, dashed } => writeln!(
                    out,
                    "<polyline points=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{}\"{} stroke-linejoin=\"round\"/>",
                    places(points),
                    colour(*ink),
                    number(*width),
                    if *dashed { " stroke-dasharray=\"4 3\"" } else { "" }
                ),
                Shape::Area { points, ink } => {
                    writeln!(out, "<polygon points=\"{}\" fill=\"{}\"/>", places(points), colour(*ink))
                }
                Shape::Words { at, text, size, ink, anchor, bold } => writeln!(
                    out,
                    "<text x=\"{}\" y=\"{}\" font-size=\"{}\" fill=\"{}\" text-anchor=\"{}\"{}>{}</text>",
                    number(at.0),
                    number(at.1),
                    number(*size),
                    colour(*ink),
                    match anchor {
                        Anchor::Start => "start",
                        Anchor::Middle => "middle",
                        Anchor::End => "end",
                    },
                    if *bold { " font-weight=\"bold\"" } else { "" },
                    escaped(text)
                ),
            };
        }
        out.push_str("</svg>\n");
        out
    }
}

fn number(v: f64) -> String {
    let text = format!("{v:.2}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn places(points: &[(f64, f64)]) -> String {
    let mut out = String::with_capacity(points.len() * 12);
    for (i, (x, y)) in points.iter().enumerate() {
        if i > 0 {
            out.push(' ');
        }
        out.push_str(&number(*x));
        out.push(',');
        out.push_str(&number(*y));
    }
    out
}

fn colour(ink: Ink) -> String {
    format!("#{:02x}{:02x}{:02x}", ink.0, ink.1, ink.2)
}

/// XML's five, and no control characters: names come from drives and files.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_from_outside_cannot_break_the_page() {
        let mut scene = Scene::new(10.0, 10.0, "a < b & \u{1b}[2J".into());
        scene.words((1.0, 2.5), "\"<script>\"", 3.0, Ink(0, 0, 0), Anchor::Start);
        let svg = scene.to_svg();
        assert!(svg.contains("a &lt; b &amp;  [2J") && svg.contains("&quot;&lt;script&gt;&quot;"));
        assert!(!svg.contains('\u{1b}'));
    }
}
