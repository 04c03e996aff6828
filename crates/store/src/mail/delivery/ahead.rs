//! What hosts would make of a mailing before it goes: the groups that it goes to, what is amiss with them, the share that is let in.

use super::{alerts, names, operators};
use crate::domains::{self, GroupPause};
use crate::warm_up::{self, WarmUp};
use crate::{Result, flow};
use rinse_core::Instant;
use rinse_core::delivery::ahead::{self, Expected, Group};
use rinse_core::delivery::alert::Kind;
use rinse_core::delivery::authentication::Line;
use rinse_core::delivery::warm_up::{Rule, spread};
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::report::Rate;
use rinse_core::segment::evaluate::day_of;
use rinse_core::stats::Arm;
use rusqlite::{Connection, OptionalExtension};
use serde::Serialize;
use std::collections::{BTreeSet, HashMap};
use utoipa::ToSchema;

/// Groups that are told.
const TOLD: usize = 50;

/// A mailbox group that a mailing would go to.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct AheadGroup {
    pub name: String,
    pub people: u64,
    /// Of the mailings of the last 90 days.
    pub accepted: Rate,
    pub pause: Option<GroupPause>,
    /// Messages a minute that it gets now, where that is less than usual.
    pub held_back: Option<f64>,
    pub alerts: Vec<Kind>,
    /// Under a sender that is warmed up: how many go on the first day, and on which day (since 1970, UTC) the last one does if all goes well.
    pub warm_up: Option<WarmUpAhead>,
}

#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct WarmUpAhead {
    pub at_once: u32,
    pub last: i64,
}

/// What hosts would make of a mailing.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Ahead {
    pub groups: Vec<AheadGroup>,
    pub expected: Option<Expected>,
    /// What hosts wouldn't find of the sender, as DNS was looked at last.
    pub wrong: Vec<Line>,
    /// The sender's domain, where hosts have never had mail of it, it isn't warmed up, and a group would get more than a first day's share.
    pub new_name: Option<String>,
}

/// How a group's people would go under a warm-up, by those who wait already.
fn warmed(c: &Connection, w: &WarmUp, group: &str, people: u64, taken: HashMap<i64, u32>, at: Instant) -> Result<Option<WarmUpAhead>> {
    let room = warm_up::room(c, w, group, at, taken)?;
    if room.ceiling.is_none() {
        return Ok(None);
    }
    let days = spread(u32::try_from(people).unwrap_or(u32::MAX), day_of(at), |d| room.on(d));
    let at_once = days.first().filter(|d| d.0 == day_of(at)).map_or(0, |d| d.1);
    Ok(days.last().filter(|_| u64::from(at_once) < people).map(|d| WarmUpAhead { at_once, last: d.0 }))
}

/// What hosts would make of a mailing under a letterhead that goes to so many people of each domain.
///
/// # Errors
/// When the database fails.
pub fn of(c: &Connection, domains: &HashMap<i64, u64>, letterhead: LetterheadId, now: Instant) -> Result<Ahead> {
    let operators = operators::groups(c)?;
    let mut name = c.prepare_cached("SELECT name FROM domain WHERE id = ?1")?;
    let mut people: HashMap<String, u64> = HashMap::new();
    for (domain, n) in domains {
        let group = match operators.get(domain) {
            Some(group) => group.clone(),
            None => name.query_row([domain], |r| r.get(0)).optional()?.unwrap_or_default(),
        };
        *people.entry(group).or_default() += n;
    }
    let mut history = alerts::accepted(c, now)?;
    let mailings: BTreeSet<(Instant, MailingId)> = history.values().flat_map(|m| m.keys().copied()).collect();
    let (mut pauses, held, open) = (domains::paused_groups(c, now)?, flow::held_back(c, now)?, alerts::open(c)?);
    let mut weighed = Vec::new();
    let mut groups: Vec<AheadGroup> = people
        .into_iter()
        .map(|(name, people)| {
            let of = history.remove(&name).unwrap_or_default();
            let before: Vec<Arm> = mailings.iter().map(|m| of.get(m).copied().unwrap_or_default()).collect();
            let all: Arm = before.iter().copied().sum();
            weighed.push(Group { people, before });
            AheadGroup {
                accepted: Rate::new(all.successes, all.trials),
                pause: pauses.remove(&name),
                held_back: held.iter().find(|h| h.name == name).map(|h| h.ceiling),
                alerts: open.iter().filter(|a| a.group == name).map(|a| a.kind).collect(),
                warm_up: None,
                people,
                name,
            }
        })
        .collect();
    groups.sort_by(|a, b| b.people.cmp(&a.people).then_with(|| a.name.cmp(&b.name)));
    groups.truncate(TOLD);
    let warm_up = warm_up::of_letterhead(c, letterhead)?;
    if let Some(w) = &warm_up {
        let mut taken = warm_up::waiting(c, w)?;
        for g in &mut groups {
            g.warm_up = warmed(c, w, &g.name, g.people, taken.remove(&g.name).unwrap_or_default(), now)?;
        }
    }
    let at_once = groups.iter().any(|g| g.people > u64::from(Rule::default().start));
    let new_name = if warm_up.is_none() && at_once { warm_up::new_name(c, letterhead)? } else { None };
    Ok(Ahead { groups, expected: ahead::expected(&weighed), wrong: names::wrong_with(c, letterhead)?, new_name })
}
