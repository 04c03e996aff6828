//! What the parts of the server share.

use crate::apart::{Apart, Threads};
use crate::clock::Clock;
use crate::dns::{AskDns, Dns};
use crate::engine::Engine;
use crate::error::ApiError;
use crate::gateway::{TextGateway, Texts};
use crate::kept_answers::Answers;
use crate::mailbox::Maildir;
use crate::memory::Budget;
use crate::progress::Jobs;
use crate::transport::{Smtp, Transport};
use rinse_core::Instant;
use rinse_core::token::Signer;
use rinse_standins::network::Network;
use rinse_standins::records::Records;
use rinse_standins::scenario::Scenario;
use rinse_store::{Store, TraceEvent, doors, kept_answers, notices, settings};
use std::path::PathBuf;
use std::sync::atomic::AtomicI64;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::watch;

/// Work on a text, or on numbers that somebody gives, ends within this.
const TEXT_PATIENCE: Duration = Duration::from_secs(20);

/// How to start.
#[derive(Debug, Clone)]
pub struct Config {
    pub data: PathBuf,
    /// Where our own links in messages lead.
    pub base_url: String,
    pub mode: Mode,
    /// Wait for the disk at every write; off only while the demo's history is made.
    pub durable: bool,
    /// Megabytes of memory that may be held.
    pub memory: u32,
}

#[derive(Debug, Clone)]
pub enum Mode {
    /// The stand-in network on the demo clock, which begins at this instant in a new folder.
    Demo { start: Instant },
    /// The machine's clock and an SMTP host.
    /// `dns`: whom to ask what only DNS knows.
    /// `texts`: the gateway that text messages are handed to; none: they can't be sent.
    Real { smtp_host: String, smtp_port: u16, tls: bool, connections: u32, texts: Option<TextGateway>, dns: AskDns },
}

/// The running application; cheap to clone.
#[derive(Clone)]
pub struct App {
    pub(crate) store: Store,
    pub(crate) clock: Arc<Clock>,
    pub(crate) signer: Signer,
    pub(crate) jobs: Jobs,
    pub(crate) engine: Engine,
    /// Where what comes from outside is worked on.
    pub(crate) apart: Apart,
    /// Where requests are worked on.
    pub(crate) threads: Threads,
    /// Answers that took seconds.
    pub(crate) answers: Answers,
    /// How much memory may be held.
    pub(crate) memory: Budget,
    /// One trial is sealed at a time.
    pub(crate) sealing: Arc<tokio::sync::Mutex<()>>,
    /// Becomes true when Rinse ends.
    ending: watch::Sender<bool>,
    /// The folder is this one's alone.
    _held: Arc<rinse_store::backup::Held>,
    /// The stand-in DNS: the domains without a mail host. None: nobody can be asked.
    no_mail: Option<Arc<Vec<String>>>,
    base_url: Arc<String>,
    /// The record-system stand-in.
    pub(crate) records: Arc<Mutex<Records>>,
}

impl App {
    /// Opens the data folder and puts the parts together.
    ///
    /// # Errors
    /// When the folder or the transport can't be used.
    pub async fn open(config: &Config) -> anyhow::Result<Self> {
        let held = Arc::new(rinse_store::backup::hold(&config.data)?);
        let store = Store::open(&config.data, config.durable)?;
        let machine_now = Instant::of(jiff::Timestamp::now().as_millisecond());
        let replayed = store.replayed().clone();
        if replayed.any() {
            tracing::warn!("The journal knew of people who left and the database did not; they have left now: {replayed:?}");
        }
        if !replayed.faults.is_empty() {
            for fault in &replayed.faults {
                tracing::warn!("The journal {}: {fault}", config.data.join(rinse_store::journal::FILE).display());
            }
            let raise = move |c: &rinse_store::Connection| {
                replayed.faults.iter().try_for_each(|fault| notices::raise(c, notices::JOURNAL, fault, fault, machine_now))
            };
            store.write(raise).await?;
        }
        let fresh: [u8; 32] = rand::random();
        let key = store.write(move |c| settings::signing_key(c, &fresh, machine_now)).await?;
        let signer = Signer::new(&key);
        let mut no_mail = None;
        let (clock, transport, texts, ask) = match &config.mode {
            Mode::Demo { start } => {
                let start = *start;
                let (began, at) = store
                    .write(move |c| {
                        if settings::get(c, "clock")?.is_none() {
                            settings::set(c, "world_began", &start.millis().to_string())?;
                            settings::set(c, "clock", &start.millis().to_string())?;
                        }
                        let read = |k| {
                            Ok::<_, rinse_store::StoreError>(settings::get(c, k)?.and_then(|v| v.parse().ok()).unwrap_or(start.millis()))
                        };
                        Ok((read("world_began")?, read("clock")?))
                    })
                    .await?;
                let scenario = Scenario::skerry_light();
                no_mail = Some(Arc::new(scenario.no_mail.clone()));
                let network = Network::open(&config.data, scenario, Instant::of(began), config.durable)?;
                let network = Arc::new(Mutex::new(network));
                let ask = AskDns::At(rinse_standins::dns::serve(&network)?);
                (Clock::Demo(AtomicI64::new(at)), Transport::StandIn(Arc::clone(&network)), Texts::StandIn(network), ask)
            }
            Mode::Real { smtp_host, smtp_port, tls, connections, texts, dns } => {
                let smtp = Smtp::new(smtp_host, *smtp_port, *tls, *connections).map_err(anyhow::Error::msg)?;
                (Clock::Machine, Transport::Smtp(Arc::new(smtp)), texts.clone().map_or(Texts::None, Texts::http), *dns)
            }
        };
        let clock = Arc::new(clock);
        let base_url = Arc::new(config.base_url.clone());
        let jobs = Jobs::default();
        let ending = watch::channel(false).0;
        let mailbox = Maildir::open(&config.data.join("mailbox"))?;
        std::fs::create_dir_all(rinse_store::imports::records::folder(&store))?;
        let engine = Engine::new(
            store.clone(),
            Arc::clone(&clock),
            signer.clone(),
            (transport, texts, Dns::of(ask)?),
            Arc::clone(&base_url),
            (jobs.clone(), ending.subscribe()),
            mailbox,
        );
        engine.recover().await?;
        let answers = Answers::of(store.read(kept_answers::all).await?);
        Ok(Self {
            store,
            clock,
            signer,
            jobs,
            engine,
            apart: Apart::default(),
            threads: Threads::open()?,
            answers,
            memory: Budget::megabytes(config.memory),
            sealing: Arc::default(),
            ending,
            _held: held,
            no_mail,
            base_url,
            records: Arc::default(),
        })
    }

    /// Told when Rinse ends.
    #[must_use]
    pub fn closing(&self) -> watch::Receiver<bool> {
        self.ending.subscribe()
    }

    /// Rinse ends: nothing new is claimed, streams end, and a batch on its way finishes or goes back to those that are due.
    pub fn end(&self) {
        self.ending.send_replace(true);
    }

    /// Waits until Rinse ends, and then, for so long and no longer, until what was on its way is answered.
    pub async fn ended(&self) {
        let _ = self.closing().wait_for(|ending| *ending).await;
        self.engine.ended().await;
    }

    /// The same application with readers of its own: what one asks much of keeps the other from nothing.
    ///
    /// # Errors
    /// When no connection is to be had.
    pub fn with_own_readers(&self, readers: u32) -> anyhow::Result<Self> {
        Ok(Self { store: self.store.with_own_readers(readers)?, ..self.clone() })
    }

    /// From now on each statement is told as it ends: for tests that hold queries to what they may walk.
    ///
    /// # Errors
    /// When the connections can't all be had.
    pub async fn watch(&self, told: fn(TraceEvent<'_>)) -> rinse_store::Result<()> {
        self.store.watch(told).await
    }

    /// The longest that the writer worked at one change since the start, while everybody else's waited.
    #[must_use]
    pub fn longest_hold(&self) -> Duration {
        self.store.longest_hold()
    }

    /// Asks the DNS whether a domain takes mail. Only the stand-in's: no outside host is asked.
    pub(crate) fn hosts(&self) -> impl Fn(&str) -> Option<bool> + Send + Sync + 'static + use<> {
        let no_mail = self.no_mail.clone();
        move |domain| no_mail.as_ref().map(|list| !list.iter().any(|d| d == domain))
    }

    /// The TXT records of a name in the stand-in DNS. None: nobody can be asked, since no outside host is.
    pub(crate) fn txt(&self, name: &str) -> Option<Vec<String>> {
        self.engine.network(|n| n.txt(name).unwrap_or_default())
    }

    /// Works on text that somebody wrote, reading from the store: apart from everything else, for so long and no longer.
    pub(crate) async fn on_text<T: Send + 'static>(
        &self,
        work: impl FnOnce(&rinse_store::Connection) -> rinse_store::Result<T> + Send + 'static,
    ) -> Result<T, ApiError> {
        let store = self.store.clone();
        Ok(self.apart.run(TEXT_PATIENCE, move || store.read_now(work)).await??)
    }

    /// Computes something that takes its time: apart from everything else, for so long and no longer.
    pub(crate) async fn compute<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T, ApiError> {
        Ok(self.apart.run(TEXT_PATIENCE, work).await?)
    }

    /// The door for mail that a secret opens: the engine's own has no number.
    pub(crate) async fn door_of(&self, secret: &str) -> rinse_store::Result<Option<Option<i64>>> {
        if self.engine.opens_own_door(secret) {
            return Ok(Some(None));
        }
        let secret = secret.to_owned();
        Ok(self.store.read(move |c| doors::opened_by(c, &secret)).await?.map(Some))
    }

    /// Where our own links lead.
    pub(crate) fn base_url(&self) -> &str {
        &self.base_url
    }

    pub(crate) fn now(&self) -> Instant {
        self.clock.now()
    }
}
