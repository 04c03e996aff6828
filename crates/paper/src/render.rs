//! From what stands on the pages to a PDF.

use crate::font::{BOLD, REGULAR};
use crate::{BOTTOM, Ink, LEFT, Op, Paper, PaperError, RIGHT, TALL, WIDE};
use krilla::Document;
use krilla::color::rgb;
use krilla::geom::{Path, PathBuilder, Point};
use krilla::metadata::{DateTime, Metadata};
use krilla::num::NormalizedF32;
use krilla::page::PageSettings;
use krilla::paint::{Fill, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::text::{Font, TextDirection};

fn colour(ink: Ink) -> rgb::Color {
    let (r, g, b) = match ink {
        Ink::Text => (23, 33, 43),
        Ink::Soft => (84, 96, 108),
        Ink::Rule => (206, 213, 220),
        Ink::Deep => (43, 57, 143),
        Ink::Wash => (226, 230, 246),
        Ink::Brick => (164, 58, 46),
    };
    rgb::Color::new(r, g, b)
}

fn filled(ink: Ink) -> Option<Fill> {
    Some(Fill { paint: colour(ink).into(), opacity: NormalizedF32::ONE, rule: krilla::paint::FillRule::default() })
}

fn polygon(points: &[(f32, f32)], close: bool) -> Option<Path> {
    let mut path = PathBuilder::new();
    let mut points = points.iter();
    let (x, y) = points.next()?;
    path.move_to(*x, *y);
    for (x, y) in points {
        path.line_to(*x, *y);
    }
    if close {
        path.close();
    }
    path.finish()
}

/// Twelve corners are round enough for a dot.
fn dot((x, y): (f32, f32), radius: f32) -> Option<Path> {
    let corner = |k: u8| {
        let turn = f32::from(k) * std::f32::consts::TAU / 12.0;
        (x + radius * turn.cos(), y + radius * turn.sin())
    };
    polygon(&(0..12).map(corner).collect::<Vec<_>>(), true)
}

fn draw(surface: &mut Surface<'_>, op: &Op, fonts: &[Font; 2]) {
    match op {
        Op::Text { x, y, size, bold, ink, text } => {
            surface.set_stroke(None);
            surface.set_fill(filled(*ink));
            surface.draw_text(Point::from_xy(*x, *y), fonts[usize::from(*bold)].clone(), *size, text, false, TextDirection::LeftToRight);
        }
        Op::Line { from, to, width, ink, dashed } => {
            let dash = dashed.then(|| StrokeDash { array: vec![3.0, 2.0], offset: 0.0 });
            surface.set_fill(None);
            surface.set_stroke(Some(Stroke { paint: colour(*ink).into(), width: *width, dash, ..Stroke::default() }));
            if let Some(path) = polygon(&[*from, *to], false) {
                surface.draw_path(&path);
            }
        }
        Op::Area { points, ink } => fill(surface, polygon(points, true), *ink),
        Op::Dot { at, radius, ink } => fill(surface, dot(*at, *radius), *ink),
    }
}

fn fill(surface: &mut Surface<'_>, path: Option<Path>, ink: Ink) {
    surface.set_stroke(None);
    surface.set_fill(filled(ink));
    if let Some(path) = path {
        surface.draw_path(&path);
    }
}

/// Day and time by UTC, of seconds since 1970.
fn date_of(seconds: i64) -> DateTime {
    let at = jiff::tz::Offset::UTC.to_datetime(jiff::Timestamp::from_second(seconds).unwrap_or_default());
    let small = |n: i8| u8::try_from(n).unwrap_or(0);
    DateTime::new(u16::try_from(at.year()).unwrap_or(1970))
        .month(small(at.month()))
        .day(small(at.day()))
        .hour(small(at.hour()))
        .minute(small(at.minute()))
        .second(small(at.second()))
        .utc_offset_hour(0)
        .utc_offset_minute(0)
}

pub(crate) fn pdf(paper: Paper) -> Result<Vec<u8>, PaperError> {
    let font = |bytes: &'static [u8]| Font::new(bytes.to_vec().into(), 0).ok_or(PaperError::Font);
    let fonts = [font(REGULAR)?, font(BOLD)?];
    let mut document = Document::new();
    document.set_metadata(
        Metadata::new().title(paper.title.clone()).language("en".into()).creator("Rinse".into()).creation_date(date_of(paper.made_at)),
    );
    let of = paper.pages.len();
    let foot = paper.fonts.known(&paper.foot, false);
    for (n, ops) in paper.pages.iter().enumerate() {
        let settings = PageSettings::from_wh(WIDE, TALL).ok_or_else(|| PaperError::Write("the page has no size".into()))?;
        let mut page = document.start_page_with(settings);
        let mut surface = page.surface();
        for op in ops {
            draw(&mut surface, op, &fonts);
        }
        let number = format!("{} of {of}", n + 1);
        let y = BOTTOM + 28.0;
        let text = |x, text: String| Op::Text { x, y, size: 8.0, bold: false, ink: Ink::Soft, text };
        draw(&mut surface, &text(LEFT, foot.clone()), &fonts);
        draw(&mut surface, &text(RIGHT - paper.fonts.width(&number, 8.0, false), number), &fonts);
        surface.finish();
        page.finish();
    }
    document.finish().map_err(|e| PaperError::Write(format!("{e:?}")))
}
