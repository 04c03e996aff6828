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
/// By so many records a column is told.
const SAMPLE: usize = 101;

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

/// No record of a table has more bytes: anybody who writes a file in one line, or opens a quote and never closes it, fills no memory.
pub(crate) const LONGEST_RECORD: usize = 1_000_000;

/// What a record that is too long is answered with.
fn too_long() -> std::io::Error {
    std::io::Error::new(
        std::io::ErrorKind::InvalidData,
        "a record has more than 1 MB. Look whether its lines end, and whether every quote that opens is closed",
    )
}

/// Where in a record a byte stands, by the rules of RFC 4180.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Within {
    /// Nothing of the cell has come yet.
    Start,
    Bare,
    Quoted,
    /// A quote inside quotes: it ends them, or is doubled.
    Quote,
}

/// Passes a table on as long as its records are short enough.
pub(crate) struct Bounded<R> {
    inner: R,
    /// None: a record is a line, quotes or not.
    delimiter: Option<u8>,
    within: Within,
    length: usize,
}

impl<R: Read> Bounded<R> {
    pub(crate) fn table(inner: R, delimiter: u8) -> Self {
        Self { inner, delimiter: Some(delimiter), within: Within::Start, length: 0 }
    }

    pub(crate) fn lines(inner: R) -> Self {
        Self { inner, delimiter: None, within: Within::Start, length: 0 }
    }

    fn pass(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        let quoted = self.delimiter.is_some() && (self.within == Within::Quoted || self.within == Within::Quote || bytes.contains(&b'"'));
        if quoted {
            return bytes.iter().try_for_each(|b| self.byte(*b));
        }
        // Without a quote every line ends a record.
        match bytes.iter().rposition(|b| matches!(b, b'\n' | b'\r')) {
            Some(last) => self.length = bytes.len() - last - 1,
            None => self.length += bytes.len(),
        }
        self.within = match (bytes.last(), self.delimiter) {
            (Some(b'\n' | b'\r'), _) => Within::Start,
            (Some(b), Some(d)) if *b == d => Within::Start,
            (None, _) => self.within,
            _ => Within::Bare,
        };
        if self.length > LONGEST_RECORD { Err(too_long()) } else { Ok(()) }
    }

    fn byte(&mut self, b: u8) -> std::io::Result<()> {
        self.length += 1;
        self.within = match (self.within, b) {
            (Within::Quoted, b'"') => Within::Quote,
            (Within::Quoted, _) | (Within::Quote | Within::Start, b'"') => Within::Quoted,
            (_, b'\n' | b'\r') => {
                self.length = 0;
                Within::Start
            }
            (_, b) if Some(b) == self.delimiter => Within::Start,
            _ => Within::Bare,
        };
        if self.length > LONGEST_RECORD { Err(too_long()) } else { Ok(()) }
    }
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        let n = self.inner.read(out)?;
        self.pass(&out[..n])?;
        Ok(n)
    }
}

/// Records of a file that is in UTF-8 already.
pub(crate) fn records(path: &Path, delimiter: u8) -> Result<csv::Reader<Bounded<File>>> {
    Ok(builder(delimiter).from_reader(Bounded::table(File::open(path)?, delimiter)))
}

fn builder(delimiter: u8) -> csv::ReaderBuilder {
    let mut b = csv::ReaderBuilder::new();
    b.has_headers(false).flexible(true).delimiter(delimiter);
    b
}

/// The records of a text, each bounded.
fn rows_of<R: Read>(text: R, shape: Shape) -> csv::Reader<Bounded<Decoded<R>>> {
    builder(shape.delimiter).from_reader(Bounded::table(Decoded::new(text, shape.encoding), shape.delimiter))
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
    let sample: Vec<Vec<String>> = rows.byte_records().take(SAMPLE).map(|r| Ok(cells(&r?))).collect::<Result<_>>()?;
    Ok(Shape { encoding, delimiter, header: table::has_header(&sample) })
}

/// Reads every record of a file in order; returns how many there are. Blank lines are none.
///
/// # Errors
/// A file that can't be read, or what `each` returns.
pub fn each_record(path: &Path, shape: Shape, mut each: impl FnMut(&csv::ByteRecord) -> Result<()>) -> Result<u64> {
    let mut rows = rows_of(BufReader::new(File::open(path)?), shape);
    let (mut record, mut n) = (csv::ByteRecord::new(), 0);
    while rows.read_byte_record(&mut record)? {
        n += 1;
        each(&record)?;
    }
    Ok(n)
}

/// No address column, in a sentence.
fn no_addresses() -> StoreError {
    StoreError::Refused("No column of the file holds addresses: in one of them most cells have to be addresses.".into())
}

/// The addresses of a table that is in memory, in its order, at most so many: of the column that holds addresses, whatever it is called. A first
/// line without one is the header.
///
/// # Errors
/// When it is empty or holds no text or addresses, or a record is too long.
pub fn addresses(bytes: &[u8], most: usize) -> Result<Vec<String>> {
    let shape = shape_of(&bytes[..bytes.len().min(HEAD)])?;
    addresses_of(bytes, shape, most)
}

/// The addresses of a file: as [`addresses`].
///
/// # Errors
/// As there, and when the file can't be read.
pub fn addresses_in(path: &Path, most: usize) -> Result<Vec<String>> {
    addresses_of(BufReader::new(File::open(path)?), shape(path)?, most)
}

fn addresses_of(text: impl Read, shape: Shape, most: usize) -> Result<Vec<String>> {
    let mut rows = rows_of(text, shape);
    let mut records = rows.byte_records();
    let head: Vec<Vec<String>> = records.by_ref().take(SAMPLE).map(|r| Ok(cells(&r?))).collect::<Result<_>>()?;
    let column = table::address_column(&head).ok_or_else(no_addresses)?;
    let is_header = head.first().is_none_or(|r| !r.get(column).is_some_and(|c| c.contains('@')));
    let mut out: Vec<String> =
        head.into_iter().skip(usize::from(is_header)).filter_map(|mut r| (column < r.len()).then(|| r.swap_remove(column))).collect();
    for record in records {
        if out.len() >= most {
            break;
        }
        out.extend(record?.get(column).map(|c| String::from_utf8_lossy(c).into_owned()));
    }
    out.truncate(most);
    Ok(out)
}

/// Every record of a small table that is in memory, header included.
///
/// # Errors
/// When it is empty or holds no text, or has more than `most` records.
pub fn read_all(bytes: &[u8], most: usize) -> Result<Vec<Vec<String>>> {
    let shape = shape_of(&bytes[..bytes.len().min(HEAD)])?;
    let mut rows = rows_of(bytes, shape);
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

    proptest! {
        /// A table is passed on byte for byte, and refused just when a record of it is too long, wherever the pieces are cut.
        #[test]
        fn records_are_bounded(
            cells in prop::collection::vec(prop::sample::select(vec!["a", "\"b\"\"c\"", "\"x\ny\"", "5\" pipe", "", "\"", "é"]), 1..40),
            long in prop::option::of((0usize..40, any::<bool>())),
            piece in 1usize..5_000,
        ) {
            let mut text = String::new();
            let mut too_long = false;
            for (i, cell) in cells.iter().enumerate() {
                if let Some((at, quoted)) = long && at == i {
                    let inside = "x\n".repeat(600_000);
                    text.push_str(&if quoted { format!("\"{inside}\"") } else { inside.replace('\n', "y") });
                }
                text.push_str(cell);
                text.push(if i % 3 == 2 { '\n' } else { ',' });
            }
            let mut rows = builder(b',').from_reader(text.as_bytes());
            let mut record = csv::ByteRecord::new();
            let mut lengths = Vec::new();
            let mut before = 0;
            while rows.read_byte_record(&mut record).unwrap() {
                let at = usize::try_from(rows.position().byte()).unwrap();
                lengths.push(at - before);
                before = at;
            }
            too_long |= lengths.iter().any(|n| *n > LONGEST_RECORD + 1);
            let mut bounded = Bounded::table(text.as_bytes(), b',');
            let (mut out, mut buffer) = (Vec::new(), vec![0; piece * 10]);
            let refused = loop {
                match bounded.read(&mut buffer) {
                    Ok(0) => break false,
                    Ok(n) => out.extend_from_slice(&buffer[..n]),
                    Err(_) => break true,
                }
            };
            prop_assert_eq!(refused, too_long);
            prop_assert!(refused || out == text.as_bytes());
        }
    }

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
