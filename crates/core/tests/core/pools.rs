//! Machines on demand against a provider that fails, answers late or twice, lies, and loses machines, and against a plain count.

use ordotaxis_core::dispatch::{Needs, Offer, Want};
use ordotaxis_core::language::Capacity;
use ordotaxis_core::pool::{Doing, Effect, Event, Left, Listed, Machine, Outlook, Pool, Pools, Rules, Seen, Stage};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

const SECOND: i64 = 1_000;
const MARK: &str = "a1b2";

fn rules() -> Rules {
    Rules {
        most: 4,
        least: 0,
        start: 60 * SECOND,
        idle: 20 * SECOND,
        jobs: None,
        lasts: 3_600 * SECOND,
        price: None,
        fitted: false,
        list_every: 5 * SECOND,
        list_again: SECOND,
    }
}

fn pool(name: &str, rules: Rules) -> Pool {
    let offer =
        Offer { labels: vec!["linux".into()], slots: 1, capacity: Capacity { cores: 4, memory_mib: 8192, gpus: 0 }, ..Offer::default() };
    Pool::new(name, rules, offer, vec!["gcc".into()])
}

fn pools(of: Vec<Pool>) -> Pools {
    let mut pools = Pools::new(MARK, Vec::new());
    pools.set_pools(of);
    pools
}

fn want(count: usize, usual: i64) -> Want {
    Want { needs: Arc::default(), count, usual, since: 0 }
}

fn made(effects: &[Effect]) -> Vec<(String, String)> {
    let make = |effect: &Effect| if let Effect::Make { pool, id, .. } = effect { Some((pool.clone(), id.clone())) } else { None };
    effects.iter().filter_map(make).collect()
}

/// A world in which one thing happens after another: looks, with names that never come twice.
struct World {
    pools: Pools,
    names: u32,
}

impl World {
    fn new(of: Vec<Pool>) -> World {
        World { pools: pools(of), names: 0 }
    }

    fn look(&mut self, wants: &[Want], runners: &[Seen], now: i64) -> Vec<Effect> {
        self.look_after(wants, runners, &[], now)
    }

    /// The same when these runners have left since the last look.
    fn look_after(&mut self, wants: &[Want], runners: &[Seen], left: &[Left], now: i64) -> Vec<Effect> {
        let names = &mut self.names;
        self.pools.look(wants, runners, left, now, || {
            *names += 1;
            format!("{names:04}")
        })
    }

    fn stage(&self, id: &str) -> Option<Stage> {
        self.pools.machine(id).map(|machine| machine.stage)
    }

    fn list(&mut self, pool: &str, names: &[&str], now: i64) {
        let machines = names.iter().map(|name| Listed { name: (*name).into(), ended: false, words: String::new() }).collect();
        self.pools.apply(Event::Listed { pool: pool.into(), asked_at: now, machines }, now);
    }
}

fn seen(id: &str, doing: usize) -> Seen {
    let offer = Offer { name: id.into(), labels: vec!["linux".into()], slots: 1, free: 1_usize.saturating_sub(doing), ..Offer::default() };
    Seen { offer, doing: vec![Doing { ends_at: None, capacity: Capacity::default() }; doing], begun: u32::from(doing > 0), worked_at: None }
}

#[test]
fn a_machine_lives_as_it_should() {
    let mut world = World::new(vec![pool("heavy", Rules { jobs: Some(1), ..rules() })]);
    let effects = world.look(&[want(1, 0)], &[], 0);
    let [(_, id)] = made(&effects)[..].to_vec().try_into().expect("one machine");
    assert_eq!((world.stage(&id), id.as_str()), (Some(Stage::Wanted), "heavy-a1b20001"));
    assert_eq!(world.pools.take_changed().len(), 1, "it is written down before it is made");
    world.pools.apply(Event::Made { id: id.clone(), words: "booting".into() }, 1);
    assert_eq!(world.stage(&id), Some(Stage::Made));
    assert!(made(&world.look(&[want(1, 0)], &[], SECOND)).is_empty(), "what is coming is counted");
    world.look(&[want(1, 0)], &[seen(&id, 0)], 9 * SECOND);
    assert_eq!(world.stage(&id), Some(Stage::Registered));
    world.look(&[], &[seen(&id, 1)], 10 * SECOND);
    assert_eq!(world.stage(&id), Some(Stage::Busy));
    // It has done its job, and left.
    let effects = world.look(&[], &[], 30 * SECOND);
    let why = "it has done what it was made for".to_owned();
    assert_eq!((world.stage(&id), &world.pools.machine(&id).expect("it is known").why), (Some(Stage::Leaving), &why));
    assert!(effects.contains(&Effect::EndRunner { id: id.clone(), why }), "its credential ends: {effects:?}");
    assert!(effects.contains(&Effect::Remove { pool: "heavy".into(), name: id.clone() }), "it is removed in any case: {effects:?}");
    world.pools.apply(Event::Removed { pool: "heavy".into(), name: id.clone() }, 31 * SECOND);
    assert_eq!(world.stage(&id), Some(Stage::Leaving), "said is not seen");
    world.list("heavy", &[&id], 32 * SECOND);
    let again = world.look(&[], &[], 33 * SECOND);
    assert!(again.contains(&Effect::Remove { pool: "heavy".into(), name: id.clone() }), "it is there still: {again:?}");
    world.pools.apply(Event::Removed { pool: "heavy".into(), name: id.clone() }, 34 * SECOND);
    world.list("heavy", &[], 35 * SECOND);
    assert_eq!(world.stage(&id), Some(Stage::Gone));
    assert_eq!(world.pools.machine(&id).expect("it is known").cost(0), None, "no price is no cost");
}

/// A pool that is full can make another machine as soon as a list lacks the one before: that list is asked for once it was removed.
#[test]
fn the_list_that_a_full_pool_waits_for_is_asked_for_at_once() {
    let lists = |effects: &[Effect]| effects.contains(&Effect::List { pool: "desk".into() });
    for (again, waits) in [(0, 0), (SECOND, 600)] {
        let mut world = World::new(vec![pool("desk", Rules { most: 1, jobs: Some(1), list_again: again, ..rules() })]);
        let [(_, id)] = made(&world.look(&[want(1, 0)], &[], 0))[..].to_vec().try_into().expect("one machine");
        world.pools.apply(Event::Made { id: id.clone(), words: String::new() }, 1);
        world.list("desk", &[&id], 2);
        world.look(&[], &[seen(&id, 1)], 5_000);
        world.look(&[], &[seen(&id, 1)], 5_002);
        world.list("desk", &[&id], 5_003);
        world.look_after(&[want(1, 0)], &[], &[Left { name: id.clone(), begun: 1 }], 5_300);
        world.pools.apply(Event::Removed { pool: "desk".into(), name: id.clone() }, 5_403);
        if waits > 0 {
            assert!(!lists(&world.look(&[want(1, 0)], &[], 5_402 + waits)), "no provider is asked at once for each that goes");
        }
        let effects = world.look(&[want(1, 0)], &[], 5_403 + waits);
        assert!(lists(&effects) && made(&effects).is_empty(), "it is full until then: {effects:?}");
        let while_listing = world.look(&[want(1, 0)], &[], 5_404 + waits);
        assert!(!lists(&while_listing), "one list is enough: {while_listing:?}");
        world.list("desk", &[], 5_405 + waits);
        assert_eq!(made(&world.look(&[want(1, 0)], &[], 5_406 + waits)).len(), 1, "there is room at once");
    }
}

/// Of each thing that can go wrong with one machine: what it ends as, and why.
#[test]
fn what_goes_wrong_with_a_machine_is_said() {
    let wrongs: [(&str, Vec<Event>, i64, &str); 5] = [
        ("no", vec![Event::Refused { id: "ID".into(), why: "no room".into() }], 1, "the provider refused it: no room"),
        ("silence", vec![Event::Unclear { id: "ID".into(), why: "no answer".into() }], 61, "its runner did not come in time"),
        ("it never comes", vec![Event::Made { id: "ID".into(), words: String::new() }], 60, "its runner did not come in time"),
        ("by hand", vec![Event::Remove { id: "ID".into(), by: "Ines".into() }], 2, "removed by Ines"),
        (
            "it ended",
            vec![Event::Listed {
                pool: "heavy".into(),
                asked_at: 1,
                machines: vec![Listed { name: "ID".into(), ended: true, words: "out of disk".into() }],
            }],
            2,
            "the provider says that it has ended",
        ),
    ];
    for (what, events, seconds, why) in wrongs {
        let mut world = World::new(vec![pool("heavy", rules())]);
        let (_, id) = made(&world.look(&[want(1, 0)], &[], 0)).remove(0);
        for event in events {
            let named = match event {
                Event::Refused { why, .. } => Event::Refused { id: id.clone(), why },
                Event::Unclear { why, .. } => Event::Unclear { id: id.clone(), why },
                Event::Made { words, .. } => Event::Made { id: id.clone(), words },
                Event::Remove { by, .. } => Event::Remove { id: id.clone(), by },
                Event::Listed { pool, asked_at, mut machines } => {
                    machines[0].name.clone_from(&id);
                    Event::Listed { pool, asked_at, machines }
                }
                other => other,
            };
            world.pools.apply(named, 1);
        }
        world.look(&[], &[], seconds * SECOND);
        let machine = world.pools.machine(&id).expect("it is known");
        assert!(matches!(machine.stage, Stage::Leaving | Stage::Gone), "{what}: {machine:?}");
        assert_eq!(machine.why, why, "{what}");
    }
}

#[test]
fn a_provider_that_refuses_is_asked_ever_more_seldom_and_others_are_asked_meanwhile() {
    let cheap = pool("cheap", Rules { price: Some(10), ..rules() });
    let mut world = World::new(vec![pool("dear", Rules { price: Some(20), ..rules() }), cheap]);
    let first = made(&world.look(&[want(1, 0)], &[], 0));
    assert_eq!(first[0].0, "cheap", "the cheaper is asked first");
    world.pools.apply(Event::Refused { id: first[0].1.clone(), why: "quota of 0".into() }, 1);
    let second = made(&world.look(&[want(1, 0)], &[], SECOND));
    assert_eq!(second[0].0, "dear", "and the other when that cannot");
    // Alone, it is tried after 5 s, 10 s, 20 s.
    let mut world = World::new(vec![pool("cheap", rules())]);
    let mut asked = Vec::new();
    for second in 0..80 {
        let now = second * SECOND;
        for (_, id) in made(&world.look(&[want(3, 60 * SECOND)], &[], now)) {
            asked.push(second);
            world.pools.apply(Event::Refused { id, why: "quota of 0".into() }, now);
        }
        world.pools.forget_gone();
    }
    assert_eq!(asked, [0, 0, 0, 5, 15, 35, 75], "three at first, then one to see whether it is well again");
    let told = world.pools.outlooks().values().next().cloned().expect("an outlook").last;
    let sentence = told.sentence(79 * SECOND, |at| format!("second {}", at / SECOND), |ms| format!("{ms} ms"));
    assert_eq!(sentence.as_deref(), Some("pool cheap could not make a machine: quota of 0; it is tried again at second 155"));
}

#[test]
fn a_job_waits_for_a_busy_machine_when_that_takes_less_than_a_new_one() {
    let mut world = World::new(vec![pool("heavy", rules())]);
    let busy = |ends_at| Seen { doing: vec![Doing { ends_at, capacity: Capacity::default() }], ..seen("quay", 1) };
    let fresh = |now| Want { since: now, ..want(1, 5 * SECOND) };
    assert!(made(&world.look(&[fresh(0)], &[busy(Some(59 * SECOND))], 0)).is_empty());
    let outlook = world.pools.outlooks().values().next().map(|said| said.first.clone());
    assert_eq!(outlook, Some(Outlook::Behind { runner: "quay".into(), free_at: 59 * SECOND }));
    assert_eq!(made(&world.look(&[fresh(0)], &[busy(Some(60 * SECOND))], 0)).len(), 1, "a new one is there as soon");
    let mut world = World::new(vec![pool("heavy", rules())]);
    assert_eq!(made(&world.look(&[fresh(0)], &[busy(None)], 0)).len(), 1, "nobody knows when it is free");
    let mut world = World::new(vec![pool("heavy", rules())]);
    let long = [busy(Some(70 * SECOND))];
    assert_eq!(made(&world.look(&[fresh(0)], &long, 60 * SECOND)).len(), 1, "what has waited so long waits behind nobody");
    let mut world = World::new(vec![pool("heavy", rules())]);
    let many = [Want { since: 0, ..want(100, 5 * SECOND) }];
    assert_eq!(made(&world.look(&many, &[], 0)).len(), 4, "at most so many");
    let full = world.pools.outlooks().values().next().cloned().expect("an outlook");
    assert_eq!(full.last, Outlook::Full { pool: "heavy".into(), most: 4, free_at: Some(120 * SECOND) });
    assert_eq!(full.first, Outlook::Coming { pool: "heavy".into(), likely_at: None }, "the next ones have theirs");
    let mut world = World::new(vec![pool("heavy", Rules { most: 100, ..rules() })]);
    assert_eq!(made(&world.look(&many, &[], 0)).len(), 9, "jobs of 5 s share a machine that takes a minute to come: twelve each");
}

#[test]
fn machines_are_as_large_as_jobs_ask_and_what_nobody_makes_is_said() {
    let needs = |cores, tool: &str| {
        let tools = vec![(tool.to_owned(), ">=4".to_owned())];
        Arc::new(Needs { labels: vec!["linux".into()], tools, capacity: Capacity { cores, ..Capacity::default() }, ..Needs::default() })
    };
    let wants = |needs: Arc<Needs>| [Want { needs, ..want(1, 0) }];
    let mut world = World::new(vec![pool("tide", Rules { fitted: true, ..rules() })]);
    let effects = world.look(&wants(needs(2, "gcc")), &[], 0);
    let size = |effect: &Effect| if let Effect::Make { capacity, .. } = effect { Some(*capacity) } else { None };
    assert_eq!(effects.iter().find_map(size), Some(Capacity { cores: 2, ..Capacity::default() }), "a tool of any version will do");
    let mut world = World::new(vec![pool("tide", rules())]);
    assert!(made(&world.look(&wants(needs(5, "gcc")), &[], 0)).is_empty(), "larger than the pool's machines");
    assert_eq!(world.pools.outlooks()[&needs(5, "gcc")].last, Outlook::NoPool);
    assert!(made(&world.look(&wants(needs(1, "rustc")), &[], 0)).is_empty());
    // What was found counts: its gcc is too old.
    let old =
        Offer { name: "x".into(), labels: vec!["linux".into()], tools: vec![("gcc".into(), "3.2".into())], slots: 1, ..Offer::default() };
    world.pools.found("tide", &Offer { capacity: Capacity { cores: 4, ..Capacity::default() }, ..old });
    assert!(made(&world.look(&wants(needs(1, "gcc")), &[], 0)).is_empty(), "a pool that lacks it is not asked for more of the same");
}

#[test]
fn so_many_stay_ready_and_what_is_kept_is_left_alone() {
    let mut world = World::new(vec![pool("warm", Rules { least: 2, ..rules() })]);
    let ids: Vec<String> = made(&world.look(&[], &[], 0)).into_iter().map(|(_, id)| id).collect();
    assert_eq!(ids.len(), 2);
    let there: Vec<Seen> = ids.iter().map(|id| seen(id, 0)).collect();
    for minute in 1..10 {
        world.look(&[], &there, minute * 60 * SECOND);
    }
    assert!(ids.iter().all(|id| world.stage(id) == Some(Stage::Registered)), "the least are never idle");
    let until = Some(3_000 * SECOND);
    world.pools.apply(Event::Keep { id: ids[0].clone(), until, by: "Ines".into() }, 600 * SECOND);
    let effects = world.look(&[], &there, 601 * SECOND);
    assert!(effects.iter().any(|effect| matches!(effect, Effect::Drain { id, .. } if *id == ids[0])), "it takes no jobs: {effects:?}");
    assert_eq!(made(&effects).len(), 1, "and another takes its place");
    world.look(&[], &[], 2_999 * SECOND);
    assert_eq!(world.stage(&ids[0]), Some(Stage::Registered), "gone or not, it is kept");
    world.look(&[], &[], 3_000 * SECOND);
    assert_eq!(world.stage(&ids[0]), Some(Stage::Leaving), "until then");
}

/// A provider that is away is asked for its list, often; the pause of one that refuses does not grow meanwhile.
#[test]
fn a_provider_that_was_away_is_asked_as_soon_as_it_is_back() {
    let mut world = World::new(vec![pool("heavy", rules())]);
    let mut lists = 0;
    for second in 0..600 {
        let effects = world.look(&[want(1, 0)], &[], second * SECOND);
        if second > 0 {
            assert!(made(&effects).is_empty(), "nothing is asked of one that does not answer");
        } else {
            let (_, id) = made(&effects).remove(0);
            world.pools.apply(Event::Refused { id, why: "no answer".into() }, 1);
        }
        if effects.iter().any(|effect| matches!(effect, Effect::List { .. })) {
            lists += 1;
            world.pools.apply(Event::NotListed { pool: "heavy".into(), why: "it is away".into() }, second * SECOND);
        }
    }
    assert!(lists >= 10, "it is asked again and again: {lists}");
    let told = world.pools.outlooks().values().next().cloned().expect("an outlook").first;
    assert_eq!(told, Outlook::Trouble { pool: "heavy".into(), why: "it is away".into(), again_at: None });
    world.list("heavy", &[], 600 * SECOND);
    assert_eq!(made(&world.look(&[want(1, 0)], &[], 601 * SECOND)).len(), 1);
}

/// A job of a moment is done between two looks: its machine came, and its pool has no trouble. What ended jobs a cluster still
/// lists takes nobody's place.
#[test]
fn a_machine_that_came_and_left_between_two_looks_has_come() {
    let mut world = World::new(vec![pool("heavy", Rules { jobs: Some(1), most: 1, ..rules() })]);
    let (_, id) = made(&world.look(&[want(1, 0)], &[], 0)).remove(0);
    world.pools.apply(Event::Made { id: id.clone(), words: String::new() }, 1);
    let ended = |id: &str| vec![Listed { name: id.into(), ended: true, words: "it is completed".into() }];
    world.pools.apply(Event::Listed { pool: "heavy".into(), asked_at: SECOND, machines: ended(&id) }, SECOND);
    world.look_after(&[], &[], &[Left { name: id.clone(), begun: 1 }], 2 * SECOND);
    let machine = world.pools.machine(&id).expect("it is known");
    assert_eq!((machine.stage, machine.jobs, machine.why.as_str()), (Stage::Leaving, 1, "it has done what it was made for"));
    assert!(world.pools.pools()[0].trouble.is_none());
    world.pools.apply(Event::Removed { pool: "heavy".into(), name: id.clone() }, 3 * SECOND);
    world.pools.apply(Event::Listed { pool: "heavy".into(), asked_at: 4 * SECOND, machines: ended(&id) }, 4 * SECOND);
    assert_eq!(world.stage(&id), Some(Stage::Gone));
    world.pools.forget_gone();
    world.pools.apply(Event::Listed { pool: "heavy".into(), asked_at: 5 * SECOND, machines: ended(&id) }, 5 * SECOND);
    assert_eq!(made(&world.look(&[want(1, 0)], &[], 6 * SECOND)).len(), 1, "it is listed still, and its place is free");
}

#[test]
fn a_pool_that_ends_lets_its_machines_go() {
    let mut world = World::new(vec![pool("heavy", rules())]);
    let ids: Vec<String> = made(&world.look(&[want(3, 60 * SECOND)], &[], 0)).into_iter().map(|(_, id)| id).collect();
    let runners = [seen(&ids[0], 1), seen(&ids[1], 0)];
    world.look(&[], &runners, SECOND);
    world.pools.set_pools(Vec::new());
    world.look(&[want(5, 60 * SECOND)], &runners, 2 * SECOND);
    let effects = world.look(&[want(5, 60 * SECOND)], &runners, 3 * SECOND);
    assert!(ids.iter().all(|id| world.stage(id) == Some(Stage::Leaving)), "they take nothing more");
    let removed = |id: &String| effects.contains(&Effect::Remove { pool: "heavy".into(), name: id.clone() });
    assert!(!removed(&ids[0]) && removed(&ids[2]), "what works may end its job: {effects:?}");
    assert!(world.pools.pools()[0].ended && world.pools.machines().count() == 3, "and it makes no more");
}

#[test]
fn names_that_are_not_ours_are_left_alone_and_orphans_go() {
    let mut world = World::new(vec![pool("heavy", rules())]);
    let mut removals = Vec::new();
    for second in 0..90 {
        let effects = world.look(&[], &[], second * SECOND);
        removals.extend(effects.into_iter().filter(|effect| matches!(effect, Effect::Remove { .. })));
        world.list("heavy", &["web-1", "heavy-zzzz0001", "heavy-a1b2dead"], second * SECOND);
    }
    assert_eq!(removals, [Effect::Remove { pool: "heavy".into(), name: "heavy-a1b2dead".into() }]);
    let all: Vec<&Machine> = world.pools.machines().collect();
    assert!(all.is_empty(), "another's machine is never ours: {all:?}");
}

/// What a provider does with one wish, and with one removal.
#[derive(Debug, Clone, Copy)]
enum Fault {
    None,
    Refuses,
    /// It makes it, and the answer is lost.
    Silent,
    /// Neither.
    Nothing,
    /// It is made long after the answer was lost.
    Late,
    /// Its runner never comes.
    NoShow,
    /// It dies some time after it came.
    Dies,
    /// It is there under that name and another.
    Twice,
}

#[derive(Debug, Clone, Copy)]
enum ListFault {
    None,
    Fails,
    Empty,
    /// As it was before.
    Old,
}

fn fault() -> impl Strategy<Value = Fault> {
    use Fault::{Dies, Late, NoShow, None, Nothing, Refuses, Silent, Twice};
    prop_oneof![5 => Just(None), 1 => Just(Refuses), 1 => Just(Silent), 1 => Just(Nothing), 1 => Just(Late), 1 => Just(NoShow), 1 => Just(Dies), 1 => Just(Twice)]
}

#[derive(Debug, Clone)]
struct Real {
    comes_at: Option<i64>,
    dies_at: Option<i64>,
}

/// A provider, its machines, their runners and the jobs they do, in steps of a second.
struct Simulated {
    world: World,
    now: i64,
    faults: Vec<(Fault, ListFault, bool)>,
    at: usize,
    real: BTreeMap<String, Real>,
    late: Vec<(i64, String)>,
    before: Vec<String>,
    answers: Vec<(i64, Event)>,
    drained: BTreeSet<String>,
    ended: BTreeSet<String>,
    /// On each runner: when its job ends.
    working: BTreeMap<String, i64>,
    worked: BTreeMap<String, i64>,
    queued: usize,
    since: i64,
    done: usize,
    twins: usize,
    /// How often it said that a machine was removed, and a list did not name it, and it was there.
    deceived: usize,
    /// Lists that were not true.
    wrong_lists: usize,
    idle_removed: Vec<(String, i64)>,
}

impl Simulated {
    fn fault(&mut self) -> (Fault, ListFault, bool) {
        self.at += 1;
        self.faults.get(self.at - 1).copied().unwrap_or((Fault::None, ListFault::None, false))
    }

    fn runners(&self) -> Vec<Seen> {
        let there = self.real.iter().filter(|(name, real)| {
            real.comes_at.is_some_and(|at| at <= self.now) && real.dies_at.is_none_or(|at| at > self.now) && !self.ended.contains(*name)
        });
        let seen = |(name, _): (&String, &Real)| {
            let ends = self.working.get(name);
            let mut one = seen(name, usize::from(ends.is_some()));
            one.offer.draining = self.drained.contains(name);
            one.worked_at = self.worked.get(name).copied();
            one.doing.iter_mut().for_each(|doing| doing.ends_at = ends.copied());
            one
        };
        there.map(seen).collect()
    }

    fn work(&mut self) {
        let there: BTreeSet<String> = self.runners().into_iter().map(|seen| seen.offer.name).collect();
        let lost: Vec<String> = self.working.keys().filter(|name| !there.contains(*name)).cloned().collect();
        for name in lost {
            self.working.remove(&name);
            (self.queued, self.since) = (self.queued + 1, self.now); // it is tried again elsewhere
        }
        let ended: Vec<String> = self.working.iter().filter(|(_, end)| **end <= self.now).map(|(name, _)| name.clone()).collect();
        for name in ended {
            self.working.remove(&name);
            self.worked.insert(name, self.now);
            self.done += 1;
        }
        for name in there {
            if self.queued > 0 && !self.working.contains_key(&name) && !self.drained.contains(&name) {
                self.queued -= 1;
                self.worked.insert(name.clone(), self.now);
                self.working.insert(name, self.now + 7 * SECOND);
            }
        }
    }

    fn carry_out(&mut self, effect: Effect) {
        let soon = self.now + SECOND;
        match effect {
            Effect::Make { id, .. } => {
                let (fault, ..) = self.fault();
                let real = Real { comes_at: Some(self.now + 10 * SECOND), dies_at: None };
                let answer = match fault {
                    Fault::Refuses => Event::Refused { id: id.clone(), why: "quota".into() },
                    Fault::Nothing | Fault::Silent | Fault::Late => Event::Unclear { id: id.clone(), why: "no answer".into() },
                    _ => Event::Made { id: id.clone(), words: String::new() },
                };
                match fault {
                    Fault::Refuses | Fault::Nothing => {}
                    Fault::Late => self.late.push((self.now + 20 * SECOND, id)),
                    Fault::NoShow => drop(self.real.insert(id, Real { comes_at: None, ..real })),
                    Fault::Dies => drop(self.real.insert(id, Real { dies_at: Some(self.now + 14 * SECOND), ..real })),
                    Fault::Twice => {
                        self.twins += 1;
                        self.real.insert(format!("{id}x"), Real { comes_at: None, ..real.clone() });
                        self.real.insert(id, real);
                    }
                    _ => drop(self.real.insert(id, real)),
                }
                self.answers.push((soon, answer));
            }
            Effect::Remove { pool, name } => {
                let (.., lies) = self.fault();
                if !lies {
                    self.real.remove(&name);
                }
                self.answers.push((soon, Event::Removed { pool, name }));
            }
            Effect::List { pool } => {
                let (_, fault, _) = self.fault();
                let names: Vec<String> = self.real.keys().cloned().collect();
                let listed = match fault {
                    ListFault::Fails => None,
                    ListFault::Empty => Some(Vec::new()),
                    ListFault::Old => Some(self.before.clone()),
                    ListFault::None => Some(names.clone()),
                };
                self.wrong_lists += usize::from(matches!(fault, ListFault::Empty | ListFault::Old));
                self.before = names;
                let asked_at = self.now;
                let event = match listed {
                    None => Event::NotListed { pool, why: "no answer".into() },
                    Some(names) => {
                        let machines = names.into_iter().map(|name| Listed { name, ended: false, words: String::new() }).collect();
                        Event::Listed { pool, asked_at, machines }
                    }
                };
                self.answers.push((soon, event));
            }
            Effect::Drain { id, why } => {
                self.drained.insert(id.clone());
                if why == "there was nothing for it to do" {
                    self.idle_removed.push((id.clone(), self.now));
                }
                self.answers.push((soon, Event::Drained { id }));
            }
            Effect::Undrain { id } => drop(self.drained.remove(&id)),
            Effect::EndRunner { id, .. } => drop(self.ended.insert(id)),
        }
    }

    fn second(&mut self, crash: bool) {
        self.now += SECOND;
        let (late, later): (Vec<_>, Vec<_>) = std::mem::take(&mut self.late).into_iter().partition(|(at, _)| *at <= self.now);
        self.late = later;
        for (_, id) in late {
            self.real.insert(id, Real { comes_at: Some(self.now + 10 * SECOND), dies_at: None });
        }
        if crash {
            // What was written down is all that is left; answers that were on their way are lost.
            let machines: Vec<Machine> = self.world.pools.machines().map(reread).collect();
            let kept: Vec<Pool> = self.world.pools.pools().iter().map(|known| pool(&known.name, known.rules.clone())).collect();
            self.world.pools = Pools::new(MARK, machines);
            self.world.pools.set_pools(kept);
            self.answers.clear();
        }
        let (due, later): (Vec<_>, Vec<_>) = std::mem::take(&mut self.answers).into_iter().partition(|(at, _)| *at <= self.now);
        self.answers = later;
        for (_, event) in due {
            self.world.pools.apply(event, self.now);
        }
        self.work();
        let (wants, runners) = (self.wants(), self.runners());
        for effect in self.world.look(&wants, &runners, self.now) {
            self.carry_out(effect);
        }
        self.world.pools.take_changed();
        let gone = self.world.pools.machines().filter(|machine| machine.stage == Stage::Gone && self.real.contains_key(&machine.id));
        self.deceived += gone.count();
        self.world.pools.forget_gone();
    }

    fn wants(&self) -> Vec<Want> {
        if self.queued == 0 { Vec::new() } else { vec![Want { since: self.since, ..want(self.queued, 7 * SECOND) }] }
    }
}

/// As it comes back from the disk.
fn reread(machine: &Machine) -> Machine {
    serde_json::from_str(&serde_json::to_string(machine).expect("JSON")).expect("a machine")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// Whatever a provider does for a while, and however often the service is killed: there are never more machines than may be
    /// (but those that the provider doubled by itself, or said and listed as removed although they were not); every job is done once the provider is well again, within minutes; when
    /// there is nothing to do all machines are gone but the least; and none is sent away as idle before it was so long.
    #[test]
    fn no_machine_is_leaked_doubled_or_forgotten(
        faults in prop::collection::vec((fault(), prop_oneof![5 => Just(ListFault::None), 1 => Just(ListFault::Fails), 1 => Just(ListFault::Empty), 1 => Just(ListFault::Old)], prop::bool::weighted(0.3)), 0..60),
        arrivals in prop::collection::vec((0..120i64, 1..5usize), 1..12),
        crashes in prop::collection::btree_set(0..150i64, 0..4),
        least in 0..2usize,
    ) {
        let total: usize = arrivals.iter().map(|(_, count)| count).sum();
        let mut world = Simulated {
            world: World::new(vec![pool("heavy", Rules { least, ..rules() })]), now: 0, faults, at: 0, real: BTreeMap::new(), late: Vec::new(),
            before: Vec::new(), answers: Vec::new(), drained: BTreeSet::new(), ended: BTreeSet::new(), working: BTreeMap::new(),
            worked: BTreeMap::new(), queued: 0, since: 0, done: 0, twins: 0, deceived: 0, wrong_lists: 0, idle_removed: Vec::new(),
        };
        let mut done_at = None;
        for second in 0..2_400 {
            for (_, count) in arrivals.iter().filter(|(at, _)| *at == second) {
                if world.queued == 0 {
                    world.since = world.now;
                }
                world.queued += count;
            }
            world.second(crashes.contains(&second));
            prop_assert!(world.real.len() <= 4 + world.twins + world.deceived, "at second {}: {:?}", second, world.real);
            prop_assert!(world.deceived <= world.wrong_lists, "without a list that was wrong nothing is taken for gone that is there");
            let known = world.world.pools.machines().filter(|machine| machine.stage != Stage::Gone).count();
            prop_assert!(known <= 4, "at second {second}: {known} known");
            if world.done == total && done_at.is_none() {
                done_at = Some(second);
            }
        }
        prop_assert_eq!(world.done, total, "queued {}, real {:?}", world.queued, world.real);
        let left: Vec<&String> = world.real.keys().collect();
        prop_assert_eq!(left.len(), least, "left {:?}; known {:?}", left, world.world.pools.machines().collect::<Vec<_>>());
        prop_assert!(world.world.pools.machines().filter(|machine| machine.stage != Stage::Gone).count() == least);
        for (id, at) in &world.idle_removed {
            let worked = world.worked.get(id).copied().unwrap_or(0);
            prop_assert!(at - worked >= 20 * SECOND || worked > *at, "{} was idle for {} ms only", id, at - worked);
        }
    }

    /// Jobs of one kind, nothing there yet: so many machines are asked for that none waits behind others for longer than a machine
    /// takes to come, and one fewer would not do, by plain counting.
    #[test]
    fn as_many_are_made_as_are_missing(count in 1..200usize, usual in 1..100i64, most in 1..60usize, jobs in prop::option::of(1..4u32)) {
        let mut world = World::new(vec![pool("heavy", Rules { most, jobs, ..rules() })]);
        let asked = made(&world.look(&[want(count, usual * SECOND)], &[], 0)).len();
        // One after another on a machine, as long as the wait is shorter than the 60 s that a machine takes to come.
        let each = usize::try_from((60 + usual - 1) / usual).expect("small").min(jobs.map_or(usize::MAX, |jobs| jobs as usize));
        prop_assert_eq!(asked, count.div_ceil(each).min(most));
    }
}
