//! Who gets what: no project starves, turns go in order, long ways go first; and ways through a run by time against a
//! plain search.

use super::model::sketch;
use ordotaxis_core::dispatch::{Needs, Offer, Queue, Queued};
use ordotaxis_core::engine::Paths;
use ordotaxis_core::plan::WaitOn;
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;

fn queued(project: i64, since: i64) -> Queued {
    Queued { project, needs: Arc::default(), turn: None, since, ahead: 0, usual: 0 }
}

fn runner() -> Offer {
    Offer { name: "quay".into(), free: 1, slots: 1, ..Offer::default() }
}

#[derive(Debug, Clone)]
enum Move {
    Add { project: i64, ahead: i64, label: bool, turn: bool },
    Claim { labelled: bool },
    End(usize),
}

fn moves() -> impl Strategy<Value = Vec<Move>> {
    let add = (0..5i64, 0..50i64, any::<bool>(), prop::bool::weighted(0.2));
    prop::collection::vec(
        prop_oneof![
            3 => add.prop_map(|(project, ahead, label, turn)| Move::Add { project, ahead, label, turn }),
            2 => any::<bool>().prop_map(|labelled| Move::Claim { labelled }),
            2 => (0..100usize).prop_map(Move::End),
        ],
        1..200,
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    /// Any sequence of arrivals, claims and ends: a claim takes something whenever something fits; a project with nothing
    /// running is passed over by no more claims than there are other projects; a turn has one holder, in the order asked.
    #[test]
    fn no_project_starves_and_no_turn_is_held_twice(moves in moves()) {
        let mut queue = Queue::default();
        let needs = Arc::new(Needs { labels: vec!["usb".into()], ..Needs::default() });
        let mut jobs: HashMap<(i64, usize), Queued> = HashMap::new();
        let mut running: Vec<((i64, usize), Queued)> = Vec::new();
        let mut passed_over: HashMap<i64, usize> = HashMap::new();
        for (now, step) in moves.into_iter().enumerate() {
            let since = i64::try_from(now).expect("small");
            match step {
                Move::Add { project, ahead, label, turn } => {
                    let turn = turn.then(|| Arc::from("ship"));
                    let job = Queued { needs: if label { needs.clone() } else { Arc::default() }, turn, ahead, ..queued(project, since) };
                    queue.insert((project, now), job.clone());
                    jobs.insert((project, now), job);
                }
                Move::End(pick) => if !running.is_empty() {
                    running.swap_remove(pick % running.len());
                },
                Move::Claim { labelled } => {
                    let offer = Offer { labels: labelled.then(|| "usb".to_owned()).into_iter().collect(), ..runner() };
                    let count = |project: i64| running.iter().filter(|(_, job)| job.project == project).count();
                    let held = running.iter().any(|(_, job)| job.turn.is_some());
                    let first_asker = jobs.iter().filter(|(_, job)| job.turn.is_some()).min_by_key(|(key, job)| (job.since, **key)).map(|(key, _)| *key);
                    let may = |key: &(i64, usize), job: &Queued| offer.fits(&job.needs) && (job.turn.is_none() || !held && Some(*key) == first_asker);
                    let free: Vec<i64> = jobs.iter().filter(|(key, job)| may(key, job)).map(|(_, job)| job.project).collect();
                    let got = queue.first_for(&offer, 0, count, |_| held);
                    prop_assert_eq!(queue.first_for(&offer, 0, count, |_| held), got, "asking changes nothing");
                    if let Some(key) = got {
                        queue.serve(key);
                    }
                    prop_assert_eq!(got.is_some(), !free.is_empty());
                    let Some(key) = got else { continue };
                    let job = jobs.remove(&key).expect("it was queued");
                    prop_assert!(may(&key, &job));
                    prop_assert!(free.iter().all(|&other| count(other) >= count(job.project)), "a project with less running was passed over");
                    for other in (0..5).filter(|other| *other != job.project) {
                        let waits = free.contains(&other) && count(other) == 0;
                        let times = passed_over.entry(other).or_default();
                        *times = if waits { *times + 1 } else { 0 };
                        prop_assert!(*times <= 5, "project {} starves", other);
                    }
                    passed_over.insert(job.project, 0);
                    queue.remove(key);
                    running.push((key, job));
                }
            }
            prop_assert_eq!(queue.len(), jobs.len());
        }
    }

    /// The joints that keep the graph small change nothing: ways are the same as over the plain matrix of waits.
    #[test]
    fn ways_are_what_a_plain_search_finds(sketch in sketch(), takes in prop::collection::vec(0..100i64, 10)) {
        let Some(plan) = sketch.plan() else { return Ok(()) };
        let (places, waits) = (sketch.places(&plan), sketch.waits());
        let paths = Paths::new(&plan);
        fn ahead(job: usize, waits: &[Vec<bool>], takes: &dyn Fn(usize) -> i64) -> i64 {
            let followers = (0..waits.len()).filter(|&follower| waits[follower][job]);
            takes(job) + followers.map(|follower| ahead(follower, waits, takes)).max().unwrap_or(0)
        }
        let of = |j: usize| takes[j];
        let of_place = |place: usize| takes[places.iter().position(|&at| at == place).expect("a place")];
        let found = paths.ahead(of_place);
        for (j, &place) in places.iter().enumerate() {
            prop_assert_eq!(found[place], ahead(j, &waits, &of), "j{}", j);
        }
        prop_assert_eq!(paths.unlimited(of_place), found.iter().copied().max().unwrap_or(0));
        // With no waiting for runners the critical chain is as long as the run.
        let mut ends = vec![0; places.len()];
        for _ in 0..places.len() {
            for j in 0..places.len() {
                ends[j] = takes[j] + (0..places.len()).filter(|&i| waits[j][i]).map(|i| ends[i]).max().unwrap_or(0);
            }
        }
        let chain = paths.critical(|place| Some(ends[places.iter().position(|&at| at == place).expect("a place")]));
        let total: i64 = chain.iter().map(|&place| of_place(place)).sum();
        prop_assert_eq!(total, ends.iter().copied().max().unwrap_or(0));
        for pair in chain.windows(2) {
            let (before, after) = (places.iter().position(|&at| at == pair[0]).expect("a"), places.iter().position(|&at| at == pair[1]).expect("b"));
            prop_assert!(waits[after][before]);
        }
    }
}

#[test]
fn the_longest_way_goes_first_and_waiting_counts() {
    let mut queue = Queue::default();
    queue.insert((1, 0), Queued { ahead: 10, ..queued(1, 100) });
    queue.insert((1, 1), Queued { ahead: 500, ..queued(1, 100) });
    assert_eq!(queue.first_for(&runner(), 0, |_| 0, |_| false), Some((1, 1)));
    queue.insert((2, 0), Queued { ahead: 500, ..queued(1, 700) });
    queue.remove((1, 1));
    assert_eq!(queue.first_for(&runner(), 0, |_| 0, |_| false), Some((1, 0)), "it has waited 600 ms more, the other's way is 490 longer");
    let offers = [Offer { free: 0, ..runner() }];
    assert_eq!(queue.places(&[(2, 0), (1, 0)], &offers)[&(2, 0)].0, 1);
}

#[test]
fn a_wait_for_cells_is_a_joint() {
    let text = "language = 1\n[job.a.x]\neach = { n = [1, 2] }\nsteps = [\"true\"]\n[job.a.y]\nafter = [\"a.x\"]\nsteps = [\"true\"]\n";
    let borrowed = ordotaxis_core::plan::BorrowedFiles::new();
    let source = ordotaxis_core::plan::Source { text, name: "main", borrowed: &borrowed };
    let plan = ordotaxis_core::plan::plan(source, &ordotaxis_core::plan::Occasion::push("main")).expect("a plan").plan;
    assert!(plan.jobs[2].waits.iter().any(|wait| matches!(wait.on, WaitOn::Cells(0, 2))));
    assert_eq!(Paths::new(&plan).ahead(|job| [3, 5, 7][job]), [10, 12, 7]);
}
