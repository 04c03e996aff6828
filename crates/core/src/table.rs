//! Reading a table somebody exported: which encoding, which delimiter, is there a header?

mod columns;
pub mod country;
pub mod money;

pub(crate) use columns::plain;
pub use columns::{address_column, guess_kind, propose_mapping};

use crate::segment::FieldKind;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Encoding {
    Utf8,
    Utf16Le,
    Utf16Be,
    /// The superset of Latin-1 that browsers and spreadsheets mean by it.
    Windows1252,
}

/// Why a file can't be read as a table.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TableError {
    #[error("The file is empty. Export it again and look that it holds rows.")]
    Empty,
    #[error("This is no table of text: it holds binary data, as pictures, archives and workbooks do. Save it as CSV and choose that file.")]
    Binary,
    #[error("No column holds mail addresses. Look that the file has one address per row, and that it is a CSV or TSV file.")]
    NoAddressColumn,
}

/// Tells the encoding from the first bytes (a few kilobytes are enough).
///
/// # Errors
/// When there is nothing in it, or it is no text.
pub fn detect_encoding(head: &[u8]) -> Result<Encoding, TableError> {
    match head {
        [] => return Err(TableError::Empty),
        [0xFF, 0xFE, ..] => return Ok(Encoding::Utf16Le),
        [0xFE, 0xFF, ..] => return Ok(Encoding::Utf16Be),
        _ => {}
    }
    let zeros = |parity: usize| head.iter().skip(parity).step_by(2).filter(|b| **b == 0).count();
    let half = head.len() / 2;
    if half > 4 && zeros(1) > half * 2 / 3 && zeros(0) == 0 {
        return Ok(Encoding::Utf16Le);
    }
    if half > 4 && zeros(0) > half * 2 / 3 && zeros(1) == 0 {
        return Ok(Encoding::Utf16Be);
    }
    if head.iter().any(|b| *b == 0 || (*b < 9)) {
        return Err(TableError::Binary);
    }
    Ok(match std::str::from_utf8(head) {
        Ok(_) => Encoding::Utf8,
        // A character cut off at the end of the sample is no sign of another encoding.
        Err(e) if e.error_len().is_none() => Encoding::Utf8,
        Err(_) => Encoding::Windows1252,
    })
}

/// The delimiter of a table, from its first records: the one that leaves the fewest quotes without a
/// meaning (RFC 4180: a quote opens a field at its beginning and closes it at its end), and then splits
/// most records into the same number (two or more) of fields. A single column has none of them, and the
/// comma does for it.
#[must_use]
pub fn detect_delimiter(text: &str) -> u8 {
    let score = |delimiter: u8| {
        let (counts, stray) = widths(text.as_bytes(), delimiter, 50);
        let typical = counts.iter().copied().max_by_key(|c| counts.iter().filter(|d| *d == c).count()).unwrap_or(1);
        let alike = counts.iter().filter(|c| **c == typical).count();
        (typical > 1).then_some((std::cmp::Reverse(stray), alike * 100 + typical.min(99)))
    };
    b",;\t|".iter().copied().max_by_key(|d| (score(*d), *d == b',')).unwrap_or(b',')
}

/// How many fields each of the first records has, and how many quotes in them neither open, nor close,
/// nor are doubled. Those are text, so that a stray one swallows nothing.
fn widths(text: &[u8], delimiter: u8, most: usize) -> (Vec<usize>, usize) {
    let (mut out, mut fields, mut quoted, mut at_start, mut blank, mut doubled) = (Vec::new(), 1, false, true, true, false);
    let mut stray = 0;
    for (i, b) in text.iter().copied().enumerate() {
        if std::mem::take(&mut doubled) {
            continue;
        }
        let ends = |next: Option<&u8>| next.is_none_or(|n| *n == delimiter || *n == b'\n' || *n == b'\r');
        match b {
            b'"' if !quoted && at_start => quoted = true,
            b'"' if quoted && text.get(i + 1) == Some(&b'"') => doubled = true,
            b'"' if quoted && ends(text.get(i + 1)) => quoted = false,
            b'"' => stray += 1,
            b'\n' | b'\r' if !quoted => {
                if !blank {
                    out.push(fields);
                }
                if out.len() == most {
                    return (out, stray);
                }
                (fields, blank) = (1, true);
            }
            _ if b == delimiter && !quoted => fields += 1,
            _ => {}
        }
        at_start = !quoted && (b == delimiter || b == b'\n' || b == b'\r');
        blank &= b.is_ascii_whitespace();
    }
    if !blank {
        out.push(fields);
    }
    (out, stray)
}

/// Is the first record a header? It is when it holds no address and a later record does.
#[must_use]
pub fn has_header(records: &[Vec<String>]) -> bool {
    let holds = |r: &[String]| r.iter().any(|c| crate::address::Address::parse(c).is_ok());
    match records {
        [] => false,
        [only] => !holds(only),
        [first, rest @ ..] => !holds(first) && (rest.iter().any(|r| holds(r)) || first.iter().all(|c| !c.is_empty())),
    }
}

/// What a column is taken for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
#[schema(as = ColumnField)]
pub enum Field {
    Address,
    GivenName,
    FamilyName,
    /// The number that text messages go to.
    Phone,
    Country,
    Region,
    TimeZone,
    Source,
    Latitude,
    Longitude,
    /// An outside score: a number that another system gave on a day.
    Score {
        name: String,
    },
    ScoreDate,
    ScoreSource,
    /// A custom field, made when there is none of that name.
    Own {
        name: String,
        kind: FieldKind,
    },
}

/// A cell made safe for spreadsheets: text that would run as a formula gets an apostrophe.
#[must_use]
pub fn neutral_cell(cell: &str) -> String {
    if cell.starts_with(FORMULA) { format!("'{cell}") } else { cell.to_owned() }
}

/// What a cell begins with that spreadsheets would run.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A cell as it was meant: such an apostrophe isn't part of it. Rows that were refused come back with theirs, phone numbers
/// above all.
#[must_use]
pub fn meant_cell(cell: &str) -> &str {
    cell.strip_prefix('\'').filter(|rest| rest.starts_with(FORMULA)).unwrap_or(cell)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"a,b\n", Ok(Encoding::Utf8))]
    #[case(b"\xFF\xFEa\0", Ok(Encoding::Utf16Le))]
    #[case(b"a\0d\0d\0r\0e\0s\0s\0", Ok(Encoding::Utf16Le))]
    #[case(b"caf\xE9,1\n", Ok(Encoding::Windows1252))]
    #[case(b"", Err(TableError::Empty))]
    #[case(b"\x89PNG\r\n\x1a\n\0\0\0\x0d", Err(TableError::Binary))]
    fn encodings(#[case] head: &[u8], #[case] want: Result<Encoding, TableError>) {
        assert_eq!(detect_encoding(head), want);
    }

    #[rstest]
    #[case("a,b\n1,2\n", b',')]
    #[case("a;b;c\n1,5;2;3\n1,6;2;3\n", b';')]
    #[case("a\tb\n\"x,y\"\t2\n", b'\t')]
    #[case("mail\na@tern.example\n", b',')]
    // Read by lines between bars, this has more records of the same length than by commas.
    #[case("\"a\",\"b\",\"c\"\n\"\",\"'\",\"|\"\n\"\n\",\"|\n|\n\",\"|\"\n", b',')]
    #[case("size,name\n5\" pipe,\"a;b\"\n3\" pipe,c;d\n", b',')]
    fn delimiters(#[case] text: &str, #[case] want: u8) {
        assert_eq!(detect_delimiter(text), want);
    }

    #[test]
    fn cells_are_safe_for_spreadsheets() {
        for (cell, neutral) in [("=1+1", "'=1+1"), ("+447700900001", "'+447700900001"), ("'tis", "'tis")] {
            assert_eq!((neutral_cell(cell).as_str(), meant_cell(neutral)), (neutral, cell));
        }
    }
}
