//! Labels whose values come from elsewhere: only so many make series of their own, the rest are one.

use std::collections::BTreeMap;

/// What the rest is called. No set of labels is written so.
pub(super) const REST: &str = "(others)";

/// A value of each name: the `most` largest by name, and what the rest come to.
pub(super) fn bounded<V: Ord + Copy>(values: BTreeMap<String, V>, most: usize, join: impl Fn(V, V) -> V) -> Vec<(String, V)> {
    let mut all: Vec<(String, V)> = values.into_iter().collect();
    all.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    let rest = all.split_off(all.len().min(most));
    let joined = rest.into_iter().map(|(_, value)| value).reduce(join);
    all.extend(joined.map(|value| (REST.to_owned(), value)));
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However many names there are: few series, and nothing is lost of what they come to.
        #[test]
        fn few_series_and_the_whole_sum(values in prop::collection::btree_map("[a-z]{1,3}", 0..50i64, 0..80), most in 0..20usize) {
            let shown = bounded(values.clone(), most, |a, b| a + b);
            prop_assert!(shown.len() <= most + 1);
            prop_assert_eq!(shown.iter().map(|(_, value)| value).sum::<i64>(), values.values().sum::<i64>());
            let least = shown.iter().filter(|(name, _)| name != REST).map(|(_, value)| *value).min();
            let left = values.iter().filter(|(name, _)| !shown.iter().any(|(known, _)| known == *name)).map(|(_, value)| *value).max();
            prop_assert!(left.is_none() || least >= left || most == 0, "the largest are shown");
        }
    }
}
