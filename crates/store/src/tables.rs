//! Table files as they come: decoded while they are read, in whatever size.

use crate::{Result, StoreError};
use encoding_rs::{CoderResult, Decoder};
use rinse_core::table::{self, Encoding};
use serde::Serialize;
use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

/// This much of a file is looked at to find out how it is written.
const HEAD: usize = 65_536;

/// How a table file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Shape {
    pub encoding: Encoding,
    pub delimiter: u8,
    pub header: bool,
}

/// Text in UTF-8 from bytes in another encoding, a piece at a time. A byte order mark is left out;
/// bytes that are no text become U+FFFD.
pub struct Decoded<R> {
    inner: R,
    decoder: Decoder,
    raw: Vec<u8>,
    text: Vec<u8>,
    given: usize,
    ended: bool,
}

impl<R: Read> Decoded<R> {
    pub fn new(inner: R, encoding: Encoding) -> Self {
        let decoder = match encoding {
            Encoding::Utf8 => encoding_rs::UTF_8,
            Encoding::Utf16Le => encoding_rs::UTF_16LE,
            Encoding::Utf16Be => encoding_rs::UTF_16BE,
            Encoding::Windows1252 => encoding_rs::WINDOWS_1252,
        }
        .new_decoder_with_bom_removal();
        Self { inner, decoder, raw: vec![0; HEAD], text: Vec::new(), given: 0, ended: false }
    }

    fn refill(&mut self) -> std::io::Result<()> {
        let n = self.inner.read(&mut self.raw)?;
        self.ended = n == 0;
        let room = self.decoder.max_utf8_buffer_length(n).unwrap_or(n * 3 + 16);
        self.text.resize(room, 0);
        let (result, _, written, _) = self.decoder.decode_to_utf8(&self.raw[..n], &mut self.text, self.ended);
        debug_assert_eq!(result, CoderResult::InputEmpty, "the buffer is as long as the decoder asks for");
        self.text.truncate(written);
        self.given = 0;
        Ok(())
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        while self.given == self.text.len() && !self.ended {
            self.refill()?;
        }
        let n = out.len().min(self.text.len() - self.given);
        out[..n].copy_from_slice(&self.text[self.given..self.given + n]);
        self.given += n;
        Ok(n)
    }
}

/// Records of a file that is in UTF-8 already.
pub(crate) fn records(path: &Path, delimiter: u8) -> Result<csv::Reader<File>> {
    Ok(builder(delimiter).from_path(path)?)
}

fn builder(delimiter: u8) -> csv::ReaderBuilder {
    let mut b = csv::ReaderBuilder::new();
    b.has_headers(false).flexible(true).delimiter(delimiter);
    b
}

/// A record's cells as text; bytes that are no UTF-8 become U+FFFD.
#[must_use]
pub fn cells(record: &csv::ByteRecord) -> Vec<String> {
    record.iter().map(|c| String::from_utf8_lossy(c).into_owned()).collect()
}

/// Finds out how a file is written.
///
/// # Errors
/// A file that can't be read, is empty, or holds no text.
pub fn shape(path: &Path) -> Result<Shape> {
    let mut head = Vec::new();
    File::open(path)?.take(HEAD as u64).read_to_end(&mut head)?;
    shape_of(&head)
}

/// The shape of a file by its first bytes.
fn shape_of(head: &[u8]) -> Result<Shape> {
    let refused = |e: table::TableError| StoreError::Refused(e.to_string());
    let encoding = table::detect_encoding(head).map_err(refused)?;
    let mut text = Vec::new();
    Decoded::new(head, encoding).read_to_end(&mut text)?;
    let text = String::from_utf8_lossy(&text).into_owned();
    if text.trim().is_empty() {
        return Err(refused(table::TableError::Empty));
    }
    let delimiter = table::detect_delimiter(&text);
    let mut rows = builder(delimiter).from_reader(text.as_bytes());
    let sample: Vec<Vec<String>> = rows.byte_records().take(101).map(|r| Ok(cells(&r?))).collect::<Result<_>>()?;
    Ok(Shape { encoding, delimiter, header: table::has_header(&sample) })
}

/// Reads every record of a file in order; returns how many there are. Blank lines are none.
///
/// # Errors
/// A file that can't be read, or what `each` returns.
pub fn each_record(path: &Path, shape: Shape, mut each: impl FnMut(&csv::ByteRecord) -> Result<()>) -> Result<u64> {
    let mut rows = builder(shape.delimiter).from_reader(Decoded::new(BufReader::new(File::open(path)?), shape.encoding));
    let (mut record, mut n) = (csv::ByteRecord::new(), 0);
    while rows.read_byte_record(&mut record)? {
        n += 1;
        each(&record)?;
    }
    Ok(n)
}

/// Every record of a small table that is in memory, header included.
///
/// # Errors
/// When it is empty or holds no text, or has more than `most` records.
pub fn read_all(bytes: &[u8], most: usize) -> Result<Vec<Vec<String>>> {
    let shape = shape_of(&bytes[..bytes.len().min(HEAD)])?;
    let mut rows = builder(shape.delimiter).from_reader(Decoded::new(bytes, shape.encoding));
    let mut out = Vec::new();
    for record in rows.byte_records() {
        if out.len() == most {
            return Err(StoreError::Refused(format!("The table has more than {most} rows.")));
        }
        out.push(cells(&record?));
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn encoded(text: &str, encoding: Encoding, bom: bool) -> Vec<u8> {
        let marked = if bom { format!("\u{feff}{text}") } else { text.to_owned() };
        match encoding {
            Encoding::Utf8 => marked.into_bytes(),
            Encoding::Utf16Le => marked.encode_utf16().flat_map(u16::to_le_bytes).collect(),
            Encoding::Utf16Be => marked.encode_utf16().flat_map(u16::to_be_bytes).collect(),
            Encoding::Windows1252 => encoding_rs::WINDOWS_1252.encode(text).0.into_owned(),
        }
    }

    /// A reader that gives a few bytes at a time, as a slow disk or a pipe does.
    struct Crumbs<'a>(&'a [u8], usize);

    impl Read for Crumbs<'_> {
        fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
            let n = self.0.len().min(self.1).min(out.len());
            out[..n].copy_from_slice(&self.0[..n]);
            self.0 = &self.0[n..];
            Ok(n)
        }
    }

    proptest! {
        /// Whatever the encoding and however the bytes arrive, the text is the same.
        #[test]
        fn decoding_gives_the_text_back(text in "[a-zé€\r\n,\"]{0,60}", which in 0usize..4, bom: bool, crumb in 1usize..7) {
            let encoding = [Encoding::Utf8, Encoding::Utf16Le, Encoding::Utf16Be, Encoding::Windows1252][which];
            let bytes = encoded(&text, encoding, bom);
            let mut out = Vec::new();
            Decoded::new(Crumbs(&bytes, crumb), encoding).read_to_end(&mut out).unwrap();
            prop_assert_eq!(String::from_utf8(out).unwrap(), text);
        }

        /// A table written with any delimiter, encoding and line end is read back cell by cell.
        #[test]
        fn what_was_written_is_read(
            rows in prop::collection::vec(prop::collection::vec("[a-z é€,;|\t\"'\n-]{0,8}", 3), 2..12),
            delimiter in prop::sample::select(vec![b',', b';', b'\t', b'|']),
            crlf: bool, which in 0usize..4,
        ) {
            let encoding = [Encoding::Utf8, Encoding::Utf16Le, Encoding::Utf16Be, Encoding::Windows1252][which];
            let mut w = csv::WriterBuilder::new().delimiter(delimiter).quote_style(csv::QuoteStyle::Always).terminator(if crlf { csv::Terminator::CRLF } else { csv::Terminator::Any(b'\n') }).from_writer(Vec::new());
            w.write_record(["address", "name", "town"]).unwrap();
            for r in &rows {
                w.write_record(r).unwrap();
            }
            let text = String::from_utf8(w.into_inner().unwrap()).unwrap();
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("t.csv");
            std::fs::write(&path, encoded(&text, encoding, encoding != Encoding::Windows1252)).unwrap();
            let s = shape(&path).unwrap();
            prop_assert_eq!(s.delimiter, delimiter);
            let mut read = Vec::new();
            let n = each_record(&path, s, |r| { read.push(cells(r)); Ok(()) }).unwrap();
            prop_assert_eq!(n as usize, rows.len() + 1);
            prop_assert_eq!(&read[1..], rows.as_slice());
        }
    }
}
