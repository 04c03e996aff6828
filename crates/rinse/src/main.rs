//! The binary: serve, demo, and the tools for scripts. Data goes to stdout, words to stderr.

mod tools;

use anyhow::{Context, Result};
use clap::{Parser, Subcommand};
use rinse_core::id::{HourTrialId, LetterheadId, MailingId, TrialId};
use rinse_server::doctor::{self, Hosts};
use rinse_server::listen::{self, Limits, Listening};
use rinse_server::{App, AskDns, Config, Mode, TextGateway, demo, openapi, own_router, public_router, router};
use rinse_store::clearing::addresses::Sending;
use rinse_store::{backup, journal};
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tokio::net::TcpListener;

/// What is let go goes back to the system: the usual allocator keeps it, for each thread, and `--memory` would hold nothing.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[derive(Parser)]
#[command(name = "rinse", version, about = "The bench of an email deliverability and testing analyst")]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serve a data folder, sending through an SMTP host.
    Serve {
        #[arg(long, default_value = "data")]
        data: PathBuf,
        #[arg(long, default_value = "127.0.0.1:7411")]
        listen: SocketAddr,
        #[arg(long, default_value = "127.0.0.1")]
        smtp_host: String,
        #[arg(long, default_value_t = 25)]
        smtp_port: u16,
        /// Ask for STARTTLS and refuse to go on without it.
        #[arg(long)]
        smtp_tls: bool,
        /// Messages on their way to the host at once, each over a connection of its own.
        #[arg(long, default_value_t = 4, value_parser = clap::value_parser!(u32).range(1..=i64::from(rinse_server::MOST_CONNECTIONS)))]
        smtp_connections: u32,
        /// The gateway that text messages are handed to (http://…); the secret shared with it is read from RINSE_TEXT_SECRET.
        #[arg(long)]
        text_gateway: Option<String>,
        /// Whom to ask what only DNS knows (mail hosts, records of our domains): "system", or the address of a name server. Nobody is asked
        /// without it.
        #[arg(long)]
        dns: Option<AskDns>,
        #[command(flatten)]
        holding: Holding,
        #[command(flatten)]
        public: Public,
    },
    /// Look at what has to be right before mail goes out: DNS records of each sender, blocklists, the mail hosts of the largest groups, disk, clock.
    /// Exit code 1: something is wrong.
    Doctor {
        #[arg(long, default_value = "data")]
        data: PathBuf,
        /// Whom to ask: "system", or the address of a name server. Nobody is asked without it.
        #[arg(long)]
        dns: Option<AskDns>,
        /// Where links in messages lead.
        #[arg(long, default_value = "http://127.0.0.1:7411")]
        public_url: String,
        /// Greet the mail hosts of so many mailbox groups, those with most people, and ask them for TLS; no message goes. Only with --dns.
        #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u8).range(0..=100))]
        hosts: u8,
        /// Where they take mail.
        #[arg(long, default_value_t = 25)]
        mail_port: u16,
        /// One JSON object a line.
        #[arg(long)]
        json: bool,
    },
    /// Serve a data folder with the simulated mail network on the demo clock.
    Demo {
        #[arg(long, default_value = "demo")]
        data: PathBuf,
        #[arg(long, default_value = "127.0.0.1:7411")]
        listen: SocketAddr,
        /// Make the year of Skerry Light in the folder (if it is not there) and stop.
        #[arg(long)]
        prepare: bool,
        /// How many people the year has.
        #[arg(long, default_value_t = 24_000)]
        people: usize,
        #[command(flatten)]
        holding: Holding,
        #[command(flatten)]
        public: Public,
    },
    /// Statistics for scripts: JSON lines in, JSON lines out.
    Calc,
    /// How table files are written: a JSON line for each.
    Peek {
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Every record as read, too.
        #[arg(long)]
        cells: bool,
    },
    /// DMARC and TLS reports in files (XML, JSON, gz, zip, mail), as JSON lines: what each holds, or why it can't be read.
    Reports {
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
    /// What messages are that came in (reports of delivery, complaints, auto-replies, replies): a JSON line for each.
    Classify {
        /// Files of one raw message each; `-` reads one from standard input.
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
    /// Who of a mailing's audience, or of a file's addresses, may get it at an instant: a JSON line for each.
    #[command(group = clap::ArgGroup::new("whom").required(true))]
    Clear {
        #[arg(long, group = "whom")]
        mailing: Option<MailingId>,
        /// A table (CSV, TSV) with a column of addresses, for mail that another system sends.
        #[arg(long, group = "whom")]
        file: Option<PathBuf>,
        /// What the mail of `--file` is about: people who left the topic are barred.
        #[arg(long, requires = "file")]
        topic: Option<String>,
        /// Whose mail it is; without it the letterhead that new mailings begin under.
        #[arg(long, requires = "file")]
        letterhead: Option<LetterheadId>,
        /// Why people expect it: then it is service mail.
        #[arg(long, requires = "file", default_value = "")]
        service: String,
        /// Reserves who may be written to now for a mailing of the other system, by its key: caps hold across both. Only while no Rinse runs on the folder.
        #[arg(long, requires_all = ["file", "until"], value_name = "KEY")]
        reserve: Option<String>,
        /// Who wasn't written to by then may be written to by others again: within 30 days.
        #[arg(long, requires = "reserve", value_name = "INSTANT")]
        until: Option<String>,
        /// As RFC 3339 writes it (2026-04-17T09:00:00Z), or in milliseconds since 1970.
        #[arg(long)]
        at: String,
        #[arg(long, default_value = "data")]
        data: PathBuf,
    },
    /// A trial's assignment, computed again from its seed and its roster, as CSV; ends with 1 when it differs.
    #[command(group = clap::ArgGroup::new("of").required(true))]
    Assign {
        /// A variant trial's number.
        #[arg(long, group = "of")]
        trial: Option<TrialId>,
        /// An hour trial's number: who was drawn to which hour, round by round.
        #[arg(long, group = "of")]
        hour_trial: Option<HourTrialId>,
        #[arg(long, default_value = "data")]
        data: PathBuf,
    },
    /// Is it a mailbox, and what is its normal form? JSON lines in, JSON lines out.
    Address,
    /// What a whole message (RFC 5322) lacks before it may go: a JSON line for each file.
    Check {
        /// `-` reads one from standard input.
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// It is service mail: nothing has to unsubscribe.
        #[arg(long)]
        service: bool,
    },
    /// Read a results table from any sender (variant, sent, and counts): all comparisons, and what can't be known.
    Verdict {
        /// A table file with a header: CSV, TSV, or semicolons.
        file: PathBuf,
    },
    /// A saved view of findings as a PDF.
    Report {
        /// The view's name.
        name: String,
        /// The file to write.
        #[arg(long)]
        pdf: PathBuf,
        #[arg(long, default_value = "data")]
        data: PathBuf,
    },
    /// Copy the database into a new file, while Rinse runs.
    Backup {
        #[arg(long, default_value = "data")]
        data: PathBuf,
        /// The new file.
        #[arg(long)]
        to: PathBuf,
    },
    /// Put a backup in place of the database. Who left since it was made stays left.
    Restore {
        #[arg(long)]
        from: PathBuf,
        #[arg(long, default_value = "data")]
        data: PathBuf,
    },
    /// Print the API's OpenAPI description.
    Openapi,
}

fn main() -> ExitCode {
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_env_filter(tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "info".into()))
        .init();
    // What is made here is its owner's alone.
    rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
    raise_descriptors();
    match run(Cli::parse().command) {
        Ok(code) => code,
        Err(e) => {
            let _ = writeln!(std::io::stderr(), "rinse: {e:#}");
            ExitCode::from(1)
        }
    }
}

/// A connection takes a descriptor, a file of the store another: as many as the system lets us have.
fn raise_descriptors() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
    if current < maximum
        && let Err(e) = setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum })
    {
        tracing::warn!("the limit of open files stays at {current:?}: {e}");
    }
}

fn run(command: Command) -> Result<ExitCode> {
    match command {
        Command::Calc => tools::calc()?,
        Command::Address => tools::address()?,
        Command::Verdict { file } => return tools::verdict(&file),
        Command::Check { files, service } => return tools::check(&files, service),
        Command::Backup { data, to } => {
            let bytes = backup::backup(&data, &to)?;
            writeln!(
                std::io::stderr(),
                "{} holds {bytes} bytes. Keep {} too: it knows who leaves from now on.",
                to.display(),
                data.join(journal::FILE).display()
            )?;
        }
        Command::Restore { from, data } => {
            let done = backup::restore(&from, &data)?;
            let r = &done.replayed;
            let mut err = std::io::stderr();
            writeln!(
                err,
                "{} is restored. The journal brought back {} withdrawals, {} complaints, {} topics left, {} series left and {} deletions since; {} more are of people whom the backup doesn't hold, and are in force for anybody who brings them.",
                data.display(),
                r.withdrawn,
                r.complained,
                r.topics_left,
                r.series_left,
                r.deleted,
                r.kept
            )?;
            for fault in &r.faults {
                writeln!(err, "The journal {}: {fault}", data.join(journal::FILE).display())?;
            }
            if let Some(before) = &done.before {
                writeln!(err, "What was there before is in {}.", before.display())?;
            }
        }
        Command::Report { name, pdf, data } => std::fs::write(&pdf, rinse_server::report::of_view(&data, &name)?)
            .with_context(|| format!("{} can't be written", pdf.display()))?,
        Command::Clear { mailing: Some(mailing), at, data, .. } => tools::clear(mailing, &at, &data)?,
        Command::Clear { file, topic, letterhead, service, reserve, until, at, data, .. } => {
            let sending = Sending { topic, letterhead, service_reason: service, ..Sending::default() };
            runtime()?.block_on(tools::clear_file(&file.unwrap_or_default(), &sending, &at, reserve.zip(until), &data))?;
        }
        Command::Assign { trial: Some(id), data, .. } => return tools::assign(id, &data),
        Command::Assign { hour_trial, data, .. } => return tools::assign_hours(hour_trial.unwrap_or(HourTrialId(0)), &data),
        Command::Reports { files } => return tools::reports(&files),
        Command::Doctor { data, dns, public_url, hosts, mail_port, json } => {
            let hosts = Hosts { port: mail_port, ..Hosts::of(hosts.into()) };
            let found = runtime()?.block_on(doctor::examine(&data, &public_url, dns.unwrap_or_default(), &hosts))?;
            return tools::examined(&found, json);
        }
        Command::Classify { files } => return tools::classify(&files),
        Command::Peek { files, cells } => return tools::peek(&files, cells),
        Command::Openapi => {
            let text = serde_json::to_string_pretty(&openapi())?;
            writeln!(std::io::stdout(), "{text}")?;
        }
        Command::Serve { data, listen, smtp_host, smtp_port, smtp_tls, smtp_connections, text_gateway, dns, holding, public } => {
            let secret = std::env::var("RINSE_TEXT_SECRET").unwrap_or_default();
            let texts = text_gateway.map(|url| TextGateway::new(&url, &secret)).transpose().map_err(anyhow::Error::msg)?;
            let mode =
                Mode::Real { smtp_host, smtp_port, tls: smtp_tls, connections: smtp_connections, texts, dns: dns.unwrap_or_default() };
            served(Serving { data, listen, public, mode, holding })?;
        }
        Command::Demo { data, listen, prepare, people, public, holding } => {
            if prepare {
                runtime()?.block_on(prepare_demo(&data, listen, people))?;
            } else {
                served(Serving { data, listen, public, mode: Mode::Demo { start: demo::OPENS }, holding })?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Serves until it is asked to end; work that goes on then is left, and ends with the process.
fn served(s: Serving) -> Result<()> {
    let rt = runtime()?;
    let done = rt.block_on(serve(s));
    rt.shutdown_timeout(std::time::Duration::from_millis(500));
    done
}

fn runtime() -> Result<tokio::runtime::Runtime> {
    tokio::runtime::Builder::new_multi_thread().enable_all().build().context("The runtime could not start")
}

/// Makes the demo in a folder beside and renames it when it is whole, so that a half-made one is
/// never taken for the demo.
async fn prepare_demo(data: &Path, listen: SocketAddr, people: usize) -> Result<()> {
    if data.join("rinse.db").exists() {
        return Ok(());
    }
    let making = data.with_extension("making");
    if making.exists() {
        std::fs::remove_dir_all(&making)?;
    }
    demo::make(&making, &format!("http://{listen}"), people).await?;
    if data.exists() {
        std::fs::remove_dir(data).context("The demo's folder exists and holds something else")?;
    }
    std::fs::rename(&making, data)?;
    Ok(())
}

/// Where to listen, and for whom.
struct Serving {
    data: PathBuf,
    listen: SocketAddr,
    public: Public,
    mode: Mode,
    holding: Holding,
}

/// What may be held.
#[derive(clap::Args)]
struct Holding {
    /// Megabytes of memory that may be held: past that, what was kept so that it needn't be read again is let go.
    #[arg(long, default_value_t = rinse_server::USUAL_BUDGET, value_parser = clap::value_parser!(u32).range(64..=1_000_000))]
    memory: u32,
}

/// How the public pages are reached.
#[derive(clap::Args, Default)]
struct Public {
    /// Where our own links lead, when not to the listening address.
    #[arg(long)]
    public_url: Option<String>,
    /// A listener of their own for the public pages (links, sign-up, unsubscribing, mail in): what is open to the world, while the rest stays on this machine.
    #[arg(long)]
    public_listen: Option<SocketAddr>,
    /// The address of the proxy in front of the public pages: its X-Forwarded-For is believed, and nobody else's.
    #[arg(long)]
    proxy: Option<IpAddr>,
}

async fn bound(address: SocketAddr) -> Result<TcpListener> {
    TcpListener::bind(address).await.map_err(|e| {
        anyhow::anyhow!(
            "{address} can't be listened on ({e}). Another program may have it: give another with --listen, or port 0 for any free one."
        )
    })
}

async fn serve(s: Serving) -> Result<()> {
    if !s.listen.ip().is_loopback() {
        anyhow::bail!(
            "Rinse listens on this machine alone until it has accounts: give a loopback address to --listen. The public pages may be open to others: give --public-listen."
        );
    }
    let listener = bound(s.listen).await?;
    let public = match s.public.public_listen {
        Some(address) => Some(bound(address).await?),
        None => None,
    };
    let address = listener.local_addr()?;
    let links_lead_to = match &public {
        Some(p) => p.local_addr()?,
        None => address,
    };
    let base_url = s.public.public_url.unwrap_or_else(|| format!("http://{links_lead_to}"));
    let app = App::open(&Config { data: s.data, base_url, mode: s.mode, durable: true, memory: s.holding.memory }).await?;
    let how = Listening { limits: Limits::default(), proxy: s.public.proxy, closing: app.closing() };
    let routes = if public.is_some() { own_router(app.clone()) } else { router(app.clone()) };
    // Threads and readers of their own: whatever is asked of the rest, who leaves is answered at once.
    let public = match public {
        Some(listener) => Some(on_own_threads(listener.into_std()?, public_router(app.with_own_readers(PUBLIC_READERS)?), how.clone())?),
        None => None,
    };
    app.start();
    writeln!(std::io::stdout(), "Rinse is at http://{address}")?;
    if public.is_some() {
        writeln!(std::io::stdout(), "Public pages are at http://{links_lead_to}")?;
    }
    std::io::stdout().flush()?;
    let ending = app.clone();
    tokio::spawn(async move {
        asked_to_end().await;
        ending.end();
    });
    tokio::join!(listen::serve(listener, routes, how), app.ended());
    if let Some(thread) = public {
        let _ = tokio::task::spawn_blocking(move || thread.join()).await;
    }
    Ok(())
}

/// Questions of public pages that are answered at the same time.
const PUBLIC_READERS: u32 = 4;

/// Serves on a runtime of its own, until Rinse ends.
fn on_own_threads(listener: std::net::TcpListener, routes: axum::Router, how: Listening) -> Result<std::thread::JoinHandle<()>> {
    let rt = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(2)
        .thread_name("rinse-public")
        .enable_all()
        .build()
        .context("The runtime of the public pages could not start")?;
    Ok(std::thread::Builder::new().name("rinse-public".into()).spawn(move || {
        rt.block_on(async {
            match TcpListener::from_std(listener) {
                Ok(listener) => listen::serve(listener, routes, how).await,
                Err(e) => tracing::error!("the public pages can't be served: {e}"),
            }
        });
        rt.shutdown_timeout(std::time::Duration::from_secs(1));
    })?)
}

/// Waits until the system or a person asks Rinse to end.
async fn asked_to_end() {
    use tokio::signal::unix::{SignalKind, signal};
    let terminated = async {
        match signal(SignalKind::terminate()) {
            Ok(mut s) => drop(s.recv().await),
            Err(_) => std::future::pending().await,
        }
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        () = terminated => {}
    }
    tracing::info!("Rinse ends: what is on its way is answered first");
}
