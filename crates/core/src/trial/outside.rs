//! A results table from any sender, read with the rigour of a trial of our own, and with what can't be known of it. Nothing
//! was sealed, so nothing is ever called.

use crate::stats::adjust::{Adjustment, adjust_p_values};
use crate::stats::agreeing::compare_shares;
use crate::stats::beta_binomial::{Prior, beta_binomial};
use crate::stats::goodness_of_fit::{ChiSquare, sample_ratio_mismatch};
use crate::stats::homogeneity::chi_square_homogeneity;
use crate::stats::proportion::{Method, proportion_interval};
use crate::stats::{Arm, StatsError};
use serde::Serialize;

/// Why a table can't be read. Each says what to change.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum OutsideError {
    #[error("The table has no rows under its header: give a row for each variant.")]
    Empty,
    #[error("No column says how many people each variant went to. Call it sent.")]
    NoSent,
    #[error("No column counts what people did (opens, clicks, unsubscribes, …).")]
    NoMetric,
    #[error("There is one variant only: there is nothing to compare it with.")]
    OneVariant,
    #[error("There are {0} variants; at most 20 are compared.")]
    TooMany(usize),
    #[error("Line {line}, column {column}: {cell:?} is no whole number. Give counts, not rates.")]
    NoCount { line: usize, column: String, cell: String },
    #[error(
        "Line {line}, column {column}: {cell:?} may be a decimal, as other numbers over 999 have no point. Write counts without points."
    )]
    Decimal { line: usize, column: String, cell: String },
    #[error("Line {line}, column {column}: {cell:?} is more than a thousand million. Give counts of people.")]
    TooLarge { line: usize, column: String, cell: String },
    #[error("Column {0} is a rate by its name. Give how many people it was, or take the column out.")]
    RateColumn(String),
    #[error("Line {line}: {count} {column} of {sent} sent can't be.")]
    MoreThanSent { line: usize, column: String, count: u64, sent: u64 },
    #[error(transparent)]
    Stats(#[from] StatsError),
}

/// What people did, variant by variant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Counted {
    pub name: String,
    pub counts: Vec<u64>,
}

/// A table of results.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Results {
    pub variants: Vec<String>,
    pub sent: Vec<u64>,
    pub metrics: Vec<Counted>,
}

const NAMES: [&str; 7] = ["variant", "arm", "version", "group", "name", "subject", "subject line"];
const SENT: [&str; 8] = ["sent", "assigned", "people", "recipients", "mailed", "total", "n", "size"];
/// Metrics that do harm when they rise, by a part of their name.
const HARM: [&str; 8] = ["unsub", "complain", "spam", "bounce", "leav", "left", "opt-out", "fail"];

/// What parts thousands.
const PARTERS: [char; 7] = [',', '.', ' ', '\u{a0}', '\u{202f}', '\'', '’'];
/// The largest count.
const MOST: u64 = 1_000_000_000;

/// A whole number, its thousands parted by commas, points, spaces or apostrophes. What begins with a 0 is no thousands, but a decimal.
fn count(cell: &str) -> Option<u64> {
    let cell = cell.trim();
    if cell.len() > 1 && cell.starts_with('0') || !cell.starts_with(|c: char| c.is_ascii_digit()) {
        return None;
    }
    if cell.contains(PARTERS) {
        let groups: Vec<&str> = cell.split(PARTERS).collect();
        if groups[0].len() > 3 || groups[1..].iter().any(|g| g.len() != 3) {
            return None;
        }
        return groups.concat().parse().ok();
    }
    cell.parse().ok()
}

/// Is it meant as a number, whether or not it is a count?
fn numeric(cell: &str) -> bool {
    cell.trim_start_matches(['-', '−', '+', '(', '.', ',', ' ', '$', '€', '£']).starts_with(|c: char| c.is_ascii_digit())
}

/// Can it be a variant's name: no number of any kind?
fn is_name(cell: &str) -> bool {
    count(cell).is_none() && cell.trim_end_matches([' ', '%']).replace(',', ".").parse::<f64>().is_err()
}

/// Is a heading that of a rate: "Click rate", "CTR", "opens (%)"?
fn names_a_rate(heading: &str) -> bool {
    const RATES: [&str; 8] = ["rate", "rates", "ctr", "ctor", "percent", "percentage", "pct", "share"];
    const OF: [&str; 7] = ["open", "click", "bounce", "conversion", "response", "reply", "unsubscribe"];
    let word = |w: &str| RATES.contains(&w) || w.strip_suffix("rate").is_some_and(|of| OF.contains(&of));
    heading.contains('%') || heading.to_lowercase().split(|c: char| !c.is_alphabetic()).any(word)
}

impl Results {
    /// Reads a table: a header, then a row a variant. Columns without a single count in them are words, and left out.
    ///
    /// # Errors
    /// What stands in the way, by line and column.
    pub fn read(rows: &[Vec<String>]) -> Result<Self, OutsideError> {
        let Some((header, rows)) = rows.split_first() else { return Err(OutsideError::Empty) };
        let lines: Vec<(usize, &Vec<String>)> = (2..).zip(rows).filter(|(_, r)| r.iter().any(|c| !c.trim().is_empty())).collect();
        match lines.len() {
            0 => return Err(OutsideError::Empty),
            1 => return Err(OutsideError::OneVariant),
            n if n > 20 => return Err(OutsideError::TooMany(n)),
            _ => {}
        }
        let title = |i: usize| header[i].trim().to_lowercase();
        let find = |words: &[&str]| (0..header.len()).find(|i| words.contains(&title(*i).as_str()));
        let sent_at = find(&SENT).ok_or(OutsideError::NoSent)?;
        let cell = |row: &Vec<String>, i: usize| row.get(i).map(|c| c.trim().to_owned()).unwrap_or_default();
        let name_at = find(&NAMES).or_else(|| (0..header.len()).find(|i| lines.iter().all(|(_, r)| is_name(&cell(r, *i)))));
        // A point parts thousands only where every number over 999 has one: else 1.234 may be little more than 1.
        let all = || lines.iter().flat_map(|(_, row)| (0..header.len()).map(|i| cell(row, i)));
        let points_part = all().all(|c| c.contains('.') || count(&c).is_none_or(|n| n <= 999));
        let column = |i: usize| -> Result<Vec<u64>, OutsideError> {
            lines
                .iter()
                .map(|(line, row)| {
                    let (line, column, cell) = (*line, header[i].trim().to_owned(), cell(row, i));
                    match count(&cell) {
                        Some(n) if n > MOST => Err(OutsideError::TooLarge { line, column, cell }),
                        Some(_) if cell.contains('.') && !points_part => Err(OutsideError::Decimal { line, column, cell }),
                        Some(n) => Ok(n),
                        None => Err(OutsideError::NoCount { line, column, cell }),
                    }
                })
                .collect()
        };
        let sent = column(sent_at)?;
        let mut metrics = Vec::new();
        for (i, heading) in header.iter().enumerate() {
            let words = lines.iter().all(|(_, r)| !numeric(&cell(r, i)));
            if i == sent_at || Some(i) == name_at || words {
                continue;
            }
            if names_a_rate(heading) {
                return Err(OutsideError::RateColumn(heading.trim().to_owned()));
            }
            let counts = column(i)?;
            for ((line, _), (count, sent)) in lines.iter().zip(counts.iter().zip(&sent)) {
                if count > sent {
                    return Err(OutsideError::MoreThanSent {
                        line: *line,
                        column: header[i].trim().to_owned(),
                        count: *count,
                        sent: *sent,
                    });
                }
            }
            metrics.push(Counted { name: heading.trim().to_owned(), counts });
        }
        if metrics.is_empty() {
            return Err(OutsideError::NoMetric);
        }
        let variants = (0..).zip(&lines).map(|(i, (_, row))| {
            let own = name_at.map(|at| cell(row, at)).unwrap_or_default();
            if own.is_empty() { super::letter(i).to_string() } else { own }
        });
        Ok(Self { variants: variants.collect(), sent, metrics })
    }
}

/// A variant's rate of one metric.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OutsideRate {
    pub variant: String,
    pub count: u64,
    pub sent: u64,
    pub rate: f64,
    /// Wilson's interval at 95%.
    pub lower: f64,
    pub upper: f64,
    /// That it is the best of them (the lowest, of a metric that does harm), with a flat prior.
    pub prob_best: f64,
    /// How much choosing it would cost on average, as a rate.
    pub expected_loss: f64,
}

/// Two variants of one metric: the second less the first.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OutsidePair {
    pub first: String,
    pub second: String,
    pub difference: f64,
    /// Newcombe's interval, wide enough to hold for all pairs together at 95%, and taken on to 0 where the test doesn't tell them apart.
    pub lower: f64,
    pub upper: f64,
    pub p_value: f64,
    /// Holm's, over all pairs.
    pub adjusted_p: f64,
}

impl OutsidePair {
    /// Do the two differ beyond chance? The test and the limits say so together.
    fn clear(&self) -> bool {
        self.adjusted_p < ALPHA && (self.lower > 0.0 || self.upper < 0.0)
    }
}

/// One metric of the table.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OutsideMetric {
    pub name: String,
    /// It does harm when it rises.
    pub harm: bool,
    pub sentence: String,
    pub rates: Vec<OutsideRate>,
    pub omnibus: ChiSquare,
    pub pairs: Vec<OutsidePair>,
}

/// The whole reading.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OutsideReading {
    /// Always false: what a table was meant to show is not known.
    pub sealed: bool,
    pub sentence: String,
    /// Are the variants as large as an equal split makes them?
    pub sizes: ChiSquare,
    pub metrics: Vec<OutsideMetric>,
    pub warnings: Vec<String>,
}

const ALPHA: f64 = 0.05;

fn points(x: f64) -> String {
    format!("{:.2}", 100.0 * x)
}

/// Reads a table of results.
///
/// # Errors
/// A variant that went to nobody.
pub fn read(table: &Results) -> Result<OutsideReading, OutsideError> {
    let metrics = table.metrics.iter().map(|m| read_metric(table, m)).collect::<Result<Vec<_>, _>>()?;
    let sizes = sample_ratio_mismatch(&table.sent, &vec![1.0; table.sent.len()])?;
    let mut warnings = vec![
        "Nothing was sealed: the table can't tell whether people were drawn to their variants at random, what was to be counted, or when to stop. So nothing is called.".to_owned(),
    ];
    if sizes.p_value < 0.001 {
        warnings.push(format!(
            "The variants are not as large as an equal split makes them (p {:.1e}). If they were meant to be equal, something took people out of one of them, and no rate can be trusted.",
            sizes.p_value
        ));
    }
    if metrics.len() > 1 {
        warnings.push(format!(
            "{} metrics are read and none was named beforehand: about one in {} of them will differ by chance alone.",
            metrics.len(),
            (1.0 / ALPHA).round()
        ));
    }
    for m in &metrics {
        if m.name.to_lowercase().contains("open") {
            warnings.push(format!("{} as reported count machines that fetch images; compare clicks or what followed.", m.name));
        }
        if m.rates.iter().any(|r| r.count.min(r.sent - r.count) < 10) {
            warnings.push(format!("{} rest on fewer than ten people in a variant: thin.", m.name));
        }
    }
    let clear = metrics.iter().filter(|m| m.pairs.iter().any(OutsidePair::clear)).count();
    let sentence = match clear {
        0 => "Unsealed. On no metric can the variants be told apart.".to_owned(),
        n => format!("Unsealed. The variants differ by more than chance on {n} of {} metrics.", metrics.len()),
    };
    Ok(OutsideReading { sealed: false, sentence, sizes, metrics, warnings })
}

fn read_metric(table: &Results, metric: &Counted) -> Result<OutsideMetric, OutsideError> {
    let harm = HARM.iter().any(|h| metric.name.to_lowercase().contains(h));
    let arms: Vec<Arm> = metric.counts.iter().zip(&table.sent).map(|(&successes, &trials)| Arm { successes, trials }).collect();
    let omnibus = chi_square_homogeneity(&arms)?;
    // The best of a metric that does harm is the one with the most people who didn't.
    let good: Vec<Arm> = arms.iter().map(|a| if harm { Arm { successes: a.trials - a.successes, trials: a.trials } } else { *a }).collect();
    let bayes = beta_binomial(&good, Prior { alpha: 1.0, beta: 1.0 })?;
    let mut rates = Vec::new();
    for (i, arm) in arms.iter().enumerate() {
        let interval = proportion_interval(*arm, 1.0 - ALPHA, Method::Wilson)?;
        rates.push(OutsideRate {
            variant: table.variants[i].clone(),
            count: arm.successes,
            sent: arm.trials,
            rate: interval.estimate,
            lower: interval.lower,
            upper: interval.upper,
            prob_best: bayes.prob_best[i],
            expected_loss: bayes.expected_loss[i],
        });
    }
    let places: Vec<(usize, usize)> = (0..arms.len()).flat_map(|a| (a + 1..arms.len()).map(move |b| (a, b))).collect();
    #[allow(clippy::cast_precision_loss)]
    let level = 1.0 - ALPHA / places.len() as f64;
    let mut pairs = Vec::new();
    for (a, b) in &places {
        let c = compare_shares(&[(arms[*a], arms[*b])], level)?;
        pairs.push(OutsidePair {
            first: table.variants[*a].clone(),
            second: table.variants[*b].clone(),
            difference: c.difference,
            lower: c.lower,
            upper: c.upper,
            p_value: c.p_value,
            adjusted_p: 1.0,
        });
    }
    let p: Vec<f64> = pairs.iter().map(|p| p.p_value).collect();
    for (pair, adjusted) in pairs.iter_mut().zip(adjust_p_values(&p, Adjustment::Holm)?) {
        pair.adjusted_p = adjusted;
    }
    let sentence = sentence(table, harm, &places, &pairs);
    Ok(OutsideMetric { name: metric.name.clone(), harm, sentence, rates, omnibus, pairs })
}

/// What a metric says, in words.
fn sentence(table: &Results, harm: bool, places: &[(usize, usize)], pairs: &[OutsidePair]) -> String {
    // Is `a` better than `b`, beyond chance?
    let better = |a: usize, b: usize| {
        places.iter().zip(pairs).any(|(place, p)| {
            let (second_up, sure) = ((p.difference > 0.0) != harm, p.clear());
            sure && ((*place == (b, a) && second_up) || (*place == (a, b) && !second_up))
        })
    };
    let n = table.variants.len();
    let lead = (0..n).find(|a| (0..n).all(|b| *a == b || better(*a, b)));
    let widest = pairs.iter().map(|p| p.lower.abs().max(p.upper.abs())).fold(0.0, f64::max);
    match (lead, pairs.iter().filter(|p| p.clear()).max_by(|a, b| a.difference.abs().total_cmp(&b.difference.abs()))) {
        (Some(a), Some(p)) => format!(
            "{} did {} than {}: {} points, {} to {} with all pairs together.",
            table.variants[a],
            if harm { "less harm" } else { "better" },
            if n == 2 { "the other".to_owned() } else { "every other (the largest difference is given)".to_owned() },
            points(p.difference.abs()),
            points(if p.difference > 0.0 { p.lower } else { -p.upper }),
            points(if p.difference > 0.0 { p.upper } else { -p.lower })
        ),
        (_, Some(p)) => format!("{} and {} differ, and no variant beats all others.", p.first, p.second),
        _ => format!("The variants can't be told apart: the truth may be a difference of up to {} points either way.", points(widest)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rows(text: &str) -> Vec<Vec<String>> {
        text.lines().map(|l| l.split(';').map(str::to_owned).collect()).collect()
    }

    fn reading(text: &str) -> OutsideReading {
        read(&Results::read(&rows(text)).unwrap()).unwrap()
    }

    #[test]
    fn a_clear_table_is_read_and_never_called() {
        let r = reading("Version;Sent;Clicks;Unsubscribes;Note\nA;10,000;500;20;x\nB;10,000;650;60;y");
        assert!(!r.sealed && r.sentence.contains("2 of 2") && !format!("{r:?}").to_lowercase().contains("called for"));
        let (clicks, left) = (&r.metrics[0], &r.metrics[1]);
        assert!(clicks.sentence.starts_with("B did better than the other: 1.50 points"), "{}", clicks.sentence);
        assert!(left.harm && left.sentence.starts_with("A did less harm"), "{}", left.sentence);
        assert!(clicks.rates[1].prob_best > 0.999 && left.rates[0].prob_best > 0.999);
        assert_eq!(r.metrics.len(), 2, "words are no metric");
    }

    #[test]
    fn what_it_cannot_know_it_says() {
        let r = reading("variant;sent;opens\none;5000;1000\ntwo;4000;800\nthree;5000;1012");
        assert!(r.metrics[0].sentence.contains("can't be told apart"));
        assert_eq!(r.metrics[0].pairs.len(), 3);
        let all = r.warnings.join(" ");
        assert!(all.contains("equal split") && all.contains("machines") && all.contains("Nothing was sealed"), "{all}");
        assert!(reading("variant;sent;replies\na;900;3\nb;900;5").warnings.iter().any(|w| w.contains("thin")));
    }

    #[rstest]
    #[case("variant;sent;clicks\na;10;1", "one variant")]
    #[case("variant;clicks\na;1\nb;2", "Call it sent")]
    #[case("variant;sent;clicks\na;10;11\nb;10;1", "11 clicks of 10")]
    #[case("variant;sent;clicks\na;10;5%\nb;10;1", "counts, not rates")]
    #[case("variant;sent;clicks\na;1000;0.123\nb;1000;0.150", "\"0.123\" is no whole number")]
    #[case("variant;sent;clicks\na;10000;1.234\nb;10000;1.321", "may be a decimal")]
    #[case("variant;sent;clicks\na;100;-3\nb;100;-4", "column clicks: \"-3\" is no whole number")]
    #[case("variant;sent;Click rate\na;100;3\nb;100;4", "Column Click rate is a rate")]
    #[case("variant;sent;CTR\na;100;3\nb;100;4", "is a rate")]
    #[case("variant;sent;clicks\na;5000000000;3\nb;5000000000;4", "thousand million")]
    #[case("variant;sent\na;10\nb;10", "No column counts")]
    #[case("variant;sent;clicks\na;0;0\nb;10;1", "trials must be")]
    #[case("variant;sent;clicks", "no rows")]
    fn a_table_that_cannot_be_says_what_to_change(#[case] text: &str, #[case] words: &str) {
        let e = Results::read(&rows(text)).and_then(|t| read(&t)).unwrap_err().to_string();
        assert!(e.contains(words), "{e}");
    }

    #[rstest]
    #[case("1,234", Some(1234))]
    #[case("1 234 567", Some(1_234_567))]
    #[case("12", Some(12))]
    #[case("1.234", Some(1_234))]
    #[case("0.500", None)]
    #[case("007", None)]
    #[case("0", Some(0))]
    #[case("12.5", None)]
    #[case("1,23", None)]
    #[case("", None)]
    #[case("-3", None)]
    fn counts_are_read_as_people_write_them(#[case] cell: &str, #[case] n: Option<u64>) {
        assert_eq!(count(cell), n);
    }
}
