//! Work for the outside and events: in order, once, until every reaction has read them.

use super::*;

pub(crate) fn occasion(project: &Project, delivery: &str) -> NewWork {
    NewWork { kind: WorkKind::Occasion, project_id: project.id, lane: String::new(), once: Some(delivery.into()), body: "{}".into() }
}

#[tokio::test]
async fn occasions_come_once_and_are_due_in_their_time() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let add = async |delivery: &str, now| change!(records, now, add_work(&occasion(&project, delivery))).expect("an answer").is_some();
    let due_at = async |now| records.due_work(WorkKind::Occasion, now, 1).await.expect("a list");
    assert!(add("d1", 10).await);
    assert!(!add("d1", 11).await);
    let due = due_at(10).await;
    assert_eq!(due.len(), 1);
    change!(records, 11, work_failed(due[0].id, "away", 50)).expect("an answer");
    assert!(due_at(49).await.is_empty());
    assert_eq!(records.next_work_at(49).await.expect("an answer"), Some(50));
    assert_eq!(records.next_work_at(50).await.expect("an answer"), None, "due already");
    assert_eq!(records.troubles().await.expect("an answer"), [(project.id, "away".to_owned())]);
    assert_eq!(due_at(50).await[0].tries, 1);
    assert!(add("d2", 20).await);
    assert_eq!(due_at(49).await.len(), 1, "one that waits for another try keeps none behind it waiting");
    change!(records, 51, work_done(due_at(49).await[0].id, Some("run 1"))).expect("an answer");
    change!(records, 51, work_done(due[0].id, Some("run 1"))).expect("an answer");
    assert_eq!(records.next_work_at(0).await.expect("an answer"), None);
    assert!(records.troubles().await.expect("an answer").is_empty());
    assert!(!add("d1", 52).await, "it came before, and was worked off");
    change!(records, 53, work_given_up(due[0].id, "away for long")).expect("an answer");
    assert!(add("d1", 60).await, "told again, it is tried again");
    let again = due_at(60).await;
    assert_eq!((again[0].id, again[0].tries), (due[0].id, 0));
    assert!(add("d3", 60).await);
    assert_eq!(due_at(60).await.len(), 1, "one of a project at a time");
}

fn message(project: &Project, commit: &str, kind: WorkKind, body: &str) -> NewWork {
    NewWork { kind, project_id: project.id, lane: commit.into(), once: None, body: body.into() }
}

#[tokio::test]
async fn of_each_commit_only_the_oldest_message_is_due() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    for (commit, kind, body) in
        [("c1", WorkKind::Status, "1"), ("c1", WorkKind::Status, "2"), ("c1", WorkKind::Note, "3"), ("c2", WorkKind::Status, "4")]
    {
        change!(records, 10, add_work(&message(&project, commit, kind, body))).expect("an answer");
    }
    let due = async |now| {
        let mut due = Vec::new();
        for kind in WorkKind::ALL {
            due.extend(records.due_work(kind, now, 8).await.expect("a list").into_iter().map(|one| (one.id, one.body)));
        }
        due.sort();
        due
    };
    let first = due(10).await;
    assert_eq!(first.iter().map(|(_, body)| body.as_str()).collect::<Vec<_>>(), ["1", "3", "4"]);
    change!(records, 11, work_failed(first[0].0, "refused", 100)).expect("an answer");
    let second: Vec<String> = due(50).await.into_iter().map(|(_, body)| body).collect();
    assert_eq!(second, ["3", "4"], "the second status waits for the first");
    change!(records, 60, work_done(first[0].0, None)).expect("an answer");
    assert!(due(60).await.iter().any(|(_, body)| body == "2"));
    assert_eq!(records.unsent_messages(1).await.expect("a count"), 3);
    assert_eq!(records.next_work_at(0).await.expect("an answer"), Some(10));
}

#[tokio::test]
async fn work_that_is_given_up_makes_way_and_can_be_tried_again() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    for _ in 0..2 {
        change!(records, 10, add_work(&message(&project, "c1", WorkKind::Status, "{}"))).expect("an answer");
    }
    let due = async |now| records.due_work(WorkKind::Status, now, 8).await.expect("a list").remove(0);
    let first = due(20).await;
    change!(records, 21, work_given_up(first.id, "the forge answered 404")).expect("an answer");
    assert!(due(22).await.id > first.id);
    let told = records.troubled_work().await.expect("a list");
    assert_eq!((told.len(), told[0].state.as_str(), told[0].said.as_deref()), (1, "given up", Some("the forge answered 404")));
    let of = change!(records, 30, work_again(first.id)).expect("an answer");
    assert_eq!(of, Some(("tidegauge".into(), "status".into())));
    assert_eq!(change!(records, 30, work_again(first.id)).expect("an answer"), None, "it is on its way");
    assert_eq!(due(30).await.id, first.id, "in its old place");
}

/// A reaction goes on from where it was, and what is dropped by age was read by all of them.
#[tokio::test]
async fn events_are_kept_until_every_reaction_has_read_them() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let key = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    let event = |n: i64| NewEvent { run_id: key.id, body: n.to_string(), detail: None };
    for n in 1..=4 {
        change!(records, n, add_events(&[event(n)])).expect("an answer");
    }
    assert_eq!(records.cursor("new").await.expect("an answer"), 4, "a new reaction begins with what comes");
    change!(records, 5, move_cursor("status", 3)).expect("an answer");
    change!(records, 5, move_cursor("status", 2)).expect("an answer");
    assert_eq!(records.cursor("status").await.expect("an answer"), 3, "it never goes back");
    assert_eq!(change!(records, 9, drop_events(100)).expect("an answer"), 0, "another has read nothing yet");
    for reaction in ["note", "passed"] {
        change!(records, 5, move_cursor(reaction, 4)).expect("an answer");
    }
    assert_eq!(change!(records, 9, drop_events(3)).expect("an answer"), 2, "only the old ones");
    assert_eq!(change!(records, 9, drop_events(100)).expect("an answer"), 1);
    assert_eq!(records.events_after(0, 9).await.expect("a list").len(), 1, "one reaction has yet to read the last");
}
