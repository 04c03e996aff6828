//! What a message must have before it can go, and how its links become countable.

use lol_html::{RewriteStrSettings, element, rewrite_str, text};
use minijinja::{Environment, UndefinedBehavior, Value};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::{BTreeMap, HashSet};
use std::rc::Rc;

/// The placeholders that come from the contact; any of them may be missing for some people.
pub const CONTACT_PLACEHOLDERS: [&str; 4] = ["given_name", "family_name", "email", "country"];
/// The placeholders that the letterhead and the send fill; they are always there.
pub const SEND_PLACEHOLDERS: [&str; 5] = ["postal_address", "unsubscribe_url", "preferences_url", "share_url", "sender_name"];

/// The parts of a draft.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Draft {
    /// One subject per variant, A first.
    pub subjects: Vec<String>,
    pub html: String,
    pub text: String,
    pub postal_address: String,
    /// Something the recipients expect: it needs no unsubscribe link.
    pub service: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Level {
    /// Stops the mailing.
    Error,
    /// Asks.
    Warning,
}

/// Something the check found, where, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Finding {
    pub level: Level,
    /// `subject A`, `html`, `text` or `letterhead`.
    pub part: String,
    pub line: Option<usize>,
    pub words: String,
}

/// A link of the message, counted under a readable name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema, Deserialize)]
pub struct Link {
    pub url: String,
    pub name: String,
}

/// A message whose links have become placeholders (`link_0`, `link_1`, …).
#[derive(Debug, Clone)]
pub struct Prepared {
    pub html: String,
    pub text: String,
    pub links: Vec<Link>,
}

/// A template that can't be read, with its line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{words}")]
pub struct TemplateError {
    pub line: Option<usize>,
    pub words: String,
}

/// The engine that fills placeholders, the same for checking and sending. HTML is escaped, text
/// and subjects are not.
#[must_use]
pub fn engine<'a>(strict: bool) -> Environment<'a> {
    let mut env = Environment::empty();
    env.set_undefined_behavior(if strict { UndefinedBehavior::Strict } else { UndefinedBehavior::Lenient });
    env.set_auto_escape_callback(minijinja::default_auto_escape_callback);
    env.add_filter("default", minijinja::filters::default);
    env.add_filter("upper", minijinja::filters::upper);
    env.add_filter("lower", minijinja::filters::lower);
    env.add_filter("title", minijinja::filters::title);
    // A template can't run for ever: one message is a few kilobytes of plain replacements.
    env.set_fuel(Some(100_000));
    env
}

fn is_web_link(href: &str) -> bool {
    href.starts_with("https://") || href.starts_with("http://")
}

/// Replaces every web link of both parts by a placeholder and lists them by position.
///
/// # Errors
/// When the HTML can't be read.
pub fn prepare(html: &str, text: &str) -> Result<Prepared, TemplateError> {
    let links: Rc<RefCell<Vec<Link>>> = Rc::default();
    let open: Rc<RefCell<Option<usize>>> = Rc::default();
    let (seen, current) = (Rc::clone(&links), Rc::clone(&open));
    let (named, inside) = (Rc::clone(&links), Rc::clone(&open));
    let html = rewrite_str(
        html,
        RewriteStrSettings::new()
            .append_element_content_handler(element!("a[href]", move |el| {
                let href = el.get_attribute("href").unwrap_or_default();
                let href = href.trim().replace("&amp;", "&");
                *current.borrow_mut() = None;
                if is_web_link(&href) && !href.contains("{{") {
                    let mut all = seen.borrow_mut();
                    let n = all.len();
                    *current.borrow_mut() = Some(n);
                    all.push(Link { url: href, name: String::new() });
                    el.set_attribute("href", &format!("{{{{ link_{n} }}}}"))?;
                }
                Ok(())
            }))
            .append_element_content_handler(text!("a[href]", move |chunk| {
                if let Some(n) = *inside.borrow() {
                    named.borrow_mut()[n].name.push_str(chunk.as_str());
                }
                Ok(())
            })),
    )
    .map_err(|e| TemplateError { line: None, words: format!("The HTML can't be read: {e}.") })?;
    let mut links = links.take();
    let mut plain = String::new();
    let mut rest = text;
    while let Some(at) = [rest.find("https://"), rest.find("http://")].into_iter().flatten().min() {
        let end = rest[at..].find(|c: char| c.is_whitespace() || "<>\")]}".contains(c)).map_or(rest.len(), |e| at + e);
        let url = rest[at..end].trim_end_matches(['.', ',', ';', ':', '!', '?']);
        plain.push_str(&rest[..at]);
        if url.contains("{{") {
            plain.push_str(url);
        } else {
            let n = links.iter().position(|l| l.url == url).unwrap_or(links.len());
            if n == links.len() {
                links.push(Link { url: url.to_owned(), name: String::new() });
            }
            plain.push_str(&format!("{{{{ link_{n} }}}}"));
        }
        rest = &rest[at + url.len()..];
    }
    plain.push_str(rest);
    for link in &mut links {
        link.name = link.name.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(80).collect();
        if link.name.is_empty() {
            link.name = link.url.chars().take(80).collect();
        }
    }
    let pixel = "<img src=\"{{ open_url }}\" width=\"1\" height=\"1\" alt=\"\">";
    let html = match html.to_ascii_lowercase().rfind("</body>") {
        Some(at) => format!("{}{pixel}{}", &html[..at], &html[at..]),
        None => format!("{html}{pixel}"),
    };
    Ok(Prepared { html, text: plain, links })
}

/// Words that belong in an offer, not in a receipt.
const MARKETING_WORDS: [&str; 14] = [
    "offer",
    "sale",
    "discount",
    "save up to",
    "% off",
    "buy now",
    "book now",
    "don't miss",
    "last chance",
    "limited time",
    "special price",
    "shop now",
    "exclusive",
    "voucher",
];

fn marketing_word(draft: &Draft) -> Option<&'static str> {
    let all = format!("{}\n{}\n{}", draft.subjects.join("\n"), draft.html, draft.text).to_lowercase();
    let whole = |word: &str| {
        all.match_indices(word).any(|(at, _)| {
            let letter = |c: Option<char>| c.is_some_and(char::is_alphabetic);
            !letter(all[..at].chars().next_back()) && !letter(all[at + word.len()..].chars().next())
        })
    };
    MARKETING_WORDS.into_iter().find(|word| whole(word))
}

fn line_of(text: &str, needle: &str) -> Option<usize> {
    text.find(needle).map(|at| text[..at].matches('\n').count() + 1)
}

fn variables(part: &str, source: &str, found: &mut Vec<Finding>) -> HashSet<String> {
    let env = engine(false);
    match env.template_from_named_str("message", source) {
        Ok(t) => t.undeclared_variables(false),
        Err(e) => {
            found.push(Finding {
                level: Level::Error,
                part: part.to_owned(),
                line: e.line(),
                words: format!("The placeholders can't be read ({}). Look for a brace or bracket that doesn't close.", e.kind()),
            });
            HashSet::new()
        }
    }
}

/// Would `source` fail for somebody for whom `missing` has no value?
fn needs(source: &str, missing: &str) -> bool {
    let values: BTreeMap<&str, Value> =
        CONTACT_PLACEHOLDERS.iter().chain(&SEND_PLACEHOLDERS).filter(|p| **p != missing).map(|p| (*p, Value::from("x"))).collect();
    engine(true).render_str(source, values).is_err()
}

/// Checks a draft. `missing` says for each contact placeholder how many of the audience have no
/// value for it, `audience` how many people that is.
#[must_use]
pub fn check(draft: &Draft, missing: &BTreeMap<String, u64>, audience: u64) -> Vec<Finding> {
    let mut found = Vec::new();
    let mut add = |level, part: &str, line, words: String| {
        found.push(Finding { level, part: part.to_owned(), line, words });
    };
    if draft.service
        && let Some(word) = marketing_word(draft)
    {
        add(
            Level::Warning,
            "html",
            line_of(&draft.html.to_lowercase(), word),
            format!(
                "This is a service mailing, and it says {word:?}. Send offers as marketing, which asks for consent and an unsubscribe link."
            ),
        );
    }
    if draft.postal_address.trim().is_empty() {
        add(
            Level::Error,
            "letterhead",
            None,
            "The letterhead has no postal address. Add it to the letterhead: marketing mail must say who sends it and from where.".into(),
        );
    }
    if draft.html.len() > 100_000 {
        add(Level::Warning, "html", None, format!("The HTML is {} kB; above 100 kB some readers cut it off.", draft.html.len() / 1000));
    }
    for (name, part) in [("html", &draft.html), ("text", &draft.text)] {
        if part.trim().is_empty() {
            add(Level::Error, name, None, format!("The {name} part is empty. Write it, or people who read it see nothing."));
            continue;
        }
        for (placeholder, what) in [("postal_address", "postal address"), ("unsubscribe_url", "unsubscribe link")] {
            if (placeholder != "unsubscribe_url" || !draft.service) && !part.contains(placeholder) {
                add(
                    Level::Error,
                    name,
                    None,
                    format!("The {name} part lacks the {what}. Put {{{{ {placeholder} }}}} where it should stand, usually at the end."),
                );
            }
        }
    }
    let mut parts: Vec<(String, &str)> = Vec::new();
    for (i, subject) in draft.subjects.iter().enumerate() {
        let part = format!("subject {}", crate::trial::letter(i));
        if subject.trim().is_empty() {
            add(Level::Error, &part, None, "The subject is empty.".into());
        }
        if subject.contains(['\n', '\r']) {
            add(Level::Error, &part, None, "The subject has a line break in it. Write it in one line.".into());
        }
        if subject.chars().count() > 70 {
            add(
                Level::Warning,
                &part,
                None,
                format!("The subject has {} characters; most readers show about 70.", subject.chars().count()),
            );
        }
        parts.push((part, subject));
    }
    if draft.subjects.len() > 1 && draft.subjects.iter().collect::<HashSet<_>>().len() < draft.subjects.len() {
        add(Level::Error, "subject B", None, "Two variants have the same subject: a trial of them could find nothing.".into());
    }
    check_links(&draft.html, &mut found);
    parts.push(("html".into(), &draft.html));
    parts.push(("text".into(), &draft.text));
    for (part, source) in parts {
        check_placeholders(&part, source, missing, audience, &mut found);
    }
    found
}

fn check_placeholders(part: &str, source: &str, missing: &BTreeMap<String, u64>, audience: u64, found: &mut Vec<Finding>) {
    let mut used: Vec<String> = variables(part, source, found).into_iter().collect();
    used.sort();
    for name in used {
        let line = line_of(source, &name);
        if !CONTACT_PLACEHOLDERS.contains(&name.as_str()) && !SEND_PLACEHOLDERS.contains(&name.as_str()) {
            found.push(Finding {
                level: Level::Error,
                part: part.to_owned(),
                line,
                words: format!(
                    "There is no placeholder {name:?}. These exist: {}, {}.",
                    CONTACT_PLACEHOLDERS.join(", "),
                    SEND_PLACEHOLDERS.join(", ")
                ),
            });
            continue;
        }
        let without = missing.get(&name).copied().unwrap_or(0);
        if without == 0 {
            continue;
        }
        let (level, words) = if needs(source, &name) {
            (
                Level::Error,
                format!("{without} of {audience} people have no {name}, and it has no default. Write {{{{ {name}|default(\"…\") }}}}."),
            )
        } else {
            (Level::Warning, format!("{without} of {audience} people have no {name} and see the default."))
        };
        found.push(Finding { level, part: part.to_owned(), line, words });
    }
}

fn check_links(html: &str, found: &mut Vec<Finding>) {
    let bad: Rc<RefCell<Vec<(String, String)>>> = Rc::default();
    let (links, images) = (Rc::clone(&bad), Rc::clone(&bad));
    let done = rewrite_str(
        html,
        RewriteStrSettings::new()
            .append_element_content_handler(element!("a[href]", move |el| {
                let href = el.get_attribute("href").unwrap_or_default();
                let href = href.trim();
                let ours = href.starts_with("{{")
                    && ["unsubscribe_url", "preferences_url", "share_url"].iter().any(|p| href.contains(p))
                    && href.ends_with("}}");
                if !ours && href.contains("{{") {
                    links.borrow_mut().push((
                        href.into(),
                        format!("The link {href:?} carries a placeholder. Links must be the same for everyone: write it out."),
                    ));
                } else if !ours && !is_web_link(href) && !href.starts_with("mailto:") {
                    links
                        .borrow_mut()
                        .push((href.into(), format!("The link {href:?} is not a whole web address. Begin it with https://.")));
                }
                Ok(())
            }))
            .append_element_content_handler(element!("img:not([alt])", move |el| {
                let src = el.get_attribute("src").unwrap_or_default();
                images.borrow_mut().push((format!("\0{src}"), format!("The image {src:?} has no alt text.")));
                Ok(())
            })),
    );
    if let Err(e) = done {
        found.push(Finding { level: Level::Error, part: "html".into(), line: None, words: format!("The HTML can't be read: {e}.") });
    }
    for (needle, words) in bad.take() {
        let (level, needle) = match needle.strip_prefix('\0') {
            Some(src) => (Level::Warning, src.to_owned()),
            None => (Level::Error, needle),
        };
        found.push(Finding { level, part: "html".into(), line: line_of(html, &needle), words });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn draft() -> Draft {
        Draft {
            subjects: vec!["Boat days".into(), "Low tide at 11".into()],
            html: "<p>Hello {{ given_name|default(\"friend\") }}</p>\n<a href=\"https://skerry-light.example/boats?a=1&amp;b=2\">Book <b>a boat</b></a>\n<p>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Leave</a></p>".into(),
            text: "Hello, book: https://skerry-light.example/boats?a=1&b=2.\n{{ postal_address }}\n{{ unsubscribe_url }}".into(),
            postal_address: "1 Quay".into(),
            service: false,
        }
    }

    fn errors(d: &Draft, missing: u64) -> Vec<String> {
        let missing = BTreeMap::from([("given_name".to_owned(), missing)]);
        check(d, &missing, 10).into_iter().filter(|f| f.level == Level::Error).map(|f| f.words).collect()
    }

    #[test]
    fn a_whole_draft_passes_and_each_gap_is_named() {
        assert_eq!(errors(&draft(), 3), Vec::<String>::new());
        let mut d = draft();
        d.html = d.html.replace("|default(\"friend\")", "");
        assert!(errors(&d, 3)[0].contains("3 of 10 people have no given_name"));
        assert!(errors(&d, 0).is_empty(), "everyone has a value");
        let mut d = draft();
        d.text = "Hello {{ nickname }}".into();
        let e = errors(&d, 0).join(" ");
        assert!(e.contains("postal address") && e.contains("unsubscribe") && e.contains("nickname"));
        let mut d = draft();
        d.html += "<a href=\"/boats\">x</a><a href=\"https://a.example/{{ email }}\">y</a>{{ oops";
        assert_eq!(errors(&d, 0).len(), 3);
        let mut d = draft();
        d.subjects[1] = d.subjects[0].clone();
        d.postal_address.clear();
        assert_eq!(errors(&d, 0).len(), 2);
    }

    #[test]
    fn service_mail_needs_no_unsubscribe_link_and_may_not_sell() {
        let mut d = draft();
        d.html = d.html.replace("{{ unsubscribe_url }}", "https://skerry-light.example/");
        d.text = d.text.replace("{{ unsubscribe_url }}", "");
        assert_eq!(errors(&d, 0).len(), 2);
        d.service = true;
        assert_eq!(errors(&d, 0), Vec::<String>::new());
        let warned = |d: &Draft| check(d, &BTreeMap::new(), 1).iter().any(|f| f.words.contains("service mailing"));
        assert!(!warned(&d));
        d.text += " Your voucher is inside";
        assert!(warned(&d));
        d.text = d.text.replace("voucher", "vouchers' office");
        assert!(!warned(&d), "parts of other words don't count");
    }

    #[test]
    fn links_are_counted_once_per_place_and_named() {
        let p = prepare(&draft().html, &draft().text).unwrap();
        assert_eq!(p.links, [Link { url: "https://skerry-light.example/boats?a=1&b=2".into(), name: "Book a boat".into() }]);
        assert!(p.html.contains("{{ link_0 }}") && p.text.contains("{{ link_0 }}.") && p.html.contains("{{ unsubscribe_url }}"));
    }

    proptest! {
        /// Whatever stands around them, making links countable changes nothing outside the links. (A tag
        /// left open is no text: the link after it would be a part of it.)
        #[test]
        fn preparing_keeps_visible_text(words in prop::collection::vec(prop_oneof![
            "[a-z >&;é]{0,12}", "[a-z]{0,3} < [a-z]{0,3}", "<(b|i|td)>[a-z ]{0,6}", "</(b|p)>", Just("<br/>".to_owned()), Just("<!-- a -->".to_owned()),
        ], 0..8)) {
            let html = words.join("<a href=\"https://tern.example/x\">link</a>");
            let p = prepare(&html, "t").unwrap();
            let back = p.html.replace("<img src=\"{{ open_url }}\" width=\"1\" height=\"1\" alt=\"\">", "");
            let mut restored = back;
            for n in (0..p.links.len()).rev() {
                restored = restored.replace(&format!("{{{{ link_{n} }}}}"), "https://tern.example/x");
            }
            prop_assert_eq!(restored, html);
        }
    }
}
