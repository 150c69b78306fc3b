//! Occasions are stored in one flat form. Whatever is written reads back; what older versions wrote is still understood;
//! what misses the thing it is about is refused.

use ordotaxis_core::plan::{Carry, Cause, Event, Merges, Occasion, Ref};
use proptest::prelude::*;
use serde_json::json;

fn name() -> impl Strategy<Value = String> {
    "[a-z][a-z0-9/-]{0,8}"
}

fn some_ref() -> impl Strategy<Value = Option<Ref>> {
    prop::option::of(prop_oneof![name().prop_map(Ref::Branch), name().prop_map(Ref::Tag)])
}

fn cause() -> impl Strategy<Value = Cause> {
    let merges = prop::option::of(("[0-9a-f]{8}", "[0-9a-f]{8}").prop_map(|(head, base)| Merges { head, base }));
    prop_oneof![
        (name(), prop::option::of(name())).prop_map(|(branch, before)| Cause::Push { branch, before }),
        (name(), prop::option::of(name()), any::<bool>(), prop::option::of(name()), merges)
            .prop_map(|(target, source, outside, number, merges)| Cause::Proposal { target, source, outside, number, merges }),
        name().prop_map(|tag| Cause::Tag { tag }),
        (name(), any::<u64>(), any::<bool>(), name()).prop_map(|(target, trial, outside, base)| Cause::Landing {
            target,
            trial,
            outside,
            base
        }),
        (prop::option::of(name()), prop::option::of(name())).prop_map(|(line, branch)| Cause::Schedule { line, branch }),
        some_ref().prop_map(|on| Cause::ByHand { on }),
        (prop::sample::select(vec![Carry::On, Carry::Back, Carry::Away]), any::<bool>(), name(), name(), some_ref())
            .prop_map(|(way, outside, of, environment, on)| Cause::Carried { way, outside, of, environment, on }),
        (prop::option::of(name()), some_ref()).prop_map(|(pipeline, on)| Cause::Passed { pipeline, on }),
    ]
}

proptest! {
    #[test]
    fn what_is_written_reads_back(cause in cause(), commit in prop::option::of("[0-9a-f]{8}"), by in prop::option::of(name()), only in prop::collection::vec(name(), 0..3)) {
        let occasion = Occasion { commit, by, only, ..Occasion::new(cause) };
        let text = serde_json::to_string(&occasion).expect("JSON");
        let read: Occasion = serde_json::from_str(&text).expect("an occasion");
        prop_assert_eq!(&read, &occasion);
        prop_assert!(occasion.branch().is_none() || occasion.tag_name().is_none(), "one name at most");
        let stored: serde_json::Value = serde_json::from_str(&text).expect("JSON");
        prop_assert_eq!(&stored["event"], occasion.event().word());
        prop_assert!(stored.as_object().expect("an object").values().all(|value| !value.is_object() || value == &stored["inputs"]), "it is flat");
    }

    /// An event and any fields whatever: read or refused, and what is read can be written.
    #[test]
    fn no_fields_break_it(event in 0..Event::ALL.len(), fields in prop::collection::vec((0..8usize, name()), 0..8)) {
        let names = ["branch", "tag", "target", "source", "commit", "head", "base", "schedule"];
        let mut form = serde_json::Map::from_iter([("event".to_owned(), json!(Event::ALL[event].word()))]);
        form.extend(fields.into_iter().map(|(at, value)| (names[at].to_owned(), json!(value))));
        let missing = match Event::ALL[event] {
            Event::Push => Some("branch"),
            Event::Tag => Some("tag"),
            Event::Proposal => Some("target"),
            // `trial` is among no fields here.
            Event::Landing if form.contains_key("target") => Some("trial"),
            Event::Landing => Some("target"),
            Event::Promotion | Event::RollBack | Event::Closing => Some("of"),
            _ => None,
        };
        let missing = missing.filter(|name| !form.contains_key(*name));
        match (serde_json::from_value::<Occasion>(form.into()), missing) {
            (Ok(occasion), None) => prop_assert_eq!(occasion.event(), Event::ALL[event]),
            (Err(error), Some(name)) => prop_assert!(error.to_string().ends_with(&format!("names its {name}")), "{}", error),
            other => prop_assert!(false, "{:?}", other),
        }
    }
}

/// As it was written before each kind had fields of its own.
#[test]
fn what_older_versions_wrote_is_understood() {
    let read = |form| serde_json::from_value::<Occasion>(form).expect("an occasion");
    let offered = read(json!({ "event": "proposal", "target": "main", "commit": "c1", "head": "c1", "outside": true }));
    assert_eq!((offered.commit.as_deref(), offered.told_on(), offered.is_from_outside()), (Some("c1"), Some("c1"), true));
    let merged = read(json!({ "event": "proposal", "target": "main", "commit": "m1", "head": "c1", "base": "b1" }));
    assert_eq!((merged.commit.as_deref(), merged.told_on(), merged.is_from_outside()), (Some("m1"), Some("c1"), false));
    let by_hand = read(json!({ "event": "by_hand", "commit": "" }));
    assert_eq!((by_hand.commit, by_hand.cause), (None, Cause::ByHand { on: None }));
    let scheduled = read(json!({ "event": "schedule", "branch": "main", "schedule": "0 4 * * *", "meant": "nightly" }));
    assert_eq!(scheduled.words(), "the schedule, on main");
    let tagged = read(json!({ "event": "pipeline", "pipeline": "tidegauge/main", "tag": "v1", "commit": "c1" }));
    assert_eq!((tagged.tag_name(), tagged.branch()), (Some("v1"), None));
}
