//! Mail that comes in: reports, replies, answers of programs.

use super::{At, instant};
use crate::handlers::delivery::reports::take_file;
use crate::message;
use crate::state::App;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use rinse_core::Instant;
use rinse_core::id::SendId;
use rinse_core::message::subject;
use rinse_core::token::{Kind, hex};
use rinse_post::inbound::{self, Inbound, Written};
use rinse_post::reports;
use rinse_store::{Connection, doors, notices, responses, sends, signups};
use sha2::{Digest, Sha256};
use std::time::Duration;

/// A message is read within this, or set aside.
const PATIENCE: Duration = Duration::from_secs(10);

/// The message that somebody answers by its subject: the latest of those that went to the sender's address.
async fn by_subject(app: &App, written: &Written, at: Instant) -> Option<i64> {
    let (asked, from, theirs) = (app.clone(), written.from.clone(), written.subject.clone());
    let found = app.store.read(move |c| {
        for s in responses::lately_sent(c, &from, at)? {
            let d = rinse_store::mailings::one(c, s.mailing)?.draft;
            // One that can't be shown any more answers to nothing.
            let ours = message::shown(c, &asked, &d, s.arm, Some(s.contact)).map(|shown| shown.subject).unwrap_or_default();
            if subject::answers(&theirs, &ours) {
                return Ok(Some(s.send));
            }
        }
        Ok(None)
    });
    found
        .await
        .unwrap_or_else(|e| {
            tracing::error!("what a reply answers could not be looked up: {e}");
            None
        })
        .map(|id| id.0)
}

/// How a reply was known.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Known {
    /// By the token in the address it came to, or by our message's number together with its sender.
    Surely,
    /// Anybody could have written it.
    Probably,
}

/// Raw mail to one of our addresses, by a door whose secret its source knows. Reports are matched by the signed token in the address
/// alone; replies by that, else by the number of the message that they answer together with their sender. By either of those alone,
/// or by sender and subject, it is probably a reply. What can't be matched changes nothing.
pub(super) async fn take(State(app): State<App>, Path(secret): Path<String>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let door = match app.door_of(&secret).await {
        Ok(Some(door)) => door,
        Ok(None) => {
            return (StatusCode::UNAUTHORIZED, "This door doesn't open with that address. Make one under Other systems.").into_response();
        }
        Err(_) => return StatusCode::SERVICE_UNAVAILABLE.into_response(),
    };
    let at = instant(&app, at);
    let digest: [u8; 32] = Sha256::digest(&body).into();
    let raw = body.clone();
    let read = match app.apart.run(PATIENCE, move || inbound::incoming(&raw)).await {
        Ok(Ok(read)) => read,
        Ok(Err(why)) => return unreadable(&app, &digest, &body, at, &why).await,
        Err(why) => return unreadable(&app, &digest, &body, at, &why).await,
    };
    let named = headers.get("x-envelope-to").and_then(|v| v.to_str().ok()).map(str::to_owned);
    let to = named.unwrap_or(read.delivered_to);
    let (mut kind, written) = (read.kind, read.written);
    let local = to.split('@').next().unwrap_or_default();
    let returned = local.strip_prefix("back+").and_then(|t| app.signer.read_mailbox(Kind::Return, t));
    // Replies go where the letterhead says, the token behind the last plus sign.
    let replied = local.rsplit_once('+').and_then(|(_, t)| app.signer.read_mailbox(Kind::Reply, t));
    let mut send = returned.or(replied);
    let mut known = Known::Surely;
    // Other hosts' reports of mail in our name come to an address of ours like any mail. Broken ones are kept where reports are asked for.
    if send.is_none() && !matches!(kind, Inbound::Feedback { .. }) && !local.contains('+') {
        let (raw, asked_for) = (body.clone(), local.eq_ignore_ascii_case("reports"));
        if app
            .apart
            .run(PATIENCE, move || reports::may_bring_one(&raw) && (asked_for || reports::read(&raw).is_ok()))
            .await
            .unwrap_or(false)
        {
            if let Some(door) = door
                && app.store.write(move |c| doors::used(c, door, at)).await.is_err()
            {
                return StatusCode::SERVICE_UNAVAILABLE.into_response();
            }
            return match take_file(&app, format!("mail of {}", at.words()), body, None).await {
                Ok(_) => StatusCode::NO_CONTENT.into_response(),
                Err(_) => StatusCode::SERVICE_UNAVAILABLE.into_response(),
            };
        }
    }
    // Without a number that it answers it may be a reply all the same.
    if send.is_none() && matches!(kind, Inbound::Reply | Inbound::Other) {
        match answered(&app, &written, at).await {
            Ok(found) => (send, known) = found,
            Err(_) => return StatusCode::SERVICE_UNAVAILABLE.into_response(),
        }
    }
    // What came back to a return path and can't be read is a report of some kind, and no reply.
    if send.is_some() && returned.is_none() && matches!(kind, Inbound::Other) {
        kind = Inbound::Reply;
    }
    // An invitation's reports come back by its own token.
    let invitation = local.strip_prefix("back+").and_then(|t| app.signer.read_mailbox(Kind::Confirm, t));
    // Somebody who complains is taken in before everything that waits.
    let leaves = matches!(&kind, Inbound::Feedback { .. });
    let write = move |c: &Connection| {
        if let Some(door) = door {
            doors::used(c, door, at)?;
        }
        if responses::first_time(c, &digest, at, word(&kind, known), send.map(SendId))? {
            if let Some(sign_up) = invitation {
                about_invitation(c, sign_up, &kind, at)?;
            }
            if let Some(send) = send {
                about_message(c, SendId(send), kind, &written, known, at)?;
            }
        }
        Ok(())
    };
    let done = if leaves { app.store.write_first(write).await } else { app.store.write(write).await };
    match done {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(e) => {
            tracing::error!("a message was not taken in: {e}");
            StatusCode::SERVICE_UNAVAILABLE.into_response()
        }
    }
}

/// The message that something answers, by its number or by its subject.
async fn answered(app: &App, written: &Written, at: Instant) -> rinse_store::Result<(Option<i64>, Known)> {
    // A reply to another address of ours is known by the number of the message that it answers.
    let Some(send) = written.answers.iter().find_map(|id| app.signer.read_message(id.split('@').next()?)) else {
        let send = if written.from.is_empty() { None } else { by_subject(app, written, at).await };
        return Ok((send, Known::Probably));
    };
    let from = written.from.clone();
    let theirs = app.store.read(move |c| responses::went_to(c, SendId(send), &from)).await?;
    Ok((Some(send), if theirs { Known::Surely } else { Known::Probably }))
}

fn word(kind: &Inbound, known: Known) -> &'static str {
    match kind {
        Inbound::DeliveryStatus(_) => "delivery status",
        Inbound::Feedback { .. } => "feedback",
        Inbound::AutoReply => "auto-reply",
        Inbound::Reply if known == Known::Probably => "probably a reply",
        Inbound::Reply => "reply",
        Inbound::Other => "other",
    }
}

fn about_invitation(c: &Connection, sign_up: i64, kind: &Inbound, at: Instant) -> rinse_store::Result<()> {
    match kind {
        Inbound::DeliveryStatus(recipients) => {
            for r in recipients.iter().filter(|r| r.action == "failed") {
                signups::came_back(c, sign_up, &r.reply)?;
            }
        }
        Inbound::Feedback { complaint: true } => signups::complained(c, sign_up, at)?,
        _ => {}
    }
    Ok(())
}

fn about_message(c: &Connection, send: SendId, kind: Inbound, written: &Written, known: Known, at: Instant) -> rinse_store::Result<()> {
    match kind {
        Inbound::DeliveryStatus(recipients) => {
            for r in recipients.iter().filter(|r| r.action == "failed") {
                sends::failed(c, send, r.reply.category(), &r.reply.line(), at)?;
            }
        }
        Inbound::Feedback { complaint: true } => {
            responses::complaint(c, send, at)?;
        }
        Inbound::Reply if known == Known::Probably => responses::probably_reply(c, send, at, &written.subject, &written.text)?,
        Inbound::Reply => {
            responses::reply(c, send, at, &written.subject, &written.text)?;
        }
        Inbound::Feedback { .. } | Inbound::AutoReply | Inbound::Other => {}
    }
    Ok(())
}

/// What can't be read is kept, and a person is told.
async fn unreadable(app: &App, digest: &[u8], raw: &Bytes, at: Instant, why: &(dyn std::fmt::Display + Sync)) -> Response {
    let name = hex(&digest[..8]);
    let words = format!(
        "A message couldn’t be read: {why}. It is kept as {name} in the mailbox’s folder “aside”. If it was a report or a reply, nothing came of it."
    );
    tracing::warn!("{words}");
    let (engine, kept, raw) = (app.engine.clone(), name.clone(), raw.clone());
    let keep = tokio::task::spawn_blocking(move || engine.mailbox().keep_aside(&kept, &raw));
    let noted = app.store.write(move |c| notices::raise(c, notices::MAIL, &name, &words, at));
    match (keep.await, noted.await) {
        (Ok(Ok(())), Ok(())) => (StatusCode::ACCEPTED, "It can’t be read, and was set aside.").into_response(),
        _ => StatusCode::SERVICE_UNAVAILABLE.into_response(),
    }
}
