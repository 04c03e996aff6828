//! What other hosts report of mail in our name, and of connections: taken in, and told.

use crate::error::{Answer, ApiError};
use crate::handlers::Acting;
use crate::state::App;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Query, State};
use rinse_core::delivery::aligned;
use rinse_post::reports::{self, Dmarc, Number, Reports};
use rinse_store::delivery::reports::{self as kept, DmarcRow, Report, ReportsIn, Says, Taken, TlsRow};
use serde::Deserialize;
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::time::Duration;
use utoipa::IntoParams;

/// Unpacking and reading ends within this.
const PATIENCE: Duration = Duration::from_secs(60);

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

/// More messages than anybody sends: what a report says beyond is no count.
const MOST_MESSAGES: i64 = 1_000_000_000_000;

fn whole(n: Option<&Number>) -> i64 {
    n.and_then(Number::whole).unwrap_or(0).clamp(0, MOST_MESSAGES)
}

/// A report in the words of the store: records that say the same of the same source are one.
fn of_dmarc(d: Dmarc) -> Report {
    let mut rows: BTreeMap<(String, bool, bool, String, String), i64> = BTreeMap::new();
    for r in d.records {
        let pass = |result: Option<&str>| aligned(result, None);
        let text = |t: Option<String>| t.unwrap_or_default().to_ascii_lowercase();
        let key = (text(r.source_ip), pass(r.dkim.as_deref()), pass(r.spf.as_deref()), text(r.disposition), text(r.header_from));
        let sum: &mut i64 = rows.entry(key).or_default();
        *sum = (*sum + whole(r.count.as_ref())).min(MOST_MESSAGES);
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
    let count = |v: &Value| v.as_i64().unwrap_or(0).clamp(0, MOST_MESSAGES);
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

/// Takes a file of reports in, no matter who brings it.
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
