//! How runs end when jobs have conditions, outcomes they start upon, and cells: the engine in any order of events against
//! the rules read one job at a time.

use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, plan};
use proptest::prelude::*;
use std::sync::Arc;

const WORDS: [&str; 3] = ["passed", "failed", "skipped"];

#[derive(Debug, Clone)]
struct Job {
    stage: usize,
    /// Jobs before this one, and whether something is taken.
    waits: Vec<(usize, bool)>,
    upon: Vec<usize>,
    absent: bool,
    may_fail: bool,
    passes: bool,
}

/// A job as it is drawn: stage, waits, upon, absent, may_fail, passes.
type Drawn = (usize, Vec<(usize, bool)>, Vec<usize>, bool, bool, bool);

fn jobs() -> impl Strategy<Value = Vec<Job>> {
    let waits = prop::collection::vec((0..8usize, any::<bool>()), 0..3);
    let upon = prop::collection::vec(0..3usize, 0..3);
    let job = (0..3usize, waits, upon, prop::bool::weighted(0.2), prop::bool::weighted(0.2), prop::bool::weighted(0.7));
    prop::collection::vec(job, 1..8).prop_map(|jobs| {
        let job = |(at, (stage, waits, upon, absent, may_fail, passes)): (usize, Drawn)| {
            let mut waits: Vec<(usize, bool)> = waits.into_iter().filter(|(on, _)| *on < at).collect();
            waits.sort_unstable();
            waits.dedup_by_key(|(on, _)| *on);
            Job { stage, waits, upon, absent, may_fail, passes }
        };
        let mut jobs: Vec<Job> = jobs.into_iter().enumerate().map(job).collect();
        // Stages come one after another, so that waits go backwards in them, too.
        jobs.sort_by_key(|job| job.stage);
        let count = jobs.len();
        for (at, job) in jobs.iter_mut().enumerate() {
            job.waits.retain(|(on, _)| *on < at && *on < count);
        }
        jobs
    })
}

fn text(jobs: &[Job]) -> String {
    let used: Vec<String> = (0..3).filter(|stage| jobs.iter().any(|job| job.stage == *stage)).map(|stage| format!("s{stage}")).collect();
    let mut text = format!("language = 1\norder = \"{}\"\n", used.join(" > "));
    for (at, job) in jobs.iter().enumerate() {
        let list = |takes: bool, tail: &str| {
            let those = job.waits.iter().filter(|(_, takes_too)| *takes_too == takes);
            those.map(|(on, _)| format!("\"s{}.j{on}{tail}\"", jobs[*on].stage)).collect::<Vec<_>>().join(", ")
        };
        let upon = job.upon.iter().map(|word| format!("\"{}\"", WORDS[*word])).collect::<Vec<_>>().join(", ");
        text += &format!(
            "[job.s{}.j{at}]\nsteps = [\"true\"]\ngives = {{ out{at} = [\"out{at}\"] }}\nafter = [{}]\ntakes = [{}]\nmay_fail = {}\n",
            job.stage,
            list(false, ""),
            job.waits
                .iter()
                .filter(|(_, takes)| *takes)
                .map(|(on, _)| format!("\"s{}.j{on}/out{on}\"", jobs[*on].stage))
                .collect::<Vec<_>>()
                .join(", "),
            job.may_fail
        );
        if !job.upon.is_empty() {
            text += &format!("upon = [{upon}]\n");
        }
        if job.absent {
            text += "if = 'event == \"tag\"'\n";
        }
    }
    text
}

/// What the rules say a job ends as; None for one that is skipped by its own condition.
fn end(jobs: &[Job], at: usize) -> State {
    let job = &jobs[at];
    if job.absent {
        return State::Skipped;
    }
    let lets = |on: usize, takes: bool| match end(jobs, on) {
        State::Passed => true,
        State::Failed => jobs[on].may_fail || job.upon.contains(&1),
        State::Skipped if jobs[on].absent => !takes,
        _ => job.upon.contains(&2),
    };
    let earlier = (0..jobs.len()).filter(|&on| jobs[on].stage < job.stage);
    let free = job.waits.iter().all(|(on, takes)| lets(*on, *takes)) && earlier.into_iter().all(|on| lets(on, false));
    match (free, job.passes) {
        (false, _) => State::Skipped,
        (true, true) => State::Passed,
        (true, false) => State::Failed,
    }
}

fn planned(text: &str) -> Plan {
    let borrowed = BorrowedFiles::new();
    let occasion = Occasion::by_hand();
    plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

/// Claims and ends jobs in the order that `picks` says, until nothing is left to do.
fn drive(plan: Plan, picks: &[usize], passes: impl Fn(usize) -> bool) -> Run {
    let mut run = Run::new(Arc::new(plan), 0);
    let mut now = 0;
    let _ = run.apply(&Event::Begun, now);
    for pick in picks.iter().cycle().take(400) {
        now += 1;
        let at = |wanted: State| (0..run.jobs().len()).filter(|&job| run.jobs()[job].state() == wanted).collect::<Vec<_>>();
        let (queued, running) = (at(State::Queued), at(State::Running));
        if queued.is_empty() && running.is_empty() {
            break;
        }
        if pick % 2 == 0 && !queued.is_empty() || running.is_empty() {
            let job = queued[pick % queued.len()];
            let attempt = run.jobs()[job].attempt + 1;
            run.apply(&Event::Claimed { job, attempt, runner: "quay".into() }, now).expect("a value");
        } else {
            let job = running[pick % running.len()];
            let outcome = if passes(job) { Outcome::Passed } else { Outcome::Failed };
            let attempt = run.jobs()[job].attempt;
            run.apply(&Event::Ended { job, attempt, outcome, exit_code: None, why: Some("so".into()) }, now).expect("a value");
        }
        // What is stored is all there is to know.
        run = Run::restore(run.plan().clone(), run.jobs().to_vec(), run.state());
    }
    run
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_500))]

    #[test]
    fn conditions_and_outcomes_end_as_the_rules_say(jobs in jobs(), picks in prop::collection::vec(0..1000usize, 40)) {
        let text = text(&jobs);
        let plan = planned(&text);
        let place: Vec<usize> = (0..jobs.len())
            .map(|at| plan.jobs.iter().position(|job| job.name == format!("j{at}")).expect("a value"))
            .collect();
        let of: Vec<usize> = (0..jobs.len()).map(|number| place.iter().position(|&at| at == number).expect("a value")).collect();
        let run = drive(plan, &picks, |number| jobs[of[number]].passes);
        for (at, &place) in place.iter().enumerate() {
            prop_assert_eq!(run.jobs()[place].state(), end(&jobs, at), "j{} of\n{}", at, text);
        }
        prop_assert!(run.state().is_end());
    }

    #[test]
    fn never_more_cells_run_than_may(cells in 1..12usize, at_once in 1..5usize, keep_going: bool, bad in prop::collection::vec(prop::bool::weighted(0.2), 12), picks in prop::collection::vec(0..1000usize, 40)) {
        let values: Vec<String> = (0..cells).map(|cell| cell.to_string()).collect();
        let text = format!("language = 1\n[job.a.x]\neach = {{ n = [{}] }}\nat_once = {at_once}\nkeep_going = {keep_going}\nsteps = [\"true\"]\n", values.join(", "));
        let plan = planned(&text);
        let mut run = Run::new(Arc::new(plan), 0);
        let _ = run.apply(&Event::Begun, 0);
        for pick in picks.iter().cycle().take(200) {
            let at = |wanted: State| (0..cells).filter(|&job| run.jobs()[job].state() == wanted).collect::<Vec<_>>();
            let (queued, running) = (at(State::Queued), at(State::Running));
            prop_assert!(queued.len() + running.len() <= at_once);
            // No room stays empty while a cell could use it.
            let waiting = at(State::Waiting).len();
            prop_assert!(waiting == 0 || queued.len() + running.len() == at_once);
            if let Some(&job) = queued.get(pick % queued.len().max(1)) {
                run.apply(&Event::Claimed { job, attempt: 1, runner: "quay".into() }, 1).expect("a value");
            } else if let Some(&job) = running.get(pick % running.len().max(1)) {
                let outcome = if bad[job] { Outcome::Failed } else { Outcome::Passed };
                run.apply(&Event::Ended { job, attempt: 1, outcome, exit_code: None, why: None }, 1).expect("a value");
            }
        }
        let ended = |wanted: State| (0..cells).filter(|&job| run.jobs()[job].state() == wanted).count();
        prop_assert_eq!(ended(State::Passed) + ended(State::Failed) + ended(State::Skipped), cells);
        if keep_going {
            prop_assert_eq!(ended(State::Skipped), 0);
        } else if at_once == 1 {
            // In the written order, up to the first that fails.
            let first = (0..cells).find(|&cell| bad[cell]).unwrap_or(cells);
            let wanted = |cell: usize| if cell < first { State::Passed } else if cell == first { State::Failed } else { State::Skipped };
            for cell in 0..cells {
                prop_assert_eq!(run.jobs()[cell].state(), wanted(cell));
            }
        }
    }
}
