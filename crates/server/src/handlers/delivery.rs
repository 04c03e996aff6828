//! Is our mail let in? By mail domain and day; what other hosts report of mail in our name.

use super::Acting;
use crate::error::{Answer, ApiError};
use crate::state::App;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Query, State};
use rinse_core::DAY;
use rinse_core::delivery::{About, LetIn, about, aligned, let_in};
use rinse_core::figure::Figure;
use rinse_core::findings::{By, Clock};
use rinse_core::report::Rate;
use rinse_post::reports::{self, Dmarc, Number, Reports};
use rinse_store::delivery::reports::{self as kept, DmarcRow, Report, ReportsIn, Says, Taken, TlsRow};
use rinse_store::findings::groups::{self, Filter};
use rinse_store::{Connection, StoreError};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::time::Duration;
use utoipa::{IntoParams, ToSchema};

/// The front page looks back so many days.
const DAYS: i64 = 28;
/// Unpacking and reading ends within this.
const PATIENCE: Duration = Duration::from_secs(60);

/// A day's mail to a domain.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryDay {
    /// Days since 1970, UTC.
    day: i64,
    of: u64,
    /// Refused because of us.
    blocked: u64,
    /// Refused or given up for the address's reasons.
    bounced: u64,
}

/// How a mail domain lets our mail in.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryGroup {
    key: String,
    name: String,
    accepted: Rate,
    blocked: Rate,
    bounced: Rate,
    complaints: Rate,
    let_in: LetIn,
    about: About,
    /// The first day of the last run of days on which it blocked anything.
    blocked_since: Option<i64>,
    days: Vec<DeliveryDay>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct DeliveryView {
    accepted: Rate,
    groups: Vec<DeliveryGroup>,
    from_day: i64,
    to_day: i64,
    /// What was reported of our name in the same time.
    reported: u64,
    aligned: Rate,
    new_sources: usize,
}

fn view(c: &Connection, now: i64) -> Result<DeliveryView, StoreError> {
    let today = now.div_euclid(DAY);
    let filter = Filter { from: Some((today - DAYS + 1) * DAY), channel: Some(1), ..Filter::default() };
    let needed = [Figure::Sent, Figure::Accepted, Figure::Blocked, Figure::Bounced, Figure::Delivered, Figure::Complaints];
    let needed: Vec<Figure> = needed.into_iter().chain(std::iter::successors(Figure::Complaints.of(), |f| f.of())).collect();
    let names = groups::names(c, By::Domain)?;
    let mut by: BTreeMap<String, (groups::Group, BTreeMap<i64, DeliveryDay>)> = BTreeMap::new();
    let pieces = groups::pieces_of(c, (By::Domain, Some(By::Day)), Clock::Utc, &filter, &needed)?;
    for p in &pieces {
        let (_, days) = by.entry(p.key.clone()).or_default();
        let day = p.across.parse().unwrap_or(p.day);
        let at = days.entry(day).or_insert(DeliveryDay { day, of: 0, blocked: 0, bounced: 0 });
        at.of += p.sums.of(Figure::Sent);
        at.blocked += p.sums.of(Figure::Blocked);
        at.bounced += p.sums.of(Figure::Bounced);
    }
    for g in groups::together(&pieces) {
        if let Some(of) = by.get_mut(&g.key) {
            of.0 = g;
        }
    }
    let group = |(key, (g, days)): (String, (groups::Group, BTreeMap<i64, DeliveryDay>))| {
        let rate = |f: Figure| g.sums_for(f).rate(f);
        let accepted = rate(Figure::Accepted);
        let since = days.values().rev().take_while(|d| d.blocked > 0).last().map(|d| d.day);
        DeliveryGroup {
            name: names.get(&key).cloned().unwrap_or_else(|| key.clone()),
            let_in: let_in(&accepted),
            about: about(rate(Figure::Blocked).count, rate(Figure::Bounced).count),
            accepted,
            blocked: rate(Figure::Blocked),
            bounced: rate(Figure::Bounced),
            complaints: rate(Figure::Complaints),
            blocked_since: since,
            days: days.into_values().collect(),
            key,
        }
    };
    let mut groups: Vec<DeliveryGroup> = by.into_iter().map(group).collect();
    groups.sort_by_key(|g| std::cmp::Reverse(g.accepted.of));
    let sum = |f: fn(&DeliveryGroup) -> u64| groups.iter().map(f).sum::<u64>();
    let sources = kept::sources(c, DAYS, rinse_core::Instant(now))?;
    let (reported, aligned) = kept::together(&sources);
    Ok(DeliveryView {
        accepted: Rate::new(sum(|g| g.accepted.count), sum(|g| g.accepted.of)),
        groups,
        from_day: today - DAYS + 1,
        to_day: today,
        reported,
        aligned,
        new_sources: sources.iter().filter(|s| s.new).count(),
    })
}

/// How each mail domain lets our mail in, day by day, over four weeks. A domain is told to let in less than it should only where the whole interval of
/// its accepted mail lies under the mark (97%, 95%).
#[utoipa::path(get, path = "/api/delivery", responses((status = 200, body = DeliveryView)))]
pub(crate) async fn front(State(app): State<App>) -> Answer<DeliveryView> {
    let now = app.now().0;
    Ok(Json(app.store.read(move |c| view(c, now)).await?))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Days {
    /// How many days back; 90 when absent.
    #[param(minimum = 1, maximum = 3_660)]
    days: Option<i64>,
}

/// Who sends in our name, as other hosts report it (DMARC), and how connections were secured (TLS reports).
#[utoipa::path(get, path = "/api/delivery/reports", params(Days), responses((status = 200, body = ReportsIn)))]
pub(crate) async fn reports_in(State(app): State<App>, Query(d): Query<Days>) -> Answer<ReportsIn> {
    let now = app.now();
    Ok(Json(app.store.read(move |c| kept::told(c, d.days.unwrap_or(90).clamp(1, 3_660), now)).await?))
}

#[derive(Deserialize)]
pub(crate) struct Named {
    name: String,
}

fn whole(n: Option<&Number>) -> i64 {
    n.and_then(Number::whole).unwrap_or(0).max(0)
}

/// A report in the words of the store: records that say the same of the same source are one.
fn of_dmarc(d: Dmarc) -> Report {
    let mut rows: BTreeMap<(String, bool, bool, String, String), i64> = BTreeMap::new();
    for r in d.records {
        let pass = |result: Option<&str>| aligned(result, None);
        let text = |t: Option<String>| t.unwrap_or_default().to_ascii_lowercase();
        let key = (text(r.source_ip), pass(r.dkim.as_deref()), pass(r.spf.as_deref()), text(r.disposition), text(r.header_from));
        *rows.entry(key).or_default() += whole(r.count.as_ref());
    }
    let rows = rows.into_iter().map(|((source, dkim, spf, disposition, header_from), messages)| DmarcRow {
        source,
        messages,
        dkim,
        spf,
        disposition,
        header_from,
    });
    let at = |n: Option<&Number>| n.and_then(Number::whole).and_then(|s| s.checked_mul(1000));
    Report {
        begin: at(d.begin.as_ref()),
        end: at(d.end.as_ref()),
        org: d.org_name,
        report_id: d.report_id,
        domain: d.policy.domain,
        says: Says::Dmarc(rows.collect()),
    }
}

fn of_tls(t: &Value) -> Report {
    let text = |v: &Value| v.as_str().map(str::to_owned);
    let at = |v: &Value| v.as_str().and_then(|t| t.parse::<jiff::Timestamp>().ok()).map(|t| t.as_millisecond());
    let count = |v: &Value| v.as_i64().unwrap_or(0).max(0);
    let rows = t["policies"].as_array().into_iter().flatten().map(|p| TlsRow {
        domain: text(&p["policy"]["policy-domain"]).unwrap_or_default(),
        policy: text(&p["policy"]["policy-type"]).unwrap_or_default(),
        good: count(&p["summary"]["total-successful-session-count"]),
        failed: count(&p["summary"]["total-failure-session-count"]),
        reasons: p["failure-details"]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|f| text(&f["result-type"]))
            .collect::<Vec<_>>()
            .join("\n"),
    });
    let rows: Vec<TlsRow> = rows.collect();
    Report {
        org: text(&t["organization-name"]),
        report_id: text(&t["report-id"]),
        domain: rows.first().map(|r| r.domain.clone()),
        begin: at(&t["date-range"]["start-datetime"]),
        end: at(&t["date-range"]["end-datetime"]),
        says: Says::Tls(rows),
    }
}

/// Takes a file of reports in, whoever brings it.
pub(crate) async fn take_file(app: &App, name: String, bytes: Bytes, who: Option<i64>) -> Result<Taken, ApiError> {
    let work = move || {
        let digest = Sha256::digest(&bytes).to_vec();
        let found = match reports::read(&bytes) {
            Ok(Reports::Dmarc(all)) => all.into_iter().map(of_dmarc).collect(),
            Ok(Reports::Tls(all)) => all.iter().map(of_tls).collect(),
            Err(e) => vec![Report { says: Says::Unreadable(e.to_string()), ..Report::default() }],
        };
        (digest, found)
    };
    let (digest, found): (Vec<u8>, Vec<Report>) = app.apart.run(PATIENCE, work).await?;
    let now = app.now();
    Ok(app.store.write(move |c| kept::take(c, &name, &digest, &found, now, who)).await?)
}

/// Takes a file of DMARC or TLS reports in (XML, JSON, gz, zip, a mail). One that can't be read is kept as such; the same again changes nothing.
#[utoipa::path(post, path = "/api/delivery/reports", params(("name" = String, Query, description = "The file's name.")),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = Taken)))]
pub(crate) async fn take(State(app): State<App>, who: Acting, Query(n): Query<Named>, bytes: Bytes) -> Answer<Taken> {
    if bytes.is_empty() {
        return Err(ApiError::Malformed("The file is empty.".into()));
    }
    let name = n.name.chars().filter(|c| !c.is_control()).take(120).collect();
    Ok(Json(take_file(&app, name, bytes, Some(who.0)).await?))
}
