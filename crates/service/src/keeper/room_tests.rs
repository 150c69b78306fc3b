//! The room by itself: commands in, answers and rows out. Time is given, nothing is written.

use super::room::Room;
use super::{Command, Holders, RunInfo, Stale, StopRefused};
use ordotaxis_core::engine::{Outcome, State};
use ordotaxis_core::plan::{Event, Lent, Occasion, Source, plan};
use ordotaxis_wire::runner::{AttemptId, Beat, Finish, Lease, SignOn};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot::{self, error::TryRecvError};

const TWO_JOBS: &str = "language = 1\n[env]\nUNITS = 'mm'\n[job.a.x]\nsteps = ['true']\ngives = { fw = ['out'] }\n[job.b.y]\nsteps = ['true']\ntakes = ['a.x/fw']\nwhere = ['linux']\n";

struct Stage {
    room: Room,
    holders: Holders,
    now: i64,
}

impl Stage {
    fn new(lease: Duration) -> Stage {
        let holders = Holders::default();
        Stage { room: Room::new(holders.clone(), lease, "http://here".into()), holders, now: 1_000 }
    }

    /// A run that goes on and a runner that is signed on.
    fn set(lease: Duration) -> Stage {
        let mut stage = Stage::new(lease);
        stage.begin(7);
        stage.sign_on("quay", "s1");
        stage
    }

    fn begin(&mut self, id: i64) {
        let occasion = Occasion { event: Event::Push, branch: Some("main".into()), commit: "c1".into(), ..Occasion::default() };
        let lent = Lent::new();
        let plan = Arc::new(plan(Source { text: TWO_JOBS, name: "main", lent: &lent }, &occasion).expect("a plan").plan);
        let info = RunInfo {
            id,
            number: 3,
            project_id: 1,
            project: "tidegauge".into(),
            main_branch: "main".into(),
            git_url: "http://forge/x.git".into(),
            commit: "c1".into(),
            commit_time: 5,
            branch: Some("main".into()),
            merge: None,
            told_on: "c1".into(),
        };
        self.tell(Command::Begin { info, plan });
    }

    fn tell(&mut self, command: Command) {
        self.now += 1;
        self.room.handle(command, self.now);
        self.room.dispatch(self.now);
        for answer in self.room.touched.answers.drain(..) {
            answer();
        }
    }

    fn ask<T>(&mut self, command: impl FnOnce(oneshot::Sender<T>) -> Command) -> Result<T, TryRecvError> {
        let (reply, mut answer) = oneshot::channel();
        self.tell(command(reply));
        answer.try_recv()
    }

    fn sign_on(&mut self, runner: &str, session: &str) {
        let labels = vec!["linux".to_owned()];
        let sign_on = SignOn { version: 1, session: session.into(), slots: 2, labels, isolation: "host".into() };
        self.ask(|reply| Command::SignOn { runner: runner.into(), sign_on, reply }).expect("an answer");
    }

    fn claim(&mut self, runner: &str, session: &str, slot: u32) -> Result<Lease, Option<Stale>> {
        let claimed = self.ask(|reply| Command::Claim { runner: runner.into(), session: session.into(), slot, reply });
        match claimed {
            Ok(Ok(lease)) => Ok(lease),
            Ok(Err(stale)) => Err(Some(stale)),
            Err(_) => Err(None),
        }
    }

    fn finish(&mut self, runner: &str, attempt: AttemptId, claim: bool) -> Result<Option<Lease>, Stale> {
        let finish = Finish {
            session: "s1".into(),
            slot: 0,
            outcome: Outcome::Passed,
            exit_code: Some(0),
            why: None,
            phases: Vec::new(),
            artifacts: Vec::new(),
            claim,
        };
        self.ask(|reply| Command::Finish { runner: runner.into(), attempt, finish: Box::new(finish), reply }).expect("an answer")
    }

    fn state(&self, job: usize) -> State {
        self.room.runs[&7].run.jobs()[job].state
    }
}

const LONG: Duration = Duration::from_secs(60);

#[test]
fn a_lease_holds_all_that_a_runner_needs() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!((lease.job.as_str(), lease.run.as_str(), lease.commit.as_str()), ("a.x", "tidegauge/3", "c1"));
    for (name, value) in
        [("UNITS", "mm"), ("ORDOTAXIS_URL", "http://here/runs/tidegauge/3"), ("ORDOTAXIS_ATTEMPT", "1"), ("SOURCE_DATE_EPOCH", "5")]
    {
        assert_eq!(lease.env.get(name).map(String::as_str), Some(value), "{name}");
    }
    assert!(stage.holders.holds("quay", lease.attempt));
    assert!(!stage.holders.holds("spar", lease.attempt));
}

#[test]
fn a_repeated_claim_gets_the_same_lease() {
    let mut stage = Stage::set(LONG);
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    let again = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!(first.attempt, again.attempt);
    assert!(matches!(stage.claim("quay", "s1", 1), Err(None)), "the other slot waits: nothing is ready");
    assert!(matches!(stage.claim("quay", "old", 1), Err(Some(Stale))));
}

#[test]
fn a_result_brings_the_next_lease_and_may_be_repeated() {
    let mut stage = Stage::set(LONG);
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    let next = stage.finish("quay", first.attempt, true).expect("an answer").expect("the next lease");
    assert_eq!(next.job.as_str(), "b.y");
    assert_eq!(next.takes[0].name, "a.x/fw");
    let repeated = stage.finish("quay", first.attempt, true).expect("an answer").expect("the same lease");
    assert_eq!(repeated.attempt, next.attempt);
    assert_eq!((stage.state(0), stage.state(1)), (State::Passed, State::Running));
    assert_eq!(stage.finish("quay", next.attempt, true).expect("an answer").map(|lease| lease.job), None);
    assert_eq!(stage.room.runs[&7].run.state(), State::Passed);
}

#[test]
fn nobody_ends_what_another_holds() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.sign_on("spar", "s1");
    assert_eq!(stage.finish("spar", lease.attempt, false).err(), Some(Stale));
    assert_eq!(stage.state(0), State::Running);
    let phases = stage.ask(|reply| Command::Phases { runner: "spar".into(), attempt: lease.attempt, phases: Vec::new(), reply });
    assert_eq!(phases, Ok(Err(Stale)));
}

#[test]
fn a_lease_that_runs_out_is_another_runners_chance() {
    let mut stage = Stage::set(Duration::ZERO);
    let lost = stage.claim("quay", "s1", 0).expect("a lease");
    std::thread::yield_now();
    stage.tell(Command::Tick);
    assert_eq!(stage.state(0), State::Queued);
    assert!(!stage.holders.holds("quay", lost.attempt));
    stage.sign_on("spar", "s2");
    let lease = stage.claim("spar", "s2", 0).expect("a lease");
    assert_eq!(lease.attempt.attempt, 2);
    stage.sign_on("quay", "s1");
    assert!(stage.finish("quay", lost.attempt, false).is_err(), "what the first might still say is refused");
    assert_eq!(stage.state(0), State::Running);
}

#[test]
fn a_runner_that_comes_back_without_its_jobs_gives_them_up() {
    let mut stage = Stage::set(LONG);
    stage.claim("quay", "s1", 0).expect("a lease");
    stage.sign_on("quay", "s2");
    assert_eq!(stage.state(0), State::Queued);
    assert_eq!(stage.claim("quay", "s2", 0).expect("a lease").attempt.attempt, 2);
    let left = stage.ask(|reply| Command::SignOff { runner: "quay".into(), session: "s2".into(), reply });
    assert!(left.is_ok());
    assert_eq!(stage.state(0), State::Queued);
}

#[test]
fn a_stop_reaches_the_runner_with_its_next_beat() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    let stop = |job: Option<&str>| {
        let job = job.map(str::to_owned);
        move |reply| Command::Stop { run: 7, job, by: "Ines".into(), reply }
    };
    assert!(matches!(stage.ask(stop(Some("a.z"))), Ok(Err(StopRefused::NoSuchJob(known))) if known.len() == 2));
    assert_eq!(stage.ask(stop(None)), Ok(Ok(())));
    assert_eq!(stage.state(1), State::Stopped);
    let unknown = AttemptId { run: 7, job: 0, attempt: 9 };
    let beat = Beat { session: "s1".into(), holding: vec![unknown] };
    let (beaten, _) = stage.ask(|reply| Command::Beat { runner: "quay".into(), beat, reply }).expect("an answer").expect("a session");
    assert_eq!(beaten.stop, [lease.attempt]);
    assert_eq!(beaten.unknown, [unknown]);
}

#[test]
fn every_job_that_has_not_ended_says_why() {
    let mut stage = Stage::new(LONG);
    stage.begin(7);
    let whys = |stage: &mut Stage| stage.ask(|reply| Command::Why { run: 7, reply }).expect("an answer").expect("a run");
    let first = whys(&mut stage);
    assert!(first[0].as_deref().is_some_and(|why| why.starts_with("no runner is connected; queued since ")), "{first:?}");
    assert!(first[1].as_deref().is_some_and(|why| why.starts_with("waits for a.x: queued since ")), "{first:?}");
    stage.sign_on("quay", "s1");
    stage.claim("quay", "s1", 0).expect("a lease");
    let second = whys(&mut stage);
    assert!(second[0].as_deref().is_some_and(|why| why.starts_with("running on quay since ")), "{second:?}");
    let runners = stage.ask(|reply| Command::Runners { reply }).expect("an answer");
    assert_eq!(runners[0].doing, ["tidegauge/3 a.x"]);
}

#[test]
fn a_removed_projects_runs_are_let_go() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.ask(|reply| Command::Forget { project_id: 1, reply }).expect("an answer");
    assert!(stage.room.runs.is_empty());
    assert!(!stage.holders.holds("quay", lease.attempt));
    assert!(matches!(stage.claim("quay", "s1", 1), Err(None)));
}

#[test]
fn what_is_written_is_what_changed() {
    let mut stage = Stage::set(LONG);
    let begun = stage.room.take_rows();
    assert_eq!(begun.jobs.iter().map(|job| job.state.as_str()).collect::<Vec<_>>(), ["queued"]);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    let claimed = stage.room.take_rows();
    assert_eq!(claimed.attempts.len(), 1);
    assert_eq!(claimed.runs.len(), 1, "the run begins with its first claim");
    assert_eq!(claimed.outbox.iter().map(|(.., kind, _)| *kind).collect::<Vec<_>>(), ["status"]);
    stage.finish("quay", lease.attempt, true).expect("an answer");
    let rows = stage.room.take_rows();
    assert_eq!(rows.jobs.len(), 2, "one passed, one begun");
    assert!(rows.outbox.is_empty());
    assert!(stage.room.take_rows().is_empty());
}
