//! The two values that a failed test compared, read off its message: a message → what each is called, and what it was.
//!
//! Test programs write them in a few ways, and no standard says how. Read here are a label at the start of a line
//! (`expected: 3`, `  left: 3`), both in one line (`expected: <3> but was: <4>`, `got 4, wanted 3`), and
//! `AssertionError: 3 != 4`.

/// How much of each value is kept, in bytes.
const MOST: usize = 16 * 1024;
/// Of a longer message only the beginning is read, in bytes.
const READ: usize = 256 * 1024;

/// Labels that stand before a value, each with those that its counterpart may have.
const LABELS: &[(&[&str], &[&str])] =
    &[(&["expected", "want", "wanted"], &["actual", "got", "received", "was", "found", "but was"]), (&["left"], &["right"])];
/// What stands before the first value and between the two when both are in one line.
const IN_ONE_LINE: &[(&str, &[&str])] = &[
    ("expected", &[" but was", ", but was", " but got", ", but got", ", got", " but found", ", found", ", actual"]),
    ("wanted", &[", got", " but got", ", but got"]),
    ("got", &[", wanted", ", expected", " but wanted", " but expected"]),
];

/// Two values that should have been equal, in the order in which they are best read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// What the message calls them: `expected` and `actual`, say.
    pub names: [String; 2],
    pub values: [String; 2],
}

/// The difference that a message tells of; none where it tells of none, or of equal values.
///
/// ```
/// use ordotaxis_core::report::difference;
/// let found = difference("levels differ\nexpected: 412 mm\nactual:   415 mm\n").unwrap();
/// assert_eq!(found.names, ["expected", "actual"]);
/// assert_eq!(found.values, ["412 mm", "415 mm"]);
/// assert_eq!(difference("the float is stuck"), None);
/// ```
pub fn difference(message: &str) -> Option<Difference> {
    let message = beginning(message, READ);
    let found = message.lines().find_map(in_one_line).or_else(|| on_lines_of_their_own(message)).or_else(|| unequal(message))?;
    (found.values[0] != found.values[1]).then_some(found)
}

/// The first bytes of a text, cut between characters.
fn beginning(text: &str, most: usize) -> &str {
    let end = (0..=most.min(text.len())).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
    &text[..end]
}

/// `expected: <3> but was: <4>`, `got 4, wanted 3`
fn in_one_line(line: &str) -> Option<Difference> {
    let lower = line.to_ascii_lowercase();
    IN_ONE_LINE.iter().find_map(|(before, between)| {
        let begin = word_at(&lower, before)? + before.len();
        let rest = lower.get(begin..)?;
        let (at, word) = between.iter().filter_map(|word| Some((rest.find(word)?, *word))).min()?;
        let first = bare(line.get(begin..begin + at)?)?;
        let second = bare(line.get(begin + at + word.len()..)?)?;
        let other = word.trim_start_matches([' ', ',']).trim_start_matches("but ");
        // What should have been is told first.
        let both = if *before == "got" { ([other, before], [second, first]) } else { ([before, other], [first, second]) };
        Some(Difference { names: both.0.map(str::to_owned), values: both.1 })
    })
}

/// Where a word begins that is no part of a longer one.
fn word_at(text: &str, word: &str) -> Option<usize> {
    text.match_indices(word).map(|(at, _)| at).find(|at| !text[..*at].ends_with(char::is_alphanumeric))
}

/// A value without what stands around it: a colon or an equals sign before, angle brackets on both sides.
fn bare(text: &str) -> Option<String> {
    let text = text.trim().trim_start_matches([':', '=']).trim().trim_end_matches(',');
    let text = text.strip_prefix('<').and_then(|text| text.strip_suffix('>')).unwrap_or(text);
    (!text.is_empty()).then(|| beginning(text, MOST).to_owned())
}

/// The label that a line begins with, and what follows it.
fn labelled<'a>(line: &'a str, labels: &[&'static str]) -> Option<(&'static str, &'a str)> {
    let text = line.trim_start();
    labels.iter().find_map(|label| {
        let head = text.get(..label.len()).filter(|head| head.eq_ignore_ascii_case(label))?;
        let rest = text[head.len()..].trim_start();
        let rest = rest.strip_prefix([':', '=']).filter(|rest| !rest.starts_with('='))?;
        Some((*label, rest.strip_prefix(' ').unwrap_or(rest)))
    })
}

/// A line `expected: …` and, later, a line `actual: …`; a value goes on until a line that is empty or has a label.
fn on_lines_of_their_own(message: &str) -> Option<Difference> {
    let lines: Vec<&str> = message.lines().collect();
    LABELS.iter().find_map(|(firsts, seconds)| {
        let at = |labels: &[&'static str]| lines.iter().position(|line| labelled(line, labels).is_some());
        let (one, other) = (at(firsts)?, at(seconds)?);
        let [(name, value), (its_name, its_value)] = [value_at(&lines, one, firsts)?, value_at(&lines, other, seconds)?];
        Some(Difference { names: [name.into(), its_name.into()], values: [value, its_value] })
    })
}

fn value_at(lines: &[&str], at: usize, labels: &[&'static str]) -> Option<(&'static str, String)> {
    let (label, first) = labelled(lines.get(at)?, labels)?;
    let any = |line: &str| LABELS.iter().any(|(firsts, seconds)| labelled(line, firsts).or(labelled(line, seconds)).is_some());
    let more = lines[at + 1..].iter().take_while(|line| !line.trim().is_empty() && line.starts_with([' ', '\t']) && !any(line));
    let mut value = first.trim().to_owned();
    for line in more {
        if value.len() > MOST {
            break;
        }
        if !value.is_empty() {
            value.push('\n');
        }
        value.push_str(line.trim_end());
    }
    Some((label, beginning(&value, MOST).to_owned()))
}

/// `AssertionError: 3 != 4`
fn unequal(message: &str) -> Option<Difference> {
    let line = message.lines().find_map(|line| line.trim_start().strip_prefix("AssertionError: "))?;
    let (first, second) = line.split_once(" != ")?;
    Some(Difference { names: ["first".into(), "second".into()], values: [bare(first)?, bare(second)?] })
}
