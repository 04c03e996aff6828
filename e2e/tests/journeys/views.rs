//! Every view on the demo's year: readable by day and by night, nothing foreign, nothing broken;
//! every figure of the workline opens its working.

use fantoccini::Locator;
use rinse_e2e::Bench;
use serde_json::Value;

/// A view and words that show that its data has come.
const VIEWS: &[(&str, &str)] = &[
    ("/today", "for a decision"),
    ("/contacts", "people are in the base"),
    ("/contacts?status=3", "are shown"),
    ("/contacts/1", "Timeline"),
    ("/contacts/segments", "pick people"),
    ("/contacts/segments/4", "a dot is a person"),
    ("/contacts/segments/5", "visits a year is more than 6"),
    ("/contacts/recency", "Net a thousand"),
    ("/contacts/growth", "of all who joined remain"),
    ("/contacts/growth?lists=1", "On the lists"),
    ("/contacts/sources", "usually"),
    ("/contacts/words", "People are on"),
    ("/contacts/add", "on record"),
    ("/contacts/import", "Take purchases in"),
    ("/contacts?segment=1", "are shown"),
    ("/contacts/import/1", "people were added"),
    ("/clearance", "mailable"),
    ("/clearance/rules", "in force"),
    ("/clearance/suppression", "Looked over"),
    ("/clearance/suppression/1", "It catches"),
    ("/clearance/forecast", "messages go"),
    ("/clearance/cap-guide", "Not an experiment"),
    ("/clearance/50/person/5", "What it saw"),
    ("/clearance/consent", "Check the seals"),
    ("/clearance/domains", "Pause a domain"),
    ("/clearance/holdout", "since"),
    ("/clearance/suppression", "Shortlist"),
    ("/upkeep/load", "would bear more"),
    ("/setup", "to write under"),
    ("/setup/goals", "What a conversion is put down to"),
    ("/setup/words", "of your own"),
    ("/setup/people", "Letters go to"),
    ("/clearance/50", "get it"),
    ("/clearance/53", "Held: outside sending hours"),
    ("/mailings", "Drafts"),
    ("/mailings/51", "may go"),
    ("/mailings/46", "by the place they stand in"),
    ("/mailings/41", "How far it is"),
    ("/mailings/53", "Goes along with an email"),
    ("/mailings/new?by=text", "may go"),
    ("/mailings/calendar", "to come in these"),
    ("/mailings/elsewhere", "Nothing of what another system sent"),
    ("/mailings/compare?left=39&right=38", "lines differ"),
    ("/setup/letterheads/1", "its record is in DNS"),
    ("/trials", "trials"),
    ("/mailings/reactions", "they have acted"),
    ("/mailings/scores", "Highest now"),
    ("/setup/systems", "told by reactions"),
    ("/trials/learned", "What we have learned"),
    ("/trials/outside", "Unsealed"),
    ("/trials/plan/51", "people per arm"),
    ("/trials/9", "arms stay closed"),
    ("/trials/8", "Rate, 95%"),
    ("/trials/7", "Change the shares"),
    ("/trials/hours/new", "Hours that people are drawn to"),
    ("/trials/hours/1", "Hour by hour"),
    ("/trials/hours/3", "nothing by hour is shown before"),
    ("/series", "Came through"),
    ("/series/2", "How they came out"),
    ("/series/2/people?who=came-1", "At the step"),
    ("/clearance/elsewhere", "Whom it must not write to"),
    ("/delivery", "Handed over"),
    ("/delivery/alerts", "When a group is paused by itself"),
    ("/delivery/groups", "plainpost.example"),
    ("/delivery/warm-up", "What hosts don’t know"),
    ("/delivery/authentication", "no signing key"),
    ("/delivery/blocklists", "answers as a list does"),
    ("/delivery/panel", "as far as so few can tell"),
    ("/delivery/reports", "not seen before"),
    ("/findings", "whose opens can be known"),
    ("/findings?by=weekday", "Not an experiment"),
    ("/findings?by=domain&across=part_of_day", "Point at a field"),
    ("/findings/answers", "of the day"),
    ("/findings/links", "was followed by"),
    ("/findings/cohorts", "Three months after joining"),
    ("/findings/cohorts?measure=answered", "In the third month after joining"),
    ("/findings/reactions", "Reactions acted"),
    ("/findings?by=load", "Not an experiment"),
    ("/findings/revenue?by=month", "Put down to the last human click"),
    ("/findings/compare?mailings=30,31", "Differences are to the first"),
    ("/upkeep", "due for cleaning"),
    ("/upkeep/addresses?status=resting", "are resting"),
    ("/upkeep/incidents", "Incidents"),
    ("/upkeep/machines", "Machines that no rule knows yet?"),
    ("/upkeep/policy", "Versions"),
    ("/upkeep/runs", "After the holidays"),
    ("/upkeep/evidence", "Month by month"),
    ("/upkeep/reasons", "no such address"),
    ("/upkeep/silent", "kept back"),
    ("/upkeep/record-system", "came back"),
    ("/upkeep/runs/2", "What it does to the figures"),
    ("/upkeep/load", "would bear more"),
    ("/setup", "to write under"),
    ("/setup/goals", "What a conversion is put down to"),
    ("/setup/words", "of your own"),
    ("/setup/people", "Letters go to"),
];

#[tokio::test(flavor = "multi_thread")]
async fn every_view_is_sound_by_day_and_by_night() {
    let b = Bench::demo(1_500).await;
    for dark in [false, true] {
        b.night(dark).await;
        for (path, words) in VIEWS {
            b.go(path).await;
            b.shows(words).await;
            if !dark {
                // A page left in the middle of whatever it asked comes back whole.
                b.page.refresh().await.unwrap();
                b.shows(words).await;
            }
            let view = format!("{path} {}", if dark { "by night" } else { "by day" });
            b.accessible(&view).await;
            b.sound(&view).await;
        }
    }

    // Each station's figure opens its working, and the rows behind it are as many as it says.
    for (path, title, rows) in [
        ("/today", "To decide", None),
        ("/contacts", "Contacts", Some(("contacts", "contacts"))),
        ("/clearance", "Mailable", Some(("mailable", "mailable"))),
        ("/mailings", "To come", Some(("planned", "planned"))),
        ("/trials", "Trials", None),
        ("/series", "In series", None),
        ("/delivery", "Accepted", None),
        ("/findings", "Opened", None),
        ("/upkeep", "Resting", Some(("resting", "resting"))),
    ] {
        b.go(path).await;
        // Clearance goes on to the sluice of the next mailing, which closes what was opened before.
        b.shows(if path == "/clearance" { "get it" } else { "mailable" }).await;
        b.page.wait().for_element(Locator::Css("#sheet h1")).await.unwrap();
        b.click_css(&format!(".stop:has([href='{path}']) .figure")).await;
        b.shows(&format!("{title}: ")).await;
        b.shows("Counted").await;
        if let Some((file, figure)) = rows {
            let (status, csv) = b.rinse.http("GET", &format!("/api/workline/{file}.csv"), b"");
            let lines = String::from_utf8(csv).unwrap().lines().count() as i64 - 1;
            assert_eq!((status, lines), (200, b.rinse.json("GET", "/api/workline", &Value::Null)[figure].as_i64().unwrap()), "{figure}");
        }
    }
    for figure in ["opened", "accepted"] {
        let (_, csv) = b.rinse.http("GET", &format!("/api/workline/{figure}.csv"), b"");
        let csv = String::from_utf8(csv).unwrap();
        let told = &b.rinse.json("GET", "/api/workline", &Value::Null)[figure];
        assert_eq!(csv.lines().skip(1).filter(|l| l.ends_with("yes")).count() as u64, told["count"].as_u64().unwrap());
        assert_eq!(csv.lines().count() as u64 - 1, told["of"].as_u64().unwrap());
    }

    // Findings: each figure of the newest mailing opens, its rows are as many as it says, and the
    // filter in force stands over the table.
    b.go("/findings").await;
    b.shows("whose opens can be known").await;
    let findings = b.rinse.json("GET", "/api/findings", &Value::Null);
    let (mailings, catalogue) = (findings["mailings"].as_array().unwrap(), findings["catalogue"].as_array().unwrap());
    for (m, said) in mailings.iter().flat_map(|m| catalogue.iter().map(move |said| (m, said))) {
        let key = said["key"].as_str().unwrap();
        let Some(n) = (if key == "sent" { m["sent"].as_u64() } else { m["figures"][key]["count"].as_u64() }) else {
            assert!(m["channel"] == "text" && said["email_only"] == true, "{key} of {}", m["name"]);
            continue;
        };
        let (_, csv) = b.rinse.http("GET", &format!("/api/findings/{}/{key}.csv", m["id"]), b"");
        assert_eq!(String::from_utf8(csv).unwrap().lines().count() as u64 - 1, n, "{key} of {}", m["name"]);
        assert!(m["figures"][key]["of"].as_u64().is_none_or(|of| n <= of), "{key} of {}", m["name"]);
    }
    b.click_css("tbody tr:first-child .figure").await;
    b.shows("Messages handed over to a mail host").await;
    b.go("/findings?days=30").await;
    b.shows("mailings shown").await;
    let few = b.page.find_all(Locator::Css("tbody tr")).await.unwrap().len();
    b.go("/findings?days=36500").await;
    let all = b.rinse.json("GET", "/api/findings/by?by=mailing&days=36500", &Value::Null)["total"]["all_mailings"].as_u64().unwrap();
    b.shows(&format!("{all} of {all} mailings shown")).await;
    assert!(few < b.page.find_all(Locator::Css("tbody tr")).await.unwrap().len(), "the filter filters");
}
