//! A tree of conditions as one SQL expression over `contact c`, with bound parameters.
//!
//! The expression is 1, 0 or NULL as `rinse_core::segment::holds` answers yes, no or unknown; the
//! property test in `tests/whole/segments.rs` holds the two together. Conditions about other tables are
//! sets (`c.id IN (SELECT …)`), made once a query rather than asked for each person.

use crate::response_kinds;
use crate::rollups::{DEPTH, DUE, RECEIVED};
use rinse_core::code::Code;
use rinse_core::segment::evaluate::day_of;
use rinse_core::segment::{Bought, Compare, DateTest, Did, Field, SeriesPart, TextTest, Times, Tree};
use rinse_core::words::fold;
use rinse_core::{DAY, Instant};
use rusqlite::types::Value;

/// A compiled tree.
#[derive(Debug, Clone, Default)]
pub struct Sql {
    pub text: String,
    pub values: Vec<Value>,
    /// The sets that `in_set` asks, each by its query.
    pub(super) sets: Vec<(String, Vec<Value>)>,
    how: How,
}

/// How a tree is compiled.
#[derive(Debug, Clone, Copy, Default)]
pub struct How {
    /// No response that is rolled up is later than the instant asked about.
    pub rolled: bool,
    /// Nobody's roll-up is behind: there is nothing to count beside it.
    pub none_due: bool,
    /// Unknown has to be told from no: under a not it makes the difference.
    pub exact: bool,
    /// Sets of people are asked as bits (see [`super::sets`]).
    pub bits: bool,
    /// Only people with these numbers are asked about, so sets are made of them alone.
    pub range: Option<(i64, i64)>,
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

    /// Narrows a set to the people who are asked about.
    fn of_range(&mut self, column: &str) {
        if let Some((from, to)) = self.how.range {
            self.put(&format!(" AND {column} BETWEEN {from} AND {to}"));
        }
    }

    /// Who is (not) among the people whose numbers a query gives; `people` writes the query.
    fn among(&mut self, not: bool, people: impl FnOnce(&mut Self)) {
        let (text, values) = (std::mem::take(&mut self.text), std::mem::take(&mut self.values));
        people(self);
        let (set, its) = (std::mem::replace(&mut self.text, text), std::mem::replace(&mut self.values, values));
        let not = if not { "NOT " } else { "" };
        if self.how.bits {
            self.put(&format!("({not}in_set({}, c.id))", self.sets.len()));
            self.sets.push((set, its));
        } else {
            self.put(&format!("(c.id {not}IN ({set}))"));
            self.values.extend(its);
        }
    }

    /// A set of people by one value.
    fn set(&mut self, not: bool, table: &str, column: &str, value: i64) {
        self.among(not, |out| {
            out.with(&format!("SELECT contact_id FROM {table} WHERE {column} = ?"), [value.into()]);
            out.of_range("contact_id");
        });
    }
}

/// Compiles a resolved tree for an instant.
#[must_use]
pub fn compile(tree: &Tree, now: Instant, how: How) -> Sql {
    let mut out = Sql { how, ..Sql::default() };
    put(tree, now, &mut out);
    out
}

fn put(tree: &Tree, now: Instant, out: &mut Sql) {
    match tree {
        Tree::All { of } => branches(of, " AND ", "1", now, out),
        Tree::Any { of } => branches(of, " OR ", "0", now, out),
        Tree::Not { of } => {
            let outside = std::mem::replace(&mut out.how.exact, true);
            out.put("(NOT ");
            put(of, now, out);
            out.put(")");
            out.how.exact = outside;
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

/// A test of an own field's typed column: unknown where the person has no such value.
fn own(field: i64, column: &str, test: &str, values: Vec<Value>, out: &mut Sql) {
    let of_field = |test: &str, values: Vec<Value>, out: &mut Sql| {
        out.among(false, |out| {
            out.with("SELECT contact_id FROM field_value v WHERE v.field_id = ? AND ", [field.into()]);
            out.put(test);
            out.values.extend(values);
            out.of_range("contact_id");
        });
    };
    if !out.how.exact {
        return of_field(test, values, out);
    }
    out.put("(CASE WHEN ");
    of_field(test, values, out);
    out.put(" THEN 1 WHEN ");
    of_field(&format!("{column} IS NOT NULL"), vec![], out);
    out.put(" THEN 0 END)");
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
    days.map_or(i64::MIN, |d| (now + -i64::from(d) * DAY).millis())
}

fn list_of(codes: impl Iterator<Item = i64>) -> String {
    codes.map(|c| c.to_string()).collect::<Vec<_>>().join(",")
}

fn condition(leaf: &Tree, now: Instant, out: &mut Sql) {
    match leaf {
        Tree::All { .. } | Tree::Any { .. } | Tree::Not { .. } => put(leaf, now, out),
        Tree::Text { field: Field::Own(id), is, value } => {
            let (test, values) = text_test("v.key", *is, value);
            own(*id, "v.key", &test, values, out);
        }
        Tree::Text { field, is, value } => {
            let (test, values) = text_test(column(*field), *is, value);
            out.put(&format!("({test})"));
            out.values.extend(values);
        }
        Tree::Number { field, is, value } => own(*field, "v.number", &format!("v.number {} ?", sign(*is)), vec![(*value).into()], out),
        Tree::YesNo { field, yes } => own(*field, "v.flag", "v.flag = ?", vec![i64::from(*yes).into()], out),
        Tree::Date { field, is } => {
            let today = day_of(now);
            let (test, values): (&str, Vec<Value>) = match *is {
                DateTest::Before(d) => ("v.day < ?", vec![d.into()]),
                DateTest::From(d) => ("v.day >= ?", vec![d.into()]),
                DateTest::LastDays(n) => ("v.day > ? AND v.day <= ?", vec![(today - i64::from(n)).into(), today.into()]),
                DateTest::NextDays(n) => ("v.day >= ? AND v.day < ?", vec![today.into(), (today + i64::from(n)).into()]),
            };
            own(*field, "v.day", test, values, out);
        }
        Tree::Dated { field, within_days } => {
            let today = day_of(now);
            own(*field, "v.dated", "v.dated > ? AND v.dated <= ?", vec![(today - i64::from(*within_days)).into(), today.into()], out);
        }
        Tree::Missing { field: Field::Own(id) } => {
            out.set(true, "field_value", "field_id", *id);
        }
        Tree::Missing { field: Field::Position } => out.put("(c.latitude IS NULL OR c.longitude IS NULL)"),
        Tree::Missing { field } => out.put(&format!("({} IS NULL)", column(*field))),
        Tree::List { list } => out.set(false, "list_member", "list_id", list.0),
        Tree::Tag { tag } => out.set(false, "contact_tag", "tag_id", *tag),
        Tree::Topic { topic } => out.set(true, "topic_left", "topic_id", *topic),
        Tree::Segment { segment } => out.set(false, "segment_member", "segment_id", segment.0),
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
            // A degree of latitude has 111.19 km: most people are too far north or south to be measured.
            let degrees = km / 111.0;
            out.with(
                "(c.latitude BETWEEN ? AND ? AND distance_km(c.latitude, c.longitude, ?, ?) <= ?)",
                [(latitude - degrees).into(), (latitude + degrees).into(), (*latitude).into(), (*longitude).into(), (*km).into()],
            );
        }
        Tree::Did { times, did, human, .. } => {
            let (n, at_least) = match times {
                Times::AtLeast(n) => (i64::from(*n), true),
                Times::AtMost(n) => (i64::from(*n) + 1, false),
            };
            let blind = *did == Did::Opened && *human;
            if !out.how.exact && n > 0 {
                // Only yes counts: who is in the set, or who is neither in it nor blind.
                out.put(if at_least { "(" } else { "(NOT " });
                out.among(false, |out| answered(leaf, n, now, out));
                if blind && !at_least {
                    out.put(&format!(" AND c.domain_id NOT IN ({})", crate::machines::opens::UNKNOWN_DOMAINS));
                }
                return out.put(")");
            }
            // In the set of those with n or more: yes for "at least", no for "at most".
            let (inside, outside) = if at_least { ("1", "0") } else { ("0", "1") };
            out.put("(CASE WHEN ");
            if n == 0 {
                out.put("1");
            } else {
                out.among(false, |out| answered(leaf, n, now, out));
            }
            out.put(&format!(" THEN {inside}"));
            if blind {
                out.put(&format!(" WHEN c.domain_id IN ({}) THEN NULL", crate::machines::opens::UNKNOWN_DOMAINS));
            }
            out.put(&format!(" ELSE {outside} END)"));
        }
        Tree::Series { series, part } => {
            let inside = |out: &mut Sql| {
                out.with("SELECT contact_id FROM series_entry WHERE ended_at IS NULL AND series_id = ?", [series.0.into()]);
                out.of_range("contact_id");
            };
            if *part == SeriesPart::Inside {
                return out.among(false, inside);
            }
            out.put("(");
            out.set(false, "series_entry", "series_id", series.0);
            if *part == SeriesPart::Before {
                out.put(" AND ");
                out.among(true, inside);
            }
            out.put(")");
        }
        Tree::Received { times, within_days } => {
            let Some((n, not)) = bound(*times) else { return out.put("1") };
            out.among(not, |out| received(n, after(now, *within_days), now, out));
        }
        Tree::Event { name, times, within_days } => {
            let Some((n, not)) = bound(*times) else { return out.put("1") };
            out.among(not, |out| {
                out.with(
                    "SELECT contact_id FROM event WHERE name_key = ? AND at > ? AND at <= ?",
                    [fold(name).into(), after(now, *within_days).into(), now.millis().into()],
                );
                out.of_range("contact_id");
                out.with(" GROUP BY contact_id HAVING count(*) >= ?", [n.into()]);
            });
        }
        Tree::Bought { what, is, value, product, category, within_days } => {
            let sum = match what {
                Bought::Count => "count(*) FILTER (WHERE cents >= 0)",
                Bought::Value => "CAST(sum(cents) AS REAL) / 100.0",
            };
            // Who bought nothing that fits has none. Where that is enough, those are left out of whom it isn't.
            let none_fits = is.holds(0.0, *value);
            out.among(none_fits, |out| {
                out.with(
                    "SELECT contact_id FROM purchase b WHERE b.at > ? AND b.at <= ?",
                    [after(now, *within_days).into(), now.millis().into()],
                );
                for (column, asked) in [("product_key", product), ("category_key", category)] {
                    if let Some(words) = asked {
                        out.with(&format!(" AND b.{column} = ?"), [fold(words).into()]);
                    }
                }
                out.of_range("b.contact_id");
                let fits = if none_fits { "NOT " } else { "" };
                out.with(&format!(" GROUP BY contact_id HAVING {fits}({sum} {} ?)", sign(*is)), [(*value).into()]);
            });
        }
        // A goal's condition was put in its place; one that is gone is met by nobody.
        Tree::Converted { .. } => out.put("NULL"),
        Tree::Load { cells } => {
            let cells = list_of(cells.iter().map(|c| i64::from(*c)));
            if out.how.exact {
                return out.put(&format!("((SELECT cell FROM mail_load l WHERE l.contact_id = c.id) IN ({cells}))"));
            }
            out.among(false, |out| {
                out.put(&format!("SELECT contact_id FROM mail_load WHERE cell IN ({cells})"));
                out.of_range("contact_id");
            });
        }
        Tree::Silent { stages } => {
            let stages = list_of(stages.iter().map(|s| s.code()));
            if out.how.exact {
                return out.put(&format!("EXISTS (SELECT 1 FROM silent l WHERE l.contact_id = c.id AND l.stage IN ({stages}))"));
            }
            out.among(false, |out| {
                out.put(&format!("SELECT contact_id FROM silent WHERE stage IN ({stages})"));
                out.of_range("contact_id");
            });
        }
        Tree::Score { score, is, value } => {
            // Who has no entry stands at 0.
            let none_fits = is.holds(0.0, *value);
            out.among(none_fits, |out| {
                let fits = if none_fits { "NOT " } else { "" };
                out.with(
                    &format!(
                        "SELECT contact_id FROM score_now n WHERE n.score_id = ? AND {fits}(score_at(n.value, n.as_of, n.half_life_days, ?) {} ?)",
                        sign(*is)
                    ),
                    [(*score).into(), now.millis().into(), (*value).into()],
                );
                out.of_range("contact_id");
            });
        }
        Tree::Added { within_days } => {
            out.with("(c.added_at > ? AND c.added_at <= ?)", [after(now, Some(*within_days)).into(), now.millis().into()])
        }
        Tree::Share { percent, salt } => out.with("(stable_share(?, c.id) < ?)", [salt.clone().into(), (percent / 100.0).into()]),
    }
}

/// The least number that is asked about, and whether those who have it are left out; none when everyone fits.
fn bound(times: Times) -> Option<(i64, bool)> {
    match times {
        Times::AtLeast(0) => None,
        Times::AtLeast(n) => Some((i64::from(n), false)),
        Times::AtMost(n) => Some((i64::from(n) + 1, true)),
    }
}

/// Those whose host accepted n or more messages after an instant.
fn received(n: i64, a: i64, now: Instant, out: &mut Sql) {
    let by_row = |from: &str, out: &mut Sql| {
        out.with(
            &format!("SELECT s.contact_id FROM {from} WHERE s.accepted_at > ? AND s.accepted_at <= ?"),
            [a.into(), now.millis().into()],
        );
    };
    if out.how.rolled {
        rolled(RECEIVED, n, a, out);
        if out.how.none_due && n <= i64::from(DEPTH) {
            return;
        }
        out.put(" UNION ALL ");
        let people = due_or_deep(RECEIVED, n);
        by_row(&format!("{people} d CROSS JOIN send s INDEXED BY send_contact ON s.contact_id = d.contact_id"), out);
    } else {
        by_row("send s", out);
    }
    out.of_range("s.contact_id");
    out.with(" GROUP BY s.contact_id HAVING count(*) >= ?", [n.into()]);
}

/// Those with n or more messages answered so.
fn answered(leaf: &Tree, n: i64, now: Instant, out: &mut Sql) {
    let Tree::Did { did, human, within_days, mailing, link, series, .. } = leaf else { return };
    // Which messages are meant: a mailing's, or those of a series' steps.
    let of = match (mailing, series) {
        (Some(mailing), _) => Some(("mailing_id = ?", mailing.0)),
        (None, Some(series)) => Some(("mailing_id IN (SELECT id FROM mailing WHERE series_id = ?)", series.0)),
        (None, None) => None,
    };
    let a = after(now, *within_days);
    let kind = match did {
        Did::Opened => response_kinds::OPEN,
        Did::Clicked => response_kinds::CLICK,
        Did::Replied => response_kinds::REPLY,
        Did::Left => response_kinds::UNSUBSCRIBE,
        Did::Complained => response_kinds::COMPLAINT,
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
    match (of, on_send.filter(|_| within_days.is_none() && link.is_none())) {
        (None, _) if *human && out.how.rolled => {
            rolled(kind, n, a, out);
            if out.how.none_due && n <= i64::from(DEPTH) {
                return;
            }
            out.put(" UNION ALL SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM ");
            out.put(&due_or_deep(kind, n));
            out.put(" d CROSS JOIN send s INDEXED BY send_contact ON s.contact_id = d.contact_id CROSS JOIN response r INDEXED BY response_send ON r.send_id = s.id");
            out.with(" AND r.kind = ? AND r.at > ? AND r.at <= ?", [kind.into(), a.into(), now.millis().into()]);
            by_link(out);
            out.put(" WHERE 1");
            out.of_range("s.contact_id");
            out.put(")");
        }
        (_, Some(column)) => {
            out.with(&format!("SELECT contact_id FROM send WHERE {column} <= ?"), [now.millis().into()]);
            if let Some((which, id)) = of {
                out.with(&format!(" AND {which}"), [id.into()]);
            }
            out.of_range("contact_id");
        }
        (Some((which, id)), None) => {
            // One mailing has a small part of all messages, and few of those were answered so.
            out.put("SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM send s CROSS JOIN response r ON r.send_id = s.id");
            out.with(" AND r.kind = ? AND r.at > ? AND r.at <= ?", [kind.into(), a.into(), now.millis().into()]);
            by_link(out);
            out.with(&format!(" WHERE s.{which}"), [id.into()]);
            if let Some(column) = on_send {
                out.put(&format!(" AND s.{column} IS NOT NULL"));
            }
            out.of_range("s.contact_id");
            out.put(")");
        }
        (None, None) => {
            out.with(
                "SELECT contact_id FROM (SELECT DISTINCT s.contact_id, s.id FROM response r CROSS JOIN send s ON s.id = r.send_id WHERE r.kind = ? AND r.at > ? AND r.at <= ?",
                [kind.into(), a.into(), now.millis().into()],
            );
            by_link(out);
            out.put(")");
        }
    }
    out.with(" GROUP BY contact_id HAVING count(*) >= ?", [n.into()]);
}

/// Those whose roll-up says that they have n or more: nobody where it is not deep enough to tell.
fn rolled(kind: i64, n: i64, after: i64, out: &mut Sql) {
    let nth = n.clamp(1, i64::from(DEPTH));
    out.with(&format!("SELECT contact_id FROM answered WHERE kind = ? AND t{nth} > ?"), [kind.into(), after.into()]);
    if !out.how.none_due {
        out.put(&format!(" AND contact_id NOT IN {DUE}"));
    }
    out.of_range("contact_id");
    if n > i64::from(DEPTH) {
        out.put(" AND 0");
    }
}

/// Those whose rows have to be counted: their roll-up is not of now, or not deep enough.
fn due_or_deep(kind: i64, n: i64) -> String {
    if n > i64::from(DEPTH) {
        format!("(SELECT contact_id FROM answered WHERE kind = {kind} AND n >= {n} UNION SELECT contact_id FROM {DUE})")
    } else {
        DUE.to_owned()
    }
}
