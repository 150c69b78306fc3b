//! Questions about many runs at once, asked of the database and of a plain model: whatever happened, in whichever order.

use super::*;
use ordotaxis_core::engine::{Cut, JobState, Progress};
use ordotaxis_store::Took;
use proptest::prelude::*;
use std::collections::{BTreeMap, HashMap};

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

/// Texts as hostile files and runners send them: quotes, line ends, what looks like JSON, every script.
fn text() -> impl Strategy<Value = String> {
    prop_oneof!["\\PC{0,12}", "[\"'\\\\\n\t\u{0}\u{1}\u{7f}{}\\[\\],:]{0,8}", Just("null".to_owned()), Just("日本 🌊".to_owned())]
}

fn progress() -> impl Strategy<Value = Progress> {
    prop_oneof![
        (proptest::option::of(0..9_000_000_000_000_i64), proptest::option::of(text()))
            .prop_map(|(not_before, after)| Progress::Queued { not_before, after }),
        text().prop_map(|by| Progress::Running { cut: Some(Cut::Stopped { by }) }),
        (text(), any::<bool>()).prop_map(|(why, unwanted)| Progress::Skipped { why, unwanted }),
        text().prop_map(|from| Progress::Reused { from }),
        text().prop_map(|why| Progress::Failed { why }),
    ]
}

fn job() -> impl Strategy<Value = JobState> {
    let texts = || proptest::collection::btree_map(text(), text(), 0..3);
    (progress(), any::<u32>(), proptest::option::of(text()), proptest::option::of(0..i64::MAX), texts(), texts(), any::<bool>()).prop_map(
        |(progress, attempt, runner, started, inputs, facts, fresh)| JobState {
            progress,
            attempt,
            runner: runner.clone(),
            started,
            started_by: runner,
            inputs,
            facts,
            fresh,
            ..JobState::new(7)
        },
    )
}

fn attempt() -> impl Strategy<Value = AttemptRow> {
    (text(), text(), proptest::option::of(text()), proptest::option::of(any::<i32>()), any::<u32>(), proptest::option::of(any::<i64>()))
        .prop_map(|(runner, session, why, exit_code, slot, ended_at)| AttemptRow {
            run_id: 0,
            job: 0,
            number: 0,
            runner,
            session,
            slot,
            state: "running".into(),
            why,
            exit_code,
            started_at: 5,
            queued_at: ended_at.map(|at| at / 2),
            ended_at,
            phases: "[]".into(),
            caches: "[{\"key\":\"a \\\"b\\\"\"}]".into(),
            job_id: Some("a.\"b\"".into()),
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Attempts are leased, end, and are given back, some of them within the same step: what is there is what a plain map has.
    #[test]
    fn an_attempt_that_was_given_back_is_gone_until_it_is_leased_again(
        steps in proptest::collection::vec((proptest::collection::vec((0..2_i64, 1..3_u32), 0..3), proptest::collection::vec((0..2_i64, 1..3_u32, attempt()), 0..3)), 1..12)
    ) {
        now(async {
            let (_folder, records) = records().await;
            let project = project(&records, "tidegauge").await;
            let id = begin(&records, &new_run(&project, "c1", "push", Some(&a_plan())), 1).await.expect("a run").id;
            let mut plain: BTreeMap<(i64, u32), AttemptRow> = BTreeMap::new();
            for (given_back, leased) in steps {
                let leased: BTreeMap<(i64, u32), AttemptRow> =
                    leased.into_iter().map(|(job, number, row)| ((job, number), AttemptRow { run_id: id, job, number, ..row })).collect();
                // In one step the giving back comes before the next lease.
                given_back.iter().for_each(|key| drop(plain.remove(key)));
                plain.extend(leased.clone());
                let rows = StepRows {
                    given_back: given_back.into_iter().map(|(job, number)| (id, job, number)).collect(),
                    attempts: leased.into_values().collect(),
                    ..StepRows::default()
                };
                records.write_step(&rows, 9).await.expect("a step");
                let found = records.attempts(id).await.expect("a list");
                let wanted: Vec<&AttemptRow> = plain.values().collect();
                prop_assert_eq!(serde_json::to_value(found).expect("JSON"), serde_json::to_value(wanted).expect("JSON"));
            }
            Ok(())
        })?;
    }

    /// All rows of a run are read as one text: nothing that is in them may be taken for a part of it.
    #[test]
    fn rows_come_back_as_they_were_written_whatever_is_in_them(
        jobs in proptest::collection::vec(job(), 2), attempts in proptest::collection::vec(attempt(), 0..5),
        took in proptest::collection::vec((text(), 0..1_000_i64), 0..30)
    ) {
        now(async {
            let (_folder, records) = records().await;
            let (project, plan) = (project(&records, "tidegauge").await, a_plan());
            let id = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 1).await.expect("a run").id;
            let numbered = |(number, row): (u32, AttemptRow)| AttemptRow { run_id: id, job: i64::from(number % 2), number, ..row };
            let mut attempts: Vec<AttemptRow> = (1..).zip(attempts).map(numbered).collect();
            let rows = StepRows {
                jobs: jobs.iter().enumerate().map(|(at, job)| JobRow::new(id, at, job)).collect(),
                attempts: attempts.clone(),
                took: took.iter().map(|(job, ms)| Took { project_id: project.id, pipeline: "main".into(), job: job.clone(), file: None, ms: *ms }).collect(),
                ..StepRows::default()
            };
            records.write_step(&rows, 9).await.expect("a step");
            let read = records.jobs(id).await.expect("a list").into_iter().map(|row| row.restore().expect("a job")).collect::<Vec<_>>();
            prop_assert_eq!(read, jobs);
            attempts.sort_by_key(|row| (row.job, row.number));
            let found = records.attempts(id).await.expect("a list");
            prop_assert_eq!(serde_json::to_value(found).expect("JSON"), serde_json::to_value(attempts).expect("JSON"));
            let mut usual: HashMap<String, Vec<i64>> = HashMap::new();
            took.iter().for_each(|(job, ms)| usual.entry(job.clone()).or_default().push(*ms));
            let middle = |(job, all): (String, Vec<i64>)| {
                let mut last = all[all.len().saturating_sub(9)..].to_vec();
                last.sort_unstable();
                (job, last[last.len() / 2])
            };
            let usual: HashMap<String, i64> = usual.into_iter().map(middle).collect();
            prop_assert_eq!(records.usual(project.id, "main").await.expect("a list"), usual);
            Ok(())
        })?;
    }

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
