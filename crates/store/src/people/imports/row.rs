//! One row of a file, as it would land.

use crate::contacts::Profile;
use crate::fields;
use rinse_core::address::Address;
use rinse_core::phone::Phone;
use rinse_core::segment::FieldKind;
use rinse_core::segment::person::Value;
use rinse_core::table::{self, Field, country};

pub(super) struct Row {
    pub address: Address,
    pub profile: Profile,
    pub phone: Option<Phone>,
    /// Values of custom fields, by column.
    pub own: Vec<(usize, Value)>,
    pub score: Option<Score>,
    /// The address was mistyped and corrected.
    pub corrected: bool,
}

pub(super) struct Score {
    pub number: f64,
    pub day: i64,
    pub source: String,
}

/// What the whole file says of each of its rows.
#[derive(Debug, Clone, Copy)]
pub(super) struct Layout<'a> {
    pub mapping: &'a [Option<Field>],
    pub width: usize,
    pub file: &'a str,
    /// The country of phone numbers without a code, of people without a country.
    pub home: Option<&'a str>,
}

/// Reads a record by the mapping, or says why it is refused.
pub(super) fn read<S: AsRef<str>>(cells: &[S], l: Layout<'_>) -> Result<Row, String> {
    let Layout { mapping, width, file, home } = l;
    if cells.len() != width {
        if cells.iter().next().is_some_and(|c| c.as_ref().trim_start().starts_with(['{', '['])) {
            return Err("the line is no JSON object that can be read".into());
        }
        return Err(format!("the row has {} fields, the file has {width}", cells.len()));
    }
    let mut p = Profile::default();
    let (mut address, mut own) = (None, Vec::new());
    let (mut latitude, mut longitude) = (None, None);
    let (mut score, mut day, mut source) = (None, None, None);
    let mut phone = None;
    for (column, (cell, field)) in cells.iter().zip(mapping).enumerate() {
        let text = table::meant_cell(cell.as_ref().trim());
        let value = (!text.is_empty()).then(|| text.chars().take(200).collect::<String>());
        match field {
            Some(Field::Address) => address = Some(Address::parse(text).map_err(|e| e.to_string())?),
            Some(Field::GivenName) => p.given_name = value,
            Some(Field::FamilyName) => p.family_name = value,
            Some(Field::Country) => p.country = value.map(|v| country::read(&v)).transpose()?.map(str::to_owned),
            Some(Field::Phone) => phone = value,
            Some(Field::Region) => p.region = value,
            Some(Field::TimeZone) => p.zone = value,
            Some(Field::Source) => p.source = value,
            Some(Field::Latitude) => latitude = value.map(|v| degrees(&v, 90.0)).transpose()?,
            Some(Field::Longitude) => longitude = value.map(|v| degrees(&v, 180.0)).transpose()?,
            Some(Field::Score { name }) => score = Some(Value::read(FieldKind::Number, text).map_err(|e| format!("{name}: {e}"))?),
            Some(Field::ScoreDate) => day = Some(Value::read(FieldKind::Date, text).map_err(|e| format!("the score's date: {e}"))?),
            Some(Field::ScoreSource) => source = value,
            Some(Field::Own { name, kind }) if value.is_some() => {
                own.push((column, fields::read(name, *kind, text)?));
            }
            Some(Field::Own { .. }) | None => {}
        }
    }
    let phone = phone.map(|text| Phone::of(&text, p.country.as_deref(), home)).transpose().map_err(|e| e.to_string())?;
    p.position = latitude.zip(longitude);
    let score = match (score, day) {
        (Some(Value::Number(number)), Some(Value::Date(day))) => {
            Some(Score { number, day, source: source.unwrap_or_else(|| file.to_owned()) })
        }
        _ => None,
    };
    let row = |address| Row { address, profile: p, phone, own, score, corrected: false };
    address.map(row).ok_or_else(|| "no column is mapped to the address".to_owned())
}

fn degrees(text: &str, most: f64) -> Result<f64, String> {
    match Value::read(FieldKind::Number, text)? {
        Value::Number(n) if n.abs() <= most => Ok(n),
        _ => Err(format!("{text:?} is not between -{most} and {most} degrees")),
    }
}
