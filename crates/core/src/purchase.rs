//! Purchases as files and events carry them.

use crate::Instant;
use crate::address::Address;
use crate::segment::FieldKind;
use crate::segment::person::Value;
use serde::Deserialize;
use std::collections::HashMap;

/// One purchase, or a refund when the value is negative.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Purchase {
    /// The shop's own key: the same purchase twice is one.
    pub key: String,
    pub address: Address,
    pub at: Instant,
    /// Hundredths of the currency.
    pub cents: i64,
    pub currency: String,
    pub product: String,
    pub category: String,
}

#[derive(Deserialize)]
struct Line {
    key: String,
    address: String,
    at: String,
    value: serde_json::Number,
    currency: String,
    product: String,
    #[serde(default)]
    category: String,
}

/// The columns that a CSV of purchases needs, in our words.
pub const COLUMNS: [&str; 6] = ["key", "address", "at", "value", "currency", "product"];

fn purchase(key: &str, address: &str, at: &str, value: &str, currency: &str, product: &str, category: &str) -> Result<Purchase, String> {
    let key = key.trim();
    if key.is_empty() || key.len() > 200 {
        return Err("the key is empty or over 200 bytes: give each purchase one of its own".into());
    }
    let currency = currency.trim().to_uppercase();
    if currency.len() != 3 || !currency.bytes().all(|b| b.is_ascii_uppercase()) {
        return Err(format!("{currency:?} is no currency: write its three letters, as in GBP"));
    }
    if product.trim().is_empty() {
        return Err("the product is missing".into());
    }
    let Value::Number(value) = Value::read(FieldKind::Number, value)? else { return Err("the value is no number".into()) };
    let cents = (value * 100.0).round();
    if cents.abs() > 1e12 {
        return Err("the value is over ten thousand million".into());
    }
    let at = instant(at).ok_or_else(|| format!("{at:?} is not an instant: write it as 2026-04-16T08:00:00Z, or a date"))?;
    let short = |t: &str| t.trim().chars().take(200).collect::<String>();
    Ok(Purchase {
        key: key.to_owned(),
        address: Address::parse(address).map_err(|e| e.to_string())?,
        at,
        #[allow(clippy::cast_possible_truncation)]
        cents: cents as i64,
        currency,
        product: short(product),
        category: short(category),
    })
}

/// An instant with its zone (RFC 3339), or a date, which means its first moment in UTC.
pub(crate) fn instant(text: &str) -> Option<Instant> {
    let text = text.trim();
    if let Ok(t) = text.parse::<jiff::Timestamp>() {
        return Some(Instant::of(t.as_millisecond()));
    }
    crate::segment::evaluate::parse_date(text).map(|day| Instant::of(day * crate::DAY))
}

/// Reads a line of NDJSON.
///
/// # Errors
/// Says what is wrong with it.
pub fn from_json(line: &str) -> Result<Purchase, String> {
    let l: Line = serde_json::from_str(line).map_err(|e| format!("the line is no purchase: {e}"))?;
    purchase(&l.key, &l.address, &l.at, &l.value.to_string(), &l.currency, &l.product, &l.category)
}

/// Which column of a header holds what: those that are needed, then one more by choice.
///
/// # Errors
/// Names the columns that are missing.
pub fn columns(header: &[&str], needed: &[&'static str], more: &'static str) -> Result<HashMap<&'static str, usize>, String> {
    let at = |name: &str| header.iter().position(|h| h.trim().eq_ignore_ascii_case(name));
    let mut found: HashMap<&'static str, usize> = needed.iter().filter_map(|name| Some((*name, at(name)?))).collect();
    let missing: Vec<&str> = needed.iter().copied().filter(|n| !found.contains_key(n)).collect();
    if !missing.is_empty() {
        return Err(format!("The header lacks {}. Name the columns {} and, if you like, {more}.", missing.join(", "), needed.join(", ")));
    }
    if let Some(i) = at(more) {
        found.insert(more, i);
    }
    Ok(found)
}

/// Reads a record of a CSV whose columns are known.
///
/// # Errors
/// Says what is wrong with it.
pub fn from_record(cells: &[&str], columns: &HashMap<&'static str, usize>) -> Result<Purchase, String> {
    let cell = |name: &str| columns.get(name).and_then(|i| cells.get(*i)).copied().unwrap_or_default();
    purchase(cell("key"), cell("address"), cell("at"), cell("value"), cell("currency"), cell("product"), cell("category"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn csv_and_ndjson_say_the_same() {
        let header = ["Product", "key", "ADDRESS", "at", "value", "currency", "category"];
        let record = ["Storm lantern", "s-1", "Wren@Tern.example", "2026-04-16T09:30:00+01:00", "89.50", "gbp", "light"];
        let a = from_record(&record, &columns(&header, &COLUMNS, "category").unwrap()).unwrap();
        let b = from_json(
            r#"{"key":"s-1","address":"Wren@tern.example","at":"2026-04-16T08:30:00Z","value":89.5,"currency":"GBP","product":"Storm lantern","category":"light"}"#,
        );
        assert_eq!((a.cents, &a), (8_950, b.as_ref().unwrap()));
        assert!(columns(&["key", "address"], &COLUMNS, "category").unwrap_err().contains("lacks at, value, currency, product"));
    }

    #[rstest]
    #[case("", "w@tern.example", "2026-04-16", "1", "GBP", "x", "the key is empty")]
    #[case("k", "w at tern", "2026-04-16", "1", "GBP", "x", "no @")]
    #[case("k", "w@tern.example", "yesterday", "1", "GBP", "x", "not an instant")]
    #[case("k", "w@tern.example", "2026-04-16", "1,000", "GBP", "x", "two numbers")]
    #[case("k", "w@tern.example", "2026-04-16", "1e300", "GBP", "x", "over ten thousand million")]
    #[case("k", "w@tern.example", "2026-04-16", "1", "pounds", "x", "three letters")]
    #[case("k", "w@tern.example", "2026-04-16", "1", "GBP", " ", "product is missing")]
    fn refuses_with_a_reason(
        #[case] key: &str,
        #[case] address: &str,
        #[case] at: &str,
        #[case] value: &str,
        #[case] currency: &str,
        #[case] product: &str,
        #[case] words: &str,
    ) {
        assert!(purchase(key, address, at, value, currency, product, "").unwrap_err().contains(words));
    }
}
