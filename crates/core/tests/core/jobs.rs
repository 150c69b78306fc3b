//! Figures of jobs, against plain counting.

use ordotaxis_core::engine::State;
use ordotaxis_core::insight::{RunEnd, Tried, Used, branches, jobs, last_shift, level, shares};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

fn tried() -> impl Strategy<Value = Tried> {
    let state = prop_oneof![Just(State::Passed), Just(State::Failed), Just(State::Lost), Just(State::Stopped)];
    let steps = prop::collection::vec(("[xyz]".prop_map(Arc::from), 0..50i64), 0..4);
    (0..6i64, "[pq]", "[ab]", 1..4u32, any::<bool>(), state, prop::option::of(0..300i64), 0..300i64, 0..90i64, steps).prop_map(
        |(run, pipeline, job, attempt, main, state, queued_at, started_at, took, steps)| Tried {
            run,
            pipeline: pipeline.into(),
            job: job.into(),
            attempt,
            main,
            state,
            queued_at,
            started_at,
            ended_at: started_at + took,
            steps,
        },
    )
}

/// The length that so many in a hundred do not exceed, by counting.
fn by_counting(lengths: &[i64], hundredths: usize) -> Option<i64> {
    let enough = |length: &i64| 100 * lengths.iter().filter(|other| *other <= length).count() >= hundredths * lengths.len();
    lengths.iter().copied().filter(|length| enough(length)).min()
}

/// Where values before and after differ most, by comparing each with each; and how clear that is.
fn pairs(lengths: &[i64]) -> (i64, BTreeSet<usize>) {
    let difference = |at: usize| -> i64 {
        let (before, after) = lengths.split_at(at);
        before.iter().flat_map(|one| after.iter().map(move |other| (one - other).signum())).sum::<i64>().abs()
    };
    let most = (1..lengths.len()).map(difference).max().unwrap_or(0);
    (most, (1..lengths.len()).filter(|at| difference(*at) == most).collect())
}

proptest! {
    #[test]
    fn levels_are_what_counting_gives(lengths in prop::collection::vec(0..40i64, 0..60)) {
        let found = level(lengths.clone());
        prop_assert_eq!(found.count, lengths.len());
        prop_assert_eq!(found.p50, by_counting(&lengths, 50));
        prop_assert_eq!(found.p90, by_counting(&lengths, 90));
    }

    #[test]
    fn jobs_come_to_what_counting_gives(tried in prop::collection::vec(tried(), 0..60)) {
        let (since, until, part) = (20, 260, 80);
        let found = jobs(&tried, since, until, part);
        let within: Vec<&Tried> = tried.iter().filter(|one| one.started_at >= since && one.started_at < until).collect();
        let names: BTreeSet<(Arc<str>, Arc<str>)> = within.iter().map(|one| (one.pipeline.clone(), one.job.clone())).collect();
        prop_assert_eq!(&names, &found.iter().map(|one| (one.pipeline.clone(), one.job.clone())).collect::<BTreeSet<_>>());
        prop_assert!(found.is_sorted_by_key(|one| -one.whole));
        for one in &found {
            let own: Vec<&Tried> = within.iter().copied().filter(|t| t.pipeline == one.pipeline && t.job == one.job).collect();
            let passed: Vec<&Tried> = own.iter().copied().filter(|t| t.state == State::Passed).collect();
            prop_assert_eq!(one.passed, passed.len());
            prop_assert_eq!(one.failed, own.iter().filter(|t| t.state == State::Failed || t.state == State::Lost).count());
            prop_assert_eq!(one.whole, own.iter().map(|t| t.ended_at - t.started_at).sum::<i64>());
            prop_assert_eq!(one.took, level(passed.iter().map(|t| t.ended_at - t.started_at).collect()));
            let again = |t: &&&Tried| matches!(t.state, State::Failed | State::Lost)
                && passed.iter().any(|other| other.run == t.run && other.attempt > t.attempt);
            let again: Vec<i64> = own.iter().filter(again).map(|t| t.ended_at - t.started_at).collect();
            prop_assert_eq!((one.retried, one.retried_whole), (again.len(), again.iter().sum::<i64>()));
            prop_assert_eq!(one.parts.len(), 3);
            let in_parts: usize = one.parts.iter().map(|part| part.took.count).sum();
            prop_assert_eq!(in_parts, passed.len());
            let mut sums: BTreeMap<Arc<str>, Vec<i64>> = BTreeMap::new();
            for t in &passed {
                let mut own: BTreeMap<Arc<str>, i64> = BTreeMap::new();
                t.steps.iter().for_each(|(name, took)| *own.entry(name.clone()).or_default() += took);
                own.into_iter().for_each(|(name, took)| sums.entry(name).or_default().push(took));
            }
            let steps: BTreeMap<Arc<str>, _> = one.steps.iter().map(|step| (step.name.clone(), step.took)).collect();
            prop_assert_eq!(steps, sums.into_iter().map(|(name, lengths)| (name, level(lengths))).collect::<BTreeMap<_, _>>());
        }
    }

    /// A level that rises by half is found where it rises, whatever noise lies on it. (With as much before as after: else the test
    /// itself may prefer a value beside it.)
    #[test]
    fn a_rise_is_found_where_it_is(before in 12..40usize, noise in prop::collection::vec(0..100i64, 80)) {
        let lengths: Vec<i64> = (0..2 * before).map(|at| if at < before { 2_000 } else { 3_000 } + noise[at]).collect();
        let shift = last_shift(&lengths).expect("a shift");
        prop_assert_eq!(shift.at, before);
        prop_assert_eq!(shift.before, level(lengths[..before].to_vec()).p50.unwrap_or(0));
        prop_assert_eq!(shift.after, level(lengths[before..].to_vec()).p50.unwrap_or(0));
    }

    /// What is found is where comparing each with each says, when there is one change.
    #[test]
    fn ranks_say_what_pairs_say(lengths in prop::collection::vec(1_000..1_500i64, 10..30)) {
        let (clear, places) = pairs(&lengths);
        let count = i64::try_from(lengths.len()).unwrap_or(0);
        #[expect(clippy::cast_precision_loss, reason = "small numbers")]
        let chance = 2.0 * (-6.0 * (clear * clear) as f64 / (count.pow(3) + count.pow(2)) as f64).exp();
        if chance >= 0.01 {
            prop_assert_eq!(last_shift(&lengths), None, "nothing is clear");
        } else if let Some(shift) = last_shift(&lengths) {
            prop_assert!(shift.at >= 5 && shift.at <= lengths.len() - 5);
            prop_assert!((shift.after - shift.before).abs() >= 200);
            prop_assert!(!places.is_empty());
        }
    }

    /// Whoever used a machine pays for it by the time, and nothing is lost.
    #[test]
    fn the_shares_are_the_whole(
        used in prop::collection::vec(("[mno]", "[pqr]", 0..1_000i64), 0..20),
        costs in prop::collection::btree_map("[mnoz]", 0..1_000_000_000u64, 0..4),
    ) {
        let used: Vec<Used> = used.into_iter().map(|(machine, project, took)| Used { machine, project, took }).collect();
        let paid: Vec<(String, u64)> = costs.into_iter().collect();
        let found = shares(&used, &paid);
        prop_assert_eq!(found.iter().map(|share| share.cost).sum::<u64>(), paid.iter().map(|(_, cost)| cost).sum::<u64>());
        for share in &found {
            let Some(project) = &share.project else { continue };
            let exact: f64 = paid.iter().map(|(machine, cost)| {
                let whole: i64 = used.iter().filter(|one| one.machine == *machine).map(|one| one.took).sum();
                let own: i64 = used.iter().filter(|one| one.machine == *machine && one.project == *project).map(|one| one.took).sum();
                #[expect(clippy::cast_precision_loss, reason = "small numbers")]
                if whole == 0 { 0.0 } else { *cost as f64 * own as f64 / whole as f64 }
            }).sum();
            #[expect(clippy::cast_precision_loss, reason = "small numbers")]
            let off = (share.cost as f64 - exact).abs();
            prop_assert!(off <= 4.0, "{share:?} is not {exact}");
        }
    }

    #[test]
    fn branches_are_all_runs(ends in prop::collection::vec((prop::option::of("[a-e]"), 0..4usize, 0..100i64), 0..40), most in 1..4usize) {
        let states = [State::Passed, State::Failed, State::Stopped, State::Overtaken];
        let ends: Vec<RunEnd> = ends.into_iter().map(|(branch, state, took)| RunEnd { branch, state: states[state], took }).collect();
        let found = branches(&ends, "c", most);
        prop_assert_eq!(found.iter().map(|one| one.passed + one.failed + one.other).sum::<usize>(), ends.len());
        prop_assert!(found.iter().filter(|one| one.branch.is_some()).count() <= most);
        if ends.iter().any(|end| end.branch.as_deref() == Some("c")) {
            prop_assert_eq!(found[0].branch.as_deref(), Some("c"), "the main branch is first");
        }
        for one in found.iter().filter(|one| one.branch.is_some()) {
            prop_assert_eq!(one.passed, ends.iter().filter(|end| end.branch == one.branch && end.state == State::Passed).count());
        }
    }
}

#[test]
fn the_newest_of_several_changes_counts() {
    let stretch = |length: i64| (0..20).map(move |at| length + at);
    let twice: Vec<i64> = stretch(1_000).chain(stretch(3_000)).chain(stretch(2_000)).collect();
    let shift = last_shift(&twice).expect("a shift");
    assert_eq!((shift.at, shift.before, shift.after), (40, 3_009, 2_009));
    let small: Vec<i64> = stretch(10_000).chain(stretch(10_150)).collect();
    assert_eq!(last_shift(&small), None, "clear, and not worth a word");
    assert_eq!(last_shift(&[]), None);
}

#[test]
fn chance_alone_is_seldom_taken_for_a_change() {
    // Series of noise from a plain generator of numbers that look random.
    let mut state = 7u64;
    let mut noise = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        i64::try_from((state >> 33) % 4_000).unwrap_or(0)
    };
    let taken = (0..400).filter(|_| last_shift(&(0..60).map(|_| noise()).collect::<Vec<i64>>()).is_some()).count();
    assert!(taken <= 8, "{taken} of 400, where chance alone gives about one in a hundred");
}
