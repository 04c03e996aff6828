//! Countries as tables write them: codes of two or three letters, or names in the common languages.

use super::plain;
use std::collections::HashMap;
use std::sync::LazyLock;

/// Codes and names by [`plain`] writing, each with the code of two letters.
static KNOWN: LazyLock<HashMap<String, &'static str>> = LazyLock::new(|| {
    let lines = include_str!("countries.tsv").lines().filter(|l| !l.starts_with('#'));
    lines.flat_map(|line| line.split('\t').map(move |name| (plain(name), &line[..2]))).collect()
});

/// The ISO 3166-1 code of a country that is written as a code of two or three letters or by its name.
///
/// # Errors
/// When it is none that is known.
pub fn read(cell: &str) -> Result<&'static str, String> {
    KNOWN.get(&plain(cell)).copied().ok_or_else(|| {
        let shown: String = cell.trim().chars().take(40).collect();
        format!("{shown:?} is no country that is known: write its code of two letters (ISO 3166-1), or its name")
    })
}

/// Is a cell a country, so that it tells what its column holds? A code only in capitals: in small letters it is more likely a language's.
pub(super) fn tells(cell: &str) -> bool {
    match cell.chars().count() {
        0 | 1 => false,
        2 | 3 => cell.bytes().all(|b| b.is_ascii_uppercase()) && read(cell).is_ok(),
        _ => read(cell).is_ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("DE", "DE")]
    #[case("no", "NO")]
    #[case("deu", "DE")]
    #[case(" Germany ", "DE")]
    #[case("Österreich", "AT")]
    #[case("osterreich", "AT")]
    #[case("États-Unis", "US")]
    #[case("etats unis", "US")]
    #[case("Norwegen", "NO")]
    #[case("Wielka Brytania", "GB")]
    #[case("UK", "GB")]
    #[case("Côte d’Ivoire", "CI")]
    #[case("COTE D'IVOIRE", "CI")]
    fn countries_are_read_as_people_write_them(#[case] cell: &str, #[case] code: &str) {
        assert_eq!(read(cell), Ok(code));
    }

    #[rstest]
    // Two countries have that name.
    #[case("Kongo")]
    #[case("Atlantis")]
    #[case("")]
    #[case("XX")]
    fn what_is_none_is_said(#[case] cell: &str) {
        assert!(read(cell).unwrap_err().contains("is no country"));
    }

    #[test]
    fn every_code_is_its_own_and_every_name_leads_back() {
        let lines: Vec<&str> = include_str!("countries.tsv").lines().filter(|l| !l.starts_with('#')).collect();
        assert_eq!(lines.len(), 249);
        for line in lines {
            let mut names = line.split('\t');
            let code = names.next().unwrap();
            assert!(tells(code), "{code}");
            assert!(names.all(|n| read(n) == Ok(code)), "{line}");
        }
    }
}
