//! The sums that triggers keep as sends change. They are written from the catalogue; when it changes, they are counted again as the file is
//! opened.

use super::{column, counted, counted_of, place};
use crate::Result;
use rinse_core::figure::{Fact, Figure};
use rinse_core::zone::{TimeZone, Wall, named};
use rinse_core::{HOUR, Instant};
use rusqlite::{Connection, OptionalExtension, params};
use std::fmt::Write as _;

/// A table of sums: what its rows are told apart by, each a column with what a row of `send` says of it.
struct Table {
    name: &'static str,
    key: &'static [(&'static str, &'static str)],
    /// The columns of `send` that the key is made of.
    made_of: &'static str,
    index: &'static str,
}

/// Small, for what is asked at every page: mailings and days.
const BY_DAY: Table = Table {
    name: "mailing_figure",
    key: &[("mailing_id", "{of}.mailing_id"), ("day", "{of}.at / 86400000"), ("class", "{of}.class")],
    made_of: "at, class",
    index: "CREATE INDEX mailing_figure_day ON mailing_figure (day);",
};

/// For findings of mailings, hours and mail load: some rows a mailing, where its cells are thousands.
const BY_HOUR: Table = Table {
    name: "figure_hour",
    key: &[
        ("mailing_id", "{of}.mailing_id"),
        ("hour", "{of}.handed_at / 3600000"),
        ("local_hour", "{of}.local_hour"),
        ("arm", "{of}.arm"),
        ("load", "coalesce({of}.load, -1)"),
    ],
    made_of: "handed_at, local_hour, arm, load",
    index: "",
};

/// For findings of recipients: when by both clocks, where, in which arm.
const BY_CELL: Table = Table {
    name: "figure_cell",
    key: &[
        ("mailing_id", "{of}.mailing_id"),
        ("hour", "{of}.handed_at / 3600000"),
        ("local_hour", "{of}.local_hour"),
        ("arm", "{of}.arm"),
        ("place_id", "{of}.place_id"),
    ],
    made_of: "handed_at, local_hour, arm, place_id",
    index: "",
};

const TABLES: [&Table; 3] = [&BY_DAY, &BY_HOUR, &BY_CELL];

impl Table {
    fn columns(&self) -> String {
        self.key.iter().map(|k| k.0).collect::<Vec<_>>().join(", ")
    }

    fn values(&self, of: &str) -> String {
        self.key.iter().map(|k| k.1.replace("{of}", of)).collect::<Vec<_>>().join(", ")
    }

    fn row(&self, of: &str) -> String {
        self.key.iter().map(|(column, value)| format!("{column} = {}", value.replace("{of}", of))).collect::<Vec<_>>().join(" AND ")
    }

    /// Is a send counted in the same row as before?
    fn same(&self) -> String {
        let same = |(_, value): &(&str, &str)| format!("{} IS {}", value.replace("{of}", "new"), value.replace("{of}", "old"));
        self.key.iter().map(same).collect::<Vec<_>>().join(" AND ")
    }

    /// The sums and what keeps them, in SQL.
    ///
    /// A send comes without any of these instants, so nothing has to happen then: a trigger on INSERT would have SQLite keep a copy of
    /// every page it touches, for each row. For the same reason the triggers can't fail: the columns may be null, and a row that is there
    /// already is no error.
    fn kept_by(&self) -> String {
        let each = |f: &dyn Fn(Figure) -> String, between: &str| Figure::ALL.map(f).join(between);
        let (name, columns, same) = (self.name, self.columns(), self.same());
        let mut sql = format!(
            "CREATE TABLE {name} ({columns}, {}, UNIQUE ({columns}));
             {}\n",
            each(&|f| format!("{} INTEGER DEFAULT 0", f.key()), ", "),
            self.index,
        );
        let whole = self.key.iter().map(|k| format!("{} IS NOT NULL", k.1.replace("{of}", "new"))).collect::<Vec<_>>().join(" AND ");
        let there = format!("INSERT OR IGNORE INTO {name} ({columns}) SELECT {} WHERE {whole};", self.values("new"));
        let steps = steps();
        for (i, step) in steps.iter().enumerate() {
            sql += &self.step(&steps[..i], step, &there, &same);
        }
        let _ = write!(
            sql,
            "-- A send that is counted elsewhere goes from one row to another as a whole.
             CREATE TRIGGER send_{name}_moved AFTER UPDATE OF {made_of} ON send
             WHEN NOT ({same}) AND coalesce(old.handed_at, new.handed_at) IS NOT NULL
             BEGIN UPDATE {name} SET {goes} WHERE {old}; {there} UPDATE {name} SET {comes} WHERE {new}; END;\n",
            made_of = self.made_of,
            goes = each(&|f| format!("{key} = {key} - {}", counted(f, "old"), key = f.key()), ", "),
            comes = each(&|f| format!("{key} = {key} + {}", counted(f, "new"), key = f.key()), ", "),
            old = self.row("old"),
            new = self.row("new"),
        );
        sql
    }

    /// What keeps the sums when the columns of a step change; `before`: the steps that are counted before it.
    fn step(&self, before: &[Step], step: &Step, there: &str, same: &str) -> String {
        let in_step = |s: &Step, column: &str| s.columns.iter().any(|c| c.0 == column);
        let then = |column: &str| if in_step(step, column) || before.iter().any(|s| in_step(s, column)) { "new" } else { "old" };
        let until = |column: &str| if before.iter().any(|s| in_step(s, column)) { "new" } else { "old" };
        let changed: Vec<String> = step
            .columns
            .iter()
            .map(|(c, there)| if *there { format!("(new.{c} IS NULL) <> (old.{c} IS NULL)") } else { format!("new.{c} IS NOT old.{c}") })
            .collect();
        let changes: Vec<String> = Figure::ALL
            .into_iter()
            .filter(|f| f.condition().into_iter().any(|l| in_step(step, column(l.fact).0)))
            .map(|f| format!("{key} = {key} + {} - {}", counted_of(f, then), counted_of(f, until), key = f.key()))
            .collect();
        // Nothing is counted of a send that wasn't handed over, and of one that was the row is there.
        let (when, there) = if step.hands_over() { (String::new(), there) } else { ("old.handed_at IS NOT NULL AND ".into(), "") };
        format!(
            "-- Only a value that comes or goes changes a count.
             CREATE TRIGGER send_{name}_{step} AFTER UPDATE OF {columns} ON send
             WHEN {when}({changed}) AND {same}
             BEGIN {there} UPDATE {name} SET {changes} WHERE {row}; END;\n",
            name = self.name,
            step = step.name,
            columns = step.columns.iter().map(|c| c.0).collect::<Vec<_>>().join(", "),
            changed = changed.join(" OR "),
            changes = changes.join(", "),
            row = self.row("new"),
        )
    }

    /// The sums counted from the sends, in SQL: the key, and each figure.
    fn counted_again(&self) -> String {
        let sums = Figure::ALL.map(|f| format!("sum({}) AS {}", counted(f, "s"), f.key()));
        let by: Vec<String> = (1..=self.key.len()).map(|i| i.to_string()).collect();
        format!("SELECT {}, {} FROM send s WHERE s.handed_at IS NOT NULL GROUP BY {}", self.values("s"), sums.join(", "), by.join(", "))
    }
}

/// A part of the columns that figures look at. A change of a send is counted part by part, as if one had changed after the other: what the
/// parts add comes to what the whole adds, and an open, of which there are most, touches a third of the figures.
struct Step {
    name: &'static str,
    /// Each with whether only its being there counts.
    columns: Vec<(&'static str, bool)>,
}

impl Step {
    fn hands_over(&self) -> bool {
        self.columns.iter().any(|c| c.0 == "handed_at")
    }
}

/// The columns of `send` that figures look at, in parts.
fn steps() -> [Step; 3] {
    let mut all: Vec<(&'static str, bool)> = Vec::new();
    for column in Fact::ALL.into_iter().map(column) {
        if !all.contains(&column) {
            all.push(column);
        }
    }
    let mut part = |name, of: &[&str]| {
        let (columns, others) = all.iter().partition(|c| of.is_empty() || of.contains(&c.0));
        all = others;
        Step { name, columns }
    };
    [
        part("opened", &["open_at", "any_open_at", "open_rule"]),
        part("clicked", &["click_at", "any_click_at", "click_rule"]),
        part("became", &[]),
    ]
}

/// When people answer: the hour of the week of a message's first open, click and reply that are a person's, by the recipient's clock as it stood
/// when the message was handed over, and by UTC. Kinds as in `response`; opens where they can be known.
const ANSWERS: [(i64, &str); 3] = [(1, "open_at"), (2, "click_at"), (3, "reply_at")];

fn answer_key(of: &str, column: &str) -> [String; 2] {
    // 1970-01-01 was a Thursday: 72 hours into its week.
    let utc = format!("({of}.{column} / 3600000 + 72) % 168");
    [format!("({of}.{column} / 3600000 + {of}.local_hour - {of}.handed_at / 3600000 + 72) % 168"), utc]
}

fn answer_counts(of: &str, kind: i64, column: &str) -> String {
    let known = if kind == 1 { format!(" AND {of}.opens_unknown = 0") } else { String::new() };
    format!("{of}.{column} IS NOT NULL AND {of}.local_hour IS NOT NULL{known}")
}

fn answers_kept_by() -> String {
    let mut sql = "CREATE TABLE answer_cell (mailing_id INTEGER, kind INTEGER, local INTEGER, utc INTEGER, messages INTEGER DEFAULT 0, UNIQUE (mailing_id, kind, local, utc));\n".to_owned();
    for (kind, column) in ANSWERS {
        let row = |of: &str| {
            let [local, utc] = answer_key(of, column);
            format!(
                "mailing_id = {of}.mailing_id AND kind = {kind} AND local = {local} AND utc = {utc} AND {}",
                answer_counts(of, kind, column)
            )
        };
        let [local, utc] = answer_key("new", column);
        let _ = write!(
            sql,
            "CREATE TRIGGER send_answer_{kind} AFTER UPDATE OF {column}, opens_unknown, local_hour ON send
             WHEN old.{column} IS NOT new.{column} OR (coalesce(old.{column}, new.{column}) IS NOT NULL
                AND (old.opens_unknown <> new.opens_unknown OR old.local_hour IS NOT new.local_hour))
             BEGIN UPDATE answer_cell SET messages = messages - 1 WHERE {goes};
             INSERT OR IGNORE INTO answer_cell (mailing_id, kind, local, utc) SELECT new.mailing_id, {kind}, {local}, {utc} WHERE {counts};
             UPDATE answer_cell SET messages = messages + 1 WHERE {comes}; END;\n",
            goes = row("old"),
            comes = row("new"),
            counts = answer_counts("new", kind, column),
        );
    }
    sql
}

fn answers_counted_again() -> String {
    let of = |(kind, column): (i64, &str)| {
        let [local, utc] = answer_key("s", column);
        format!("SELECT s.mailing_id AS m, {kind} AS k, {local} AS l, {utc} AS u FROM send s WHERE {}", answer_counts("s", kind, column))
    };
    format!("SELECT m, k, l, u, count(*) FROM ({}) GROUP BY 1, 2, 3, 4", ANSWERS.map(of).join(" UNION ALL "))
}

/// The sums counted from the sends, in SQL, each table with its query: what they must be at any moment.
#[must_use]
pub fn counted_again() -> Vec<(&'static str, String)> {
    TABLES.iter().map(|t| (t.name, t.counted_again())).chain([("answer_cell", answers_counted_again())]).collect()
}

/// Counts all sums again.
///
/// # Errors
/// When the database fails.
pub fn count_again(c: &Connection) -> Result<()> {
    for (table, counted) in counted_again() {
        c.execute(&format!("DELETE FROM {table}"), [])?;
        c.execute(&format!("INSERT INTO {table} {counted}"), [])?;
    }
    Ok(())
}

/// The hour at an instant by a clock, in hours since 1970; by UTC where the zone is none.
#[must_use]
pub fn local_hour(zone: &str, at: Instant) -> i64 {
    named(zone).unwrap_or(TimeZone::UTC).local(at).div_euclid(HOUR)
}

/// Sees to it that the sums are those of the catalogue: of a file that an earlier catalogue kept they are counted again.
///
/// # Errors
/// When the database fails.
pub(crate) fn keep(c: &Connection) -> Result<()> {
    let text: String = TABLES.iter().map(|t| t.kept_by()).chain([answers_kept_by()]).collect();
    let was: Option<String> = c.query_row("SELECT made_by FROM kept_sums WHERE name = 'mailing_figure'", [], |r| r.get(0)).optional()?;
    if was.as_deref() == Some(text.as_str()) {
        return Ok(());
    }
    if was.is_some() {
        tracing::info!("the figures are counted again, once: some ten seconds for each million messages");
    }
    let work = c.unchecked_transaction()?;
    let triggers: Vec<String> = c
        .prepare("SELECT name FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = 'send' AND (name LIKE 'send\\_figures%' ESCAPE '\\' OR name LIKE 'send\\_mailing\\_figure%' ESCAPE '\\'
            OR name LIKE 'send\\_figure\\_%' ESCAPE '\\' OR name LIKE 'send\\_answer%' ESCAPE '\\')")?
        .query_map([], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?;
    for trigger in triggers {
        work.execute_batch(&format!("DROP TRIGGER \"{trigger}\""))?;
    }
    for (table, _) in counted_again() {
        work.execute_batch(&format!("DROP TABLE IF EXISTS {table}"))?;
    }
    place::of_earlier(&work)?;
    work.execute_batch(&text)?;
    count_again(&work)?;
    work.execute("INSERT INTO kept_sums VALUES ('mailing_figure', ?1) ON CONFLICT (name) DO UPDATE SET made_by = ?1", params![text])?;
    Ok(work.commit()?)
}
