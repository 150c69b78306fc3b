//! Roll-outs against a plain model: cells that pass, fail, are lost; rests; what was well elsewhere taken back in reverse order.

use ordotaxis_core::engine::{Back, Event, Outcome, Run, State, why_job};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, edges, plan};
use proptest::prelude::*;
use std::sync::Arc;

const STILL: i64 = 60_000;

fn file(cells: usize, rollout: &str) -> String {
    let names: Vec<String> = (0..cells).map(|cell| format!("\"p{cell}\"")).collect();
    format!(
        "language = 1\norder = [\"ship > tell\"]\n[job.ship.pier]\neach = {{ pier = [{}] }}\nsteps = [\"./put.sh\"]\ndeploys = \"pier-{{each.pier}}\"\n\
         rollout = {rollout}\n[job.tell.all]\nsteps = [\"./tell.sh\"]\n",
        names.join(", ")
    )
}

fn begun(text: &str) -> Run {
    let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
    let planned = plan(source, &Occasion::push("main")).unwrap_or_else(|found| panic!("{found:?}")).plan;
    Run::new(Arc::new(planned), 0)
}

fn mistakes(text: &str) -> Vec<String> {
    let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
    plan(source, &Occasion::push("main")).err().unwrap_or_default().iter().map(|one| one.message.clone()).collect()
}

/// How each attempt at a cell ends: the first, and the one that takes back what it did.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Fate {
    Well,
    Fails,
    Lost,
}

#[derive(Debug, Clone)]
struct Case {
    cells: usize,
    rollout: String,
    first: Vec<usize>,
    fates: Vec<Fate>,
    back_fails: Vec<bool>,
    goes_back: bool,
    picks: Vec<usize>,
}

fn cases() -> impl Strategy<Value = Case> {
    let fate = prop_oneof![6 => Just(Fate::Well), 2 => Just(Fate::Fails), 1 => Just(Fate::Lost)];
    let lists = (
        proptest::collection::vec(fate, 6),
        proptest::collection::vec(proptest::bool::weighted(0.2), 6),
        proptest::collection::vec(0..100_usize, 60),
    );
    (1..7_usize, 0..4_usize, 1..4_usize, lists, any::<bool>()).prop_map(|(cells, way, count, (fates, back_fails, picks), goes_back)| {
        let (rollout, first) = match way {
            0 => ("{ way = \"all\" }".to_owned(), vec![]),
            1 => (format!("{{ way = \"one-by-one\", still = \"{}s\" }}", STILL / 1_000), vec![]),
            2 => (format!("{{ way = \"part-first\", first = {count} }}"), (0..count).collect()),
            _ => (
                format!("{{ way = \"part-first\", first = [\"p{}\", \"p{}\"] }}", cells - 1, (cells - 1) / 2),
                vec![cells - 1, (cells - 1) / 2],
            ),
        };
        Case { cells, rollout, first, fates, back_fails, goes_back, picks }
    })
}

/// What the outside saw, in order.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Seen {
    Begins(usize, i64),
    Ends(usize, i64, bool),
    GoesBack(usize),
}

struct Drive {
    run: Run,
    now: i64,
    wants: Vec<usize>,
    /// Those that the environments know of.
    asked: Vec<usize>,
    seen: Vec<Seen>,
}

impl Drive {
    fn apply(&mut self, event: &Event) {
        self.now += 1;
        let effects = self.run.apply(event, self.now).unwrap_or_else(|refused| panic!("{event:?}: {refused}"));
        // What ends is told to its environment before it asks anew.
        assert!(effects.wants.iter().all(|job| !self.asked.contains(job)), "{event:?}");
        // Whatever ends is told to its environment, if that knows of it.
        for &job in &effects.changed {
            let state = self.run.jobs()[job].state();
            let asked = self.asked.contains(&job) && state.is_end();
            assert_eq!(effects.withdrawn.contains(&job), asked && state == State::Skipped, "{job} {state:?}");
            self.asked.retain(|asked| *asked != job || !state.is_end());
        }
        self.asked.extend(&effects.wants);
        self.wants.extend(effects.wants);
        self.wants.retain(|job| !effects.withdrawn.contains(job));
        // A repeat changes nothing, or comes too late.
        let mut again = self.run.clone();
        assert!(again.apply(event, self.now).map_or(true, |effects| effects.is_empty()), "{event:?}");
        self.run = Run::restore(self.run.plan().clone(), self.run.jobs().to_vec(), self.run.state());
    }

    /// One thing that can happen now, chosen by `pick`. False when nothing can.
    fn step(&mut self, case: &Case, pick: usize) -> bool {
        let of = |run: &Run, fits: &dyn Fn(usize) -> bool| (0..run.jobs().len()).filter(|&job| fits(job)).collect::<Vec<_>>();
        let queued = of(&self.run, &|job| self.run.jobs()[job].state() == State::Queued);
        let running = of(&self.run, &|job| self.run.jobs()[job].state() == State::Running);
        let rests = of(&self.run, &|job| self.run.jobs()[job].state() == State::Gated && self.run.jobs()[job].progress.pause().is_some());
        let choices: Vec<(u8, usize)> = (self.wants.iter().map(|&job| (0, job)))
            .chain(queued.into_iter().map(|job| (1, job)))
            .chain(running.into_iter().map(|job| (2, job)))
            .chain(rests.into_iter().map(|job| (3, job)))
            .collect();
        let Some(&(kind, job)) = choices.get(pick % choices.len().max(1)) else { return false };
        let (goes_back, attempt) = (matches!(self.run.jobs()[job].back, Back::Goes { .. }), self.run.jobs()[job].attempt);
        match kind {
            0 => {
                self.wants.retain(|wants| *wants != job);
                self.apply(&Event::LetIn { job, back: case.goes_back });
            }
            1 => {
                self.apply(&Event::Claimed { job, attempt: attempt + 1, runner: "quay".into() });
                self.seen.push(if goes_back { Seen::GoesBack(job) } else { Seen::Begins(job, self.now) });
            }
            2 => self.end(case, job, attempt, goes_back),
            _ => {
                self.now = self.now.max(self.run.jobs()[job].progress.pause().unwrap_or(0));
                self.apply(&Event::PauseOver { job });
            }
        }
        true
    }

    fn end(&mut self, case: &Case, job: usize, attempt: u32, goes_back: bool) {
        let fate = match case.fates.get(job) {
            _ if goes_back && case.back_fails[job] => Fate::Fails,
            _ if goes_back || job >= case.cells => Fate::Well,
            fate => fate.copied().unwrap_or(Fate::Well),
        };
        let ended = |outcome, why: Option<&str>| Event::Ended { job, attempt, outcome, exit_code: None, why: why.map(Into::into) };
        self.apply(&match fate {
            Fate::Well => ended(Outcome::Passed, None),
            Fate::Fails => ended(Outcome::Failed, Some("the check failed")),
            Fate::Lost => Event::Lost { job, attempt, why: "its runner fell silent".into() },
        });
        if !goes_back && job < case.cells {
            self.seen.push(Seen::Ends(job, self.now, fate == Fate::Well));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn a_mistake_reaches_no_further_and_what_it_touched_is_taken_back(case in cases()) {
        let mut drive = Drive { run: begun(&file(case.cells, &case.rollout)), now: 0, wants: Vec::new(), asked: Vec::new(), seen: Vec::new() };
        drive.apply(&Event::Begun);
        let mut picks = case.picks.iter().cycle();
        for _ in 0..200 {
            if !drive.step(&case, *picks.next().expect("a cycle")) {
                break;
            }
        }
        prop_assert!(drive.run.state() != State::Running && drive.run.state() != State::Waiting, "every wait ends: {:?}", drive.run.jobs());
        let begins: Vec<(usize, i64)> = drive.seen.iter().filter_map(|one| if let Seen::Begins(job, at) = one { Some((*job, *at)) } else { None }).filter(|(job, _)| *job < case.cells).collect();
        let ends: Vec<(usize, i64, bool)> = drive.seen.iter().filter_map(|one| if let Seen::Ends(job, at, well) = one { Some((*job, *at, *well)) } else { None }).collect();
        let ended_well = |cell: usize, before: i64| ends.iter().any(|(job, at, well)| *job == cell && *well && *at < before);
        for (cell, at) in &begins {
            if case.rollout.contains("one-by-one") && *cell > 0 {
                prop_assert!(ends.iter().any(|(job, ended, well)| job + 1 == *cell && *well && ended + STILL <= *at), "{cell} too early");
            }
            if case.rollout.contains("part-first") && !case.first.contains(cell) {
                prop_assert!(case.first.iter().filter(|first| **first < case.cells).all(|first| ended_well(*first, *at)), "{cell} before the first");
            }
            // After a failure nothing begins any more.
            prop_assert!(ends.iter().all(|(_, ended, well)| *well || at < ended), "{cell} begins after a failure");
        }
        let failed = ends.iter().any(|(.., well)| !well);
        let back: Vec<usize> = drive.seen.iter().filter_map(|one| if let Seen::GoesBack(job) = one { Some(*job) } else { None }).collect();
        let is_well = |cell: &usize| ended_well(*cell, i64::MAX);
        let failing: Vec<usize> = ends.iter().filter(|(cell, _, well)| !well && case.fates[*cell] == Fate::Fails).map(|(cell, ..)| *cell).collect();
        if failed && case.goes_back {
            let first_bad = ends.iter().filter(|(.., well)| !well).map(|(_, at, _)| *at).min().unwrap_or(0);
            let before = |cell: &usize| ended_well(*cell, first_bad);
            let touched: Vec<usize> = begins.iter().rev().map(|(cell, _)| *cell).filter(before).collect();
            let wells: Vec<usize> = back.iter().copied().filter(before).collect();
            prop_assert_eq!(wells, touched, "the last that was touched first");
            // What was still under way then is put back, too: once each.
            let mut late: Vec<usize> = back.iter().copied().filter(|cell| is_well(cell) && !before(cell)).collect();
            late.sort_unstable();
            prop_assert_eq!(late, (0..case.cells).filter(|cell| is_well(cell) && !before(cell)).collect::<Vec<_>>());
            let ill: Vec<usize> = back.iter().copied().filter(|cell| !is_well(cell)).collect();
            prop_assert!(failing.iter().all(|cell| ill.contains(cell)) && ill.len() == failing.len(), "{ill:?} and {failing:?}");
        } else {
            prop_assert!(back.is_empty(), "{back:?}");
        }
        for (cell, job) in drive.run.jobs()[..case.cells].iter().enumerate() {
            let begun = begins.iter().any(|(begun, _)| *begun == cell);
            let expected = match (begun, is_well(&cell)) {
                (false, _) => State::Skipped,
                (true, true) if !(failed && case.goes_back) => State::Passed,
                (true, false) if case.fates[cell] == Fate::Lost => State::Lost,
                _ => State::Failed,
            };
            prop_assert_eq!(job.state(), expected, "{}: {:?}", cell, job);
            if back.contains(&cell) {
                prop_assert_eq!(job.back == Back::Done, !case.back_fails[cell]);
            }
        }
        let tell = drive.run.jobs()[case.cells].state();
        prop_assert_eq!(tell, if failed { State::Skipped } else { State::Passed });
    }
}

#[test]
fn each_cell_says_what_its_roll_out_waits_for() {
    let run = begun(&file(3, "{ way = \"one-by-one\", still = \"10m\" }"));
    let mut drive = Drive { run, now: 0, wants: Vec::new(), asked: Vec::new(), seen: Vec::new() };
    let why = |drive: &Drive, job| {
        why_job(&drive.run, job, "tidegauge/4", &|at| format!("{}s", at / 1_000), || "queued".into()).unwrap_or_default()
    };
    drive.apply(&Event::Begun);
    assert_eq!(drive.wants, [0]);
    assert_eq!(why(&drive, 1), "waits for ship.pier[p0]: gated since 0s; the roll-out reaches this one after it");
    drive.apply(&Event::LetIn { job: 0, back: true });
    drive.apply(&Event::Claimed { job: 0, attempt: 1, runner: "quay".into() });
    drive.apply(&Event::Ended { job: 0, attempt: 1, outcome: Outcome::Passed, exit_code: Some(0), why: None });
    assert_eq!((drive.run.jobs()[1].state(), drive.run.state()), (State::Gated, State::Running), "the run has no verdict yet");
    assert_eq!(why(&drive, 1), "the roll-out rests until 600s, then it is this one's turn");
    drive.apply(&Event::PauseOver { job: 1 });
    assert_eq!(drive.wants, [0, 1], "also where the clock was set back meanwhile");
    drive.apply(&Event::LetIn { job: 1, back: true });
    drive.apply(&Event::Claimed { job: 1, attempt: 1, runner: "quay".into() });
    drive.apply(&Event::Lost { job: 1, attempt: 1, why: "its runner fell silent".into() });
    assert_eq!(drive.wants, [0, 1, 0], "the first is to be as it was");
    assert_eq!(why(&drive, 0), format!("what was in pier-p0 before is to be put there again; ready since {}s", drive.now / 1_000));
    assert_eq!(why(&drive, 2), "skipped because ship.pier[p1] was lost with its runner, and its other cells do not go on");
    // A newer commit does not keep it from that; where it cannot be, that is said.
    drive.apply(&Event::Overtaken { by: "tidegauge/5".into() });
    assert_eq!(drive.run.jobs()[0].state(), State::Gated);
    drive.apply(&Event::Refused { job: 0, why: "something else has been put there since".into() });
    let told = "ship.pier[p1] failed; what was there before stays away: something else has been put there since";
    assert_eq!((drive.run.jobs()[0].state(), why(&drive, 0).as_str()), (State::Failed, told));
    assert_eq!(drive.run.state(), State::Failed);
}

#[test]
fn the_first_are_counted_shared_or_named_and_alone_are_watched() {
    let leads = |cells: usize, first: &str| -> Vec<usize> {
        let text = file(cells, &format!("{{ way = \"part-first\", first = {first}, watch = {{ for = \"10m\", run = \"./ask.sh\" }} }}"));
        let run = begun(&text);
        let watched = |cell: &usize| run.plan().jobs[*cell].rollout().is_some_and(|rollout| rollout.watch.is_some());
        (0..cells).filter(watched).collect()
    };
    assert_eq!(leads(5, "2"), [0, 1]);
    assert_eq!(leads(5, "\"10%\""), [0], "rounded up");
    assert_eq!(leads(30, "\"10%\""), [0, 1, 2]);
    assert_eq!(leads(5, "\"p3\""), [3]);
    assert_eq!(leads(5, "[\"p1\", \"p4\"]"), [1, 4]);
    assert_eq!(leads(2, "9"), [0, 1], "there are no others");
    let rested = begun(&file(2, "{ way = \"one-by-one\", still = \"10m\" }")).plan().as_ref().clone().without_rests();
    assert!(rested.jobs[..2].iter().all(|job| job.rollout().is_some_and(|rollout| rollout.still_ms.is_none() && rollout.watch.is_none())));
    let run = begun(&file(4, "{ way = \"part-first\", first = [\"p1\", \"p2\"] }"));
    let edges: Vec<Vec<(usize, &str)>> =
        edges(run.plan()).iter().map(|edges| edges.iter().map(|edge| (edge.job, edge.because.word())).collect()).collect();
    assert_eq!(edges[0], [(1, "rollout"), (2, "rollout")]);
    assert!(edges[1].is_empty() && edges[2].is_empty() && edges[3] == edges[0]);
}

#[test]
fn a_roll_out_that_cannot_be_is_a_mistake_that_says_what_to_do() {
    let good = "{ way = \"one-by-one\" }";
    let with = |line: &str| file(2, good).replace("steps = [\"./put.sh\"]", &format!("steps = [\"./put.sh\"]\n{line}"));
    for (text, message) in [
        (file(2, "{ still = \"10m\" }"), "way"),
        (file(2, "{ way = \"slowly\" }"), "`way` cannot be `slowly`"),
        (file(2, "{ way = \"all\", still = \"10m\" }"), "`still` is for way = \"one-by-one\""),
        (file(2, "{ way = \"one-by-one\", first = 1 }"), "`first` is for way = \"part-first\""),
        (file(2, "{ way = \"two-sides\" }"), "nothing puts the new side in use"),
        (file(2, "{ way = \"part-first\", first = \"0%\" }"), "`first` is a number of cells"),
        (file(2, "{ way = \"part-first\", first = \"x%\" }"), "`first` is a number of cells"),
        (file(2, "{ way = \"part-first\", first = \"p9\" }"), "no cell has a value that `first` names"),
        (file(2, "{ way = \"part-first\", watch = { for = \"1m\" } }"), "a watch either runs a command or asks an address"),
        (
            file(2, "{ way = \"part-first\", watch = { for = \"1m\", run = \"x\", says = \"y\" } }"),
            "`says` is about what an address answers",
        ),
        (file(2, "{ way = \"part-first\", watch = { for = \"1m\", run = \"x\", every = \"99ms\" } }"), "`every` is 100 ms at least"),
        (file(2, good).replace("pier-{each.pier}", "piers"), "both deploy to piers"),
        (file(2, good).replace("deploys = \"pier-{each.pier}\"\n", ""), "has a roll-out and deploys nothing"),
        (file(2, good).replace("each = { pier = [\"p0\", \"p1\"] }\n", "").replace("-{each.pier}", ""), "it has no cells"),
        (with("keep_going = true"), "would go on rolling out after a failure"),
        (with("may_fail = true"), "would go on rolling out after a failure"),
        (with("upon = [\"failed\"]"), "would go on rolling out after a failure"),
        (with("at_once = 2"), "come one by one"),
    ] {
        let found = mistakes(&text);
        assert!(found.iter().any(|one| one.contains(message)), "{message}: {found:?}\n{text}");
    }
    assert!(
        mistakes(&file(2, "{ way = \"part-first\", first = 1 }").replace("steps = [\"./put.sh\"]", "steps = [\"./put.sh\"]\nat_once = 2"))
            .is_empty()
    );
}
