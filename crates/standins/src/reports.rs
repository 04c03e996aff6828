//! What other hosts report of mail in Skerry Light's name: DMARC aggregate reports (RFC 7489, appendix C) and TLS reports (RFC 8460).

use crate::people::Draws;
use crate::scenario::Scenario;
use rinse_core::Instant;
use std::fmt::Write;

/// Where our mail comes from, and who began to send in our name some days before the demo opens (RFC 5737).
const OURS: &str = "192.0.2.25";
const FORWARDS: &str = "198.51.100.66";
const STRANGER: &str = "203.0.113.77";
/// So many days the stranger is at it.
const STRANGE_DAYS: i64 = 6;

/// The report of a host on a day, `ago` days before the demo opens.
#[must_use]
pub fn dmarc(scenario: &Scenario, host: &str, day: i64, ago: i64) -> String {
    let mut d = Draws::new(scenario.seed, &format!("dmarc {host} {day}"));
    let mut rows = vec![(OURS, 400 + d.below(1_800), "none", "pass", "pass"), (FORWARDS, 3 + d.below(12), "none", "pass", "fail")];
    if ago < STRANGE_DAYS {
        rows.push((STRANGER, 20 + d.below(60), "quarantine", "fail", "fail"));
    }
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<feedback><version>1.0</version><report_metadata><org_name>{host}</org_name><email>noreply@{host}</email>\
         <report_id>{host}-{day}</report_id><date_range><begin>{}</begin><end>{}</end></date_range></report_metadata>\
         <policy_published><domain>skerry-light.example</domain><adkim>r</adkim><aspf>r</aspf><p>quarantine</p><pct>100</pct></policy_published>",
        day * 86_400,
        day * 86_400 + 86_399
    );
    for (source, count, disposition, dkim, spf) in rows {
        let _ = write!(
            out,
            "<record><row><source_ip>{source}</source_ip><count>{count}</count><policy_evaluated><disposition>{disposition}</disposition><dkim>{dkim}</dkim><spf>{spf}</spf></policy_evaluated></row>\
             <identifiers><header_from>skerry-light.example</header_from></identifiers>\
             <auth_results><dkim><domain>skerry-light.example</domain><result>{dkim}</result></dkim><spf><domain>skerry-light.example</domain><result>{spf}</result></spf></auth_results></record>"
        );
    }
    out.push_str("</feedback>");
    out
}

/// The TLS report of a host on a day; one connection of a few hundred failed.
#[must_use]
pub fn tls(scenario: &Scenario, host: &str, day: i64) -> String {
    let mut d = Draws::new(scenario.seed, &format!("tls {host} {day}"));
    let (from, to) = (Instant::of(day * rinse_core::DAY).iso(), Instant::of((day + 1) * rinse_core::DAY - 1_000).iso());
    let failed = d.below(3);
    let details = if failed > 0 {
        format!(r#","failure-details":[{{"result-type":"certificate-expired","failed-session-count":{failed}}}]"#)
    } else {
        String::new()
    };
    format!(
        r#"{{"organization-name":"{host}","date-range":{{"start-datetime":"{from}","end-datetime":"{to}"}},"contact-info":"noreply@{host}","report-id":"{host}-{day}","policies":[{{"policy":{{"policy-type":"sts","policy-domain":"skerry-light.example"}},"summary":{{"total-successful-session-count":{},"total-failure-session-count":{failed}}}{details}}}]}}"#,
        200 + d.below(300)
    )
}
