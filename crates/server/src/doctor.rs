//! `rinse doctor`: what has to be right around Rinse before mail goes out, each thing right, wrong, or can't be told, with what to do.

mod hosts;

use crate::authentication::{look, to_ask};
use crate::dns::{AskDns, Dns};
pub use hosts::Hosts;
use rinse_core::delivery::authentication::{Record, State};
use rinse_core::{Instant, MINUTE};
use rinse_store::blocklists;
use rinse_store::{Connection, Store, letterheads};
use serde::Serialize;
use std::path::Path;
use std::time::SystemTime;

/// So much has to be free on the disk, in bytes, and twice what the data takes.
const FREE: u64 = 1 << 30;

/// Something that was looked at.
#[derive(Debug, Clone, Serialize)]
pub struct Finding {
    /// Whom or what it is about.
    pub of: String,
    pub check: String,
    pub state: State,
    pub words: String,
    pub found: Vec<String>,
    pub publish: Option<Record>,
}

impl Finding {
    fn of_machine(check: &str, state: State, words: impl Into<String>) -> Self {
        Self { of: "this machine".into(), check: check.into(), state, words: words.into(), found: Vec::new(), publish: None }
    }

    /// As it is said on a terminal.
    #[must_use]
    pub fn words(&self) -> String {
        let state = match self.state {
            State::Right => "right",
            State::Wrong => "WRONG",
            State::CantTell => "can’t be told",
        };
        let mut out = format!("{state:<14} {}: {}. {}", self.of, self.check, self.words);
        for found in &self.found {
            out.push_str(&format!("\n{:15}found: {found}", ""));
        }
        if let Some(r) = &self.publish {
            out.push_str(&format!("\n{:15}to publish: {} {} {}", "", r.name, r.kind, r.value));
        }
        out
    }
}

/// Looks at everything around a data folder; nothing is written. `base_url`: where links in messages lead.
///
/// # Errors
/// When the folder can't be read, or there is no resolver.
pub async fn examine(data: &Path, base_url: &str, ask: AskDns, hosts: &Hosts) -> anyhow::Result<Vec<Finding>> {
    let c = Store::look(data)?;
    let now = Instant::of_machine(SystemTime::now());
    let mut out = vec![disk(data), clock(&c, now)?];
    let asked = to_ask(&c)?;
    let dns = Dns::of(ask)?;
    let told = look(&dns, &asked, base_url).await;
    let senders = letterheads::all(&c)?;
    if senders.is_empty() {
        out.push(Finding {
            of: "senders".into(),
            ..Finding::of_machine("letterhead", State::Wrong, "There is no letterhead: make one in Setup, nothing can be sent without.")
        });
    }
    for (letterhead, lines) in told.senders() {
        let of = senders.iter().find(|l| l.id == *letterhead).map_or_else(String::new, |l| l.name.clone());
        out.extend(lines.iter().map(|l| Finding {
            of: of.clone(),
            check: l.check.words().to_owned(),
            state: l.state,
            words: l.words.clone(),
            found: l.found.clone(),
            publish: l.publish.clone(),
        }));
    }
    for (said, list) in told.lists().iter().zip(blocklists::all(&c)?) {
        let zone = list.list.zone;
        let line = |state, words: String| Finding { of: zone.clone(), ..Finding::of_machine("blocklist", state, words) };
        match said.works {
            None => out.push(line(State::CantTell, "DNS gave no answer.".into())),
            Some(false) => out.push(line(State::CantTell, "It doesn’t answer as a list does: what it says is left aside.".into())),
            Some(true) => {
                let listed = said.of.iter().filter_map(|(subject, a)| a.as_ref().filter(|a| a.0).map(|a| (subject, &a.1)));
                let listed: Vec<Finding> = listed
                    .map(|(subject, why)| {
                        line(State::Wrong, format!("{subject} is listed. {why} Its keeper takes it off: give them the evidence pack."))
                    })
                    .collect();
                if listed.is_empty() {
                    out.push(line(State::Right, "Nothing of ours is listed.".into()));
                }
                out.extend(listed);
            }
        }
    }
    if hosts.groups > 0 {
        if dns.is_asked() {
            out.extend(hosts::look(&dns, hosts::groups(&c, hosts.groups)?, hosts).await);
        } else {
            let words = "Where its people’s mail hosts are only DNS knows: say whom to ask with --dns.";
            out.push(Finding { of: "mail hosts".into(), ..Finding::of_machine("TLS", State::CantTell, words) });
        }
    }
    Ok(out)
}

/// Is there room for what is to come?
fn disk(data: &Path) -> Finding {
    let Some(free) = free(data) else { return Finding::of_machine("disk", State::CantTell, "The free space can’t be found out.") };
    let size = |name: &str| std::fs::metadata(data.join(name)).map_or(0, |m| m.len());
    let needed = FREE.max(2 * size("rinse.db"));
    let gib = |bytes: u64| format!("{}.{} GiB", bytes >> 30, ((bytes & ((1 << 30) - 1)) * 10) >> 30);
    if free >= needed {
        Finding::of_machine("disk", State::Right, format!("{} are free.", gib(free)))
    } else {
        Finding::of_machine(
            "disk",
            State::Wrong,
            format!("{} are free; {} should be: the data grows, and a backup takes as much again.", gib(free), gib(needed)),
        )
    }
}

#[cfg(target_os = "linux")]
fn free(data: &Path) -> Option<u64> {
    let s = rustix::fs::statvfs(data).ok()?;
    Some(s.f_bavail.saturating_mul(s.f_frsize))
}

#[cfg(not(target_os = "linux"))]
fn free(_: &Path) -> Option<u64> {
    None
}

/// Did the machine's clock go back behind what is on record? A folder of the demo has a clock of its own.
fn clock(c: &Connection, now: Instant) -> anyhow::Result<Finding> {
    if rinse_store::settings::get(c, "clock")?.is_some() {
        return Ok(Finding::of_machine("clock", State::Right, "The folder is a demo’s, with a clock of its own."));
    }
    Ok(match rinse_store::settings::newest_audit(c)? {
        Some(newest) if newest.millis() > now.millis() + 5 * MINUTE => Finding::of_machine(
            "clock",
            State::Wrong,
            format!(
                "It stands at {}, and the newest entry of the data is of {}: caps and quiet hours would be counted wrongly. Set the clock.",
                now.words(),
                newest.words()
            ),
        ),
        _ => Finding::of_machine("clock", State::Right, format!("It stands at {}, behind nothing on record.", now.words())),
    })
}
