//! Kinds of response, as their rows have them.

pub(crate) const OPEN: i64 = 1;
pub(crate) const CLICK: i64 = 2;
pub(crate) const REPLY: i64 = 3;
pub(crate) const UNSUBSCRIBE: i64 = 4;
pub(crate) const COMPLAINT: i64 = 5;

/// The word for a kind of response.
#[must_use]
pub(crate) fn kind_words(kind: i64) -> &'static str {
    match kind {
        OPEN => "open",
        CLICK => "click",
        REPLY => "reply",
        UNSUBSCRIBE => "unsubscribe",
        COMPLAINT => "complaint",
        _ => "other",
    }
}
