//! A page as SVG 1.1 text. The letters that most charts need come with the file.

use std::fmt::Write;

use crate::scene::{Anchor, Ink, Scene, Shape};

/// Two cuts of the font, for viewers on machines that have none; others may use their own.
pub(crate) const FACES: &str = include_str!("../fonts/face.css");

impl Scene {
    /// The page as SVG 1.1 text.
    #[must_use]
    pub fn to_svg(&self) -> String {
        let faces = format!("<style>\n{FACES}</style>\n");
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n{}", self.element(&faces))
    }

    /// The page as an SVG element, with a style of its own before what is drawn.
    pub(crate) fn element(&self, style: &str) -> String {
        let (w, h) = (number(self.width), number(self.height));
        let mut out = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{w}\" \
             height=\"{h}\" viewBox=\"0 0 {w} {h}\" font-family=\"'Hollow Mile Sans', 'DejaVu Sans', Verdana, sans-serif\">\n\
             <title>{}</title>\n{style}<rect width=\"{w}\" height=\"{h}\" fill=\"#ffffff\"/>\n",
            escaped(&self.title)
        );
        for shape in &self.shapes {
            // Writing to a String cannot fail.
            let _ = match shape {
                Shape::Line { points, ink, width, dash } => writeln!(
                    out,
                    "<polyline points=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{}\"{} stroke-linejoin=\"round\"/>",
                    places(points),
                    colour(*ink),
                    number(*width),
                    dashes(dash.pattern())
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
                Shape::Spot { from, to, words } => writeln!(
                    out,
                    "<rect class=\"spot\" x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" fill-opacity=\"0\"><title>{}</title></rect>",
                    number(from.0),
                    number(from.1),
                    number(to.0 - from.0),
                    number(to.1 - from.1),
                    escaped(words)
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

fn dashes(pattern: &[f32]) -> String {
    if pattern.is_empty() {
        return String::new();
    }
    let parts: Vec<String> = pattern.iter().map(|l| number(f64::from(*l))).collect();
    format!(" stroke-dasharray=\"{}\"", parts.join(" "))
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
pub(crate) fn escaped(text: &str) -> String {
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
