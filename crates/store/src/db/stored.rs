//! How values of `core` stand in the file. What can't be read is an error that says what it was, and is never taken for something usual.

use rinse_core::code::{Code, Word};
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ToSqlOutput, Type, ValueRef};
use rusqlite::{Connection, Params, ToSql};

/// The numbers that a query finds, in its order.
pub(crate) fn ids(c: &Connection, sql: &str, values: impl Params) -> crate::Result<Vec<i64>> {
    ids_as(c, sql, values, |id| id)
}

/// The numbers of one kind of row that a query finds, in its order.
pub(crate) fn ids_as<T, All: FromIterator<T>>(
    c: &Connection,
    sql: &str,
    values: impl Params,
    kind: impl Fn(i64) -> T,
) -> crate::Result<All> {
    Ok(c.prepare_cached(sql)?.query_map(values, |r| r.get(0).map(&kind))?.collect::<rusqlite::Result<_>>()?)
}

/// A value that stands as its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct As<T>(pub(crate) T);

impl<T: Code> FromSql for As<T> {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
        let code = value.as_i64()?;
        T::of_code(code).map(Self).ok_or_else(|| FromSqlError::Other(format!("{code} is no {} that this Rinse knows", T::WHAT).into()))
    }
}

impl<T: Code> ToSql for As<T> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(self.0.code().into())
    }
}

/// A value that stands as its word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Worded<T>(pub(crate) T);

impl<T: Word> FromSql for Worded<T> {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
        let word = value.as_str()?;
        T::of_word(word).map(Self).ok_or_else(|| FromSqlError::Other(format!("“{word}” is no {} that this Rinse knows", T::WHAT).into()))
    }
}

impl<T: Word> ToSql for Worded<T> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(self.0.word().into())
    }
}

/// A stored document of a row; `table` and `id` say where it stands when it can't be read.
pub(crate) fn document<T: serde::de::DeserializeOwned>(text: &str, table: &str, id: i64) -> rusqlite::Result<T> {
    serde_json::from_str(text).map_err(|e| {
        rusqlite::Error::FromSqlConversionFailure(0, Type::Text, format!("{table} {id} holds a document that is none ({e})").into())
    })
}
