//! Reactions and what they tell other systems, as part of what is due.

use super::{Engine, Result};
use crate::signed::{Message, in_time, words_of};
use axum::body::Body;
use rinse_core::{HOUR, Instant, MINUTE};
use rinse_store::findings::letters;
use rinse_store::webhooks::{self, Due};
use rinse_store::{do_not_write, hour_trials, reactions, sends, series};
use std::time::Duration;
use tower::ServiceExt;

/// Messages told at the same time.
const AT_ONCE: i64 = 16;
/// Where the record-system stand-in listens, on the demo clock.
pub(crate) const RECORDS: &str = "/standin/records";

impl Engine {
    /// When something is due next: a send, a message to another system, somebody in a series, or, where reactions are on
    /// or a series runs, a look at what has come in. On the demo clock that is each hour.
    pub(super) async fn next_due(&self) -> Result<Option<Instant>> {
        let (look, demo) = (self.clock.now() + HOUR, self.clock.is_demo());
        self.store
            .read(move |c| {
                let look = (reactions::run::active(c)? || series::active(c)?).then_some(look);
                let told = if demo { webhooks::next_due(c)? } else { None };
                Ok([sends::next_due(c)?, letters::next_due(c)?, hour_trials::next_due(c)?, told, look, series::walk::next_due(c)?]
                    .into_iter()
                    .flatten()
                    .min())
            })
            .await
    }

    /// Acts on what has come in, a part at a time, so that others can write in between.
    pub(super) async fn react(&self, now: Instant) -> Result<()> {
        if !self.store.read(reactions::run::active).await? {
            return Ok(());
        }
        while self.store.write(move |c| reactions::run::step(c, now)).await? > 0 {}
        Ok(())
    }

    /// Lets people into series, and moves those inside on, a part at a time. Who joins a segment or comes to a date is
    /// looked for each ten minutes, on the demo clock each hour.
    pub(super) async fn move_series(&self, now: Instant) -> Result<()> {
        if !self.store.read(series::active).await? {
            return Ok(());
        }
        let every = if self.clock.is_demo() { HOUR } else { 10 * MINUTE };
        for id in self.store.read(move |c| series::entering::to_look(c, now, every)).await? {
            let found = self.store.read_at_leisure(move |c| series::entering::look(c, id, now)).await?;
            for part in found.parts() {
                self.store.write(move |c| part.write(c, now)).await?;
            }
            self.store.write(move |c| series::entering::looked(c, id, now)).await?;
        }
        while self.store.write(move |c| series::walk::step(c, now)).await? > 0 {}
        Ok(())
    }

    /// Tells other systems by the machine's clock, beside the sending: one that hangs holds up no mail.
    pub(super) async fn keep_telling(self) {
        let mut seconds = tokio::time::interval(Duration::from_secs(1));
        seconds.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            seconds.tick().await;
            if let Err(e) = self.tell(self.clock.now()).await {
                tracing::error!("{e}");
            }
        }
    }

    /// Tells other systems what is due. A message whose answer is lost goes again, with the same number.
    pub(super) async fn tell(&self, now: Instant) -> Result<()> {
        if self.store.read(move |c| do_not_write::due(c, now)).await? {
            while self.store.write(move |c| do_not_write::go_on(c, now)).await? {}
        }
        loop {
            let due = self.store.read(move |c| webhooks::due(c, now, AT_ONCE)).await?;
            if due.is_empty() {
                return Ok(());
            }
            let answers = futures::future::join_all(due.iter().map(|d| self.tell_one(d, now))).await;
            self.store
                .write(move |c| due.iter().zip(&answers).try_for_each(|(d, (status, words))| webhooks::tried(c, d.id, *status, words, now)))
                .await?;
        }
    }

    async fn tell_one(&self, d: &Due, now: Instant) -> (Option<u16>, String) {
        let message = Message { url: &d.url, secret: &d.secret, id: &d.key, body: &d.body };
        let answer = async {
            if d.url != RECORDS {
                return message.post(now).await;
            }
            let doors = self.doors.get().ok_or("Rinse is starting still")?.clone();
            let Ok(answer) = doors.oneshot(message.head(now).body(Body::from(d.body.clone())).map_err(|e| e.to_string())?).await;
            Ok(words_of(answer.status().as_u16(), answer.into_body()).await)
        };
        match in_time(answer).await {
            Ok((status, words)) => (Some(status), words),
            Err(why) => (None, why),
        }
    }
}
