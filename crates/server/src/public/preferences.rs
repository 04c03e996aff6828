//! Preferences: the topics somebody gets, a break, and "stop everything". By a link from a message or
//! from a confirmed sign-up.

use super::page::{Topic, boxes, failed, fields, page as render, unknown_link};
use super::{At, instant};
use crate::state::App;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::response::Response;
use minijinja::context;
use rinse_core::consent::{Act, Consent};
use rinse_core::id::{ContactId, LetterheadId, SendId};
use rinse_core::token::Kind;
use rinse_core::{DAY, Instant};
use rinse_store::contacts;
use rinse_store::ledger::{self, Grant, Origin};
use rinse_store::letterheads::{self, Letterhead};
use rinse_store::responses::{self, Leaving};
use rinse_store::texts;
use rinse_store::topics;
use rinse_store::{Connection, StoreError};

/// Who came, by which link.
#[derive(Clone, Copy)]
struct Visitor {
    contact: ContactId,
    letterhead: LetterheadId,
    send: Option<SendId>,
}

struct Shown {
    letterhead: Letterhead,
    topics: Vec<Topic>,
    state: Consent,
    paused: Option<Instant>,
    /// The end of the number that text messages go to, when any may.
    texts: Option<String>,
    /// They ended text messages, and how they begin again: the number to answer.
    texts_ended: Option<String>,
}

fn visitor(c: &Connection, from: Link) -> rinse_store::Result<Option<Visitor>> {
    let (found, send) = match from {
        Link::Message(send) => (responses::person_of(c, send)?.zip(letterheads::number_of_send(c, send)?), Some(send)),
        Link::Person(contact, letterhead) => (Some((contact, LetterheadId(i64::from(letterhead)))), None),
    };
    let Some((contact, letterhead)) = found else { return Ok(None) };
    Ok(contacts::now(c, contact)?.map(|contact| Visitor { contact: ContactId(contact), letterhead, send }))
}

#[derive(Clone, Copy)]
enum Link {
    Message(SendId),
    Person(ContactId, u32),
}

fn link(app: &App, token: &str) -> Option<Link> {
    let of_message = app.signer.read_link(Kind::Preferences, token).map(|(send, _)| Link::Message(SendId(send)));
    of_message
        .or_else(|| app.signer.read_link(Kind::Person, token).map(|(contact, letterhead)| Link::Person(ContactId(contact), letterhead)))
}

fn shown(c: &Connection, v: Visitor, now: Instant) -> rinse_store::Result<Shown> {
    let letterhead = letterheads::one(c, v.letterhead)?;
    let topics = topics::of_person(c, v.contact)?.into_iter().map(|(id, name, on)| Topic { id, name, on }).collect();
    let standing = ledger::stated_now(c, v.contact, Grant::email(&letterhead.entity))?;
    let state = standing.at(now);
    let (mut texts, mut texts_ended) = (None, None);
    if let Some((phone, by_text)) = texts::standing(c, v.contact, &letterhead.entity)? {
        match by_text.at(now) {
            Consent::Consented | Consent::Confirmed | Consent::Paused => texts = Some(phone.masked()),
            Consent::Withdrawn if !letterhead.text_number.is_empty() => texts_ended = Some(letterhead.text_number.clone()),
            _ => {}
        }
    }
    Ok(Shown { letterhead, topics, state, paused: standing.until.filter(|_| state == Consent::Paused), texts, texts_ended })
}

fn show(s: &Shown, said: Option<String>) -> Response {
    let day = |t: Instant| t.words().split(',').next().unwrap_or_default().to_owned();
    let more = context! {
        said,
        topics => boxes(&s.topics),
        left => matches!(s.state, Consent::Withdrawn | Consent::Complained),
        none => matches!(s.state, Consent::None | Consent::Invited),
        paused => s.paused.map(day),
        texts => s.texts.as_deref(),
        texts_ended => s.texts_ended.as_deref(),
    };
    render("preferences.html", Some(&s.letterhead), "What you get from us", more)
}

pub(super) async fn page(State(app): State<App>, Path(token): Path<String>) -> Response {
    let Some(from) = link(&app, &token) else { return unknown_link() };
    let now = app.now();
    match app.store.read(move |c| visitor(c, from)?.map(|v| shown(c, v, now)).transpose()).await {
        Ok(Some(s)) => show(&s, None),
        Ok(None) | Err(StoreError::Missing(_)) => unknown_link(),
        Err(e) => failed(&e),
    }
}

/// What somebody decided.
enum Choice {
    /// The topics they keep; a break in days, 0 to end one.
    Save(Vec<i64>, Option<i64>),
    Stop,
    /// No more text messages.
    StopTexts,
    /// Takes leaving back: of one topic, or of everything.
    Back(Option<i64>),
}

fn choice(body: &[u8]) -> Option<Choice> {
    let fields = fields(body);
    let get = |name: &str| fields.iter().find(|(k, _)| k == name).map(|(_, v)| v.as_str());
    let topics: Vec<i64> = fields.iter().filter(|(k, _)| k == "topic").filter_map(|(_, v)| v.parse().ok()).collect();
    match get("act")? {
        "save" => {
            let pause = match get("pause") {
                None | Some("") => None,
                Some("end") => Some(0),
                Some(days) => Some(days.parse().ok().filter(|d| [30, 60, 90].contains(d))?),
            };
            Some(Choice::Save(topics, pause))
        }
        "stop" => Some(Choice::Stop),
        "stop-texts" => Some(Choice::StopTexts),
        "back" => Some(Choice::Back(topics.first().copied())),
        _ => None,
    }
}

fn carry_out(c: &Connection, v: Visitor, choice: &Choice, now: Instant) -> rinse_store::Result<String> {
    let evidence = v.send.map_or_else(|| "link of their sign-up".to_owned(), |s| format!("link of message {s}"));
    let origin =
        Origin { source: "preferences page", evidence, send: v.send, entity: ledger::entity_of(c, v.letterhead)?, ..Origin::default() };
    let left = |how: Leaving| v.send.map_or(Ok(()), |send| responses::by_preferences(c, send, how, now));
    Ok(match choice {
        Choice::Stop => {
            if ledger::act(c, v.contact, now, Act::Withdrew, &origin)? {
                left(Leaving::Withdrew)?;
            }
            // Everything is everything: text messages, too.
            if texts::stop(c, v.contact, now, &origin)? {
                "You get no more mail and no more text messages from us.".into()
            } else {
                "You get no more mail from us.".into()
            }
        }
        Choice::StopTexts => {
            texts::stop(c, v.contact, now, &origin)?;
            "You get no more text messages from us.".into()
        }
        Choice::Back(Some(topic)) => {
            ledger::rejoin_topic(c, v.contact, *topic, now, &origin)?;
            "Taken back: it comes again.".into()
        }
        Choice::Back(None) => {
            ledger::act(c, v.contact, now, Act::Confirmed, &origin)?;
            "You get mail again.".into()
        }
        Choice::Save(keep, pause) => {
            for t in topics::names(c)? {
                if keep.contains(&t.id) {
                    ledger::rejoin_topic(c, v.contact, t.id, now, &origin)?;
                } else if ledger::leave_topic(c, v.contact, t.id, now, &origin)? {
                    // Of the message's own topic alone it can be said that they left by the message.
                    let own = match v.send {
                        Some(send) => responses::topic_of(c, send)?,
                        None => None,
                    };
                    if own == Some(t.id) {
                        left(Leaving::Topic)?;
                    }
                }
            }
            match pause {
                Some(0) => {
                    ledger::act(c, v.contact, now, Act::Resumed, &origin)?;
                }
                Some(days) => {
                    let new = ledger::act(c, v.contact, now, Act::Paused { until: now + days * DAY }, &origin)?;
                    if new {
                        left(Leaving::Paused)?;
                    }
                }
                None => {}
            }
            "Saved. It holds from this moment.".into()
        }
    })
}

pub(super) async fn save(State(app): State<App>, Path(token): Path<String>, at: At, body: Bytes) -> Response {
    let Some(from) = link(&app, &token) else { return unknown_link() };
    let Some(choice) = choice(&body) else { return unknown_link() };
    let now = instant(&app, at);
    let done = app
        .store
        .write_first(move |c| {
            let Some(v) = visitor(c, from)? else { return Ok(None) };
            let said = carry_out(c, v, &choice, now)?;
            Ok(Some((shown(c, v, now)?, said)))
        })
        .await;
    match done {
        Ok(Some((s, said))) => show(&s, Some(said)),
        Ok(None) | Err(StoreError::Missing(_)) => unknown_link(),
        Err(e) => failed(&e),
    }
}
