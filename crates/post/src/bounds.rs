//! What a raw message may be before anything reads it: small enough, flat enough. A parser follows a message as deep as it is
//! nested, so this looks at its bytes alone, once, without following anything.

/// Bytes of a whole message.
pub const LARGEST: usize = 5_000_000;
/// Bytes of its own headers, and how many lines they have.
const HEADERS: usize = 400_000;
const HEADER_LINES: usize = 2_000;
/// Every part that isn't plain text says its type, so a message is nested no deeper than it names types.
const TYPES: usize = 300;
/// Lines that may part a message.
const BOUNDARIES: usize = 5_000;

/// Why a message isn't read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Unreadable {
    #[error("it is larger than 5 MB")]
    TooLarge,
    #[error("its headers have more than 400 kB or 2,000 lines")]
    Headers,
    #[error("it names more than 300 types of parts, so it may be nested without end")]
    Nested,
    #[error("it has more than 5,000 lines that may begin a part")]
    Parts,
    #[error("its structure can't be read as mail")]
    Structure,
}

/// May it be parsed?
///
/// # Errors
/// When it is too large, or may be nested too deep.
pub fn check(raw: &[u8]) -> Result<(), Unreadable> {
    if raw.len() > LARGEST {
        return Err(Unreadable::TooLarge);
    }
    let (mut at, mut lines, mut headers, mut types, mut boundaries) = (0, 0, true, 0, 0);
    while at < raw.len() {
        let end = raw[at..].iter().position(|b| *b == b'\n').map_or(raw.len(), |n| at + n);
        let line = &raw[at..end];
        at = end + 1;
        if headers {
            lines += 1;
            headers = !matches!(line, b"" | b"\r");
            if headers && (lines > HEADER_LINES || at > HEADERS) {
                return Err(Unreadable::Headers);
            }
        }
        // A line by itself may be as long as the message: it is looked through once.
        types += times(line, b"content-type");
        boundaries += usize::from(line.starts_with(b"--"));
        if types > TYPES {
            return Err(Unreadable::Nested);
        }
        if boundaries > BOUNDARIES {
            return Err(Unreadable::Parts);
        }
    }
    Ok(())
}

/// How often words (in small letters) stand in a line, in letters of any size.
fn times(line: &[u8], words: &[u8]) -> usize {
    if line.len() < words.len() {
        return 0;
    }
    line.windows(words.len()).filter(|w| w[0].eq_ignore_ascii_case(&words[0]) && w.eq_ignore_ascii_case(words)).count()
}
