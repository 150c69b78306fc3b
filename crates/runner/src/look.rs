//! One look at what was put somewhere, by a check or a watch: the step of a command, and what an answer says.

use crate::ask::Answer;
use crate::broken::Broken;
use crate::job::Job;
use ordotaxis_core::language::Step;
use tokio::time::Instant;

/// So much of an answer is quoted.
const QUOTED: usize = 120;

impl Job<'_> {
    /// Whether there is time for one more look: the job's time limit holds for what is asked after its steps, too.
    pub(crate) fn in_time(&self, asked: &str) -> Result<(), Broken> {
        if self.until.is_some_and(|until| Instant::now() >= until) {
            return Err(Broken::TimedOut(format!("the job's time limit was over while {asked} was looked at")));
        }
        Ok(())
    }
}

/// How one look went, in words.
pub(crate) type Look = Result<String, String>;

/// A command that only looks.
pub(crate) fn look_step(verb: &str, run: &str) -> Step {
    Step {
        name: format!("{verb} {run}"),
        run: run.to_owned(),
        env: Default::default(),
        dir: None,
        shell: None,
        timeout_ms: None,
        may_fail: false,
        condition: None,
    }
}

/// Whether an answer is well; in words either way.
pub(crate) fn judged(answer: Result<Answer, String>, says: Option<&str>) -> Look {
    let Answer { status, text } = answer?;
    let quoted: String = text.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(QUOTED).collect();
    let said = if quoted.is_empty() { format!("{status}, and nothing else") } else { format!("{status} `{quoted}`") };
    let success = (200..300).contains(&status);
    match says.filter(|wanted| !text.contains(wanted)) {
        Some(wanted) if success => Err(format!("it does not say `{wanted}`: {said}")),
        _ if !success => Err(format!("it answered {said}")),
        _ => Ok(said),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_well_when_it_says_what_is_wanted() {
        let answer = |status, text: &str| Ok(Answer { status, text: text.to_owned() });
        for (given, says, told) in [
            (answer(200, "version 1.4\n"), Some("1.4"), Ok("200 `version 1.4`".to_owned())),
            (answer(200, ""), None, Ok("200, and nothing else".to_owned())),
            (answer(200, "version 1.3"), Some("1.4"), Err("it does not say `1.4`: 200 `version 1.3`".to_owned())),
            (answer(200, "<html> <body>"), Some("1.4"), Err("it does not say `1.4`: 200 `<html> <body>`".to_owned())),
            (answer(500, "1.4"), Some("1.4"), Err("it answered 500 `1.4`".to_owned())),
            (answer(302, ""), None, Err("it answered 302, and nothing else".to_owned())),
            (Err("nothing listens there".to_owned()), None, Err("nothing listens there".to_owned())),
        ] {
            assert_eq!(judged(given, says), told);
        }
    }
}
