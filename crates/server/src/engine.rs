//! The engine: at each instant it sends what is due, reads trials whose window is over, and lets
//! rests end. On the demo clock it also brings in what the simulated world does meanwhile.

mod cleaning;
mod handing;
mod hours;
mod letters;
mod machines;
mod mail;
mod names;
mod panel;
mod react;
mod records;
mod text;
mod till;
mod trying;
mod warming;

use crate::gate::Gate;
pub(crate) use react::RECORDS;
use rinse_core::id::{ContactId, MailingId, SendId};
pub(crate) use trying::TestMessage;

use crate::clock::Clock;
use crate::dns::Dns;
use crate::gateway::Texts;
use crate::mailbox::Maildir;
use crate::progress::{Job, Jobs};
use crate::transport::Transport;
use axum::Router;
use axum::body::Body;
use axum::extract::ConnectInfo;
use axum::http::Request;
use rinse_core::Instant;
use rinse_core::bounce::Reply;
use rinse_core::clearance::Outcome;
use rinse_core::standing::TrialEvent;
use rinse_core::token::Signer;
use rinse_core::trial::{assign, reading};
use rinse_standins::network::{Network, What};
use rinse_store::clearing::{Clearance, Decided};
use rinse_store::delivery::alerts;
use rinse_store::sends::{self, Hour, Phase, Turn};
use rinse_store::upkeep::{incidents, made_of, policy, runs, silence, status};
use rinse_store::{
    Store, StoreError, clearing, cohorts, flow, history, hour_trials, letterheads, load, mailings, self_check, settings, signups,
    suppression, trials,
};
use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex as StdMutex, OnceLock, PoisonError};
use tokio::sync::{Mutex, Notify, watch};
use tower::ServiceExt;

/// When an in-process request was received, set by the engine alone: no header can claim it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ReceivedAt(pub(crate) Instant);

/// Sends and reads; cheap to clone.
#[derive(Clone)]
pub struct Engine {
    store: Store,
    clock: Arc<Clock>,
    signer: Signer,
    transport: Transport,
    texts: Texts,
    /// Who is asked what only DNS knows.
    pub(crate) dns: Dns,
    base_url: Arc<String>,
    jobs: Jobs,
    turn: Arc<Mutex<()>>,
    wake: Arc<Notify>,
    doors: Arc<OnceLock<Router>>,
    /// Where mail to our own addresses waits to be read.
    mailbox: Maildir,
    /// The secret by which what the engine itself brings comes in, this process's own.
    own_door: Arc<str>,
    /// Messages on their way whose answers couldn't be written down.
    loose: Arc<StdMutex<Vec<handing::Loose>>>,
    /// Why nothing is sent, when nothing can be.
    trouble: Arc<StdMutex<Option<String>>>,
    ending: watch::Receiver<bool>,
    /// What is stored is judged by one at a time.
    judging: Arc<Mutex<()>>,
}

type Result<T> = std::result::Result<T, StoreError>;

/// World events handled at once.
const EVENTS: usize = 1_000;
/// People of a mailing put on record in one transaction.
const RECORDED_AT_ONCE: usize = 1_000;

impl Engine {
    pub(crate) fn new(
        store: Store,
        clock: Arc<Clock>,
        signer: Signer,
        (transport, texts, dns): (Transport, Texts, Dns),
        base_url: Arc<String>,
        (jobs, ending): (Jobs, watch::Receiver<bool>),
        mailbox: Maildir,
    ) -> Self {
        Self {
            store,
            clock,
            signer,
            transport,
            texts,
            dns,
            base_url,
            jobs,
            mailbox,
            own_door: rinse_core::token::hex(&rand::random::<[u8; 24]>()).into(),
            loose: Arc::default(),
            trouble: Arc::default(),
            ending,
            turn: Arc::default(),
            judging: Arc::default(),
            wake: Arc::default(),
            doors: Arc::default(),
        }
    }

    pub(crate) fn set_doors(&self, router: Router) {
        let _ = self.doors.set(router);
    }

    /// Settles the sends that were being handed over when the process stopped.
    pub(crate) async fn recover(&self) -> Result<()> {
        let now = self.clock.now();
        self.store.write(runs::drop_interrupted).await?;
        self.recover_mailbox(now).await?;
        let doubts = self.store.read(sends::in_doubt).await?;
        if doubts.is_empty() {
            return Ok(());
        }
        let settled: Vec<(SendId, Option<bool>)> = self.ask_hosts(doubts).await?.into_iter().collect();
        tracing::info!("{} messages were being handed over when Rinse stopped; settled", settled.len());
        self.store.write(move |c| sends::settle(c, &settled, now)).await
    }

    /// Runs for ever by the machine's clock; on the demo clock it finishes what was interrupted
    /// and then only answers to [`Engine::advance`].
    pub(crate) async fn run(&self) {
        if !self.clock.is_demo() {
            tokio::spawn(self.clone().keep_telling());
            tokio::spawn(self.clone().keep_looking());
            tokio::spawn(self.clone().keep_taking_records());
        }
        while !self.is_ending() {
            if self.clock.is_demo() {
                let target = self.store.read(|c| settings::get(c, "clock_target")).await.ok().flatten().and_then(|v| v.parse().ok());
                if let Err(e) = self.advance(Instant::of(target.unwrap_or(0)).max(self.clock.now())).await {
                    tracing::error!("{e}");
                }
                self.woken_or_ending().await;
                continue;
            }
            let done = self.tick(self.clock.now()).await;
            if let Err(e) = &done {
                tracing::error!("{e}");
            }
            self.say_trouble(
                done.err().map(|e| format!("{e} Nothing is handed over until that is mended; Rinse tries again each minute.")),
            );
            if let Err(e) = self.daily(self.clock.now()).await {
                tracing::error!("{e}");
            }
            let next = self.next_due().await.ok().flatten();
            let wait = next.map_or(60_000, |n| (n - self.clock.now()).clamp(200, 60_000));
            let _ = tokio::time::timeout(std::time::Duration::from_millis(wait.unsigned_abs()), self.woken_or_ending()).await;
        }
    }

    pub(crate) fn is_ending(&self) -> bool {
        *self.ending.borrow()
    }

    async fn woken_or_ending(&self) {
        let mut ending = self.ending.clone();
        tokio::select! {
            () = self.wake.notified() => {}
            _ = ending.wait_for(|ending| *ending) => {}
        }
    }

    /// What is on its way when Rinse ends is given so long to be answered.
    pub(crate) async fn ended(&self) {
        let _ = tokio::time::timeout(std::time::Duration::from_secs(4), self.turn.lock()).await;
    }

    fn say_trouble(&self, trouble: Option<String>) {
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
    }

    /// Why nothing is sent, when nothing can be.
    pub(crate) fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Something new may be due.
    pub(crate) fn wake(&self) {
        self.wake.notify_one();
    }

    /// Moves the demo clock to `to`, through everything that happens until then, in order.
    ///
    /// # Errors
    /// When the store or the world fails; what was done until then stays done.
    pub async fn advance(&self, to: Instant) -> Result<()> {
        let _turn = self.turn.lock().await;
        let progress = self.jobs.sender(Job::Clock);
        let from = self.clock.now();
        let report = |running: bool, now: Instant, error: Option<String>| {
            progress.send_modify(|p| {
                p.running = running;
                p.done = (now - from) / 60_000;
                p.total = ((to - from) / 60_000).max(1);
                p.words = now.words();
                p.error = error.clone();
                if !running {
                    p.end(error);
                }
            });
        };
        report(true, from, None);
        self.store.write(move |c| settings::set(c, "clock_target", &to.millis().to_string())).await?;
        let mut outcome = self.go(to, &report).await;
        if outcome.is_ok() {
            outcome = self.daily(self.clock.now()).await;
        }
        report(false, self.clock.now(), outcome.as_ref().err().map(ToString::to_string));
        self.say_trouble(outcome.as_ref().err().map(|e| format!("{e} The clock stopped there: move it on once that is mended.")));
        outcome
    }

    async fn go(&self, to: Instant, report: &(impl Fn(bool, Instant, Option<String>) + Sync)) -> Result<()> {
        let now = self.clock.now();
        self.tick_now(now).await?;
        while !self.is_ending() {
            let due = self.next_due().await?.map(|d| d.max(self.clock.now()));
            let until = due.unwrap_or(to).min(to) + 1;
            self.world(until, report).await?;
            match due.filter(|d| *d <= to) {
                Some(due) => {
                    self.move_clock(due).await?;
                    self.tick_now(due).await?;
                    report(true, due, None);
                }
                None => {
                    let more = self.next_due().await?.is_some_and(|d| d <= to);
                    if !more {
                        break;
                    }
                }
            }
        }
        if self.is_ending() {
            // The next start goes on from here.
            return Ok(());
        }
        self.move_clock(to).await?;
        self.react(to).await?;
        self.move_series(to).await?;
        self.tell(to).await
    }

    async fn move_clock(&self, to: Instant) -> Result<()> {
        self.clock.move_to(to);
        self.store.write(move |c| settings::set(c, "clock", &to.millis().to_string())).await
    }

    /// Brings in what the world does before `until`, through the same doors as from outside.
    async fn world(&self, until: Instant, report: &(impl Fn(bool, Instant, Option<String>) + Sync)) -> Result<()> {
        let (Some(network), Some(doors)) = (self.transport.network(), self.doors.get()) else { return Ok(()) };
        loop {
            let events = network.lock().unwrap_or_else(PoisonError::into_inner).due(until, EVENTS)?;
            let Some(last) = events.last() else { return Ok(()) };
            self.move_clock(last.at).await?;
            // Mail without a token in its address goes where any mail goes: into the mailbox.
            for e in &events {
                if let What::Mail { to, raw } = &e.what
                    && !to.contains('+')
                {
                    self.mailbox.deliver(e.at.millis(), e.seq, to, raw).map_err(StoreError::Io)?;
                }
            }
            let calls = events.iter().filter(|e| !matches!(&e.what, What::Mail { to, .. } if !to.contains('+'))).map(|e| {
                let request = match &e.what {
                    What::Http { method, url, agent, body, .. } => {
                        let path = url
                            .strip_prefix("http://")
                            .or_else(|| url.strip_prefix("https://"))
                            .and_then(|u| u.find('/').map(|i| &u[i..]))
                            .unwrap_or("/");
                        Request::builder()
                            .method(method.as_str())
                            .uri(path)
                            .header("user-agent", agent)
                            .header("content-type", "application/x-www-form-urlencoded")
                            .body(Body::from(body.clone()))
                    }
                    What::Mail { to, raw } => self.request(Some(to), raw.clone()),
                };
                let from = if let What::Http { from, .. } = &e.what { *from } else { None };
                let (doors, at) = (doors.clone(), e.at);
                async move {
                    let Ok(mut request) = request else { return };
                    request.extensions_mut().insert(ReceivedAt(at));
                    if let Some(ip) = from {
                        request.extensions_mut().insert(ConnectInfo(SocketAddr::new(ip, 0)));
                    }
                    let Ok(answer) = doors.oneshot(request).await;
                    if answer.status().is_server_error() {
                        tracing::error!("a door answered {}", answer.status());
                    }
                }
            });
            futures::future::join_all(calls).await;
            self.read_mailbox(last.at).await;
            network.lock().unwrap_or_else(PoisonError::into_inner).done(&events)?;
            report(true, last.at, None);
        }
    }

    /// What is worked out once a day, at the day's first sending or the demo clock's first halt on it.
    async fn daily(&self, now: Instant) -> Result<()> {
        if !self.store.read(move |c| load::is_of(c, now)).await? {
            self.store.write(move |c| rinse_store::machines::opens::move_on(c, now)).await?;
            self.mark_opens().await?;
            self.take_sales(now).await?;
            let seen = self.store.read_at_leisure(move |c| policy::see(c, &policy::current(c)?.policy, now, |_, _| Ok(()))).await?;
            self.store.write(move |c| policy::note_history(c, &seen, now)).await?;
            self.upkeep(now).await?;
            self.store.write(move |c| incidents::move_on(c, now)).await?;
            self.store.write(move |c| flow::move_on(c, now)).await?;
            if self.clock.is_demo() {
                self.look_daily(now).await?;
            }
            self.alerts(now).await?;
            self.store.write(move |c| made_of::note(c, now)).await?;
            let people = load::refresh(&self.store, now).await?;
            tracing::info!("mail load worked out for {people} people");
            self.warm(now).await?;
            silence::refresh(&self.store, now).await?;
            cohorts::refresh(&self.store, now).await?;
            self.forget_lines(now).await?;
            self.scheduled_run(now).await?;
            self.nightly_file(now).await?;
            let caught = self.store.read_at_leisure(move |c| suppression::look(c, now)).await?;
            self.store.write(move |c| suppression::note(c, &caught, now)).await?;
        }
        Ok(())
    }

    /// Works out what mailbox groups do with our mail that they shouldn't.
    pub(crate) async fn alerts(&self, now: Instant) -> Result<()> {
        let found = self.store.read_at_leisure(move |c| alerts::look(c, now)).await?;
        self.store.write(move |c| alerts::keep(c, &found, now)).await
    }

    /// Does all that is due at `now`.
    ///
    /// # Errors
    /// When the store fails.
    pub(crate) async fn tick(&self, now: Instant) -> Result<()> {
        let _turn = self.turn.lock().await;
        self.tick_now(now).await
    }

    async fn tick_now(&self, now: Instant) -> Result<()> {
        self.store
            .write(move |c| {
                history::reserving::end_some(c, now)?;
                status::end_rests(c, now)
            })
            .await?;
        self.upkeep(now).await?;
        self.read_mailbox(now).await;
        self.react(now).await?;
        self.move_series(now).await?;
        self.start_mailings(now).await?;
        self.start_rollouts(now).await?;
        self.hand_over_copies(now).await?;
        self.hand_over_due(now).await?;
        self.hand_over_invitations(now).await?;
        self.hand_over_letters(now).await?;
        self.store
            .write(move |c| {
                trials::set_reading_due(c)?;
                trials::hold_looks(c, now)?;
                hour_trials::mark_missed(c, now)?;
                sends::finish(c, now)
            })
            .await?;
        let found = self.store.read_at_leisure(move |c| self_check::read_due(c, now)).await?;
        if !found.is_empty() {
            self.store.write(move |c| self_check::keep(c, &found, now)).await?;
        }
        self.read_trials(now).await?;
        self.read_hour_trials(now).await?;
        // By the machine's clock others are told beside the sending, see `run`.
        if self.clock.is_demo() { self.tell(now).await } else { Ok(()) }
    }

    async fn start_mailings(&self, now: Instant) -> Result<()> {
        // One that was being put on record as the process ended goes on: who is on record already isn't cleared for it again.
        for id in self.store.read(move |c| mailings::due(c, now)).await? {
            // Somebody may have taken it back since it was found due.
            if !self.store.write(move |c| sends::begin(c, id, now)).await? {
                continue;
            }
            let done = Arc::new(self.store.read_at_leisure(move |c| clearing::audience(c, id, now)).await?);
            let own = self.own_hours(id, &done, now).await?;
            let cleared = Arc::clone(&done);
            let (turns, pilot) = self
                .store
                .read_at_leisure(move |c| {
                    // Of a trial's mailing its pilot, by the roster that was sealed.
                    let pilot = trials::pilot(c, id)?;
                    let listed = own.as_ref().filter(|o| o.at_once);
                    let part = |d: &Decided| match &pilot {
                        Some(arms) => Some((*d, Phase::Pilot, *arms.get(&d.contact)?)),
                        None if listed.is_some_and(|o| o.turns.contains_key(&d.contact)) => {
                            Some((Decided { outcome: Outcome::Cleared, ..*d }, Phase::Whole, 0))
                        }
                        None => Some((*d, Phase::Whole, 0)),
                    };
                    let hour = own.as_ref().map_or(Hour::AsScheduled, |o| Hour::Own(&o.turns));
                    let turns = sends::turns(c, id, now, hour, &cleared, cleared.decided.iter().filter_map(part))?;
                    Ok((Arc::new(turns), pilot.is_some()))
                })
                .await?;
            if self.record_in_parts(id.0, &done, &turns, now, true).await? {
                // The demo's checks come out the same everywhere.
                let seed = if self.clock.is_demo() { id.0.cast_unsigned() } else { rand::random::<u64>() >> 1 };
                self.store
                    .write(move |c| {
                        sends::recorded(c, id)?;
                        if pilot { Ok(()) } else { self_check::begin(c, id, seed, now) }
                    })
                    .await?;
            }
        }
        Ok(())
    }

    /// Puts everybody on record, some at a time, so that nobody's unsubscribing waits for a million others; false when the
    /// mailing, where it `can_end`, was cancelled meanwhile.
    async fn record_in_parts(&self, id: i64, done: &Arc<Clearance>, turns: &Arc<Vec<Turn>>, now: Instant, can_end: bool) -> Result<bool> {
        for from in (0..turns.len()).step_by(RECORDED_AT_ONCE) {
            let (done, turns) = (Arc::clone(done), Arc::clone(turns));
            let on = self
                .store
                .write(move |c| {
                    let on = !can_end || sends::recording(c, MailingId(id))?;
                    if on {
                        sends::record_some(c, MailingId(id), &done, now, &turns[from..turns.len().min(from + RECORDED_AT_ONCE)])?;
                    }
                    Ok(on)
                })
                .await?;
            if !on {
                return Ok(false);
            }
        }
        Ok(true)
    }

    async fn start_rollouts(&self, now: Instant) -> Result<()> {
        self.store.write(move |c| trials::roll_out_in_series(c, now)).await?;
        for id in self.store.read(move |c| trials::to_roll_out(c, now)).await? {
            let (mailing, done, turns) = self
                .store
                .read_at_leisure(move |c| {
                    let t = trials::one(c, id)?;
                    let goes_out = t.verdict.and_then(|v| v.goes_out(&t.plan));
                    let done = clearing::audience(c, t.mailing_id, now)?;
                    let seed = t.seed.unwrap_or(0).cast_unsigned();
                    let called =
                        matches!(t.verdict, Some(reading::Verdict::Called(_) | reading::Verdict::NoWorse(_) | reading::Verdict::Ahead(_)));
                    // Anybody who took part isn't in the rollout, whatever they got: those without mail stay without.
                    let took_part: HashSet<ContactId> = trials::roster(c, id)?.iter().map(|e| e.contact).collect();
                    let people = done.decided.iter().filter(|d| !took_part.contains(&d.contact)).filter_map(|&d| {
                        // 5% of a called rollout get the no-call choice, as a check on the pilot.
                        let check = called && assign::in_rollout_check(seed, d.contact);
                        let arm = if check { t.plan.on_no_call } else { goes_out };
                        arm.map(|arm| (d, if check { Phase::RolloutCheck } else { Phase::Rollout }, arm))
                    });
                    let pilot = t.pilot_hour();
                    let at = t.rollout_at.filter(|_| pilot.is_some()).map_or(now, Instant::of);
                    let turns = sends::turns(c, t.mailing_id, at, pilot.map_or(Hour::AsScheduled, Hour::OfPilot), &done, people)?;
                    Ok((t.mailing_id, Arc::new(done), Arc::new(turns)))
                })
                .await?;
            // Nobody can cancel it while the trial rolls out; until the last part is on record it does.
            self.record_in_parts(mailing.0, &done, &turns, now, false).await?;
            self.store.write(move |c| trials::advance(c, id, TrialEvent::RolledOut, None)).await?;
        }
        Ok(())
    }

    /// Asks the simulated network; None when mail goes to a real host.
    pub(crate) fn network<T>(&self, ask: impl FnOnce(&Network) -> T) -> Option<T> {
        Some(ask(&self.transport.network()?.lock().unwrap_or_else(PoisonError::into_inner)))
    }

    /// Sends the invitations that sign-ups lead to.
    async fn hand_over_invitations(&self, now: Instant) -> Result<()> {
        loop {
            let ((batch, looked_at), letterheads) = self
                .store
                .write(move |c| {
                    let claimed = signups::claim(c, now)?;
                    // Keys are read and parsed only for an invitation that is due: this is asked at every turn.
                    let letterheads = if claimed.0.is_empty() { Vec::new() } else { letterheads::all(c)? };
                    let signed = |l| crate::composing::signers(c, &l).map(|keys| (l, keys));
                    Ok((claimed, letterheads.into_iter().map(signed).collect::<Result<Vec<_>>>()?))
                })
                .await?;
            if looked_at == 0 {
                return Ok(());
            }
            let (mut messages, mut ids, mut answers) = (Vec::new(), Vec::new(), Vec::new());
            for i in &batch {
                let composed = letterheads
                    .iter()
                    .find(|(l, _)| l.id == i.letterhead)
                    .ok_or_else(|| "its letterhead is gone".to_owned())
                    .and_then(|(l, keys)| crate::invitation::letter((l, keys), i, &self.signer, &self.base_url, now.millis() / 1000));
                match composed {
                    Ok(m) => {
                        messages.push(m);
                        ids.push(i.sign_up);
                    }
                    Err(why) => answers.push((i.sign_up, Reply { code: 554, enhanced: None, text: why })),
                }
            }
            let replies = self
                .transport
                .hand_over(now, &messages, &Gate::open_to_all(&self.store, &self.ending))
                .await
                .map_err(StoreError::Refused)?;
            // One that wasn't handed over any more is put off.
            let put_off = || Reply { code: 0, enhanced: None, text: "Rinse ended".into() };
            answers.extend(ids.into_iter().zip(replies.into_iter().map(|r| r.unwrap_or_else(put_off))));
            self.store.write(move |c| answers.iter().try_for_each(|(id, reply)| signups::answered(c, *id, reply, now))).await?;
        }
    }

    async fn read_trials(&self, now: Instant) -> Result<()> {
        for id in self.store.read(move |c| trials::to_read(c, now)).await? {
            let (t, counts, beside, read) = self
                .store
                .read_at_leisure(move |c| {
                    let t = trials::one(c, id)?;
                    let counts = trials::counts(c, &t)?;
                    let beside = trials::beside(c, &t, &counts)?;
                    let read = reading::read_by(t.rule()?, &t.plan, &counts, &beside).map_err(|e| StoreError::Refused(e.to_string()))?;
                    Ok((t, counts, beside, read))
                })
                .await?;
            self.store
                .write(move |c| {
                    let saved = trials::save_reading(c, id, &read, &counts, &beside, now)?;
                    if saved && t.plan.by_itself && !matches!(read.verdict, reading::Verdict::Void) {
                        let at = trials::release(c, id, false, now)?;
                        settings::audit(
                            c,
                            now,
                            None,
                            "rollout released",
                            "trial",
                            id.0,
                            &format!("by itself, as planned, for {}", at.words()),
                        )?;
                    }
                    Ok(())
                })
                .await?;
        }
        Ok(())
    }
}
