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

/// Reads an amount as people write it (`1.234,50`, `1,234.50`, `12,5`, `1 234`), in hundredths. A mark followed by three digits alone could be either:
/// it is refused.
///
/// # Errors
/// Says what is wrong with it.
pub fn cents(text: &str) -> Result<i64, String> {
    let no = || format!("{text:?} is no amount");
    let bare: String = text.chars().filter(|c| !c.is_whitespace() && !matches!(c, '\'' | '\u{2019}' | '\u{a0}' | '\u{202f}')).collect();
    let bare = bare.trim_matches(|c: char| !c.is_ascii_digit() && !matches!(c, '-' | '.' | ','));
    let (negative, digits) = bare.strip_prefix('-').map_or((false, bare), |rest| (true, rest));
    if digits.is_empty() || !digits.chars().all(|c| c.is_ascii_digit() || matches!(c, '.' | ',')) {
        return Err(no());
    }
    let marks: Vec<(usize, char)> = digits.char_indices().filter(|(_, c)| !c.is_ascii_digit()).collect();
    let (whole, part) = match marks.as_slice() {
        [] => (digits.to_owned(), ""),
        [(at, _)] if digits.len() - at - 1 == 3 => {
            return Err(format!("{text:?} could be two amounts: write it with two digits after the mark"));
        }
        [(at, _)] => (digits[..*at].to_owned(), &digits[at + 1..]),
        [(_, first), .., (at, last)] if first != last => (grouped(&digits[..*at], *first).ok_or_else(no)?, &digits[at + 1..]),
        // The same mark again and again: thousands.
        [(_, mark), ..] => (grouped(digits, *mark).ok_or_else(no)?, ""),
    };
    if part.len() > 2 && !part[2..].bytes().all(|b| b == b'0') {
        return Err(format!("{text:?} has parts of a hundredth"));
    }
    let whole: i64 = if whole.is_empty() { 0 } else { whole.parse().map_err(|_| no())? };
    if whole > 10_000_000_000 {
        return Err("the amount is over ten thousand million".into());
    }
    let hundredths: i64 = format!("{part:0<2}")[..2].parse().map_err(|_| no())?;
    let cents = whole * 100 + hundredths;
    Ok(if negative { -cents } else { cents })
}

/// The digits of thousands that a mark sets apart: groups of three, the first of one to three.
fn grouped(text: &str, mark: char) -> Option<String> {
    let groups: Vec<&str> = text.split(mark).collect();
    let (first, rest) = groups.split_first()?;
    let digits = |g: &str| g.bytes().all(|b| b.is_ascii_digit());
    ((1..=3).contains(&first.len()) && digits(first) && rest.iter().all(|g| g.len() == 3 && digits(g))).then(|| groups.concat())
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

    #[rstest]
    #[case("1.234,50", Ok(123_450))]
    #[case("1,234.50", Ok(123_450))]
    #[case("12,5", Ok(1_250))]
    #[case("12.50 €", Ok(1_250))]
    #[case("£ 12", Ok(1_200))]
    #[case("-3.00", Ok(-300))]
    #[case("1 234", Ok(123_400))]
    #[case("1.234.567", Ok(123_456_700))]
    #[case("1.234.567,8", Ok(123_456_780))]
    #[case("1'234.50", Ok(123_450))]
    #[case("1,234", Err("could be two amounts"))]
    #[case("12.345,678", Err("parts of a hundredth"))]
    #[case("1,23,456.00", Err("is no amount"))]
    #[case("twelve", Err("is no amount"))]
    #[case("", Err("is no amount"))]
    #[case("99999999999999999999", Err("is no amount"))]
    fn amounts_are_read_as_people_write_them(#[case] text: &str, #[case] want: Result<i64, &str>) {
        match (cents(text), want) {
            (Err(said), Err(want)) => assert!(said.contains(want), "{said}"),
            (found, want) => assert_eq!(found.ok(), want.ok(), "{text}"),
        }
    }

    proptest! {
        /// Whatever stands there, nothing falls over; and an amount written either way is read back.
        #[test]
        fn amounts_come_back(n in -99_999_999_i64..99_999_999, any in ".{0,30}") {
            let _ = cents(&any);
            let _ = Kind::read(&any);
            let (sign, whole, part) = (if n < 0 { "-" } else { "" }, (n / 100).abs(), (n % 100).abs());
            prop_assert_eq!(cents(&format!("{sign}{whole}.{part:02}")), Ok(n));
            prop_assert_eq!(cents(&format!("{sign}{whole},{part:02} EUR")), Ok(n));
        }
    }
}
