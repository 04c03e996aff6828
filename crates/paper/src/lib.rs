//! Reports on paper: a PDF of A4 pages with headings, text, tables that go on over pages, and charts of rates with their limits.
//!
//! It lays out what it is given and computes nothing. The font is the one that the screens use, cut to Latin (`fonts/`, SIL Open Font License).

mod chart;
mod font;
mod render;

pub use chart::{Chart, Mark, Point};

use font::Fonts;
use std::borrow::Cow;
use thiserror::Error;

/// Why there is no paper.
#[derive(Debug, Error)]
pub enum PaperError {
    #[error("The font that ships with Rinse can't be read.")]
    Font,
    #[error("The PDF can't be written: {0}")]
    Write(String),
}

/// A4, in points.
const WIDE: f32 = 595.0;
const TALL: f32 = 842.0;
const LEFT: f32 = 56.0;
const RIGHT: f32 = WIDE - 56.0;
const TOP: f32 = 60.0;
const BOTTOM: f32 = TALL - 64.0;

/// Colours, as the screens have them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ink {
    Text,
    Soft,
    Rule,
    Deep,
    Wash,
    Brick,
}

/// What stands on a page.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Op {
    Text {
        x: f32,
        y: f32,
        size: f32,
        bold: bool,
        ink: Ink,
        text: String,
    },
    Line {
        from: (f32, f32),
        to: (f32, f32),
        width: f32,
        ink: Ink,
        dashed: bool,
    },
    /// A closed shape, filled.
    Area {
        points: Vec<(f32, f32)>,
        ink: Ink,
    },
    Dot {
        at: (f32, f32),
        radius: f32,
        ink: Ink,
    },
}

/// A column of a table.
#[derive(Debug, Clone, PartialEq)]
pub struct Column {
    pub head: Cow<'static, str>,
    /// Its part of the width; all parts are added up.
    pub part: f32,
    /// Numbers stand at its right end.
    pub number: bool,
}

/// A column of words.
#[must_use]
pub fn words(head: impl Into<Cow<'static, str>>, part: f32) -> Column {
    Column { head: head.into(), part, number: false }
}

/// A column of numbers.
#[must_use]
pub fn number(head: impl Into<Cow<'static, str>>, part: f32) -> Column {
    Column { head: head.into(), part, number: true }
}

/// A report on paper.
pub struct Paper {
    title: String,
    foot: String,
    /// Seconds since 1970.
    made_at: i64,
    fonts: Fonts,
    pages: Vec<Vec<Op>>,
    y: f32,
}

impl Paper {
    /// Begins one. `foot` stands at the foot of each page, before its number.
    ///
    /// # Errors
    /// When the font can't be read.
    pub fn new(title: &str, foot: &str, made_at: i64) -> Result<Self, PaperError> {
        let mut paper =
            Self { title: title.to_owned(), foot: foot.to_owned(), made_at, fonts: Fonts::load()?, pages: vec![Vec::new()], y: TOP };
        paper.lines(title, 20.0, true, Ink::Text, LEFT, RIGHT - LEFT);
        paper.y += 6.0;
        Ok(paper)
    }

    fn put(&mut self, op: Op) {
        if let Some(page) = self.pages.last_mut() {
            page.push(op);
        }
    }

    /// Goes on to the next page unless so much room is left.
    fn room(&mut self, height: f32) {
        if self.y + height > BOTTOM {
            self.pages.push(Vec::new());
            self.y = TOP;
        }
    }

    fn lines(&mut self, text: &str, size: f32, bold: bool, ink: Ink, x: f32, width: f32) {
        let lead = size * 1.35;
        for line in self.fonts.wrap(text, size, bold, width) {
            self.room(lead);
            self.y += lead;
            let y = self.y;
            self.put(Op::Text { x, y, size, bold, ink, text: line });
        }
    }

    /// A heading; never the last thing on a page.
    pub fn heading(&mut self, text: &str) {
        self.room(80.0);
        self.y += 16.0;
        self.lines(text, 12.5, true, Ink::Text, LEFT, RIGHT - LEFT);
        self.y += 3.0;
    }

    pub fn text(&mut self, text: &str) {
        self.lines(text, 10.0, false, Ink::Text, LEFT, RIGHT - LEFT);
        self.y += 3.0;
    }

    /// What says how the rest is to be read.
    pub fn soft(&mut self, text: &str) {
        self.lines(text, 8.5, false, Ink::Soft, LEFT, RIGHT - LEFT);
        self.y += 3.0;
    }

    /// A table: its head is repeated on each page, and no row is cut. A row has a cell for each column.
    pub fn table(&mut self, columns: &[Column], rows: &[Vec<String>]) {
        const SIZE: f32 = 8.5;
        const GAP: f32 = 8.0;
        let all: f32 = columns.iter().map(|c| c.part).sum();
        let mut places = Vec::new();
        let mut x = LEFT;
        for c in columns {
            let width = (RIGHT - LEFT) * c.part / all.max(f32::EPSILON);
            places.push((x, width - GAP, c.number));
            x += width;
        }
        let heads: Vec<String> = columns.iter().map(|c| c.head.clone().into_owned()).collect();
        let head = |paper: &mut Self| {
            paper.row(&places, &heads, SIZE, Ink::Soft);
            let y = paper.y + 2.0;
            paper.put(Op::Line { from: (LEFT, y), to: (RIGHT, y), width: 0.7, ink: Ink::Text, dashed: false });
            paper.y += 3.0;
        };
        self.room(60.0);
        self.y += 4.0;
        head(self);
        for cells in rows {
            let tall = self.height(&places, cells, SIZE);
            if self.y + tall > BOTTOM {
                self.room(f32::INFINITY);
                head(self);
            }
            self.row(&places, cells, SIZE, Ink::Text);
            let y = self.y + 2.0;
            self.put(Op::Line { from: (LEFT, y), to: (RIGHT, y), width: 0.4, ink: Ink::Rule, dashed: false });
            self.y += 2.0;
        }
        self.y += 6.0;
    }

    fn height(&self, places: &[(f32, f32, bool)], cells: &[String], size: f32) -> f32 {
        let most = places.iter().zip(cells).map(|(p, c)| self.fonts.wrap(c, size, false, p.1).len()).max().unwrap_or(1);
        #[allow(clippy::cast_precision_loss)]
        let lines = most.max(1) as f32;
        lines * size * 1.35 + 2.0
    }

    fn row(&mut self, places: &[(f32, f32, bool)], cells: &[String], size: f32, ink: Ink) {
        let (top, tall) = (self.y, self.height(places, cells, size));
        for ((x, width, is_number), cell) in places.iter().zip(cells) {
            let mut y = top;
            for line in self.fonts.wrap(cell, size, false, *width) {
                y += size * 1.35;
                let at = if *is_number { x + width - self.fonts.width(&line, size, false) } else { *x };
                self.put(Op::Text { x: at, y, size, bold: false, ink, text: line });
            }
        }
        self.y = top + tall;
    }

    /// A chart of rates over time.
    pub fn chart(&mut self, chart: &Chart) {
        self.room(chart::TALL + 20.0);
        self.y += 8.0;
        self.lines(&chart.title, 10.0, true, Ink::Text, LEFT, RIGHT - LEFT);
        for op in chart.draw(&self.fonts, (LEFT, self.y + 6.0), RIGHT - LEFT) {
            self.put(op);
        }
        self.y += chart::TALL;
    }

    /// The PDF.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn finish(self) -> Result<Vec<u8>, PaperError> {
        render::pdf(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paper() -> Paper {
        Paper::new("Evidence of Skerry Light", "Skerry Light, 16 Apr 2026", 1_776_364_800).unwrap()
    }

    #[test]
    fn a_table_goes_on_over_pages_with_its_head_on_each() {
        let mut p = paper();
        let rows: Vec<Vec<String>> = (0..200).map(|i| vec![format!("reason {i}"), i.to_string()]).collect();
        p.table(&[words("Reason", 3.0), number("People", 1.0)], &rows);
        assert!(p.pages.len() > 2);
        for page in &p.pages {
            let texts: Vec<&str> =
                page.iter().filter_map(|o| if let Op::Text { text, .. } = o { Some(text.as_str()) } else { None }).collect();
            assert!(texts.contains(&"Reason"), "{texts:?}");
            for op in page {
                if let Op::Text { y, x, size, text, bold, .. } = op {
                    assert!(*y <= BOTTOM + 1.0 && *x >= LEFT - 0.1 && x + p.fonts.width(text, *size, *bold) <= RIGHT + 1.0, "{op:?}");
                }
            }
        }
        let all: usize = p.pages.iter().flatten().filter(|o| matches!(o, Op::Text { text, .. } if text.starts_with("reason "))).count();
        assert_eq!(all, 200, "no row is lost or doubled");
        let pdf = p.finish().unwrap();
        assert!(pdf.starts_with(b"%PDF-") && pdf.len() < 200_000);
    }

    /// The same content is the same file, byte by byte.
    #[test]
    fn the_same_is_the_same_file() {
        let make = || {
            let mut p = paper();
            p.heading("Policy");
            p.text("An address is retired after 2 mailings – “no such address”; Łódź, Tromsø.");
            p.finish().unwrap()
        };
        assert_eq!(make(), make());
    }

    /// What the font lacks, and words longer than a line, break nothing.
    #[test]
    fn odd_text_is_laid_out_too() {
        let mut p = paper();
        p.text(&"x".repeat(3_000));
        p.text("灯台 \u{0}\u{202e} 🌊");
        p.text("");
        p.table(&[words("A", 1.0)], &[vec!["y".repeat(500)], vec![String::new()]]);
        p.chart(&Chart { title: "Nothing".into(), points: vec![], marks: vec![] });
        for op in p.pages.iter().flatten() {
            if let Op::Text { x, text, size, bold, .. } = op {
                assert!(x + p.fonts.width(text, *size, *bold) <= RIGHT + 1.0);
            }
        }
        assert!(p.finish().is_ok());
    }
}
