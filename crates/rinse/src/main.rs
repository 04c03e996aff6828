//! The binary: serve, demo, and the tools for scripts. Data goes to stdout, words to stderr.

mod tools;

use anyhow::{Context, Result};
use clap::{Parser, Subcommand};
use rinse_server::{App, Config, Mode, TextGateway, demo, openapi, router};
use rinse_store::{backup, journal};
use std::io::Write;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

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
        /// Where our own links lead, when not to the listening address.
        #[arg(long)]
        public_url: Option<String>,
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
    /// Who of a mailing's audience may get it at an instant: a JSON line for each person.
    Clear {
        #[arg(long)]
        mailing: i64,
        /// As RFC 3339 writes it (2026-04-17T09:00:00Z), or in milliseconds since 1970.
        #[arg(long)]
        at: String,
        #[arg(long, default_value = "data")]
        data: PathBuf,
    },
    /// A trial's assignment, computed again from its seed and its roster, as CSV; ends with 1 when it differs.
    Assign {
        #[arg(long)]
        trial: i64,
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
    match run(Cli::parse().command) {
        Ok(code) => code,
        Err(e) => {
            let _ = writeln!(std::io::stderr(), "rinse: {e:#}");
            ExitCode::from(1)
        }
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
                "{} is restored. The journal brought back {} withdrawals, {} complaints, {} topics left, {} series left and {} deletions since; {} more are of people whom the backup doesn't hold, and are in force for whoever brings them.",
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
        Command::Clear { mailing, at, data } => tools::clear(mailing, &at, &data)?,
        Command::Assign { trial, data } => return tools::assign(trial, &data),
        Command::Peek { files, cells } => return tools::peek(&files, cells),
        Command::Openapi => {
            let text = serde_json::to_string_pretty(&openapi())?;
            writeln!(std::io::stdout(), "{text}")?;
        }
        Command::Serve { data, listen, smtp_host, smtp_port, smtp_tls, smtp_connections, text_gateway, public_url } => {
            let secret = std::env::var("RINSE_TEXT_SECRET").unwrap_or_default();
            let texts = text_gateway.map(|url| TextGateway::new(&url, &secret)).transpose().map_err(anyhow::Error::msg)?;
            let mode = Mode::Real { smtp_host, smtp_port, tls: smtp_tls, connections: smtp_connections, texts };
            runtime()?.block_on(serve(data, listen, public_url, mode))?;
        }
        Command::Demo { data, listen, prepare, people } => {
            let rt = runtime()?;
            if prepare {
                rt.block_on(prepare_demo(&data, listen, people))?;
            } else {
                rt.block_on(serve(data, listen, None, Mode::Demo { start: demo::OPENS }))?;
            }
        }
    }
    Ok(ExitCode::SUCCESS)
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

async fn serve(data: PathBuf, listen: SocketAddr, public_url: Option<String>, mode: Mode) -> Result<()> {
    if !listen.ip().is_loopback() {
        anyhow::bail!("Rinse listens on this machine alone until it has accounts: give a loopback address to --listen.");
    }
    let listener = tokio::net::TcpListener::bind(listen).await.map_err(|e| {
        anyhow::anyhow!(
            "{listen} can't be listened on ({e}). Another program may have it: give another with --listen, or port 0 for any free one."
        )
    })?;
    let address = listener.local_addr()?;
    let base_url = public_url.unwrap_or_else(|| format!("http://{address}"));
    let app = App::open(&Config { data, base_url, mode, durable: true }).await?;
    let router = router(app.clone());
    app.start();
    writeln!(std::io::stdout(), "Rinse is at http://{address}")?;
    std::io::stdout().flush()?;
    axum::serve(listener, router.into_make_service_with_connect_info::<SocketAddr>())
        .with_graceful_shutdown(async {
            let _ = tokio::signal::ctrl_c().await;
        })
        .await?;
    Ok(())
}
