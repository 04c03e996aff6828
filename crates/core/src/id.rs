//! Numbers of rows as types of their own: a contact's number is none of a message. Where they stand in a file they are plain whole numbers, and in
//! JSON too.

use serde::{Deserialize, Serialize};

/// The number of a kind of row: an integer that only its own kind takes.
macro_rules! id {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {
        $(
            $(#[$doc])*
            #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize, utoipa::ToSchema)]
            #[serde(transparent)]
            pub struct $name(pub i64);

            impl std::fmt::Display for $name {
                fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                    self.0.fmt(f)
                }
            }

            impl std::str::FromStr for $name {
                type Err = std::num::ParseIntError;

                fn from_str(text: &str) -> Result<Self, Self::Err> {
                    text.parse().map(Self)
                }
            }
        )+
    };
}

id! {
    /// A contact: a person that mail may go to.
    ContactId,
    /// A mailing, planned or sent; the step of a series and the way of an hour trial are mailings, too.
    MailingId,
    /// A send: one message to one contact.
    SendId,
    /// A trial of variants.
    TrialId,
    /// A trial of sending hours.
    HourTrialId,
    /// A series of messages that people go through.
    SeriesId,
    /// A segment: people by conditions, or frozen.
    SegmentId,
    /// A list that people are put on by hand or by an import. Suppression lists are none.
    ListId,
    /// A letterhead: in whose name mail goes out.
    LetterheadId,
}
