//! The rules: their versions, what a change would do to the coming mailings, and saving it.

use super::Acting;
use crate::error::Answer;
use crate::state::App;
use axum::Json;
use axum::extract::State;
use rinse_core::Instant;
use rinse_core::caps::Scope;
use rinse_core::clearance::RuleSet;
use rinse_core::id::{LetterheadId, MailingId};
use rinse_core::words::people;
use rinse_store::clearing::forecast;
use rinse_store::contacts::{self, CountryPeople};
use rinse_store::rules::{self, RulesVersion};
use rinse_store::{Connection, letterheads, settings, topics};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A cap in words.
#[derive(Serialize, ToSchema)]
pub(crate) struct CapWords {
    words: String,
    scope: String,
    in_force: bool,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct RulesView {
    version: RulesVersion,
    caps: Vec<CapWords>,
    countries: Vec<CountryPeople>,
    letterheads: Vec<letterheads::Letterhead>,
    topics: Vec<settings::Named>,
}

/// The caps of a version in words.
pub(crate) fn cap_words(c: &Connection, rules: &RuleSet) -> rinse_store::Result<Vec<CapWords>> {
    let (topics, letterheads) = (topics::all(c)?, letterheads::all(c)?);
    let scope = |s: Scope| match s {
        Scope::Marketing => "all marketing".to_owned(),
        Scope::Channel { id: 2 } => "text messages".into(),
        Scope::Channel { .. } => "email".into(),
        Scope::Topic { id } => format!("topic {}", topics.iter().find(|t| t.id == id).map_or("that is gone", |t| &t.name)),
        Scope::Series => "messages of series".to_owned(),
        Scope::Letterhead { id } => {
            format!("letterhead {}", letterheads.iter().find(|l| l.id == LetterheadId(id)).map_or("that is gone", |l| &l.name))
        }
    };
    Ok(rules.caps.iter().map(|cap| CapWords { words: cap.words(), scope: scope(cap.scope), in_force: cap.in_force }).collect())
}

/// The rules in force, with what is needed to change them.
#[utoipa::path(get, path = "/api/rules", responses((status = 200, body = RulesView)))]
pub(crate) async fn current(State(app): State<App>) -> Answer<RulesView> {
    Ok(Json(
        app.store
            .read(|c| {
                let version = rules::current(c)?;
                let caps = cap_words(c, &version.rules)?;
                Ok(RulesView {
                    version,
                    caps,
                    countries: contacts::countries(c)?,
                    letterheads: letterheads::all(c)?,
                    topics: topics::all(c)?,
                })
            })
            .await?,
    ))
}

/// All versions, the newest first.
#[utoipa::path(get, path = "/api/rules/versions", responses((status = 200, body = Vec<RulesVersion>)))]
pub(crate) async fn versions(State(app): State<App>) -> Answer<Vec<RulesVersion>> {
    Ok(Json(app.store.read(rules::all).await?))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct NewRules {
    rules: RuleSet,
    /// Why.
    #[serde(default)]
    note: String,
}

/// Saves the next version of the rules.
#[utoipa::path(put, path = "/api/rules", request_body = NewRules, responses((status = 200, body = i64)))]
pub(crate) async fn save(State(app): State<App>, who: Acting, Json(n): Json<NewRules>) -> Answer<i64> {
    n.rules.check()?;
    let now = app.now();
    let id = app.store.write(move |c| rules::save(c, now, Some(who.0), &n.rules, n.note.trim())).await?;
    // Anybody who was held under the older rules is asked again.
    crate::actions::held_again(&app).await?;
    crate::actions::due_now(&app, now).await?;
    Ok(Json(id))
}

/// What a change does to one coming mailing.
#[derive(Serialize, ToSchema)]
pub(crate) struct Effect {
    mailing_id: MailingId,
    mailing: String,
    at: i64,
    /// People who get it, now or later, as the rules are.
    before: u64,
    after: u64,
    later_before: u64,
    later_after: u64,
    /// "412 fewer people will get Boat days on Fri 17 Apr".
    words: String,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct RulesPreview {
    /// Is there a coming mailing at all?
    mailings: usize,
    effects: Vec<Effect>,
}

/// What rules would do to the mailings of the coming four weeks. Nothing is saved.
#[utoipa::path(post, path = "/api/rules/preview", request_body = NewRules, responses((status = 200, body = RulesPreview)))]
pub(crate) async fn preview(State(app): State<App>, _: Acting, Json(n): Json<NewRules>) -> Answer<RulesPreview> {
    n.rules.check()?;
    let now = app.now();
    Ok(Json(
        app.store
            .read(move |c| {
                let (before, after) = (forecast::as_planned(c, now)?, forecast::forecast(c, now, None, Some(&n.rules))?);
                Ok(RulesPreview { mailings: before.mailings.len(), effects: effects(&before, &after) })
            })
            .await?,
    ))
}

/// What a change does to each coming mailing.
pub(super) fn effects(before: &forecast::Forecast, after: &forecast::Forecast) -> Vec<Effect> {
    let pairs = before.mailings.iter().filter_map(|b| after.mailings.iter().find(|a| a.id == b.id).map(|a| (b, a)));
    pairs.map(|(b, a)| effect(b, a)).collect()
}

fn effect(b: &forecast::MailingForecast, a: &forecast::MailingForecast) -> Effect {
    let (before, after) = (b.at_once + b.later, a.at_once + a.later);
    let day = Instant::of(b.at).words();
    let day = day.split(',').next().unwrap_or_default().to_owned();
    let fewer = |n: u64| if n == 1 { "1 person fewer".to_owned() } else { format!("{n} fewer people") };
    let more = |n: u64| if n == 1 { "1 person more".to_owned() } else { format!("{n} more people") };
    let got = match before.cmp(&after) {
        std::cmp::Ordering::Greater => format!("{} will get {} on {day}", fewer(before - after), b.name),
        std::cmp::Ordering::Less => format!("{} will get {} on {day}", more(after - before), b.name),
        std::cmp::Ordering::Equal => format!("As many people get {} on {day}", b.name),
    };
    let later = match b.later.cmp(&a.later) {
        std::cmp::Ordering::Equal => String::new(),
        std::cmp::Ordering::Less => format!("; {} later than planned", people(a.later - b.later)),
        std::cmp::Ordering::Greater => format!("; {} at once instead of later", people(b.later - a.later)),
    };
    Effect {
        mailing_id: MailingId(b.id),
        mailing: b.name.clone(),
        at: b.at,
        before,
        after,
        later_before: b.later,
        later_after: a.later,
        words: got + &later + ".",
    }
}
