//! Versions: in the order of Semantic Versioning 2.0 where both are such, else number by number.

use std::cmp::Ordering;

/// The longest version.
const LONGEST: usize = 128;

/// Whether a text can be a version: part of a tag's name and of an address.
///
/// ```
/// use ordotaxis_core::release::is_version;
/// assert!(["1.4.2", "2026-11", "v7", "1.0.0-rc.1+build.5"].iter().all(|text| is_version(text)));
/// assert!(["", "-1", "1..2", "a/b", "1.0 beta", ".1", "1.", "1.lock"].iter().all(|text| !is_version(text)));
/// ```
pub fn is_version(text: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || ".-_+".contains(c);
    let ends = |c: Option<char>| c.is_some_and(|c| c.is_ascii_alphanumeric());
    let bounded = !text.is_empty() && text.len() <= LONGEST && text.chars().all(fits);
    bounded && ends(text.chars().next()) && ends(text.chars().next_back()) && !text.contains("..") && !text.ends_with(".lock")
}

/// Which of two versions is the newer. `v` before a number does not count, nor does what follows `+`.
///
/// ```
/// use ordotaxis_core::release::compare;
/// use std::cmp::Ordering::{Equal, Greater, Less};
/// assert_eq!(compare("1.10.0", "1.9.0"), Greater);
/// assert_eq!(compare("1.0.0-rc.1", "1.0.0"), Less, "a version before the version");
/// assert_eq!(compare("3.0.7", "3.0.12"), Less);
/// assert_eq!(compare("2026-9", "2026-11"), Less);
/// assert_eq!(compare("v1.4.2", "1.4.2+build.7"), Equal);
/// ```
pub fn compare(one: &str, other: &str) -> Ordering {
    let (one, other) = (plain(one), plain(other));
    match (semver::Version::parse(one), semver::Version::parse(other)) {
        (Ok(a), Ok(b)) => a.cmp_precedence(&b),
        _ => by_parts(one, other),
    }
}

fn plain(text: &str) -> &str {
    let text = unprefixed(text);
    text.split_once('+').map_or(text, |(text, _)| text)
}

/// Without the `v` that tags have before their number.
pub(super) fn unprefixed(text: &str) -> &str {
    text.strip_prefix('v').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())).unwrap_or(text)
}

/// Runs of digits as numbers, what is between them as text; where one ends first it is the older.
fn by_parts(one: &str, other: &str) -> Ordering {
    let (a, b) = (parts(one), parts(other));
    let pairs = a.iter().zip(&b).map(|(a, b)| match (number(a), number(b)) {
        (Some(a), Some(b)) => (a.len(), a).cmp(&(b.len(), b)),
        // A number is newer than a word: 1.1 after 1.rc.
        (Some(_), None) => Ordering::Greater,
        (None, Some(_)) => Ordering::Less,
        (None, None) => a.cmp(b),
    });
    pairs.fold(Ordering::Equal, Ordering::then).then(a.len().cmp(&b.len()))
}

fn number(part: &str) -> Option<&str> {
    part.starts_with(|c: char| c.is_ascii_digit()).then(|| part.trim_start_matches('0'))
}

fn parts(text: &str) -> Vec<&str> {
    let mut parts = Vec::new();
    for piece in text.split(['.', '-', '_']) {
        let mut rest = piece;
        while let Some(first) = rest.chars().next() {
            let digit = first.is_ascii_digit();
            let end = rest.find(|c: char| c.is_ascii_digit() != digit).unwrap_or(rest.len());
            parts.push(&rest[..end]);
            rest = &rest[end..];
        }
    }
    parts
}
