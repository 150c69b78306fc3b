//! How well a name answers words that someone typed to find it.

/// Smaller is better; none where a word does not stand in the name at all. Case does not count.
///
/// Each word adds 0 where it is the whole name, 1 where the name begins with it, 2 where a part of the name does (after
/// anything that is no letter or digit), and 3 where it stands within a part.
///
/// ```
/// use ordotaxis_core::sought::rank;
/// assert!(rank("unit", "test.unit") < rank("nit", "test.unit"));
/// assert_eq!(rank("unit build", "test.unit"), None);
/// ```
pub fn rank(words: &str, name: &str) -> Option<u32> {
    let name = name.to_lowercase();
    words.to_lowercase().split_whitespace().map(|word| rank_of_word(word, &name)).sum()
}

fn rank_of_word(word: &str, name: &str) -> Option<u32> {
    if word == name {
        return Some(0);
    }
    name.match_indices(word).map(|(at, _)| place(&name[..at])).min()
}

/// What a place is worth, by what stands before it.
fn place(before: &str) -> u32 {
    match before.chars().next_back() {
        None => 1,
        Some(last) if !last.is_alphanumeric() => 2,
        Some(_) => 3,
    }
}

/// The best of many, best first, and among equals the shorter name; at most so many.
pub fn best<T>(words: &str, all: impl IntoIterator<Item = T>, name: impl Fn(&T) -> &str, most: usize) -> Vec<T> {
    let mut found: Vec<(u32, usize, T)> =
        all.into_iter().filter_map(|one| Some((rank(words, name(&one))?, name(&one).len(), one))).collect();
    found.sort_by_key(|(rank, length, _)| (*rank, *length));
    found.into_iter().take(most).map(|(_, _, one)| one).collect()
}
