//! What is found by words, against a plain statement of what must hold.

use ordotaxis_core::sought::{best, rank};
use proptest::prelude::*;

#[test]
fn what_begins_so_comes_first() {
    let names = ["retide", "tide-tables", "low-tide", "tide", "almanac"];
    assert_eq!(best("tide", names, |name| name, 9), ["tide", "tide-tables", "low-tide", "retide"]);
    assert_eq!(best("TIDE", names, |name| name, 1), ["tide"]);
    assert_eq!(best("tide low", names, |name| name, 9), ["low-tide"]);
    assert_eq!(best("", names, |name| name, 9).len(), 5, "no words leave everything");
}

proptest! {
    /// A name is found exactly when each word stands in it; more words never make it better.
    #[test]
    fn each_word_must_stand_in_it(words in "[ab]{1,2}( [abÖ]{1,2}){0,2}", name in "[abcÖö.-]{0,8}") {
        let lower = name.to_lowercase();
        let stands = words.split_whitespace().all(|word| lower.contains(&word.to_lowercase()));
        prop_assert_eq!(rank(&words, &name).is_some(), stands);
        let (first, _) = words.split_once(' ').unwrap_or((&words, ""));
        if let (Some(all), Some(one)) = (rank(&words, &name), rank(first, &name)) {
            prop_assert!(all >= one);
        }
    }
}
