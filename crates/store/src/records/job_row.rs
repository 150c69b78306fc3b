//! A job as it is stored: its state flat in columns, so that queries find it; read back, the columns must fit together.

use super::StoreError;
use ordotaxis_core::engine::{Back, Cut, Hold, JobState, Progress, State};
use serde::{Deserialize, Serialize};

/// A job as it is stored.
#[derive(Debug, Clone, Serialize, Deserialize, sqlx::FromRow)]
pub struct JobRow {
    pub run_id: i64,
    pub number: i64,
    pub state: String,
    pub why: Option<String>,
    pub attempt: u32,
    pub retries: u32,
    pub not_before: Option<i64>,
    pub runner: Option<String>,
    pub since: i64,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    pub stop_asked: Option<String>,
    pub overtaken_by: Option<String>,
    pub started_by: Option<String>,
    /// JSON
    pub inputs: Option<String>,
    pub fresh: bool,
    /// JSON
    pub facts: Option<String>,
    /// JSON
    pub numbers: Option<String>,
    pub reused_from: Option<String>,
    pub unwanted: bool,
    /// Names all that can change its result.
    pub work: Option<String>,
    /// Why no earlier result was taken over.
    pub not_reused: Option<String>,
    /// What keeps it out of its environment: JSON.
    pub holds: Option<String>,
    /// Whether it puts back what was there before: JSON.
    pub back: Option<String>,
}

impl JobRow {
    /// The row of a job in its present state.
    pub fn new(run_id: i64, number: usize, job: &JobState) -> JobRow {
        let (stop_asked, overtaken_by) = match &job.progress {
            Progress::Running { cut: Some(Cut::Stopped { by }) } => (Some(by.clone()), None),
            Progress::Running { cut: Some(Cut::Overtaken { by }) } | Progress::Overtaken { by } => (None, Some(by.clone())),
            _ => (None, None),
        };
        let reused_from = if let Progress::Reused { from } = &job.progress { Some(from.clone()) } else { None };
        JobRow {
            run_id,
            number: i64::try_from(number).unwrap_or(i64::MAX),
            state: job.state().word().to_owned(),
            why: job.why().map(Into::into),
            attempt: job.attempt,
            retries: job.retries,
            not_before: job.progress.pause(),
            runner: job.runner.clone(),
            since: job.since,
            started_at: job.started,
            ended_at: job.ended(),
            stop_asked,
            overtaken_by,
            started_by: job.started_by.clone(),
            inputs: if job.inputs.is_empty() { None } else { serde_json::to_string(&job.inputs).ok() },
            fresh: job.fresh,
            facts: if job.facts.is_empty() { None } else { serde_json::to_string(&job.facts).ok() },
            numbers: if job.numbers.is_empty() { None } else { serde_json::to_string(&job.numbers).ok() },
            reused_from,
            unwanted: matches!(job.progress, Progress::Skipped { unwanted: true, .. }),
            work: None,
            not_reused: None,
            holds: match &job.progress {
                Progress::Gated(Hold::Environment { holds }) => serde_json::to_string(holds).ok(),
                _ => None,
            },
            back: (job.back != Back::No).then(|| serde_json::to_string(&job.back).ok()).flatten(),
        }
    }

    /// The state that a row holds. Errors name the column that has no meaning in the row's state.
    pub fn restore(self) -> Result<JobState, StoreError> {
        Ok(JobState {
            progress: self.progress()?,
            attempt: self.attempt,
            retries: self.retries,
            runner: self.runner,
            since: self.since,
            started: self.started_at,
            started_by: self.started_by,
            inputs: read(self.inputs, "jobs.inputs")?,
            fresh: self.fresh,
            back: read(self.back, "jobs.back")?,
            facts: read(self.facts, "jobs.facts")?,
            numbers: read(self.numbers, "jobs.numbers")?,
        })
    }

    fn progress(&self) -> Result<Progress, StoreError> {
        let why = || self.why.clone().ok_or(StoreError::Value("jobs.why"));
        Ok(match State::from_word(&self.state).ok_or(StoreError::Value("jobs.state"))? {
            State::Waiting => Progress::Waiting,
            State::Gated if self.not_before.is_some() => Progress::Gated(Hold::Rests { until: self.not_before.unwrap_or_default() }),
            State::Gated if self.holds.is_some() => Progress::Gated(Hold::Environment { holds: read(self.holds.clone(), "jobs.holds")? }),
            State::Gated => Progress::Gated(self.why.clone().map_or(Hold::ByHand, |why| Hold::Shut { why })),
            State::Queued => Progress::Queued { not_before: self.not_before, after: self.why.clone() },
            State::Running => Progress::Running { cut: self.cut() },
            State::Passed => Progress::Passed,
            State::Failed => Progress::Failed { why: why()? },
            State::Skipped => Progress::Skipped { why: why()?, unwanted: self.unwanted },
            State::Reused => Progress::Reused { from: self.reused_from.clone().ok_or(StoreError::Value("jobs.reused_from"))? },
            // Rows of earlier versions have no reason where a runner stopped a job by itself.
            State::Stopped => Progress::Stopped { why: why().unwrap_or_else(|_| "stopped".to_owned()) },
            State::Overtaken => Progress::Overtaken { by: self.overtaken_by.clone().ok_or(StoreError::Value("jobs.overtaken_by"))? },
            State::Lost => Progress::Lost { why: why()? },
            State::Refused => Progress::Refused { why: why()? },
        })
    }

    fn cut(&self) -> Option<Cut> {
        let stopped = self.stop_asked.clone().map(|by| Cut::Stopped { by });
        stopped.or_else(|| self.overtaken_by.clone().map(|by| Cut::Overtaken { by }))
    }
}

fn read<T: serde::de::DeserializeOwned + Default>(text: Option<String>, what: &'static str) -> Result<T, StoreError> {
    text.map_or_else(|| Ok(T::default()), |text| serde_json::from_str(&text).map_err(|_| StoreError::Value(what)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::delivery::Hold::Claim;
    use proptest::prelude::*;

    fn progress() -> impl Strategy<Value = Progress> {
        let word = || "[a-z ]{1,12}";
        let cut = prop_oneof![word().prop_map(|by| Cut::Stopped { by }), word().prop_map(|by| Cut::Overtaken { by })];
        prop_oneof![
            Just(Progress::Waiting),
            Just(Progress::Passed),
            Just(Progress::Gated(Hold::ByHand)),
            word().prop_map(|why| Progress::Gated(Hold::Shut { why })),
            (0..1_000_000_i64).prop_map(|until| Progress::Gated(Hold::Rests { until })),
            (proptest::option::of(0..1_000_000_i64), proptest::option::of(word()))
                .prop_map(|(not_before, after)| Progress::Queued { not_before, after }),
            proptest::option::of(cut).prop_map(|cut| Progress::Running { cut }),
            word().prop_map(|why| Progress::Failed { why }),
            (word(), any::<bool>()).prop_map(|(why, unwanted)| Progress::Skipped { why, unwanted }),
            word().prop_map(|from| Progress::Reused { from }),
            word().prop_map(|why| Progress::Stopped { why }),
            word().prop_map(|by| Progress::Overtaken { by }),
            word().prop_map(|why| Progress::Lost { why }),
            word().prop_map(|why| Progress::Refused { why }),
            proptest::collection::vec(word().prop_map(|held_by| Claim { held_by }), 0..3)
                .prop_map(|holds| Progress::Gated(Hold::Environment { holds })),
        ]
    }

    proptest! {
        #[test]
        fn a_state_is_read_back_as_it_was_written(progress in progress()) {
            let job = JobState { progress, since: 9, ..JobState::new(5) };
            let row = JobRow::new(3, 0, &job);
            prop_assert_eq!(&row.state, job.state().word());
            prop_assert_eq!(row.ended_at, job.state().is_end().then_some(9));
            prop_assert_eq!(row.restore().expect("a state"), job);
        }
    }

    #[test]
    fn columns_that_do_not_fit_together_are_an_error() {
        let row = |state: &str| JobRow { state: state.to_owned(), ..JobRow::new(3, 0, &JobState::new(5)) };
        for (state, column) in
            [("failed", "jobs.why"), ("reused", "jobs.reused_from"), ("overtaken", "jobs.overtaken_by"), ("asleep", "jobs.state")]
        {
            let error = row(state).restore().expect_err("no data");
            assert!(error.to_string().contains(column), "{state}: {error}");
        }
        let stopped = row("stopped").restore().expect("rows of earlier versions may have no reason");
        assert_eq!(stopped.why().as_deref(), Some("stopped"));
    }
}
