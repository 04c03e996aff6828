//! Today: what needs a decision now; the workline, the people, the clock.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::progress::{Job, JobProgress};
use crate::state::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::response::IntoResponse;
use rinse_core::first_steps::{Step, first_steps};
use rinse_core::standing::{MailingState, TrialState};
use rinse_core::{HOUR, Instant};
use rinse_store::findings::Workline;
use rinse_store::hour_trials::Undrawn;
use rinse_store::upkeep::{incidents, made_of, runs as cleaning};
use rinse_store::{findings, mailings, notices, sends, settings};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The live figures of the stations.
#[utoipa::path(get, path = "/api/workline", responses((status = 200, body = Workline)))]
pub(crate) async fn workline(State(app): State<App>) -> Answer<Workline> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| findings::workline(c, now.millis())).await?))
}

#[derive(Serialize, ToSchema)]
pub(crate) struct ClockNow {
    now: i64,
    demo: bool,
}

/// What time it is here.
#[utoipa::path(get, path = "/api/clock", responses((status = 200, body = ClockNow)))]
pub(crate) async fn clock(State(app): State<App>) -> Answer<ClockNow> {
    Ok(Json(ClockNow { now: app.now().millis(), demo: app.clock.is_demo() }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Advance {
    hours: i64,
}

/// Moves the demo clock on; watch `clock` in `/api/progress`.
#[utoipa::path(post, path = "/api/clock/advance", request_body = Advance, responses((status = 202)))]
pub(crate) async fn advance(State(app): State<App>, _: Acting, Json(a): Json<Advance>) -> Result<impl IntoResponse, ApiError> {
    if !app.clock.is_demo() {
        return Err(ApiError::Refused("Only the demo clock can be moved.".into()));
    }
    if !(1..=24 * 60).contains(&a.hours) {
        return Err(ApiError::Malformed("Move the clock by 1 hour to 60 days.".into()));
    }
    if !app.jobs.sender(Job::Clock).begin(|_| {}) {
        return Err(ApiError::Refused("The clock is moving already; wait until it arrives.".into()));
    }
    let to = app.now() + a.hours * HOUR;
    tokio::spawn(async move {
        if let Err(e) = app.engine.advance(to).await {
            tracing::error!("the clock stopped: {e}");
        }
    });
    Ok(axum::http::StatusCode::ACCEPTED)
}

/// How all work stands that runs or ran lately.
#[utoipa::path(get, path = "/api/progress", responses((status = 200, body = Vec<JobProgress>)))]
pub(crate) async fn progress(State(app): State<App>) -> Json<Vec<JobProgress>> {
    Json(app.jobs.all())
}

/// The same as server-sent events, and each change of it: one stream for a browser, whatever runs.
pub(crate) async fn follow(State(app): State<App>) -> impl IntoResponse {
    app.jobs.stream(app.closing())
}

/// Something that waits for a person.
#[derive(Serialize, ToSchema)]
pub(crate) struct Decision {
    kind: &'static str,
    title: String,
    words: String,
    /// Where to decide it.
    link: String,
    action: String,
    /// The notice's number, where it is one: it is settled here.
    notice: Option<i64>,
}

/// What needs a decision now.
#[utoipa::path(get, path = "/api/today", responses((status = 200, body = Vec<Decision>)))]
pub(crate) async fn today(State(app): State<App>) -> Answer<Vec<Decision>> {
    let now = app.now();
    let mut all = app.store.read(move |c| decisions(c, now)).await?;
    if let Some(words) = app.engine.trouble() {
        let (title, link, action) = ("Nothing is being sent".to_owned(), "/today".to_owned(), "Try again".to_owned());
        all.insert(0, Decision { kind: "trouble", title, words, link, action, notice: None });
    }
    Ok(Json(all))
}

/// What a new installation needs before it sends; none once it is there, or a mailing has gone.
#[utoipa::path(get, path = "/api/first-steps", responses((status = 200, body = Vec<Step>)))]
pub(crate) async fn first(State(app): State<App>) -> Answer<Vec<Step>> {
    let dns = app.engine.dns.is_asked();
    Ok(Json(first_steps(&app.store.read(move |c| rinse_store::first_steps::facts(c, dns)).await?)))
}

/// So long before an hour that was learned expires it stands in Today.
const EXPIRES_SOON: i64 = 30 * rinse_core::DAY;

/// So long before its draw a round whose message isn't planned stands in Today.
const SOON: i64 = 4 * rinse_core::DAY;

fn decisions(c: &rinse_store::Connection, now: Instant) -> rinse_store::Result<Vec<Decision>> {
    let mut out = Vec::new();
    // Both ways, so that the index of those being handed over is seen to hold them.
    let doubt: i64 = sends::doubtful(c)?;
    if doubt > 0 {
        out.push(Decision {
            notice: None, kind: "doubt", title: format!("{doubt} messages in doubt"), link: "/today".into(), action: "Decide".into(),
            words: "They were being handed over when Rinse stopped, and the mail host can't be asked whether it has them. Sending again may reach people twice; leaving them may forget people.".into(),
        });
    }
    for (place, mailing, opened_at) in incidents::waiting(c)? {
        out.push(Decision {
            notice: None,
            kind: "incident",
            title: format!("Failures at {place}"),
            link: "/upkeep".into(),
            action: "Look and decide".into(),
            words: format!(
                "Far more addresses there failed on “{mailing}” than usually do, since {}. None of it counts against them until you say so.",
                opened_at.words()
            ),
        });
    }
    for a in rinse_store::delivery::alerts::open(c)? {
        out.push(Decision {
            notice: None,
            kind: "delivery",
            title: format!("{}: {}", a.group, a.kind.words()),
            words: a.words,
            link: "/delivery".into(),
            action: "Look at it".into(),
        });
    }
    for (subject, list, since) in rinse_store::blocklists::listed(c)? {
        out.push(Decision {
            notice: None,
            kind: "listed",
            title: format!("{subject} is on a blocklist"),
            words: format!("{list} has had it since {}. Hosts that ask it may refuse our mail.", Instant::of(since).words()),
            link: "/delivery/blocklists".into(),
            action: "Look at it".into(),
        });
    }
    for n in notices::open(c)? {
        out.push(Decision {
            notice: Some(n.id),
            kind: "notice",
            title: match n.kind.as_str() {
                notices::JOURNAL => "The journal of withdrawals",
                notices::RECORDS => "A file of the system of record",
                _ => "Mail that couldn’t be read",
            }
            .to_owned(),
            words: n.words,
            link: "/today".into(),
            action: "Seen".into(),
        });
    }
    let run = cleaning::open(c)?;
    let due = made_of::due(c)?;
    if let Some(run) = run {
        out.push(Decision {
            notice: None,
            kind: "cleaning",
            title: format!("Cleaning run {run}"),
            link: format!("/upkeep/runs/{run}"),
            action: "Read the run".into(),
            words: "It is proposed: read whom it concerns and why, then apply or drop it.".into(),
        });
    } else if due > 0 {
        out.push(Decision {
            notice: None,
            kind: "cleaning",
            title: "Addresses due for cleaning".into(),
            link: "/upkeep".into(),
            action: "Propose a run".into(),
            words: format!("{} rest until a cleaning run decides on them.", rinse_core::words::people(due.unsigned_abs())),
        });
    }
    for t in rinse_store::trials::all(c)? {
        match t.state {
            TrialState::Read => out.push(Decision {
                notice: None,
                kind: "rollout",
                title: t.mailing.clone(),
                link: format!("/trials/{}", t.id),
                action: "Read the verdict".into(),
                words: format!("The trial “{}” has its verdict. The rollout waits for you.", t.plan.question),
            }),
            TrialState::Planned => out.push(Decision {
                notice: None,
                kind: "plan",
                title: t.mailing.clone(),
                link: format!("/trials/{}", t.id),
                action: "Open the plan".into(),
                words: format!("“{}” is planned and not sealed. Nothing goes out until you seal it.", t.plan.question),
            }),
            _ => {}
        }
    }
    let soon = |r: &Undrawn| r.state == MailingState::Draft && r.draws_at - now < SOON;
    for r in rinse_store::hour_trials::undrawn(c)?.into_iter().filter(soon) {
        out.push(Decision {
            notice: None,
            kind: "round",
            words: format!(
                "It is round {} of “{}”, which is drawn {} UTC: plan it before, or the round is missed.",
                r.round,
                r.question,
                r.draws_at.words()
            ),
            title: r.name,
            link: format!("/mailings/{}", r.mailing),
            action: "Open the mailing".into(),
        });
    }
    let best = rinse_store::hour_trials::learned::learned(c, now)?.into_iter();
    let own = rinse_store::hour_trials::own::learned(c, now)?.into_iter();
    let best = best.map(|l| ("The best hour of", l.audience, l.expires_at, l.question, l.trial));
    let own = own.map(|l| ("Hours of their own of", l.audience, l.expires_at, l.question, l.trial));
    for (what, audience, expires_at, title, trial) in best.chain(own).filter(|l| l.2 - now.millis() < EXPIRES_SOON) {
        out.push(Decision {
            notice: None,
            kind: "hour",
            words: format!(
                "{what} {audience}: learned almost a year ago, and not used after {} UTC. Ask again, or let it go.",
                Instant::of(expires_at).words()
            ),
            title,
            link: format!("/trials/hours/{trial}"),
            action: "Open the trial".into(),
        });
    }
    for (id, name) in mailings::unplanned(c, 5)? {
        out.push(Decision {
            notice: None,
            kind: "draft",
            title: name,
            words: "A draft: finish it, plan a trial of it, or send it.".into(),
            link: format!("/mailings/{id}"),
            action: "Open the draft".into(),
        });
    }
    let tasks = rinse_store::reactions::open_tasks(c)?;
    if tasks > 0 {
        out.push(Decision {
            notice: None,
            kind: "task",
            title: format!("{tasks} task{} from reactions and series", if tasks == 1 { "" } else { "s" }),
            link: "/mailings/reactions".into(),
            action: "Open the tasks".into(),
            words: "Somebody did (or didn’t do) what a reaction waits for, or came to a step of a series, and it asks a person.".into(),
        });
    }
    let (imports, import) = rinse_store::imports::unapplied(c)?;
    if let Some(id) = import {
        out.push(Decision {
            notice: None,
            kind: "import",
            title: format!("{imports} import{} not applied", if imports == 1 { "" } else { "s" }),
            link: format!("/contacts/import/{id}"),
            action: "Go on with it".into(),
            words: "The file is here, and none of its people are in the base yet.".into(),
        });
    }
    for q in rinse_store::guides::jumps(c, now)? {
        let source = q.source.as_deref().unwrap_or("no source on record");
        out.push(Decision {
            notice: None, kind: "source",
            title: format!("Sign-ups from {source} jumped"),
            link: "/contacts/sources".into(),
            action: "Look at the sources".into(),
            words: format!(
                "{} in the last week, {:.1} in a usual one. It may be a good campaign, or somebody filling in other people's addresses: look at who they are before they are mailed.",
                q.last_week, q.usual_week
            ),
        });
    }
    let caps = rinse_store::rules::current(c)?.rules.caps;
    let idle = caps.iter().filter(|cap| !cap.in_force).count();
    // Before the first mailing it is one of the first steps, and told there.
    let is_a_step = caps.len() == idle && !rinse_store::first_steps::sent(c)?;
    if (caps.is_empty() || idle > 0) && !is_a_step {
        let (title, words) = match (caps.len(), idle) {
            (0, _) => ("There is no frequency cap".to_owned(), "Nothing limits how many marketing messages a person gets.".to_owned()),
            (n, i) if n == i => {
                ("No cap is in force".into(), "Caps are written down, and nothing limits how many marketing messages a person gets.".into())
            }
            (n, i) => (format!("{i} of {n} caps not in force"), "They are written down and hold nobody.".into()),
        };
        out.push(Decision { notice: None, kind: "cap", title, link: "/clearance/rules".into(), action: "Look at the rules".into(), words });
    }
    let retired = made_of::retired_since(c, now + -7 * rinse_core::DAY)?;
    if retired > 0 {
        out.push(Decision {
            notice: None,
            kind: "upkeep",
            title: format!("{} retired this week", if retired == 1 { "1 address".to_owned() } else { format!("{retired} addresses") }),
            link: "/upkeep".into(),
            action: "See why".into(),
            words: "They won't be mailed again. Each has its reason on record.".into(),
        });
    }
    Ok(out)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Doubt {
    again: bool,
}

/// Decides on messages in doubt.
#[utoipa::path(post, path = "/api/today/doubt", request_body = Doubt, responses((status = 204)))]
pub(crate) async fn decide_doubt(State(app): State<App>, who: Acting, Json(d): Json<Doubt>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store
        .write(move |c| {
            let n = sends::decide_doubt(c, d.again, now)?;
            settings::audit(
                c,
                now,
                Some(who.0),
                if d.again { "in doubt: sent again" } else { "in doubt: left" },
                "send",
                0,
                &format!("{n} messages"),
            )
        })
        .await?;
    app.engine.wake();
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Somebody has seen a notice.
#[utoipa::path(post, path = "/api/today/notices/{id}/settle", params(("id" = i64, Path)), responses((status = 204)))]
pub(crate) async fn settle(State(app): State<App>, who: Acting, Path(id): Path<i64>) -> Result<impl IntoResponse, ApiError> {
    let now = app.now();
    app.store.write(move |c| notices::settle(c, id, now, Some(who.0))).await?;
    Ok(axum::http::StatusCode::NO_CONTENT)
}
