//! An environment of two sides, and what is undone: against a plain model of what lies on each side and which is in use.

use ordotaxis_core::delivery::{Effect, End, Environment, Event, People, Side, Stay, Surroundings, Way, Wish};
use ordotaxis_core::rules::EnvironmentRules;
use proptest::prelude::*;
use std::collections::BTreeSet;

struct Nobody;

impl People for Nobody {
    fn is_among(&self, _: &str, _: &[String]) -> bool {
        false
    }

    fn count(&self, _: &[String], _: &BTreeSet<String>) -> usize {
        0
    }
}

fn wish(run: i64, artifact: &str, way: Way) -> Wish {
    Wish {
        job: (run, 0),
        called: format!("tidegauge/{run} ship.pier"),
        reference: "main".into(),
        commit: format!("c{run}"),
        by: None,
        outside: false,
        line: None,
        authors: BTreeSet::new(),
        artifacts: [artifact.to_owned()].into(),
        way,
        sides: true,
        asked_at: run,
        words: Vec::new(),
    }
}

fn apply(environment: &mut Environment, event: Event, now: i64) -> Vec<Effect> {
    let (rules, stays) = (EnvironmentRules::default(), |_: &str, _: &str| -> Vec<Stay> { Vec::new() });
    let around = Surroundings { now, rules: Ok(&rules), rules_commit: "r", people: &Nobody, stays: &stays, going: &|_, _| false };
    let effects = environment.apply(event, &around);
    let stored = serde_json::to_string(environment).expect("it is stored");
    *environment = serde_json::from_str(&stored).expect("it is read back");
    effects
}

/// What lies on each side, and which is in use.
#[derive(Debug, Clone, Default, PartialEq)]
struct Model {
    sides: [Option<String>; 2],
    used: Option<usize>,
    /// What was there, the newest last, as a person would tell it.
    past: Vec<String>,
}

impl Model {
    fn there(&self) -> Option<&String> {
        self.sides[self.used?].as_ref()
    }
}

#[derive(Debug, Clone)]
enum Act {
    Put { artifact: u8, ends: u8 },
    Back,
    Undo,
}

fn acts() -> impl Strategy<Value = Vec<Act>> {
    let act = prop_oneof![
        4 => (0..4_u8, 0..3_u8).prop_map(|(artifact, ends)| Act::Put { artifact, ends }),
        2 => Just(Act::Back),
        2 => Just(Act::Undo),
    ];
    proptest::collection::vec(act, 1..25)
}

proptest! {
    #[test]
    fn what_is_in_use_is_what_was_put_there_well_and_the_switch_alone_leads_back(acts in acts()) {
        let (mut environment, mut model, mut last) = (Environment::default(), Model::default(), None);
        for (run, act) in (1..).zip(acts) {
            let (new, ends) = match &act {
                Act::Put { artifact, ends } => (wish(run, &format!("v{artifact}"), Way::Forward), *ends),
                Act::Back => {
                    let Some(before) = environment.previous.clone() else { continue };
                    (wish(run, before.artifacts.first().expect("one"), Way::RollBack), 0)
                }
                Act::Undo => {
                    let (Some(job), Some(before)) = (last, environment.previous.clone()) else { continue };
                    let way = Way::Undo { why: "ship.pier[south] failed".into() };
                    (Wish { job, ..wish(run, before.artifacts.first().expect("one"), way) }, 0)
                }
            };
            let (job, artifact) = (new.job, new.artifacts.first().cloned().expect("one"));
            let effects = apply(&mut environment, Event::Wants(Box::new(new)), run);
            prop_assert!(effects.iter().any(|effect| matches!(effect, Effect::Admit { .. })), "{effects:?}");
            let inside = environment.inside().cloned().expect("it is inside");
            let at = usize::from(inside.side == Some(Side::B));
            prop_assert_ne!(Some(at), model.used, "what is in use is never touched");
            if inside.switch {
                prop_assert_eq!(model.sides[at].as_ref(), Some(&artifact), "what is only put in use is there");
            } else {
                model.sides[at] = (ends != 2).then(|| artifact.clone());
            }
            let end = match ends {
                0 => End::Well,
                1 => End::Failed { why: "the check failed".into(), back: true },
                _ => End::Untouched,
            };
            if ends == 0 {
                model.used = Some(at);
            }
            apply(&mut environment, Event::Ended { job, end: end.clone(), at: run }, run);
            prop_assert_eq!(apply(&mut environment, Event::Ended { job, end, at: run }, run).len(), 0, "told twice");
            let present = environment.present.as_ref().map(|put| put.artifacts.first().cloned().expect("one"));
            prop_assert_eq!(present.as_ref(), model.there());
            prop_assert!(environment.doubt.is_none());
            if ends == 0 {
                last = matches!(act, Act::Put { .. }).then_some(job);
            }
        }
    }
}

#[test]
fn what_is_undone_leads_to_what_was_before_unless_something_else_is_there() {
    let mut environment = Environment::default();
    let put = |environment: &mut Environment, run: i64, artifact: &str| {
        let one = Wish { sides: false, ..wish(run, artifact, Way::Forward) };
        apply(environment, Event::Wants(Box::new(one)), run);
        apply(environment, Event::Ended { job: (run, 0), end: End::Well, at: run }, run);
    };
    put(&mut environment, 1, "v1");
    put(&mut environment, 2, "v2");
    put(&mut environment, 2, "v2");
    let undo = |run: i64, artifact: &str| {
        let way = Way::Undo { why: "another failed".into() };
        Event::Wants(Box::new(Wish { sides: false, ..wish(run, artifact, way) }))
    };
    let mut overrun = environment.clone();
    put(&mut overrun, 3, "v3");
    let effects = apply(&mut overrun, undo(2, "v1"), 4);
    let refused = Effect::Refuse { job: (2, 0), why: "something else has been put there since".into() };
    assert!(effects.contains(&refused) && overrun.inside().is_none(), "{effects:?}");
    assert_eq!(overrun.present.as_ref().map(|put| put.job), Some((3, 0)));
    // It goes before all that waits.
    apply(&mut environment, Event::Wants(Box::new(Wish { sides: false, ..wish(4, "v4", Way::Forward) })), 4);
    apply(&mut environment, Event::Wants(Box::new(Wish { sides: false, ..wish(5, "v5", Way::Forward) })), 5);
    apply(&mut environment, undo(2, "v1"), 6);
    let next: Vec<i64> = environment.waiting().map(|(wish, _)| wish.job.0).collect();
    assert_eq!(next, [2, 5]);
    apply(&mut environment, Event::Ended { job: (4, 0), end: End::Untouched, at: 7 }, 7);
    assert_eq!(environment.inside().map(|inside| inside.wish.job), Some((2, 0)));
    apply(&mut environment, Event::Ended { job: (2, 0), end: End::Well, at: 8 }, 8);
    let there = environment.present.as_ref().expect("it is there");
    assert_eq!((there.job, there.since, there.artifacts.contains("v1")), ((1, 0), 8, true), "as the run that put it there first");
    // Once more there is nothing to undo.
    let effects = apply(&mut environment, undo(1, "v0"), 9);
    assert!(effects.iter().any(|effect| matches!(effect, Effect::Refuse { .. })), "{effects:?}");
}
