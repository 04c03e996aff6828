//! Reads an hour trial: everybody is drawn to an hour in each round, so that answers compare within a stratum (a round and a time zone) and
//! belong together by person. [`reading`]: does the hour matter, and which hours may be the best? [`own_hours`]: does each person have one of
//! their own?

pub mod own_hours;
pub mod reading;

use super::StatsError;
use nalgebra::{DMatrix, DVector};
use serde::Deserialize;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::Hash;

/// A person or a stratum, by number or by name.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Deserialize)]
#[serde(untagged)]
pub enum Label {
    Number(i64),
    Name(String),
}

/// What somebody did with the message of one round.
#[derive(Debug, Clone, Deserialize)]
pub struct Answer {
    pub person: Label,
    pub stratum: Label,
    /// The hour they were drawn to, 0 to 23.
    pub hour: u32,
    /// 0 or 1, or any number.
    pub y: f64,
}

fn refuse<T>(words: &str) -> Result<T, StatsError> {
    Err(StatsError::Arguments(words.to_owned()))
}

/// Answers by the places of their persons, strata and hours.
pub(super) struct Design {
    pub(super) hours: Vec<u32>,
    pub(super) persons: usize,
    pub(super) strata: usize,
    /// Person, stratum, hour, y.
    pub(super) rows: Vec<(usize, usize, usize, f64)>,
}

fn place<T: Eq + Hash + Clone>(known: &mut HashMap<T, usize>, of: &T) -> usize {
    let next = known.len();
    *known.entry(of.clone()).or_insert(next)
}

impl Design {
    pub(super) fn of(answers: &[Answer]) -> Result<Self, StatsError> {
        let mut seen: BTreeMap<u32, usize> = BTreeMap::new();
        for a in answers {
            if a.hour > 23 {
                return refuse("an hour is a whole number from 0 to 23");
            }
            if !a.y.is_finite() {
                return refuse("an answer is no number");
            }
            seen.insert(a.hour, 0);
        }
        for (i, at) in seen.values_mut().enumerate() {
            *at = i;
        }
        let (mut persons, mut strata, mut once) = (HashMap::new(), HashMap::new(), HashSet::new());
        let mut rows = Vec::with_capacity(answers.len());
        for a in answers {
            let (person, stratum) = (place(&mut persons, &a.person), place(&mut strata, &a.stratum));
            if !once.insert((person, stratum)) {
                return refuse("a person stands twice in a stratum: they are drawn to one hour of each round");
            }
            rows.push((person, stratum, seen[&a.hour], a.y));
        }
        Ok(Self { hours: seen.into_keys().collect(), persons: persons.len(), strata: strata.len(), rows })
    }

    /// Can any two hours be compared, directly or over others, within strata?
    pub(super) fn linked(&self) -> Result<(), StatsError> {
        let mut group: Vec<usize> = (0..self.hours.len() + self.strata).collect();
        fn root(group: &mut [usize], mut i: usize) -> usize {
            while group[i] != i {
                group[i] = group[group[i]];
                i = group[i];
            }
            i
        }
        for (_, stratum, hour, _) in &self.rows {
            let (a, b) = (root(&mut group, *hour), root(&mut group, self.hours.len() + stratum));
            group[a] = b;
        }
        let first = root(&mut group, 0);
        if (1..group.len()).all(|i| root(&mut group, i) == first) {
            return Ok(());
        }
        refuse("some hours share no stratum with the others, not even over further ones: they can't be compared")
    }

    /// The means of a value in each stratum.
    #[allow(clippy::cast_precision_loss)]
    pub(super) fn stratum_means(&self, value: impl Fn(&(usize, usize, usize, f64)) -> f64) -> Vec<f64> {
        let mut sums = vec![(0.0, 0_usize); self.strata];
        for row in &self.rows {
            sums[row.1].0 += value(row);
            sums[row.1].1 += 1;
        }
        sums.into_iter().map(|(sum, n)| sum / n.max(1) as f64).collect()
    }

    /// The answers less their strata's means.
    #[allow(clippy::cast_precision_loss)]
    pub(super) fn within(&self) -> Result<Vec<f64>, StatsError> {
        let means = self.stratum_means(|r| r.3);
        let e: Vec<f64> = self.rows.iter().map(|r| r.3 - means[r.1]).collect();
        let mean = self.rows.iter().map(|r| r.3).sum::<f64>() / self.rows.len() as f64;
        let all: f64 = self.rows.iter().map(|r| (r.3 - mean).powi(2)).sum();
        if e.iter().map(|v| v * v).sum::<f64>() <= 1e-20 * all {
            return refuse("answers don't vary within strata: there is nothing to tell hours apart by");
        }
        Ok(e)
    }

    /// Sums by person, and of their products: what clusters are.
    pub(super) fn clustered(&self, scores: impl Iterator<Item = DVector<f64>>, width: usize) -> (DVector<f64>, DMatrix<f64>) {
        let mut by_person = vec![DVector::zeros(width); self.persons];
        for (row, score) in self.rows.iter().zip(scores) {
            by_person[row.0] += score;
        }
        let mut sum = DVector::zeros(width);
        let mut products = DMatrix::zeros(width, width);
        for u in &by_person {
            sum += u;
            products.ger(1.0, u, u, 1.0);
        }
        (sum, products)
    }
}
