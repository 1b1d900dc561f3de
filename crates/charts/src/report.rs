//! A report: headings, text, tables and pictures, laid out on A4 pages or written as Markdown. What it says is made elsewhere.

use crate::measure::{Face, fitting, lines, width};
use crate::plot::{FAINT, GRID, TEXT};
use crate::scene::{Anchor, Scene};

/// One part of a report.
#[derive(Debug, Clone, PartialEq)]
pub enum Block {
    /// Begins a part.
    Heading(String),
    /// A paragraph.
    Text(String),
    /// What the report answers, set larger.
    Verdict(String),
    /// Points, each a paragraph.
    List(Vec<String>),
    /// Rows under column names.
    Table {
        /// Names of the columns.
        head: Vec<String>,
        /// As many cells each.
        rows: Vec<Vec<String>>,
    },
    /// A chart with words below.
    Picture(Scene, String),
}

/// A report.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// At the top of the first page.
    pub title: String,
    /// Below it: when, by which program.
    pub below: String,
    /// In order.
    pub blocks: Vec<Block>,
}

const PAGE: (f64, f64) = (595.0, 842.0);
/// Of a picture's page, which lies on its side: upright its words would be too small to read.
const ASIDE: (f64, f64) = (842.0, 595.0);
/// No word of a picture is printed smaller than this, points.
pub const SMALLEST: f64 = 7.0;
const MARGIN: f64 = 50.0;
const BOTTOM: f64 = 800.0;
const ROOM: f64 = PAGE.0 - 2.0 * MARGIN;
const SIZE: f64 = 9.2;
const LEADING: f64 = 12.6;

/// Pages as they fill.
struct Paper<'a> {
    report: &'a Report,
    pages: Vec<Scene>,
    /// Which page is written on; those of pictures come after it.
    upright: usize,
    pictures: usize,
    y: f64,
}

impl<'a> Paper<'a> {
    fn new(report: &'a Report) -> Self {
        let mut paper = Self { report, pages: Vec::new(), upright: 0, pictures: 0, y: 0.0 };
        paper.turn();
        paper
    }

    fn turn(&mut self) {
        self.upright = self.pages.len();
        self.pages.push(Scene::new(PAGE.0, PAGE.1, self.report.title.clone()));
        self.y = MARGIN + 8.0;
    }

    fn page(&mut self) -> &mut Scene {
        // A page is put there when the paper is made.
        &mut self.pages[self.upright]
    }

    /// Goes on to the next page when so much does not fit.
    fn need(&mut self, height: f64) {
        if self.y + height > BOTTOM && self.y > MARGIN + 40.0 {
            self.turn();
        }
    }

    fn paragraph(&mut self, text: &str, size: f64, face: Face, left: f64) {
        let leading = LEADING * size / SIZE;
        for line in lines(text, size, face, MARGIN + ROOM - left) {
            self.need(leading);
            let y = self.y;
            match face {
                Face::Bold => self.page().heavy((left, y), line, size, TEXT, Anchor::Start),
                Face::Regular => self.page().words((left, y), line, size, TEXT, Anchor::Start),
            }
            self.y += leading;
        }
    }

    fn table(&mut self, head: &[String], rows: &[Vec<String>]) {
        let columns = head.len();
        let cell = |r: &'_ Vec<String>, c: usize| r.get(c).map_or(0.0, |t| width(t, SIZE, Face::Regular));
        let mut widths: Vec<f64> = (0..columns)
            .map(|c| rows.iter().map(|r| cell(r, c)).fold(width(&head[c], SIZE, Face::Bold), f64::max) + 10.0)
            .collect();
        // Too wide: the widest columns give way, one after the other.
        while widths.iter().sum::<f64>() > ROOM {
            let over = widths.iter().sum::<f64>() - ROOM;
            let Some(widest) = (0..columns).max_by(|a, b| widths[*a].total_cmp(&widths[*b])) else { break };
            let next = widths.iter().copied().filter(|w| *w < widths[widest]).fold(40.0, f64::max);
            widths[widest] -= over.min((widths[widest] - next).max(4.0));
        }
        let put = |paper: &mut Self, cells: &[String], face: Face| {
            let wrapped: Vec<Vec<String>> =
                cells.iter().zip(&widths).map(|(t, w)| lines(t, SIZE, face, w - 8.0)).collect();
            let rows = wrapped.iter().map(Vec::len).max().unwrap_or(1);
            paper.need(rows as f64 * LEADING + 2.0);
            let top = paper.y;
            let mut x = MARGIN;
            for (cell, w) in wrapped.iter().zip(&widths) {
                for (i, line) in cell.iter().enumerate() {
                    let at = (x, top + i as f64 * LEADING);
                    match face {
                        Face::Bold => paper.page().heavy(at, line.clone(), SIZE, TEXT, Anchor::Start),
                        Face::Regular => paper.page().words(at, line.clone(), SIZE, TEXT, Anchor::Start),
                    }
                }
                x += w;
            }
            paper.y = top + rows as f64 * LEADING;
            let y = paper.y - LEADING + 4.0;
            paper.page().line(vec![(MARGIN, y), (MARGIN + ROOM, y)], GRID, 0.6);
            paper.y += 1.5;
        };
        put(self, head, Face::Bold);
        rows.iter().for_each(|r| put(self, r, Face::Regular));
        self.y += 6.0;
    }

    /// A picture has a page of its own after this one; here stands what it shows.
    fn picture(&mut self, scene: &Scene, caption: &str) {
        self.pictures += 1;
        let caption = format!("Picture {}. {caption}", self.pictures);
        let mut page = Scene::new(ASIDE.0, ASIDE.1, self.report.title.clone());
        let room = (ASIDE.0 - 2.0 * MARGIN, ASIDE.1 - 2.0 * MARGIN - 20.0);
        let scale = (room.0 / scene.width).min(room.1 / scene.height);
        let left = f64::midpoint(ASIDE.0, -scene.width * scale);
        page.place(scene, (left, MARGIN - 14.0), scale, SMALLEST);
        let line = fitting(&caption, SIZE, Face::Regular, room.0);
        page.words((MARGIN, ASIDE.1 - MARGIN - 4.0), line, SIZE, FAINT, Anchor::Start);
        self.pages.push(page);
        self.paragraph(&caption, SIZE, Face::Regular, MARGIN);
        self.y += 2.0;
    }

    fn block(&mut self, block: &Block) {
        match block {
            Block::Heading(text) => {
                // A heading stands with what follows it.
                self.need(52.0);
                self.y += 8.0;
                let y = self.y;
                self.page().heavy((MARGIN, y), text.clone(), 12.0, TEXT, Anchor::Start);
                self.y += 17.0;
            }
            Block::Text(text) => {
                self.paragraph(text, SIZE, Face::Regular, MARGIN);
                self.y += 4.0;
            }
            Block::Verdict(text) => {
                self.paragraph(text, 11.0, Face::Bold, MARGIN);
                self.y += 6.0;
            }
            Block::List(points) => {
                for point in points {
                    self.need(LEADING);
                    let y = self.y;
                    self.page().words((MARGIN + 4.0, y), "–", SIZE, TEXT, Anchor::Start);
                    self.paragraph(point, SIZE, Face::Regular, MARGIN + 14.0);
                    self.y += 1.0;
                }
                self.y += 4.0;
            }
            Block::Table { head, rows } => self.table(head, rows),
            Block::Picture(scene, caption) => self.picture(scene, caption),
        }
    }
}

impl Report {
    /// Its pages, A4.
    #[must_use]
    pub fn pages(&self) -> Vec<Scene> {
        let mut paper = Paper::new(self);
        paper.paragraph(&self.title, 16.0, Face::Bold, MARGIN);
        let y = paper.y;
        paper.page().words((MARGIN, y), self.below.clone(), 8.6, FAINT, Anchor::Start);
        paper.y += 16.0;
        self.blocks.iter().for_each(|b| paper.block(b));
        let mut pages = paper.pages;
        let n = pages.len();
        for (i, page) in pages.iter_mut().enumerate() {
            let (right, foot) = (page.width - MARGIN, page.height - 28.0);
            let title = fitting(&self.title, 8.0, Face::Regular, right - MARGIN - 80.0);
            page.line(vec![(MARGIN, foot), (right, foot)], GRID, 0.6);
            page.words((MARGIN, foot + 12.0), title, 8.0, FAINT, Anchor::Start);
            let number = format!("page {} of {n}", i + 1);
            page.words((right, foot + 12.0), number, 8.0, FAINT, Anchor::End);
        }
        pages
    }

    /// As Markdown, and its pictures; `name` gives the n-th picture's file name.
    #[must_use]
    pub fn markdown(&self, name: impl Fn(usize) -> String) -> (String, Vec<&Scene>) {
        let plain = |text: &str| -> String {
            let mut out = String::with_capacity(text.len());
            for c in text.chars() {
                match c {
                    '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '#' | '|' => {
                        out.push('\\');
                        out.push(c);
                    }
                    c if c.is_control() => out.push(' '),
                    c => out.push(c),
                }
            }
            out
        };
        let row = |cells: &[String]| {
            let all: Vec<String> = cells.iter().map(|c| plain(c)).collect();
            format!("| {} |\n", all.join(" | "))
        };
        let mut pictures = Vec::new();
        let mut out = format!("# {}\n\n{}\n\n", plain(&self.title), plain(&self.below));
        for block in &self.blocks {
            match block {
                Block::Heading(text) => out.push_str(&format!("## {}\n\n", plain(text))),
                Block::Text(text) => out.push_str(&format!("{}\n\n", plain(text))),
                Block::Verdict(text) => out.push_str(&format!("**{}**\n\n", plain(text))),
                Block::List(points) => {
                    points.iter().for_each(|p| out.push_str(&format!("- {}\n", plain(p))));
                    out.push('\n');
                }
                Block::Table { head, rows } => {
                    out.push_str(&row(head));
                    out.push_str(&format!("|{}\n", " --- |".repeat(head.len())));
                    rows.iter().for_each(|r| out.push_str(&row(r)));
                    out.push('\n');
                }
                Block::Picture(scene, caption) => {
                    out.push_str(&format!("![{}]({})\n\n", plain(caption), name(pictures.len())));
                    pictures.push(scene);
                }
            }
        }
        (out, pictures)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::Shape;

    fn sample() -> Report {
        let mut tall = Scene::new(1120.0, 1400.0, "tall".into());
        tall.words((900.0, 1300.0), "small", 9.0, TEXT, Anchor::Start);
        let long = "The cache ended at 312.4 GB and came back after half an hour of rest. ".repeat(30);
        Report {
            title: "KW-0417 Ptarmigan 4 TB".into(),
            below: "2026-09-16".into(),
            blocks: vec![
                Block::Heading("Verdict".into()),
                Block::Verdict("It holds | 620 MB/s *always*".into()),
                Block::Text(long.clone()),
                Block::List(vec![long; 6]),
                Block::Table {
                    head: vec!["figure".into(), "value".into()],
                    rows: (0..80).map(|i| vec![format!("row {i}"), "a value ".repeat(20)]).collect(),
                },
                Block::Picture(tall, "a tall one".into()),
            ],
        }
    }

    #[test]
    fn nothing_leaves_the_page_and_no_row_is_lost() {
        let pages = sample().pages();
        assert!(pages.len() > 3);
        let words: Vec<(&String, (f64, f64), f64)> = pages
            .iter()
            .flat_map(|p| &p.shapes)
            .filter_map(|s| match s {
                Shape::Words { text, at, size, anchor: Anchor::Start, .. } => Some((text, *at, *size)),
                _ => None,
            })
            .collect();
        for (text, at, size) in &words {
            let end = at.0 + width(text, *size, Face::Regular);
            assert!(
                at.0 >= MARGIN && end <= ASIDE.0 - MARGIN + 12.0 && at.1 < 830.0,
                "{text} at {at:?} to {end}"
            );
        }
        for i in 0..80 {
            assert!(words.iter().any(|w| *w.0 == format!("row {i}")), "row {i}");
        }
        // A picture lies on a page of its own, and its words can be read in print.
        let aside: Vec<&Scene> = pages.iter().filter(|p| p.width > p.height).collect();
        assert_eq!(aside.len(), 1);
        let small = words.iter().find(|w| w.0 == "small").unwrap();
        assert!((small.2 - SMALLEST).abs() < 1e-9 && words.iter().all(|w| w.2 >= SMALLEST - 1e-9));
        assert!(words.iter().filter(|w| w.0 == "Picture 1. a tall one").count() == 2);
        let pdf = crate::pdf::pages(&pages).unwrap();
        assert!(pdf.starts_with(b"%PDF-"));
    }

    #[test]
    fn markdown_keeps_signs_of_its_own_as_text() {
        let report = sample();
        let (text, pictures) = report.markdown(|i| format!("chart-{i}.svg"));
        assert!(text.contains("**It holds \\| 620 MB/s \\*always\\***"));
        assert!(text.contains("![a tall one](chart-0.svg)") && pictures.len() == 1);
        assert_eq!(text.lines().filter(|l| l.starts_with("| row")).count(), 80);
    }
}
