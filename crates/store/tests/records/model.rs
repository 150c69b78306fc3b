//! Questions about many runs at once, asked of the database and of a plain model: whatever happened, in whichever order.

use super::*;
use proptest::prelude::*;
use std::collections::HashMap;

/// A run of the model: its project, branch, end and how long it took.
#[derive(Debug, Clone)]
struct Ended {
    project: usize,
    main: bool,
    state: State,
    took: i64,
}

const PROJECTS: usize = 3;

fn ended() -> impl Strategy<Value = Ended> {
    let state = prop_oneof![3 => Just(State::Passed), 3 => Just(State::Failed), 1 => Just(State::Stopped), 1 => Just(State::Overtaken)];
    (0..PROJECTS, proptest::bool::weighted(0.7), state, 1..50_i64).prop_map(|(project, main, state, took)| Ended {
        project,
        main,
        state,
        took,
    })
}

struct Written {
    _folder: TempDir,
    records: Records,
    projects: Vec<i64>,
    /// As the model has them, by the number that the database gave.
    runs: Vec<(i64, Ended)>,
}

async fn written(history: Vec<Ended>) -> Written {
    let (folder, records) = records().await;
    let mut projects = Vec::new();
    for name in ["almanac", "stations", "tidegauge"] {
        projects.push(project(&records, name).await);
    }
    let plan = a_plan();
    let mut runs = Vec::new();
    for (at, one) in history.into_iter().enumerate() {
        let commit = format!("c{at}");
        let branch = if one.main { "main" } else { "spar" };
        let row = NewRunRow { branch: Some(branch), ..new_run(&projects[one.project], &commit, "push", Some(&plan)) };
        let id = begin(&records, &row, 1_000).await.expect("a run").id;
        let end = RunChange { id, state: one.state, why: None, started: Some(1_000), ended: Some(1_000 + one.took), rest_ms: 0 };
        change!(records, 2_000, write_step(&StepRows { runs: vec![end], ..StepRows::default() })).expect("a step");
        runs.push((id, one));
    }
    Written { _folder: folder, records, projects: projects.into_iter().map(|project| project.id).collect(), runs }
}

/// The first of the latest runs of a main branch that all have the same verdict; runs without one are passed over.
fn turned(runs: &[(i64, Ended)], project: usize) -> Option<i64> {
    let mut verdicts =
        runs.iter().rev().filter(|(_, run)| run.project == project && run.main && matches!(run.state, State::Passed | State::Failed));
    let (newest, last) = verdicts.next()?;
    Some(verdicts.take_while(|(_, run)| run.state == last.state).last().map_or(*newest, |(id, _)| *id))
}

/// Up to `most` runs of each project, the newest first.
fn strips(runs: &[(i64, Ended)], project: usize, most: usize) -> Vec<i64> {
    runs.iter().rev().filter(|(_, run)| run.project == project).take(most).map(|(id, _)| *id).collect()
}

/// What the last 15 runs took that passed before this one in its project.
fn past(runs: &[(i64, Ended)], at: usize) -> Vec<i64> {
    let before = runs[..at].iter().rev().filter(|(_, run)| run.project == runs[at].1.project && run.state == State::Passed);
    let mut took: Vec<i64> = before.take(15).map(|(_, run)| run.took).collect();
    took.sort_unstable();
    took
}

fn now<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().expect("a runtime").block_on(work)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn the_board_answers_as_a_plain_walk_over_all_runs_does(history in proptest::collection::vec(ended(), 0..40), most in 1..8_usize) {
        now(async {
            let Written { records, projects, runs, _folder } = written(history).await;
            let found = records.turned(&projects).await.expect("an answer");
            let found: HashMap<i64, i64> = found.into_iter().map(|row| (row.project_id, row.id)).collect();
            let strip = records.board_runs(&projects, most as i64).await.expect("a list");
            for (at, id) in projects.iter().enumerate() {
                prop_assert_eq!(found.get(id).copied(), turned(&runs, at));
                let ours: Vec<i64> = strip.iter().filter(|row| row.project_id == *id).map(|row| row.id).collect();
                prop_assert_eq!(ours, strips(&runs, at, most));
            }
            let ids: Vec<i64> = runs.iter().map(|(id, _)| *id).collect();
            let mut durations = records.passed_durations(&ids).await.expect("a list");
            for (at, id) in ids.iter().enumerate() {
                let mut ours = durations.remove(id).unwrap_or_default();
                ours.sort_unstable();
                prop_assert_eq!(ours, past(&runs, at), "of run {}", at);
            }
            Ok(())
        })?;
    }

    /// A usual step goes in as one call; with a runner that signs on it takes the longer way. Both write the same.
    #[test]
    fn both_ways_of_writing_a_step_write_the_same(ends in proptest::collection::vec((0..2_usize, any::<bool>()), 1..6)) {
        now(async {
            let (_one, short) = records().await;
            let (_other, long) = records().await;
            let plan = Arc::new(a_plan());
            let mut run = Run::new(plan.clone(), 1);
            let mut keys = Vec::new();
            for records in [&short, &long] {
                let project = project(records, "tidegauge").await;
                keys.push(begin(records, &new_run(&project, "c1", "push", Some(&plan)), 1).await.expect("a run").id);
            }
            let (id, same) = (keys[0], keys[1]);
            prop_assert_eq!(id, same);
            let mut happened = vec![Event::Begun];
            for (job, passes) in ends {
                let attempt = run.jobs()[job].attempt + 1;
                happened.push(Event::Claimed { job, attempt, runner: "quay".into() });
                let outcome = if passes { Outcome::Passed } else { Outcome::Failed };
                happened.push(Event::Ended { job, attempt, outcome, exit_code: Some(i32::from(!passes)), why: Some("so".into()) });
            }
            for (now, event) in (2..).zip(happened) {
                let Ok(effects) = run.apply(&event, now) else { continue };
                let rows = StepRows {
                    jobs: effects.changed.iter().map(|&job| JobRow::new(id, job, &run.jobs()[job])).collect(),
                    runs: vec![RunChange { id, state: run.state(), why: None, started: Some(1), ended: None, rest_ms: 0 }],
                    events: vec![NewEvent { run_id: id, body: format!("{{\"n\":{now}}}"), detail: None }],
                    ..StepRows::default()
                };
                short.write_step(&rows, now).await.expect("the short way");
                change!(long, now, write_step(&rows)).expect("the long way");
            }
            let mut answers = Vec::new();
            for records in [&short, &long] {
                let jobs = records.jobs(id).await.expect("a list").into_iter().map(|row| row.restore().expect("a job"));
                let events = records.events_after(0, 100).await.expect("a list").into_iter().map(|event| event.body);
                answers.push((jobs.collect::<Vec<_>>(), events.collect::<Vec<_>>()));
            }
            prop_assert_eq!(&answers[0], &answers[1]);
            prop_assert_eq!(&answers[0].0[..], run.jobs());
            Ok(())
        })?;
    }
}
