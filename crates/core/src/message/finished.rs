//! The check of a whole message, as it would arrive: what can only be seen once headers and parts are together.

use super::{Finding, LARGE, Level, is_web_link, words};
use lol_html::{RewriteStrSettings, element, rewrite_str};
use std::cell::RefCell;

/// A DKIM signature of a message (RFC 6376): who signed, and which headers it covers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signature {
    pub domain: String,
    /// In small letters.
    pub covers: Vec<String>,
}

/// A message read back from its bytes.
#[derive(Debug, Clone, Default)]
pub struct Finished {
    pub subject: String,
    /// The domain of the From header.
    pub from_domain: String,
    /// The domain that reports go back to, where the message says so.
    pub return_domain: Option<String>,
    pub list_unsubscribe: Option<String>,
    pub list_unsubscribe_post: Option<String>,
    pub signatures: Vec<Signature>,
    pub has_date: bool,
    pub has_message_id: bool,
    pub html: Option<String>,
    pub text: Option<String>,
    /// Of the whole message, encoded.
    pub bytes: usize,
}

/// Same domain, or one below the other: relaxed alignment as RFC 7489 section 3.1 has it, without a list of public
/// suffixes, so that only a domain under the other counts.
fn aligned(a: &str, b: &str) -> bool {
    let (a, b) = (a.to_ascii_lowercase(), b.to_ascii_lowercase());
    a == b || a.ends_with(&format!(".{b}")) || b.ends_with(&format!(".{a}"))
}

/// Checks a whole message. `service`: nothing has to unsubscribe.
#[must_use]
pub fn check_finished(m: &Finished, service: bool) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut add = |level, part: &str, words: String| found.push(Finding::new(level, part, None, words));
    if m.subject.trim().is_empty() {
        add(Level::Error, "headers", "There is no subject.".into());
    }
    if m.from_domain.is_empty() {
        add(Level::Error, "headers", "There is no From address.".into());
    }
    for (has, header) in [(m.has_date, "Date"), (m.has_message_id, "Message-ID")] {
        if !has {
            add(Level::Error, "headers", format!("The {header} header is missing; hosts take such a message for spam."));
        }
    }
    if !service {
        let by_web = m.list_unsubscribe.as_deref().is_some_and(|l| l.contains("<https://") || l.contains("<http://"));
        if !by_web {
            add(
                Level::Error,
                "headers",
                "List-Unsubscribe names no web address (RFC 2369, RFC 8058): nobody can leave by one press.".into(),
            );
        }
        if m.list_unsubscribe_post.as_deref().map(str::trim) != Some("List-Unsubscribe=One-Click") {
            add(Level::Error, "headers", "List-Unsubscribe-Post is not set to List-Unsubscribe=One-Click (RFC 8058).".into());
        }
    }
    if let Some(back) = m.return_domain.as_deref().filter(|d| !aligned(d, &m.from_domain)) {
        add(
            Level::Warning,
            "headers",
            format!("Reports go back to {back}, which isn't under the From domain {}: SPF can't align.", m.from_domain),
        );
    }
    match m.signatures.iter().find(|s| aligned(&s.domain, &m.from_domain)) {
        Some(s) => {
            for header in ["from", "list-unsubscribe", "list-unsubscribe-post"] {
                if !s.covers.iter().any(|h| h == header) && (header == "from" || !service) {
                    add(
                        Level::Error,
                        "headers",
                        format!("The DKIM signature of {} doesn't cover {header} (RFC 8058, section 4).", s.domain),
                    );
                }
            }
        }
        None if !m.signatures.is_empty() => {
            add(Level::Error, "headers", format!("No DKIM signature is by {} or a domain that aligns with it.", m.from_domain));
        }
        None => add(Level::Warning, "headers", "The message carries no DKIM signature; large hosts refuse bulk mail without one.".into()),
    }
    if m.bytes > LARGE {
        let words = format!("The message is {} kB; above 100 kB some readers cut it off.", m.bytes / 1000);
        add(Level::Warning, "html", words);
    }
    for (name, part) in [("html", m.html.as_deref()), ("text", m.text.as_deref())] {
        let Some(part) = part.filter(|p| !p.trim().is_empty()) else {
            add(Level::Error, name, format!("The {name} part is empty or missing."));
            continue;
        };
        let seen = if name == "html" { words::visible(part) } else { part.to_owned() };
        if let Some(left) = ["{{", "}}", "{%"].into_iter().find(|mark| seen.contains(mark)) {
            add(Level::Error, name, format!("A placeholder was left in the {name} part: it shows {left:?}."));
        }
        if !service && !seen.to_lowercase().contains("unsubscribe") && !part.contains("/u/") && !leaves(m, part) {
            add(Level::Error, name, format!("The {name} part has no link that leads to unsubscribing."));
        }
    }
    if let Some(html) = m.html.as_deref() {
        check_links(html, &mut found);
    }
    found.sort_by_key(|f| f.level != Level::Error);
    found
}

/// Does the part carry the address that List-Unsubscribe names?
fn leaves(m: &Finished, part: &str) -> bool {
    let Some(header) = m.list_unsubscribe.as_deref() else { return false };
    header.split(['<', '>', ',']).map(str::trim).any(|l| is_web_link(l) && (part.contains(l) || part.contains(&l.replace('&', "&amp;"))))
}

fn check_links(html: &str, found: &mut Vec<Finding>) {
    let bad: RefCell<Vec<Finding>> = RefCell::default();
    let done = rewrite_str(
        html,
        RewriteStrSettings::new()
            .append_element_content_handler(element!("a[href]", |el| {
                let href = el.get_attribute("href").unwrap_or_default();
                let href = href.trim();
                if !is_web_link(href) && !["mailto:", "tel:", "#"].iter().any(|s| href.starts_with(s)) {
                    let line = super::line_of(html, href);
                    let words = format!("The link {href:?} is not a whole web address.");
                    bad.borrow_mut().push(Finding::new(Level::Error, "html", line, words));
                }
                Ok(())
            }))
            .append_element_content_handler(element!("img:not([alt])", |el| {
                let src = el.get_attribute("src").unwrap_or_default();
                let words = format!("The image {src:?} has no alt text.");
                bad.borrow_mut().push(Finding::new(Level::Warning, "html", super::line_of(html, &src), words));
                Ok(())
            })),
    );
    if let Err(e) = done {
        found.push(Finding::new(Level::Error, "html", None, format!("The HTML can't be read: {e}.")));
    }
    found.extend(bad.into_inner());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn whole() -> Finished {
        Finished {
            subject: "Boat days".into(),
            from_domain: "skerry-light.example".into(),
            return_domain: Some("back.skerry-light.example".into()),
            list_unsubscribe: Some("<https://skerry-light.example/u/x>".into()),
            list_unsubscribe_post: Some("List-Unsubscribe=One-Click".into()),
            signatures: vec![Signature {
                domain: "skerry-light.example".into(),
                covers: ["from", "list-unsubscribe", "list-unsubscribe-post"].map(str::to_owned).to_vec(),
            }],
            has_date: true,
            has_message_id: true,
            html: Some("<p>Boats <a href=\"https://skerry-light.example/u/x\">Stop these letters</a></p>".into()),
            text: Some("Boats. Stop: https://skerry-light.example/u/x".into()),
            bytes: 900,
        }
    }

    #[test]
    fn a_whole_message_passes_and_each_gap_is_found() {
        assert_eq!(check_finished(&whole(), false), []);
        let without = |change: fn(&mut Finished)| {
            let mut m = whole();
            change(&mut m);
            check_finished(&m, false).into_iter().filter(|f| f.level == Level::Error).count()
        };
        assert_eq!(without(|m| m.list_unsubscribe_post = None), 1);
        assert_eq!(without(|m| m.signatures[0].covers.truncate(1)), 2);
        assert_eq!(without(|m| m.signatures[0].domain = "tern.example".into()), 1);
        assert_eq!(without(|m| m.text = None), 1);
        assert_eq!(without(|m| m.text = Some("Dear {{ given_name }}, unsubscribe".into())), 1);
        assert_eq!(without(|m| m.html = Some("<a href='/boats'>x</a> unsubscribe".into())), 1);
        assert_eq!(without(|m| m.has_date = false), 1);
        assert!(!aligned("not-skerry-light.example", "skerry-light.example"), "the end of a name is no domain");
    }
}
