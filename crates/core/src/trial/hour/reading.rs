//! The reading of an hour trial, once: after the window of its last round.
//!
//! What decides is the score test over strata of round and time zone with people as clusters, and nothing else; where few people or few
//! answers make its chi-square doubtful, the same statistic over hours drawn again. Each hour's estimate and the set of hours that may be the
//! best come after it. Everybody who was drawn counts, whether or not the message could be handed over.

use super::confirming::{self, Gain};
use super::own::{OWN_P, Own, OwnHours, own_hours_of};
use super::plan::HourPlan;
use super::said;
use crate::id::{ContactId, MailingId};
use crate::stats::hour_trial::fit::{Fit, fit};
use crate::stats::hour_trial::own_hours::own_hours;
use crate::stats::hour_trial::reading::wave;
use crate::stats::hour_trial::score::{ScoreTest, redrawn_test, score_test};
use crate::stats::hour_trial::{Design, Row};
use crate::trial::metric::Metric;
use chacha20::ChaCha12Rng;
use rand::{RngExt, SeedableRng};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use utoipa::ToSchema;

/// Somebody of a round, and what came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answered {
    pub contact: ContactId,
    /// From 0, in the order of the plan.
    pub round: usize,
    pub zone: u32,
    /// What their hour was balanced in.
    pub stratum: u32,
    pub hour: u8,
    pub opens_unknown: bool,
    /// It wasn't handed over within their hour.
    pub lost: bool,
    /// A machine opened it, and nobody else is known to have.
    pub machine: bool,
    /// They did what is counted, within the window.
    pub did: bool,
}

/// What is found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HourVerdict {
    Matters,
    /// As far as this base can tell, it doesn't.
    NotShown,
    /// It can't be judged: nobody answered, or everybody.
    CantTell,
    /// The hours weren't treated alike.
    Void,
}

/// One hour.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OfHour {
    pub hour: u8,
    /// Drawn to it whose answers can be known, over all rounds that are read.
    pub people: u64,
    pub did: u64,
    pub lost: u64,
    pub machine: u64,
    /// Less the mean of the hours, as a difference of rates; none where nothing could be fitted.
    pub estimate: Option<f64>,
    /// Limits that hold for all hours at once.
    pub lower: Option<f64>,
    pub upper: Option<f64>,
    /// It can't be told from the best.
    pub may_be_best: bool,
    /// Too few for an estimate of its own.
    pub thin: bool,
}

/// One round.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OfRound {
    /// From 1.
    pub round: usize,
    pub mailing: MailingId,
    pub day: i64,
    pub drawn: u64,
    /// Whose answers can be known.
    pub known: u64,
    pub lost: u64,
    pub did: u64,
    /// Why it isn't read; none: it is.
    pub left_out: Option<String>,
}

/// Something that must be alike at all hours.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = HourCheck)]
pub struct Check {
    /// loss, machines
    pub what: String,
    pub p_value: Option<f64>,
    /// Between the hour with the most and the one with the fewest, as a difference of rates.
    pub spread: f64,
    pub breaks: bool,
    pub sentence: String,
}

/// A daily wave through the hours.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = DailyWave)]
pub struct Wave {
    /// The cosine's and the sine's part, as differences of rates.
    pub cos: f64,
    pub sin: f64,
    pub peak_hour: Option<f64>,
    pub p_value: f64,
}

/// All that is read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = HourTrialReading)]
pub struct Reading {
    pub verdict: HourVerdict,
    pub sentence: String,
    pub statistic: Option<f64>,
    pub df: Option<usize>,
    pub p_value: Option<f64>,
    /// How often the hours were drawn again; none: by the chi-square.
    pub redrawn: Option<usize>,
    pub persons: u64,
    pub strata: u64,
    /// The mean of the hours' rates.
    pub mean: f64,
    /// How many standard errors the limits lie from each estimate.
    pub largest_t: Option<f64>,
    pub hours: Vec<OfHour>,
    pub best_set: Vec<u8>,
    pub rounds: Vec<OfRound>,
    pub checks: Vec<Check>,
    pub wave: Option<Wave>,
    pub own: Option<Own>,
    /// Of a confirming trial: what the best hour gains.
    #[serde(default)]
    pub gain: Option<Gain>,
    pub weekdays: String,
    pub notes: Vec<String>,
}

/// Losses differ too much when so unlikely by chance, and by more than this.
const LOSS_P: f64 = 0.001;
const LOSS_SPREAD: f64 = 0.005;
/// Opens can't be read when machines took so differently from the hours.
const MACHINES_P: f64 = 0.01;
/// With fewer people, or answers at an hour, the hours are drawn again.
const FEW_PEOPLE: usize = 500;
const FEW_ANSWERS: u64 = 5;
/// How often, and how much work that may be.
const DRAWS: usize = 9_999;
const MOST_WORK: usize = 3_000_000_000;
/// Fewer people at an hour than this are drawn hollow.
const THIN: u64 = 100;

/// The places of people in the order of their ids.
fn places(rows: &[Answered]) -> (usize, impl Fn(ContactId) -> usize) {
    let ids = || rows.iter().map(|a| a.contact.0);
    let (first, last) = (ids().min().unwrap_or(0), ids().max().unwrap_or(-1));
    // Ids are given out one after the other: a table of them all is looked up sooner than a sorted list, unless few were drawn of very many.
    let span = usize::try_from(last.abs_diff(first)).map_or(usize::MAX, |span| span.saturating_add(1));
    let mut table = vec![0_u32; if span <= rows.len().saturating_mul(16) { span } else { 0 }];
    let mut sorted = Vec::new();
    let at = move |id: i64| usize::try_from(id.abs_diff(first)).unwrap_or(0);
    if table.is_empty() {
        sorted = ids().collect();
        sorted.sort_unstable();
        sorted.dedup();
    } else {
        ids().for_each(|id| table[at(id)] = 1);
    }
    let mut known = 0;
    for here in table.iter_mut().filter(|here| **here == 1) {
        *here = known;
        known += 1;
    }
    let people = sorted.len().max(known as usize);
    (people, move |c: ContactId| if table.is_empty() { sorted.binary_search(&c.0).unwrap_or(0) } else { table[at(c.0)] as usize })
}

/// Answers as a design: strata are rounds by time zone, people are in the order of their ids.
fn design(rows: &[Answered], hours: &[u8]) -> Design {
    let mut place = [0; 24];
    hours.iter().zip(0..).for_each(|(h, i)| place[usize::from(*h % 24)] = i);
    let (persons, person) = places(rows);
    let mut strata = HashMap::new();
    let mut last = None;
    let rows: Vec<Row> = rows
        .iter()
        .map(|a| {
            let stratum = match last {
                Some((of, stratum)) if of == (a.round, a.zone) => stratum,
                _ => {
                    let next = strata.len();
                    *strata.entry((a.round, a.zone)).or_insert(next)
                }
            };
            last = Some(((a.round, a.zone), stratum));
            (person(a.contact), stratum, place[usize::from(a.hour % 24)], f64::from(u8::from(a.did)))
        })
        .collect();
    Design { hours: hours.iter().map(|h| u32::from(*h)).collect(), persons, strata: strata.len(), rows }
}

/// The score test, by drawing the hours again where few people or answers make its chi-square doubtful.
fn decides(rows: &[Answered], d: &Design, of: &[OfHour]) -> Result<(ScoreTest, Option<usize>), crate::stats::StatsError> {
    let few = d.persons < FEW_PEOPLE || of.iter().any(|h| h.did < FEW_ANSWERS || h.people - h.did < FEW_ANSWERS);
    if !few {
        return Ok((score_test(d)?, None));
    }
    // Hours change places among those who were balanced together.
    let mut groups: BTreeMap<(usize, u32), Vec<usize>> = BTreeMap::new();
    rows.iter().enumerate().for_each(|(i, a)| groups.entry((a.round, a.stratum)).or_default().push(i));
    let mut rng = ChaCha12Rng::seed_from_u64(0x0040_0125);
    let again = |rows: &mut [Row]| {
        for of in groups.values() {
            for i in (1..of.len()).rev() {
                let j = rng.random_range(0..=i);
                let (a, b) = (of[i], of[j]);
                let hour = rows[a].2;
                rows[a].2 = rows[b].2;
                rows[b].2 = hour;
            }
        }
    };
    let k = d.hours.len();
    let draws = (MOST_WORK / (d.rows.len() * k + d.persons * k * k).max(1)).clamp(199, DRAWS);
    Ok((redrawn_test(d, draws, again)?, Some(draws)))
}

fn spread(of: &[OfHour], count: impl Fn(&OfHour) -> u64) -> f64 {
    #[allow(clippy::cast_precision_loss)]
    let rates = || of.iter().filter(|h| h.people > 0).map(|h| count(h) as f64 / h.people as f64);
    rates().reduce(f64::max).zip(rates().reduce(f64::min)).map_or(0.0, |(most, least)| most - least)
}

/// Hours with what was counted at each.
fn counted(hours: &[u8], rows: &[Answered]) -> Vec<OfHour> {
    let zero = |hour: &u8| OfHour {
        hour: *hour,
        people: 0,
        did: 0,
        lost: 0,
        machine: 0,
        estimate: None,
        lower: None,
        upper: None,
        may_be_best: true,
        thin: true,
    };
    let mut of: Vec<OfHour> = hours.iter().map(zero).collect();
    for a in rows {
        let Some(h) = of.iter_mut().find(|h| h.hour == a.hour) else { continue };
        h.people += 1;
        h.did += u64::from(a.did);
        h.lost += u64::from(a.lost);
        h.machine += u64::from(a.machine);
    }
    of.iter_mut().for_each(|h| h.thin = h.people < THIN);
    of
}

/// Rounds with what was counted in each, and which are left out: by the rule that was sealed, before any answer is looked at.
#[allow(clippy::cast_precision_loss)]
fn rounds(plan: &HourPlan, all: &[Answered], is_read: impl Fn(&Answered) -> bool) -> Vec<OfRound> {
    let zero = |(i, r): (usize, &super::plan::Round)| OfRound {
        round: i + 1,
        mailing: r.mailing,
        day: r.day,
        drawn: 0,
        known: 0,
        lost: 0,
        did: 0,
        left_out: None,
    };
    let mut of: Vec<OfRound> = plan.rounds.iter().enumerate().map(zero).collect();
    for a in all {
        let r = &mut of[a.round];
        r.drawn += 1;
        r.lost += u64::from(a.lost);
        r.known += u64::from(is_read(a));
        r.did += u64::from(is_read(a) && a.did);
    }
    for r in &mut of {
        r.left_out = if r.drawn == 0 {
            Some("nobody was drawn: its message wasn't ready, or nobody could have all the hours".into())
        } else if r.lost as f64 > plan.fail_loss * r.drawn as f64 {
            Some(format!(
                "{:.0}% of it wasn't handed over within the hour, more than the {:.0}% that were sealed",
                100.0 * r.lost as f64 / r.drawn as f64,
                100.0 * plan.fail_loss
            ))
        } else {
            None
        };
    }
    of
}

/// Is a share alike at all hours? None where nothing varies: then it is.
fn alike(d: &Design) -> Option<f64> {
    score_test(d).ok().map(|t| t.p_value)
}

/// The same design with something else asked of each row; none where it is so of nobody.
fn asked(d: &Design, rows: &[Answered], y: impl Fn(&Answered) -> bool) -> Option<Design> {
    let asked = |(row, a): (&Row, &Answered)| (row.0, row.1, row.2, f64::from(u8::from(y(a))));
    rows.iter().any(&y).then(|| Design { hours: d.hours.clone(), rows: d.rows.iter().zip(rows).map(asked).collect(), ..*d })
}

fn checks(plan: &HourPlan, d: &Design, rows: &[Answered], of: &[OfHour]) -> Vec<Check> {
    let mut out = Vec::new();
    let p = asked(d, rows, |a| a.lost).and_then(|d| alike(&d));
    let apart = spread(of, |h| h.lost);
    let breaks = p.is_some_and(|p| p < LOSS_P) && apart > LOSS_SPREAD;
    out.push(Check { what: "loss".into(), p_value: p, spread: apart, breaks, sentence: said::loss(p, apart, breaks) });
    if plan.metric == Metric::HumanOpen {
        let p = asked(d, rows, |a| a.machine).and_then(|d| alike(&d));
        let apart = spread(of, |h| h.machine);
        let breaks = p.is_some_and(|p| p < MACHINES_P);
        out.push(Check { what: "machines".into(), p_value: p, spread: apart, breaks, sentence: said::machines(p, apart, breaks) });
    }
    out
}

impl Reading {
    /// The hour that it names: the one with the best estimate of those that may be the best. None: it found none.
    #[must_use]
    pub fn best(&self) -> Option<u8> {
        let estimate = |hour: &u8| self.hours.iter().find(|h| h.hour == *hour).and_then(|h| h.estimate).unwrap_or(f64::NEG_INFINITY);
        let set = self.best_set.iter().copied().filter(|_| self.verdict == HourVerdict::Matters);
        set.max_by(|a, b| estimate(a).total_cmp(&estimate(b)))
    }

    /// Void, because what was sealed or drawn isn't what is there.
    #[must_use]
    pub fn broken(mut self, words: &str) -> Self {
        self.verdict = HourVerdict::Void;
        self.best_set = self.hours.iter().map(|h| h.hour).collect();
        self.hours.iter_mut().for_each(|h| h.may_be_best = true);
        self.sentence = format!("Void. {words}");
        self.own = None;
        self
    }
}

/// What is decided, and what it rests on.
struct Decided {
    reading: Reading,
    rows: Vec<Answered>,
    design: Design,
    fit: Option<Fit>,
    /// Why nothing could be judged.
    why: Option<String>,
}

#[allow(clippy::cast_precision_loss)]
fn decide(plan: &HourPlan, all: &[Answered]) -> Decided {
    let is_read = |a: &Answered| !plan.leaves_unknown_out() || !a.opens_unknown;
    let rounds = rounds(plan, all, is_read);
    let mut rows: Vec<Answered> = all.iter().copied().filter(|a| rounds[a.round].left_out.is_none() && is_read(a)).collect();
    let hours = counted(&plan.hours, &rows);
    let compared = plan.compared();
    let mut sides = hours.clone();
    if let Some(c) = plan.of_own_hours() {
        // Whichever hour somebody's own is, it stands for all.
        rows.iter_mut().filter(|a| a.hour != c.best).for_each(|a| a.hour = compared[0]);
        sides = counted(&compared, &rows);
    }
    let d = design(&rows, &compared);
    // What a confirming trial finds is one comparison, below.
    let found = plan.confirms.is_none().then(|| decides(&rows, &d, &hours));
    let test = found.as_ref().and_then(|found| found.as_ref().ok());
    let fit = test.and_then(|_| fit(&d).ok());
    let checks = checks(plan, &d, &rows, &sides);
    let verdict = match (test, &fit) {
        _ if checks.iter().any(|c| c.breaks) => HourVerdict::Void,
        (Some((test, _)), Some(_)) if test.p_value < plan.alpha => HourVerdict::Matters,
        (Some(_), Some(_)) => HourVerdict::NotShown,
        _ => HourVerdict::CantTell,
    };
    let set = fit.as_ref().filter(|_| verdict == HourVerdict::Matters).and_then(|fit| fit.best_set(&d.hours, plan.alpha).ok());
    let mut reading = Reading {
        verdict,
        sentence: String::new(),
        statistic: test.map(|t| t.0.statistic),
        df: test.map(|t| t.0.df),
        p_value: test.map(|t| t.0.p_value),
        redrawn: test.and_then(|t| t.1),
        persons: d.persons as u64,
        strata: d.strata as u64,
        mean: hours.iter().map(|h| h.did as f64 / h.people.max(1) as f64).sum::<f64>() / hours.len() as f64,
        largest_t: None,
        best_set: plan.hours.iter().copied().filter(|h| set.as_ref().is_none_or(|set| set.contains(&u32::from(*h)))).collect(),
        weekdays: plan.weekdays(rounds.iter().filter(|r| r.left_out.is_none()).map(|r| r.day)),
        hours,
        rounds,
        checks,
        wave: None,
        own: None,
        gain: None,
        notes: Vec::new(),
    };
    if let Some(c) = plan.confirms {
        confirming::decided(plan, confirming::gain(plan, c, &rows), &mut reading);
        return Decided { reading, rows, design: d, fit: None, why: Some("too few people kept an hour, or nobody answered".into()) };
    }
    Decided { reading, rows, design: d, fit, why: found.and_then(Result::err).map(|e| e.to_string()) }
}

/// What is decided alone: the verdict, and the hours that may be the best.
#[must_use]
pub fn verdict(plan: &HourPlan, all: &[Answered]) -> (HourVerdict, Vec<u8>) {
    let Reading { verdict, best_set, .. } = decide(plan, all).reading;
    (verdict, best_set)
}

/// Reads an hour trial. `all`: everybody who was drawn, in every round.
#[must_use]
pub fn read(plan: &HourPlan, all: &[Answered]) -> Reading {
    read_with_own(plan, all).0
}

/// Reads an hour trial, with each person's own hour where people differ in which suits them.
#[must_use]
pub fn read_with_own(plan: &HourPlan, all: &[Answered]) -> (Reading, Option<OwnHours>) {
    let Decided { mut reading, rows, design: d, fit, why } = decide(plan, all);
    let mut own = None;
    if let Some(fit) = &fit {
        let errors = fit.standard_errors();
        let t = fit.largest_t(plan.alpha).unwrap_or(f64::INFINITY);
        for (i, h) in reading.hours.iter_mut().enumerate() {
            let estimate = fit.estimates[i];
            (h.estimate, h.lower, h.upper) = (Some(estimate), Some(estimate - t * errors[i]), Some(estimate + t * errors[i]));
        }
        reading.largest_t = Some(t);
        reading.wave = wave(&d).ok().map(|w| Wave { cos: w.cos, sin: w.sin, peak_hour: w.peak_hour, p_value: w.wald_p });
        if let Ok((spread, expected)) = own_hours(&d) {
            own = own_hours_of(&rows, &d, &expected, &spread).filter(|_| reading.verdict != HourVerdict::Void);
            let each = own.as_ref().map(|own| own.each);
            let sentence = said::own(spread.p_value, OWN_P);
            reading.own = Some(Own { p_value: spread.p_value, spread: spread.spread, sentence, each });
        }
    }
    let best = reading.best_set.clone();
    reading.hours.iter_mut().for_each(|h| h.may_be_best = best.contains(&h.hour));
    reading.notes = said::notes(plan, &reading);
    reading.sentence = said::sentence(plan, &reading, why.as_deref());
    (reading, own)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trial::hour::plan::Round;

    fn plan() -> HourPlan {
        HourPlan {
            hours: vec![8, 12, 18],
            rounds: (0..3).map(|r| Round { mailing: MailingId(r + 1), day: 20_000 + 7 * r }).collect(),
            usual_hour: 18,
            ..HourPlan::usual("Does the hour matter?")
        }
    }

    /// 900 people in three rounds, at an hour drawn for each: how likely they do it, and how likely it is lost, by round and hour.
    fn rows(did: impl Fn(usize, u8) -> f64, lost: impl Fn(usize, u8) -> f64) -> Vec<Answered> {
        let mut rng = ChaCha12Rng::seed_from_u64(8);
        let mut out = Vec::new();
        for round in 0..3 {
            for contact in 0..900 {
                let hour = plan().hours[rng.random_range(0..3)];
                let lost = rng.random::<f64>() < lost(round, hour);
                out.push(Answered {
                    contact: ContactId(contact),
                    round,
                    zone: (contact % 2) as u32,
                    stratum: (contact % 2) as u32,
                    hour,
                    opens_unknown: contact % 10 == 0,
                    lost,
                    machine: false,
                    did: !lost && rng.random::<f64>() < did(round, hour),
                });
            }
        }
        out
    }

    #[test]
    fn what_matters_is_said_with_the_hours_that_may_be_best() {
        let r = read(&plan(), &rows(|_, hour| if hour == 18 { 0.2 } else { 0.4 }, |_, _| 0.0));
        assert_eq!((r.verdict, r.best_set.as_slice(), r.redrawn, r.persons), (HourVerdict::Matters, &[8u8, 12][..], None, 810), "{r:?}");
        assert!(r.sentence.starts_with("The hour matters (p under 0.001)."), "{}", r.sentence);
        assert!(r.sentence.contains("08:00 and 12:00 can't be told from the best"), "{}", r.sentence);
        let d = r.hours[2].estimate.unwrap();
        assert!(
            r.sentence.contains(&format!("18:00, the usual hour, lies {:.1} points under the mean of the hours", -100.0 * d)),
            "{}",
            r.sentence
        );
        assert!(r.hours.iter().all(|h| h.lower < h.estimate && h.estimate < h.upper) && r.hours[2].upper < Some(0.0));
    }

    #[test]
    fn what_is_not_shown_says_what_it_could_still_be() {
        let r = read(&plan(), &rows(|round, _| 0.2 + 0.1 * round as f64, |_, _| 0.0));
        assert_eq!((r.verdict, r.best_set.len()), (HourVerdict::NotShown, 3));
        let most = r.hours.iter().filter_map(|h| h.upper).fold(0.0, f64::max);
        assert!(r.sentence.contains(&format!("better than the average by more than {:.1} points", 100.0 * most)), "{}", r.sentence);
    }

    #[test]
    fn hours_that_lose_more_make_it_void_and_a_failed_round_is_left_out_whole() {
        let r = read(&plan(), &rows(|_, _| 0.3, |_, hour| if hour == 18 { 0.1 } else { 0.0 }));
        assert_eq!(r.verdict, HourVerdict::Void, "{}", r.sentence);
        assert!(r.sentence.contains("lost"), "{}", r.sentence);
        // The host was down in round 2, for the evening: by the rule that was sealed that round says nothing.
        let r = read(&plan(), &rows(|_, _| 0.3, |round, hour| if round == 1 && hour == 18 { 1.0 } else { 0.0 }));
        assert_eq!((r.verdict, r.rounds[1].left_out.is_some()), (HourVerdict::NotShown, true), "{}", r.sentence);
        assert_eq!(r.hours.iter().map(|h| h.people).sum::<u64>(), 1_620);
    }

    #[test]
    fn few_answers_are_judged_by_drawing_again() {
        let r = read(&plan(), &rows(|_, hour| if hour == 8 { 0.02 } else { 0.001 }, |_, _| 0.0));
        assert!(r.redrawn.is_some_and(|n| n > 1_000) && r.verdict == HourVerdict::Matters, "{r:?}");
        assert_eq!(read(&plan(), &rows(|_, _| 0.0, |_, _| 0.0)).verdict, HourVerdict::CantTell);
        assert_eq!(read(&plan(), &[]).verdict, HourVerdict::CantTell);
    }
}
