//! Pools, their machines, and what machines come in with.

use super::records;
use ordotaxis_core::pool::{Machine, Stage};
use ordotaxis_store::Granted;
use serde_json::json;

/// A machine as it would be written down.
fn machine(id: &str, pool: &str, stage: Stage, wanted_at: i64) -> Machine {
    let text = json!({ "id": id, "pool": pool, "stage": stage, "since": wanted_at, "why": "a test", "wanted_at": wanted_at, "lasts": 100 });
    serde_json::from_value(text).expect("a machine")
}

#[tokio::test]
async fn machines_are_there_until_they_are_gone() {
    let (_folder, records) = records().await;
    let [mut first, second] = ["heavy-1", "heavy-2"].map(|id| machine(id, "heavy", Stage::Wanted, 10));
    change!(records, 10, write_machines(&[first.clone(), second.clone()])).expect("written");
    assert_eq!(records.machines_there().await.expect("a list"), [first.clone(), second.clone()]);
    (first.stage, first.gone_at, first.why) = (Stage::Gone, Some(50), "its time was over".into());
    change!(records, 50, write_machines(std::slice::from_ref(&first))).expect("written");
    assert_eq!(records.machines_there().await.expect("a list"), [second]);
    assert_eq!(records.machines_gone(49, 9).await.expect("a list"), [first.clone()]);
    assert!(records.machines_gone(50, 9).await.expect("a list").is_empty());
    assert_eq!(records.machine("heavy-1").await.expect("an answer"), Some(first), "also when it is gone");
    assert_eq!(records.machine("heavy-9").await.expect("an answer"), None);
    assert_eq!(change!(records, 60, drop_machines(51)).expect("dropped"), 1);
    assert_eq!(records.machine("heavy-1").await.expect("an answer"), None);
}

#[tokio::test]
async fn a_machine_comes_in_once_and_nothing_of_it_is_good_when_it_is_given_up() {
    let (_folder, records) = records().await;
    let granted = Granted { labels: vec!["heavy".into()], ..Granted::default() };
    for (secret, name) in [("oxi_one", "heavy-1"), ("oxi_two", "heavy-2")] {
        change!(records, 0, invite_machine(secret, name, &granted, 100)).expect("an invitation");
    }
    let invited = records.invitation("oxi_one", 1).await.expect("an answer").expect("an invitation");
    assert_eq!((&invited.granted, invited.machine.as_deref()), (&granted, Some("heavy-1")));
    assert!(change!(records, 1, enrol("oxi_one", "heavy-1", "oxr_one", &granted)).expect("an answer"));
    assert!(records.invitation("oxi_one", 1).await.expect("an answer").is_none(), "it is used");
    for name in ["heavy-1", "heavy-2", "heavy-3"] {
        change!(records, 2, end_machine(name)).expect("given up, also one that never was");
    }
    assert!(records.invitation("oxi_two", 1).await.expect("an answer").is_none(), "what was not used is worth nothing now");
    assert_eq!(records.runner_by_credential("oxr_one").await.expect("an answer"), None);
    assert!(records.runners().await.expect("a list").is_empty());
}

#[tokio::test]
async fn what_was_found_of_a_pools_machines_holds_for_its_settings() {
    let (_folder, records) = records().await;
    change!(records, 1, set_pool("heavy", "{\"most\":1}", false, "Ines")).expect("set");
    change!(records, 2, set_pool_found("heavy", "{}")).expect("found");
    let one = async || records.pools().await.expect("a list").remove(0);
    assert_eq!((one().await.found.as_deref(), one().await.set_by.as_str()), (Some("{}"), "Ines"));
    change!(records, 3, set_pool("heavy", "{\"most\":1}", true, "configuration")).expect("set");
    assert_eq!((one().await.found.as_deref(), one().await.from_file, one().await.set_at), (Some("{}"), true, 3), "nothing changed");
    change!(records, 4, set_pool("heavy", "{\"most\":2}", true, "configuration")).expect("set");
    assert_eq!(one().await.found, None, "other machines may be otherwise");
    change!(records, 5, write_machines(&[machine("heavy-1", "heavy", Stage::Busy, 5)])).expect("written");
    assert!(change!(records, 6, end_pool("heavy")).expect("an answer"));
    assert!(!change!(records, 6, end_pool("heavy")).expect("an answer"), "it has ended");
    change!(records, 7, drop_ended_pools()).expect("looked at");
    assert!(one().await.ended, "it goes with its last machine");
    change!(records, 8, write_machines(&[machine("heavy-1", "heavy", Stage::Gone, 5)])).expect("written");
    change!(records, 9, drop_ended_pools()).expect("dropped");
    assert!(records.pools().await.expect("a list").is_empty());
    assert_eq!(records.mark("pools", "a1b2", 1).await.expect("a word"), "a1b2");
    assert_eq!(records.mark("pools", "zzzz", 2).await.expect("a word"), "a1b2", "it is chosen once");
}
