//! Tests shared out among copies, and the durations that this goes by.

use ordotaxis_core::share::shares;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

proptest! {
    #[test]
    fn every_file_has_one_copy_whatever_the_order(
        times in prop::collection::btree_map("[a-z]{1,4}", 0..10_000i64, 0..40), unknown in prop::collection::btree_set("[A-Z]{1,3}", 0..10),
        copies in 1..6usize, turn in 0..40usize
    ) {
        let mut files: Vec<&str> = times.keys().map(String::as_str).chain(unknown.iter().map(String::as_str)).collect();
        let first = shares(&files, &times, copies);
        let count = files.len().max(1);
        files.rotate_left(turn % count);
        let second = shares(&files, &times, copies);
        let sets = |shares: &[Vec<&str>]| shares.iter().map(|share| share.iter().map(|file| (*file).to_owned()).collect::<BTreeSet<_>>()).collect::<Vec<_>>();
        prop_assert_eq!(sets(&first), sets(&second));
        let mut all: Vec<&str> = first.concat();
        all.sort_unstable();
        files.sort_unstable();
        prop_assert_eq!(all, files);
        // No copy has more than the best possible and one file: Graham's bound, seen from the plain side.
        let median = { let mut known: Vec<i64> = times.values().copied().collect(); known.sort_unstable(); known.get(known.len() / 2).copied().unwrap_or(1).max(1) };
        let ms = |file: &str| times.get(file).copied().unwrap_or(median).max(1);
        let loads: Vec<i64> = first.iter().map(|share| share.iter().map(|file| ms(file)).sum()).collect();
        let total: i64 = loads.iter().sum();
        let longest = first.concat().iter().map(|file| ms(file)).max().unwrap_or(0);
        let most = loads.iter().copied().max().unwrap_or(0);
        prop_assert!(most <= total / i64::try_from(copies).expect("small") + longest);
    }
}

#[test]
fn many_tests_are_shared_within_a_tenth() {
    let times: BTreeMap<String, i64> = (0..60i64).map(|n| (format!("t/{n}.sh"), 100 + (n * 7919) % 900)).collect();
    let files: Vec<&str> = times.keys().map(String::as_str).collect();
    let loads: Vec<i64> = shares(&files, &times, 3).iter().map(|share| share.iter().map(|file| times[*file]).sum()).collect();
    let (least, most) = (loads.iter().min().expect("three"), loads.iter().max().expect("three"));
    assert!(most - least <= most / 10, "{loads:?}");
}
