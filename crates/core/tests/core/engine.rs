//! The engine under any interleaving of claims, results, losses, stops and repeats, against what the rules plainly say.

use super::model::{Sketch, sketch};
use ordotaxis_core::delivery::Hold;
use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::Plan;
use proptest::prelude::*;
use std::sync::Arc;

/// What a schedule does next: picks among the possible things by number.
#[derive(Debug, Clone)]
struct Move {
    pick: usize,
    kind: u8,
}

fn moves() -> impl Strategy<Value = Vec<Move>> {
    prop::collection::vec((0..1000usize, 0..100u8).prop_map(|(pick, kind)| Move { pick, kind }), 400)
}

struct Drive {
    run: Run,
    /// How each job would end, by its number in the plan.
    outcomes: Vec<Outcome>,
    waits: Vec<Vec<bool>>,
    may_fail: Vec<bool>,
    history: Vec<Event>,
    /// Jobs that their environment let in.
    let_in: Vec<usize>,
    now: i64,
}

impl Drive {
    fn new(sketch: &Sketch, plan: Plan, outcomes: &[bool]) -> Drive {
        let places = sketch.places(&plan);
        let count = places.len();
        let sketch_waits = sketch.waits();
        let mut waits = vec![vec![false; count]; count];
        let mut may_fail = vec![false; count];
        for j in 0..count {
            may_fail[places[j]] = sketch.jobs[j].may_fail;
            for i in 0..count {
                waits[places[j]][places[i]] = sketch_waits[j][i];
            }
        }
        let outcomes = (0..count).map(|at| if outcomes[at] { Outcome::Passed } else { Outcome::Failed }).collect();
        let run = Run::new(Arc::new(plan), 0);
        Drive { run, outcomes, waits, may_fail, history: Vec::new(), let_in: Vec::new(), now: 0 }
    }

    /// Applies an event, then applies it again: the second time nothing may change. Also restores the run from what
    /// would be stored: that may make no difference either.
    fn apply(&mut self, event: Event) {
        self.now += 1;
        let _ = self.run.apply(&event, self.now);
        let before = (self.run.jobs().to_vec(), self.run.state());
        if let Ok(effects) = self.run.apply(&event, self.now + 1) {
            assert!(effects.is_empty(), "{event:?} again did {effects:?}");
        }
        assert_eq!((self.run.jobs().to_vec(), self.run.state()), before, "{event:?} again changed the run");
        self.run = Run::restore(self.run.plan().clone(), self.run.jobs().to_vec(), self.run.state());
        self.history.push(event);
        self.check_running();
    }

    fn well(&self, job: usize) -> bool {
        match self.run.jobs()[job].state() {
            State::Passed => true,
            State::Failed => self.may_fail[job],
            _ => false,
        }
    }

    fn check_running(&self) {
        for (job, state) in self.run.jobs().iter().enumerate() {
            if matches!(state.state(), State::Queued | State::Running) {
                assert!(!self.run.plan().deploys(job) || self.let_in.contains(&job), "job {job} goes into the environment unasked");
                for on in 0..self.waits.len() {
                    assert!(!self.waits[job][on] || self.well(on), "job {job} may start before {on} ended well");
                }
            }
        }
    }

    fn in_state(&self, wanted: State) -> Vec<usize> {
        (0..self.run.jobs().len()).filter(|&job| self.run.jobs()[job].state() == wanted).collect()
    }

    /// A job that can be taken, once all that want into an environment are let in.
    fn first(&mut self) -> usize {
        for job in 0..self.run.jobs().len() {
            self.let_in.push(job);
            self.apply(Event::LetIn { job, back: false });
        }
        self.in_state(State::Queued)[0]
    }

    fn step(&mut self, Move { pick, kind }: &Move, faults: bool) {
        let (queued, running) = (self.in_state(State::Queued), self.in_state(State::Running));
        let wanting: Vec<usize> = (0..self.run.jobs().len()).filter(|&job| self.run.wants_in(job)).collect();
        let one = |list: &[usize]| list.get(pick % list.len().max(1)).copied();
        match kind {
            0..=3 if faults && !self.history.is_empty() => {
                let old = self.history[pick % self.history.len()].clone();
                self.apply(old);
            }
            4..=9 if faults => {
                if let Some(job) = one(&running) {
                    let attempt = self.run.jobs()[job].attempt;
                    self.apply(Event::Lost { job, attempt, why: "its runner fell silent".into() });
                }
            }
            10..=13 if faults => self.in_hand(pick % 3, one(&running)),
            14..=15 if faults => {
                let job = pick % self.run.jobs().len();
                self.apply(Event::StopAsked { job: (pick % 3 > 0).then_some(job), by: "Ines".into() });
            }
            16..=45 if !wanting.is_empty() => self.environment(*pick, wanting[pick % wanting.len()], faults),
            _ if queued.is_empty() && running.is_empty() && !wanting.is_empty() => self.environment(0, wanting[0], false),
            _ if pick % 2 == 0 && !queued.is_empty() || running.is_empty() => {
                if let Some(job) = one(&queued) {
                    let attempt = self.run.jobs()[job].attempt + 1;
                    self.apply(Event::Claimed { job, attempt, runner: format!("runner-{}", pick % 3) });
                }
            }
            _ => {
                if let Some(job) = one(&running) {
                    self.finish(job);
                }
            }
        }
    }

    /// The environment answers a job that wants in. While it needs nothing but another deployment's end, the run goes on.
    fn environment(&mut self, pick: usize, job: usize, faults: bool) {
        match pick % 8 {
            0..=3 => {
                self.let_in.push(job);
                self.apply(Event::LetIn { job, back: false });
            }
            4 if faults => self.apply(Event::Refused { job, why: "Lars refused it".into() }),
            5 if faults => self.apply(Event::Replaced { job, by: "tidegauge/9".into() }),
            6 => {
                self.apply(Event::HeldBack { job, holds: vec![Hold::Claim { held_by: "tidegauge/3 ship.pier".into() }] });
                assert!(!self.run.state().is_end(), "it goes in by itself");
            }
            _ => self.apply(Event::HeldBack { job, holds: vec![Hold::Unread { why: "line 3 is wrong".into() }] }),
        }
    }

    /// A job that a runner took ahead of time is begun, or given back: then it is as it was before.
    fn in_hand(&mut self, what: usize, job: Option<usize>) {
        let Some(job) = job else { return };
        let known = self.run.jobs()[job].clone();
        let attempt = known.attempt;
        if what == 0 {
            return self.apply(Event::WorkBegun { job, attempt, at: self.now });
        }
        self.apply(Event::GivenBack { job, attempt, since: self.now - 3 });
        let now = &self.run.jobs()[job];
        match known.progress.cut() {
            _ if attempt > 1 => assert_eq!(*now, known, "only a first attempt can be given back"),
            Some(_) => assert!(matches!(now.state(), State::Stopped | State::Overtaken) && now.attempt == 0, "{now:?}"),
            None => {
                let fresh = (now.state(), now.attempt, now.retries, now.runner.clone(), now.started);
                assert_eq!(fresh, (State::Queued, 0, 0, None, None));
            }
        }
    }

    fn finish(&mut self, job: usize) {
        let known = &self.run.jobs()[job];
        let outcome = if known.progress.cut().is_some() { Outcome::Stopped } else { self.outcomes[job] };
        let why = (outcome != Outcome::Passed).then(|| "it did not work".to_owned());
        self.apply(Event::Ended { job, attempt: known.attempt, outcome, exit_code: None, why });
    }
}

/// What the rules say a job ends as, read off the waits alone.
fn expected(drive: &Drive, job: usize) -> State {
    let blocked = (0..drive.waits.len()).any(|on| {
        drive.waits[job][on]
            && match expected(drive, on) {
                State::Passed => false,
                State::Failed => !drive.may_fail[on],
                _ => true,
            }
    });
    match drive.outcomes[job] {
        _ if blocked => State::Skipped,
        Outcome::Passed => State::Passed,
        _ => State::Failed,
    }
}

fn begin(sketch: &Sketch, outcomes: &[bool]) -> Option<Drive> {
    let mut drive = Drive::new(sketch, sketch.plan()?, outcomes);
    drive.apply(Event::Begun);
    Some(drive)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn without_faults_the_end_is_what_the_rules_say(
        sketch in sketch(), outcomes in prop::collection::vec(prop::bool::weighted(0.8), 10), moves in moves()
    ) {
        let Some(mut drive) = begin(&sketch, &outcomes) else { return Ok(()) };
        for turn in &moves {
            drive.step(turn, false);
        }
        for job in 0..drive.run.jobs().len() {
            prop_assert_eq!(drive.run.jobs()[job].state(), expected(&drive, job), "job {}", job);
        }
        let bad = (0..drive.run.jobs().len()).any(|job| drive.run.jobs()[job].state() == State::Failed && !drive.may_fail[job]);
        prop_assert_eq!(drive.run.state(), if bad { State::Failed } else { State::Passed });
    }

    #[test]
    fn with_faults_every_run_comes_to_an_end(
        sketch in sketch(), outcomes in prop::collection::vec(prop::bool::weighted(0.8), 10), moves in moves()
    ) {
        let Some(mut drive) = begin(&sketch, &outcomes) else { return Ok(()) };
        for turn in &moves {
            drive.step(turn, true);
        }
        let mut rest = 0;
        while !drive.run.state().is_end() {
            drive.step(&Move { pick: rest, kind: 50 }, false);
            rest += 1;
            prop_assert!(rest < 200, "the run does not end: {:?}", drive.run.jobs());
        }
        for job in drive.run.jobs() {
            prop_assert!(job.state().is_end());
            prop_assert!(matches!(job.state(), State::Passed) || job.why().is_some(), "an end without a reason: {:?}", job);
        }
    }

    #[test]
    fn a_result_of_a_given_up_attempt_changes_nothing(sketch in sketch()) {
        let Some(mut drive) = begin(&sketch, &[true; 10]) else { return Ok(()) };
        let job = drive.first();
        drive.apply(Event::Claimed { job, attempt: 1, runner: "quay".into() });
        drive.apply(Event::Lost { job, attempt: 1, why: "its runner fell silent".into() });
        let before = drive.run.jobs().to_vec();
        let late = Event::Ended { job, attempt: 1, outcome: Outcome::Passed, exit_code: None, why: None };
        prop_assert!(drive.run.apply(&late, 99).is_err());
        prop_assert_eq!(drive.run.jobs().to_vec(), before);
    }

    /// Whoever takes a job that was given back has its first attempt; what the one before says of it is too late.
    #[test]
    fn a_job_that_was_given_back_is_taken_as_if_for_the_first_time(sketch in sketch(), waits in 1..500i64) {
        let Some(mut drive) = begin(&sketch, &[true; 10]) else { return Ok(()) };
        let job = drive.first();
        drive.apply(Event::Claimed { job, attempt: 1, runner: "quay".into() });
        drive.apply(Event::GivenBack { job, attempt: 1, since: 1 });
        prop_assert_eq!(drive.run.jobs()[job].since, 1, "it keeps its place in the queue");
        let late = Event::Ended { job, attempt: 1, outcome: Outcome::Passed, exit_code: None, why: None };
        prop_assert!(drive.run.apply(&late, 99).is_err(), "nobody has it");
        drive.apply(Event::Claimed { job, attempt: 1, runner: "pier".into() });
        let taken = drive.run.jobs()[job].since;
        drive.apply(Event::WorkBegun { job, attempt: 1, at: taken + waits });
        let known = &drive.run.jobs()[job];
        prop_assert_eq!((known.runner.as_deref(), known.started, known.since), (Some("pier"), Some(taken + waits), taken + waits));
        drive.now = taken + waits;
        drive.finish(job);
        prop_assert_eq!(drive.run.jobs()[job].state(), State::Passed);
        let ended = drive.run.jobs()[job].clone();
        for late in [Event::GivenBack { job, attempt: 1, since: 1 }, Event::WorkBegun { job, attempt: 1, at: taken + 900 }] {
            let _ = drive.run.apply(&late, taken + 999);
            prop_assert_eq!(&drive.run.jobs()[job], &ended, "{:?} after the end", late);
        }
    }

    #[test]
    fn of_two_claims_one_wins(sketch in sketch()) {
        let Some(mut drive) = begin(&sketch, &[true; 10]) else { return Ok(()) };
        let job = drive.first();
        drive.apply(Event::Claimed { job, attempt: 1, runner: "quay".into() });
        let other = Event::Claimed { job, attempt: 1, runner: "pier".into() };
        prop_assert!(drive.run.apply(&other, 99).is_err());
        prop_assert_eq!(drive.run.jobs()[job].runner.as_deref(), Some("quay"));
    }
}
