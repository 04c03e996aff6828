//! Amounts with their currency, as tables write them: `12,50 €`, `EUR 1.200,00`, `$1,234.50`.

/// Reads an amount as people write it (`1.234,50`, `1,234.50`, `12,5`, `1 234`), in hundredths. A mark followed by three digits alone could be either:
/// it is refused.
///
/// # Errors
/// Says what is wrong with it.
pub fn cents(text: &str) -> Result<i64, String> {
    let no = || format!("{text:?} is no amount");
    let bare: String = text.chars().filter(|c| !c.is_whitespace() && !matches!(c, '\'' | '\u{2019}' | '\u{a0}' | '\u{202f}')).collect();
    let bare = bare.trim_matches(|c: char| !c.is_ascii_digit() && !matches!(c, '-' | '.' | ','));
    let (negative, digits) = bare.strip_prefix('-').map_or((false, bare), |rest| (true, rest));
    if digits.is_empty() || !digits.chars().all(|c| c.is_ascii_digit() || matches!(c, '.' | ',')) {
        return Err(no());
    }
    let marks: Vec<(usize, char)> = digits.char_indices().filter(|(_, c)| !c.is_ascii_digit()).collect();
    let (whole, part) = match marks.as_slice() {
        [] => (digits.to_owned(), ""),
        [(at, _)] if digits.len() - at - 1 == 3 => {
            return Err(format!("{text:?} could be two amounts: write it with two digits after the mark"));
        }
        [(at, _)] => (digits[..*at].to_owned(), &digits[at + 1..]),
        [(_, first), .., (at, last)] if first != last => (grouped(&digits[..*at], *first).ok_or_else(no)?, &digits[at + 1..]),
        // The same mark again and again: thousands.
        [(_, mark), ..] => (grouped(digits, *mark).ok_or_else(no)?, ""),
    };
    if part.len() > 2 && !part[2..].bytes().all(|b| b == b'0') {
        return Err(format!("{text:?} has parts of a hundredth"));
    }
    let whole: i64 = if whole.is_empty() { 0 } else { whole.parse().map_err(|_| no())? };
    if whole > 10_000_000_000 {
        return Err("the amount is over ten thousand million".into());
    }
    let hundredths: i64 = format!("{part:0<2}")[..2].parse().map_err(|_| no())?;
    let cents = whole * 100 + hundredths;
    Ok(if negative { -cents } else { cents })
}

/// The digits of thousands that a mark sets apart: groups of three, the first of one to three.
fn grouped(text: &str, mark: char) -> Option<String> {
    let groups: Vec<&str> = text.split(mark).collect();
    let (first, rest) = groups.split_first()?;
    let digits = |g: &str| g.bytes().all(|b| b.is_ascii_digit());
    ((1..=3).contains(&first.len()) && digits(first) && rest.iter().all(|g| g.len() == 3 && digits(g))).then(|| groups.concat())
}

/// Signs and short words that stand for money. A dollar or a crown is of several countries: what is written is the unit.
const SIGNS: [&str; 12] = ["€", "£", "$", "¥", "kr", "zł", "Kč", "Ft", "₺", "₹", "CHF", "Fr."];

/// Is it written as a currency's code is (ISO 4217)?
pub(crate) fn is_currency(cell: &str) -> bool {
    cell.len() == 3 && cell.bytes().all(|b| b.is_ascii_uppercase())
}

/// The currency at the beginning or the end of a cell, and the rest.
fn parted(cell: &str) -> Option<(&str, &str)> {
    let sign = SIGNS.iter().find_map(|s| cell.strip_suffix(s).or_else(|| cell.strip_prefix(s)).map(|rest| (*s, rest)));
    let first = || cell.split_at_checked(3).filter(|(code, _)| is_currency(code));
    let last = || cell.split_at_checked(cell.len().checked_sub(3)?).map(|(rest, code)| (code, rest)).filter(|(code, _)| is_currency(code));
    sign.or_else(first).or_else(last)
}

/// An amount with the currency it is written in, as it is written there.
#[must_use]
pub fn read(cell: &str) -> Option<(f64, &str)> {
    let cell = cell.trim();
    // A minus may stand before the sign.
    let (negative, cell) = cell.strip_prefix('-').map_or((false, cell), |rest| (true, rest.trim_start()));
    let (currency, rest) = parted(cell)?;
    let rest = rest.trim();
    if !rest.bytes().any(|b| b.is_ascii_digit()) || !rest.chars().all(|c| c.is_ascii_digit() || c.is_whitespace() || "-.,'’".contains(c))
    {
        return None;
    }
    let cents = i32::try_from(cents(rest).ok()?).ok()?;
    let amount = f64::from(cents) / 100.0;
    Some((if negative { -amount } else { amount }, currency))
}

/// The currency of a column: nine in ten of its cells are amounts, and all of those are in it.
pub(super) fn currency_of<'a>(cells: &[&'a str]) -> Option<&'a str> {
    let read: Vec<&str> = cells.iter().filter_map(|c| read(c)).map(|(_, currency)| currency).collect();
    let first = *read.first()?;
    (10 * read.len() >= 9 * cells.len() && read.iter().all(|c| *c == first)).then_some(first)
}

/// The name of a field that holds amounts of a currency: its unit stands in it.
pub(super) fn named(name: &str, currency: &str) -> String {
    let name = name.trim();
    if unit(name) == Some(currency) { name.to_owned() } else { format!("{name} ({currency})") }
}

/// The unit in a field's name: `Spent (EUR)`.
fn unit(name: &str) -> Option<&str> {
    name.trim().strip_suffix(')')?.rsplit_once('(').map(|(_, unit)| unit.trim())
}

/// The number of a cell that may be an amount, for a field of this name. A field whose name says no unit takes none: amounts of two currencies would
/// be added up.
///
/// # Errors
/// When the amount is in another currency than the field, or nobody says in which the field is.
pub fn number(field: &str, cell: &str) -> Option<Result<f64, String>> {
    let (amount, currency) = read(cell)?;
    Some(match unit(field) {
        Some(of) if of == currency => Ok(amount),
        Some(of) => Err(format!("{:?} is in {currency}, and the field in {of}", cell.trim())),
        None => Err(format!("{:?} is in {currency}: name the field “{}”, so that its unit is known", cell.trim(), named(field, currency))),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("12,50 €", Some((12.5, "€")))]
    #[case("€12.50", Some((12.5, "€")))]
    #[case("EUR 1.200,00", Some((1200.0, "EUR")))]
    #[case("1 200,5 NOK", Some((1200.5, "NOK")))]
    #[case("$1,234.50", Some((1234.5, "$")))]
    #[case("-£3", Some((-3.0, "£")))]
    #[case("£-3", Some((-3.0, "£")))]
    #[case("1.200 €", None)]
    #[case("12,50", None)]
    #[case("A12 EUR", None)]
    #[case("EUR", None)]
    #[case("", None)]
    #[case("ABC 12", Some((12.0, "ABC")))]
    fn amounts_are_read_with_their_currency(#[case] cell: &str, #[case] want: Option<(f64, &str)>) {
        assert_eq!(read(cell), want);
    }

    #[rstest]
    #[case("Spent (€)", "12,50 €", Ok(12.5))]
    #[case("Spent (EUR)", "12,50 €", Err("is in €, and the field in EUR"))]
    #[case("Spent", "12,50 €", Err("name the field “Spent (€)”"))]
    fn a_field_is_of_one_currency(#[case] field: &str, #[case] cell: &str, #[case] want: Result<f64, &str>) {
        match (number(field, cell).unwrap(), want) {
            (Ok(n), Ok(want)) => assert!((n - want).abs() < f64::EPSILON),
            (Err(words), Err(want)) => assert!(words.contains(want), "{words}"),
            (got, want) => panic!("{got:?} {want:?}"),
        }
    }

    #[rstest]
    #[case("1.234,50", Ok(123_450))]
    #[case("1,234.50", Ok(123_450))]
    #[case("12,5", Ok(1_250))]
    #[case("12.50 €", Ok(1_250))]
    #[case("£ 12", Ok(1_200))]
    #[case("-3.00", Ok(-300))]
    #[case("1 234", Ok(123_400))]
    #[case("1.234.567", Ok(123_456_700))]
    #[case("1.234.567,8", Ok(123_456_780))]
    #[case("1'234.50", Ok(123_450))]
    #[case("1,234", Err("could be two amounts"))]
    #[case("12.345,678", Err("parts of a hundredth"))]
    #[case("1,23,456.00", Err("is no amount"))]
    #[case("twelve", Err("is no amount"))]
    #[case("", Err("is no amount"))]
    #[case("99999999999999999999", Err("is no amount"))]
    fn amounts_are_read_as_people_write_them(#[case] text: &str, #[case] want: Result<i64, &str>) {
        match (cents(text), want) {
            (Err(said), Err(want)) => assert!(said.contains(want), "{said}"),
            (found, want) => assert_eq!(found.ok(), want.ok(), "{text}"),
        }
    }

    proptest! {
        /// Whatever stands in a cell, nothing panics; what is written in a currency is read back to the hundredth.
        #[test]
        fn amounts_come_back(cell in ".{0,20}", cents in -9_999_999i32..9_999_999, sign in prop::sample::select(SIGNS.to_vec()), before: bool) {
            let _ = (super::cents(&cell), read(&cell), number("x (€)", &cell));
            let (minus, whole, part) = (if cents < 0 { "-" } else { "" }, (cents / 100).abs(), (cents % 100).abs());
            prop_assert_eq!(super::cents(&format!("{minus}{whole}.{part:02}")), Ok(i64::from(cents)));
            prop_assert_eq!(super::cents(&format!("{minus}{whole},{part:02} EUR")), Ok(i64::from(cents)));
            let amount = format!("{}{}.{:02}", if cents < 0 { "-" } else { "" }, cents.abs() / 100, cents.abs() % 100);
            let cell = if before { format!("{sign} {amount}") } else { format!("{amount} {sign}") };
            let (read, unit) = read(&cell).unwrap();
            prop_assert_eq!(unit, sign);
            prop_assert!((read - f64::from(cents) / 100.0).abs() < 1e-9);
        }
    }
}
