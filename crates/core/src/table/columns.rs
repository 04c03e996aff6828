//! What a table's columns hold: by their names in the common languages, and by what stands in them, whatever they are called.

use super::{Field, TableError, country, money};
use crate::address::Address;
use crate::bounce::is_reply_line;
use crate::segment::FieldKind;
use crate::segment::person::Value;
use crate::words::fold;
use crate::zone;

/// The column of a table that holds addresses, by what stands in it: most of its cells are one.
#[must_use]
pub fn address_column(records: &[Vec<String>]) -> Option<usize> {
    let wide = records.iter().map(Vec::len).max()?;
    let count = |i: usize| {
        let cells: Vec<&str> = records.iter().filter_map(|r| r.get(i)).map(|c| c.trim()).filter(|c| !c.is_empty()).collect();
        let found = cells.iter().filter(|c| crate::address::Address::parse(c).is_ok()).count();
        // One cell of each column may be its header.
        (2 * found >= cells.len().saturating_sub(1).max(1)).then_some(found)
    };
    // Of two like columns the first.
    (0..wide).filter_map(|i| Some((count(i).filter(|n| *n > 0)?, std::cmp::Reverse(i)))).max().map(|(_, i)| i.0)
}

/// Names of columns, as [`plain`] writes them, in English, German, French, Spanish, Italian, Portuguese, Dutch, Swedish, Danish, Norwegian, Finnish,
/// Polish and Czech.
const NAMES: &[(Field, &[&str])] = &[
    (
        Field::Address,
        &[
            "email",
            "mail",
            "address",
            "emailaddress",
            "mailaddress",
            "kontakt",
            "emailadresse",
            "mailadresse",
            "adressemail",
            "adresseemail",
            "adresseelectronique",
            "courriel",
            "mel",
            "correo",
            "correoelectronico",
            "direcciondecorreo",
            "indirizzoemail",
            "postaelettronica",
            "enderecodeemail",
            "correioeletronico",
            "emailadres",
            "epost",
            "epostadress",
            "epostadresse",
            "sahkoposti",
            "sahkopostiosoite",
            "adresemail",
            "emailovaadresa",
        ],
    ),
    (
        Field::GivenName,
        &[
            "givenname",
            "firstname",
            "given",
            "first",
            "forename",
            "vorname",
            "rufname",
            "prenom",
            "nombre",
            "nome",
            "primeironome",
            "voornaam",
            "fornamn",
            "fornavn",
            "etunimi",
            "imie",
            "jmeno",
            "krestnijmeno",
        ],
    ),
    (
        Field::FamilyName,
        &[
            "familyname",
            "lastname",
            "surname",
            "family",
            "last",
            "nachname",
            "familienname",
            "zuname",
            "nom",
            "nomdefamille",
            "apellido",
            "apellidos",
            "cognome",
            "sobrenome",
            "apelido",
            "achternaam",
            "efternamn",
            "etternavn",
            "efternavn",
            "sukunimi",
            "nazwisko",
            "prijmeni",
        ],
    ),
    (
        Field::Phone,
        &[
            "phone",
            "phonenumber",
            "mobile",
            "mobilephone",
            "mobilenumber",
            "cell",
            "cellphone",
            "telephone",
            "tel",
            "telefon",
            "telefonnummer",
            "handy",
            "handynummer",
            "mobil",
            "mobilnummer",
            "mobiltelefon",
            "portable",
            "telephoneportable",
            "movil",
            "telefono",
            "telefonomovil",
            "cellulare",
            "telemovel",
            "celular",
            "telefone",
            "telefoon",
            "telefoonnummer",
            "mobiel",
            "puhelin",
            "matkapuhelin",
            "numertelefonu",
        ],
    ),
    (
        Field::Country,
        &[
            "country",
            "countrycode",
            "land",
            "landcode",
            "landeskennung",
            "laendercode",
            "landercode",
            "landerkurzel",
            "laenderkuerzel",
            "landescode",
            "pays",
            "codepays",
            "pais",
            "paese",
            "nazione",
            "maa",
            "kraj",
            "zeme",
        ],
    ),
    (
        Field::TimeZone,
        &[
            "timezone",
            "zone",
            "tz",
            "zeitzone",
            "fuseauhoraire",
            "fuseau",
            "zonahoraria",
            "husohorario",
            "fusoorario",
            "fusohorario",
            "tijdzone",
            "tidszon",
            "tidszone",
            "tidssone",
            "aikavyohyke",
            "strefaczasowa",
            "casovepasmo",
        ],
    ),
    (
        Field::Source,
        &[
            "source",
            "origin",
            "joinedvia",
            "quelle",
            "herkunft",
            "provenance",
            "origine",
            "origen",
            "fuente",
            "fonte",
            "origem",
            "bron",
            "herkomst",
            "kalla",
            "kilde",
            "lahde",
            "zrodlo",
            "zdroj",
        ],
    ),
    (
        Field::Region,
        &[
            "region",
            "county",
            "state",
            "province",
            "bundesland",
            "kanton",
            "departement",
            "provincia",
            "estado",
            "regione",
            "regiao",
            "provincie",
            "lan",
            "fylke",
            "maakunta",
            "wojewodztwo",
        ],
    ),
    (Field::Latitude, &["latitude", "lat", "breitengrad", "geobreite", "latitud", "latitudine", "breedtegraad"]),
    (
        Field::Longitude,
        &["longitude", "lon", "lng", "laengengrad", "langengrad", "geolaenge", "geolange", "longitud", "longitudine", "lengtegraad"],
    ),
    (Field::ScoreDate, &["scoredate", "scoredon"]),
    (Field::ScoreSource, &["scoresource", "scoredby"]),
];

/// A name as it is compared: small letters without marks, and digits; nothing else.
pub(crate) fn plain(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for c in name.to_lowercase().chars() {
        match c {
            'á' | 'à' | 'â' | 'ã' | 'å' | 'ą' | 'ä' => out.push('a'),
            'é' | 'è' | 'ê' | 'ë' | 'ę' | 'ě' => out.push('e'),
            'í' | 'ì' | 'î' | 'ï' => out.push('i'),
            'ó' | 'ò' | 'ô' | 'õ' | 'ö' | 'ø' => out.push('o'),
            'ú' | 'ù' | 'û' | 'ü' | 'ů' => out.push('u'),
            'ý' => out.push('y'),
            'ç' | 'ć' | 'č' => out.push('c'),
            'ñ' | 'ń' | 'ň' => out.push('n'),
            'ł' => out.push('l'),
            'ř' => out.push('r'),
            'š' | 'ś' => out.push('s'),
            'ž' | 'ź' | 'ż' => out.push('z'),
            'ß' => out.push_str("ss"),
            c if c.is_alphanumeric() => out.push(c),
            _ => {}
        }
    }
    out
}

fn by_name(name: &str) -> Option<Field> {
    let name = plain(name);
    NAMES.iter().find(|(_, names)| names.contains(&name.as_str())).map(|(field, _)| field.clone())
}

/// A zone by its whole name: `UTC` and `GMT` alone say little of what a column is.
fn is_zone(cell: &str) -> bool {
    cell.contains('/') && zone::named(cell).is_some()
}

/// A number with its country code, as E.164 writes it, spaces and hyphens aside.
fn is_phone(cell: &str) -> bool {
    let Some(rest) = cell.strip_prefix('+').or_else(|| cell.strip_prefix("00")) else { return false };
    let digits = rest.bytes().filter(u8::is_ascii_digit).count();
    (8..=15).contains(&digits) && rest.bytes().all(|b| b.is_ascii_digit() || b" -()/.".contains(&b))
}

/// What a column is taken for by its cells alone: a zone, a country, a phone number where nine in ten are one; with a name also a field of that
/// name, of amounts in one currency, of dates, numbers, yes and no, or of what mail hosts said. Words alone say nothing of what they mean.
fn by_cells(name: &str, cells: &[&str]) -> Option<Field> {
    if cells.is_empty() {
        return None;
    }
    let most = |is: fn(&str) -> bool| 10 * cells.iter().filter(|c| is(c)).count() >= 9 * cells.len();
    let told: [(fn(&str) -> bool, Field); 3] = [(is_zone, Field::TimeZone), (country::tells, Field::Country), (is_phone, Field::Phone)];
    if let Some((_, field)) = told.into_iter().find(|(is, _)| most(*is)) {
        return Some(field);
    }
    let name = name.trim();
    if name.is_empty() {
        return None;
    }
    let (kind, name) = match money::currency_of(cells) {
        Some(currency) => (FieldKind::Number, money::named(name, currency)),
        None => (guess_kind(cells.iter().copied()), name.to_owned()),
    };
    let tells = matches!(kind, FieldKind::Date | FieldKind::Number | FieldKind::YesNo) || most(is_reply_line);
    (tells && name.chars().count() <= LONGEST_NAME).then_some(Field::Own { name, kind })
}

/// A custom field's name has so many characters at most.
const LONGEST_NAME: usize = 60;

/// Proposes what each column is taken for: by its name, then by its cells. None: it is left out until somebody says what it is.
///
/// # Errors
/// When no column can hold the address.
pub fn propose_mapping(records: &[Vec<String>], header: bool) -> Result<Vec<Option<Field>>, TableError> {
    let width = records.iter().map(Vec::len).max().unwrap_or(0);
    let body = &records[usize::from(header).min(records.len())..];
    let addresses = |c: usize| body.iter().filter(|r| r.get(c).is_some_and(|v| Address::parse(v).is_ok())).count();
    let name = |c: usize| records.first().filter(|_| header).and_then(|r| r.get(c)).map_or("", String::as_str);
    let mut mapping: Vec<Option<Field>> = vec![None; width];
    for c in 0..width {
        let field = by_name(name(c));
        if field.is_some() && !mapping.contains(&field) {
            mapping[c] = field;
        }
    }
    let best = (0..width).max_by_key(|c| (addresses(*c), width - c)).filter(|c| addresses(*c) > 0);
    let named = mapping.iter().position(|m| *m == Some(Field::Address));
    match (named, best) {
        (Some(n), Some(b)) if addresses(n) == 0 => {
            mapping[n] = None;
            mapping[b] = Some(Field::Address);
        }
        (None, Some(b)) => mapping[b] = Some(Field::Address),
        (None, None) => return Err(TableError::NoAddressColumn),
        _ => {}
    }
    for c in 0..width {
        if mapping[c].is_some() {
            continue;
        }
        let cells: Vec<&str> = body.iter().filter_map(|r| r.get(c)).map(|v| v.trim()).filter(|v| !v.is_empty()).collect();
        let field = by_cells(name(c), &cells);
        let same = |other: &Field| match (&field, other) {
            (Some(Field::Own { name, .. }), Field::Own { name: other, .. }) => fold(name) == fold(other),
            (field, other) => field.as_ref() == Some(other),
        };
        if !mapping.iter().flatten().any(same) {
            mapping[c] = field;
        }
    }
    Ok(mapping)
}

/// What kind of field the cells of a column would fill: the narrowest that reads nine in ten of them,
/// since a broken cell says nothing about the column.
#[must_use]
pub fn guess_kind<'a>(cells: impl Iterator<Item = &'a str> + Clone) -> FieldKind {
    let filled = || cells.clone().map(str::trim).filter(|c| !c.is_empty());
    let fits = |kind| {
        let (all, read) = filled().fold((0, 0), |(n, r), c| (n + 1, r + usize::from(Value::read(kind, c).is_ok())));
        all > 0 && read * 10 >= all * 9
    };
    let words: std::collections::HashSet<&str> = filled().collect();
    // 0 and 1 alone are more often counts than answers.
    let all_digits = filled().all(|c| c.bytes().all(|b| b.is_ascii_digit()));
    if fits(FieldKind::YesNo) && !all_digits {
        FieldKind::YesNo
    } else if fits(FieldKind::Number) {
        FieldKind::Number
    } else if fits(FieldKind::Date) {
        FieldKind::Date
    } else if !words.is_empty() && words.len() <= 12 && filled().count() >= words.len() * 3 {
        FieldKind::Choice
    } else {
        FieldKind::Text
    }
}

#[cfg(test)]
mod tests {
    use super::super::has_header;
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn rows(r: &[&[&str]]) -> Vec<Vec<String>> {
        r.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect()
    }

    fn own(name: &str, kind: FieldKind) -> Option<Field> {
        Some(Field::Own { name: name.into(), kind })
    }

    #[test]
    fn columns_are_told_in_other_languages_and_by_what_they_hold() {
        let german = rows(&[
            &["E-Mail-Adresse", "Vorname", "Nachname", "Zeitzone", "Land", "Mitglied seit", "Bootsfahrten", "Newsletter", "Bemerkung"],
            &["jorun.brand@tern.example", "Jorun", "Brand", "Europe/Berlin", "DE", "3.5.2024", "4", "ja", "mag Seehunde"],
            &["ole.kliff@tern.example", "Ole", "Kliff", "Europe/Oslo", "NO", "17.11.2023", "0,5", "nein", ""],
        ]);
        let said = propose_mapping(&german, true).unwrap();
        let want = [
            Some(Field::Address),
            Some(Field::GivenName),
            Some(Field::FamilyName),
            Some(Field::TimeZone),
            Some(Field::Country),
            own("Mitglied seit", FieldKind::Date),
            own("Bootsfahrten", FieldKind::Number),
            own("Newsletter", FieldKind::YesNo),
            None,
        ];
        assert_eq!(said, want);
        // Under names that say nothing, and without any, what stands in them does.
        let nameless = rows(&[
            &["kliff@tern.example", "+47 912 34 567", "Europe/Oslo", "NO", "5"],
            &["brand@tern.example", "+49 151 2345678", "Europe/Berlin", "DE", "7"],
        ]);
        let said = propose_mapping(&nameless, false).unwrap();
        assert_eq!(said, [Some(Field::Address), Some(Field::Phone), Some(Field::TimeZone), Some(Field::Country), None]);
        let french = rows(&[&["Prénom", "Courriel", "Fuseau horaire"], &["Aïcha", "a@tern.example", "Europe/Paris"]]);
        assert_eq!(propose_mapping(&french, true).unwrap(), [Some(Field::GivenName), Some(Field::Address), Some(Field::TimeZone)]);
    }

    #[test]
    fn names_of_countries_amounts_and_replies_are_told_by_what_they_are() {
        let table = rows(&[
            &["Wohin", "Woher", "Umsatz", "Beitrag", "Letzte Antwort", "Durchwahl"],
            &["a@tern.example", "Deutschland", "1.234,50 €", "12 €", "550 5.1.1 unbekannt", "250-5550134"],
            &["b@tern.example", "Österreich", "17,00 €", "$12", "250 2.0.0 angenommen", "251-5550134"],
        ]);
        let said = propose_mapping(&table, true).unwrap();
        let amount = own("Umsatz (€)", FieldKind::Number);
        assert_eq!(said, [Some(Field::Address), Some(Field::Country), amount, None, own("Letzte Antwort", FieldKind::Text), None]);
        // Without a name there is nothing to call the field by.
        let nameless = rows(&[&["a@tern.example", "1.234,50 €"], &["b@tern.example", "17,00 €"]]);
        assert_eq!(propose_mapping(&nameless, false).unwrap(), [Some(Field::Address), None]);
    }

    #[rstest]
    // One language code that is no country's tells the column.
    #[case(&["de", "en", "fr"], false)]
    #[case(&["DE", "EN", "FR"], false)]
    #[case(&["DE", "GB", "FR"], true)]
    fn a_country_is_told_from_a_language(#[case] cells: &[&str], #[case] country: bool) {
        assert_eq!(by_cells("sprache", cells) == Some(Field::Country), country);
    }

    proptest! {
        /// Whatever stands in a table: nothing is taken for two columns, and an address column holds an address.
        #[test]
        fn no_two_columns_are_the_same(cells in prop::collection::vec(prop::collection::vec(prop::sample::select(vec![
            "a@tern.example", "Europe/Oslo", "DE", "1.5.2024", "7", "yes", "", "+4791234567", "Vorname", "Land", "x",
        ]), 1..6), 1..6), header: bool) {
            let table: Vec<Vec<String>> = cells.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect();
            if let Ok(said) = propose_mapping(&table, header) {
                let some: Vec<&Field> = said.iter().flatten().collect();
                prop_assert!(some.iter().enumerate().all(|(i, f)| !some[..i].contains(f)));
                let at = said.iter().position(|f| *f == Some(Field::Address)).unwrap();
                prop_assert!(table.iter().any(|r| r.get(at).is_some_and(|c| Address::parse(c).is_ok())));
                prop_assert!(address_column(&table).is_none_or(|c| table.iter().any(|r| r.get(c).is_some_and(|c| c.contains('@')))));
            }
        }
    }

    #[test]
    fn addresses_are_found_wherever_they_stand() {
        assert_eq!(address_column(&rows(&[&["id", "Kontaktweg"], &["1", "a@tern.example"], &["2", "b@tern.example"]])), Some(1));
        assert_eq!(address_column(&rows(&[&["a@tern.example"], &["nobody"]])), Some(0));
        assert_eq!(address_column(&rows(&[&["id"], &["1"], &["2"]])), None);
        assert_eq!(address_column(&[]), None);
    }

    #[rstest]
    #[case(&["3", "", "12"], FieldKind::Number)]
    #[case(&["0", "1"], FieldKind::Number)]
    #[case(&["yes", "No"], FieldKind::YesNo)]
    #[case(&["2024-05-01", "1.6.2024"], FieldKind::Date)]
    #[case(&["gold", "gold", "oil", "gold", "oil", "oil"], FieldKind::Choice)]
    #[case(&["gold", "oil"], FieldKind::Text)]
    #[case(&["", " "], FieldKind::Text)]
    fn columns_say_what_they_hold(#[case] cells: &[&str], #[case] want: FieldKind) {
        assert_eq!(guess_kind(cells.iter().copied()), want);
    }

    #[test]
    fn finds_the_address_column_by_name_or_by_content() {
        let rows = |r: &[&[&str]]| r.iter().map(|r| r.iter().map(|c| (*c).to_owned()).collect()).collect::<Vec<Vec<String>>>();
        let named = rows(&[&["First name", "E-mail"], &["Wren", "wren@tern.example"]]);
        assert!(has_header(&named));
        assert_eq!(propose_mapping(&named, true).unwrap(), [Some(Field::GivenName), Some(Field::Address)]);
        let bare = rows(&[&["Wren", "wren@tern.example"]]);
        assert!(!has_header(&bare));
        assert_eq!(propose_mapping(&bare, false).unwrap(), [None, Some(Field::Address)]);
        assert_eq!(propose_mapping(&rows(&[&["a", "b"], &["1", "2"]]), true), Err(TableError::NoAddressColumn));
    }
}
