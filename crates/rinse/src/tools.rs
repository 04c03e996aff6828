//! The tools for scripts: JSON lines in, JSON lines out, by the same code as the application.

use anyhow::{Context, Result};
use rinse_core::Instant;
use rinse_core::address::Address;
use rinse_core::bounce::FailureClass;
use rinse_core::clearance::{Outcome, Reason};
use rinse_core::delivery::authentication::State;
use rinse_core::id::{HourTrialId, MailingId, TrialId};
use rinse_core::message::{Level, check_finished};
use rinse_core::table::Encoding;
use rinse_core::trial::outside::{self, Results};
use rinse_post::bounds::LARGEST;
use rinse_post::finished;
use rinse_post::inbound::{self, Inbound, Recipient};
use rinse_post::reports;
use rinse_server::doctor::Finding;
use rinse_store::clearing::addresses::{self, Sending};
use rinse_store::history::reserving::{self, Reserve};
use rinse_store::hour_trials::drawing;
use rinse_store::{Connection, Store, backup, clearing, contacts, settings, tables, trials};
use serde::Deserialize;
use serde_json::{Value, json};
use std::io::{BufRead, Read, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

fn each_line(mut answer: impl FnMut(&str) -> String) -> Result<()> {
    let (stdin, mut out) = (std::io::stdin().lock(), std::io::stdout().lock());
    for line in stdin.lines() {
        let line = line?;
        if !line.trim().is_empty() {
            writeln!(out, "{}", answer(&line))?;
        }
    }
    Ok(())
}

/// `rinse calc`.
pub(crate) fn calc() -> Result<()> {
    each_line(|line| rinse_core::stats::calc::answer_line(line).to_string())
}

#[derive(Deserialize)]
struct Asked {
    #[serde(default)]
    id: Value,
    address: String,
}

/// `rinse address`.
pub(crate) fn address() -> Result<()> {
    each_line(|line| {
        let answer = match serde_json::from_str::<Asked>(line) {
            Err(e) => json!({ "id": null, "valid": false, "normalised": null, "reason": format!("the line can't be read: {e}") }),
            Ok(asked) => match Address::mailbox(&asked.address) {
                Ok(a) => json!({ "id": asked.id, "valid": true, "normalised": a.normal, "reason": null }),
                Err(e) => json!({ "id": asked.id, "valid": false, "normalised": null, "reason": e.to_string() }),
            },
        };
        answer.to_string()
    })
}

/// `rinse clear`: who may get a mailing at an instant, by the rules in force and what is planned before.
pub(crate) fn clear(mailing: MailingId, at: &str, data: &Path) -> Result<()> {
    let at = instant(at)?;
    let c = &Store::look(data)?;
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    let done = clearing::preview(c, mailing, at, clock(c)?.min(at), None)?;
    for d in &done.decided {
        let address: String = contacts::addressed(c, d.contact)?.0;
        let (outcome, until, why) = match d.outcome {
            Outcome::Cleared => ("cleared", None, None),
            Outcome::Held(until, why) => ("held", Some(until), Some(why)),
            Outcome::Barred(why) => ("barred", None, Some(why)),
        };
        let until = until.map(Instant::iso);
        let reasons: Vec<Reason> = why.map(|w| w.iter().collect()).unwrap_or_default();
        let line = json!({ "contact": d.contact, "address": address, "outcome": outcome, "until": until, "reasons": reasons });
        writeln!(out, "{line}")?;
    }
    Ok(out.flush()?)
}

/// The machine's clock, or the one the data goes by.
fn clock(c: &Connection) -> Result<Instant> {
    let machine = Instant::of_machine(std::time::SystemTime::now());
    Ok(settings::get(c, "clock")?.and_then(|v| v.parse().ok()).map_or(machine, Instant::of))
}

fn instant(at: &str) -> Result<Instant> {
    Instant::read(at).ok_or_else(|| anyhow::anyhow!("{at:?} is no instant: write 2026-04-17T09:00:00Z, or milliseconds since 1970."))
}

/// `rinse clear --file`: a JSON line for each address of a file, in its order. With a reservation, who is cleared is reserved, while no Rinse runs.
pub(crate) async fn clear_file(file: &Path, sending: &Sending, at: &str, reserve: Option<(String, String)>, data: &Path) -> Result<()> {
    let at = instant(at)?;
    let all = tables::addresses_in(file, usize::MAX).with_context(|| file.display().to_string())?;
    let c = Store::look(data)?;
    let mut told = addresses::clear(&c, sending, at, &all)?.told;
    if let Some((mailing, until)) = reserve {
        anyhow::ensure!(at >= clock(&c)?, "What lies behind can’t be reserved: name an instant that is to come.");
        drop(c);
        let held = backup::hold(data).context("A running Rinse reserves itself: POST /api/clear with \"reserve\"")?;
        let of = Reserve { mailing, name: String::new(), until: instant(&until)?.millis() };
        reserving::all(&Store::open(data, true)?, of, sending.clone(), at, &mut told).await?;
        drop(held);
    }
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    for told in told {
        let line = json!({ "address": told.address, "outcome": told.says, "until": told.until.map(|u| Instant::of(u).iso()), "reasons": told.reasons, "words": told.words });
        writeln!(out, "{line}")?;
    }
    Ok(out.flush()?)
}

/// `rinse assign`: the assignment of a trial, computed again from its seed and its frozen roster; 1 when it differs from
/// what was sealed or from what was sent.
pub(crate) fn assign(trial: TrialId, data: &Path) -> Result<ExitCode> {
    let c = &Store::look(data)?;
    let t = trials::one(c, trial)?;
    anyhow::ensure!(t.sealed_at.is_some(), "The trial is not sealed: nobody is assigned yet.");
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    writeln!(out, "contact,stratum,arm")?;
    for e in trials::recomputed(c, &t, &trials::roster(c, t.id)?)? {
        writeln!(out, "{},{},{}", e.contact, e.stratum, rinse_core::trial::letter(e.arm))?;
    }
    out.flush()?;
    let b = trials::beside(c, &t, &trials::counts(c, &t)?)?;
    let wrong = if b.assignment_holds { b.broken } else { Some("The roster differs from its recomputation.".into()) };
    let mut words = std::io::stderr();
    match wrong {
        None => writeln!(
            words,
            "The roster and every send are as computed again{}.",
            t.seal.map_or(String::new(), |s| format!("; the seal {} holds", s.digest))
        )?,
        Some(why) => {
            writeln!(words, "rinse: {why}")?;
            return Ok(ExitCode::from(1));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// `rinse assign --hour-trial`: who was drawn to which hour in each round, computed again; 1 when it differs from what is kept or sealed.
pub(crate) fn assign_hours(trial: HourTrialId, data: &Path) -> Result<ExitCode> {
    let c = &Store::look(data)?;
    let rounds = drawing::drawn_again(c, trial)?;
    anyhow::ensure!(!rounds.is_empty(), "No round of this hour trial is drawn yet.");
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    writeln!(out, "round,contact,zone,stratum,hour")?;
    for (round, drawn) in rounds {
        for d in drawn {
            writeln!(out, "{},{},{},{},{}", round + 1, d.contact, d.zone, d.stratum, d.hour)?;
        }
    }
    out.flush()?;
    let mut words = std::io::stderr();
    if let Some(why) = drawing::broken(c, trial)? {
        writeln!(words, "rinse: {why}")?;
        return Ok(ExitCode::from(1));
    }
    writeln!(words, "Every round is as drawn again, and the seal holds.")?;
    Ok(ExitCode::SUCCESS)
}

/// `rinse classify`: what each message is, by the very code of the door for mail; 1 when a file could not be read.
pub(crate) fn classify(files: &[PathBuf]) -> Result<ExitCode> {
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    let mut code = ExitCode::SUCCESS;
    for file in files {
        match raw(file).and_then(|raw| Ok(classified(file, &inbound::incoming(&raw)?))) {
            Ok(line) => writeln!(out, "{line}")?,
            Err(e) => {
                writeln!(std::io::stderr(), "rinse: {}: {e:#}", file.display())?;
                code = ExitCode::from(1);
            }
        }
    }
    out.flush()?;
    Ok(code)
}

/// `rinse doctor`: what was found, a line each; 1 when something is wrong.
pub(crate) fn examined(found: &[Finding], json: bool) -> Result<ExitCode> {
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    for f in found {
        if json {
            writeln!(out, "{}", serde_json::to_string(f)?)?;
        } else {
            writeln!(out, "{}", f.words())?;
        }
    }
    out.flush()?;
    let wrong = found.iter().any(|f| f.state == State::Wrong);
    Ok(if wrong { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// `rinse reports`: the DMARC and TLS reports in each file; 1 when one could not be read.
pub(crate) fn reports(files: &[PathBuf]) -> Result<ExitCode> {
    let mut out = std::io::BufWriter::new(std::io::stdout().lock());
    let mut code = ExitCode::SUCCESS;
    for file in files {
        let name = file.display().to_string();
        let line =
            match up_to(file, reports::LARGEST).map_err(|e| format!("{e:#}")).and_then(|b| reports::read(&b).map_err(|e| e.to_string())) {
                Ok(found) => {
                    let found = serde_json::to_value(found)?;
                    json!({ "file": name, "kind": found["kind"], "reports": found["reports"], "error": null })
                }
                Err(why) => {
                    code = ExitCode::from(1);
                    json!({ "file": name, "kind": "unreadable", "reports": [], "error": why })
                }
            };
        writeln!(out, "{line}")?;
    }
    out.flush()?;
    Ok(code)
}

/// A message from a file, or `-` from standard input, no larger than the door takes.
fn raw(file: &Path) -> Result<Vec<u8>> {
    up_to(file, LARGEST)
}

/// The bytes of a file, or of standard input for `-`; of one that is larger, one too many.
fn up_to(file: &Path, largest: usize) -> Result<Vec<u8>> {
    let most = largest as u64 + 1;
    let mut raw = Vec::new();
    if file == Path::new("-") {
        std::io::stdin().lock().take(most).read_to_end(&mut raw)?;
    } else {
        std::fs::File::open(file)?.take(most).read_to_end(&mut raw)?;
    }
    Ok(raw)
}

fn classified(file: &Path, read: &inbound::Incoming) -> Value {
    let recipients: Vec<Value> = match &read.kind {
        Inbound::DeliveryStatus(recipients) => recipients.iter().map(recipient).collect(),
        _ => Vec::new(),
    };
    let kind = match &read.kind {
        Inbound::DeliveryStatus(_) => "delivery_status",
        Inbound::Feedback { .. } => "feedback",
        Inbound::AutoReply => "auto_reply",
        Inbound::Reply => "reply",
        Inbound::Other => "other",
    };
    json!({ "file": file.display().to_string(), "kind": kind, "recipients": recipients })
}

fn recipient(r: &Recipient) -> Value {
    let status = r.reply.enhanced.map(|(class, subject, detail)| format!("{class}.{subject}.{detail}"));
    let (class, reason) = match r.action.as_str() {
        "delivered" | "relayed" | "expanded" => ("delivered", r.action.as_str()),
        "delayed" => ("temporary", "the host goes on trying"),
        _ => {
            let category = r.reply.category();
            let class = match category.class() {
                FailureClass::Permanent => "permanent",
                FailureClass::Temporary => "temporary",
                FailureClass::Block => "block",
                FailureClass::Unknown => "unknown",
            };
            (class, category.words())
        }
    };
    json!({ "address": r.address, "status": status, "class": class, "reason": reason })
}

fn encoding_name(encoding: Encoding) -> &'static str {
    match encoding {
        Encoding::Utf8 => "utf-8",
        Encoding::Utf16Le => "utf-16le",
        Encoding::Utf16Be => "utf-16be",
        Encoding::Windows1252 => "windows-1252",
    }
}

/// `rinse peek`; 1 when a file could not be read, the others are told all the same.
pub(crate) fn peek(files: &[PathBuf], cells: bool) -> Result<ExitCode> {
    let mut out = std::io::stdout().lock();
    let mut code = ExitCode::SUCCESS;
    for file in files {
        match look(file, cells) {
            Ok(line) => writeln!(out, "{line}")?,
            Err(e) => {
                writeln!(std::io::stderr(), "rinse: {}: {e:#}", file.display())?;
                code = ExitCode::from(1);
            }
        }
    }
    Ok(code)
}

fn look(file: &Path, cells: bool) -> Result<Value> {
    let shape = tables::shape(file)?;
    let mut all = Vec::new();
    let records = tables::each_record(file, shape, |r| {
        if cells {
            all.push(tables::cells(r));
        }
        Ok(())
    })?;
    let mut line = json!({
        "file": file, "encoding": encoding_name(shape.encoding), "delimiter": char::from(shape.delimiter).to_string(),
        "header": shape.header, "records": records,
    });
    if cells {
        line["cells"] = json!(all);
    }
    Ok(line)
}

/// `rinse verdict`: a results table from any sender, read with the same rigour. 2 when it can't be read.
pub(crate) fn verdict(file: &Path) -> Result<ExitCode> {
    let read = || -> Result<String> {
        let bytes = std::fs::read(file)?;
        let results = Results::read(&tables::read_all(&bytes, 1_000)?)?;
        Ok(serde_json::to_string(&outside::read(&results)?)?)
    };
    match read() {
        Ok(line) => {
            writeln!(std::io::stdout().lock(), "{line}")?;
            Ok(ExitCode::SUCCESS)
        }
        Err(e) => {
            writeln!(std::io::stderr(), "rinse: {}: {e:#}", file.display())?;
            Ok(ExitCode::from(2))
        }
    }
}

/// `rinse check`: what a whole message lacks. 1 when one has an error, 2 when one can't be read.
pub(crate) fn check(files: &[PathBuf], service: bool) -> Result<ExitCode> {
    let mut out = std::io::stdout().lock();
    let mut code = 0;
    for file in files {
        let name = file.display().to_string();
        let read = if name == "-" {
            let mut raw = Vec::new();
            std::io::stdin().lock().read_to_end(&mut raw).map(|_| raw)
        } else {
            std::fs::read(file)
        };
        let answer = match read.map_err(|e| e.to_string()).and_then(|raw| finished::read(&raw).ok_or_else(|| "it is no message".to_owned()))
        {
            Ok(message) => {
                let found = check_finished(&message, service);
                let errors = found.iter().filter(|f| f.level == Level::Error).count();
                code = code.max(u8::from(errors > 0));
                json!({ "file": name, "errors": errors, "warnings": found.len() - errors, "findings": found })
            }
            Err(why) => {
                code = 2;
                json!({ "file": name, "error": format!("{name} can't be read: {why}.") })
            }
        };
        writeln!(out, "{answer}")?;
    }
    Ok(ExitCode::from(code))
}
