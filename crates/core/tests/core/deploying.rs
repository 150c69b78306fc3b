//! Jobs that deploy, in a run: held, let in, refused, replaced; what follows for others and for the verdict.

use ordotaxis_core::delivery::{Hold, Lack};
use ordotaxis_core::engine::{Back, Event, Outcome, Run, State, why_job};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};
use std::sync::Arc;

const FLEET: &str = "language = 1\norder = [\"build > ship > tell\"]\n[job.build.gauge]\nsteps = [\"make\"]\n\
    [job.ship.pier]\neach = { pier = [\"north\", \"south\"] }\nat_once = 1\nsteps = [\"./put.sh\"]\ndeploys = \"pier-{each.pier}\"\n\
    [job.tell.all]\nsteps = [\"./tell.sh\"]\n";

struct Drive(Run);

impl Drive {
    /// With the build passed.
    fn begun() -> Drive {
        let source = Source { text: FLEET, name: "main", borrowed: &BorrowedFiles::new() };
        let mut drive = Drive(Run::new(Arc::new(plan(source, &Occasion::push("main")).expect("a plan").plan), 0));
        drive.apply(Event::Begun);
        drive.pass(0);
        drive
    }

    /// Gives the jobs that want into their environments by it.
    fn apply(&mut self, event: Event) -> Vec<usize> {
        let effects = self.0.apply(&event, 1).expect("it fits");
        self.0 = Run::restore(self.0.plan().clone(), self.0.jobs().to_vec(), self.0.state());
        effects.wants
    }

    fn pass(&mut self, job: usize) -> Vec<usize> {
        let attempt = self.0.jobs()[job].attempt + 1;
        self.apply(Event::Claimed { job, attempt, runner: "quay".into() });
        self.apply(Event::Ended { job, attempt, outcome: Outcome::Passed, exit_code: Some(0), why: None })
    }

    fn state(&self, job: usize) -> State {
        self.0.jobs()[job].state()
    }

    fn why(&self, job: usize) -> String {
        why_job(&self.0, job, "tidegauge/4", &|_| "12:00".into(), || "queued".into()).unwrap_or_default()
    }
}

fn approvals() -> Vec<Hold> {
    vec![Hold::Approvals { needs: 1, given: Vec::new(), by: vec!["@keepers".into()], there: 2, runs_out: None }]
}

#[test]
fn each_asks_when_it_is_ready_and_a_cell_that_waits_keeps_its_place() {
    let mut drive = Drive::begun();
    assert_eq!((drive.state(1), drive.state(2)), (State::Gated, State::Waiting), "one cell at once");
    assert_eq!(drive.why(1), "asks to go into pier-north; ready since 12:00");
    assert_eq!(drive.0.state(), State::Running, "nobody has said that it has to wait");
    let going = vec![Hold::After { environment: "trial".into(), lack: Lack::Going }];
    drive.apply(Event::HeldBack { job: 1, holds: going });
    assert_eq!(drive.0.state(), State::Running, "a deployment elsewhere that has to end first gives no verdict");
    drive.apply(Event::HeldBack { job: 1, holds: approvals() });
    assert_eq!(drive.why(1), "waits to go into pier-north: 1 approval by @keepers is missing; ready since 12:00");
    assert_eq!((drive.state(2), drive.0.state()), (State::Waiting, State::Passed), "the verdict does not wait for people");
    assert_eq!(drive.why(2), "waits for ship.pier[north]: gated since 12:00; only 1 cell of ship.pier at once");
    drive.apply(Event::LetIn { job: 1, back: false });
    assert_eq!((drive.state(1), drive.0.state()), (State::Queued, State::Running));
    assert_eq!(drive.pass(1), [2], "the next asks");
    drive.apply(Event::LetIn { job: 2, back: false });
    assert!(drive.pass(2).is_empty());
    assert_eq!(drive.state(3), State::Queued);
}

#[test]
fn what_is_refused_ends_with_the_reason_and_what_waits_for_it_is_skipped() {
    let mut drive = Drive::begun();
    let why = "lars refused it: not before the storm";
    assert!(drive.apply(Event::Refused { job: 1, why: why.into() }).is_empty());
    assert_eq!((drive.state(1), drive.why(1).as_str()), (State::Refused, why));
    assert_eq!(drive.why(2), "skipped because ship.pier[north] was refused, and its other cells do not go on");
    assert_eq!(drive.why(3), "skipped because ship.pier[north] was refused");
    assert_eq!(drive.0.state(), State::Refused);
    drive.apply(Event::Replaced { job: 1, by: "tidegauge/9".into() });
    drive.apply(Event::LetIn { job: 1, back: false });
    assert_eq!(drive.state(1), State::Refused, "it has ended, and stays so");
    let mut replaced = Drive::begun();
    replaced.apply(Event::Replaced { job: 1, by: "tidegauge/9".into() });
    assert_eq!((replaced.state(1), replaced.why(1).as_str()), (State::Overtaken, "overtaken by tidegauge/9, a newer commit"));
    assert_eq!(replaced.0.state(), State::Passed, "the verdict on its commit stays");
    let back = drive.apply(Event::Again { jobs: Vec::new(), by: "Ines".into(), fresh: false });
    assert_eq!(back, [1], "asked for again it asks again");
    drive.apply(Event::StopAsked { job: None, by: "Ines".into() });
    assert_eq!((drive.state(1), drive.0.state()), (State::Stopped, State::Stopped));
}

#[test]
fn what_fails_puts_back_what_was_there_by_one_more_attempt() {
    let ends = |second: Outcome, why: &str| {
        let mut drive = Drive::begun();
        drive.apply(Event::LetIn { job: 1, back: true });
        let claim = |attempt| Event::Claimed { job: 1, attempt, runner: "quay".into() };
        let end = |attempt, outcome, why: &str| Event::Ended { job: 1, attempt, outcome, exit_code: None, why: Some(why.into()) };
        drive.apply(claim(1));
        drive.apply(end(1, Outcome::Failed, "the check failed"));
        assert_eq!(drive.state(1), State::Queued);
        assert!(drive.why(1).contains("the check failed; what was there before is put there again"), "{}", drive.why(1));
        assert_eq!(drive.state(2), State::Waiting, "nothing goes on meanwhile");
        drive.apply(claim(2));
        drive.apply(end(2, second, why));
        (drive.state(1), drive.why(1), drive.0.jobs()[1].back.clone())
    };
    let (state, why, back) = ends(Outcome::Passed, "");
    assert_eq!((state, why.as_str(), back), (State::Failed, "the check failed; what was there before is there again", Back::Done));
    let (state, why, back) = ends(Outcome::Failed, "exit code 1");
    assert_eq!(state, State::Failed);
    assert_eq!(why, "the check failed; and what was there before could not be put there again: exit code 1");
    assert_ne!(back, Back::Done);
    // Where it need not go back it has failed at once; and once it was done again, the environment says anew.
    let mut drive = Drive::begun();
    drive.apply(Event::LetIn { job: 1, back: false });
    drive.apply(Event::Claimed { job: 1, attempt: 1, runner: "quay".into() });
    drive.apply(Event::Ended { job: 1, attempt: 1, outcome: Outcome::Failed, exit_code: None, why: None });
    assert_eq!(drive.state(1), State::Failed);
    drive.apply(Event::Again { jobs: vec![1], by: "ines".into(), fresh: false });
    assert_eq!((drive.state(1), &drive.0.jobs()[1].back), (State::Gated, &Back::No));
}
