//! A chart of rates: each point with the limits that its size gives it, the centre, and marks that somebody set.

use crate::font::Fonts;
use crate::{Ink, Op};

/// Its height on the page, with the labels under it.
pub(crate) const TALL: f32 = 142.0;
const LABELS: f32 = 16.0;
const AXIS: f32 = 38.0;
const NAMES: f32 = 84.0;

/// A rate at a time.
#[derive(Debug, Clone, PartialEq)]
pub struct Point {
    /// Shown under some of the points.
    pub label: String,
    pub rate: f64,
    /// The limits within which it lies by chance, when they are known.
    pub limits: Option<(f64, f64)>,
    /// It lies outside them.
    pub signal: bool,
}

/// A level that somebody set.
#[derive(Debug, Clone, PartialEq)]
pub struct Mark {
    pub name: String,
    pub rate: f64,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Chart {
    pub title: String,
    pub points: Vec<Point>,
    pub marks: Vec<Mark>,
}

impl Chart {
    /// Draws it with its upper left corner at a place.
    #[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss)]
    pub(crate) fn draw(&self, fonts: &Fonts, (left, top): (f32, f32), width: f32) -> Vec<Op> {
        let mut ops = Vec::new();
        let soft = |x, y, text: String| Op::Text { x, y, size: 7.5, bold: false, ink: Ink::Soft, text };
        if self.points.is_empty() {
            return vec![soft(left, top + 14.0, "Nothing was measured in this time.".into())];
        }
        let (x0, x1, y0, y1) = (left + AXIS, left + width - NAMES, top + TALL - LABELS - 20.0, top + 6.0);
        let values = self.points.iter().flat_map(|p| [p.rate].into_iter().chain(p.limits.into_iter().flat_map(|l| [l.0, l.1])));
        let values: Vec<f64> = values.chain(self.marks.iter().map(|m| m.rate)).filter(|v| v.is_finite()).collect();
        let (low, high) = values.iter().fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(*v), h.max(*v)));
        let room = ((high - low) * 0.08).max(0.000_05);
        let (low, high) = ((low - room).max(0.0), (high + room).min(1.0).max(low + room));
        let y = |v: f64| y0 - ((v - low) / (high - low)) as f32 * (y0 - y1);
        let last = (self.points.len() - 1).max(1) as f32;
        let x = |i: usize| x0 + i as f32 / last * (x1 - x0);
        // The limits, as a band.
        let band: Vec<(usize, (f64, f64))> = self.points.iter().enumerate().filter_map(|(i, p)| Some((i, p.limits?))).collect();
        if band.len() > 1 {
            let upper = band.iter().map(|(i, l)| (x(*i), y(l.1)));
            let lower = band.iter().rev().map(|(i, l)| (x(*i), y(l.0)));
            ops.push(Op::Area { points: upper.chain(lower).collect(), ink: Ink::Wash });
        }
        let digits = if high - low < 0.003 {
            3
        } else if high - low < 0.03 {
            2
        } else {
            1
        };
        for k in 0..4 {
            let v = low + (high - low) * f64::from(k) / 3.0;
            ops.push(Op::Line { from: (x0, y(v)), to: (x1, y(v)), width: 0.3, ink: Ink::Rule, dashed: false });
            let text = format!("{:.digits$}%", v * 100.0);
            ops.push(soft(x0 - 5.0 - fonts.width(&text, 7.5, false), y(v) + 2.5, text));
        }
        // Names of marks never stand over each other.
        let mut marks: Vec<&Mark> = self.marks.iter().collect();
        marks.sort_by(|a, b| b.rate.total_cmp(&a.rate));
        let mut free = f32::MIN;
        for m in marks {
            ops.push(Op::Line { from: (x0, y(m.rate)), to: (x1, y(m.rate)), width: 0.8, ink: Ink::Brick, dashed: true });
            let at = (y(m.rate) + 2.5).max(free);
            free = at + 9.0;
            ops.push(soft(x1 + 6.0, at, m.name.clone()));
        }
        for (i, pair) in self.points.windows(2).enumerate() {
            ops.push(Op::Line {
                from: (x(i), y(pair[0].rate)),
                to: (x(i + 1), y(pair[1].rate)),
                width: 0.9,
                ink: Ink::Deep,
                dashed: false,
            });
        }
        for (i, p) in self.points.iter().enumerate() {
            let (radius, ink) = if p.signal { (3.2, Ink::Brick) } else { (1.8, Ink::Deep) };
            ops.push(Op::Dot { at: (x(i), y(p.rate)), radius, ink });
        }
        let step = self.points.len().div_ceil(7);
        for (i, p) in self.points.iter().enumerate().step_by(step.max(1)) {
            ops.push(soft(x(i) - fonts.width(&p.label, 7.5, false) / 2.0, y0 + 12.0, fonts.known(&p.label, false)));
        }
        ops
    }
}
