//! `PROJECT/NUMBER`, or `PROJECT` for its newest run.

use crate::failure::Failure;
use std::str::FromStr;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RunRef {
    pub(crate) project: String,
    pub(crate) number: Option<i64>,
}

/// Reads what someone wrote for a run.
pub(crate) fn run_ref(text: &str) -> Result<RunRef, Failure> {
    text.parse().map_err(|what: String| Failure::new(2, what, "name one as PROJECT/NUMBER, or PROJECT for its newest"))
}

impl FromStr for RunRef {
    type Err = String;

    fn from_str(text: &str) -> Result<RunRef, String> {
        let (project, number) = match text.split_once('/') {
            None => (text, None),
            Some((project, number)) => {
                let number = number.parse().ok().filter(|number| *number > 0);
                (project, Some(number.ok_or_else(|| format!("`{text}` names no run"))?))
            }
        };
        if project.is_empty() || project.contains(|c: char| c.is_whitespace() || c == '?' || c == '#') {
            return Err(format!("`{text}` names no run"));
        }
        Ok(RunRef { project: project.to_owned(), number })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_is_named_with_or_without_its_number() {
        assert_eq!("tidegauge/12".parse(), Ok(RunRef { project: "tidegauge".into(), number: Some(12) }));
        assert_eq!("tidegauge".parse(), Ok(RunRef { project: "tidegauge".into(), number: None }));
        for bad in ["", "tidegauge/", "tidegauge/x", "tidegauge/0", "a b"] {
            assert!(bad.parse::<RunRef>().is_err(), "{bad:?}");
        }
    }
}
