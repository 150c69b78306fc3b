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
    ///
    /// ```
    /// use ordotaxis_core::engine::Number;
    /// let (one, two) = (Number::share(1, 4), Number::share(3, 4));
    /// assert_eq!(one.value(), Some(25.0));
    /// assert_eq!(Number::share(0, 0).value(), None, "a share of nothing");
    /// ```
    pub fn share(part: u64, of: u64) -> Number {
        let number = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        Number { sum: number(part), of: Some(number(of)) }
    }

    /// As a job wrote it; none where that is no number, or too large a one.
    ///
    /// ```
    /// use ordotaxis_core::engine::Number;
    /// assert_eq!(Number::read(" 2.5\n").and_then(Number::value), Some(2.5));
    /// assert_eq!(Number::read("many"), None);
    /// ```
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
///
/// ```
/// use ordotaxis_core::engine::{Number, Numbers, sums};
/// let job = |covered, size| Numbers::from([
///     ("coverage.lines".to_owned(), Number::share(covered, 100)),
///     ("fact.build.gauge.size".to_owned(), Number::count(size)),
/// ]);
/// let whole = sums([job(50, 640), job(100, 700)].into_iter());
/// assert_eq!(whole["coverage.lines"].value(), Some(75.0), "parts and wholes are added");
/// assert_eq!(whole["fact.build.gauge.size"].value(), Some(700.0), "of facts the largest counts");
/// ```
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
///
/// ```
/// use ordotaxis_core::engine::shown;
/// assert_eq!((shown(75.0), shown(66.666)), ("75".to_owned(), "66.67".to_owned()));
/// ```
pub fn shown(value: f64) -> String {
    let text = format!("{value:.2}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}
