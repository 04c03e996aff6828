//! What the columns of a log hold: by their names in the common languages, and by what stands in them, whatever they are called.

use super::{Kind, times};
use crate::address::Address;
use crate::bounce::is_reply_line;
use crate::table::money::{cents, is_currency};
use crate::table::plain;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A column of a table of events.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = HistoryEventColumn)]
pub enum EventColumn {
    Address,
    Mailing,
    /// The mailing's subject, where the log has no key of it.
    Subject,
    Kind,
    At,
    Agent,
    Link,
    Reply,
    Amount,
    Currency,
    Key,
}

/// A column of a table of mailings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = HistoryMailingColumn)]
pub enum MailingColumn {
    Key,
    Name,
    Subject,
    Topic,
    SentAt,
    Size,
}

type Names<C> = &'static [(C, &'static [&'static str])];

const EVENTS: Names<EventColumn> = &[
    (
        EventColumn::Address,
        &[
            "email",
            "mail",
            "address",
            "emailaddress",
            "recipient",
            "to",
            "rcpt",
            "empfanger",
            "destinataire",
            "destinatario",
            "ontvanger",
            "mottagare",
        ],
    ),
    (
        EventColumn::Mailing,
        &[
            "mailing",
            "mailingid",
            "mailingkey",
            "messageid",
            "campaign",
            "campaignid",
            "campaignname",
            "newsletter",
            "newsletterid",
            "broadcast",
            "kampagne",
            "kampagnenid",
            "aussendung",
            "campagne",
            "campana",
            "campagna",
        ],
    ),
    (EventColumn::Subject, SUBJECTS),
    (
        EventColumn::Kind,
        &[
            "event",
            "kind",
            "type",
            "eventtype",
            "action",
            "activity",
            "status",
            "ereignis",
            "aktion",
            "evenement",
            "evento",
            "azione",
            "handelse",
            "haendelse",
        ],
    ),
    (
        EventColumn::At,
        &[
            "at",
            "time",
            "timestamp",
            "date",
            "datetime",
            "eventtime",
            "eventdate",
            "occurredat",
            "createdat",
            "ts",
            "zeit",
            "zeitpunkt",
            "datum",
            "uhrzeit",
            "heure",
            "fecha",
            "data",
            "tijd",
            "tid",
            "tidspunkt",
        ],
    ),
    (EventColumn::Agent, &["agent", "useragent", "browser", "client", "ua", "programm", "navigateur", "navegador", "programma"]),
    (
        EventColumn::Link,
        &[
            "link",
            "url",
            "clickedurl",
            "linkurl",
            "target",
            "ziel",
            "lien",
            "enlace",
            "collegamento",
            "lank",
            "page",
            "seite",
            "pagina",
            "sida",
            "side",
        ],
    ),
    (
        EventColumn::Reply,
        &[
            "reply",
            "response",
            "smtpresponse",
            "reason",
            "diagnostic",
            "diagnosticcode",
            "bouncereason",
            "hostreply",
            "smtpreply",
            "grund",
            "antwort",
            "raison",
            "motivo",
            "reden",
        ],
    ),
    (
        EventColumn::Amount,
        &[
            "amount",
            "value",
            "revenue",
            "price",
            "total",
            "ordervalue",
            "betrag",
            "umsatz",
            "summe",
            "montant",
            "importe",
            "importo",
            "valor",
            "bedrag",
            "belopp",
        ],
    ),
    (EventColumn::Currency, &["currency", "currencycode", "wahrung", "devise", "moneda", "valuta", "moeda"]),
    (EventColumn::Key, &["id", "key", "eventid", "eventkey", "uuid", "orderid", "ordernumber", "bestellnummer"]),
];

const SUBJECTS: &[&str] =
    &["subject", "subjectline", "betreff", "betreffzeile", "objet", "asunto", "oggetto", "assunto", "onderwerp", "amne", "emne"];

const MAILINGS: Names<MailingColumn> = &[
    (
        MailingColumn::Key,
        &[
            "id",
            "key",
            "mailing",
            "mailingid",
            "mailingkey",
            "campaignid",
            "messageid",
            "newsletterid",
            "broadcastid",
            "kampagnenid",
            "nummer",
            "aussendung",
            "newsletter",
            "broadcast",
            "envoi",
            "envio",
        ],
    ),
    (
        MailingColumn::Name,
        &[
            "name",
            "title",
            "campaign",
            "campaignname",
            "mailingname",
            "titel",
            "bezeichnung",
            "nom",
            "titre",
            "nombre",
            "nome",
            "titolo",
            "naam",
            "namn",
            "navn",
            "kampagne",
            "campagne",
            "campana",
            "campagna",
        ],
    ),
    (MailingColumn::Subject, SUBJECTS),
    (
        MailingColumn::Topic,
        &["topic", "category", "type", "list", "thema", "rubrik", "kategorie", "sujet", "tema", "argomento", "onderdeel", "amnesomrade"],
    ),
    (
        MailingColumn::SentAt,
        &[
            "sentat",
            "sent",
            "senddate",
            "sendtime",
            "date",
            "datetime",
            "time",
            "at",
            "gesendet",
            "versendetam",
            "versanddatum",
            "versandzeit",
            "datum",
            "envoyele",
            "fecha",
            "data",
            "verzonden",
            "skickad",
            "sendt",
        ],
    ),
    (
        MailingColumn::Size,
        &[
            "size",
            "audience",
            "audiencesize",
            "recipients",
            "sentto",
            "count",
            "total",
            "empfanger",
            "anzahl",
            "empfangerzahl",
            "anzahlempfanger",
            "destinataires",
            "destinatarios",
            "destinatari",
            "ontvangers",
            "mottagare",
            "modtagere",
        ],
    ),
];

fn by_name<C: Copy + PartialEq>(names: Names<C>, name: &str) -> Option<C> {
    let name = plain(name);
    names.iter().find(|(_, known)| known.contains(&name.as_str())).map(|(c, _)| *c)
}

/// The cells of a column that hold something.
fn filled(body: &[Vec<String>], column: usize) -> Vec<&str> {
    body.iter().filter_map(|r| r.get(column)).map(|c| c.trim()).filter(|c| !c.is_empty()).collect()
}

/// Do nine in ten cells fit? A broken cell says nothing of a column.
fn most(cells: &[&str], fits: impl Fn(&str) -> bool) -> bool {
    !cells.is_empty() && cells.iter().filter(|c| fits(c)).count() * 10 >= cells.len() * 9
}

fn is_address(cell: &str) -> bool {
    Address::parse(cell).is_ok()
}

fn is_link(cell: &str) -> bool {
    cell.starts_with("https://") || cell.starts_with("http://")
}

/// The names that mail programs and proxies give themselves begin so (RFC 9110, 10.1.5).
fn is_agent(cell: &str) -> bool {
    cell.split_once('/').is_some_and(|(product, version)| {
        !product.is_empty() && product.len() <= 40 && !product.contains([' ', ':']) && version.starts_with(|c: char| c.is_ascii_digit())
    })
}

/// What a column's cells say that it is, first what says most.
fn event_by_cells(cells: &[&str]) -> Option<EventColumn> {
    let told: [(fn(&str) -> bool, EventColumn); 7] = [
        (is_address, EventColumn::Address),
        (is_link, EventColumn::Link),
        (|c| Kind::read(c).is_some(), EventColumn::Kind),
        (is_reply_line, EventColumn::Reply),
        (is_agent, EventColumn::Agent),
        (times::is_instant, EventColumn::At),
        (is_currency, EventColumn::Currency),
    ];
    told.into_iter().find(|(is, _)| most(cells, *is)).map(|(_, c)| c)
}

/// Can a column be what its name says? A "date" without any date in it can't.
fn event_fits(column: EventColumn, cells: &[&str]) -> bool {
    match column {
        EventColumn::Address => cells.is_empty() || most(cells, is_address),
        // Other systems note much that is no event of a message, under the same name.
        EventColumn::Kind => cells.is_empty() || cells.iter().filter(|c| Kind::read(c).is_some()).count() * 2 >= cells.len(),
        EventColumn::At => cells.is_empty() || most(cells, times::is_instant),
        EventColumn::Amount => cells.is_empty() || most(cells, |c| cents(c).is_ok()),
        EventColumn::Currency => cells.is_empty() || most(cells, is_currency),
        _ => true,
    }
}

/// Proposes what each column of a table of events holds; none: it is left out.
#[must_use]
pub fn events(records: &[Vec<String>], header: bool) -> Vec<Option<EventColumn>> {
    propose(records, header, |name| by_name(EVENTS, name), event_fits, event_by_cells)
}

/// Proposes what each column of a table of mailings holds; none: it is left out.
#[must_use]
pub fn mailings(records: &[Vec<String>], header: bool) -> Vec<Option<MailingColumn>> {
    let fits = |column, cells: &[&str]| match column {
        MailingColumn::SentAt => cells.is_empty() || most(cells, times::is_instant),
        MailingColumn::Size => cells.is_empty() || most(cells, |c| c.bytes().all(|b| b.is_ascii_digit())),
        _ => true,
    };
    let by_cells = |cells: &[&str]| most(cells, times::is_instant).then_some(MailingColumn::SentAt);
    propose(records, header, |name| by_name(MAILINGS, name), fits, by_cells)
}

fn propose<C: Copy + PartialEq>(
    records: &[Vec<String>],
    header: bool,
    by_name: impl Fn(&str) -> Option<C>,
    fits: impl Fn(C, &[&str]) -> bool,
    by_cells: impl Fn(&[&str]) -> Option<C>,
) -> Vec<Option<C>> {
    let width = records.iter().map(Vec::len).max().unwrap_or(0);
    let body = &records[usize::from(header).min(records.len())..];
    let name = |c: usize| records.first().filter(|_| header).and_then(|r| r.get(c)).map_or("", String::as_str);
    let mut found: Vec<Option<C>> = vec![None; width];
    for c in 0..width {
        let said = by_name(name(c)).filter(|column| fits(*column, &filled(body, c)));
        if said.is_some() && !found.contains(&said) {
            found[c] = said;
        }
    }
    for c in 0..width {
        if found[c].is_none() {
            let said = by_cells(&filled(body, c));
            if said.is_some() && !found.contains(&said) {
                found[c] = said;
            }
        }
    }
    found
}

/// What a table is, by its columns.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = HistoryTable)]
pub enum Table {
    Mailings,
    Events,
}

/// What a table is: one of events has an address and an instant, and says what happened; one of mailings has no addresses. None: neither.
#[must_use]
pub fn table(records: &[Vec<String>], header: bool) -> Option<Table> {
    let of_events = events(records, header);
    let has = |c| of_events.contains(&Some(c));
    if has(EventColumn::Address) {
        return (has(EventColumn::At) && has(EventColumn::Kind)).then_some(Table::Events);
    }
    let of_mailings = mailings(records, header);
    let has = |c| of_mailings.contains(&Some(c));
    (has(MailingColumn::SentAt) && (has(MailingColumn::Key) || has(MailingColumn::Name) || has(MailingColumn::Subject)))
        .then_some(Table::Mailings)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rows(r: &[&[&str]]) -> Vec<Vec<String>> {
        r.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect()
    }

    #[test]
    fn logs_of_many_shapes_are_found_out() {
        use EventColumn::{Address, Agent, Amount, At, Currency, Key, Kind, Link, Mailing, Reply};
        let german = rows(&[
            &["Empfänger", "Kampagne", "Ereignis", "Zeitpunkt", "Grund", "Betrag", "Währung"],
            &["jorun.brand@tern.example", "K-17", "Zugestellt", "16.4.2026 18:40", "", "", ""],
            &["ole.kliff@tern.example", "K-17", "unzustellbar", "16.4.2026 18:41", "550 5.1.1 unbekannt", "", ""],
        ]);
        assert_eq!(events(&german, true), [Some(Address), Some(Mailing), Some(Kind), Some(At), Some(Reply), Some(Amount), Some(Currency)]);
        assert_eq!(table(&german, true), Some(Table::Events));
        // Under names that say nothing, what stands in them does; a "status" that is none isn't taken for one.
        let odd = rows(&[
            &["c1", "c2", "c3", "c4", "c5", "status", "id"],
            &["opened", "1776364800", "brand@tern.example", "Reader/5.1 (quiet)", "", "gold", "e-1"],
            &["clicked", "1776364900", "kliff@tern.example", "Mail/2.0", "https://skerry-light.example/a", "oil", "e-2"],
        ]);
        assert_eq!(events(&odd, true), [Some(Kind), Some(At), Some(Address), Some(Agent), Some(Link), None, Some(Key)]);
        let mailings_of = rows(&[
            &["Nummer", "Bezeichnung", "Betreffzeile", "Versanddatum", "Anzahl"],
            &["K-17", "Tide im April", "Wann die Flut kommt", "2026-04-16 18:40", "1200"],
        ]);
        use MailingColumn as M;
        assert_eq!(mailings(&mailings_of, true), [Some(M::Key), Some(M::Name), Some(M::Subject), Some(M::SentAt), Some(M::Size)]);
        assert_eq!(table(&mailings_of, true), Some(Table::Mailings));
        assert_eq!(table(&rows(&[&["email"], &["a@tern.example"]]), true), None);
    }

    proptest! {
        /// Whatever stands in a table, no two columns are taken for the same.
        #[test]
        fn no_two_columns_are_the_same(cells in prop::collection::vec(prop::collection::vec(prop::sample::select(vec![
            "a@tern.example", "opened", "1776364800", "2026-04-16", "12,50", "EUR", "550 5.1.1 no such user", "https://tern.example", "id", "event", "",
        ]), 1..6), 0..6), header: bool) {
            let table: Vec<Vec<String>> = cells.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect();
            let found: Vec<EventColumn> = events(&table, header).into_iter().flatten().collect();
            prop_assert!(found.iter().enumerate().all(|(i, c)| !found[..i].contains(c)));
        }
    }
}
