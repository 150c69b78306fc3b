//! What forges send and offer: deliveries, proposals, reviews, and where refs were seen.

use super::*;
use ordotaxis_core::forge::{Answered, Offer};
use ordotaxis_store::{Given, NewDelivery};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn delivery<'a>(project: &Project, given: Option<&'a str>, state: &'a str, body: &'a [u8]) -> NewDelivery<'a> {
    NewDelivery {
        project_id: project.id,
        given,
        state,
        said: Some("why"),
        events: "[\"a push\"]",
        work: "[7]",
        address: Some("127.0.0.1"),
        headers: "{\"x-kind\":\"push\"}",
        body,
    }
}

#[tokio::test]
async fn deliveries_are_kept_as_they_came_and_known_when_they_come_again() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let body: Vec<u8> = (0..=255).cycle().take(70_000).collect();
    let id = change!(records, 10, add_delivery(&delivery(&project, Some("d1"), "taken", &body))).expect("a number");
    assert_eq!(records.delivery_body(id).await.expect("a body"), body);
    assert_eq!(records.delivery_taken(project.id, "d1").await.expect("an answer"), Some(id));
    assert_eq!(records.delivery_taken(project.id, "d2").await.expect("an answer"), None);
    change!(records, 11, delivery_came_again(id)).expect("an answer");
    let row = records.delivery(project.id, id).await.expect("an answer").expect("it");
    assert_eq!((row.times, row.size, row.state.as_str(), row.headers.as_str()), (2, 70_000, "taken", "{\"x-kind\":\"push\"}"));
    assert!(records.delivery(project.id + 1, id).await.expect("an answer").is_none(), "another project's is not there");
    change!(records, 12, delivery_read_again(id, &delivery(&project, Some("d1"), "unread", b""))).expect("an answer");
    assert_eq!(records.delivery(project.id, id).await.expect("an answer").expect("it").state, "unread");
    assert_eq!(records.delivery_body(id).await.expect("a body"), body, "what came stays as it came");
    assert_eq!(records.newest_hook(project.id).await.expect("an answer"), None, "nothing of it was taken in the end");
}

#[tokio::test]
async fn what_anybody_can_send_is_bounded_and_old_deliveries_go() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let taken = change!(records, 5, add_delivery(&delivery(&project, Some("d"), "taken", b"good"))).expect("a number");
    for _ in 0..8 {
        change!(records, 10, add_delivery(&delivery(&project, None, "refused", b"bad"))).expect("a number");
        change!(records, 10, drop_refused_deliveries(project.id, 3)).expect("an answer");
    }
    let left = |state: &'static str| {
        let records = records.clone();
        async move { records.deliveries(1, Some(state), i64::MAX, 100).await.expect("a list").len() }
    };
    assert_eq!((left("refused").await, left("taken").await), (3, 1));
    assert_eq!(change!(records, 20, drop_deliveries(6, 1_000)).expect("a count"), 1);
    assert!(records.delivery(project.id, taken).await.expect("an answer").is_none());
    change!(records, 20, add_delivery(&delivery(&project, None, "taken", &[b'x'; 600]))).expect("a number");
    change!(records, 21, add_delivery(&delivery(&project, None, "taken", &[b'y'; 600]))).expect("a number");
    assert_eq!(change!(records, 22, drop_deliveries(0, 1_000)).expect("a count"), 4, "the newest that fit stay");
    assert_eq!((left("refused").await, left("taken").await), (0, 1));
}

fn offer(commit: &str) -> Offer {
    Offer {
        number: None,
        title: Some("Spring tides".into()),
        target: "main".into(),
        source: Some("topic/a".into()),
        commit: commit.into(),
        outside: false,
        draft: false,
        by: Some("Odd".into()),
        link: None,
        open: true,
    }
}

#[tokio::test]
async fn a_proposal_follows_what_its_forge_tells() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let now = async || records.proposal(project.id, "7").await.expect("an answer").expect("it");
    change!(records, 10, set_proposal(project.id, "7", &offer("c1"))).expect("an answer");
    change!(records, 20, set_proposal(project.id, "7", &Offer { title: None, by: Some("Ines".into()), outside: true, ..offer("c1") }))
        .expect("an answer");
    let row = now().await;
    assert_eq!((row.title.as_str(), row.author.as_deref(), row.changed_at), ("Spring tides", Some("Odd"), 10), "what is not said stays");
    assert!(row.outside, "once from outside, always from outside");
    for (who, approves, commit) in
        [("maren", Some(true), Some("c1")), ("tomas", Some(false), None), ("ines", Some(true), None), ("ines", None, None)]
    {
        change!(records, 25, set_review(project.id, "7", (who, Given::Forge), approves, commit)).expect("an answer");
    }
    change!(records, 26, set_review(project.id, "8", ("maren", Given::Forge), Some(true), None)).expect("of a proposal that is not known");
    let reviews = records.reviews(project.id).await.expect("a list");
    assert_eq!(reviews.iter().map(|one| (one.who.as_str(), one.approves)).collect::<Vec<_>>(), [("maren", true), ("tomas", false)]);
    assert!(!change!(records, 27, set_proposal_head(project.id, "7", "c0", "c9")).expect("an answer"), "it says something else");
    assert!(change!(records, 28, set_proposal_head(project.id, "7", "c1", "c0")).expect("an answer"));
    change!(records, 30, set_proposal(project.id, "7", &offer("c2"))).expect("an answer");
    assert_eq!((now().await.head.as_str(), now().await.changed_at), ("c2", 30));
    assert!(change!(records, 40, end_proposal(project.id, "7", "closed", None)).expect("an answer"));
    assert!(!change!(records, 41, end_proposal(project.id, "7", "closed", None)).expect("an answer"), "it was closed before");
    assert!(records.proposals(project.id, true, 9).await.expect("a list").is_empty());
    change!(records, 50, set_proposal(project.id, "7", &offer("c2"))).expect("an answer");
    assert_eq!((now().await.state.as_str(), now().await.ended_at), ("open", None), "offered once more");
    assert!(change!(records, 60, end_proposal(project.id, "7", "landed", Some("c9"))).expect("an answer"));
    change!(records, 70, set_proposal(project.id, "7", &offer("c3"))).expect("an answer");
    assert!(!change!(records, 71, end_proposal(project.id, "7", "closed", None)).expect("an answer"));
    let landed = now().await;
    assert_eq!(
        (landed.state.as_str(), landed.head.as_str(), landed.landed_as.as_deref()),
        ("landed", "c2", Some("c9")),
        "what has landed stays"
    );
    change!(records, 80, set_proposal_comment(landed.id, Some("12"), "Passed", "c1")).expect("an answer");
    assert_eq!(now().await.comment.as_deref(), Some("12"));
}

/// What a hook tells of a ref while the repository is looked at counts before what was seen there.
#[tokio::test]
async fn a_ref_moves_from_where_it_was_seen_and_from_nowhere_else() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let refs: BTreeMap<String, String> = [("refs/heads/main".to_owned(), "c1".to_owned())].into();
    change!(records, 10, set_ref_seen(project.id, "refs/heads/main", Some("c0"))).expect("told before");
    change!(records, 10, set_refs_seen(project.id, &refs)).expect("an answer");
    let seen = async || records.refs_seen(project.id).await.expect("a map").get("refs/heads/main").cloned();
    assert_eq!(seen().await.as_deref(), Some("c0"), "what was told stays");
    let steps = [
        (Some("c1"), Some("c2"), false, Some("c0")),
        (Some("c0"), Some("c2"), true, Some("c2")),
        (None, Some("c3"), false, Some("c2")),
        (Some("c1"), None, false, Some("c2")),
        (Some("c2"), None, true, None),
        (Some("c2"), None, false, None),
        (None, Some("c4"), true, Some("c4")),
    ];
    for (from, to, moved, there) in steps {
        assert_eq!(
            change!(records, 20, move_ref_seen(project.id, "refs/heads/main", from, to)).expect("an answer"),
            moved,
            "{from:?} → {to:?}"
        );
        assert_eq!(seen().await.as_deref(), there);
    }
    change!(records, 30, set_poll(project.id, Some(5_000))).expect("an answer");
    change!(records, 31, looked(project.id, Some("1 push was found"))).expect("an answer");
    change!(records, 32, looked(project.id, None)).expect("an answer");
    let row = records.polled().await.expect("a list").remove(0);
    assert_eq!((row.poll_ms, row.looked_at, row.found.as_deref()), (Some(5_000), Some(32), Some("1 push was found")));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    /// Any bytes come back as they were kept.
    #[test]
    fn a_body_comes_back_as_it_came(body in prop::collection::vec(any::<u8>(), 0..3_000)) {
        let runtime = tokio::runtime::Runtime::new().expect("a runtime");
        runtime.block_on(async {
            let (_folder, records) = records().await;
            let project = project(&records, "tidegauge").await;
            let id = change!(records, 1, add_delivery(&delivery(&project, None, "taken", &body))).expect("a number");
            assert_eq!(records.delivery_body(id).await.expect("a body"), body);
        });
    }
}

/// The last words of persons, as a plain walk over all that was said has them.
fn last_words(said: &[(usize, bool, Option<bool>)]) -> BTreeMap<String, bool> {
    let mut last = BTreeMap::new();
    for (who, _, approves) in said {
        match approves {
            Some(approves) => last.insert(format!("p{who}"), *approves),
            None => last.remove(&format!("p{who}")),
        };
    }
    last
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Of what someone said at the forge and here the later counts, and what the forge told is known apart.
    #[test]
    fn the_later_of_two_words_counts(said in prop::collection::vec((0..3_usize, any::<bool>(), any::<Option<bool>>()), 0..20)) {
        let rt = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().expect("a runtime");
        rt.block_on(async {
            let (_folder, records) = records().await;
            let project = project(&records, "tidegauge").await;
            change!(records, 1, set_proposal(project.id, "7", &offer("c1"))).expect("an answer");
            for (at, (who, here, approves)) in said.iter().enumerate() {
                let given = if *here { Given::Here } else { Given::Forge };
                let who = format!("p{who}");
                change!(records, 2 + at as i64, set_review(project.id, "7", (&who, given), *approves, None)).expect("an answer");
            }
            let found = records.reviews(project.id).await.expect("a list");
            let found: BTreeMap<String, bool> = found.into_iter().map(|one| (one.who, one.approves)).collect();
            prop_assert_eq!(found, last_words(&said));
            let row = records.proposal(project.id, "7").await.expect("an answer").expect("it");
            let told: Vec<_> = said.iter().filter(|(_, here, _)| !here).cloned().collect();
            let words = records.forge_words(row.id).await.expect("a list");
            let words: BTreeMap<String, bool> = words.into_iter().filter_map(|one| Some((one.who, one.approves?))).collect();
            prop_assert_eq!(words, last_words(&told));
            Ok(())
        })?;
    }
}

#[tokio::test]
async fn a_command_has_one_answer_and_the_last_few_are_kept() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    change!(records, 1, set_proposal(project.id, "7", &offer("c1"))).expect("an answer");
    let row = async || records.proposal(project.id, "7").await.expect("an answer").expect("it");
    let id = row().await.id;
    let answered =
        |call: &str, answer: &str| Answered { by: "odd".into(), command: "again".into(), answer: answer.into(), call: call.into() };
    change!(records, 2, set_answer(id, &answered("1 0", "begun"))).expect("an answer");
    change!(records, 3, set_answer(id, &answered("1 1", "no"))).expect("an answer");
    change!(records, 4, set_answer(id, &answered("1 0", "1 run begun"))).expect("an answer");
    assert_eq!(row().await.answered(), [answered("1 0", "1 run begun"), answered("1 1", "no")]);
    for call in 2..=13 {
        change!(records, 5, set_answer(id, &answered(&format!("{call} 0"), "done"))).expect("an answer");
    }
    let kept: Vec<String> = row().await.answered().into_iter().map(|one| one.call).collect();
    assert_eq!(kept, (4..=13).map(|call| format!("{call} 0")).collect::<Vec<_>>());
    let before = r#"[{"by":"odd","command":"land","answer":"it has its place"}]"#;
    assert_eq!(serde_json::from_str::<Vec<Answered>>(before).expect("of before")[0].call, "");
}
