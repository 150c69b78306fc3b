//! Leases ahead of time: who gets one, what comes of it, and that nobody ever waits for it.

use super::room_tests::{LONG, Stage, passed};
use super::{FleetCommand, RunCommand, Stale};
use ordotaxis_core::access::{Actor, Who};
use ordotaxis_core::engine::{State, Usual};
use ordotaxis_wire::runner::{AttemptId, Claimed, Finish, GiveBack, Lease};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

fn jobs(count: usize, more: &str) -> String {
    let job = |at: usize| format!("[job.a.x{at}]\nsteps = ['true']\n{more}");
    "language = 1\n".to_owned() + &(0..count).map(job).collect::<String>()
}

/// A run of so many jobs, and a runner with one slot.
fn one_slot(count: usize) -> Stage {
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, &jobs(count, ""), "c7", Usual::new());
    stage.sign_on_with("quay", "s1", 1, "host");
    stage
}

impl Stage {
    fn quick(&mut self, attempt: AttemptId, holding: &[AttemptId]) -> Claimed {
        let finish = Finish { claim: true, ahead: true, holding: holding.to_vec(), ..passed("s1", 0) };
        self.send_finish("quay", attempt, finish).expect("an answer")
    }

    fn give_back(&mut self, runner: &str, lease: &Lease) -> Result<(), Stale> {
        let ask = GiveBack { session: "s1".into(), slot: 0, taken_at: lease.taken_at };
        self.ask(|reply| RunCommand::GiveBack { runner: runner.into(), attempt: lease.attempt, ask, reply }).expect("an answer")
    }

    /// A slot that works on one job and has another in hand.
    fn two_leases(&mut self) -> (Lease, Lease) {
        let first = self.claim("quay", "s1", 0).expect("a lease");
        let Claimed { lease: Some(second), ahead: Some(third) } = self.quick(first.attempt, &[]) else { panic!("two leases") };
        (second, third)
    }
}

#[test]
fn a_slot_begins_with_what_it_has_in_hand_and_gets_the_next() {
    let mut stage = one_slot(6);
    let (second, third) = stage.two_leases();
    assert_eq!(stage.look().slots(), (1, 1), "one slot does one job");
    assert_eq!(stage.look().runners()[0].doing.len(), 1);
    let Claimed { lease: None, ahead: Some(fourth) } = stage.quick(second.attempt, &[third.attempt]) else { panic!("one in hand") };
    assert_ne!(fourth.attempt, third.attempt);
    assert_eq!(stage.look().runners()[0].doing[0].job.as_str(), third.job.as_str(), "it works on what it had in hand");
    let begun = stage.room.runs[&7].run.jobs()[third.attempt.job].started;
    assert_eq!(begun, Some(stage.now - 1), "the job's time counts from when it was begun, not from when it was leased");
    // The same again: the answer was lost.
    let again = stage.quick(second.attempt, &[third.attempt]);
    assert_eq!(again.ahead.map(|lease| lease.attempt), Some(fourth.attempt));
    // A slot that knows of nothing is leased what it has already, and nothing else.
    let claimed = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!(claimed.attempt, third.attempt);
}

#[test]
fn what_is_given_back_is_as_if_it_had_not_been_leased() {
    let mut stage = one_slot(6);
    let (second, third) = stage.two_leases();
    let rows = stage.room.take_rows();
    assert!(
        rows.attempts.iter().any(|row| row.job == i64::try_from(third.attempt.job).expect("small")),
        "it is on disk while it is leased"
    );
    assert_eq!(stage.give_back("quay", &second), Err(Stale), "it has begun with that");
    assert_eq!(stage.give_back("quay", &Lease { taken_at: third.taken_at - 1, ..third.clone() }), Err(Stale), "another lease is meant");
    assert_eq!(stage.give_back("spar", &third), Err(Stale), "not one of its own, and it is not signed on");
    assert!(stage.holders.holds("quay", third.attempt));
    for _ in 0..2 {
        assert_eq!(stage.give_back("quay", &third), Ok(()), "a repeat changes nothing");
        let job = &stage.room.runs[&7].run.jobs()[third.attempt.job];
        assert_eq!((job.state(), job.attempt, job.runner.as_deref()), (State::Queued, 0, None));
        assert!(!stage.holders.holds("quay", third.attempt));
    }
    let rows = stage.room.take_rows();
    assert_eq!(rows.given_back, [(7, i64::try_from(third.attempt.job).expect("small"), 1)]);
    assert!(rows.attempts.iter().all(|row| row.job != i64::try_from(third.attempt.job).expect("small")));
    let late = Finish { holding: Vec::new(), ..passed("s1", 0) };
    assert!(stage.send_finish("quay", third.attempt, late).is_err(), "it has no result of what it gave back");
}

/// What is on disk does not say what a slot has in hand: it is the one that was leased last.
#[test]
fn after_a_restart_a_slot_has_in_hand_what_it_had_before() {
    for reversed in [false, true] {
        let mut before = one_slot(6);
        let (second, third) = before.two_leases();
        let (mut stage, live) = (Stage::new(LONG), before.room.runs[&7].as_ref().clone());
        stage.now = before.now;
        stage.sign_on_with("quay", "s1", 1, "host");
        let rows = [&second, &third].map(|lease| before.room.held.get(lease.attempt).expect("it is leased").row.clone());
        stage.room.restore(live, if reversed { rows.into_iter().rev().collect() } else { rows.to_vec() }, stage.now);
        stage.room.restored();
        assert_eq!(stage.look().slots(), (1, 1));
        assert_eq!(stage.give_back("quay", &second), Err(Stale), "it works on that");
        assert_eq!(stage.give_back("quay", &third), Ok(()));
        assert_eq!(stage.claim("quay", "s1", 0).map(|lease| lease.attempt), Ok(second.attempt));
    }
}

#[test]
fn a_stop_ends_what_is_in_hand_when_it_is_given_back() {
    let mut stage = one_slot(6);
    let (_, third) = stage.two_leases();
    let by = Actor { who: Who::Person { id: 1, name: "Ines".into() }, ..Actor::rule("") };
    stage.ask(|reply| RunCommand::Stop { run: 7, job: None, by, reply }).expect("an answer").expect("it goes on");
    assert_eq!(stage.give_back("quay", &third), Ok(()));
    let job = &stage.room.runs[&7].run.jobs()[third.attempt.job];
    assert_eq!((job.state(), job.why().as_deref()), (State::Stopped, Some("stopped by Ines")));
}

#[test]
fn nothing_goes_ahead_of_time_that_somebody_could_miss() {
    // Few jobs are left, so another slot may be free before this one.
    let mut stage = one_slot(2);
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    assert!(stage.quick(first.attempt, &[]).ahead.is_none(), "the last job");
    // A turn is not held by waiting.
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, &jobs(6, "turn = 'stand'\n"), "c7", Usual::new());
    stage.sign_on_with("quay", "s1", 1, "host");
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    let answer = stage.quick(first.attempt, &[]);
    assert!(answer.lease.is_some() && answer.ahead.is_none(), "jobs with a turn");
    // A run of which nothing was begun is not begun by that.
    let mut stage = one_slot(1);
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    stage.begin_with(8, 1, &jobs(6, ""), "c8", Usual::new());
    let second = stage.quick(first.attempt, &[]);
    assert!(second.ahead.is_some(), "its first job was leased to be done now");
    // One that takes nothing more takes nothing ahead of time either.
    let mut stage = one_slot(6);
    let (second, third) = stage.two_leases();
    stage.ask(|reply| FleetCommand::Drain { runner: "quay".into(), by: Some("Ines".into()), reply }).expect("an answer");
    assert!(stage.quick(second.attempt, &[third.attempt]).ahead.is_none());
}

/// What one slot of the model has.
#[derive(Default)]
struct Hands {
    works_on: Option<Lease>,
    ahead: Option<Lease>,
}

const SLOTS: u32 = 3;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// Slots work, take ahead, give back and lose answers as it comes: every job is begun once, by one slot, and while one
    /// is queued no slot waits in vain.
    #[test]
    fn every_job_is_begun_once_and_no_slot_waits_in_vain(steps in prop::collection::vec((0..SLOTS, 0..10u8), 200), count in 1..25usize) {
        let mut stage = Stage::new(LONG);
        stage.begin_with(7, 1, &jobs(count, ""), "c7", Usual::new());
        stage.sign_on_with("quay", "s1", SLOTS, "host");
        let mut slots: BTreeMap<u32, Hands> = (0..SLOTS).map(|slot| (slot, Hands::default())).collect();
        let mut begun = BTreeSet::new();
        let tail = (0..SLOTS).cycle().take(count * 6).map(|slot| (slot, 9));
        for (slot, what) in steps.into_iter().chain(tail) {
            let hands = slots.get_mut(&slot).expect("a slot");
            let Some(lease) = hands.works_on.take() else {
                let queued = stage.room.queue.len();
                let claimed = stage.claim("quay", "s1", slot);
                prop_assert_eq!(claimed.is_ok(), queued > 0, "{} queued, and it waits", queued);
                hands.works_on = claimed.ok();
                begun.extend(hands.works_on.as_ref().map(|lease| lease.attempt.job));
                continue;
            };
            if what == 0 && let Some(ahead) = hands.ahead.take() {
                let ask = GiveBack { session: "s1".into(), slot, taken_at: ahead.taken_at };
                let give = |reply| RunCommand::GiveBack { runner: "quay".into(), attempt: ahead.attempt, ask, reply };
                prop_assert_eq!(stage.ask(give).expect("an answer"), Ok(()));
                hands.works_on = Some(lease);
                continue;
            }
            let holding: Vec<AttemptId> = hands.ahead.iter().map(|lease| lease.attempt).collect();
            let finish = || Finish { claim: true, ahead: what > 3, holding: holding.clone(), ..passed("s1", slot) };
            let mut answer = stage.send_finish("quay", lease.attempt, finish()).expect("an answer");
            if what % 2 == 0 {
                let again = stage.send_finish("quay", lease.attempt, finish()).expect("an answer");
                let told = |claimed: &Claimed| [&claimed.lease, &claimed.ahead].map(|lease| lease.as_ref().map(|lease| lease.attempt));
                // What came up in between may be in it as well.
                let (first, second) = (told(&answer), told(&again));
                prop_assert!(first.iter().zip(&second).all(|(one, two)| one.is_none() || one == two), "{:?}, then {:?}", first, second);
                answer = again;
            }
            hands.works_on = hands.ahead.take().or(answer.lease);
            hands.ahead = answer.ahead;
            if let Some(lease) = &hands.works_on {
                prop_assert!(begun.insert(lease.attempt.job), "{} was begun before", lease.job);
            }
            let busy = slots.values().filter(|hands| hands.works_on.is_some()).count();
            prop_assert_eq!(stage.look().slots().0 as usize, busy);
            prop_assert!(stage.room.runs.get(&7).is_none_or(|live| live.run.state() != State::Waiting));
        }
        prop_assert_eq!(begun.len(), count);
        prop_assert_eq!(stage.room.runs[&7].run.state(), State::Passed);
    }
}
