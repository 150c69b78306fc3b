//! An environment against a plain model: jobs that want in, people who speak, rules and times that change, deployments that
//! end in every way, effects that are done late or twice, crashes.

use ordotaxis_core::delivery::{
    Effect, Emergency, End, Environment, Event, Frozen, Hold, Lack, People, Stay, Surroundings, Way, Wish, Word, sentence,
};
use ordotaxis_core::dispatch::Key;
use ordotaxis_core::engine::Millis;
use ordotaxis_core::rules::{Agreement, Approvals, EnvironmentRules, Hours, read};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

const HOUR: Millis = 3_600_000;
const PEOPLE: [&str; 4] = ["ines", "lars", "odd", "wenke"];

/// Ines and Lars are keepers, Odd may operate, and Wenke has left.
struct Team;

impl People for Team {
    fn is_among(&self, person: &str, names: &[String]) -> bool {
        person != "wenke"
            && match names {
                [] => PEOPLE.contains(&person),
                names => names.iter().any(|name| name == person || name == "@keepers" && ["ines", "lars"].contains(&person)),
            }
    }

    fn count(&self, names: &[String], without: &BTreeSet<String>) -> usize {
        PEOPLE.iter().filter(|person| self.is_among(person, names) && !without.contains(**person)).count()
    }
}

fn set(items: &[&str]) -> BTreeSet<String> {
    items.iter().map(|item| (*item).to_owned()).collect()
}

fn wish(run: i64, artifact: &str) -> Wish {
    Wish {
        job: (run, 0),
        called: format!("tidegauge/{run} ship.pier"),
        reference: "main".into(),
        commit: format!("c{run}"),
        by: None,
        outside: false,
        line: None,
        authors: set(&["lars"]),
        artifacts: set(&[artifact]),
        way: Way::Forward,
        sides: false,
        asked_at: run,
        words: Vec::new(),
    }
}

fn word(by: &str, agrees: bool, at: Millis, artifact: &str) -> Word {
    Word { by: by.into(), agrees, reason: None, at, artifacts: set(&[artifact]) }
}

fn agreement(of: usize, by: &[&str], within: Option<Millis>) -> Agreement {
    let by = by.iter().map(|name| (*name).to_owned()).collect();
    Agreement { wanted: Approvals { of, by, author: false }, within }
}

fn hours(text: &str) -> Vec<Vec<Hours>> {
    vec![vec![text.parse().expect("hours")]]
}

/// What is true, in the plainest form.
#[derive(Default)]
struct World {
    environment: Environment,
    rules: EnvironmentRules,
    unread: bool,
    now: Millis,
    stays: BTreeMap<String, Vec<Stay>>,
    wishes: BTreeMap<Key, Wish>,
    /// Words as they were said, in order.
    words: Vec<(Key, Word)>,
    running: Option<Key>,
    ended: BTreeMap<Key, String>,
    tasks: VecDeque<Effect>,
    there: Option<Key>,
    doubt: bool,
}

impl World {
    fn tell(&mut self, event: Event) {
        let (stays, rules) = (self.stays.clone(), self.rules.clone());
        let around = Surroundings {
            now: self.now,
            rules: if self.unread { Err("line 3 is wrong") } else { Ok(&rules) },
            rules_commit: "c0ffee",
            people: &Team,
            stays: &|_, digest| stays.get(digest).cloned().unwrap_or_default(),
            going: &|_, _| false,
        };
        let effects = self.environment.apply(event.clone(), &around);
        assert_eq!(self.environment.apply(Event::Look, &around), [], "a second look changes nothing, after {event:?}");
        for effect in effects {
            if let Effect::Admit { job, .. } = &effect {
                let wish = self.wishes[job].clone();
                assert_eq!(self.barred(&wish), None, "{wish:?} goes in");
            }
            self.tasks.push_back(effect);
        }
        assert!(self.environment.waiting().all(|(_, holds)| !holds.is_empty()), "who waits knows why");
    }

    /// What bars a wish now, by the plainest reading of the rules; none: it may go in.
    fn barred(&self, wish: &Wish) -> Option<&'static str> {
        let rules = &self.rules;
        let forward = wish.way == Way::Forward;
        let latest = |person: &str| self.words.iter().rev().find(|(job, word)| *job == wish.job && word.by == person).map(|(_, word)| word);
        let counts = |person: &str, agreement: &Agreement| {
            latest(person).is_some_and(|word| {
                word.agrees && word.artifacts == wish.artifacts && agreement.within.is_none_or(|within| self.now < word.at + within)
            }) && Team.is_among(person, &agreement.wanted.by)
                && !wish.authors.contains(person)
        };
        let refuses =
            |person: &str| person != "wenke" && latest(person).is_some_and(|word| !word.agrees && word.artifacts == wish.artifacts);
        let well = |digest: &String| {
            let stays = self.stays.get(digest).cloned().unwrap_or_default();
            stays.iter().any(|stay| stay.trouble.is_none() && stay.until.unwrap_or(self.now) - stay.since >= rules.still)
        };
        let approvals = |agreement: &Agreement| PEOPLE.iter().filter(|person| counts(person, agreement)).count();
        if wish.way == Way::Close {
            None
        } else if self.unread {
            Some("nobody knows the rules")
        } else if rules.from.iter().any(|list| !list.contains(&wish.reference)) {
            Some("it is of another branch")
        } else if PEOPLE.iter().any(|person| refuses(person)) {
            Some("it is refused")
        } else if forward && self.environment.frozen.as_ref().is_some_and(|frozen| frozen.until.is_none_or(|until| until > self.now)) {
            Some("it is frozen")
        } else if forward && !rules.hours.is_empty() && !(8..16).contains(&(self.now / HOUR % 24)) {
            Some("it is shut")
        } else if forward && !rules.after.is_empty() && !wish.artifacts.iter().all(well) {
            Some("it was not well before")
        } else {
            let needs = |agreement: &Agreement| if wish.way == Way::RollBack { 1 } else { agreement.wanted.of };
            let lacks = rules.approvals.iter().any(|agreement| approvals(agreement) < needs(agreement));
            (lacks && !matches!(wish.way, Way::Emergency { .. })).then_some("approvals are missing")
        }
    }

    fn want(&mut self, wish: Wish) {
        self.wishes.entry(wish.job).or_insert_with(|| wish.clone());
        if !self.environment.waiting().any(|(known, _)| known.job == wish.job) {
            // It asks anew: what was said before was said of another attempt.
            self.words.retain(|(job, _)| *job != wish.job);
        }
        self.tell(Event::Wants(Box::new(wish)));
    }

    fn say(&mut self, job: Key, word: Word) {
        if self.environment.waiting().any(|(wish, _)| wish.job == job) {
            self.words.push((job, word.clone()));
        }
        self.tell(Event::Said { job, word });
    }

    /// Does one effect; `again`: it will be done once more.
    fn work(&mut self, again: bool) {
        let Some(task) = self.tasks.pop_front() else { return };
        if again {
            self.tasks.push_back(task.clone());
        }
        match task {
            Effect::Admit { job, .. } if self.ended.contains_key(&job) => self.tell(Event::Gone { job }),
            Effect::Admit { job, .. } if self.running == Some(job) => {}
            Effect::Admit { job, .. } => {
                assert_eq!(self.running, None, "two at once");
                self.running = Some(job);
            }
            Effect::Refuse { job, why } => {
                assert!(self.running != Some(job) && !why.is_empty());
                self.ended.entry(job).or_insert(format!("refused: {why}"));
            }
            Effect::Overtake { job, .. } => {
                assert_ne!(self.running, Some(job), "what runs is not overtaken");
                self.ended.entry(job).or_insert("overtaken".into());
            }
            Effect::Held { .. } | Effect::Wake { .. } | Effect::Confirmed { .. } => {}
        }
    }

    fn end(&mut self, end: End) {
        let Some(job) = self.running.take() else { return };
        match end {
            End::Well if self.wishes[&job].way == Way::Close => (self.there, self.doubt) = (None, false),
            End::Well => (self.there, self.doubt) = (Some(job), false),
            End::Failed { back: false, .. } | End::Lost { .. } => self.doubt = true,
            End::Untouched | End::Failed { .. } => {}
        }
        self.ended.insert(job, format!("{end:?}"));
        let event = Event::Ended { job, end, at: self.now };
        self.tell(event.clone());
        self.tell(event);
    }

    /// What is on disk, and nothing else.
    fn crash(&mut self) {
        let text = serde_json::to_string(&self.environment).expect("JSON");
        self.environment = serde_json::from_str(&text).expect("an environment");
    }
}

fn end(which: usize) -> End {
    match which % 5 {
        0 | 1 => End::Well,
        2 => End::Failed { why: "exit code 1".into(), back: which.is_multiple_of(2) },
        3 => End::Lost { why: "its runner fell silent".into() },
        _ => End::Untouched,
    }
}

fn rules(which: usize) -> EnvironmentRules {
    let bit = |at: usize| which >> at & 1 == 1;
    EnvironmentRules {
        from: if bit(0) && bit(1) { vec![vec!["main".into()]] } else { Vec::new() },
        approvals: match (bit(2), bit(3)) {
            (true, true) => vec![agreement(2, &[], Some(5 * HOUR))],
            (true, false) => vec![agreement(1, &["@keepers"], None), agreement(1, &["odd"], Some(HOUR))],
            _ => Vec::new(),
        },
        hours: if bit(4) { hours("08:00-16:00") } else { Vec::new() },
        after: if bit(5) { vec!["trial".into()] } else { Vec::new() },
        still: if bit(1) { HOUR } else { 0 },
        ..EnvironmentRules::default()
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn nothing_goes_in_but_alone_and_by_the_rules_of_its_moment(steps in prop::collection::vec((0u8..22, 0usize..64), 0..150)) {
        let mut world = World { now: 1, ..World::default() };
        let mut runs = 0;
        for (what, which) in steps {
            let artifact = ["a", "b", "c"][which % 3];
            let some = (1 + (which as i64) % (runs + 1).max(1), 0);
            match what {
                0..=3 => {
                    runs += 1;
                    let line = which.is_multiple_of(2).then(|| format!("line {}", which % 4));
                    let reference = if which % 7 == 0 { "topic" } else { "main" };
                    let way = match which % 9 {
                        1 => Way::RollBack,
                        2 => Way::Emergency { by: "ines".into(), reason: "the pier floods".into() },
                        3 => Way::Close,
                        _ => Way::Forward,
                    };
                    world.want(Wish { line, way, reference: reference.into(), asked_at: world.now, ..wish(runs, artifact) });
                }
                4 if world.wishes.contains_key(&some) => world.want(world.wishes[&some].clone()),
                5..=8 if world.wishes.contains_key(&some) => {
                    let said = word(PEOPLE[which % 4], what != 8, world.now, artifact);
                    world.say(some, said);
                }
                9 if world.running != Some(some) && world.wishes.contains_key(&some) => {
                    world.ended.entry(some).or_insert("stopped".into());
                    world.tell(Event::Gone { job: some });
                }
                10 | 11 => world.end(end(which)),
                12 => {
                    world.rules = rules(which);
                    world.tell(Event::Look);
                }
                13 => {
                    world.unread = which.is_multiple_of(2);
                    world.tell(Event::Look);
                }
                14 => {
                    let until = which.is_multiple_of(3).then_some(world.now + HOUR);
                    let frozen = Frozen { by: "ines".into(), reason: "stocktaking".into(), until };
                    world.tell(Event::Frozen(which.is_multiple_of(2).then_some(frozen)));
                }
                15 => {
                    world.now += HOUR * which as Millis / 8;
                    world.tell(Event::Look);
                }
                16 => {
                    let stay = Stay { since: world.now, until: None, trouble: None };
                    world.stays.entry(artifact.into()).or_default().push(stay);
                }
                17 => {
                    let now = world.now;
                    if let Some(stay) = world.stays.get_mut(artifact).and_then(|stays| stays.last_mut()) {
                        (stay.until, stay.trouble) = (Some(now), which.is_multiple_of(2).then(|| "its check failed".into()));
                    }
                    world.tell(Event::Look);
                }
                18 => world.crash(),
                _ => world.work(which.is_multiple_of(4)),
            }
            prop_assert_eq!(world.environment.present.as_ref().map(|put| put.job), world.there, "what is said to be there was put there well");
            prop_assert_eq!(world.environment.doubt.is_some(), world.doubt);
        }
        // When nothing bars the way any more, everybody's wait ends.
        (world.rules, world.unread) = (EnvironmentRules::default(), false);
        world.tell(Event::Frozen(None));
        for _ in 0..2 * world.wishes.len() + 2 {
            while !world.tasks.is_empty() {
                world.work(false);
            }
            world.end(End::Well);
        }
        let waits: Vec<&Key> = world.wishes.keys().filter(|job| !world.ended.contains_key(job)).collect();
        prop_assert!(waits.is_empty(), "{:?} wait for ever: {:?}", waits, world.environment);
    }

    /// What waits for times only is let in when it said it would be, and not sooner.
    #[test]
    fn what_waits_for_a_time_goes_in_at_that_time(begin in 0i64..200, still in 0i64..30, frozen in prop::option::of(0i64..90)) {
        let now = begin * HOUR + 7;
        let mut world = World { now, rules: EnvironmentRules { still: still * HOUR, ..rules(0b11_0000) }, ..World::default() };
        world.stays.insert("a".into(), vec![Stay { since: now, until: None, trouble: None }]);
        let until = frozen.map(|hours| now + hours * HOUR);
        world.tell(Event::Frozen(until.map(|until| Frozen { by: "ines".into(), reason: "stocktaking".into(), until: Some(until) })));
        world.want(wish(1, "a"));
        for _ in 0..20 {
            while let Some(effect) = world.tasks.pop_front() {
                if let Effect::Admit { .. } = effect {
                    let earliest = (now + still * HOUR).max(until.unwrap_or(now));
                    let first = (0..).map(|minute| earliest + minute * 60_000).find(|at| (8..16).contains(&(at / HOUR % 24))).expect("a day");
                    prop_assert!(world.now >= earliest && world.now <= first, "{} and not {}", world.now, first);
                    return Ok(());
                }
            }
            let (_, holds) = world.environment.waiting().next().expect("it waits");
            world.now = holds.iter().filter_map(Hold::opens).min().expect("a time");
            world.tell(Event::Look);
        }
        prop_assert!(false, "it never went in");
    }
}

fn clock(at: Millis) -> String {
    format!("{:02}:00", at / HOUR)
}

/// One hold of each kind, the soonest first, and what is said of it.
fn holds() -> Vec<(Hold, &'static str)> {
    let approvals = |needs, given: &[&str], by: &[&str], there| Hold::Approvals {
        needs,
        given: given.iter().map(|name| (*name).into()).collect(),
        by: by.iter().map(|name| (*name).into()).collect(),
        there,
        runs_out: None,
    };
    let after = |lack| Hold::After { environment: "trial".into(), lack };
    vec![
        (after(Lack::Still { until: 7 * HOUR }), "it has to be well in trial until 07:00"),
        (Hold::Hours { opens: Some(8 * HOUR), text: "Mon-Fri 08:00-16:00".into() }, "it opens at 08:00 (Mon-Fri 08:00-16:00)"),
        (
            Hold::Frozen { by: "ines".into(), reason: "stocktaking".into(), until: Some(9 * HOUR) },
            "it is frozen until 09:00 by ines: stocktaking",
        ),
        (Hold::Claim { held_by: "tidegauge/40 ship.pier".into() }, "tidegauge/40 ship.pier is being put there"),
        (after(Lack::Going), "it is being put into trial"),
        (approvals(1, &[], &[], 3), "1 approval is missing"),
        (approvals(3, &["lars"], &["ines", "@keepers"], 4), "2 approvals by ines or @keepers are missing (lars approved)"),
        (
            after(Lack::TooShort { lasted: 180_000, wanted: 600_000 }),
            "it was in trial for 3m only, and must be there for 10m; put it there again",
        ),
        (after(Lack::Trouble { why: "its check failed".into() }), "it was not well in trial: its check failed"),
        (after(Lack::Never), "it has not been well in trial yet"),
        (Hold::Frozen { by: "ines".into(), reason: "stocktaking".into(), until: None }, "it is frozen by ines: stocktaking"),
        (Hold::Unread { why: "line 3 is wrong".into() }, "the rules cannot be read: line 3 is wrong"),
        (
            approvals(2, &[], &["@none"], 0),
            "2 approvals by @none are missing; there is nobody whose approval counts, so the rules or a group must change",
        ),
        (
            approvals(3, &["ines"], &["@keepers"], 2),
            "2 approvals by @keepers are missing (ines approved); there are only 2 persons whose approvals count, so the rules or a group must change",
        ),
        (
            Hold::Hours { opens: None, text: "Mon 08:00-09:00 and Tue 08:00-09:00".into() },
            "it never opens: Mon 08:00-09:00 and Tue 08:00-09:00",
        ),
    ]
}

#[test]
fn every_hold_and_each_pair_of_them_is_said_with_the_soonest_first() {
    assert_eq!(sentence("north-pier", &[], &clock), "goes into north-pier at once");
    let holds = holds();
    for (at, (hold, words)) in holds.iter().enumerate() {
        assert_eq!(sentence("north-pier", std::slice::from_ref(hold), &clock), format!("waits to go into north-pier: {words}"));
        for (later, words_of_later) in &holds[at + 1..] {
            let both = format!("waits to go into north-pier: {words}; {words_of_later}");
            for pair in [[hold.clone(), later.clone()], [later.clone(), hold.clone()]] {
                let same = matches!((hold, later), (Hold::Approvals { .. }, Hold::Approvals { .. }));
                let said = sentence("north-pier", &pair, &clock);
                assert!(said == both || same && said == format!("waits to go into north-pier: {words_of_later}; {words}"), "{said}");
            }
        }
    }
}

/// What a wish is held by, as it would be told.
fn told(world: &World, run: i64) -> Option<String> {
    let (_, holds) = world.environment.waiting().find(|(wish, _)| wish.job.0 == run)?;
    Some(sentence("pier", holds, &clock))
}

#[test]
fn an_approval_is_for_these_artifacts_once_for_each_person_never_from_the_author_and_runs_out() {
    let mut world = World {
        now: HOUR,
        rules: EnvironmentRules { approvals: vec![agreement(2, &["@keepers", "odd"], Some(2 * HOUR))], ..rules(0) },
        ..World::default()
    };
    world.want(wish(1, "a"));
    let missing = |count: &str, who: &str| Some(format!("waits to go into pier: {count} by @keepers or odd {who}"));
    let two = missing("2 approvals", "are missing");
    assert_eq!(told(&world, 1), two);
    for said in [word("lars", true, HOUR, "a"), word("ines", true, HOUR, "b"), word("wenke", true, HOUR, "a")] {
        world.say((1, 0), said);
        assert_eq!(told(&world, 1), two);
    }
    for _ in 0..2 {
        world.say((1, 0), word("ines", true, HOUR, "a"));
        assert_eq!(told(&world, 1), missing("1 approval", "is missing (ines approved)"));
    }
    world.now = 3 * HOUR;
    world.tell(Event::Look);
    assert_eq!(told(&world, 1), two, "it ran out");
    world.say((1, 0), word("ines", true, 3 * HOUR, "a"));
    world.say((1, 0), word("odd", true, 3 * HOUR, "a"));
    assert_eq!(told(&world, 1), None);
    assert_eq!(world.environment.inside().map(|inside| (inside.wish.job, inside.rules.as_str())), Some(((1, 0), "c0ffee")));
    world.want(wish(2, "b"));
    let refusal = Word { reason: Some("not before the storm".into()), ..word("lars", false, 3 * HOUR, "b") };
    world.say((2, 0), refusal);
    assert!(
        world
            .tasks
            .iter()
            .any(|task| matches!(task, Effect::Refuse { job: (2, 0), why } if why == "lars refused it: not before the storm"))
    );
}

#[test]
fn a_newer_run_takes_the_place_of_an_older_one_that_waits_and_never_of_one_that_runs() {
    let lined = |run| Wish { line: Some("main".into()), ..wish(run, "a") };
    let mut world = World { now: 1, ..World::default() };
    (1..=3).for_each(|run| world.want(lined(run)));
    assert_eq!(world.environment.inside().map(|inside| inside.wish.job.0), Some(1));
    assert!(world.tasks.contains(&Effect::Overtake { job: (2, 0), by: "tidegauge/3 ship.pier".into() }));
    assert_eq!(told(&world, 3).as_deref(), Some("waits to go into pier: tidegauge/1 ship.pier is being put there"));
    world.want(Wish { job: (2, 1), ..lined(2) });
    assert!(world.tasks.contains(&Effect::Overtake { job: (2, 1), by: "tidegauge/3 ship.pier".into() }), "it comes too late");
    // Two jobs of one run are not in each other's way.
    world.want(Wish { job: (3, 1), ..lined(3) });
    assert_eq!(world.environment.waiting().count(), 2);
}

#[test]
fn an_emergency_goes_past_the_rules_but_not_past_others_and_someone_else_confirms_it() {
    let mut world = World { now: HOUR, rules: rules(0b11_1111), ..World::default() };
    let way = Way::Emergency { by: "ines".into(), reason: "the pier floods".into() };
    world.want(Wish { way: Way::RollBack, ..wish(1, "a") });
    assert_eq!(told(&world, 1).as_deref(), Some("waits to go into pier: 1 approval is missing"), "of one person, and nothing else");
    world.say((1, 0), word("odd", true, HOUR, "a"));
    assert!(world.environment.inside().is_some());
    world.want(wish(2, "b"));
    world.want(Wish { way: way.clone(), ..wish(3, "b") });
    let order: Vec<i64> = world.environment.waiting().map(|(wish, _)| wish.job.0).collect();
    assert_eq!((order, told(&world, 3).as_deref()), (vec![3, 2], Some("waits to go into pier: tidegauge/1 ship.pier is being put there")));
    while !world.tasks.is_empty() {
        world.work(false);
    }
    world.end(End::Failed { why: "exit code 1".into(), back: false });
    assert_eq!(world.environment.inside().map(|inside| inside.wish.job), Some((3, 0)));
    assert_eq!(world.environment.doubt.as_ref().map(|doubt| (doubt.job, doubt.why.as_str())), Some(((1, 0), "exit code 1")));
    let unconfirmed = |world: &World| world.environment.unconfirmed().iter().map(|Emergency { by, .. }| by.clone()).collect::<Vec<_>>();
    world.say((3, 0), word("ines", true, HOUR, "b"));
    world.say((3, 0), word("wenke", true, HOUR, "b"));
    assert_eq!(unconfirmed(&world), ["ines"], "not by herself, nor by someone who left");
    world.say((3, 0), word("lars", true, HOUR, "b"));
    assert!(unconfirmed(&world).is_empty() && world.tasks.contains(&Effect::Confirmed { job: (3, 0), by: "lars".into() }));
    // Where it may come from holds for everybody.
    world.want(Wish { way, reference: "topic".into(), ..wish(4, "b") });
    assert!(
        world
            .tasks
            .iter()
            .any(|task| matches!(task, Effect::Refuse { job: (4, 0), why } if why.contains("only main may go there, and it is of topic")))
    );
}

#[test]
fn tags_and_branches_are_told_apart() {
    let (read, told) = read("rules = 1\n[environment.\"pier-*\"]\nfrom = [\"main\", \"tag:v*\", \"!tag:v0*\"]\n[environment.pier-9]\n");
    assert!(told.is_empty(), "{told:?}");
    let refused = |reference: &str, environment: &str| {
        let mut world = World { now: 1, rules: read.environment(environment).unwrap_or_default(), ..World::default() };
        let rules = world.rules.clone();
        let around =
            Surroundings { now: 1, rules: Ok(&rules), rules_commit: "", people: &Team, stays: &|_, _| Vec::new(), going: &|_, _| false };
        let wish = Wish { reference: reference.into(), ..wish(1, "a") };
        world.environment.apply(Event::Wants(Box::new(wish)), &around).iter().any(|effect| matches!(effect, Effect::Refuse { .. }))
    };
    for (reference, wanted) in
        [("main", false), ("tag:v1.0", false), ("v1.0", true), ("tag:main", true), ("tag:v0.9", true), ("topic", true)]
    {
        assert_eq!(refused(reference, "pier-1"), wanted, "{reference}");
    }
    assert!(!refused("topic", "pier-9") && !refused("topic", "trial"), "the rules of its own name count, and none is free");
}

#[test]
fn what_is_being_put_there_now_is_waited_for_as_for_another_deployment() {
    let rules = EnvironmentRules { after: vec!["trial".into()], still: HOUR, ..EnvironmentRules::default() };
    let holds = |stays: &dyn Fn(&str, &str) -> Vec<Stay>, going: bool| {
        let around = Surroundings {
            now: 10,
            rules: Ok(&rules),
            rules_commit: "",
            people: &Team,
            stays,
            going: &|place, digest| going && place == "trial" && digest == "a",
        };
        let mut environment = Environment::default();
        environment.apply(Event::Wants(Box::new(wish(1, "a"))), &around);
        let holds = environment.waiting().next().map(|(_, holds)| holds.to_vec()).unwrap_or_default();
        (sentence("pier", &holds, &|at| at.to_string()), holds.iter().all(Hold::is_short))
    };
    let there = |_: &str, _: &str| vec![Stay { since: 5, until: None, trouble: None }];
    let ill = |_: &str, _: &str| vec![Stay { since: 1, until: Some(2), trouble: Some("it was rolled back".into()) }];
    assert_eq!(holds(&|_, _| Vec::new(), true), ("waits to go into pier: it is being put into trial".into(), true));
    assert_eq!(holds(&ill, true), ("waits to go into pier: it is being put into trial".into(), true), "once more");
    assert_eq!(holds(&|_, _| Vec::new(), false), ("waits to go into pier: it has not been well in trial yet".into(), false));
    assert_eq!(
        holds(&there, true),
        (format!("waits to go into pier: it has to be well in trial until {}", 5 + HOUR), false),
        "that counts from the first time"
    );
}
