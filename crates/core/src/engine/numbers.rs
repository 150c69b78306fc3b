//! Numbers that jobs' reports and facts come to, a run's sums of them, and gates that look at these.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A count, or a share of one. Whole numbers, so that sums do not depend on their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Number {
    /// In thousandths where `of` is none.
    pub sum: i64,
    /// What `sum` is a part of: then the value is a share, in percent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<i64>,
}

impl Number {
    /// A plain count.
    pub fn count(count: u64) -> Number {
        Number { sum: i64::try_from(count).unwrap_or(i64::MAX).saturating_mul(1000), of: None }
    }

    /// A part of a whole, shown in percent. Sums of shares add parts and wholes separately.
    pub fn share(part: u64, of: u64) -> Number {
        let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        Number { sum: number(part), of: Some(number(of)) }
    }

    /// As a job wrote it; none where that is no number, or too large a one.
    pub fn read(text: &str) -> Option<Number> {
        let value: f64 = text.trim().parse().ok()?;
        #[expect(clippy::cast_possible_truncation, reason = "it was just seen to fit")]
        (value.abs() < 9e15 / 1000.0).then(|| Number { sum: (value * 1000.0).round() as i64, of: None })
    }

    /// The value; none for a share of nothing.
    pub fn value(self) -> Option<f64> {
        #[expect(clippy::cast_precision_loss, reason = "counts stay far below where that matters")]
        match self.of {
            None => Some(self.sum as f64 / 1000.0),
            Some(0) => None,
            Some(of) => Some(self.sum as f64 * 100.0 / of as f64),
        }
    }

    fn plus(self, other: Number) -> Number {
        let of = match (self.of, other.of) {
            (Some(one), Some(two)) => Some(one.saturating_add(two)),
            (one, two) => one.or(two),
        };
        Number { sum: self.sum.saturating_add(other.sum), of }
    }
}

/// Name → number: `tests.failed`, `coverage.lines`, `fact.build.gauge.size`.
pub type Numbers = BTreeMap<String, Number>;

/// Numbers of jobs put together.
pub fn sums(jobs: impl Iterator<Item = Numbers>) -> Numbers {
    let mut all = Numbers::new();
    for (name, number) in jobs.flatten() {
        let joined = match all.get(&name) {
            None => number,
            Some(known) if name.starts_with("fact.") => Number { sum: known.sum.max(number.sum), of: None },
            Some(known) => known.plus(number),
        };
        all.insert(name, joined);
    }
    all
}

/// A number for a person: at most two decimals.
pub fn shown(value: f64) -> String {
    let text = format!("{value:.2}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}
