//! Handing over what is due: a batch is claimed, composed, asked about once more message by message, handed over, and its answers are
//! written down.
//!
//! Whatever fails on the way, each message of a claimed batch ends in one of three ways: its answer is written, it goes back to those that
//! are due because it was not handed over, or it is *loose*, kept in memory until its answer can be written. Only a crash leaves any in doubt.

use super::{Engine, Result};
use crate::composing::TextComposer;
use crate::gate::Gate;
use crate::gateway::TextMessage;
use rinse_core::Instant;
use rinse_core::bounce::{Category, Reply};
use rinse_core::channel::Channel;
use rinse_core::id::{MailingId, SendId};
use rinse_post::compose::{Composed, Composer, To};
use rinse_store::sends::{self, Mark, Outgoing};
use rinse_store::{Connection, StoreError, mailings};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::{Arc, PoisonError};

/// What makes a mailing's messages, with the custom fields that they show.
enum Ready {
    Mail(Box<Composer>, Vec<(String, i64)>),
    Text(Box<TextComposer>),
}

impl Ready {
    fn own(&self) -> &[(String, i64)] {
        match self {
            Self::Mail(_, own) => own,
            Self::Text(composer) => &composer.own,
        }
    }
}

/// By mailing; or why none of its messages can be made.
type Composers = HashMap<MailingId, Arc<std::result::Result<Ready, String>>>;

/// What became of a claimed message.
#[derive(Debug, Clone)]
enum End {
    Answered(Reply),
    /// It can't be made; why.
    Broken(String),
    /// It was not handed over.
    Back,
    /// Nobody knows yet: the host is asked.
    Unknown,
}

/// A message whose end couldn't be written down.
#[derive(Debug, Clone)]
pub(crate) struct Loose {
    send: SendId,
    end: End,
}

/// A batch with its messages made.
#[derive(Default)]
struct Made {
    mail: Vec<(SendId, Composed)>,
    texts: Vec<(SendId, TextMessage)>,
    broken: Vec<(SendId, String)>,
}

/// Makes a batch's messages. What can't be made fails alone, and says why.
fn make(composers: &Composers, batch: &[Outgoing], own: &[Vec<(String, String)>], now: Instant) -> Made {
    let mut made = Made::default();
    for (out, own) in batch.iter().zip(own) {
        let to = To {
            address: &out.address,
            given_name: out.given_name.as_deref(),
            family_name: out.family_name.as_deref(),
            country: out.country.as_deref(),
            own,
        };
        match composers.get(&out.mailing).map(AsRef::as_ref) {
            Some(Ok(Ready::Mail(composer, _))) => match composer.compose(out.send.0, out.arm, to, now.millis() / 1000) {
                Ok(m) => made.mail.push((out.send, m)),
                Err(e) => made.broken.push((out.send, e.to_string())),
            },
            Some(Ok(Ready::Text(composer))) => match composer.compose(out.send, out.phone.as_deref().unwrap_or_default(), to) {
                Ok(m) => made.texts.push((out.send, m)),
                Err(e) => made.broken.push((out.send, e.to_string())),
            },
            Some(Err(why)) => made.broken.push((out.send, why.clone())),
            None => made.broken.push((out.send, "its mailing is gone".into())),
        }
    }
    made
}

fn write_ends(c: &Connection, ends: &[Loose], now: Instant) -> Result<()> {
    for l in ends {
        match &l.end {
            End::Answered(reply) => sends::answered(c, l.send, reply, now)?,
            End::Broken(why) => sends::failed(c, l.send, Category::Unknown, why, now)?,
            End::Back => sends::back(c, l.send)?,
            End::Unknown => sends::settle(c, &[(l.send, None)], now)?,
        }
    }
    Ok(())
}

impl Engine {
    pub(super) async fn hand_over_due(&self, now: Instant) -> Result<()> {
        let mut composers = Composers::new();
        let limit = self.transport.batch();
        self.write_loose(now).await?;
        while !self.is_ending() {
            let ((batch, looked_at), since) = self.store.write(move |c| Ok((sends::claim(c, now, limit)?, sends::mark(c)?))).await?;
            if looked_at == 0 {
                return Ok(());
            }
            let (ends, failed) = self.hand_over_batch(batch, since, &mut composers, now).await;
            self.loose.lock().unwrap_or_else(PoisonError::into_inner).extend(ends);
            self.write_loose(now).await?;
            if let Some(e) = failed {
                return Err(e);
            }
        }
        Ok(())
    }

    /// Writes down what became of messages; those whose end nobody knows yet are asked about first.
    async fn write_loose(&self, now: Instant) -> Result<()> {
        let mut loose = std::mem::take(&mut *self.loose.lock().unwrap_or_else(PoisonError::into_inner));
        if loose.is_empty() {
            return Ok(());
        }
        let unknown: Vec<SendId> = loose.iter().filter(|l| matches!(l.end, End::Unknown)).map(|l| l.send).collect();
        let known = match self.ask_hosts(unknown).await {
            Ok(known) => known,
            Err(e) => {
                self.loose.lock().unwrap_or_else(PoisonError::into_inner).extend(loose);
                return Err(e);
            }
        };
        for l in &mut loose {
            match known.get(&l.send) {
                Some(Some(true)) => l.end = End::Answered(Reply { code: 250, enhanced: None, text: "accepted".into() }),
                Some(Some(false)) => l.end = End::Back,
                _ => {}
            }
        }
        let ends = Arc::new(loose);
        let written = Arc::clone(&ends);
        let done = self.store.write(move |c| write_ends(c, &written, now)).await;
        if done.is_err() {
            self.loose.lock().unwrap_or_else(PoisonError::into_inner).extend(ends.iter().cloned());
        }
        done
    }

    /// Do the hosts have these messages?
    pub(super) async fn ask_hosts(&self, sends: Vec<SendId>) -> Result<HashMap<SendId, Option<bool>>> {
        if sends.is_empty() {
            return Ok(HashMap::new());
        }
        let engine = self.clone();
        self.store
            .read(move |c| {
                sends
                    .into_iter()
                    .map(|send| {
                        let (channel, domain) = sends::sent_from(c, send)?;
                        let number = engine.signer.message(send);
                        let held = match channel {
                            Channel::Text => engine.texts.holds(&number),
                            Channel::Email => engine.transport.holds(&format!("{number}@{domain}")),
                        };
                        Ok((send, held))
                    })
                    .collect()
            })
            .await
    }

    /// Hands a claimed batch over: what became of each message, and what went wrong with the rest.
    async fn hand_over_batch(
        &self,
        batch: Vec<Outgoing>,
        since: Mark,
        composers: &mut Composers,
        now: Instant,
    ) -> (Vec<Loose>, Option<StoreError>) {
        let all: Vec<SendId> = batch.iter().map(|out| out.send).collect();
        let made = match self.make_batch(batch, composers, now).await {
            Ok(made) => made,
            Err(e) => return (all.into_iter().map(|send| Loose { send, end: End::Back }).collect(), Some(e)),
        };
        let mut ends: Vec<Loose> = made.broken.into_iter().map(|(send, why)| Loose { send, end: End::Broken(why) }).collect();
        let gate = |sends: &[SendId]| Gate::of(&self.store, &self.ending, since, sends);
        let (mail_ids, mail): (Vec<SendId>, Vec<Composed>) = made.mail.into_iter().unzip();
        let (text_ids, texts): (Vec<SendId>, Vec<TextMessage>) = made.texts.into_iter().unzip();
        let mut failed = None;
        let mut take = |sends: Vec<SendId>, replies: std::result::Result<Vec<Option<Reply>>, String>| match replies {
            Ok(replies) => {
                ends.extend(sends.into_iter().zip(replies).map(|(send, reply)| Loose { send, end: reply.map_or(End::Back, End::Answered) }))
            }
            Err(why) => {
                ends.extend(sends.into_iter().map(|send| Loose { send, end: End::Unknown }));
                failed = Some(StoreError::Refused(why));
            }
        };
        let replies = self.transport.hand_over(now, &mail, &gate(&mail_ids)).await;
        take(mail_ids, replies);
        let replies = self.texts.hand_over(now, &texts, &gate(&text_ids)).await;
        take(text_ids, replies);
        (ends, failed)
    }

    /// Makes a batch's messages, on a thread for such work.
    async fn make_batch(&self, batch: Vec<Outgoing>, composers: &mut Composers, now: Instant) -> Result<Made> {
        for out in &batch {
            if let Entry::Vacant(e) = composers.entry(out.mailing) {
                e.insert(Arc::new(self.composer(out.mailing).await.map_err(|e| e.to_string())));
            }
        }
        let needed = composers.clone();
        let work = move |c: &Connection| {
            let own = |out: &Outgoing| match needed.get(&out.mailing).map(AsRef::as_ref) {
                Some(Ok(ready)) if !ready.own().is_empty() => mailings::own_values(c, out.contact, ready.own()),
                _ => Ok(Vec::new()),
            };
            let own = batch.iter().map(own).collect::<Result<Vec<_>>>()?;
            Ok(make(&needed, &batch, &own, now))
        };
        self.store.read(work).await
    }

    /// What makes the messages of a mailing.
    async fn composer(&self, mailing: MailingId) -> Result<Ready> {
        let engine = self.clone();
        self.store
            .read(move |c| {
                let m = mailings::one(c, mailing)?;
                Ok(if m.draft.channel == Channel::Text {
                    Ready::Text(Box::new(TextComposer::of(c, &engine.base_url, &engine.signer, &m)?))
                } else {
                    let (composer, own) = crate::composing::composer_of(c, &engine.base_url, &engine.signer, &m)?;
                    Ready::Mail(Box::new(composer), own)
                })
            })
            .await
    }
}
