//! Past mailings and what became of them, as another system's files tell it.
//!
//! Two shapes of table: one of mailings, one or more of events. Nobody's export looks like another's, so columns are proposed by their names and by
//! what stands in them ([`columns`]), kinds are read from the words of several languages ([`Kind::read`]), instants with and without a zone
//! ([`times`]). What can't be read is refused row by row, with the reason.

pub mod columns;
pub mod course;
pub mod proposed;
pub mod times;
mod told;

pub use told::{Told, told};

use crate::Instant;
use crate::address::Address;
use crate::table::money::cents;
use crate::table::plain;
use columns::{EventColumn, MailingColumn};
use serde::{Deserialize, Serialize};
use times::Times;
use utoipa::ToSchema;

/// So long after a file of a log the next may come: one tells who was sent something, the next what they did.
pub const MORE_MAY_COME: i64 = crate::DAY;

/// More than one in so many people of an arm or of an hour who got what others were to get, and a trial is void: each brings the groups nearer to
/// each other by twice their share, and a hundredth is lost in the noise.
pub const CROSSED_AT_MOST: i64 = 100;

/// What an event says that happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = HistoryKind)]
pub enum Kind {
    /// The other system handed it over, or meant to.
    Sent,
    /// The host took it.
    Accepted,
    Deferred,
    Bounced,
    Opened,
    Clicked,
    Replied,
    Complained,
    Left,
    Bought,
}

/// The words of each kind, folded to letters alone. The longest that a text holds counts, so that "soft bounce" isn't "bounce" of another kind.
const WORDS: &[(Kind, &[&str])] = &[
    (Kind::Sent, &["sent", "send", "processed", "gesendet", "versendet", "envoye", "enviado", "inviato", "verzonden", "skickat", "sendt"]),
    (
        Kind::Accepted,
        &[
            "accepted",
            "delivered",
            "delivery",
            "zugestellt",
            "angenommen",
            "delivre",
            "entregado",
            "consegnato",
            "bezorgd",
            "levererat",
            "leveret",
        ],
    ),
    (Kind::Deferred, &["deferred", "deferral", "delayed", "postponed", "putoff", "verzogert", "differe", "diferido"]),
    (
        Kind::Bounced,
        &[
            "bounced",
            "bounce",
            "hardbounce",
            "softbounce",
            "failed",
            "failure",
            "undelivered",
            "undeliverable",
            "rejected",
            "blocked",
            "unzustellbar",
            "abgewiesen",
            "rebond",
            "rebote",
            "rimbalzo",
        ],
    ),
    (
        Kind::Opened,
        &[
            "opened",
            "open",
            "uniqueopen",
            "geoffnet",
            "offnung",
            "ouvert",
            "ouverture",
            "abierto",
            "apertura",
            "aperto",
            "geopend",
            "oppnad",
            "abnet",
        ],
    ),
    (
        Kind::Clicked,
        &["clicked", "click", "uniqueclick", "geklickt", "klick", "clique", "clic", "cliccato", "geklikt", "klickat", "klikket"],
    ),
    (Kind::Replied, &["replied", "reply", "answered", "geantwortet", "antwort", "repondu", "respuesta", "risposta", "beantwoord"]),
    (
        Kind::Complained,
        &["complained", "complaint", "spam", "spamreport", "abuse", "feedbackloop", "beschwerde", "plainte", "queja", "reclamo", "klacht"],
    ),
    (
        Kind::Left,
        &[
            "left",
            "unsubscribed",
            "unsubscribe",
            "optout",
            "optedout",
            "abgemeldet",
            "abmeldung",
            "desabonne",
            "desinscrit",
            "baja",
            "disiscritto",
            "uitgeschreven",
            "avregistrerad",
            "afmeldt",
        ],
    ),
    (
        Kind::Bought,
        &[
            "bought",
            "purchase",
            "purchased",
            "order",
            "ordered",
            "sale",
            "conversion",
            "gekauft",
            "bestellt",
            "bestellung",
            "achat",
            "compra",
            "acquisto",
            "aankoop",
        ],
    ),
];

impl Kind {
    pub const ALL: [Self; 10] = [
        Self::Sent,
        Self::Accepted,
        Self::Deferred,
        Self::Bounced,
        Self::Opened,
        Self::Clicked,
        Self::Replied,
        Self::Complained,
        Self::Left,
        Self::Bought,
    ];

    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Sent => "sent",
            Self::Accepted => "accepted",
            Self::Deferred => "deferred",
            Self::Bounced => "bounced",
            Self::Opened => "opened",
            Self::Clicked => "clicked",
            Self::Replied => "replied",
            Self::Complained => "complained",
            Self::Left => "left",
            Self::Bought => "bought",
        }
    }

    /// Reads a kind as another system words it: one of the words, or one of them with letters around it that say no other kind ("email.opened").
    #[must_use]
    pub fn read(text: &str) -> Option<Self> {
        let letters: String = plain(text).chars().filter(|c| c.is_alphabetic()).collect();
        if letters.is_empty() || letters.len() > 60 {
            return None;
        }
        let all = || WORDS.iter().flat_map(|(kind, words)| words.iter().map(move |w| (*kind, *w)));
        if let Some((kind, _)) = all().find(|(_, w)| *w == letters) {
            return Some(kind);
        }
        let longest = all().filter(|(_, w)| w.len() >= 4 && letters.contains(w)).max_by_key(|(_, w)| w.len())?;
        // Two kinds in one text, neither part of the other's word: nobody can tell.
        let odd = all().any(|(kind, w)| kind != longest.0 && w.len() >= 4 && letters.contains(w) && !longest.1.contains(w));
        (!odd).then_some(longest.0)
    }
}

/// One event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    pub address: Address,
    /// The other system's key of the mailing; empty where the log has none.
    pub mailing: String,
    /// What its mailing was called, for one without a key; empty where the log has none.
    pub subject: String,
    pub kind: Kind,
    pub at: Instant,
    /// The event's own key; empty where it has none.
    pub key: String,
    pub agent: String,
    pub link: String,
    /// What the host said.
    pub reply: String,
    /// Hundredths of the currency.
    pub cents: i64,
    pub currency: String,
}

/// Reads a row of events.
///
/// # Errors
/// Says what is wrong with it.
pub fn event(cells: &[&str], columns: &[Option<EventColumn>], times: &Times) -> Result<Event, String> {
    let cell =
        |c: EventColumn| columns.iter().position(|found| *found == Some(c)).and_then(|i| cells.get(i)).map_or("", |text| text.trim());
    let kept = |c: EventColumn, most: usize| cell(c).chars().take(most).collect::<String>();
    let address = Address::parse(cell(EventColumn::Address)).map_err(|e| e.to_string())?;
    let what = cell(EventColumn::Kind);
    let kind = Kind::read(what).ok_or_else(|| match what {
        "" => "it doesn’t say what happened".to_owned(),
        words => format!("{words:?} is none of {}", Kind::ALL.map(Kind::words).join(", ")),
    })?;
    let at = times.read(cell(EventColumn::At))?;
    let cents = match (kind, cell(EventColumn::Amount)) {
        (Kind::Bought, "") => return Err("it was bought, and no amount stands there".into()),
        (Kind::Bought, amount) => cents(amount)?,
        _ => 0,
    };
    let currency = cell(EventColumn::Currency).to_uppercase();
    if kind == Kind::Bought && (currency.len() != 3 || !currency.bytes().all(|b| b.is_ascii_uppercase())) {
        return Err(format!("{currency:?} is no currency: write its three letters, as in GBP"));
    }
    let mailing = cell(EventColumn::Mailing);
    if mailing.len() > 200 {
        return Err("the mailing’s key is over 200 bytes".into());
    }
    Ok(Event {
        address,
        mailing: mailing.to_owned(),
        subject: kept(EventColumn::Subject, 400),
        kind,
        at,
        key: kept(EventColumn::Key, 200),
        agent: kept(EventColumn::Agent, 300),
        link: kept(EventColumn::Link, 2_000),
        reply: kept(EventColumn::Reply, 500),
        cents,
        currency,
    })
}

/// A mailing that another system sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastMailing {
    pub key: String,
    pub name: String,
    pub subject: String,
    pub topic: String,
    pub sent_at: Instant,
    pub size: Option<u64>,
}

/// Reads a row of mailings. Without a key its name or subject is one, and without a name its subject.
///
/// # Errors
/// Says what is wrong with it.
pub fn mailing(cells: &[&str], columns: &[Option<MailingColumn>], times: &Times) -> Result<PastMailing, String> {
    let cell = |c: MailingColumn, most: usize| {
        let text = columns.iter().position(|found| *found == Some(c)).and_then(|i| cells.get(i)).map_or("", |text| text.trim());
        text.chars().filter(|c| !c.is_control()).take(most).collect::<String>()
    };
    let first = |of: [&String; 3]| of.into_iter().find(|t| !t.is_empty()).cloned();
    let (key, name, subject) = (cell(MailingColumn::Key, 200), cell(MailingColumn::Name, 200), cell(MailingColumn::Subject, 400));
    let sent_at = times.read(&cell(MailingColumn::SentAt, 60))?;
    let size = match cell(MailingColumn::Size, 20) {
        text if text.is_empty() => None,
        text => Some(text.parse().map_err(|_| format!("{text:?} is no number of people"))?),
    };
    Ok(PastMailing {
        key: first([&key, &name, &subject]).ok_or("it has neither key nor name nor subject")?,
        name: first([&name, &subject, &key]).unwrap_or_default(),
        topic: cell(MailingColumn::Topic, 100),
        subject,
        sent_at,
        size,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("Delivered", Some(Kind::Accepted))]
    #[case("email.opened", Some(Kind::Opened))]
    #[case("hard_bounce", Some(Kind::Bounced))]
    #[case("Geöffnet", Some(Kind::Opened))]
    #[case("désabonné", Some(Kind::Left))]
    #[case("SPAM REPORT", Some(Kind::Complained))]
    #[case("undelivered", Some(Kind::Bounced))]
    #[case("opened and clicked", None)]
    #[case("", None)]
    #[case("17", None)]
    #[case("newsletter", None)]
    fn kinds_are_read_in_the_words_of_many(#[case] text: &str, #[case] want: Option<Kind>) {
        assert_eq!(Kind::read(text), want);
    }

    proptest! {
        /// Whatever stands there, nothing falls over.
        #[test]
        fn any_word_is_a_kind_or_none(any in ".{0,30}") {
            let _ = Kind::read(&any);
        }
    }
}
