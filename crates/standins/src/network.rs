//! The mail network: hosts answer, mailboxes fill, people act later.
//!
//! What will happen is kept in a file of its own (`world.db`), so that the world goes on after the
//! application was stopped, or killed, in the middle of a send.

use crate::base::zone_of;
use crate::people::{Draws, traits};
use crate::records;
use crate::scenario::{Breakdown, Domain, Scenario};
use mail_parser::MessageParser;
use rinse_core::bounce::Reply;
use rinse_core::trial::hour::plan::weekday;
use rinse_core::zone::{TimeZone, Wall};
use rinse_core::{DAY, HOUR, Instant, SECOND};
use rusqlite::{Connection, OptionalExtension, params};
use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::Path;

/// Something that reaches the application from outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    pub seq: i64,
    pub at: Instant,
    pub what: What,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// An HTTP request: `GET`, `HEAD`, or a one-click `POST`.
    Http { method: String, url: String, agent: String, body: String, from: Option<IpAddr> },
    /// A raw message to an address of ours.
    Mail { to: String, raw: Vec<u8> },
}

/// A message handed to the network, with its envelope.
#[derive(Debug, Clone, Copy)]
pub struct Handed<'a> {
    pub message_id: &'a str,
    pub return_path: &'a str,
    pub to: &'a str,
    pub bytes: &'a [u8],
}

/// The simulated network.
pub struct Network {
    pub(crate) db: Connection,
    pub(crate) scenario: Scenario,
    start: Instant,
}

/// The world's own failures; they never speak of the application's data.
pub type Result<T> = rusqlite::Result<T>;

/// Where machines come from: networks for documentation (RFC 5737).
const IMAGE_PROXY: IpAddr = IpAddr::V4(Ipv4Addr::new(203, 0, 113, 9));
const GATEWAY: IpAddr = IpAddr::V4(Ipv4Addr::new(198, 51, 100, 20));

/// Where somebody reads their mail (RFC 3849): a network that they share with few.
fn home(seed: u64, address: &str) -> IpAddr {
    let of = u16::try_from(Draws::new(seed, &format!("{address}#home")).below(65_536)).unwrap_or(0);
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, of, 0, 0, 0, 0, 1))
}

const BROWSERS: [&str; 3] = ["Reader/5.1 (phone)", "Reader/4.9 (desk)", "PostLook/2.3"];

impl Network {
    /// Opens the world in a folder. `start` is when its year begins;
    /// `durable` waits for the disk at every handover.
    ///
    /// # Errors
    /// When its file can't be opened.
    pub fn open(folder: &Path, scenario: Scenario, start: Instant, durable: bool) -> Result<Self> {
        let db = Connection::open(folder.join("world.db"))?;
        db.pragma_update(None, "journal_mode", "WAL")?;
        db.pragma_update(None, "synchronous", if durable { "FULL" } else { "OFF" })?;
        db.set_prepared_statement_cache_capacity(64);
        db.execute_batch(
            "CREATE TABLE IF NOT EXISTS accepted (message_id TEXT PRIMARY KEY, address TEXT NOT NULL) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS greeted (message_id TEXT PRIMARY KEY) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS domain_day (name TEXT, day INTEGER, delivered INTEGER NOT NULL DEFAULT 0, complaints INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (name, day)) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS event (seq INTEGER PRIMARY KEY, at INTEGER NOT NULL, method TEXT, target TEXT NOT NULL, agent TEXT NOT NULL DEFAULT '', raw BLOB, body TEXT, peer TEXT);
             CREATE TABLE IF NOT EXISTS txt (name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (name, value)) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS sold (key TEXT PRIMARY KEY, at INTEGER NOT NULL, address TEXT NOT NULL, product TEXT NOT NULL, category TEXT NOT NULL, cents INTEGER NOT NULL) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS record_line (address TEXT PRIMARY KEY, day INTEGER NOT NULL) WITHOUT ROWID;
             CREATE TABLE IF NOT EXISTS record_base (id INTEGER PRIMARY KEY CHECK (id = 1), people INTEGER NOT NULL);
             CREATE INDEX IF NOT EXISTS event_at ON event (at, seq);",
        )?;
        if !db.prepare("SELECT 1 FROM pragma_table_info('event') WHERE name = 'peer'")?.exists([])? {
            db.execute("ALTER TABLE event ADD COLUMN peer TEXT", [])?;
        }
        Ok(Self { db, scenario, start })
    }

    /// Hands over a batch. Every message that is accepted, and what will come of it, is on record
    /// before the replies are given.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn hand_over(&self, now: Instant, batch: &[Handed<'_>]) -> Result<Vec<Reply>> {
        let tx = self.db.unchecked_transaction()?;
        let replies = batch.iter().map(|m| self.one(now, m)).collect::<Result<_>>()?;
        tx.commit()?;
        Ok(replies)
    }

    /// Was this message accepted before?
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn holds(&self, message_id: &str) -> Result<bool> {
        self.db.prepare_cached("SELECT EXISTS (SELECT 1 FROM accepted WHERE message_id = ?1)")?.query_row([message_id], |r| r.get(0))
    }

    /// The TXT records of a name in the simulated DNS.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn txt(&self, name: &str) -> Result<Vec<String>> {
        self.db.prepare_cached("SELECT value FROM txt WHERE name = ?1")?.query_map([name.to_ascii_lowercase()], |r| r.get(0))?.collect()
    }

    /// Puts a TXT record into the simulated DNS, as the keeper of the domain would.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn publish(&self, name: &str, value: &str) -> Result<()> {
        self.db.prepare_cached("INSERT INTO txt VALUES (?1, ?2) ON CONFLICT DO NOTHING")?.execute([&name.to_ascii_lowercase(), value])?;
        Ok(())
    }

    /// The record system keeps every so many of the base's first `people`.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn keep_records(&self, people: usize) -> Result<()> {
        let people = i64::try_from(people).unwrap_or(0);
        self.db.prepare_cached("INSERT INTO record_base VALUES (1, ?1) ON CONFLICT DO UPDATE SET people = ?1")?.execute([people])?;
        Ok(())
    }

    /// The record system takes a do-not-return line.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn do_not_return(&self, address: &str, day: i64) -> Result<()> {
        self.db.prepare_cached("INSERT INTO record_line VALUES (?1, ?2) ON CONFLICT DO NOTHING")?.execute(params![address, day])?;
        Ok(())
    }

    /// The record system's file of a night, once it keeps anybody. It tidies its copy on Sundays: who was taken off in the week before is in
    /// its files until then.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn record_file(&self, day: i64) -> Result<Option<String>> {
        let people: Option<i64> = self.db.prepare_cached("SELECT people FROM record_base")?.query_row([], |r| r.get(0)).optional()?;
        let Some(people) = people.and_then(|n| usize::try_from(n).ok()) else { return Ok(None) };
        let tidied = records::last_sunday(day);
        let off: HashSet<String> = self
            .db
            .prepare_cached("SELECT address FROM record_line WHERE day <= ?1")?
            .query_map([tidied], |r| r.get(0))?
            .collect::<Result<_>>()?;
        Ok(Some(records::nightly(&self.scenario, people, &off)))
    }

    /// When the next thing happens.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn next_at(&self) -> Result<Option<Instant>> {
        self.db.prepare_cached("SELECT min(at) FROM event")?.query_row([], |r| r.get::<_, Option<i64>>(0)).map(|t| t.map(Instant::of))
    }

    /// What happens before `until`, at most `limit` of it, in order. It stays until [`Self::done`].
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn due(&self, until: Instant, limit: usize) -> Result<Vec<Event>> {
        let mut s = self
            .db
            .prepare_cached("SELECT seq, at, method, target, agent, raw, body, peer FROM event WHERE at < ?1 ORDER BY at, seq LIMIT ?2")?;
        s.query_map(params![until.millis(), i64::try_from(limit).unwrap_or(1000)], |r| {
            let (method, target): (Option<String>, String) = (r.get(2)?, r.get(3)?);
            let what = match method {
                Some(method) => What::Http {
                    method,
                    url: target,
                    agent: r.get(4)?,
                    body: r.get::<_, Option<String>>(6)?.unwrap_or_default(),
                    from: r.get::<_, Option<String>>(7)?.and_then(|ip| ip.parse().ok()),
                },
                None => What::Mail { to: target, raw: r.get(5)? },
            };
            Ok(Event { seq: r.get(0)?, at: Instant::of(r.get(1)?), what })
        })?
        .collect()
    }

    /// Forgets events that were delivered.
    ///
    /// # Errors
    /// When the world's file fails.
    pub fn done(&self, events: &[Event]) -> Result<()> {
        let tx = self.db.unchecked_transaction()?;
        for e in events {
            self.db.prepare_cached("DELETE FROM event WHERE seq = ?1")?.execute([e.seq])?;
        }
        tx.commit()
    }

    fn http(&self, at: Instant, method: &str, url: &str, agent: &str, from: IpAddr) -> Result<()> {
        self.db.prepare_cached("INSERT INTO event (at, method, target, agent, peer) VALUES (?1,?2,?3,?4,?5)")?.execute(params![
            at.millis(),
            method,
            url,
            agent,
            from.to_string()
        ])?;
        Ok(())
    }

    fn mail(&self, at: Instant, to: &str, raw: &str) -> Result<()> {
        self.db.prepare_cached("INSERT INTO event (at, target, raw) VALUES (?1,?2,?3)")?.execute(params![
            at.millis(),
            to,
            raw.as_bytes()
        ])?;
        Ok(())
    }

    fn one(&self, now: Instant, m: &Handed<'_>) -> Result<Reply> {
        if self.holds(m.message_id)? {
            return Ok(Reply::parse("250 2.0.0 already queued"));
        }
        let host = m.to.rsplit_once('@').map_or("", |(_, d)| d);
        let domain = self.scenario.domain(host);
        if self.scenario.no_mail.iter().any(|d| d == host) {
            return Ok(Reply::parse("550 5.1.2 no such domain"));
        }
        if self.scenario.null_mx.iter().any(|d| d == host) {
            return Ok(Reply::parse("556 5.1.10 this domain takes no mail (null MX)"));
        }
        let broken = |b: &&Breakdown| {
            b.domain == host && b.at(now) && Draws::new(self.scenario.seed, &format!("{}#{}", m.to, b.from)).chance(b.share)
        };
        if let Some(b) = self.scenario.breakdown.iter().find(broken) {
            return Ok(Reply::parse(&b.reply));
        }
        let t = traits(self.scenario.seed, m.to, domain.gone);
        let mut d = Draws::of_message(self.scenario.seed, m.message_id, m.to);
        #[allow(clippy::cast_precision_loss)]
        let year = (now - self.start) as f64 / (365 * DAY) as f64;
        let gone = year >= t.gone_at || m.to.starts_with("gone.");
        if domain.greylist && self.db.prepare_cached("INSERT INTO greeted VALUES (?1) ON CONFLICT DO NOTHING")?.execute([m.message_id])? > 0
        {
            return Ok(Reply::parse("451 4.7.1 greylisted, try again later"));
        }
        if gone && !domain.late_reports {
            return Ok(Reply::parse("550 5.1.1 no such user here"));
        }
        // A mailbox is full for a month at a time, so that failures come in runs.
        #[allow(clippy::cast_possible_truncation)]
        let month = (year * 6.0) as i64;
        if Draws::new(self.scenario.seed, &format!("{}#{month}", m.to)).chance(domain.full) {
            return Ok(Reply::parse("552 5.2.2 mailbox full"));
        }
        // As with those whose mailbox is gone, an address can say by its name that its host blocks.
        if m.to.starts_with("blocked.") || domain.strict && self.distrusts(host, now)? {
            return Ok(Reply::parse("550 5.7.1 blocked: reputation of the sender, see our policy"));
        }
        self.db.prepare_cached("INSERT INTO accepted VALUES (?1, ?2)")?.execute([m.message_id, m.to])?;
        self.db
            .prepare_cached(
                "INSERT INTO domain_day (name, day, delivered) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET delivered = delivered + 1",
            )?
            .execute(params![host, now.millis().div_euclid(DAY)])?;
        if gone {
            let after = HOUR + d.below(6 * 3600).try_into().unwrap_or(0) * SECOND;
            self.mail(now + after, m.return_path, &delivery_report(host, m, "5.1.1", "550 5.1.1 no such user here"))?;
        } else {
            self.will_act(now, m, &domain, &mut d)?;
        }
        Ok(Reply::parse("250 2.0.0 queued"))
    }

    /// Does the host block us: more than 4 complaints in a thousand messages of the last two weeks? It forgets as they pass.
    fn distrusts(&self, host: &str, now: Instant) -> Result<bool> {
        let day = now.millis().div_euclid(DAY);
        self.db
            .prepare_cached(
                "SELECT coalesce(sum(delivered), 0) > 300 AND sum(complaints) * 250 > sum(delivered) FROM domain_day WHERE name = ?1 AND day > ?2 AND day <= ?3",
            )?
            .query_row(params![host, day - 14, day], |r| r.get(0))
    }

    /// What the hour of their day at which it comes changes for somebody.
    #[allow(clippy::cast_precision_loss)]
    fn hour_taste(&self, subject: &str, to: &str, now: Instant) -> f64 {
        if !self.scenario.hour_matters(subject) {
            return 0.0;
        }
        let zone = zone_of(&self.scenario, to).unwrap_or(TimeZone::UTC);
        let own = 24.0 * Draws::new(self.scenario.seed, &format!("{to}#hour")).unit();
        let hour = f64::from(zone.minute(now)) / 60.0;
        self.scenario.hour_taste(subject, own, hour, weekday(zone.day(now)) >= 5)
    }

    /// Some who had lost interest come back to life on a day of their own: letting them go has a cost.
    #[allow(clippy::cast_precision_loss)]
    fn woken(&self, to: &str, now: Instant) -> f64 {
        let mut d = Draws::new(self.scenario.seed, &format!("{to}#wakes"));
        let (wakes, at) = (d.chance(self.scenario.wakes.share), d.unit());
        let year = (now - self.start) as f64 / (365 * DAY) as f64;
        if wakes && year >= at { self.scenario.wakes.open } else { 0.0 }
    }

    /// The true chance that somebody opens a message with this subject that comes at an instant.
    #[must_use]
    pub fn chance_to_open(&self, to: &str, subject: &str, now: Instant) -> f64 {
        let domain = self.scenario.domain(to.rsplit_once('@').map_or("", |(_, d)| d));
        let odds = traits(self.scenario.seed, to, domain.gone).open
            + Some(&self.scenario.fair).filter(|f| f.brought(to)).map_or(0.0, |f| f.open)
            + self.scenario.taste(subject)
            + self.hour_taste(subject, to, now)
            + self.woken(to, now)
            + self.scenario.junk.iter().filter(|j| j.domain == domain.name && j.at(now)).map(|j| j.open).sum::<f64>();
        1.0 / (1.0 + (-odds).exp())
    }

    fn will_act(&self, now: Instant, m: &Handed<'_>, domain: &Domain, d: &mut Draws) -> Result<()> {
        let Some(message) = MessageParser::default().parse(m.bytes) else { return Ok(()) };
        let html = message.body_html(0).unwrap_or_default();
        let (mut links, pixel) = (after(&html, "href=\"", "/c/"), after(&html, "src=\"", "/o/"));
        links.dedup();
        let leave = message.header_raw("List-Unsubscribe").map(|v| v.trim().trim_start_matches('<').trim_end_matches('>').to_owned());
        let t = traits(self.scenario.seed, m.to, domain.gone);
        let secs = |d: &mut Draws, from: usize, to: usize| i64::try_from(from + d.below(to - from)).unwrap_or(0) * SECOND;
        if let Some(pixel) = pixel.first().filter(|_| d.chance(domain.proxy)) {
            self.http(now + secs(d, 12, 240), "GET", pixel, "GullPost-ImageProxy/2", IMAGE_PROXY)?;
        }
        if domain.scanner {
            for (i, link) in links.iter().enumerate() {
                let method = if i == 0 { "HEAD" } else { "GET" };
                self.http(now + secs(d, 1, 4), method, link, "Mozilla/5.0 (gateway)", home(self.scenario.seed, &domain.name))?;
            }
        }
        // A gateway that takes its time and calls itself as people's programs do: only where it comes from tells.
        let mut gate = Draws::of_message(self.scenario.seed, m.message_id, &format!("{}#gateway", m.to));
        if Draws::new(self.scenario.seed, &format!("{}#behind a gateway", m.to)).chance(domain.gateway) && !links.is_empty() {
            let link = &links[gate.below(links.len())];
            self.http(now + secs(&mut gate, 15, 90), "GET", link, BROWSERS[1], GATEWAY)?;
        }
        // Hours until they look, with a long tail.
        #[allow(clippy::cast_possible_truncation)]
        let delay = ((t.delay_hours * (0.9 * d.normal()).exp()).clamp(0.02, 500.0) * 3_600_000.0) as i64 + 30 * SECOND;
        let looks = now + delay;
        let subject = message.subject().unwrap_or_default();
        let fair = Some(&self.scenario.fair).filter(|f| f.brought(m.to));
        if d.chance(self.chance_to_open(m.to, subject, now)) {
            let at_home = home(self.scenario.seed, m.to);
            let (agent, from) =
                if domain.proxy > 0.0 { ("GullPost-ImageProxy/2", IMAGE_PROXY) } else { (BROWSERS[d.below(BROWSERS.len())], at_home) };
            if let Some(pixel) = pixel.first() {
                self.http(looks, "GET", pixel, agent, from)?;
            }
            // A letter that asks whether to go on is answered by its button, by half of those who read it.
            if let Some(button) = after(&html, "href=\"", "/g/").first()
                && Draws::of_message(self.scenario.seed, m.message_id, &format!("{}#button", m.to)).chance(0.5)
            {
                self.db
                    .prepare_cached("INSERT INTO event (at, method, target, agent, body) VALUES (?1,'POST',?2,?3,'go=on')")?
                    .execute(params![(looks + 40 * SECOND).millis(), button, BROWSERS[0]])?;
            }
            let web = BROWSERS[d.below(BROWSERS.len())];
            if !links.is_empty() && d.chance(t.click) {
                let link = &links[d.below(links.len())];
                let clicks = looks + secs(d, 15, 400);
                self.http(clicks, "GET", link, web, at_home)?;
                self.sell(clicks, m, subject)?;
            }
            if d.chance(0.006) {
                let at = looks + secs(d, 120, 9000);
                let words = "Thank you, we shall come by at Easter.";
                // Some write a new letter, to the address they have in their book: nothing tells what it answers but who and the subject.
                if Draws::new(self.scenario.seed, &format!("{}#anew", m.to)).chance(0.25) {
                    let to = reply_to(&message, m);
                    let plain =
                        to.split_once('+').zip(to.rsplit_once('@')).map_or(to.clone(), |((local, _), (_, host))| format!("{local}@{host}"));
                    self.mail(at, &plain, &anew(m, message.subject().unwrap_or_default(), words))?;
                } else {
                    self.mail(at, &reply_to(&message, m), &answer(m, "", words))?;
                }
            }
        }
        if let Some(leave) = leave.filter(|_| d.chance(t.leave * fair.map_or(1.0, |f| f.leave))) {
            // Some use their mail program's button, some open the page and stop everything.
            let body = if d.chance(0.6) { "List-Unsubscribe=One-Click" } else { "stop=everything" };
            self.db
                .prepare_cached("INSERT INTO event (at, method, target, agent, body) VALUES (?1,'POST',?2,'PostLook/2.3',?3)")?
                .execute(params![(looks + secs(d, 30, 600)).millis(), leave, body])?;
        }
        if d.chance(t.complain * self.scenario.complaints_at(&domain.name, subject)) {
            let host = m.to.rsplit_once('@').map_or("", |(_, h)| h);
            self.db
                .prepare_cached("INSERT INTO domain_day (name, day, complaints) VALUES (?1, ?2, 1) ON CONFLICT DO UPDATE SET complaints = complaints + 1")?
                .execute(params![host, looks.millis().div_euclid(DAY)])?;
            self.mail(looks + secs(d, 60, 6000), m.return_path, &feedback_report(host, m))?;
        }
        // Some have a gate before their mailbox that asks unknown senders to prove that they are people.
        if domain.scanner && Draws::new(self.scenario.seed, &format!("{}#gate", m.to)).chance(0.004) {
            let host = m.to.rsplit_once('@').map_or("", |(_, h)| h);
            self.mail(now + 20 * SECOND, &reply_to(&message, m), &challenge(host, m))?;
        }
        if d.chance(0.004) {
            self.mail(
                now + secs(d, 20, 90),
                &reply_to(&message, m),
                &answer(m, "Auto-Submitted: auto-replied\r\n", "I am away until Monday."),
            )?;
        }
        Ok(())
    }
}

/// The values after `mark` that contain `has`, up to the closing quote.
fn after(html: &str, mark: &str, has: &str) -> Vec<String> {
    html.split(mark)
        .skip(1)
        .filter_map(|rest| rest.split('"').next())
        .filter(|v| v.contains(has))
        .map(|v| v.replace("&amp;", "&"))
        .collect()
}

fn reply_to(message: &mail_parser::Message<'_>, m: &Handed<'_>) -> String {
    message.reply_to().and_then(|a| a.first()).and_then(|a| a.address()).map_or_else(|| m.return_path.to_owned(), str::to_owned)
}

fn answer(m: &Handed<'_>, extra: &str, words: &str) -> String {
    format!(
        "From: {}\r\nSubject: Re: your letter\r\nIn-Reply-To: <{}>\r\n{extra}Content-Type: text/plain; charset=utf-8\r\n\r\n{words}\r\n",
        m.to, m.message_id
    )
}

/// What asks for a proof that a person wrote.
fn challenge(host: &str, m: &Handed<'_>) -> String {
    format!(
        "From: Gatekeeper <gate@{host}>\r\nSubject: Your message waits\r\nIn-Reply-To: <{}>\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n\
         {} gets mail from people they know only. Before your message can be delivered, please verify that you are a person: https://gate.{host}/c/1\r\n",
        m.message_id, m.to
    )
}

fn anew(m: &Handed<'_>, subject: &str, words: &str) -> String {
    format!("From: {}\r\nSubject: Re: {subject}\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n{words}\r\n", m.to)
}

/// A delivery report as RFC 3464 has it.
fn delivery_report(host: &str, m: &Handed<'_>, status: &str, said: &str) -> String {
    format!(
        "From: Mail Delivery <postmaster@{host}>\r\nTo: {rp}\r\nSubject: Undelivered mail\r\nMIME-Version: 1.0\r\nAuto-Submitted: auto-replied\r\n\
         Content-Type: multipart/report; report-type=delivery-status; boundary=\"part\"\r\n\r\n--part\r\nContent-Type: text/plain\r\n\r\nYour message could not be delivered.\r\n\
         --part\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx.{host}\r\n\r\nFinal-Recipient: rfc822; {to}\r\nAction: failed\r\nStatus: {status}\r\nDiagnostic-Code: smtp; {said}\r\n\
         --part\r\nContent-Type: text/rfc822-headers\r\n\r\nMessage-ID: <{id}>\r\n--part--\r\n",
        rp = m.return_path,
        to = m.to,
        id = m.message_id
    )
}

/// A feedback report as RFC 5965 has it.
fn feedback_report(host: &str, m: &Handed<'_>) -> String {
    format!(
        "From: Abuse desk <abuse@{host}>\r\nTo: {rp}\r\nSubject: Complaint about a message\r\nMIME-Version: 1.0\r\n\
         Content-Type: multipart/report; report-type=feedback-report; boundary=\"part\"\r\n\r\n--part\r\nContent-Type: text/plain\r\n\r\nThis is a complaint about a message.\r\n\
         --part\r\nContent-Type: message/feedback-report\r\n\r\nFeedback-Type: abuse\r\nUser-Agent: Desk/1\r\nVersion: 1\r\nOriginal-Rcpt-To: {to}\r\n\
         --part\r\nContent-Type: text/rfc822-headers\r\n\r\nMessage-ID: <{id}>\r\n--part--\r\n",
        rp = m.return_path,
        to = m.to,
        id = m.message_id
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn world() -> (tempfile::TempDir, Network) {
        let dir = tempfile::tempdir().unwrap();
        let n = Network::open(dir.path(), Scenario::skerry_light(), Instant::of(0), false).unwrap();
        (dir, n)
    }

    fn reply(n: &Network, id: &str, to: &str) -> Reply {
        let bytes = b"Subject: tide\r\nContent-Type: text/html\r\n\r\n<img src=\"http://h/o/x\"><a href=\"http://h/c/1\">a</a>";
        n.hand_over(Instant::of(0), &[Handed { message_id: id, return_path: "back@s.example", to, bytes }]).unwrap().remove(0)
    }

    #[test]
    fn a_strict_host_blocks_when_complaints_rise_and_lets_go() {
        let (_dir, n) = world();
        let day = |d: i64, delivered: i64, complaints: i64| {
            n.db.execute("INSERT INTO domain_day VALUES ('strictgate.example', ?1, ?2, ?3)", [d, delivered, complaints]).unwrap();
        };
        day(100, 700, 2);
        let distrusts = |d: i64| n.distrusts("strictgate.example", Instant::of(d * DAY)).unwrap();
        assert!(!distrusts(100));
        day(101, 700, 9);
        assert!(distrusts(101) && distrusts(113) && !distrusts(115));
        assert!(
            n.scenario.complaints_at("strictgate.example", "Gifts that give light") > 5.0
                && n.scenario.complaints_at("fulmar.example", "Gifts that give light") < 1.5
        );
    }

    /// A gate's question is neither a reply nor a bounce.
    #[test]
    fn a_gate_asks_in_words_that_are_no_reply() {
        let m = Handed { message_id: "x", return_path: "back@s.example", to: "wren@harbour-office.example", bytes: b"" };
        let kind = rinse_post::inbound::incoming(challenge("harbour-office.example", &m).as_bytes()).unwrap().kind;
        assert!(matches!(kind, rinse_post::inbound::Inbound::Other), "{kind:?}");
    }

    #[test]
    fn domains_have_their_characters() {
        let (_dir, n) = world();
        assert_eq!(reply(&n, "a", "x@slowpost.example").code, 451);
        assert!(reply(&n, "a", "x@slowpost.example").accepted());
        assert_eq!(reply(&n, "b", "gone.x@fulmar.example").enhanced, Some((5, 1, 1)));
        assert!(reply(&n, "c", "gone.x@oldlamp.example").accepted(), "it reports later");
        assert_eq!(reply(&n, "d", "x@sealed-bay.example").enhanced, Some((5, 1, 10)));
        for i in 0..50 {
            reply(&n, &format!("g{i}"), &format!("p{i}@gull.example"));
        }
        let soon = n.due(Instant::of(5 * 60 * SECOND), 1000).unwrap();
        let fetched = soon.iter().filter(|e| matches!(&e.what, What::Http { agent, .. } if agent.contains("Proxy"))).count();
        assert!(fetched > 35, "{fetched} of 50 fetched");
        let report = n.due(Instant::of(DAY), 5000).unwrap().into_iter().find_map(|e| match e.what {
            What::Mail { raw, .. } if String::from_utf8_lossy(&raw).contains("delivery-status") => Some(raw),
            _ => None,
        });
        assert!(
            matches!(rinse_post::inbound::incoming(&report.unwrap()).unwrap().kind, rinse_post::inbound::Inbound::DeliveryStatus(r) if r.len() == 1)
        );
    }

    #[test]
    fn a_message_it_has_is_not_taken_twice() {
        let (_dir, n) = world();
        assert!(reply(&n, "a", "x@tern.example").accepted() && n.holds("a").unwrap() && !n.holds("z").unwrap());
        let before = n.due(Instant::of(i64::MAX), 100).unwrap();
        reply(&n, "a", "x@tern.example");
        assert_eq!(n.due(Instant::of(i64::MAX), 100).unwrap(), before);
    }
}
