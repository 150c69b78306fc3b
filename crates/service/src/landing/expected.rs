//! When each proposal of a queue will likely land, from how long runs of the wanted pipelines took so far. An estimate: each
//! passes at the first try, and nobody pushes past the queue.

use crate::app::App;
use crate::clock;
use ordotaxis_core::engine::Millis;
use ordotaxis_core::landing::{Queue, Trial, TrialState};
use ordotaxis_core::rules::{BranchRules, opens};
use ordotaxis_store::{Project, StoreError};
use std::collections::HashMap;

/// By proposal; none of those that wait for something else than time, or where no run has passed yet.
pub(crate) async fn expected(
    app: &App,
    project: &Project,
    branch: &str,
    rules: &BranchRules,
    queue: &Queue,
) -> Result<HashMap<String, Millis>, StoreError> {
    let mut usual = 0;
    for pipeline in &rules.wants {
        match app.records.usual_run(project.id, pipeline).await? {
            Some(ms) => usual = usual.max(ms),
            None => return Ok(HashMap::new()),
        }
    }
    let now = clock::now();
    let mut begun = HashMap::new();
    for trial in queue.trials() {
        let runs = app.records.trial_runs(project.id, branch, trial.number).await?;
        begun.insert(trial.number, runs.iter().map(|run| run.created_at).min());
    }
    let ends = |trial: &Trial| match trial.state {
        TrialState::Passed { .. } | TrialState::Landing { .. } | TrialState::Unlanded { .. } => now,
        _ => begun.get(&trial.number).copied().flatten().unwrap_or(now) + usual,
    };
    let open = opens(&rules.closed, now).map_or(now, |(until, _)| until);
    Ok(in_order(queue, now, usual, open, ends))
}

/// Each lands when its trial has passed and those ahead have landed. Those without a trial take turns where one is free.
fn in_order(queue: &Queue, now: Millis, usual: Millis, open: Millis, ends: impl Fn(&Trial) -> Millis) -> HashMap<String, Millis> {
    let ahead = queue.manner.ahead.max(1);
    let (mut lands, mut untried, mut found) = (open.max(now), 0, HashMap::new());
    for entry in queue.entries().iter().filter(|entry| entry.held.is_none() && entry.lacks.is_none()) {
        let passes = match queue.trials().iter().find(|trial| trial.group.contains(&entry.offered)) {
            Some(trial) => ends(trial),
            None => {
                untried += 1;
                let turns = i64::try_from(usize::div_ceil(untried, ahead * queue.manner.together.max(1))).unwrap_or(i64::MAX);
                now.saturating_add(usual.saturating_mul(turns.saturating_add(1)))
            }
        };
        lands = lands.max(passes.max(now));
        found.insert(entry.offered.proposal.clone(), lands);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::landing::{Event, Manner, Offered};

    #[test]
    fn nobody_lands_before_those_ahead() {
        let mut queue = Queue::new("m0", Manner { ahead: 2, together: 1 });
        for name in ["a", "b", "c", "d"] {
            let offered = Offered { proposal: name.into(), head: format!("{name}1") };
            queue.apply(Event::Asked { offered, by: "ines".into(), at: 0, lacks: (name == "c").then(|| "an approval".into()) });
        }
        queue.apply(Event::Made { trial: 1, commit: "t1".into() });
        let found = in_order(&queue, 1_000, 100, 0, |trial| if trial.number == 1 { 1_050 } else { 1_020 });
        assert_eq!((found["a"], found["b"]), (1_050, 1_050), "b passes first, and waits for a");
        assert_eq!(found.get("c"), None, "nobody knows when it gets its approval");
        assert_eq!(found["d"], 1_200, "it has no trial yet");
        let shut = in_order(&queue, 1_000, 100, 9_000, |_| 1_050);
        assert!(shut.values().all(|at| *at == 9_000), "nothing lands before the branch opens: {shut:?}");
    }
}
