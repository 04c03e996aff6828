//! Mail that comes in: reports, replies, answers of programs.

use super::{At, instant};
use crate::message;
use crate::state::App;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use rinse_core::Instant;
use rinse_core::message::subject;
use rinse_core::token::Kind;
use rinse_post::inbound::{self, Inbound, Written};
use rinse_store::{responses, sends, signups};
use sha2::{Digest, Sha256};

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
    found.await.unwrap_or_else(|e| {
        tracing::error!("what a reply answers could not be looked up: {e}");
        None
    })
}

/// Raw mail to one of our addresses. Reports are matched by the signed token in the address alone; replies by that, else by
/// the message they answer, else by sender and subject. What can't be matched changes nothing.
pub(super) async fn take(State(app): State<App>, headers: HeaderMap, at: At, body: Bytes) -> Response {
    let to = headers.get("x-envelope-to").and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let at = instant(&app, at);
    let digest: [u8; 32] = Sha256::digest(&body).into();
    let local = to.split('@').next().unwrap_or_default();
    let returned = local.strip_prefix("back+").and_then(|t| app.signer.read_mailbox(Kind::Return, t));
    // Replies go where the letterhead says, the token behind the last plus sign.
    let replied = local.rsplit_once('+').and_then(|(_, t)| app.signer.read_mailbox(Kind::Reply, t));
    let mut read = inbound::read(&body);
    // Without a number that it answers it may be a reply all the same.
    let written = matches!(read, Inbound::Reply | Inbound::Other).then(|| inbound::written(&body)).unwrap_or_default();
    // A reply to another address of ours is known by the number of the message that it answers.
    let answered = |id: &String| app.signer.read_message(id.split('@').next()?);
    let mut send = returned.or(replied).or_else(|| written.answers.iter().find_map(answered));
    if send.is_none() && !written.from.is_empty() {
        send = by_subject(&app, &written, at).await;
    }
    // What came back to a return path and can't be read is a report of some kind, and no reply.
    if send.is_some() && returned.is_none() && matches!(read, Inbound::Other) {
        read = Inbound::Reply;
    }
    // An invitation's reports come back by its own token.
    let invitation = local.strip_prefix("back+").and_then(|t| app.signer.read_mailbox(Kind::Confirm, t));
    let kind = match &read {
        Inbound::DeliveryStatus(_) => "delivery status",
        Inbound::Feedback { .. } => "feedback",
        Inbound::AutoReply => "auto-reply",
        Inbound::Reply => "reply",
        Inbound::Other => "other",
    };
    let done = app
        .store
        .write(move |c| {
            if !responses::first_time(c, &digest, at, kind, send)? {
                return Ok(());
            }
            if let Some(sign_up) = invitation {
                match &read {
                    Inbound::DeliveryStatus(recipients) => {
                        for r in recipients.iter().filter(|r| r.action == "failed") {
                            signups::came_back(c, sign_up, &r.reply)?;
                        }
                    }
                    Inbound::Feedback { kind } if kind == "abuse" => signups::complained(c, sign_up, at)?,
                    _ => {}
                }
            }
            let Some(send) = send else { return Ok(()) };
            match read {
                Inbound::DeliveryStatus(recipients) => {
                    for r in recipients.iter().filter(|r| r.action == "failed") {
                        sends::failed(c, send, r.reply.category(), &r.reply.line(), at)?;
                    }
                }
                Inbound::Feedback { kind } if kind == "abuse" => {
                    responses::complaint(c, send, at)?;
                }
                Inbound::Reply => {
                    responses::reply(c, send, at, &written.subject, &written.text)?;
                }
                Inbound::Feedback { .. } | Inbound::AutoReply | Inbound::Other => {}
            }
            Ok(())
        })
        .await;
    match done {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(e) => {
            tracing::error!("a message was not taken in: {e}");
            StatusCode::SERVICE_UNAVAILABLE.into_response()
        }
    }
}
