//! Numbers in sentences, and words as they are compared.

/// Two texts are the same word when this is: without the spaces around them, in small letters.
#[must_use]
pub fn fold(text: &str) -> String {
    text.trim().to_lowercase()
}

/// "1 person", "12,480 people".
#[must_use]
pub fn people(n: u64) -> String {
    if n == 1 { "1 person".into() } else { format!("{} people", thousands(n)) }
}

/// With commas between the thousands.
#[must_use]
pub fn thousands(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A share in percent: "14.2%".
#[must_use]
pub fn percent(share: f64, digits: usize) -> String {
    format!("{:.digits$}%", share * 100.0)
}

/// "a", "a and b", "a, b and c".
#[must_use]
pub fn listed(words: &[String]) -> String {
    match words {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case(0, "0 people")]
    #[case(1, "1 person")]
    #[case(999, "999 people")]
    #[case(1_000, "1,000 people")]
    #[case(12_345_678, "12,345,678 people")]
    fn people(#[case] n: u64, #[case] want: &str) {
        assert_eq!(super::people(n), want);
    }

    #[rstest]
    #[case(7, "7")]
    #[case(1234, "1,234")]
    #[case(1_000_000, "1,000,000")]
    fn thousands(#[case] n: u64, #[case] want: &str) {
        assert_eq!(super::thousands(n), want);
    }
}
