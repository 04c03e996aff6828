//! The font: how wide a text is, and where a line breaks.

use crate::PaperError;
use ttf_parser::Face;

pub(crate) const REGULAR: &[u8] = include_bytes!("../fonts/atkinson-hyperlegible-next-regular.ttf");
pub(crate) const BOLD: &[u8] = include_bytes!("../fonts/atkinson-hyperlegible-next-semibold.ttf");

pub(crate) struct Fonts {
    regular: Face<'static>,
    bold: Face<'static>,
}

impl Fonts {
    pub(crate) fn load() -> Result<Self, PaperError> {
        let read = |bytes| Face::parse(bytes, 0).map_err(|_| PaperError::Font);
        Ok(Self { regular: read(REGULAR)?, bold: read(BOLD)? })
    }

    fn face(&self, bold: bool) -> &Face<'static> {
        if bold { &self.bold } else { &self.regular }
    }

    /// What the font lacks is shown as a question mark; what isn't shown at all is left out.
    pub(crate) fn known(&self, text: &str, bold: bool) -> String {
        let face = self.face(bold);
        text.chars()
            .filter(|c| !c.is_control())
            .map(|c| match c {
                '\u{a0}' | '\u{202f}' => ' ',
                c if face.glyph_index(c).is_some() => c,
                _ => '?',
            })
            .collect()
    }

    /// In points.
    pub(crate) fn width(&self, text: &str, size: f32, bold: bool) -> f32 {
        let face = self.face(bold);
        let units: u32 = text.chars().map(|c| u32::from(face.glyph_index(c).and_then(|g| face.glyph_hor_advance(g)).unwrap_or(0))).sum();
        #[allow(clippy::cast_precision_loss)]
        let wide = units as f32;
        wide * size / f32::from(face.units_per_em())
    }

    /// The lines of a text: broken between words, and within one that is longer than a line.
    pub(crate) fn wrap(&self, text: &str, size: f32, bold: bool, width: f32) -> Vec<String> {
        let text = self.known(text, bold);
        let mut lines: Vec<String> = Vec::new();
        let mut line = String::new();
        for word in text.split(' ').filter(|w| !w.is_empty()) {
            let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
            if self.width(&longer, size, bold) <= width {
                line = longer;
                continue;
            }
            if !line.is_empty() {
                lines.push(std::mem::take(&mut line));
            }
            for c in word.chars() {
                line.push(c);
                if self.width(&line, size, bold) > width && line.chars().count() > 1 {
                    line.pop();
                    lines.push(std::mem::replace(&mut line, c.to_string()));
                }
            }
        }
        if !line.is_empty() {
            lines.push(line);
        }
        lines
    }
}
