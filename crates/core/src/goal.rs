//! Goals: what counts as a conversion, and what it is worth.
//!
//! A goal is met by a purchase (of a product, of a category, or any) or by an event with its name. A
//! purchase is worth its own value, and a refund takes its value away again; an event is worth what the
//! goal says.

use crate::words::fold;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What meets a goal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[schema(as = GoalWhat)]
pub enum What {
    Purchase {
        product: Option<String>,
        category: Option<String>,
    },
    Event {
        name: String,
        /// Hundredths of the currency that each is worth.
        #[schema(minimum = 0, maximum = 10_000_000_000_000_i64)]
        cents: i64,
    },
}

/// A goal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Goal {
    pub what: What,
    /// ISO 4217; purchases in another currency don't count towards it. Empty: any, and no sum of money.
    #[serde(default)]
    pub currency: String,
}

/// Something that may meet it.
#[derive(Debug, Clone, Copy)]
pub enum Happened<'a> {
    Purchase { product: &'a str, category: &'a str, cents: i64, currency: &'a str },
    Event { name: &'a str },
}

/// What one thing that happened adds: conversions, and hundredths of the currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Worth {
    pub conversions: i64,
    pub cents: i64,
}

/// Is a purchase of the product and of the category that are asked for? What isn't asked for may be any.
pub(crate) fn is_of((product, category): (&Option<String>, &Option<String>), of: &str, kind: &str) -> bool {
    let same = |asked: &Option<String>, given: &str| asked.as_ref().is_none_or(|a| fold(a) == fold(given));
    same(product, of) && same(category, kind)
}

/// The words for such a purchase.
pub(crate) fn buys(product: &Option<String>, category: &Option<String>) -> String {
    match (product, category) {
        (Some(p), _) => format!("buys {p}"),
        (None, Some(c)) => format!("buys anything of {c}"),
        (None, None) => "buys anything".into(),
    }
}

impl Goal {
    /// # Errors
    /// A sentence, when it can't be meant.
    pub fn check(&self) -> Result<(), String> {
        let currency = self.currency.len() == 3 && self.currency.bytes().all(|b| b.is_ascii_uppercase());
        if !self.currency.is_empty() && !currency {
            return Err("A currency is written as three capital letters, as GBP is.".into());
        }
        match &self.what {
            What::Event { name, .. } if name.trim().is_empty() => Err("Choose the event that meets the goal.".into()),
            What::Event { cents, .. } if *cents < 0 => Err("An event is worth nothing or something, not less.".into()),
            What::Event { cents, .. } if *cents > 0 && self.currency.is_empty() => {
                Err("Name the currency of what an event is worth.".into())
            }
            What::Purchase { product: Some(p), .. } if p.trim().is_empty() => Err("Name the product, or leave it open.".into()),
            _ => Ok(()),
        }
    }

    #[must_use]
    pub fn words(&self) -> String {
        let currency = if self.currency.is_empty() { String::new() } else { format!(" in {}", self.currency) };
        match &self.what {
            What::Purchase { product, category } => format!("{}{currency}", buys(product, category)),
            What::Event { name, cents: 0 } => format!("“{name}” happens"),
            What::Event { name, cents } => format!("“{name}” happens, worth {}.{:02} {}", cents / 100, cents % 100, self.currency),
        }
    }

    /// What something that happened adds. A refund subtracts money; it undoes no conversion that was.
    #[must_use]
    pub fn worth(&self, h: Happened<'_>) -> Worth {
        match (&self.what, h) {
            (What::Purchase { product, category }, Happened::Purchase { product: p, category: k, cents, currency })
                if is_of((product, category), p, k) && (self.currency.is_empty() || self.currency == currency) =>
            {
                Worth { conversions: i64::from(cents >= 0), cents: if self.currency.is_empty() { 0 } else { cents } }
            }
            (What::Event { name, cents }, Happened::Event { name: n }) if fold(name) == fold(n) => Worth { conversions: 1, cents: *cents },
            _ => Worth::default(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn purchases_count_and_refunds_take_money_back() {
        let lantern = Goal { what: What::Purchase { product: Some("Storm lantern".into()), category: None }, currency: "GBP".into() };
        let bought = |product, cents, currency| lantern.worth(Happened::Purchase { product, category: "Light", cents, currency });
        assert_eq!(bought("storm LANTERN ", 4_200, "GBP"), Worth { conversions: 1, cents: 4_200 });
        assert_eq!(bought("Storm lantern", -4_200, "GBP"), Worth { conversions: 0, cents: -4_200 });
        assert_eq!(bought("Storm lantern", 4_200, "EUR"), Worth::default(), "sums of two currencies are none");
        assert_eq!(bought("Chart print", 900, "GBP"), Worth::default());
        let talk = Goal { what: What::Event { name: "Came to a talk".into(), cents: 500 }, currency: "GBP".into() };
        assert_eq!(talk.worth(Happened::Event { name: "came to a talk" }), Worth { conversions: 1, cents: 500 });
        assert!(talk.check().is_ok() && Goal { currency: String::new(), ..talk.clone() }.check().is_err());
        assert_eq!(talk.words(), "“Came to a talk” happens, worth 5.00 GBP");
    }
}
