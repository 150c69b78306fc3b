//! Runs that come back: tried again, started by hand, asked for again, overtaken. Each in any order of events, against
//! what the rules plainly say.

use super::model::{Sketch, sketch};
use ordotaxis_core::engine::{Cut, Event, Outcome, Refused, Run, State};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, plan};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

fn planned(text: &str) -> Plan {
    let borrowed = BorrowedFiles::new();
    let occasion = Occasion::by_hand();
    plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

struct Drive {
    run: Run,
    now: i64,
}

impl Drive {
    fn new(plan: Plan) -> Drive {
        let mut drive = Drive { run: Run::new(Arc::new(plan), 0), now: 0 };
        drive.apply(Event::Begun).expect("a run begins");
        drive
    }

    fn of(text: &str) -> Drive {
        Drive::new(planned(&format!("language = 1\n{text}")))
    }

    /// Applies an event; from then on the run is what would be stored of it. Environments let everything in.
    fn apply(&mut self, event: Event) -> Result<(), Refused> {
        self.now += 1;
        let effects = self.run.apply(&event, self.now)?;
        self.run = Run::restore(self.run.plan().clone(), self.run.jobs().to_vec(), self.run.state());
        effects.wants.into_iter().try_for_each(|job| self.apply(Event::LetIn { job, back: false }))
    }

    fn job(&self, id: &str) -> usize {
        self.run.plan().jobs.iter().position(|job| job.id.as_str() == id).expect("a job of the plan")
    }

    fn state(&self, id: &str) -> State {
        self.run.jobs()[self.job(id)].state()
    }

    fn why(&self, id: &str) -> String {
        self.run.jobs()[self.job(id)].why().unwrap_or_default().into_owned()
    }

    fn claim(&mut self, id: &str) {
        let job = self.job(id);
        let attempt = self.run.jobs()[job].attempt + 1;
        self.apply(Event::Claimed { job, attempt, runner: "quay".into() }).unwrap_or_else(|error| panic!("{id}: {error}"));
    }

    fn end(&mut self, id: &str, outcome: Outcome, exit_code: Option<i32>) {
        let job = self.job(id);
        let attempt = self.run.jobs()[job].attempt;
        let why = (outcome != Outcome::Passed).then(|| "so".to_owned());
        self.apply(Event::Ended { job, attempt, outcome, exit_code, why }).expect("it was running");
    }

    fn pass(&mut self, id: &str) {
        self.claim(id);
        self.end(id, Outcome::Passed, Some(0));
    }

    fn fail(&mut self, id: &str) {
        self.claim(id);
        self.end(id, Outcome::Failed, Some(1));
    }

    fn lose(&mut self, id: &str) {
        self.claim(id);
        let job = self.job(id);
        let attempt = self.run.jobs()[job].attempt;
        self.apply(Event::Lost { job, attempt, why: "its runner fell silent".into() }).expect("it was running");
    }

    fn again(&mut self, ids: &[&str]) -> Result<(), Refused> {
        let jobs = ids.iter().map(|id| self.job(id)).collect();
        self.apply(Event::Again { jobs, by: "Maren".into(), fresh: false })
    }

    fn start(&mut self, id: &str) -> Result<(), Refused> {
        let inputs = BTreeMap::from([("station".to_owned(), "lock-gate".to_owned())]);
        self.apply(Event::StartAsked { job: self.job(id), by: "Ines".into(), inputs })
    }

    /// Does every job that may be done, as `passes` says.
    fn work_off(&mut self, passes: impl Fn(usize) -> bool) {
        for _ in 0..500 {
            self.now += 100_000;
            let Some(job) = self.run.jobs().iter().position(|job| job.state() == State::Queued) else { return };
            let id = self.run.plan().jobs[job].id.to_string();
            if passes(job) { self.pass(&id) } else { self.fail(&id) }
        }
        panic!("the run does not end");
    }
}

#[test]
fn only_named_outcomes_are_tried_again_and_only_so_often() {
    let text = |on: &str| format!("[job.a.x]\nsteps = [\"true\"]\nretry = {{ times = 2, on = [{on}] }}\n");
    for (on, outcome, code, tried) in [
        ("\"failed\"", Outcome::Failed, Some(1), true),
        ("\"failed\"", Outcome::TimedOut, None, false),
        ("\"timeout\"", Outcome::TimedOut, None, true),
        ("\"timeout\"", Outcome::Failed, Some(1), false),
        ("\"exit:75\"", Outcome::Failed, Some(75), true),
        ("\"exit:75\"", Outcome::Failed, Some(74), false),
        ("\"lost\"", Outcome::Failed, Some(1), false),
        ("\"failed\"", Outcome::Stopped, None, false),
    ] {
        let mut drive = Drive::of(&text(on));
        drive.claim("a.x");
        drive.end("a.x", outcome, code);
        let queued = drive.state("a.x") == State::Queued;
        assert_eq!(queued, tried, "{on} {outcome:?} {code:?}");
        if !tried {
            continue;
        }
        let job = drive.run.jobs()[0].clone();
        assert_eq!(job.progress.pause(), Some(job.since + 1_000));
        let early = Event::Claimed { job: 0, attempt: 2, runner: "quay".into() };
        assert_eq!(drive.apply(early), Err(Refused::NotQueued), "not before the pause is over");
        drive.apply(Event::PauseOver { job: 0 }).expect("it pauses");
        drive.claim("a.x");
        drive.end("a.x", outcome, code);
        assert_eq!(drive.run.jobs()[0].progress.pause(), Some(drive.now + 2_000), "the pause grows");
        drive.apply(Event::PauseOver { job: 0 }).expect("it pauses");
        drive.claim("a.x");
        drive.end("a.x", outcome, code);
        assert_eq!(drive.state("a.x"), State::Failed, "twice more and no further");
    }
}

#[test]
fn a_lost_job_is_lost_unless_its_retry_says_otherwise() {
    let mut drive = Drive::of("[job.a.x]\nsteps = [\"true\"]\n[job.a.y]\nsteps = [\"true\"]\nretry = { times = 1, on = [\"lost\"] }\n");
    drive.lose("a.x");
    assert_eq!((drive.state("a.x"), &*drive.why("a.x")), (State::Lost, "its runner fell silent"));
    drive.lose("a.y");
    assert_eq!(drive.run.jobs()[1].progress.pause(), None, "elsewhere at once");
    drive.lose("a.y");
    assert_eq!(drive.state("a.y"), State::Lost);
    assert_eq!(drive.run.state(), State::Failed);
}

#[test]
fn what_starts_by_hand_does_not_keep_a_run_from_its_verdict() {
    let text = "order = \"a > b > c\"\n[job.a.x]\nsteps = [\"true\"]\n[job.b.ship]\nby_hand = true\nsteps = [\"true\"]\n[job.c.after]\nsteps = [\"true\"]\n[job.c.free]\neager = true\nsteps = [\"true\"]\n";
    let mut drive = Drive::of(text);
    assert_eq!(drive.start("a.x"), Err(Refused::NotByHand));
    drive.pass("a.x");
    assert_eq!((drive.state("b.ship"), drive.run.state()), (State::Gated, State::Running));
    drive.pass("c.free");
    assert_eq!((drive.run.state(), drive.state("c.after")), (State::Passed, State::Waiting), "the verdict is there");
    drive.start("b.ship").expect("it can be started later");
    assert_eq!((drive.run.state(), drive.state("b.ship")), (State::Running, State::Queued), "it joins the same run");
    assert_eq!(drive.run.jobs()[drive.job("b.ship")].inputs["station"], "lock-gate");
    assert_eq!(drive.start("b.ship"), Ok(()), "said twice is once");
    drive.fail("b.ship");
    assert_eq!((drive.state("c.after"), drive.run.state()), (State::Skipped, State::Failed));
}

#[test]
fn started_early_it_still_waits_for_the_others() {
    let mut drive = Drive::of("order = \"a > b\"\n[job.a.x]\nsteps = [\"true\"]\n[job.b.ship]\nby_hand = true\nsteps = [\"true\"]\n");
    drive.start("b.ship").expect("it may be started before its turn");
    assert_eq!(drive.state("b.ship"), State::Waiting);
    drive.pass("a.x");
    assert_eq!((drive.state("b.ship"), drive.run.state()), (State::Queued, State::Running));
}

#[test]
fn one_that_can_no_longer_start_holds_nothing_up() {
    let text = "order = \"a > b > c\"\n[job.a.x]\nsteps = [\"true\"]\n[job.b.ship]\nby_hand = true\nsteps = [\"true\"]\n[job.c.tidy]\nupon = [\"skipped\", \"failed\"]\nsteps = [\"true\"]\n";
    let mut drive = Drive::of(text);
    drive.fail("a.x");
    assert_eq!((drive.state("b.ship"), drive.state("c.tidy"), drive.run.state()), (State::Skipped, State::Queued, State::Running));
    drive.pass("c.tidy");
    assert_eq!(drive.run.state(), State::Failed);
}

#[test]
fn again_does_only_what_failed_and_what_follows() {
    let text = "order = \"a > b\"\n[job.a.x]\nsteps = [\"true\"]\n[job.a.y]\nsteps = [\"true\"]\n[job.b.z]\nsteps = [\"true\"]\n[job.b.tidy]\nupon = [\"passed\", \"failed\"]\nsteps = [\"true\"]\n";
    let mut drive = Drive::of(text);
    drive.pass("a.x");
    drive.fail("a.y");
    assert_eq!(drive.again(&["b.tidy"]), Err(Refused::NotEnded));
    drive.pass("b.tidy");
    assert_eq!((drive.run.state(), drive.state("b.z")), (State::Failed, State::Skipped));
    drive.again(&[]).expect("something failed");
    let states = ["a.x", "a.y", "b.z", "b.tidy"].map(|id| drive.state(id));
    assert_eq!(states, [State::Passed, State::Queued, State::Waiting, State::Waiting]);
    assert_eq!(drive.run.state(), State::Running);
    drive.work_off(|_| true);
    assert_eq!(drive.run.state(), State::Passed);
    assert_eq!(drive.run.jobs().iter().map(|job| job.attempt).collect::<Vec<_>>(), [1, 2, 1, 2], "attempts count on");
    assert_eq!(drive.again(&[]), Err(Refused::NothingFailed));
    drive.again(&["a.x"]).expect("it may be asked for although it passed");
    assert_eq!(["a.x", "a.y", "b.z"].map(|id| drive.state(id)), [State::Queued, State::Passed, State::Waiting]);
}

#[test]
fn a_newer_commit_cuts_off_all_but_what_changes_an_environment() {
    let text = "order = \"a > b\"\n[job.a.x]\nsteps = [\"true\"]\nretry = { times = 3 }\n[job.a.ship]\ndeploys = \"pier\"\nsteps = [\"true\"]\n[job.b.z]\nsteps = [\"true\"]\n";
    let mut drive = Drive::of(text);
    drive.claim("a.x");
    drive.claim("a.ship");
    drive.apply(Event::Overtaken { by: "tidegauge/9".into() }).expect("it goes on");
    assert_eq!(drive.state("b.z"), State::Overtaken);
    drive.end("a.x", Outcome::Stopped, None);
    assert_eq!((drive.state("a.x"), &*drive.why("a.x")), (State::Overtaken, "overtaken by tidegauge/9, a newer commit"));
    assert_eq!(drive.run.state(), State::Running, "what deploys is never cut off");
    drive.end("a.ship", Outcome::Passed, Some(0));
    assert_eq!(drive.run.state(), State::Overtaken);
}

#[test]
fn a_stop_that_someone_asked_for_counts_before_a_newer_commit_in_either_order() {
    let stop = || Event::StopAsked { job: Some(0), by: "Odd".into() };
    let overtaken = || Event::Overtaken { by: "tidegauge/9".into() };
    for events in [[stop(), overtaken()], [overtaken(), stop()], [stop(), stop()]] {
        let mut drive = Drive::of("[job.a.x]\nsteps = [\"true\"]\nretry = { times = 3 }\n");
        drive.claim("a.x");
        events.into_iter().for_each(|event| drive.apply(event).expect("it runs"));
        assert_eq!(drive.run.jobs()[0].progress.cut(), Some(&Cut::Stopped { by: "Odd".into() }));
        drive.end("a.x", Outcome::Failed, Some(1));
        assert_eq!(drive.state("a.x"), State::Failed, "it is not tried again, and its own end stands");
    }
    let mut drive = Drive::of("[job.a.x]\nsteps = [\"true\"]\n");
    drive.claim("a.x");
    drive.apply(Event::Ended { job: 0, attempt: 1, outcome: Outcome::Stopped, exit_code: None, why: None }).expect("it runs");
    assert_eq!(drive.why("a.x"), "its runner stopped it", "nobody had asked, and no reason came");
}

#[test]
fn stopping_one_cell_stops_those_after_it_where_one_goes_after_another() {
    let mut drive = Drive::of("[job.a.x]\neach = { n = [1, 2, 3] }\nat_once = 1\nsteps = [\"true\"]\n");
    drive.claim("a.x[1]");
    drive.apply(Event::StopAsked { job: Some(0), by: "Odd".into() }).expect("it runs");
    drive.end("a.x[1]", Outcome::Stopped, None);
    assert_eq!([1, 2].map(|job| drive.run.jobs()[job].state()), [State::Skipped, State::Skipped]);
    drive.again(&[]).expect("it was stopped");
    assert_eq!([0, 1, 2].map(|job| drive.run.jobs()[job].state()), [State::Queued, State::Waiting, State::Waiting]);
}

#[test]
fn copies_of_a_split_are_cells() {
    let drive = Drive::of("[job.a.x]\neach = { cc = [\"gcc\"] }\nsplit = { into = 3 }\nsteps = [\"true\"]\n");
    let ids: Vec<&str> = drive.run.plan().jobs.iter().map(|job| job.id.as_str()).collect();
    assert_eq!(ids, ["a.x[gcc,1-of-3]", "a.x[gcc,2-of-3]", "a.x[gcc,3-of-3]"]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// However a run ended, asked for again with everything mended it passes, and what had passed and follows nothing
    /// that failed is not done again.
    #[test]
    fn again_after_mending_passes(sketch in sketch(), good in prop::collection::vec(prop::bool::weighted(0.7), 10)) {
        let Some(plan) = sketch.plan() else { return Ok(()) };
        let mut drive = Drive::new(plan);
        drive.work_off(|job| good[job]);
        let ended: Vec<_> = drive.run.jobs().to_vec();
        let failed = drive.run.state() == State::Failed;
        prop_assert_eq!(drive.again(&[]).is_ok(), failed);
        drive.work_off(|_| true);
        prop_assert_eq!(drive.run.state(), State::Passed);
        let reach = Sketch::reach(&sketch);
        let places = sketch.places(drive.run.plan());
        for (j, &place) in places.iter().enumerate() {
            let counts = |i: usize| match ended[places[i]].state() {
                State::Failed => !sketch.jobs[i].may_fail,
                State::Passed => false,
                _ => true,
            };
            let touched = counts(j) || (0..places.len()).any(|i| reach[j][i] && counts(i));
            if !touched {
                prop_assert_eq!(&drive.run.jobs()[place], &ended[place], "j{} was done again", j);
            } else {
                prop_assert_eq!(drive.run.jobs()[place].state(), State::Passed);
            }
        }
    }
}
