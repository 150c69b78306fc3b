//! What must hold before a stage starts: numbers that reports and facts of earlier jobs gave.

use super::place::At;
use super::reader::{self, Value};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Numbers that every run may have; facts that are numbers come to these as `fact.STAGE.JOB.NAME`.
pub const NUMBERS: [&str; 11] = [
    "tests.total",
    "tests.passed",
    "tests.failed",
    "tests.skipped",
    "tests.new",
    "coverage.lines",
    "coverage.changed",
    "findings.error",
    "findings.warning",
    "findings.note",
    "findings.new",
];

/// One number, and what it must be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GateRule {
    /// `tests.failed`
    pub number: String,
    /// `>= 80`; without a comparison it must be equal.
    pub wants: String,
}

/// How a number is compared with a bound.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compare {
    Less,
    AtMost,
    Equal,
    Unequal,
    AtLeast,
    More,
}

impl fmt::Display for Compare {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Compare::Less => "<",
            Compare::AtMost => "<=",
            Compare::Equal => "=",
            Compare::Unequal => "!=",
            Compare::AtLeast => ">=",
            Compare::More => ">",
        })
    }
}

/// A limit, read.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bound {
    pub compare: Compare,
    pub than: f64,
}

impl Bound {
    /// Reads `>= 80`, `< 3`, or `0`, which means equal. None when it is neither.
    pub fn parse(text: &str) -> Option<Bound> {
        let text = text.trim();
        let signs = [
            (">=", Compare::AtLeast),
            ("<=", Compare::AtMost),
            ("!=", Compare::Unequal),
            ("==", Compare::Equal),
            ("=", Compare::Equal),
            ("<", Compare::Less),
            (">", Compare::More),
        ];
        let (compare, rest) =
            signs.iter().find_map(|(sign, compare)| Some((*compare, text.strip_prefix(sign)?))).unwrap_or((Compare::Equal, text));
        let than: f64 = rest.trim().trim_end_matches('%').trim_end().parse().ok()?;
        than.is_finite().then_some(Bound { compare, than })
    }

    /// Whether a value satisfies the bound.
    pub fn holds(&self, value: f64) -> bool {
        match self.compare {
            Compare::Less => value < self.than,
            Compare::AtMost => value <= self.than,
            Compare::Equal => value == self.than,
            Compare::Unequal => value != self.than,
            Compare::AtLeast => value >= self.than,
            Compare::More => value > self.than,
        }
    }
}

/// The rules of a `gate` table, in the order in which they stand.
pub(super) fn rules(value: &Value<'_>) -> Vec<At<GateRule>> {
    let mut found = Vec::new();
    gather(value, String::new(), &mut found);
    found
}

/// Rules of nested tables, each under its dotted name.
fn gather(value: &Value<'_>, path: String, found: &mut Vec<At<GateRule>>) {
    match reader::table(value) {
        Some(table) => {
            for (key, value) in table {
                let name: &str = key.get_ref();
                let path = if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
                gather(value, path, found);
            }
        }
        None => {
            if let Some(wants) = reader::scalar(value) {
                found.push(At { value: GateRule { number: path, wants }, span: value.span() });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_read_and_hold() {
        for (text, value, holds) in [
            ("0", 0.0, true),
            ("0", 1.0, false),
            (">= 80", 80.0, true),
            (">= 80 %", 79.9, false),
            ("<4096", 4096.0, false),
            ("!= 3", 2.0, true),
            ("== -1.5", -1.5, true),
            ("> 1e3", 1001.0, true),
        ] {
            assert_eq!(Bound::parse(text).expect("it is a limit").holds(value), holds, "{text} {value}");
        }
        for bad in ["", ">=", "many", "80 to 90", "NaN", ">= inf", "=> 3"] {
            assert_eq!(Bound::parse(bad), None, "{bad}");
        }
    }
}
