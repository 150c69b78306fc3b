//! The landing queue against a plain model of a repository: a branch, commits that hold proposals, and truths that the
//! queue does not know: who fails, who fails together, who conflicts. Whatever order reports come in, whatever is pushed
//! meanwhile, and however often the service dies.

use ordotaxis_core::landing::{Effect, Event, Manner, Offered, Queue, Standing, TrialState};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

fn offered(proposal: usize) -> Offered {
    Offered { proposal: proposal.to_string(), head: format!("h{proposal}") }
}

fn asked(proposal: usize) -> Event {
    Event::Asked { offered: offered(proposal), by: "ines".into(), at: 0, lacks: None }
}

/// What is true of proposals, and what nobody tells the queue.
#[derive(Debug, Clone, Default)]
struct Truth {
    fails: BTreeSet<usize>,
    fail_together: Vec<(usize, usize)>,
    conflict: Vec<(usize, usize)>,
    /// Fails once, and then no more.
    flaky: BTreeSet<usize>,
}

/// The repository and all that goes on.
struct World {
    truth: Truth,
    queue: Queue,
    branch: String,
    /// What each commit holds.
    holds: HashMap<String, BTreeSet<usize>>,
    /// The commit that each is built upon.
    upon: HashMap<String, String>,
    passed: BTreeSet<String>,
    tasks: VecDeque<Effect>,
    /// What is to be told, with what it is the report of.
    reports: VecDeque<(Option<Effect>, Event)>,
    tried: BTreeMap<String, usize>,
    landed: Vec<usize>,
    left: BTreeMap<usize, String>,
    pushes: usize,
    trials: usize,
    /// Whether it is told that what is ahead of one that fails is well.
    own: bool,
}

impl World {
    fn new(truth: Truth, manner: Manner) -> World {
        let holds = HashMap::from([("c0".to_owned(), BTreeSet::new())]);
        World {
            truth,
            queue: Queue::new("c0", manner),
            branch: "c0".into(),
            holds,
            upon: HashMap::new(),
            passed: BTreeSet::new(),
            tasks: VecDeque::new(),
            reports: VecDeque::new(),
            tried: BTreeMap::new(),
            landed: Vec::new(),
            left: BTreeMap::new(),
            pushes: 0,
            trials: 0,
            own: false,
        }
    }

    fn tell(&mut self, event: Event) {
        for effect in self.queue.apply(event) {
            match effect {
                Effect::HasLanded { offered, commit } => {
                    assert!(self.holds[&commit].contains(&number(&offered)), "{offered:?} has landed as a commit that does not hold it");
                    self.landed.push(number(&offered));
                }
                Effect::HasLeft { offered, why } => {
                    assert!(!why.is_empty());
                    self.left.insert(number(&offered), why);
                }
                Effect::Drop { .. } => {}
                Effect::Make { .. } => {
                    self.trials += 1;
                    self.tasks.push_back(effect);
                }
                effect => self.tasks.push_back(effect),
            }
        }
    }

    /// Pushes to the branch past the queue.
    fn push_past(&mut self) {
        self.pushes += 1;
        let commit = format!("p{}", self.pushes);
        let holds = self.holds[&self.branch].clone();
        self.holds.insert(commit.clone(), holds);
        self.upon.insert(commit.clone(), self.branch.clone());
        self.branch.clone_from(&commit);
        self.reports.push_back((None, Event::Moved { head: commit }));
    }

    /// How many trials go on.
    fn running(&self) -> usize {
        let goes_on = |state: &TrialState| matches!(state, TrialState::Making | TrialState::Running { .. });
        self.queue.trials().iter().filter(|trial| goes_on(&trial.state)).count()
    }

    fn good(&self, commit: &str) -> bool {
        let holds = &self.holds[commit];
        let together = |pairs: &[(usize, usize)]| pairs.iter().any(|(one, other)| holds.contains(one) && holds.contains(other));
        holds.is_disjoint(&self.truth.fails) && !together(&self.truth.fail_together)
    }

    /// Of all that failed on top of something good it is told that it fails by itself.
    fn clear(&mut self) {
        let own: Vec<u64> = self.queue.unclear().filter(|(_, on)| self.good(on)).map(|(trial, _)| trial).collect();
        own.into_iter().for_each(|trial| self.tell(Event::Cleared { trial }));
    }

    /// Whether what a commit was built upon passes, where it does not.
    fn is_own(&self, commit: &str) -> bool {
        self.upon.get(commit).is_some_and(|upon| self.good(upon))
    }

    /// Does one thing that the queue asked for, and lays its report down.
    fn work(&mut self, at: usize, away: bool) {
        let Some(task) = self.tasks.remove(at % self.tasks.len().max(1)) else { return };
        let report = match task.clone() {
            Effect::Make { trial, .. } if away => Event::NotMade { trial, why: "the disk is full".into() },
            Effect::Make { trial, on, group } => self.make(trial, &on, &group),
            Effect::Try { trial, commit, again } => {
                *self.tried.entry(commit.clone()).or_default() += 1;
                let flaky = self.holds[&commit].iter().any(|one| self.truth.flaky.contains(one)) && !again;
                let passed = self.good(&commit) && !flaky;
                let own = !passed && self.own && self.is_own(&commit);
                if passed {
                    self.passed.insert(commit);
                }
                if passed { Event::Passed { trial } } else { Event::Failed { trial, sentence: "test.unit failed".into(), flaky, own } }
            }
            Effect::Land { trial, commit, .. } if away && at.is_multiple_of(2) => {
                let sure = at.is_multiple_of(4) && !self.branch_holds(&commit);
                Event::NotLanded { trial, head: None, sure, why: "the server is away".into() }
            }
            Effect::Land { trial, from, commit, .. } if self.branch == from || self.branch == commit => {
                assert!(self.passed.contains(&commit), "{commit} lands and has not passed as exactly that commit");
                self.branch = commit;
                // The push may arrive though its answer does not.
                if away { Event::NotLanded { trial, head: None, sure: false, why: "no answer".into() } } else { Event::Landed { trial } }
            }
            Effect::Land { trial, commit, .. } if self.branch_holds(&commit) => {
                self.reports.push_back((None, Event::Moved { head: self.branch.clone() }));
                Event::Landed { trial }
            }
            Effect::Land { trial, .. } => {
                Event::NotLanded { trial, head: Some(self.branch.clone()), sure: true, why: "the branch moved".into() }
            }
            other => panic!("{other:?} is nothing to do"),
        };
        self.reports.push_back((Some(task), report));
    }

    /// Whether the branch was built upon a commit.
    fn branch_holds(&self, commit: &str) -> bool {
        let mut at = Some(&self.branch);
        while let Some(one) = at {
            if one == commit {
                return true;
            }
            at = self.upon.get(one);
        }
        false
    }

    fn make(&mut self, trial: u64, on: &str, group: &[Offered]) -> Event {
        let mut holds = self.holds[on].clone();
        for one in group {
            let proposal = number(one);
            if holds.contains(&proposal) {
                return Event::Contained { trial, proposal: one.proposal.clone() };
            }
            let clash =
                |(a, b): &(usize, usize)| (*a == proposal && (holds.contains(b) || a == b)) || (*b == proposal && holds.contains(a));
            if self.truth.conflict.iter().any(clash) {
                return Event::Conflict { trial, proposal: one.proposal.clone(), files: vec!["gauge.c".into()] };
            }
            holds.insert(proposal);
        }
        let commit = format!("t{trial}");
        self.holds.insert(commit.clone(), holds);
        self.upon.insert(commit.clone(), on.to_owned());
        Event::Made { trial, commit }
    }

    /// As after a crash: what is on disk, and nothing else.
    fn crash(&mut self) {
        let text = serde_json::to_string(&self.queue).expect("JSON");
        self.queue = serde_json::from_str(&text).expect("a queue");
        // What was done and not told yet is done once more; what others tell, they tell again.
        for (task, event) in std::mem::take(&mut self.reports) {
            match task {
                Some(task) => self.tasks.push_front(task),
                None => self.reports.push_back((None, event)),
            }
        }
    }

    /// Until nothing is left to do.
    fn finish(&mut self) {
        for _ in 0..20_000 {
            if let Some((_, report)) = self.reports.pop_front() {
                self.tell(report);
            } else if !self.tasks.is_empty() {
                self.work(0, false);
            } else if self.queue.entries().is_empty() {
                return;
            } else {
                self.tell(Event::Again);
                assert!(
                    !self.tasks.is_empty() || !self.reports.is_empty() || self.queue.entries().is_empty(),
                    "{:?} wait for ever",
                    self.queue
                );
            }
        }
        panic!("it never ends: {:?}", self.queue);
    }
}

fn number(offered: &Offered) -> usize {
    offered.proposal.parse().expect("a number")
}

fn truth(count: usize) -> impl Strategy<Value = Truth> {
    let some = move || prop::collection::btree_set(0..count, 0..count / 3 + 1);
    let pairs = move || prop::collection::vec((0..count, 0..count), 0..3);
    (some(), pairs(), pairs(), some()).prop_map(|(fails, fail_together, conflict, flaky)| Truth { fails, fail_together, conflict, flaky })
}

/// What happens next: by chance, and with which of what there is.
type Step = (u8, usize);

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Everything at once: reports in any order and twice, pushes past the queue, people who take things out, hold them and
    /// ask again, a server that is away, crashes.
    #[test]
    fn whatever_happens_only_what_passed_lands_and_nobody_waits_for_ever(
        count in 1usize..9, truth in truth(8), ahead in 1usize..5, together in 1usize..4, own in any::<bool>(), steps in prop::collection::vec((0u8..20, 0usize..64), 0..120)
    ) {
        let mut world = World { own, ..World::new(truth, Manner { ahead, together }) };
        let (mut next, mut touched) = (0, BTreeSet::new());
        for (what, which) in steps as Vec<Step> {
            match what {
                0..=2 if next < count => {
                    world.tell(asked(next));
                    next += 1;
                }
                3 => world.push_past(),
                4 if next > 0 => world.tell(Event::Leave { proposal: (which % next).to_string(), why: "ines took it out".into() }),
                5 if next > 0 => {
                    touched.insert(which % next);
                    world.tell(Event::Held { proposal: (which % next).to_string(), why: which.is_multiple_of(2).then(|| "later".into()) });
                }
                6 if next > 0 => {
                    touched.insert(which % next);
                    world.tell(Event::Lacks { proposal: (which % next).to_string(), why: which.is_multiple_of(2).then(|| "1 approval is missing".into()) });
                }
                7 => world.tell(Event::Shut { why: which.is_multiple_of(2).then(|| "it is Friday".into()) }),
                8 => world.crash(),
                9 => world.tell(Event::Again),
                19 => world.clear(),
                10 => world.work(which, true),
                11..=14 if !world.reports.is_empty() => {
                    let at = which % world.reports.len();
                    let (_, report) = world.reports.remove(at).expect("a report");
                    world.tell(report.clone());
                    if which.is_multiple_of(5) {
                        world.tell(report);
                    }
                }
                _ if !world.tasks.is_empty() => world.work(which, false),
                _ => {}
            }
            prop_assert!(world.running() <= ahead);
        }
        for proposal in next..count {
            world.tell(asked(proposal));
        }
        world.tell(Event::Shut { why: None });
        for proposal in 0..count {
            world.tell(Event::Held { proposal: proposal.to_string(), why: None });
            world.tell(Event::Lacks { proposal: proposal.to_string(), why: None });
        }
        world.finish();
        let once: BTreeSet<usize> = world.landed.iter().copied().collect();
        prop_assert_eq!(once.len(), world.landed.len(), "each lands once");
        prop_assert!(once.iter().all(|one| !world.left.contains_key(one)), "what has landed has not left");
        prop_assert_eq!(once.len() + world.left.len(), count, "each lands or leaves with a reason");
        // What was pushed without an answer and built upon by others is in the branch, and leaves with that as its reason.
        let there = |one: &usize| once.contains(one) || world.left[one] == "the branch holds it already";
        prop_assert!(world.holds[&world.branch].iter().all(there));
        let steady: Vec<usize> = world.landed.iter().copied().filter(|one| !touched.contains(one)).collect();
        prop_assert!(steady.is_sorted(), "in the order of asking: {:?}", world.landed);
        prop_assert!(world.good(&world.branch) || !world.truth.fail_together.is_empty());
    }

    /// With nothing from outside, exactly those land that can, and few trials are made in vain.
    #[test]
    fn the_guilty_leave_and_the_others_land(count in 1usize..20, truth in truth(20), ahead in 1usize..6, own in any::<bool>(), chances in prop::collection::vec(0usize..64, 400)) {
        let mut world = World { own, ..World::new(truth.clone(), Manner { ahead, together: 1 }) };
        (0..count).for_each(|proposal| world.tell(asked(proposal)));
        for chance in chances {
            if chance % 2 == 0 && !world.tasks.is_empty() {
                world.work(chance, false);
            } else if let Some((_, report)) = world.reports.pop_front() {
                world.tell(report);
            }
        }
        world.finish();
        // The plain way: one after the other, each on what has landed before it.
        let mut wanted: Vec<usize> = Vec::new();
        for proposal in 0..count {
            let with = |pairs: &[(usize, usize)]| pairs.iter().any(|(a, b)| {
                (*a == proposal && (wanted.contains(b) || a == b)) || (*b == proposal && wanted.contains(a))
            });
            if !truth.fails.contains(&proposal) && !with(&truth.conflict) && !with(&truth.fail_together) {
                wanted.push(proposal);
            }
        }
        prop_assert_eq!(&world.landed, &wanted);
        let gone = count - wanted.len();
        prop_assert!(world.trials <= count + gone * ahead, "{} trials for {} proposals, {} of which left", world.trials, count, gone);
    }

    /// A trial of several is halved until the guilty one stands alone.
    #[test]
    fn groups_are_halved_until_the_guilty_one_stands_alone(count in 1usize..16, bad in 0usize..16, together in 2usize..9) {
        let truth = Truth { fails: [bad].into(), ..Truth::default() };
        let mut world = World::new(truth, Manner { ahead: 1, together });
        (0..count).for_each(|proposal| world.tell(asked(proposal)));
        world.finish();
        let wanted: Vec<usize> = (0..count).filter(|one| *one != bad).collect();
        prop_assert_eq!(&world.landed, &wanted);
        let halvings = usize::BITS - together.leading_zeros();
        let most = count.div_ceil(together) + 2 * halvings as usize + 1;
        prop_assert!(world.trials <= most, "{} trials for {} of {} together", world.trials, count, together);
    }

    /// With all well, as many trials run side by side as may, and each proposal is tried once.
    #[test]
    fn with_all_well_trials_run_side_by_side(count in 1usize..20, ahead in 1usize..6, together in 1usize..4) {
        let mut world = World::new(Truth::default(), Manner { ahead, together });
        (0..count).for_each(|proposal| world.tell(asked(proposal)));
        // Make what can be made, and let no run end.
        while let Some(at) = world.tasks.iter().position(|task| matches!(task, Effect::Make { .. })) {
            world.work(at, false);
            while let Some((_, report)) = world.reports.pop_front() {
                world.tell(report);
            }
        }
        let running = world.running();
        let groups = if together == 1 { count } else { 1 + (count - 1).div_ceil(together) };
        prop_assert_eq!(running, ahead.min(groups), "the first was tried before others had asked");
        world.finish();
        prop_assert_eq!(world.landed.len(), count);
        prop_assert_eq!(world.trials, groups);
    }
}

#[test]
fn where_a_proposal_stands_is_said_in_words() {
    let truth = Truth { fail_together: vec![(0, 1)], ..Truth::default() };
    let mut world = World::new(truth, Manner { ahead: 2, together: 1 });
    (0..4).for_each(|proposal| world.tell(asked(proposal)));
    world.tell(Event::Held { proposal: "3".into(), why: Some("ines: after the holidays".into()) });
    let say = |world: &World, proposal: &str| {
        let place = world.queue.place(proposal).expect("a place");
        format!("{} {}", place.place, place.standing.sentence(&place.ahead))
    };
    assert_eq!(say(&world, "0"), "1 is being put on top of the branch");
    for _ in 0..2 {
        world.work(0, false);
        let (_, report) = world.reports.pop_front().expect("made");
        world.tell(report);
        // The run of the first goes on.
        world.tasks.retain(|task| !matches!(task, Effect::Try { trial: 1, .. }));
    }
    assert_eq!(say(&world, "0"), "1 is being tested");
    assert_eq!(say(&world, "1"), "2 is being tested after 0");
    assert_eq!(say(&world, "2"), "3 waits for a free trial after 0, 1");
    assert_eq!(say(&world, "3"), "4 is held: ines: after the holidays");
    world.work(0, false);
    let (_, failed) = world.reports.pop_front().expect("a verdict");
    world.tell(failed);
    assert_eq!(say(&world, "1"), "2 fails after 0: test.unit failed");
    assert_eq!(say(&world, "2"), "3 waits until it is known whether 1 fails by itself");
    world.tell(Event::Passed { trial: 1 });
    assert!(matches!(world.queue.place("2").expect("a place").standing, Standing::Making), "it goes on without the guilty one");
    assert!(world.queue.place("9").is_none());
    world.tell(Event::Ranked { proposal: "2".into(), rank: 1 });
    assert_eq!(world.queue.place("2").expect("a place").place, 1);
}

/// Our own push is told of by the forge before the push itself has answered; and something is pushed on top of it at once.
#[test]
fn what_is_pushed_while_something_lands_is_taken_in_afterwards() {
    let mut queue = Queue::new("c0", Manner::default());
    queue.apply(asked(1));
    queue.apply(Event::Made { trial: 1, commit: "t1".into() });
    let effects = queue.apply(Event::Passed { trial: 1 });
    assert!(matches!(&effects[..], [Effect::Land { from, commit, .. }] if from == "c0" && commit == "t1"), "{effects:?}");
    assert_eq!(queue.apply(Event::Moved { head: "t1".into() }), []);
    assert_eq!(queue.apply(Event::Moved { head: "p1".into() }), []);
    assert!(queue.is_landing("1"));
    assert_eq!(queue.apply(Event::Leave { proposal: "1".into(), why: "too late".into() }), []);
    let effects = queue.apply(Event::Landed { trial: 1 });
    assert_eq!(effects, [Effect::HasLanded { offered: offered(1), commit: "t1".into() }]);
    assert_eq!(queue.head, "p1");
    assert_eq!(queue.apply(Event::Landed { trial: 1 }), [], "told twice");
}

/// Behind one that fails nothing is guessed: it is tried once it is known who is guilty, and no sooner.
#[test]
fn behind_a_doubtful_one_nothing_is_tried_until_it_is_known_whose_fault_it_is() {
    let failing = |own| {
        let mut queue = Queue::new("c0", Manner { ahead: 3, together: 1 });
        (1..4).for_each(|proposal| drop(queue.apply(asked(proposal))));
        for trial in 1..4 {
            queue.apply(Event::Made { trial, commit: format!("t{trial}") });
        }
        let effects = queue.apply(Event::Failed { trial: 2, sentence: "test.unit failed".into(), flaky: false, own });
        (queue, effects)
    };
    let (mut queue, effects) = failing(false);
    assert_eq!(effects, [Effect::Drop { trial: 3 }], "it holds what failed");
    assert_eq!(queue.unclear().collect::<Vec<_>>(), [(2, "t1")]);
    assert_eq!(queue.place("3").expect("a place").standing, Standing::Unclear { of: "2".into() });
    assert_eq!(queue.apply(Event::Cleared { trial: 9 }), []);
    let made = |effects: &[Effect]| matches!(effects, [.., Effect::Make { on, group, .. }] if on == "t1" && *group == [offered(3)]);
    let effects = queue.apply(Event::Cleared { trial: 2 });
    assert!(made(&effects) && queue.unclear().next().is_none(), "{effects:?}");
    let (_, effects) = failing(true);
    assert!(made(&effects), "{effects:?}");
    // The one ahead was the reason: both are tried anew, without it.
    let (mut queue, _) = failing(false);
    let effects = queue.apply(Event::Failed { trial: 1, sentence: "test.unit failed".into(), flaky: false, own: false });
    assert!(
        matches!(&effects[..], [Effect::HasLeft { .. }, Effect::Make { on, group, .. }] if on == "c0" && *group == [offered(2)]),
        "{effects:?}"
    );
    let before: Queue = serde_json::from_str(&serde_json::to_string(&queue).expect("JSON")).expect("a queue");
    assert_eq!(before, queue);
}
