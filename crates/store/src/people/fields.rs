//! Custom fields: what they hold, and a person's values in them.

use crate::{Result, StoreError, naming};
use rinse_core::Instant;
use rinse_core::id::ContactId;
use rinse_core::segment::FieldKind;
use rinse_core::segment::person::Value;
use rinse_core::table::money;
use rinse_core::words::fold;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Reads what a field of this name and kind holds; an amount is a number where the name says in which currency.
///
/// # Errors
/// Says what can't be read, with the field's name, and how it should be written.
pub fn read(field: &str, kind: FieldKind, text: &str) -> std::result::Result<Value, String> {
    let amount = if kind == FieldKind::Number { money::number(field, text) } else { None };
    let value = amount.map_or_else(|| Value::read(kind, text), |amount| amount.map(Value::Number));
    value.map_err(|e| format!("{field}: {e}"))
}

/// A field that was made here.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct OwnField {
    pub id: i64,
    pub name: String,
    pub kind: FieldKind,
    /// How many people have a value.
    pub people: i64,
}

fn code(kind: FieldKind) -> &'static str {
    match kind {
        FieldKind::Text => "text",
        FieldKind::Number => "number",
        FieldKind::Date => "date",
        FieldKind::YesNo => "yes_no",
        FieldKind::Choice => "choice",
    }
}

fn kind_of(code: &str) -> FieldKind {
    match code {
        "number" => FieldKind::Number,
        "date" => FieldKind::Date,
        "yes_no" => FieldKind::YesNo,
        "choice" => FieldKind::Choice,
        _ => FieldKind::Text,
    }
}

/// A field without what is in it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FieldName {
    pub id: i64,
    pub name: String,
    pub kind: FieldKind,
}

/// All fields by name, without counting who has a value: of a large base that is read row by row.
///
/// # Errors
/// When the database fails.
pub fn names(c: &Connection) -> Result<Vec<FieldName>> {
    let mut s = c.prepare_cached("SELECT id, name, kind FROM field WHERE gone = 0 ORDER BY name")?;
    let rows = s.query_map([], |r| Ok(FieldName { id: r.get(0)?, name: r.get(1)?, kind: kind_of(&r.get::<_, String>(2)?) }))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// All fields, by name.
///
/// # Errors
/// When the database fails.
pub fn all(c: &Connection) -> Result<Vec<OwnField>> {
    let mut s = c.prepare_cached(
        "SELECT id, name, kind, (SELECT count(*) FROM field_value WHERE field_id = field.id) FROM field WHERE gone = 0 ORDER BY name",
    )?;
    Ok(s.query_map([], |r| Ok(OwnField { id: r.get(0)?, name: r.get(1)?, kind: kind_of(&r.get::<_, String>(2)?), people: r.get(3)? }))?
        .collect::<rusqlite::Result<_>>()?)
}

/// # Errors
/// When there is no such field.
pub fn one(c: &Connection, id: i64) -> Result<OwnField> {
    all(c)?.into_iter().find(|f| f.id == id).ok_or(StoreError::Missing("field"))
}

/// The field of that name, made when there is none.
///
/// # Errors
/// When it is there and holds another kind of value.
pub fn named(c: &Connection, name: &str, kind: FieldKind, now: Instant) -> Result<i64> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(StoreError::Refused("Give the field a name of at most 60 characters.".into()));
    }
    let there: Option<(i64, String)> =
        c.prepare_cached("SELECT id, kind FROM field WHERE name = ?1")?.query_row([name], |r| Ok((r.get(0)?, r.get(1)?))).optional()?;
    match there {
        Some((id, has)) if has == code(kind) => Ok(id),
        Some((_, has)) => Err(StoreError::Refused(format!(
            "There is a field “{name}” that holds {}. Map the column to it as that, or give it another name.",
            has.replace("yes_no", "yes or no")
        ))),
        None => Ok(c.query_row(
            "INSERT INTO field (name, kind, made_at) VALUES (?1, ?2, ?3) RETURNING id",
            params![name, code(kind), now.millis()],
            |r| r.get(0),
        )?),
    }
}

/// # Errors
/// When there is no such field, or the name is taken.
pub fn rename(c: &Connection, id: i64, name: &str) -> Result<()> {
    one(c, id)?;
    naming::taken(c, "field", name.trim(), Some(id))?;
    if name.trim().is_empty() {
        return Err(StoreError::Refused("Give the field a name.".into()));
    }
    c.execute("UPDATE field SET name = ?2 WHERE id = ?1", params![id, name.trim()])?;
    Ok(())
}

/// Deletes a field and its values; who calls has seen that nothing uses it.
pub(crate) fn delete(c: &Connection, id: i64) -> Result<()> {
    one(c, id)?;
    crate::sweep::delete(c, &crate::sweep::FIELD, id)
}

/// Writes a value; false when it was there already. `dated` and `source` belong to outside scores.
///
/// # Errors
/// When the database fails.
pub fn set(c: &Connection, contact: ContactId, field: i64, value: &Value, dated: Option<i64>, source: Option<&str>) -> Result<bool> {
    let (mut text, mut key, mut number, mut day, mut flag) = (None, None, None, None, None);
    match value {
        Value::Text(t) => {
            text = Some(t.trim());
            key = Some(fold(t));
        }
        Value::Number(n) => number = Some(*n),
        Value::Date(d) => day = Some(*d),
        Value::YesNo(yes) => flag = Some(*yes),
    }
    let n = c
        .prepare_cached(
            "INSERT INTO field_value (field_id, contact_id, text, key, number, day, flag, dated, source) VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9)
             ON CONFLICT DO UPDATE SET text = ?3, key = ?4, number = ?5, day = ?6, flag = ?7, dated = ?8, source = ?9
             WHERE text IS NOT ?3 OR number IS NOT ?5 OR day IS NOT ?6 OR flag IS NOT ?7 OR dated IS NOT ?8 OR source IS NOT ?9",
        )?
        .execute(params![field, contact.0, text, key, number, day, flag, dated, source])?;
    Ok(n > 0)
}

/// A person's value in a field.
///
/// # Errors
/// When the database fails.
pub fn get(c: &Connection, contact: ContactId, field: i64) -> Result<Option<Value>> {
    Ok(c.prepare_cached("SELECT text, number, day, flag FROM field_value WHERE field_id = ?1 AND contact_id = ?2")?
        .query_row([field, contact.0], |r| {
            let text = r.get::<_, Option<String>>(0)?.map(Value::Text);
            let number = r.get::<_, Option<f64>>(1)?.map(Value::Number);
            let day = r.get::<_, Option<i64>>(2)?.map(Value::Date);
            Ok(text.or(number).or(day).or(r.get::<_, Option<bool>>(3)?.map(Value::YesNo)))
        })
        .optional()?
        .flatten())
}

/// Takes a value away.
///
/// # Errors
/// When the database fails.
pub fn clear(c: &Connection, contact: ContactId, field: i64) -> Result<()> {
    c.prepare_cached("DELETE FROM field_value WHERE field_id = ?1 AND contact_id = ?2")?.execute([field, contact.0])?;
    Ok(())
}

/// A value as a person's page shows it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FieldValue {
    pub field_id: i64,
    pub name: String,
    pub kind: FieldKind,
    pub value: String,
    /// The day of an outside score.
    pub dated: Option<String>,
    pub source: Option<String>,
}

/// A person's values, by the fields' names.
///
/// # Errors
/// When the database fails.
pub fn of_contact(c: &Connection, contact: ContactId) -> Result<Vec<FieldValue>> {
    let mut s = c.prepare_cached(
        "SELECT f.id, f.name, f.kind, v.text, v.number, v.day, v.flag, v.dated, v.source FROM field_value v JOIN field f ON f.id = v.field_id
         WHERE v.contact_id = ?1 AND f.gone = 0 ORDER BY f.name",
    )?;
    Ok(s.query_map([contact.0], |r| {
        let kind = kind_of(&r.get::<_, String>(2)?);
        let value = match kind {
            FieldKind::Text | FieldKind::Choice => r.get::<_, Option<String>>(3)?.unwrap_or_default(),
            FieldKind::Number => r.get::<_, Option<f64>>(4)?.map(|n| n.to_string()).unwrap_or_default(),
            FieldKind::Date => r.get::<_, Option<i64>>(5)?.map(rinse_core::segment::evaluate::date_words).unwrap_or_default(),
            FieldKind::YesNo => (if r.get::<_, Option<bool>>(6)?.unwrap_or(false) { "yes" } else { "no" }).into(),
        };
        Ok(FieldValue {
            field_id: r.get(0)?,
            name: r.get(1)?,
            kind,
            value,
            dated: r.get::<_, Option<i64>>(7)?.map(rinse_core::segment::evaluate::date_words),
            source: r.get(8)?,
        })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// A value that an outside score had.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Score {
    pub name: String,
    pub dated: String,
    pub source: String,
    pub number: f64,
}

/// The history of a person's outside scores, the newest first.
///
/// # Errors
/// When the database fails.
pub fn scores_of(c: &Connection, contact: ContactId) -> Result<Vec<Score>> {
    let mut s = c.prepare_cached(
        "SELECT f.name, h.day, h.source, h.number FROM score_history h JOIN field f ON f.id = h.field_id WHERE h.contact_id = ?1 AND f.gone = 0 ORDER BY h.day DESC, f.name, h.source",
    )?;
    Ok(s.query_map([contact.0], |r| {
        Ok(Score { name: r.get(0)?, dated: rinse_core::segment::evaluate::date_words(r.get(1)?), source: r.get(2)?, number: r.get(3)? })
    })?
    .collect::<rusqlite::Result<_>>()?)
}

/// A stored value with all its columns, to be put back.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Stored {
    field: i64,
    value: Option<Columns>,
}

type Columns = (Option<String>, Option<String>, Option<f64>, Option<i64>, Option<bool>, Option<i64>, Option<String>);

/// What stands in a field now.
pub(crate) fn stored(c: &Connection, contact: ContactId, field: i64) -> Result<Stored> {
    let value = c
        .prepare_cached("SELECT text, key, number, day, flag, dated, source FROM field_value WHERE field_id = ?1 AND contact_id = ?2")?
        .query_row([field, contact.0], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?)))
        .optional()?;
    Ok(Stored { field, value })
}

/// Puts back what stood there.
pub(crate) fn put_back(c: &Connection, contact: ContactId, s: &Stored) -> Result<()> {
    clear(c, contact, s.field)?;
    if let Some((text, key, number, day, flag, dated, source)) = &s.value {
        // A field that was deleted meanwhile has no place to put it.
        c.prepare_cached(
            "INSERT INTO field_value (field_id, contact_id, text, key, number, day, flag, dated, source)
             SELECT ?1,?2,?3,?4,?5,?6,?7,?8,?9 WHERE EXISTS (SELECT 1 FROM field WHERE id = ?1 AND gone = 0)",
        )?
        .execute(params![s.field, contact.0, text, key, number, day, flag, dated, source])?;
    }
    Ok(())
}

/// The fields a person has a value in.
pub(crate) fn filled(c: &Connection, contact: ContactId) -> Result<Vec<i64>> {
    Ok(c.prepare_cached("SELECT field_id FROM field_value WHERE contact_id = ?1")?
        .query_map([contact.0], |r| r.get(0))?
        .collect::<rusqlite::Result<_>>()?)
}

/// Takes in a value that an outside score had on a day. The field shows the newest day's; the history
/// keeps them all. False when it was known already.
///
/// # Errors
/// When the database fails.
pub(crate) fn score(c: &Connection, contact: ContactId, field: i64, number: f64, day: i64, source: &str) -> Result<bool> {
    let new = c
        .prepare_cached(
            "INSERT INTO score_history VALUES (?1,?2,?3,?4,?5) ON CONFLICT DO UPDATE SET number = excluded.number WHERE number IS NOT excluded.number",
        )?
        .execute(params![contact.0, field, day, source, number])?
        > 0;
    let newest: Option<i64> = c
        .prepare_cached("SELECT dated FROM field_value WHERE field_id = ?1 AND contact_id = ?2")?
        .query_row([field, contact.0], |r| r.get(0))
        .optional()?
        .flatten();
    if new && newest.is_none_or(|d| day >= d) {
        set(c, contact, field, &Value::Number(number), Some(day), Some(source))?;
    }
    Ok(new)
}

/// The value that a score had on a day by a source.
pub(crate) fn scored(c: &Connection, contact: ContactId, field: i64, day: i64, source: &str) -> Result<Option<f64>> {
    Ok(c.prepare_cached("SELECT number FROM score_history WHERE contact_id = ?1 AND field_id = ?2 AND day = ?3 AND source = ?4")?
        .query_row(params![contact.0, field, day, source], |r| r.get(0))
        .optional()?)
}

/// Puts a day's value back to what it was, or takes it out.
pub(crate) fn forget_score(c: &Connection, contact: ContactId, field: i64, day: i64, source: &str, before: Option<f64>) -> Result<()> {
    match before {
        Some(number) => c
            .prepare_cached("UPDATE score_history SET number = ?5 WHERE contact_id = ?1 AND field_id = ?2 AND day = ?3 AND source = ?4")?
            .execute(params![contact.0, field, day, source, number])?,
        None => c
            .prepare_cached("DELETE FROM score_history WHERE contact_id = ?1 AND field_id = ?2 AND day = ?3 AND source = ?4")?
            .execute(params![contact.0, field, day, source])?,
    };
    Ok(())
}
