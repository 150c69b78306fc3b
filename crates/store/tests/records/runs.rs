//! Runs and their jobs, and what the board asks of them.

use super::*;

#[tokio::test]
async fn a_commit_has_one_run_and_numbers_have_no_gaps() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let first = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    assert_eq!(begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 11).await, None);
    let by_hand = begin(&records, &new_run(&project, "c1", "by_hand", Some(&plan)), 12).await.expect("a run");
    let broken = begin(&records, &new_run(&project, "c2", "push", None), 13).await.expect("a run");
    assert_eq!([first.number, by_hand.number, broken.number], [1, 2, 3]);
    let open: Vec<i64> = records.open_runs().await.expect("a list").into_iter().map(|run| run.number).collect();
    assert_eq!(open, [1, 2], "the broken one has ended at once");
    assert_eq!(records.run_plan(first.id).await.expect("an answer"), Some(plan));
    assert_eq!(records.jobs(first.id).await.expect("a list").len(), 2);
    let listed: Vec<i64> =
        records.runs(Some("tidegauge"), None, &[], i64::MAX, 2).await.expect("a list").into_iter().map(|run| run.number).collect();
    assert_eq!(listed, [3, 2]);
    assert_eq!(records.newest_run("tidegauge", None).await.expect("an answer").map(|run| run.number), Some(3));
    assert!(records.run("tidegauge", 9).await.expect("an answer").is_none());
    assert!(records.run("almanac", 1).await.expect("an answer").is_none());
}

#[tokio::test]
async fn a_step_is_read_back_as_it_was() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let key = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    let mut run = Run::new(Arc::new(plan.clone()), 10);
    run.apply(&Event::Begun, 11).expect("begun");
    run.apply(&Event::Claimed { job: 0, attempt: 1, runner: "quay".into() }, 12).expect("claimed");
    run.apply(&Event::Ended { job: 0, attempt: 1, outcome: Outcome::Failed, exit_code: Some(1), why: Some("it \"broke\"\n".into()) }, 13)
        .expect("ended");
    let attempt = AttemptRow {
        run_id: key.id,
        job: 0,
        number: 1,
        runner: "quay".into(),
        session: "s".into(),
        slot: 0,
        state: "failed".into(),
        why: Some("it broke".into()),
        exit_code: Some(3),
        started_at: 12,
        queued_at: Some(11),
        ended_at: Some(13),
        phases: "[]".into(),
        caches: "[]".into(),
        job_id: Some("build.gauge".into()),
    };
    let artifact = StoredArtifact {
        run_id: key.id,
        job: 0,
        name: "fw".into(),
        digest: "sha256:x".into(),
        bytes: 5,
        files: 1,
        tree: Some("t".into()),
        raw_bytes: 9,
        content: "c".into(),
        kept_until: Some(7),
        pinned_by: None,
    };
    let told = RunEvent {
        project_id: project.id,
        run: "tidegauge/1".into(),
        pipeline: "main".into(),
        state: State::Failed,
        sentence: "Failed".into(),
        branch: None,
        told_on: "c1".into(),
        started_at: Some(12),
        ended_at: Some(13),
    };
    let rows = StepRows {
        jobs: run.jobs().iter().enumerate().map(|(number, job)| JobRow::new(key.id, number, job)).collect(),
        attempts: vec![attempt],
        artifacts: vec![artifact],
        runs: vec![RunChange { id: key.id, state: run.state(), why: Some("so".into()), started: Some(12), ended: Some(13), rest_ms: 0 }],
        events: vec![
            NewEvent { run_id: key.id, body: "{\"n\":1}".into(), detail: None },
            NewEvent { run_id: key.id, body: "{\"n\":2}".into(), detail: Some(told.clone()) },
        ],
        ..StepRows::default()
    };
    let newest = records.newest_event();
    change!(records, 13, write_step(&rows)).expect("a step");
    let events = records.events_after(0, 10).await.expect("a list");
    assert_eq!(events.len(), 2);
    assert!(events[0].id < events[1].id && events[0].body.contains("1"));
    assert_eq!(*newest.borrow(), events[1].id, "whoever waits is told");
    assert_eq!(records.run_events_after(0, 10).await.expect("a list"), [(events[1].id, key.id, told)], "only what the run itself did");
    let jobs: Vec<_> = records.jobs(key.id).await.expect("a list").into_iter().map(|job| job.restore().expect("a job")).collect();
    let restored = Run::restore(Arc::new(plan), jobs, run.state());
    assert_eq!(restored.jobs(), run.jobs());
    assert_eq!(restored.state(), State::Failed);
    assert_eq!(records.attempts(key.id).await.expect("a list")[0].exit_code, Some(3));
    assert_eq!(records.artifacts(key.id).await.expect("a list")[0].digest, "sha256:x");
    let failed = records.first_failed(&[key.id, key.id + 1]).await.expect("an answer");
    assert_eq!(failed.values().map(|job| (job.run_id, job.number)).collect::<Vec<_>>(), [(key.id, 0)], "a run that is not there has none");
    let counts = records.state_counts(&[key.id]).await.expect("a list");
    assert_eq!(counts, [(key.id, "failed".to_owned(), 1), (key.id, "skipped".to_owned(), 1)]);
    assert_eq!(records.events_after(events[0].id, 10).await.expect("a list").len(), 1);
    assert_eq!(records.event_end().await.expect("an answer"), events[1].id);
    assert!(records.open_runs().await.expect("a list").is_empty());
}

#[tokio::test]
async fn the_board_knows_since_when_and_by_whom() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let mut ids = Vec::new();
    for (commit, state) in [("c1", State::Passed), ("c2", State::Failed), ("c3", State::Stopped), ("c4", State::Failed)] {
        let plan = a_plan();
        let key = begin(&records, &new_run(&project, commit, "push", Some(&plan)), 10).await.expect("a run");
        end(&records, key.id, state, 100 + key.number).await;
        ids.push(key.id);
    }
    let quiet = self::project(&records, "almanac").await;
    let turned = records.turned(&[project.id, quiet.id]).await.expect("an answer");
    let verdicts: Vec<_> = turned.iter().map(|row| (row.project_id, row.state.as_str(), row.commit_id.as_str())).collect();
    assert_eq!(verdicts, [(project.id, "failed", "c2")], "stopped runs say nothing about the branch");
    let strip = records.board_runs(&[quiet.id, project.id], 2).await.expect("a list");
    assert_eq!(strip.iter().map(|row| row.id).collect::<Vec<_>>(), [ids[3], ids[2]], "the newest first");
    let past = records.passed_durations(&ids).await.expect("a list");
    assert_eq!((past.get(&ids[0]), past.get(&ids[3])), (None, Some(&vec![10])), "only what was before counts");
    assert_eq!(records.runs_by_id(&[ids[2], 99, ids[0]]).await.expect("a list").len(), 2);
    end(&records, ids[2], State::Passed, 500).await;
    let turned = records.turned(&[project.id]).await.expect("an answer");
    assert_eq!(turned[0].commit_id, "c4", "it passed in between");
}

/// What could not be read is said once; another verdict, or the same of something else, is said too.
#[tokio::test]
async fn what_could_not_be_read_is_said_once() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let lost = |event| NewRunRow { state: State::Lost, why: Some("no route"), unread: Some(1), ..new_run(&project, "c1", event, None) };
    let conflict = |target, proposal, why| NewRunRow {
        state: State::Failed,
        why: Some(why),
        unread: Some(2),
        target: Some(target),
        proposal: Some(proposal),
        ..new_run(&project, "c1", "proposal", None)
    };
    let said = [
        (lost("push"), true),
        (NewRunRow { unread: Some(2), why: Some("no route after 3 ms"), ..lost("push") }, false),
        (NewRunRow { branch: Some("topic"), ..lost("push") }, true),
        (NewRunRow { commit_id: "c2", ..lost("push") }, true),
        (NewRunRow { tag: Some("v1"), ..lost("tag") }, true),
        (NewRunRow { tag: Some("v2"), ..lost("tag") }, true),
        (NewRunRow { target: Some("main"), proposal: Some("1"), ..lost("proposal") }, true),
        (conflict("main", "1", "both changed a"), true),
        (conflict("main", "1", "both changed a"), false),
        (conflict("main", "1", "both changed b"), true),
        (conflict("stable", "2", "both changed a"), true),
        (lost("by_hand"), true),
        (lost("by_hand"), true),
        // Once it can be read, it has a run like any other.
        (new_run(&project, "c1", "push", None), true),
    ];
    for (number, (row, is_said)) in said.iter().enumerate() {
        assert_eq!(begin(&records, row, 5).await.is_some(), *is_said, "{number}");
    }
}

#[tokio::test]
async fn a_run_once_more_is_a_new_run_of_the_same_commit() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let first = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    assert!(begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.is_none(), "the same commit has one run");
    let again = change!(records, 20, begin_again(first.id, "Maren", true)).expect("an answer").expect("a run");
    let row = records.run("tidegauge", again.number).await.expect("an answer").expect("a run");
    assert_eq!((row.again_of, row.commit_id.as_str(), row.started_by.as_deref()), (Some(first.number), "c1", Some("Maren")));
    let jobs = records.jobs(again.id).await.expect("a list");
    assert_eq!((jobs.len(), jobs[0].fresh), (plan.jobs.len(), true));
    let broken = begin(&records, &new_run(&project, "c2", "push", None), 10).await.expect("a run");
    assert!(change!(records, 20, begin_again(broken.id, "Maren", false)).expect("an answer").is_none());
}

/// What took all over from another is quick and says nothing of how long such runs take; what did a part of its work does.
#[tokio::test]
async fn runs_that_did_nothing_say_nothing_of_how_long_they_take() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = Arc::new(a_plan());
    let mut ids = Vec::new();
    for (commit, reused, took) in [("c1", 0, 100), ("c2", 2, 1), ("c3", 1, 40), ("c4", 2, 2)] {
        let key = begin(&records, &new_run(&project, commit, "push", Some(&plan)), 10).await.expect("a run");
        let mut run = Run::new(plan.clone(), 10);
        run.apply(&Event::Begun, 11).expect("begun");
        for job in 0..plan.jobs.len() {
            if job < reused {
                let (facts, numbers) = Default::default();
                run.apply(&Event::Reused { job, from: "tidegauge/1".into(), facts, numbers }, 12).expect("taken over");
            } else {
                run.apply(&Event::Claimed { job, attempt: 1, runner: "quay".into() }, 12).expect("claimed");
                let ended = Event::Ended { job, attempt: 1, outcome: Outcome::Passed, exit_code: Some(0), why: None };
                run.apply(&ended, 13).expect("ended");
            }
        }
        assert_eq!(run.state(), State::Passed);
        let rows = StepRows {
            jobs: run.jobs().iter().enumerate().map(|(number, job)| JobRow::new(key.id, number, job)).collect(),
            runs: vec![RunChange { id: key.id, state: State::Passed, why: None, started: Some(10), ended: Some(10 + took), rest_ms: 0 }],
            ..StepRows::default()
        };
        change!(records, 20, write_step(&rows)).expect("a step");
        ids.push(key.id);
    }
    assert_eq!(records.usual_run(project.id, "main").await.expect("an answer"), Some(100), "of 40 and 100 the middle");
    let mut past = records.passed_durations(&ids).await.expect("a list");
    past.values_mut().for_each(|took| took.sort_unstable());
    assert_eq!(past.get(&ids[3]), Some(&vec![40, 100]), "neither the second nor itself");
    assert_eq!(past.get(&ids[1]), Some(&vec![100]));
}
