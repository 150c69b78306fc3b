//! Sharing out a job's tests among copies of it, so that all take about as long: the longest first, each to the copy that
//! has least so far (Graham's longest-processing-time rule, at most a third worse than the best there is).

use std::collections::{BTreeMap, BTreeSet};

/// The files of each copy, in the order they were given. The same files and durations give the same shares, whatever the
/// order: every copy works them out for itself. A file that is not known takes as long as the median of those that are.
///
/// ```
/// use ordotaxis_core::share::shares;
/// let usual = [("slow.c", 900), ("a.c", 400), ("b.c", 500)].map(|(file, ms)| (file.to_owned(), ms)).into();
/// let copies = shares(&["a.c", "b.c", "slow.c"], &usual, 2);
/// assert_eq!(copies, [vec!["slow.c"], vec!["a.c", "b.c"]]);
/// ```
pub fn shares<'f>(files: &[&'f str], usual: &BTreeMap<String, i64>, copies: usize) -> Vec<Vec<&'f str>> {
    let copies = copies.max(1);
    let known: Vec<i64> = {
        let mut known: Vec<i64> = files.iter().filter_map(|file| usual.get(*file)).copied().collect();
        known.sort_unstable();
        known
    };
    let median = known.get(known.len() / 2).copied().unwrap_or(1).max(1);
    let distinct: BTreeSet<&str> = files.iter().copied().collect();
    let mut longest: Vec<(i64, &str)> = distinct.iter().map(|file| (usual.get(*file).copied().unwrap_or(median).max(1), *file)).collect();
    longest.sort_by(|(a, x), (b, y)| b.cmp(a).then(x.cmp(y)));
    let mut load = vec![0i64; copies];
    let mut of: BTreeMap<&str, usize> = BTreeMap::new();
    for (ms, file) in longest {
        let emptiest = (0..copies).min_by_key(|&copy| (load[copy], copy)).unwrap_or(0);
        load[emptiest] = load[emptiest].saturating_add(ms);
        of.insert(file, emptiest);
    }
    let mut shares = vec![Vec::new(); copies];
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    for &file in files {
        if seen.insert(file) {
            shares[of[file]].push(file);
        }
    }
    shares
}
