//! Each person's own hour, where people differ in which suits them; else it is refused, with the reason.

use super::reading::Answered;
use crate::id::ContactId;
use crate::stats::hour_trial::Design;
use crate::stats::hour_trial::each_own_hour::each_own_hour;
use crate::stats::hour_trial::own_hours::{Expected, OwnHours as Spread};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// People differ in their hours when so unlikely by chance.
pub(super) const OWN_P: f64 = 0.05;

/// Do people differ in which hour suits them?
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = OwnHoursRead)]
pub struct Own {
    pub p_value: f64,
    /// The variance between people of what an hour adds, as a square of rates.
    pub spread: f64,
    pub sentence: String,
    /// Only where they do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub each: Option<Each>,
}

/// What hours of their own are expected to bring. Not a gain: that is known by a confirming trial alone.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[schema(as = OwnHoursOfEach)]
pub struct Each {
    /// The hour that is best for all together, by the common curve.
    pub common: u8,
    /// Everybody who was read.
    pub people: u64,
    /// Of them, those with another hour than the common one.
    pub differ: u64,
    /// The mean rate that is expected at each person's own hour, and at the common one.
    pub at_own: f64,
    pub at_common: f64,
}

/// Each person's hour, by person, ascending, with what it comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnHours {
    pub hours: Vec<(ContactId, u8)>,
    pub each: Each,
}

/// The hours of their own of all whose answers are read, where people differ by what is known of their spread; else none.
#[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation)]
pub(super) fn own_hours_of(rows: &[Answered], d: &Design, expected: &Expected, known: &Spread) -> Option<OwnHours> {
    if known.p_value >= OWN_P {
        return None;
    }
    let found = each_own_hour(d, expected, known);
    let hour = |place: usize| d.hours[place] as u8;
    let n = found.people.len().max(1) as f64;
    let each = Each {
        common: hour(found.common),
        people: found.people.len() as u64,
        differ: found.people.iter().filter(|p| p.hour != found.common).count() as u64,
        at_own: found.people.iter().map(|p| p.at_own).sum::<f64>() / n,
        at_common: found.people.iter().map(|p| p.at_common).sum::<f64>() / n,
    };
    // People have their places by their ids.
    let mut hours: Vec<(ContactId, u8)> = found.people.iter().map(|p| (ContactId(0), hour(p.hour))).collect();
    rows.iter().zip(&d.rows).for_each(|(a, row)| hours[row.0].0 = a.contact);
    Some(OwnHours { hours, each })
}
