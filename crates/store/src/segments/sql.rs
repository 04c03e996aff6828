//! A tree of conditions as one SQL expression over `contact c`, with bound parameters.
//!
//! The expression is 1, 0 or NULL as `rinse_core::segment::holds` answers yes, no or unknown; the
//! property test in `tests/segments.rs` holds the two together. Conditions about other tables are
//! sets (`c.id IN (SELECT …)`), made once a query rather than asked for each person.

use crate::rollups::{DEPTH, DUE, RECEIVED};
use rinse_core::segment::evaluate::day_of;
use rinse_core::segment::{Bought, Compare, DateTest, Did, Field, TextTest, Times, Tree, fold};
use rinse_core::{DAY, Instant};
use rusqlite::types::Value;

/// A compiled tree.
#[derive(Debug, Clone, Default)]
pub struct Sql {
    pub text: String,
    pub values: Vec<Value>,
    /// The roll-ups tell of the instant that is asked about.
    rolled: bool,
}

impl Sql {
    fn put(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// Adds text with one `?` for each value.
    fn with<const N: usize>(&mut self, text: &str, values: [Value; N]) {
        debug_assert_eq!(text.matches('?').count(), N, "{text}");
        self.text.push_str(text);
        self.values.extend(values);
    }
}

/// Compiles a resolved tree for an instant. `rolled`: no response that is rolled up is later than that.
#[must_use]
pub fn compile(tree: &Tree, now: Instant, rolled: bool) -> Sql {
    let mut out = Sql { rolled, ..Sql::default() };
    put(tree, now, &mut out);
    out
}

fn put(tree: &Tree, now: Instant, out: &mut Sql) {
    match tree {
        Tree::All { of } => branches(of, " AND ", "1", now, out),
        Tree::Any { of } => branches(of, " OR ", "0", now, out),
        Tree::Not { of } => {
            out.put("(NOT ");
            put(of, now, out);
            out.put(")");
        }
        leaf => condition(leaf, now, out),
    }
}

fn branches(of: &[Tree], word: &str, empty: &str, now: Instant, out: &mut Sql) {
    out.put("(");
    if of.is_empty() {
        out.put(empty);
    }
    for (i, tree) in of.iter().enumerate() {
        if i > 0 {
            out.put(word);
        }
        put(tree, now, out);
    }
    out.put(")");
}

fn column(field: Field) -> &'static str {
    match field {
        Field::GivenName => "fold(c.given_name)",
        Field::FamilyName => "fold(c.family_name)",
        Field::Country => "fold(c.country)",
        Field::Region => "fold(c.region)",
        Field::TimeZone => "fold(c.zone)",
        Field::Source => "fold(c.source)",
        Field::Position | Field::Own(_) => "NULL",
    }
}

fn text_test(column: &str, is: TextTest, value: &str) -> (String, Vec<Value>) {
    let value = fold(value);
    match is {
        TextTest::Is => (format!("{column} = ?"), vec![value.into()]),
        TextTest::IsNot => (format!("{column} <> ?"), vec![value.into()]),
        TextTest::Contains => (format!("instr({column}, ?) > 0"), vec![value.into()]),
        TextTest::Begins => {
            let length = i64::try_from(value.chars().count()).unwrap_or(0);
            (format!("substr({column}, 1, ?) = ?"), vec![length.into(), value.into()])
        }
    }
}

/// A test of an own field's typed column: NULL where the person has no such value.
fn own(field: i64, test: &str, values: Vec<Value>, out: &mut Sql) {
    out.put("(SELECT ");
    out.put(test);
    out.values.extend(values);
    out.with(" FROM field_value v WHERE v.field_id = ? AND v.contact_id = c.id)", [field.into()]);
}

fn sign(is: Compare) -> &'static str {
    match is {
        Compare::Over => ">",
        Compare::AtLeast => ">=",
        Compare::Equal => "=",
        Compare::AtMost => "<=",
        Compare::Under => "<",
    }
}

/// The earliest instant that still lies within the last so many days, less one millisecond.
fn after(now: Instant, days: Option<u32>) -> i64 {
    days.map_or(i64::MIN, |d| (now + -i64::from(d) * DAY).0)
}

fn list_of(codes: impl Iterator<Item = i64>) -> String {
    codes.map(|c| c.to_string()).collect::<Vec<_>>().join(",")
}

fn condition(leaf: &Tree, now: Instant, out: &mut Sql) {
    match leaf {
        Tree::All { .. } | Tree::Any { .. } | Tree::Not { .. } => put(leaf, now, out),
        Tree::Text { field: Field::Own(id), is, value } => {
            let (test, values) = text_test("v.key", *is, value);
            own(*id, &test, values, out);
        }
        Tree::Text { field, is, value } => {
            let (test, values) = text_test(column(*field), *is, value);
            out.put(&format!("({test})"));
            out.values.extend(values);
        }
        Tree::Number { field, is, value } => own(*field, &format!("v.number {} ?", sign(*is)), vec![(*value).into()], out),
        Tree::YesNo { field, yes } => own(*field, "v.flag = ?", vec![i64::from(*yes).into()], out),
        Tree::Date { field, is } => {
            let today = day_of(now);
            let (test, values): (&str, Vec<Value>) = match *is {
                DateTest::Before(d) => ("v.day < ?", vec![d.into()]),
                DateTest::From(d) => ("v.day >= ?", vec![d.into()]),
                DateTest::LastDays(n) => ("v.day > ? AND v.day <= ?", vec![(today - i64::from(n)).into(), today.into()]),
                DateTest::NextDays(n) => ("v.day >= ? AND v.day < ?", vec![today.into(), (today + i64::from(n)).into()]),
            };
            own(*field, test, values, out);
        }
        Tree::Dated { field, within_days } => {
            let today = day_of(now);
            own(*field, "v.dated > ? AND v.dated <= ?", vec![(today - i64::from(*within_days)).into(), today.into()], out);
        }
        Tree::Missing { field: Field::Own(id) } => {
            out.with("(c.id NOT IN (SELECT contact_id FROM field_value WHERE field_id = ?))", [(*id).into()])
        }
        Tree::Missing { field: Field::Position } => out.put("(c.latitude IS NULL OR c.longitude IS NULL)"),
        Tree::Missing { field } => out.put(&format!("({} IS NULL)", column(*field))),
        Tree::List { list } => out.with("(c.id IN (SELECT contact_id FROM list_member WHERE list_id = ?))", [(*list).into()]),
        Tree::Tag { tag } => out.with("(c.id IN (SELECT contact_id FROM contact_tag WHERE tag_id = ?))", [(*tag).into()]),
        Tree::Topic { topic } => out.with("(c.id NOT IN (SELECT contact_id FROM topic_left WHERE topic_id = ?))", [(*topic).into()]),
        Tree::Segment { segment } => {
            out.with("(c.id IN (SELECT contact_id FROM segment_member WHERE segment_id = ?))", [(*segment).into()])
        }
        Tree::Consent { states } => out.put(&format!("(c.consent IN ({}))", list_of(states.iter().map(|s| *s as i64)))),
        Tree::Status { states } => out.put(&format!("(c.status IN ({}))", list_of(states.iter().map(|s| *s as i64)))),
        Tree::Domain { domain, subdomains } => {
            let name = fold(domain);
            let length = i64::try_from(name.chars().count()).unwrap_or(0) + 1;
            out.with("(c.domain_id IN (SELECT id FROM domain WHERE name = ?", [name.clone().into()]);
            if *subdomains {
                out.with(" OR substr(name, -?) = ?", [length.into(), format!(".{name}").into()]);
            }
            out.put("))");
        }
        Tree::Near { latitude, longitude, km, .. } => {
            out.with("(distance_km(c.latitude, c.longitude, ?, ?) <= ?)", [(*latitude).into(), (*longitude).into(), (*km).into()]);
        }
        Tree::Did { times, did, human, .. } => {
            let (n, at_least) = match times {
                Times::AtLeast(n) => (i64::from(*n), true),
                Times::AtMost(n) => (i64::from(*n) + 1, false),
            };
            // In the set of those with n or more: yes for "at least", no for "at most".
            let (inside, outside) = if at_least { ("1", "0") } else { ("0", "1") };
            out.put("(CASE WHEN ");
            if n == 0 {
                out.put("1");
            } else {
                answered(leaf, n, now, out);
            }
            out.put(&format!(" THEN {inside}"));
            if *did == Did::Opened && *human {
                out.put(&format!(" WHEN c.domain_id IN ({}) THEN NULL", crate::segments::open_blind_domains()));
            }
            out.put(&format!(" ELSE {outside} END)"));
        }
        Tree::Received { times, within_days } => {
            let (n, word) = match times {
                Times::AtLeast(0) => return out.put("1"),
                Times::AtLeast(n) => (i64::from(*n), "IN"),
                Times::AtMost(n) => (i64::from(*n) + 1, "NOT IN"),
            };
            let a = after(now, *within_days);
            out.put(&format!("(c.id {word} ("));
            if out.rolled {
                rolled(RECEIVED, n, a, out);
                out.put(" UNION ALL ");
            }
            out.with("SELECT contact_id FROM send s WHERE accepted_at > ? AND accepted_at <= ?", [a.into(), now.0.into()]);
            if out.rolled {
                out.put(" AND s.contact_id IN ");
                due_or_deep(RECEIVED, n, out);
            }
            out.with(" GROUP BY contact_id HAVING count(*) >= ?))", [n.into()]);
        }
        Tree::Event { name, times, within_days } => {
            let (n, word) = match times {
                Times::AtLeast(0) => return out.put("1"),
                Times::AtLeast(n) => (i64::from(*n), "IN"),
                Times::AtMost(n) => (i64::from(*n) + 1, "NOT IN"),
            };
            out.with(
                &format!("(c.id {word} (SELECT contact_id FROM event WHERE name_key = ? AND at > ? AND at <= ? GROUP BY contact_id HAVING count(*) >= ?))"),
                [fold(name).into(), after(now, *within_days).into(), now.0.into(), n.into()],
            );
        }
        Tree::Bought { what, is, value, product, category, within_days } => {
            let sum = match what {
                Bought::Count => "count(*) FILTER (WHERE cents >= 0)",
                Bought::Value => "CAST(coalesce(sum(cents), 0) AS REAL) / 100.0",
            };
            // Those who bought something that fits are few: made once, then looked up.
            out.with(
                &format!("(CASE WHEN c.id IN (SELECT contact_id FROM purchase) THEN (SELECT {sum} FROM purchase b WHERE b.contact_id = c.id AND b.at > ? AND b.at <= ?"),
                [after(now, *within_days).into(), now.0.into()],
            );
            for (column, asked) in [("product_key", product), ("category_key", category)] {
                if let Some(words) = asked {
                    out.with(&format!(" AND b.{column} = ?"), [fold(words).into()]);
                }
            }
            out.with(&format!(") ELSE 0.0 END {} ?)", sign(*is)), [(*value).into()]);
        }
        Tree::Added { within_days } => {
            out.with("(c.added_at > ? AND c.added_at <= ?)", [after(now, Some(*within_days)).into(), now.0.into()])
        }
        Tree::Share { percent, salt } => out.with("(stable_share(?, c.id) < ?)", [salt.clone().into(), (percent / 100.0).into()]),
    }
}

/// `c.id IN (those with n or more messages answered so)`.
fn answered(leaf: &Tree, n: i64, now: Instant, out: &mut Sql) {
    let Tree::Did { did, human, within_days, mailing, link, .. } = leaf else { return };
    let a = after(now, *within_days);
    let kind = match did {
        Did::Opened => crate::responses::OPEN,
        Did::Clicked => crate::responses::CLICK,
        Did::Replied => crate::responses::REPLY,
        Did::Left => crate::responses::UNSUBSCRIBE,
        Did::Complained => crate::responses::COMPLAINT,
    };
    let by_link = |out: &mut Sql| {
        if let Some(link) = link {
            out.with(" AND r.link = ?", [i64::from(*link).into()]);
        }
        if *human {
            out.put(" AND r.machine = 0");
        }
    };
    // The send's own roll-up holds the earliest, which is all that "ever" asks for.
    let on_send = match (did, human) {
        (Did::Opened, true) => Some("open_at"),
        (Did::Opened, false) => Some("any_open_at"),
        (Did::Clicked, true) => Some("click_at"),
        (Did::Clicked, false) => Some("any_click_at"),
        _ => None,
    };
    match (mailing, on_send.filter(|_| within_days.is_none() && link.is_none())) {
        (None, _) if *human && out.rolled => {
            out.put("c.id IN (");
            rolled(kind, n, a, out);
            out.put(" UNION ALL SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM send s CROSS JOIN response r ON r.send_id = s.id");
            out.with(" AND r.kind = ? AND r.at > ? AND r.at <= ?", [kind.into(), a.into(), now.0.into()]);
            by_link(out);
            out.put(" WHERE s.contact_id IN ");
            due_or_deep(kind, n, out);
            out.put(")");
        }
        (_, Some(column)) => {
            out.with(&format!("c.id IN (SELECT contact_id FROM send WHERE {column} <= ?"), [now.0.into()]);
            if let Some(mailing) = mailing {
                out.with(" AND mailing_id = ?", [(*mailing).into()]);
            }
        }
        (Some(mailing), None) => {
            // One mailing has a small part of all messages, and few of those were answered so.
            out.put(
                "c.id IN (SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM send s CROSS JOIN response r ON r.send_id = s.id",
            );
            out.with(" AND r.kind = ? AND r.at > ? AND r.at <= ?", [kind.into(), a.into(), now.0.into()]);
            by_link(out);
            out.with(" WHERE s.mailing_id = ?", [(*mailing).into()]);
            if let Some(column) = on_send {
                out.put(&format!(" AND s.{column} IS NOT NULL"));
            }
            out.put(")");
        }
        (None, None) => {
            out.with(
                "c.id IN (SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM response r CROSS JOIN send s ON s.id = r.send_id WHERE r.kind = ? AND r.at > ? AND r.at <= ?",
                [kind.into(), a.into(), now.0.into()],
            );
            by_link(out);
            out.put(")");
        }
    }
    out.with(" GROUP BY contact_id HAVING count(*) >= ?)", [n.into()]);
}

/// Those whose roll-up says that they have n or more: nobody where it is not deep enough to tell.
fn rolled(kind: i64, n: i64, after: i64, out: &mut Sql) {
    let nth = n.clamp(1, i64::from(DEPTH));
    out.with(
        &format!("SELECT contact_id FROM answered WHERE kind = ? AND t{nth} > ? AND contact_id NOT IN {DUE}"),
        [kind.into(), after.into()],
    );
    if n > i64::from(DEPTH) {
        out.put(" AND 0");
    }
}

/// Those whose rows have to be counted: their roll-up is not of now, or not deep enough.
fn due_or_deep(kind: i64, n: i64, out: &mut Sql) {
    if n > i64::from(DEPTH) {
        out.with(
            &format!("(SELECT contact_id FROM answered WHERE kind = ? AND n >= ? UNION SELECT * FROM {DUE})"),
            [kind.into(), n.into()],
        );
    } else {
        out.put(DUE);
    }
}
