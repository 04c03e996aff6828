//! A tree as a sentence.

use super::evaluate::date_words;
use super::{Bought, Compare, DateTest, Did, Field, SeriesPart, TextTest, Times, Tree};
use std::collections::HashMap;

/// The names that numbers stand for.
#[derive(Debug, Clone, Default)]
pub struct Names {
    pub fields: HashMap<i64, String>,
    pub lists: HashMap<i64, String>,
    pub tags: HashMap<i64, String>,
    pub topics: HashMap<i64, String>,
    pub mailings: HashMap<i64, String>,
    pub segments: HashMap<i64, String>,
    pub goals: HashMap<i64, String>,
    pub scores: HashMap<i64, String>,
    pub series: HashMap<i64, String>,
    /// By mailing and place in it.
    pub links: HashMap<(i64, u32), String>,
}

fn name(of: &HashMap<i64, String>, id: i64, kind: &str) -> String {
    of.get(&id).cloned().unwrap_or_else(|| format!("a {kind} that is gone"))
}

/// The words for a field.
#[must_use]
pub fn field_words(field: Field, names: &Names) -> String {
    match field {
        Field::GivenName => "given name".into(),
        Field::FamilyName => "family name".into(),
        Field::Country => "country".into(),
        Field::Region => "region".into(),
        Field::TimeZone => "time zone".into(),
        Field::Source => "source".into(),
        Field::Position => "home place".into(),
        Field::Own(id) => name(&names.fields, id, "field"),
    }
}

/// The whole tree in words, to follow "people who are".
#[must_use]
pub fn sentence(tree: &Tree, names: &Names) -> String {
    match tree {
        Tree::All { of } if of.is_empty() => "everyone".into(),
        Tree::Any { of } if of.is_empty() => "nobody".into(),
        tree => inner(tree, names, true),
    }
}

fn inner(tree: &Tree, names: &Names, outermost: bool) -> String {
    let join = |of: &[Tree], word: &str| {
        let parts: Vec<String> = of.iter().map(|t| inner(t, names, of.len() == 1 && outermost)).collect();
        let text = parts.join(word);
        if outermost || of.len() < 2 { text } else { format!("({text})") }
    };
    match tree {
        Tree::All { of } if of.is_empty() => "everyone".into(),
        Tree::Any { of } if of.is_empty() => "nobody".into(),
        Tree::All { of } => join(of, " and "),
        Tree::Any { of } => join(of, " or "),
        Tree::Not { of } => match of.as_ref() {
            Tree::Missing { field } => format!("{} is known", field_words(*field, names)),
            of => format!("not {}", inner(of, names, false)),
        },
        leaf => condition(leaf, names),
    }
}

fn compare(is: Compare) -> &'static str {
    match is {
        Compare::Over => "more than",
        Compare::AtLeast => "at least",
        Compare::Equal => "exactly",
        Compare::AtMost => "at most",
        Compare::Under => "less than",
    }
}

fn days(within: Option<u32>) -> String {
    match within {
        None => String::new(),
        Some(1) => " in the last day".into(),
        Some(n) => format!(" in the last {n} days"),
    }
}

fn times(times: Times, what: &str) -> String {
    let (bound, n) = match times {
        Times::AtLeast(n) => ("at least", n),
        Times::AtMost(n) => ("at most", n),
    };
    format!("{bound} {n} {what}{}", if n == 1 { "" } else { "s" })
}

/// One condition in words.
#[must_use]
pub fn condition(leaf: &Tree, names: &Names) -> String {
    match leaf {
        Tree::All { .. } | Tree::Any { .. } | Tree::Not { .. } => sentence(leaf, names),
        Tree::Text { field, is, value } => {
            let is = match is {
                TextTest::Is => "is",
                TextTest::IsNot => "is not",
                TextTest::Begins => "begins with",
                TextTest::Contains => "contains",
            };
            format!("{} {is} “{}”", field_words(*field, names), value.trim())
        }
        Tree::Number { field, is, value } => format!("{} is {} {value}", name(&names.fields, *field, "field"), compare(*is)),
        Tree::Date { field, is } => {
            let is = match *is {
                DateTest::Before(d) => format!("before {}", date_words(d)),
                DateTest::From(d) => format!("{} or later", date_words(d)),
                DateTest::LastDays(n) => format!("in the last {n} days"),
                DateTest::NextDays(n) => format!("in the next {n} days"),
            };
            format!("{} is {is}", name(&names.fields, *field, "field"))
        }
        Tree::YesNo { field, yes } => format!("{} is {}", name(&names.fields, *field, "field"), if *yes { "yes" } else { "no" }),
        Tree::Missing { field } => format!("{} is missing", field_words(*field, names)),
        Tree::Dated { field, within_days } => format!("{} is dated{}", name(&names.fields, *field, "field"), days(Some(*within_days))),
        Tree::List { list } => format!("on the list {}", name(&names.lists, list.0, "list")),
        Tree::Tag { tag } => format!("tagged {}", name(&names.tags, *tag, "tag")),
        Tree::Topic { topic } => format!("still with the topic {}", name(&names.topics, *topic, "topic")),
        Tree::Segment { segment } => format!("in {}", name(&names.segments, segment.0, "segment")),
        Tree::Consent { states } => {
            let states: Vec<&str> = states.iter().map(|s| s.words()).collect();
            format!("consent is {}", states.join(" or "))
        }
        Tree::Status { states } => {
            let states: Vec<&str> = states.iter().map(|s| s.words()).collect();
            format!("mail status is {}", states.join(" or "))
        }
        Tree::Domain { domain, subdomains } => {
            format!("address at {domain}{}", if *subdomains { " or a domain under it" } else { "" })
        }
        Tree::Near { km, place, latitude, longitude, miles } => {
            let place = if place.is_empty() { format!("{latitude:.3}, {longitude:.3}") } else { place.clone() };
            if *miles {
                // Kept to the metre, so that the number that was typed comes back.
                format!("within {} miles of {place}", (km / super::place::KM_PER_MILE * 1000.0).round() / 1000.0)
            } else {
                format!("within {km} km of {place}")
            }
        }
        Tree::Event { name, times: n, within_days } => format!("“{name}” {}{}", times(*n, "time"), days(*within_days)),
        Tree::Did { did, human, times: n, within_days, mailing, link, series } => {
            let did = match did {
                Did::Opened => "opened",
                Did::Clicked => "clicked in",
                Did::Replied => "replied to",
                Did::Left => "left by",
                Did::Complained => "complained about",
            };
            let of = match (mailing, series) {
                (Some(m), _) => format!(" of {}", name(&names.mailings, m.0, "mailing")),
                (None, Some(s)) => format!(" of the series {}", name(&names.series, s.0, "series")),
                (None, None) => String::new(),
            };
            let link = link.map_or_else(String::new, |l| match mailing.and_then(|m| names.links.get(&(m.0, l))) {
                Some(name) => format!(", link “{name}”"),
                None => format!(", link {}", l + 1),
            });
            format!("{did} {}{of}{link}{}{}", times(*n, "message"), days(*within_days), if *human { "" } else { ", machines included" })
        }
        Tree::Series { series, part } => {
            let series = name(&names.series, series.0, "series");
            match part {
                SeriesPart::Inside => format!("in the series {series} now"),
                SeriesPart::Before => format!("was in the series {series} and isn’t any more"),
                SeriesPart::Ever => format!("has entered the series {series}"),
            }
        }
        Tree::Received { times: n, within_days } => format!("received {}{}", times(*n, "message"), days(*within_days)),
        Tree::Bought { what, is, value, product, category, within_days } => {
            let of = match (product, category) {
                (Some(p), _) => p.clone(),
                (None, Some(c)) => format!("anything of {c}"),
                (None, None) => "anything".into(),
            };
            match what {
                #[allow(clippy::float_cmp)]
                Bought::Count if *value == 1.0 => format!("bought {of} {} once{}", compare(*is), days(*within_days)),
                Bought::Count => format!("bought {of} {} {value} times{}", compare(*is), days(*within_days)),
                Bought::Value => format!("bought {of} for {} {value}{}", compare(*is), days(*within_days)),
            }
        }
        Tree::Converted { goal, times: n, within_days } => {
            format!("met the goal {} {}{}", name(&names.goals, *goal, "goal"), times(*n, "time"), days(*within_days))
        }
        Tree::Load { cells } => {
            let cells: Vec<String> = cells.iter().map(|c| crate::load::cell_words(*c)).collect();
            format!("mail load is {}", cells.join(" or "))
        }
        Tree::Silent { stages } => format!("silent: {}", stages.iter().map(|s| s.words()).collect::<Vec<_>>().join(" or ")),
        Tree::Score { score, is, value } => format!("the score {} is {} {value}", name(&names.scores, *score, "score"), compare(*is)),
        Tree::Added { within_days } => format!("added{}", days(Some(*within_days))),
        Tree::Share { percent, .. } => format!("in a random {percent}%"),
    }
}
