//! `PROJECT/NUMBER`; `PROJECT` for its newest run, `PROJECT/PIPELINE` for that pipeline's newest.

use crate::failure::Failure;
use std::str::FromStr;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct RunRef {
    pub(crate) project: String,
    pub(crate) number: Option<i64>,
    /// Of the newest run that is meant; any where there is none.
    pub(crate) pipeline: Option<String>,
}

impl RunRef {
    /// One run of a project.
    pub(crate) fn numbered(project: &str, number: i64) -> RunRef {
        RunRef { project: project.to_owned(), number: Some(number), pipeline: None }
    }
}

/// Reads what someone wrote for a run.
pub(crate) fn run_ref(text: &str) -> Result<RunRef, Failure> {
    text.parse().map_err(|what: String| {
        Failure::new(2, what, "name one as PROJECT/NUMBER, PROJECT for its newest, or PROJECT/PIPELINE for the newest of a pipeline")
    })
}

impl FromStr for RunRef {
    type Err = String;

    fn from_str(text: &str) -> Result<RunRef, String> {
        let (project, rest) = text.split_once('/').map_or((text, None), |(project, rest)| (project, Some(rest)));
        let is_name = |name: &str| !name.is_empty() && !name.contains(|c: char| c.is_whitespace() || "?#/&".contains(c));
        let numbers = |rest: &str| rest.chars().all(|c| c.is_ascii_digit());
        if !is_name(project) || rest.is_some_and(|rest| !is_name(rest)) {
            return Err(format!("`{text}` names no run"));
        }
        match rest {
            Some(rest) if numbers(rest) => {
                let number = rest.parse().ok().filter(|number| *number > 0);
                Ok(RunRef::numbered(project, number.ok_or_else(|| format!("`{text}` names no run"))?))
            }
            _ => Ok(RunRef { project: project.to_owned(), number: None, pipeline: rest.map(str::to_owned) }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_is_named_with_or_without_its_number() {
        let newest = |pipeline: Option<&str>| RunRef { project: "tidegauge".into(), number: None, pipeline: pipeline.map(str::to_owned) };
        assert_eq!("tidegauge/12".parse(), Ok(RunRef::numbered("tidegauge", 12)));
        assert_eq!("tidegauge".parse(), Ok(newest(None)));
        assert_eq!("tidegauge/nightly".parse(), Ok(newest(Some("nightly"))));
        for bad in ["", "tidegauge/", "tidegauge/0", "a b", "/x", "a/b/c", "a/b&x=y", "tidegauge/99999999999999999999"] {
            assert!(bad.parse::<RunRef>().is_err(), "{bad:?}");
        }
    }
}
