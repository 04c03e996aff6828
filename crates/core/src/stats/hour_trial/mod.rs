//! Reads an hour trial: everybody is drawn to an hour in each round, so that answers compare within a stratum (a round and a time zone) and
//! belong together by person. [`score`]: does the hour matter? [`fit`]: what each hour adds. [`reading`]: both, and which hours may be the best.
//! [`own_hours`]: does each person have one of their own? [`each_own_hour`]: which.

pub mod each_own_hour;
pub mod fit;
pub mod own_hours;
pub mod reading;
pub mod score;

use super::StatsError;
use nalgebra::{DMatrix, DVector, DVectorView};
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

/// An answer: the places of its person, its stratum and its hour, and y.
pub type Row = (usize, usize, usize, f64);

/// Answers by the places of their persons, strata and hours.
#[derive(Debug, Clone)]
pub struct Design {
    /// Ascending.
    pub hours: Vec<u32>,
    pub persons: usize,
    pub strata: usize,
    pub rows: Vec<Row>,
}

fn place<T: Eq + Hash + Clone>(known: &mut HashMap<T, usize>, of: &T) -> usize {
    let next = known.len();
    *known.entry(of.clone()).or_insert(next)
}

impl Design {
    /// # Errors
    /// An hour outside 0 to 23, an answer that is no number, a person twice in a stratum.
    pub fn of(answers: &[Answer]) -> Result<Self, StatsError> {
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
    pub(super) fn stratum_means(&self, value: impl Fn(&Row) -> f64) -> Vec<f64> {
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

    /// The share of each stratum that was drawn to each hour, stratum by stratum.
    #[allow(clippy::cast_precision_loss)]
    pub(super) fn shares(&self) -> Vec<f64> {
        let k = self.hours.len();
        let mut shares = vec![0.0; self.strata * k];
        for (_, stratum, hour, _) in &self.rows {
            shares[stratum * k + hour] += 1.0;
        }
        for of in shares.chunks_mut(k) {
            let all: f64 = of.iter().sum();
            of.iter_mut().for_each(|share| *share /= all.max(1.0));
        }
        shares
    }

    /// What each row has of its hour beyond its stratum's share, times its weight: summed by person, then added up, and their products.
    pub(super) fn clustered(&self, shares: &[f64], weights: impl Iterator<Item = f64>) -> (DVector<f64>, DMatrix<f64>) {
        let k = self.hours.len();
        let mut by_person = vec![0.0; self.persons * k];
        for ((person, stratum, hour, _), weight) in self.rows.iter().zip(weights) {
            let of = &mut by_person[person * k..][..k];
            of[*hour] += weight;
            of.iter_mut().zip(&shares[stratum * k..][..k]).for_each(|(sum, share)| *sum -= weight * share);
        }
        let (mut sum, mut products) = (DVector::zeros(k), DMatrix::zeros(k, k));
        for u in by_person.chunks(k) {
            let u = DVectorView::from_slice(u, k);
            sum += u;
            products.ger(1.0, &u, &u, 1.0);
        }
        (sum, products)
    }
}
