//! Another system that sends, as a program: a year of letters of its own, or one letter to the people of a list that it was given.

use anyhow::{Context, Result};
use clap::{Parser, Subcommand};
use rinse_core::{DAY, Instant};
use rinse_standins::network::Network;
use rinse_standins::scenario::{BEGINS, Scenario};
use rinse_standins::sender::{HEADER, LETTERS, Letter, Row, Sender, cells, gone, letter_cells, year};
use std::collections::HashSet;
use std::path::{Path, PathBuf};

/// A system that sends mail through the simulated network and writes a log of it. It knows nothing of Rinse.
#[derive(Parser)]
struct Args {
    /// Where it keeps its world and writes its logs.
    #[arg(long)]
    home: PathBuf,
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// Sends letters to everybody for a year: letters.csv and log.csv.
    Year {
        /// A CSV with a header and a column of addresses.
        #[arg(long)]
        people: PathBuf,
        #[arg(long, default_value_t = 12)]
        letters: usize,
        /// When the year ends: 2026-04-16T18:40:00Z, or milliseconds since 1970.
        #[arg(long, value_parser = instant)]
        until: Instant,
    },
    /// Sends one letter to a list that it was given (columns address and key): log-KEY.csv.
    List {
        #[arg(long)]
        list: PathBuf,
        #[arg(long)]
        subject: String,
        #[arg(long, value_parser = instant)]
        at: Instant,
        /// For so long what comes of it is written down.
        #[arg(long, default_value_t = 8)]
        days: i64,
    },
}

fn instant(text: &str) -> std::result::Result<Instant, String> {
    Instant::read(text).ok_or_else(|| format!("{text:?} is no instant"))
}

fn main() -> Result<()> {
    let args = Args::parse();
    std::fs::create_dir_all(&args.home)?;
    let mut sender = Sender::new(Network::open(&args.home, Scenario::skerry_light(), BEGINS, false)?);
    match args.what {
        What::Year { people, letters, until } => {
            let people = addresses(&people)?;
            let (mut rows, mut sent) = (Vec::new(), Vec::new());
            let mut no_more = HashSet::new();
            let all = year(letters, until);
            for (i, letter) in all.iter().enumerate() {
                let to: Vec<String> = people.iter().filter(|a| !no_more.contains(*a)).cloned().collect();
                let next = all.get(i + 1).map_or(until, |l| l.at);
                let told = sender.send(letter, &to, next)?;
                no_more.extend(gone(&told));
                sent.push(letter_cells(letter, to.len()));
                rows.extend(told);
            }
            write(&args.home.join("letters.csv"), &LETTERS, &sent)?;
            write_log(&args.home.join("log.csv"), &rows)
        }
        What::List { list, subject, at, days } => {
            let (people, key) = listed(&list)?;
            let letter = Letter { key, subject, topic: String::new(), at };
            let rows = sender.send(&letter, &people, at + days * DAY)?;
            write_log(&args.home.join(format!("log-{}.csv", letter.key)), &rows)
        }
    }
}

fn records(path: &Path) -> Result<Vec<csv::StringRecord>> {
    let mut r = csv::Reader::from_path(path).with_context(|| format!("{} can't be read", path.display()))?;
    r.records().collect::<std::result::Result<_, _>>().with_context(|| format!("{} is no CSV", path.display()))
}

/// The first cell of each row that looks like an address.
fn addresses(path: &Path) -> Result<Vec<String>> {
    Ok(records(path)?.iter().filter_map(|r| r.iter().find(|c| c.contains('@')).map(str::to_owned)).collect())
}

/// The people of a list, and the key that it gives its letter.
fn listed(path: &Path) -> Result<(Vec<String>, String)> {
    let rows = records(path)?;
    let key = rows.first().and_then(|r| r.get(1)).context("The list is empty")?.to_owned();
    Ok((rows.iter().filter_map(|r| r.get(0)).map(str::to_owned).collect(), key))
}

fn write<const N: usize>(path: &Path, header: &[&str; N], rows: &[[String; N]]) -> Result<()> {
    let mut w = csv::WriterBuilder::new().delimiter(b';').from_path(path)?;
    w.write_record(header)?;
    rows.iter().try_for_each(|r| w.write_record(r))?;
    Ok(w.flush()?)
}

fn write_log(path: &Path, rows: &[Row]) -> Result<()> {
    write(path, &HEADER, &rows.iter().map(cells).collect::<Vec<_>>())
}
