//! The room by itself: commands in, answers and rows out. Time is given, nothing is written.

use super::command::{Command, FleetCommand, RunCommand};
use super::holders::Holders;
use super::room::{Room, Terms};
use super::snapshot::Snapshot;
use super::{AgainRefused, RunInfo, Stale, StartRefused, StopRefused};
use ordotaxis_core::access::{Actor, Who};
use ordotaxis_core::engine::{Outcome, State, Usual};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};
use ordotaxis_wire::runner::{AttemptId, Beat, Claimed, Finish, Lease, SignOn, Tool};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot::{self, error::TryRecvError};

const TWO_JOBS: &str = "language = 1\n[env]\nUNITS = 'mm'\n[job.a.x]\nsteps = ['true']\ngives = { fw = ['out'] }\nretry = { times = 2, on = ['lost'] }\n[job.b.y]\nsteps = ['true']\ntakes = ['a.x/fw']\nwhere = ['linux']\n";

fn person(name: &str) -> Actor {
    Actor { who: Who::Person { id: 1, name: name.into() }, ..Actor::rule("") }
}

/// A slot's word that its attempt passed; it asks for nothing.
pub(super) fn passed(session: &str, slot: u32) -> Finish {
    Finish {
        session: session.into(),
        slot,
        outcome: Outcome::Passed,
        exit_code: Some(0),
        why: None,
        phases: Vec::new(),
        artifacts: Vec::new(),
        claim: false,
        holding: Vec::new(),
        ahead: false,
        tests: Default::default(),
        caches: Vec::new(),
        answer: None,
    }
}

pub(super) struct Stage {
    pub(super) room: Room,
    pub(super) holders: Holders,
    pub(super) now: i64,
}

impl Stage {
    pub(super) fn new(lease: Duration) -> Stage {
        let holders = Holders::default();
        Stage {
            room: Room::new(
                holders.clone(),
                Default::default(),
                Terms { lease, public_url: "http://here".into(), keep: 1_000_000, anyway: false, traces: None },
            ),
            holders,
            now: 1_000,
        }
    }

    /// A run that goes on and a runner that is signed on.
    fn set(lease: Duration) -> Stage {
        let mut stage = Stage::new(lease);
        stage.begin(7);
        stage.sign_on("quay", "s1");
        stage
    }

    fn begin(&mut self, id: i64) {
        self.begin_with(id, 1, TWO_JOBS, &format!("c{id}"), Usual::new());
    }

    pub(super) fn begin_with(&mut self, id: i64, project: i64, text: &str, commit: &str, usual: Usual) {
        let commit = commit.to_owned();
        let occasion = Occasion { commit: Some(commit.clone()), ..Occasion::push("main") };
        let borrowed = BorrowedFiles::new();
        let plan =
            Arc::new(plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}")).plan);
        let info = RunInfo {
            id,
            number: id - 4,
            project_id: project,
            project: if project == 1 { "tidegauge".into() } else { format!("project{project}") },
            commit: commit.clone(),
            commit_time: 5,
            branch: Some("main".into()),
            told_on: commit,
            again_of: None,
            fresh: false,
            inputs: Default::default(),
            behind: None,
            tried: false,
            shared: Arc::default(),
        };
        self.tell(RunCommand::Begin { info: Box::new(info), plan, usual, ready: Vec::new(), carried: None });
    }

    pub(super) fn tell(&mut self, command: impl Into<Command>) {
        self.now += 1;
        self.room.handle(command.into(), self.now);
        self.room.dispatch(self.now);
        self.room.show(self.now);
        for answer in self.room.touched.answers.drain(..) {
            answer();
        }
    }

    pub(super) fn look(&mut self) -> Arc<Snapshot> {
        self.ask(|reply| Command::Look { reply }).expect("an answer")
    }

    pub(super) fn ask<T, C: Into<Command>>(&mut self, command: impl FnOnce(oneshot::Sender<T>) -> C) -> Result<T, TryRecvError> {
        let (reply, mut answer) = oneshot::channel();
        self.tell(command(reply));
        answer.try_recv()
    }

    fn sign_on(&mut self, runner: &str, session: &str) {
        self.sign_on_with(runner, session, 2, "host");
    }

    pub(super) fn sign_on_with(&mut self, runner: &str, session: &str, slots: u32, isolation: &str) {
        let tools = vec![Tool { name: "make".into(), version: "4.3".into() }];
        let sign_on = SignOn {
            version: 1,
            session: session.into(),
            slots,
            system: vec!["linux".to_owned()],
            labels: None,
            isolation: isolation.into(),
            fence: String::new(),
            tools,
            cores: 2,
            memory_bytes: 1 << 30,
            gpus: 0,
        };
        self.ask(|reply| FleetCommand::SignOn { runner: runner.into(), sign_on, granted: Default::default(), reply }).expect("an answer");
    }

    pub(super) fn claim(&mut self, runner: &str, session: &str, slot: u32) -> Result<Lease, Option<Stale>> {
        let claimed = self.ask(|reply| FleetCommand::Claim { runner: runner.into(), session: session.into(), slot, reply });
        match claimed {
            Ok(Ok(claimed)) => claimed.lease.ok_or(None),
            Ok(Err(stale)) => Err(Some(stale)),
            Err(_) => Err(None),
        }
    }

    fn finish(&mut self, runner: &str, attempt: AttemptId, claim: bool) -> Result<Option<Lease>, Stale> {
        let finish = Finish { claim, ..passed("s1", 0) };
        self.send_finish(runner, attempt, finish).map(|claimed| claimed.lease)
    }

    fn finish_as(&mut self, runner: &str, attempt: AttemptId, outcome: Outcome) -> Result<Option<Lease>, Stale> {
        let why = Some("step `true` exited with 1".to_owned());
        let finish = Finish { outcome, exit_code: Some(1), why, ..passed("s1", 0) };
        self.send_finish(runner, attempt, finish).map(|claimed| claimed.lease)
    }

    pub(super) fn send_finish(&mut self, runner: &str, attempt: AttemptId, finish: Finish) -> Result<Claimed, Stale> {
        self.ask(|reply| RunCommand::Finish { runner: runner.into(), attempt, finish: Box::new(finish), artifacts: Vec::new(), reply })
            .expect("an answer")
    }

    fn state(&self, job: usize) -> State {
        self.room.runs[&7].run.jobs()[job].state()
    }
}

pub(super) const LONG: Duration = Duration::from_secs(60);

#[test]
fn a_lease_holds_all_that_a_runner_needs() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!((lease.job.as_str(), lease.run.as_str(), lease.commit.as_str()), ("a.x", "tidegauge/3", "c7"));
    for (name, value) in
        [("UNITS", "mm"), ("ORDOTAXIS_RUN_URL", "http://here/runs/tidegauge/3"), ("ORDOTAXIS_ATTEMPT", "1"), ("SOURCE_DATE_EPOCH", "5")]
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
    let phases = stage.ask(|reply| RunCommand::Phases { runner: "spar".into(), attempt: lease.attempt, phases: Vec::new(), reply });
    assert_eq!(phases, Ok(Err(Stale)));
}

#[test]
fn a_stall_of_the_service_itself_counts_against_no_lease() {
    // So much longer than the test that nothing else can make the lease run out.
    let (lease, missing) = (Duration::from_secs(600), Duration::from_secs(300));
    for (stall, lost) in [(2 * missing, false), (20 * lease, false), (Duration::ZERO, true)] {
        let mut stage = Stage::set(lease);
        let taken = stage.claim("quay", "s1", 0).expect("a lease").attempt;
        // As if what is left of the lease had gone by while the service stood still.
        let gone = stage.room.held.get_of("quay", taken).expect("it is held");
        gone.until -= lease + missing;
        stage.tell(Command::Tick { stall });
        assert_eq!(stage.holders.holds("quay", taken), !lost, "{stall:?}");
        assert_eq!(stage.state(0), if lost { State::Queued } else { State::Running });
        if !lost {
            let left = stage.room.held.get(taken).expect("it is held").until - std::time::Instant::now();
            assert!(left <= lease, "a stall gives no more than a lease: {left:?}");
        }
    }
}

#[test]
fn a_lease_that_runs_out_is_another_runners_chance() {
    let mut stage = Stage::set(Duration::ZERO);
    let lost = stage.claim("quay", "s1", 0).expect("a lease");
    std::thread::yield_now();
    stage.tell(Command::Tick { stall: Duration::ZERO });
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
    let left = stage.ask(|reply| FleetCommand::SignOff { runner: "quay".into(), session: "s2".into(), reply });
    assert!(left.is_ok());
    assert_eq!(stage.state(0), State::Queued);
}

#[test]
fn a_stop_reaches_the_runner_with_its_next_beat() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    let stop = |job: Option<&str>| {
        let job = job.map(str::to_owned);
        move |reply| RunCommand::Stop { run: 7, job, by: person("Ines"), reply }
    };
    assert!(matches!(stage.ask(stop(Some("a.z"))), Ok(Err(StopRefused::NoSuchJob(known))) if known.len() == 2));
    assert_eq!(stage.ask(stop(None)), Ok(Ok(())));
    assert_eq!(stage.state(1), State::Stopped);
    let unknown = AttemptId { run: 7, job: 0, attempt: 9 };
    let beat = Beat { session: "s1".into(), holding: vec![unknown] };
    let (beaten, _) = stage.ask(|reply| FleetCommand::Beat { runner: "quay".into(), beat, reply }).expect("an answer").expect("a session");
    assert_eq!(beaten.stop, [lease.attempt]);
    assert_eq!(beaten.unknown, [unknown]);
}

#[test]
fn every_job_that_has_not_ended_says_why() {
    let mut stage = Stage::new(LONG);
    stage.begin(7);
    let whys = |stage: &mut Stage| stage.look().whys(7).expect("a run");
    let first = whys(&mut stage);
    assert!(first[0].as_deref().is_some_and(|why| why.starts_with("no runner is connected; queued since ")), "{first:?}");
    assert!(first[1].as_deref().is_some_and(|why| why.starts_with("waits for a.x: queued since ")), "{first:?}");
    stage.sign_on("quay", "s1");
    stage.claim("quay", "s1", 0).expect("a lease");
    let second = whys(&mut stage);
    assert!(second[0].as_deref().is_some_and(|why| why.starts_with("running on quay since ")), "{second:?}");
    let runners = stage.look().runners();
    assert_eq!((runners[0].doing[0].run.as_str(), runners[0].doing[0].job.as_str()), ("tidegauge/3", "a.x"));
}

#[test]
fn a_removed_projects_runs_are_let_go() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.ask(|reply| RunCommand::Forget { project_id: 1, reply }).expect("an answer");
    assert!(stage.room.runs.is_empty());
    assert!(!stage.holders.holds("quay", lease.attempt));
    assert!(matches!(stage.claim("quay", "s1", 1), Err(None)));
}

#[test]
fn runs_that_were_dropped_are_let_go_and_no_others() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.ask(|reply| RunCommand::Dropped { runs: vec![1, 99], reply }).expect("an answer");
    assert!(stage.room.runs.contains_key(&7) && stage.holders.holds("quay", lease.attempt));
    stage.ask(|reply| RunCommand::Dropped { runs: vec![7], reply }).expect("an answer");
    assert!(stage.room.runs.is_empty() && !stage.holders.holds("quay", lease.attempt));
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
    let told = claimed.events.iter().filter_map(|event| event.detail.as_ref()).map(|told| told.state);
    assert_eq!(told.collect::<Vec<_>>(), [State::Running]);
    stage.finish("quay", lease.attempt, true).expect("an answer");
    let rows = stage.room.take_rows();
    assert_eq!(rows.jobs.len(), 2, "one passed, one begun");
    assert!(rows.events.iter().all(|event| event.detail.is_none()), "the run itself goes on as it was");
    assert!(stage.room.take_rows().is_empty());
}

/// One case for each reason why a job has not ended: what the file says, what happens, and the sentence about the last job.
#[test]
fn every_reason_to_wait_has_its_sentence() {
    type Then = fn(&mut Stage);
    let nothing: Then = |_| {};
    let runner: Then = |stage| stage.sign_on_with("quay", "s1", 1, "host");
    let busy: Then = |stage| {
        stage.sign_on_with("quay", "s1", 1, "host");
        stage.claim("quay", "s1", 0).expect("a lease");
    };
    let cases: &[(&str, Then, &str)] = &[
        ("[job.a.x]\nsteps = ['true']", nothing, "no runner is connected; queued since"),
        (
            "[job.a.x]\nsteps = ['true']\nwhere = ['linx']",
            runner,
            "no connected runner has the label linx; the nearest is linux (runner quay)",
        ),
        (
            "[job.a.x]\nsteps = ['true']\ntools = { make = '>=5' }",
            runner,
            "no connected runner offers make >=5; there is make 4.3 (runner quay)",
        ),
        ("[job.a.x]\nsteps = ['true']\nimage = 'busybox'", runner, "it runs in an image, and no connected runner makes containers"),
        ("[job.a.x]\nsteps = ['true']\nnetwork = false", runner, "it says network = false, and no connected runner can keep a job"),
        (
            "order = 'a > b'\n[job.a.x]\nsteps = ['true']\n[job.b.y]\nsteps = ['true']",
            busy,
            "waits for a.x: running since 00:00:01 UTC; the order puts that job's stage earlier",
        ),
        (
            "[job.a.x]\nsteps = ['true']\n[job.a.y]\nafter = ['a.x']\nsteps = ['true']",
            busy,
            "waits for a.x: running since 00:00:01 UTC; the file says it comes after it",
        ),
        (
            "[job.a.x]\nsteps = ['true']\ngives = { o = ['o'] }\n[job.a.y]\ntakes = ['a.x/o']\nsteps = ['true']",
            busy,
            "waits for a.x: running since 00:00:01 UTC; it takes what that job gives",
        ),
        (
            "[job.a.x]\nsteps = ['true']\n[job.b.y]\nafter = ['a']\nsteps = ['true']",
            busy,
            "waits for a.x: running since 00:00:01 UTC; the file says it comes after that stage",
        ),
        (
            "[job.a.x]\nsteps = ['true']\neach = { n = [1, 2, 3] }\nat_once = 1",
            busy,
            "waits for a.x[1]: running since 00:00:01 UTC; only 1 cell of a.x at once",
        ),
        (
            "[job.a.x]\nsteps = ['true']\neach = { n = [1, 2, 3] }\nat_once = 2",
            busy,
            "waits for a.x[1] and 1 other cell: running since 00:00:01 UTC; only 2 cells of a.x at once",
        ),
        ("[job.a.x]\nsteps = ['true']\nby_hand = true", runner, "starts by hand only, and nobody has started it; ready since 00:00:01 UTC"),
        (
            "[job.a.x]\nsteps = ['true']\neach = { n = [1, 2, 3] }\nturn = 'ship'",
            busy,
            "its turn ship is held by tidegauge/3 a.x[1] since 00:00:01 UTC; 1 job asked for it before; queued since",
        ),
        (
            "[job.a.x]\nsteps = ['true']\n[job.a.z]\nsteps = ['true']\n[job.a.y]\nsteps = ['true']",
            busy,
            "quay, the only runner that fits, is busy; 1 job is ahead of it, likely to start in about ",
        ),
        (
            "[job.a.x]\nsteps = ['true']\n[job.a.y]\nsteps = ['true']",
            |stage| {
                stage.sign_on_with("quay", "s1", 1, "host");
                stage.tell(FleetCommand::Drain { runner: "quay".into(), by: Some("Odd".into()), reply: oneshot::channel().0 });
            },
            "quay, the only runner that fits, is draining and takes nothing more",
        ),
        (
            "[job.a.x]\nsteps = ['true']\nretry = { times = 1, on = ['failed'] }",
            |stage| {
                stage.sign_on_with("quay", "s1", 1, "host");
                let lease = stage.claim("quay", "s1", 0).expect("a lease");
                stage.finish_as("quay", lease.attempt, Outcome::Failed).expect("an answer");
            },
            "it is tried again at 00:00:02 UTC; queued since 00:00:01 UTC (attempt 1 did not do: step `true` exited with 1)",
        ),
        ("[job.a.x]\nsteps = ['true']", busy, "running on quay since 00:00:01 UTC"),
        (
            "[job.a.x]\nsteps = ['true']",
            |stage| {
                stage.sign_on_with("quay", "s1", 1, "host");
                stage.claim("quay", "s1", 0).expect("a lease");
                stage
                    .ask(|reply| RunCommand::Stop { run: 7, job: None, by: person("Ines"), reply })
                    .expect("an answer")
                    .expect("it goes on");
            },
            "running on quay since 00:00:01 UTC; Ines asked to stop it",
        ),
    ];
    for (text, then, sentence) in cases {
        let mut stage = Stage::new(LONG);
        let usual = Usual::from([("a.x".to_owned(), 60_000), ("a.y".to_owned(), 30_000)]);
        stage.begin_with(7, 1, &format!("language = 1\n{text}\n"), "c1", usual);
        then(&mut stage);
        let whys = stage.look().whys(7).expect("it goes on");
        let why = whys.last().cloned().flatten().unwrap_or_default();
        assert!(why.starts_with(sentence), "{text}\n  says: {why}\n  want: {sentence}");
        let queue = stage.look().queue();
        let queued = stage.room.runs[&7].run.jobs().last().is_some_and(|job| job.state() == State::Queued);
        assert_eq!(queue.iter().any(|job| job.why == why), queued, "the queue says the same");
    }
}

#[test]
fn a_turn_has_one_holder_over_all_runs_in_the_order_asked() {
    let text = "language = 1\n[job.a.x]\nsteps = ['true']\nturn = 'ship-{project}'\nretry = { times = 1, on = ['lost'] }\n";
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, text, "c1", Usual::new());
    stage.begin_with(8, 1, text, "c1", Usual::new());
    stage.begin_with(9, 2, text, "c1", Usual::new());
    stage.sign_on_with("quay", "s1", 4, "host");
    let first = stage.claim("quay", "s1", 0).expect("a lease");
    assert!(first.holds_turn);
    let other = stage.claim("quay", "s1", 1).expect("another project's turn is another");
    assert_eq!((first.attempt.run, other.attempt.run), (7, 9));
    assert!(matches!(stage.claim("quay", "s1", 2), Err(None)), "the turn is held");
    // Its runner restarts: the turn is free, and goes to the job that asked next; the first asks again.
    stage.sign_on_with("quay", "s2", 4, "host");
    let second = stage.claim("quay", "s2", 0).expect("a lease");
    let third = stage.claim("quay", "s2", 1).expect("a lease");
    assert_eq!((second.attempt.run, third.attempt.run), (8, 9));
    assert!(matches!(stage.claim("quay", "s2", 2), Err(None)));
}

#[test]
fn projects_take_turns() {
    let text = "language = 1\n[job.a.x]\neach = { n = [1, 2, 3, 4] }\nsteps = ['true']\n";
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, text, "c1", Usual::new());
    stage.begin_with(8, 2, text, "c1", Usual::new());
    stage.sign_on_with("quay", "s1", 4, "host");
    let runs: Vec<i64> = (0..4).map(|slot| stage.claim("quay", "s1", slot).expect("a lease").attempt.run).collect();
    assert_eq!(runs, [7, 8, 7, 8]);
}

#[test]
fn a_newer_commit_of_the_branch_overtakes() {
    let mut stage = Stage::set(LONG);
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.begin_with(8, 2, TWO_JOBS, "c2", Usual::new());
    assert_eq!(stage.room.runs[&7].run.state(), State::Running, "another project's run is nobody's business");
    stage.begin_with(9, 1, TWO_JOBS, "c3", Usual::new());
    assert_eq!(stage.state(1), State::Overtaken);
    let beat = Beat { session: "s1".into(), holding: vec![lease.attempt] };
    let (beaten, _) = stage.ask(|reply| FleetCommand::Beat { runner: "quay".into(), beat, reply }).expect("an answer").expect("a session");
    assert_eq!(beaten.stop, [lease.attempt]);
    stage.finish_as("quay", lease.attempt, Outcome::Stopped).expect("an answer");
    assert_eq!(stage.room.runs[&7].run.state(), State::Overtaken);
    let keeps = "language = 1\n[starts]\npush = ['main']\novertake = false\n[job.a.x]\nsteps = ['true']\n";
    stage.begin_with(10, 1, keeps, "c4", Usual::new());
    assert_eq!(stage.room.runs[&9].run.state(), State::Waiting, "it keeps older runs");
}

#[test]
fn what_starts_by_hand_takes_inputs_that_fit() {
    let text = "language = 1\n[starts.inputs.station]\nchoices = ['lock-gate', 'pier']\ndefault = 'pier'\n[job.a.x]\nby_hand = true\nsteps = ['true']\n[job.a.y]\nsteps = ['true']\n";
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, text, "c1", Usual::new());
    stage.sign_on("quay", "s1");
    let mut start = |job: &str, inputs: &[(&str, &str)]| {
        let inputs = inputs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        stage.ask(|reply| RunCommand::StartJob { run: 7, job: job.into(), by: person("Ines"), inputs, reply }).expect("an answer")
    };
    assert!(matches!(start("a.z", &[]), Err(StartRefused::NoSuchJob(_))));
    assert_eq!(start("a.y", &[]), Err(StartRefused::NotByHand));
    assert!(matches!(start("a.x", &[("staton", "pier")]), Err(StartRefused::Inputs(why)) if why.ends_with("did you mean `station`?")));
    assert!(
        matches!(start("a.x", &[("station", "buoy")]), Err(StartRefused::Inputs(why)) if why.ends_with("choices are: lock-gate, pier"))
    );
    assert_eq!(start("a.x", &[("station", "lock-gate")]), Ok(()));
    let leases = [0, 1].map(|slot| stage.claim("quay", "s1", slot).expect("a lease"));
    let lease = leases.iter().find(|lease| lease.job.as_str() == "a.x").expect("it was queued");
    assert_eq!(lease.env["ORDOTAXIS_INPUT_STATION"], "lock-gate");
}

#[test]
fn a_start_behind_a_shut_gate_is_refused_with_the_gates_sentence() {
    let text = "language = 1\norder = 'a > b'\n[stage.b.gate]\ntests.failed = 0\n[job.a.x]\nsteps = ['true']\n[job.b.y]\nby_hand = true\nsteps = ['true']\n";
    let mut stage = Stage::new(LONG);
    stage.begin_with(7, 1, text, "c1", Usual::new());
    stage.sign_on("quay", "s1");
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    stage.finish("quay", lease.attempt, true).expect("an answer");
    assert_eq!(stage.room.runs[&7].run.state(), State::Passed, "what waits for a hand is not waited for");
    let start = |reply| RunCommand::StartJob { run: 7, job: "b.y".into(), by: person("Ines"), inputs: Default::default(), reply };
    let gate = "the gate of b is shut: no job of this run has given tests.failed, which must be 0";
    assert_eq!(stage.ask(start), Ok(Err(StartRefused::Shut(gate.into()))));
    assert_eq!(stage.room.runs[&7].run.state(), State::Passed, "a refused start changes nothing");
}

#[test]
fn what_passed_says_how_long_it_took_and_what_failed_can_be_done_again() {
    let mut stage = Stage::set(LONG);
    let again = |stage: &mut Stage, jobs: &[&str]| {
        let jobs = jobs.iter().map(|job| (*job).to_owned()).collect();
        stage.ask(|reply| RunCommand::Again { run: 7, jobs, by: person("Maren"), fresh: true, reply }).expect("an answer")
    };
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!(again(&mut stage, &["a.x"]), Err(AgainRefused::NotEnded));
    assert!(matches!(again(&mut stage, &["a.q"]), Err(AgainRefused::NoSuchJob(name, _)) if name == "a.q"));
    stage.finish_as("quay", lease.attempt, Outcome::Failed).expect("an answer");
    assert!(stage.room.take_rows().took.is_empty(), "a failure is no measure");
    assert_eq!(again(&mut stage, &[]), Ok(()));
    let lease = stage.claim("quay", "s1", 0).expect("a lease");
    assert_eq!(lease.attempt.attempt, 2);
    stage.finish("quay", lease.attempt, false).expect("an answer");
    let took = stage.room.take_rows().took;
    assert_eq!((took.len(), took[0].job.as_str()), (1, "a.x"));
}

#[test]
fn a_clock_that_jumps_makes_nothing_wait_and_loses_nothing() {
    const DAY: i64 = 86_400_000;
    let text = "language = 1\n[job.a.x]\nsteps = ['true']\nretry = { times = 2, on = ['failed'] }\n";
    for jump in [-DAY, DAY] {
        let mut stage = Stage::new(LONG);
        stage.now = 400 * DAY;
        stage.begin_with(7, 1, text, "c1", Usual::new());
        stage.sign_on_with("quay", "s1", 1, "host");
        let first = stage.claim("quay", "s1", 0).expect("a lease");
        stage.now += jump;
        stage.tell(Command::Tick { stall: Duration::ZERO });
        assert_eq!(stage.state(0), State::Running, "leases go by the time that passes, not by the clock");
        stage.finish_as("quay", first.attempt, Outcome::Failed).expect("an answer");
        stage.now -= 2 * jump;
        let until = std::time::Instant::now() + Duration::from_secs(120);
        // The pause of a second goes by, whatever the clock says.
        let second = loop {
            stage.tell(Command::Pause);
            if let Ok(lease) = stage.claim("quay", "s1", 0) {
                break lease;
            }
            assert!(std::time::Instant::now() < until, "it waits for the clock");
            std::thread::yield_now();
        };
        stage.finish("quay", second.attempt, false).expect("an answer");
        assert_eq!(stage.room.runs[&7].run.state(), State::Passed);
        assert!(stage.room.take_rows().took.iter().all(|took| took.ms >= 0), "nothing took less than no time");
    }
}
