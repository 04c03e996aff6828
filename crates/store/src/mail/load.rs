//! Mail load, worked out once a day for everybody from their own messages; rules in [`rinse_core::load`].

use crate::codes::{COMPLAINED, CONFIRMED, CONSENTED, RETIRED, WITHDRAWN};
use crate::{Result, Store, settings};
use const_format::formatcp;
use rinse_core::id::ContactId;
use rinse_core::load::{self, CELLS, Delivery};
use rinse_core::report::Rate;
use rinse_core::segment::evaluate::day_of;
use rinse_core::stats::beta_binomial_fit::{self, Group, Prior};
use rinse_core::{DAY, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// People read at a time.
const PART: i64 = 10_000;
/// Rows written in one transaction.
const WRITTEN_AT_ONCE: usize = 2_000;
/// Priors are fitted to at most so many people.
const FITTED_TO: i64 = 50_000;
/// A purchase this soon after a message counts as an open-blind person's answer to it.
const BOUGHT_WITHIN: i64 = 7 * DAY;

/// What holds from one day to the next.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Kept {
    day: i64,
    /// Of people whose opens can be seen, and of the open-blind.
    priors: [Option<Prior>; 2],
    /// Messages in 28 days at which *usual* begins and ends.
    usual: (f64, f64),
}

const KEY: &str = "mail_load";

fn kept(c: &Connection) -> Result<Kept> {
    Ok(settings::get(c, KEY)?.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default())
}

/// Was it worked out today?
///
/// # Errors
/// When the database fails.
pub fn is_of(c: &Connection, now: Instant) -> Result<bool> {
    Ok(kept(c)?.day == day_of(now))
}

/// One person's history.
struct History {
    contact: ContactId,
    added: Instant,
    mailable: bool,
    blind: bool,
    /// Complained, withdrew: in the last 90 days.
    left: (bool, bool),
    deliveries: Vec<Delivery>,
}

/// The histories of the people with numbers in a range; each step-th of them.
fn histories(c: &Connection, (from, to): (i64, i64), step: i64, now: Instant) -> Result<Vec<History>> {
    let blind = crate::machines::opens::unknown_domains(c)?;
    let since = (now + -90 * DAY).millis();
    let mut s = c.prepare_cached(
        formatcp!("SELECT id, added_at, consent IN ({CONSENTED}, {CONFIRMED}) AND status <> {RETIRED}, domain_id, consent = {COMPLAINED} AND consent_at > ?3, consent = {WITHDRAWN} AND consent_at > ?3
         FROM contact WHERE id BETWEEN ?1 AND ?2 AND gone IS NULL AND id % ?4 = 0 ORDER BY id"),
    )?;
    let mut people: Vec<History> = s
        .query_map(params![from, to, since, step], |r| {
            Ok(History {
                contact: ContactId(r.get(0)?),
                added: Instant::of(r.get(1)?),
                mailable: r.get(2)?,
                blind: blind.contains(&r.get(3)?),
                left: (r.get::<_, Option<bool>>(4)?.unwrap_or(false), r.get::<_, Option<bool>>(5)?.unwrap_or(false)),
                deliveries: Vec::new(),
            })
        })?
        .collect::<rusqlite::Result<_>>()?;
    let mut s = c.prepare_cached(
        "SELECT contact_id, accepted_at, open_at, click_at, reply_at FROM send INDEXED BY send_contact
         WHERE contact_id BETWEEN ?1 AND ?2 AND accepted_at IS NOT NULL AND accepted_at <= ?3 AND failed_at IS NULL AND channel = 1 ORDER BY contact_id",
    )?;
    let mut rows = s.query(params![from, to, now.millis()])?;
    let mut place = 0;
    while let Some(r) = rows.next()? {
        let contact = ContactId(r.get(0)?);
        while people.get(place).is_some_and(|p| p.contact < contact) {
            place += 1;
        }
        let Some(p) = people.get_mut(place).filter(|p| p.contact == contact) else { continue };
        let seen = if p.blind { None } else { r.get::<_, Option<i64>>(2)? };
        let answered = [seen, r.get(3)?, r.get(4)?].into_iter().flatten().filter(|t| *t <= now.millis()).min();
        p.deliveries.push(Delivery { at: Instant::of(r.get(1)?), answered: answered.map(Instant::of) });
    }
    let mut s = c.prepare_cached("SELECT at FROM purchase WHERE contact_id = ?1 AND cents >= 0 AND at <= ?2 ORDER BY at")?;
    for p in &mut people {
        p.deliveries.sort_unstable_by_key(|d| d.at);
        if p.blind {
            for at in s.query_map(params![p.contact.0, now.millis()], |r| r.get(0).map(Instant::of))? {
                let at = at?;
                // The last message before it.
                if let Some(d) = p.deliveries.iter_mut().rev().find(|d| d.at <= at).filter(|d| at - d.at <= BOUGHT_WITHIN) {
                    d.answered = Some(d.answered.map_or(at, |a| a.min(at)));
                }
            }
        }
    }
    Ok(people)
}

/// Counts of messages and answers as groups, of all time and of the last four weeks.
fn groups(people: &[History], blind: bool, now: Instant) -> [Vec<Group>; 2] {
    [i64::MAX, 28 * DAY].map(|window| {
        let mut counts: BTreeMap<(u32, u32), f64> = BTreeMap::new();
        for p in people.iter().filter(|p| p.blind == blind) {
            let ripe = p.deliveries.iter().filter(|d| now - d.at < window && (now - d.at >= load::YOUNG || d.answered.is_some()));
            let (x, n) = ripe.fold((0, 0), |(x, n), d| (x + u32::from(d.answered.is_some()), n + 1));
            if n > 0 {
                *counts.entry((x, n)).or_default() += 1.0;
            }
        }
        counts.into_iter().map(|((x, n), units)| Group { successes: f64::from(x), trials: f64::from(n), units }).collect()
    })
}

/// Without a fit (too few people, or all alike) the base's own rate with the weight of two messages.
fn plain(groups: &[Group]) -> Prior {
    let (x, n) = groups.iter().fold((0.0, 0.0), |(x, n), g| (x + g.units * g.successes, n + g.units * g.trials));
    let rate = ((x + 1.0) / (n + 5.0)).clamp(0.01, 0.99);
    Prior { alpha: 2.0 * rate, beta: 2.0 * (1.0 - rate) }
}

/// Works everybody's mail load out, reading beside the writer and writing a little at a time. Returns how
/// many people there are.
///
/// # Errors
/// When the database fails; the day before's stays until the next try.
pub async fn refresh(store: &Store, now: Instant) -> Result<usize> {
    let (last, people, before) = store
        .read_at_leisure(|c| {
            let (last, people) =
                c.query_row("SELECT coalesce(max(id), 0), count(*) FROM contact", [], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, i64>(1)?)))?;
            Ok((last, people, kept(c)?))
        })
        .await?;
    let step = (people / FITTED_TO).max(1);
    let (priors, usual) = store
        .read_at_leisure(move |c| {
            let mut sample = Vec::new();
            for from in (1..=last).step_by(usize::try_from(PART).unwrap_or(1)) {
                sample.extend(histories(c, (from, from + PART - 1), step, now)?);
            }
            let mut priors = [None, None];
            for (place, blind) in [false, true].into_iter().enumerate() {
                let [all, lately] = groups(&sample, blind, now);
                priors[place] = load::prior(before.priors[place], beta_binomial_fit::fit(&all), &lately).or_else(|| Some(plain(&all)));
            }
            let mailable = sample.iter().filter(|p| p.mailable && !p.deliveries.is_empty());
            Ok((priors, load::usual_range(mailable.map(|p| load::per_28_days(&p.deliveries, p.added, now)).collect())))
        })
        .await?;
    let mut days = vec![[0_i64; 4]; usize::from(CELLS)];
    let mut all = 0;
    for from in (1..=last).step_by(usize::try_from(PART).unwrap_or(1)) {
        let rows: Vec<_> = store
            .read_at_leisure(move |c| {
                Ok(histories(c, (from, from + PART - 1), 1, now)?
                    .into_iter()
                    .filter_map(|p| {
                        let prior = priors[usize::from(p.blind)]?;
                        let rate = load::per_28_days(&p.deliveries, p.added, now);
                        let a = load::answering(&p.deliveries, p.blind, prior, now);
                        let cell = load::cell(load::mail(rate, usual), a.answer);
                        Some((p.contact, cell, rate, a, p.blind, p.mailable, p.left))
                    })
                    .collect())
            })
            .await?;
        all += rows.len();
        for r in &rows {
            for (sum, yes) in days[usize::from(r.1)].iter_mut().zip([true, r.5, r.6.0, r.6.1]) {
                *sum += i64::from(yes);
            }
        }
        for part in rows.chunks(WRITTEN_AT_ONCE) {
            let part = part.to_vec();
            store
                .write(move |c| {
                    let mut put = c.prepare_cached(
                        "INSERT INTO mail_load SELECT ?1,?2,?3,?4,?5,?6,?7 WHERE EXISTS (SELECT 1 FROM contact WHERE id = ?1 AND gone IS NULL)
                         ON CONFLICT DO UPDATE SET cell = ?2, per_28_days = ?3, rate = ?4, delivered = ?5, responses = ?6, blind = ?7",
                    )?;
                    for (contact, cell, rate, a, blind, ..) in &part {
                        put.execute(params![contact.0, cell, rate, a.rate, a.counts.delivered, a.counts.answered, blind])?;
                    }
                    Ok(())
                })
                .await?;
        }
    }
    store
        .write(move |c| {
            let day = day_of(now);
            for (cell, sums) in days.iter().enumerate() {
                c.execute(
                    "INSERT INTO mail_load_day VALUES (?1,?2,?3,?4,?5,?6) ON CONFLICT DO UPDATE SET people = ?3, mailable = ?4, complained = ?5, withdrew = ?6",
                    params![day, i64::try_from(cell).unwrap_or(0), sums[0], sums[1], sums[2], sums[3]],
                )?;
            }
            settings::set(c, KEY, &serde_json::to_string(&Kept { day, priors, usual })?)
        })
        .await?;
    Ok(all)
}

/// A cell of the grid.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoadCell {
    pub cell: u8,
    pub mail: load::Mail,
    pub answer: load::Answer,
    pub people: i64,
    pub mailable: i64,
    /// Four weeks before, when that is known.
    pub people_before: Option<i64>,
    /// Who complained, and who withdrew, in the last 90 days, of those in the cell now.
    pub complained: Rate,
    pub withdrew: Rate,
}

/// The grid of mail load.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoadView {
    /// Days since 1970-01-01; none: it was never worked out.
    pub day: Option<i64>,
    /// The day it is compared with.
    pub before: Option<i64>,
    pub cells: Vec<LoadCell>,
    /// Messages in 28 days at which *usual* begins and ends.
    pub usual: (f64, f64),
    pub open_blind: i64,
    /// The mean rate of answers that shrinking goes towards: of people whose opens can be seen, and of the open-blind.
    pub mean_rate: (Option<f64>, Option<f64>),
}

/// # Errors
/// When the database fails.
pub fn view(c: &Connection) -> Result<LoadView> {
    let k = kept(c)?;
    let before: Option<i64> =
        c.query_row("SELECT max(day) FROM mail_load_day WHERE day <= ?1", [k.day - 28], |r| r.get(0)).optional()?.flatten();
    let of = |day: i64| -> Result<BTreeMap<u8, [i64; 4]>> {
        let mut s = c.prepare_cached("SELECT cell, people, mailable, complained, withdrew FROM mail_load_day WHERE day = ?1")?;
        Ok(s.query_map([day], |r| Ok((r.get(0)?, [r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?])))?.collect::<rusqlite::Result<_>>()?)
    };
    let (now, then) = (of(k.day)?, before.map(of).transpose()?);
    let rate = |n: i64, of: i64| Rate::new(n.unsigned_abs(), of.unsigned_abs());
    let cells = (0..CELLS)
        .map(|cell| {
            let [people, mailable, complained, withdrew] = now.get(&cell).copied().unwrap_or_default();
            LoadCell {
                cell,
                mail: load::Mail::ALL[usize::from(cell / 5)],
                answer: load::Answer::ALL[usize::from(cell % 5)],
                people,
                mailable,
                people_before: then.as_ref().map(|t| t.get(&cell).map_or(0, |c| c[0])),
                complained: rate(complained, people),
                withdrew: rate(withdrew, people),
            }
        })
        .collect();
    let mean = |p: Option<Prior>| p.map(|p| p.alpha / (p.alpha + p.beta));
    Ok(LoadView {
        day: (k.day > 0).then_some(k.day),
        before,
        cells,
        usual: k.usual,
        open_blind: c.query_row("SELECT count(*) FROM mail_load WHERE blind = 1", [], |r| r.get(0))?,
        mean_rate: (mean(k.priors[0]), mean(k.priors[1])),
    })
}

/// One person's mail load, as their page shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct OwnLoad {
    pub cell: u8,
    pub words: String,
    pub per_28_days: f64,
    /// Answers per message, shrunk to the base; from so many weighted messages and answers.
    pub rate: Option<f64>,
    pub delivered: f64,
    pub answered: f64,
    pub open_blind: bool,
}

/// A person's mail-load cell, once it was worked out.
///
/// # Errors
/// When the database fails.
pub fn cell_of(c: &Connection, contact: ContactId) -> Result<Option<u8>> {
    Ok(c.prepare_cached("SELECT cell FROM mail_load WHERE contact_id = ?1")?.query_row([contact.0], |r| r.get(0)).optional()?)
}

/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: ContactId) -> Result<Option<OwnLoad>> {
    Ok(c.prepare_cached("SELECT cell, per_28_days, rate, delivered, responses, blind FROM mail_load WHERE contact_id = ?1")?
        .query_row([contact.0], |r| {
            let cell: u8 = r.get(0)?;
            Ok(OwnLoad {
                cell,
                words: load::cell_words(cell),
                per_28_days: r.get(1)?,
                rate: r.get(2)?,
                delivered: r.get(3)?,
                answered: r.get(4)?,
                open_blind: r.get(5)?,
            })
        })
        .optional()?)
}
