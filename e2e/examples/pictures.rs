//! Takes the pictures of docs/screenshots from a running demo: `pictures ADDRESS FOLDER [NAME …]`.
//! A name that begins with a slash is a page of its own, public ones too.
//! With `NIGHT=1` in the environment, by night.

use rinse_e2e::Bench;
use std::path::Path;

const VIEWS: &[(&str, &str, &str, Option<&str>)] = &[
    ("today", "/today", "for a decision", None),
    ("contacts", "/contacts?search=wren", "are shown", None),
    ("segment", "/contacts/segments/5", "“Patron”)", None),
    ("import", "/contacts/import/3", "people were added", None),
    ("clearance", "/clearance/53", "get it", Some("[data-step=held_by_cap]")),
    ("delivery", "/delivery", "Handed over", None),
    ("forecast", "/clearance/forecast", "messages go", None),
    ("consent", "/clearance/consent", "allow marketing mail", None),
    ("mailing", "/mailings/54", "may go", None),
    ("reactions", "/mailings/reactions", "they have acted", None),
    ("plan", "/trials/plan/54", "people per arm", None),
    ("hours", "/trials/hours/1", "Hour by hour", None),
    ("verdict", "/trials/8", "Rate, 95%", Some("#sheet button.figure")),
    ("series", "/series/2", "Running", None),
    ("findings", "/findings", "whose opens can be known", None),
    ("upkeep", "/upkeep", "due for cleaning", None),
    ("evidence", "/upkeep/evidence", "Month by month", None),
];

#[tokio::main]
async fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [address, folder, only @ ..] = args.as_slice() else { panic!("pictures ADDRESS FOLDER [NAME …]") };
    let mut bench = Bench::start().await;
    bench.rinse.address.clone_from(address);
    bench.night(std::env::var_os("NIGHT").is_some()).await;
    for page in only.iter().filter(|o| o.starts_with('/')) {
        bench.go(page).await;
        // Public pages have names of one letter and no frame; the title comes with the data.
        let public = page[1..].split('/').next().is_some_and(|first| first.len() == 1);
        let title = if public { "h1" } else { "#sheet h1" };
        bench.page.wait().for_element(fantoccini::Locator::Css(title)).await.expect("a title");
        // With `END=words`, once the words are there, the lower end of the page.
        if let Ok(words) = std::env::var("END") {
            bench.shows(&words).await;
            bench.page.execute("window.scrollTo(0, document.body.scrollHeight)", vec![]).await.expect("a scroll");
        }
        // With `CLICK=words|words`, after those are pressed.
        for words in std::env::var("CLICK").iter().flat_map(|all| all.split('|')) {
            bench.click(words).await;
        }
        // With `AFTER=words`, once those are there.
        if let Ok(words) = std::env::var("AFTER") {
            bench.shows(&words).await;
        }
        let name: String = page.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        bench.picture(&Path::new(folder).join(format!("{}.png", name.trim_matches('-')))).await;
    }
    let mut views: Vec<_> = VIEWS.to_vec();
    views.push(("person", "/contacts?status=3", "are shown", None));
    for (name, path, words, click) in views {
        if !only.is_empty() && !only.iter().any(|o| o == name) {
            continue;
        }
        bench.go(path).await;
        bench.shows(words).await;
        if name == "person" {
            bench.click_css("tbody a").await;
            bench.shows("Timeline").await;
        }
        if let Some(css) = click {
            bench.click_css(css).await;
            bench.shows("Close").await;
            // The drawer reads its rows.
            while bench.text().await.contains("Reading …") {
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            }
        }
        bench.picture(&Path::new(folder).join(format!("{name}.png"))).await;
    }
}
