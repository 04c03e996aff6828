//! The message check: what must hold of a draft before it may be planned. Errors stop, warnings ask; each points at
//! its line and, where there is one way to put it right, carries the change.

use super::{Draft, Finding, LARGE, Level, engine, is_web_link, line_of, words};
use crate::trial::letter;
use crate::trial::metric::Metric;
use crate::words::thousands;
use lol_html::{RewriteStrSettings, element, rewrite_str};
use minijinja::Value;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashSet};

/// What most inboxes show of a subject, and of a preheader.
const SUBJECT_SHOWN: usize = 70;
const PREHEADER_SHOWN: usize = 140;

/// Checks a draft. `missing` says for each placeholder that may lack a value how many of the audience have
/// none, `audience` how many people that is: those cleared, and those held for later.
#[must_use]
pub fn check(draft: &Draft, missing: &BTreeMap<String, u64>, audience: u64) -> Vec<Finding> {
    let mut found = Vec::new();
    if draft.postal_address.trim().is_empty() {
        found.push(Finding::new(
            Level::Error,
            "letterhead",
            None,
            "The letterhead has no postal address. Add it to the letterhead: marketing mail must say who sends it and from where.",
        ));
    }
    check_sizes(draft, &mut found);
    check_obliged(draft, &mut found);
    check_subjects(draft, &mut found);
    check_preheader(draft, &mut found);
    check_words(draft, &mut found);
    check_metric(draft, &mut found);
    check_links(draft, &mut found);
    let subjects = draft.subjects.iter().enumerate().map(|(i, s)| (format!("subject {}", letter(i)), s.as_str(), s.as_str()));
    let mut parts: Vec<(String, &str, &str)> = subjects.collect();
    parts.push(("preheader".into(), &draft.preheader, &draft.preheader));
    parts.push(("html".into(), &draft.html, &draft.source));
    if !draft.derived {
        parts.push(("text".into(), &draft.text, &draft.text));
    }
    let known: Vec<&str> = draft.placeholders().collect();
    for (part, built, source) in parts {
        placeholders_of(&known, &part, (built, source), (missing, audience), &mut found);
    }
    found.sort_by_key(|f| f.level != Level::Error);
    found
}

fn check_sizes(draft: &Draft, found: &mut Vec<Finding>) {
    if draft.html.len() > LARGE {
        let words = format!("The HTML is {} kB; above 100 kB some readers cut it off. Take something out.", draft.html.len() / 1000);
        found.push(Finding::new(Level::Warning, "html", None, words));
    }
    for (name, part) in [("html", &draft.html), ("text", &draft.text)] {
        if part.trim().is_empty() {
            let words = if name == "text" && draft.derived {
                "There is nothing to make a text part of. Write some words, not only images.".to_owned()
            } else {
                format!("The {name} part is empty. Write it, or people who read it see nothing.")
            };
            found.push(Finding::new(Level::Error, if draft.derived { "html" } else { name }, None, words));
        }
    }
}

/// What every marketing message owes its reader, in both parts.
fn check_obliged(draft: &Draft, found: &mut Vec<Finding>) {
    for (name, part) in [("html", &draft.html), ("text", &draft.text)] {
        if part.trim().is_empty() || (name == "text" && draft.derived) {
            continue;
        }
        let owed = [
            ("postal_address", "postal address", true),
            ("unsubscribe_url", "unsubscribe link", !draft.service),
            ("leave_series_url", "link to leave this series", draft.series && !draft.service),
        ];
        if !draft.series && part.contains("leave_series_url") {
            let words =
                format!("The {name} part has the link to leave a series, and no series sends it: the link leads to the unsubscribe page.");
            found.push(Finding::new(Level::Warning, name, line_of(part, "leave_series_url"), words));
        }
        for (placeholder, what, needed) in owed {
            if !needed || part.contains(placeholder) {
                continue;
            }
            let with = match (name, placeholder) {
                ("html", "postal_address") => "\n<p>{{ sender_name }}, {{ postal_address }}</p>\n",
                ("html", "leave_series_url") => "\n<p><a href=\"{{ leave_series_url }}\">Leave this series</a></p>\n",
                ("html", _) => "\n<p><a href=\"{{ unsubscribe_url }}\">Stop these letters</a></p>\n",
                (_, "postal_address") => "\n{{ sender_name }}, {{ postal_address }}\n",
                (_, "leave_series_url") => "\nLeave this series: {{ leave_series_url }}\n",
                (..) => "\nStop these letters: {{ unsubscribe_url }}\n",
            };
            let words = format!("The {name} part lacks the {what}. Put {{{{ {placeholder} }}}} where it should stand, usually at the end.");
            found.push(Finding::new(Level::Error, name, None, words).fixed_by("Put it at the end", "", with));
        }
    }
}

fn check_subjects(draft: &Draft, found: &mut Vec<Finding>) {
    for (i, subject) in draft.subjects.iter().enumerate() {
        let part = format!("subject {}", letter(i));
        if subject.trim().is_empty() {
            found.push(Finding::new(Level::Error, &part, None, "The subject is empty. Say what the message is about."));
        }
        if subject.contains(['\n', '\r']) {
            let one = subject.split_whitespace().collect::<Vec<_>>().join(" ");
            found.push(Finding::new(Level::Error, &part, None, "The subject has a line break in it. Write it in one line.").fixed_by(
                "Make it one line",
                subject,
                &one,
            ));
        }
        let long = subject.chars().count();
        if long > SUBJECT_SHOWN {
            let words = format!("The subject has {long} characters; most readers show about {SUBJECT_SHOWN}.");
            found.push(Finding::new(Level::Warning, &part, None, words));
        }
    }
    let different = draft.subjects.iter().collect::<HashSet<_>>().len();
    // The body tells variants apart by their letter.
    let elsewhere: Vec<&str> = [("preheader", &draft.preheader), ("content", &draft.html), ("text part", &draft.text)]
        .into_iter()
        .filter(|(_, part)| asks_variant(part))
        .map(|(name, _)| name)
        .collect();
    let many = draft.subjects.len() > 1;
    let sender = |i: usize| draft.senders.get(i).map(|(name, reply)| (name.trim(), reply.trim())).unwrap_or_default();
    let differ = |of: fn((&str, &str)) -> String| (0..draft.subjects.len()).map(|i| of(sender(i))).collect::<HashSet<_>>().len() > 1;
    let (names, replies) = (differ(|s| s.0.to_owned()), differ(|s| s.1.to_owned()));
    if many && different < draft.subjects.len() && elsewhere.is_empty() && !names && !replies {
        found.push(Finding::new(
            Level::Error,
            "subject B",
            None,
            "Two variants have the same subject, and nothing else differs: a trial of them could find nothing. Change one, or let the body differ by {% if variant == \"B\" %}.",
        ));
    }
    // What is in both parts of the body is one change.
    let what: Vec<&str> = [("subject", different > 1), ("sender name", names), ("reply-to", replies)]
        .into_iter()
        .filter_map(|(name, differs)| differs.then_some(name))
        .chain(elsewhere.iter().copied())
        .collect();
    let both_parts = usize::from(elsewhere.contains(&"content") && elsewhere.contains(&"text part"));
    if many && what.len() - both_parts > 1 {
        let words = format!(
            "The variants differ in {}: which of it worked can't be told. Change one thing, or try them one after the other.",
            what.join(" and ")
        );
        found.push(Finding::new(Level::Warning, "subject B", None, words));
    }
    if !many && !elsewhere.is_empty() {
        let words =
            "The body asks which variant it is, and there is one only: everybody gets A. Add a second subject (it may be the same).";
        found.push(Finding::new(Level::Warning, "subject A", None, words));
    }
}

/// Does a part say something else to one variant than to another?
fn asks_variant(part: &str) -> bool {
    let mut rest = part;
    while let Some(at) = rest.find('{') {
        rest = &rest[at..];
        let end = rest.find('}').unwrap_or(rest.len());
        let inside = &rest[..end];
        if inside.split(|c: char| !c.is_alphanumeric() && c != '_').any(|word| word == "variant") {
            return true;
        }
        rest = &rest[1..];
    }
    false
}

fn check_preheader(draft: &Draft, found: &mut Vec<Finding>) {
    let line = draft.preheader.trim();
    let long = line.chars().count();
    let words = if line.is_empty() {
        "There is no preheader: inboxes show the first words of the message after the subject instead. Write a line that goes on from the subject.".to_owned()
    } else if draft.subjects.iter().any(|s| s.trim().eq_ignore_ascii_case(line)) {
        "The preheader says the subject again. Let it go on from there.".to_owned()
    } else if long > PREHEADER_SHOWN {
        format!("The preheader has {long} characters; inboxes show {PREHEADER_SHOWN} at most.")
    } else {
        return;
    };
    found.push(Finding::new(Level::Warning, "preheader", None, words));
}

/// Words that don't fit the class of the mailing, or the hours it goes out over.
fn check_words(draft: &Draft, found: &mut Vec<Finding>) {
    let seen = format!("{}\n{}\n{}\n{}", draft.subjects.join("\n"), draft.preheader, words::visible(&draft.html), draft.text);
    let line = |word: &str| line_of(&draft.source.to_lowercase(), word);
    if draft.service
        && let Some(word) = words::marketing(&seen)
    {
        let words = format!(
            "This is a service mailing, and it says {word:?}. Send offers as marketing, which asks for consent and an unsubscribe link."
        );
        found.push(Finding::new(Level::Warning, "html", line(word), words));
    }
    if draft.hours_drawn
        && let Some(word) = words::hourly(&seen)
    {
        let words = format!("It says {word:?}, and an hour trial draws who gets it when: for most of them that is wrong. Name the day.");
        found.push(Finding::new(Level::Error, "html", line(word), words));
    } else if draft.over_hours > 3
        && let Some(word) = words::hourly(&seen)
    {
        let words = format!(
            "It says {word:?} and goes out over {} hours: for some readers that is wrong. Name the day, or send to everyone at one instant.",
            draft.over_hours
        );
        found.push(Finding::new(Level::Warning, "html", line(word), words));
    }
}

/// A trial can only find what the message lets people do.
fn check_metric(draft: &Draft, found: &mut Vec<Finding>) {
    let (level, words) = match draft.metric {
        Some(Metric::HumanClick) if !has_link(&draft.html) => {
            (Level::Error, "The trial counts clicks, and the message has no link to follow. Add one, or count something else.")
        }
        // Somebody may answer without being asked, so this asks and doesn't stop.
        Some(Metric::Reply) if !words::visible(&draft.html).contains('?') => {
            (Level::Warning, "The trial counts replies, and the message asks nothing. Ask a question to reply to, or count something else.")
        }
        _ => return,
    };
    found.push(Finding::new(level, "html", None, words));
}

fn has_link(html: &str) -> bool {
    super::prepare(html, "").is_ok_and(|p| !p.links.is_empty())
}

fn variables(part: &str, source: &str, found: &mut Vec<Finding>) -> HashSet<String> {
    if let Err(e) = super::bounds::template(source) {
        found.push(Finding::new(Level::Error, part, e.line, e.words));
        return HashSet::new();
    }
    let env = engine(false);
    match env.template_from_named_str("message", source) {
        Ok(t) => t.undeclared_variables(false),
        Err(e) => {
            let words = format!("The placeholders can't be read ({}). Look for a brace or bracket that doesn't close.", e.kind());
            found.push(Finding::new(Level::Error, part, e.line(), words));
            HashSet::new()
        }
    }
}

/// Would `source` fail for somebody for whom `missing` has no value?
fn needs(known: &[&str], source: &str, missing: &str) -> bool {
    let values: BTreeMap<&str, Value> = known.iter().filter(|p| **p != missing).map(|p| (*p, Value::from("x"))).collect();
    engine(true).render_str(source, values).is_err()
}

/// Checks the placeholders of a part, of those that are known: as it was built, and as it was written.
pub(crate) fn placeholders_of(
    known: &[&str],
    part: &str,
    (built, source): (&str, &str),
    (missing, audience): (&BTreeMap<String, u64>, u64),
    found: &mut Vec<Finding>,
) {
    // A template that can't be read is found in what was written, where its lines are.
    if part == "html" && source != built {
        let before = found.len();
        variables(part, source, found);
        if found.len() > before {
            return;
        }
    }
    let mut used: Vec<String> = variables(part, built, found).into_iter().collect();
    used.sort();
    for name in used {
        let line = line_of(source, &name);
        if !known.contains(&name.as_str()) {
            let like = |p: &str| strsim::jaro_winkler(p, &name);
            let near = known.iter().copied().max_by(|a, b| like(a).total_cmp(&like(b)));
            let mut finding =
                Finding::new(Level::Error, part, line, format!("There is no placeholder {name:?}. These exist: {}.", known.join(", ")));
            if let Some(near) = near.filter(|n| like(n) > 0.8) {
                finding = finding.fixed_by(&format!("Write {near}"), &name, near);
            }
            found.push(finding);
            continue;
        }
        let without = missing.get(&name).copied().unwrap_or(0);
        if without == 0 {
            continue;
        }
        #[allow(clippy::cast_precision_loss)]
        let share = 100.0 * without as f64 / audience.max(1) as f64;
        let who = format!("{} of {} people ({share:.1}%)", thousands(without), thousands(audience));
        let finding = if needs(known, built, &name) {
            let words = format!("{who} have no {name}, and it has no default. Write {{{{ {name}|default(\"…\") }}}}.");
            let finding = Finding::new(Level::Error, part, line, words);
            let plain = [format!("{{{{ {name} }}}}"), format!("{{{{{name}}}}}")];
            match plain.iter().find(|p| source.contains(p.as_str())) {
                Some(plain) => finding.fixed_by("Give it a default", plain, &format!("{{{{ {name}|default(\"friend\") }}}}")),
                None => finding,
            }
        } else {
            Finding::new(Level::Warning, part, line, format!("{who} have no {name} and see the default."))
        };
        found.push(finding);
    }
}

fn check_links(draft: &Draft, found: &mut Vec<Finding>) {
    let bad: RefCell<Vec<Finding>> = RefCell::default();
    let add = |finding| bad.borrow_mut().push(finding);
    let line = |needle: &str| line_of(&draft.source, needle);
    let done = rewrite_str(
        &draft.html,
        RewriteStrSettings::new()
            .append_element_content_handler(element!("a[href]", |el| {
                let href = el.get_attribute("href").unwrap_or_default();
                let href = href.trim();
                let ours = href.starts_with("{{")
                    && ["unsubscribe_url", "preferences_url", "leave_series_url", "go_on_url", "share_url"]
                        .iter()
                        .any(|p| href.contains(p))
                    && href.ends_with("}}");
                if ours {
                } else if href.contains("{{") {
                    let words = format!("The link {href:?} carries a placeholder. Links must be the same for everyone: write it out.");
                    add(Finding::new(Level::Error, "html", line(href), words));
                } else if !is_web_link(href) && !href.starts_with("mailto:") {
                    let words = format!("The link {href:?} is not a whole web address. Begin it with https://.");
                    let finding = Finding::new(Level::Error, "html", line(href), words);
                    let host = href.split('/').next().is_some_and(|host| host.contains('.') && !host.contains(':'));
                    add(if host && draft.source.contains(&format!("\"{href}\"")) {
                        finding.fixed_by("Put https:// before it", &format!("\"{href}\""), &format!("\"https://{href}\""))
                    } else {
                        finding
                    });
                } else if matches!(href, "https://" | "http://") {
                    add(Finding::new(Level::Error, "html", line(href), "A link leads nowhere yet: write its address after https://."));
                }
                Ok(())
            }))
            .append_element_content_handler(element!("img:not([alt])", |el| {
                let src = el.get_attribute("src").unwrap_or_default();
                let words = format!("The image {src:?} has no alt text. Say what it shows, or alt=\"\" when it only decorates.");
                let finding = Finding::new(Level::Warning, "html", line(&src), words);
                let place = format!("src=\"{src}\"");
                add(if draft.source.contains(&place) {
                    finding.fixed_by("It only decorates", &place, &format!("{place} alt=\"\""))
                } else {
                    finding
                });
                Ok(())
            }))
            .append_element_content_handler(element!("script, form, iframe, object, embed", |el| {
                let tag = el.tag_name();
                let words = format!("Readers' inboxes take <{tag}> out, and some take the message for harmful. Remove it.");
                add(Finding::new(Level::Error, "html", line(&format!("<{tag}")), words));
                Ok(())
            })),
    );
    if let Err(e) = done {
        add(Finding::new(Level::Error, "html", None, format!("The HTML can't be read: {e}.")));
    }
    found.extend(bad.into_inner());
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const HTML: &str = "<p>Hello {{ given_name|default(\"friend\") }}</p>\n<a href=\"https://skerry-light.example/boats?a=1&amp;b=2\">Book <b>a boat</b></a>\n<p>{{ postal_address }} <a href=\"{{ unsubscribe_url }}\">Leave</a></p>";

    fn draft() -> Draft {
        Draft {
            subjects: vec!["Boat days".into(), "Low tide at 11".into()],
            html: HTML.into(),
            source: HTML.into(),
            preheader: "Five places are left".into(),
            text: "Hello, book: https://skerry-light.example/boats?a=1&b=2.\n{{ postal_address }}\n{{ unsubscribe_url }}".into(),
            postal_address: "1 Quay".into(),
            ..Draft::default()
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
        assert!(errors(&d, 3)[0].contains("3 of 10 people (30.0%) have no given_name"));
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
    fn a_message_of_a_series_owes_the_link_to_leave_it() {
        let mut d = Draft { series: true, ..draft() };
        let lacks =
            |d: &Draft| check(d, &BTreeMap::new(), 10).into_iter().filter(|f| f.words.contains("leave this series")).collect::<Vec<_>>();
        let found = lacks(&d);
        assert_eq!(found.len(), 2, "both parts: {found:?}");
        d.html += &found[0].fix.as_ref().unwrap().with;
        d.text += &found[1].fix.as_ref().unwrap().with;
        assert!(lacks(&d).is_empty());
        d.series = false;
        assert!(check(&d, &BTreeMap::new(), 10).iter().any(|f| f.level == Level::Warning && f.words.contains("no series sends it")));
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

    #[rstest]
    // Subjects alone; the body alone; both; the body without a second variant; nothing.
    #[case(&["a", "b"], "Hello", None)]
    #[case(&["a", "a"], "{% if variant == \"B\" %}Hi{% else %}Hello{% endif %}", None)]
    #[case(&["a", "b"], "{% if variant == \"B\" %}Hi{% else %}Hello{% endif %}", Some("differ in subject and content"))]
    #[case(&["a"], "{{ variant }}", Some("there is one only"))]
    #[case(&["a", "a"], "a variant of {{ given_name|default('us') }}", Some("nothing else differs"))]
    fn what_differs_between_variants(#[case] subjects: &[&str], #[case] body: &str, #[case] said: Option<&str>) {
        let html = format!("<p>{body} {{{{ postal_address }}}} <a href=\"{{{{ unsubscribe_url }}}}\">x</a></p>");
        let d = Draft { subjects: subjects.iter().map(|s| (*s).to_owned()).collect(), html: html.clone(), source: html, ..draft() };
        let found = check(&d, &BTreeMap::new(), 10);
        let about: Vec<&str> = found
            .iter()
            .filter(|f| f.part.starts_with("subject") && f.words.contains("differ") || f.words.contains("one only"))
            .map(|f| f.words.as_str())
            .collect();
        match said {
            None => assert!(about.is_empty(), "{about:?}"),
            Some(words) => assert!(about.len() == 1 && about[0].contains(words), "{about:?}"),
        }
        assert!(!found.iter().any(|f| f.words.contains("no placeholder")), "{found:?}");
    }
}
