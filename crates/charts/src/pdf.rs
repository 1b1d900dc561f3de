//! Pages as PDF: vectors, and text that stays text, in fonts that come with the program.

use std::sync::Arc;

use krilla::Document;
use krilla::color::rgb;
use krilla::geom::{Path, PathBuilder, Point};
use krilla::metadata::Metadata;
use krilla::num::NormalizedF32;
use krilla::page::PageSettings;
use krilla::paint::{Fill, LineCap, LineJoin, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::text::{Font, TextDirection};

use crate::measure::{self, Face};
use crate::plot::FAINT;
use crate::scene::{Anchor, Ink, Scene, Shape};

/// Why pages could not be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PdfError(String);

impl std::fmt::Display for PdfError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "the pages cannot be made into a PDF: {}", self.0)
    }
}

impl std::error::Error for PdfError {}

fn font(bytes: &'static [u8]) -> Result<Font, PdfError> {
    Font::new(Arc::new(bytes.to_vec()).into(), 0).ok_or_else(|| PdfError("its font cannot be read".into()))
}

fn fill(ink: Ink) -> Fill {
    Fill {
        paint: rgb::Color::new(ink.0, ink.1, ink.2).into(),
        opacity: NormalizedF32::ONE,
        rule: Default::default(),
    }
}

/// `None` of fewer than two points, or of points that are none.
fn path(points: &[(f64, f64)], closed: bool) -> Option<Path> {
    let mut builder = PathBuilder::new();
    let mut points = points.iter().filter(|p| p.0.is_finite() && p.1.is_finite());
    let first = points.next()?;
    builder.move_to(first.0 as f32, first.1 as f32);
    for p in points {
        builder.line_to(p.0 as f32, p.1 as f32);
    }
    if closed {
        builder.close();
    }
    builder.finish()
}

fn draw(surface: &mut Surface<'_>, shape: &Shape, regular: &Font, heavy: &Font) {
    match shape {
        Shape::Line { points, ink, width, dash } => {
            let Some(path) = path(points, false) else { return };
            surface.set_fill(None);
            surface.set_stroke(Some(Stroke {
                paint: rgb::Color::new(ink.0, ink.1, ink.2).into(),
                width: *width as f32,
                miter_limit: 10.0,
                line_cap: LineCap::Butt,
                line_join: LineJoin::Round,
                opacity: NormalizedF32::ONE,
                dash: (!dash.pattern().is_empty())
                    .then(|| StrokeDash { array: dash.pattern().to_vec(), offset: 0.0 }),
            }));
            surface.draw_path(&path);
        }
        Shape::Area { points, ink } => {
            let Some(path) = path(points, true) else { return };
            surface.set_stroke(None);
            surface.set_fill(Some(fill(*ink)));
            surface.draw_path(&path);
        }
        // Paper has no pointer.
        Shape::Spot { .. } => {}
        Shape::Words { at, text, size, ink, anchor, bold } => {
            let face = if *bold { Face::Bold } else { Face::Regular };
            let text = measure::writable(text);
            if text.is_empty() {
                return;
            }
            let back = match anchor {
                Anchor::Start => 0.0,
                Anchor::Middle => 0.5,
                Anchor::End => 1.0,
            };
            let x = at.0 - back * measure::width(&text, *size, face);
            surface.set_stroke(None);
            surface.set_fill(Some(fill(*ink)));
            surface.draw_text(
                Point::from_xy(x as f32, at.1 as f32),
                if *bold { heavy.clone() } else { regular.clone() },
                *size as f32,
                &text,
                false,
                TextDirection::LeftToRight,
            );
        }
    }
}

/// What is said of letters that the fonts of the program lack, by their code points.
pub(crate) fn missing_letters(scene: &Scene) -> Option<String> {
    const NAMED: usize = 6;
    let texts = scene.shapes.iter().filter_map(|s| match s {
        Shape::Words { text, .. } => Some(text.as_str()),
        Shape::Line { .. } | Shape::Area { .. } | Shape::Spot { .. } => None,
    });
    let mut lacking: Vec<char> = texts.flat_map(measure::lacking).collect();
    lacking.sort_unstable();
    lacking.dedup();
    let named: Vec<String> = lacking.iter().take(NAMED).map(|c| format!("U+{:04X}", u32::from(*c))).collect();
    let more =
        if lacking.len() > NAMED { format!(" and {} more", lacking.len() - NAMED) } else { String::new() };
    (!lacking.is_empty()).then(|| {
        format!(
            "Shown as \u{fffd}, which these fonts lack: {}{more}. SVG, Markdown and JSON have them.",
            named.join(", ")
        )
    })
}

/// A PDF of these pages, in order. Its title is that of the first.
///
/// # Errors
/// When a page has no size.
pub fn pages(scenes: &[Scene]) -> Result<Vec<u8>, PdfError> {
    let (regular, heavy) = (font(measure::REGULAR)?, font(measure::BOLD)?);
    let mut document = Document::new();
    let title = scenes.first().map(|s| measure::writable(&s.title)).unwrap_or_default();
    document.set_metadata(Metadata::new().title(title).creator("Hollow Mile".into()).language("en".into()));
    for scene in scenes {
        let size = PageSettings::from_wh(scene.width as f32, scene.height as f32)
            .ok_or_else(|| PdfError("a page has no size".into()))?;
        let mut page = document.start_page_with(size);
        let mut surface = page.surface();
        scene.shapes.iter().for_each(|s| draw(&mut surface, s, &regular, &heavy));
        if let Some(words) = missing_letters(scene) {
            let at = (30.0, scene.height - 10.0);
            let (text, size, ink, anchor) = (words, 7.0, FAINT, Anchor::Start);
            draw(&mut surface, &Shape::Words { at, text, size, ink, anchor, bold: false }, &regular, &heavy);
        }
        surface.finish();
        page.finish();
    }
    document.finish().map_err(|e| PdfError(format!("{e:?}")))
}
