//! The Test Anything Protocol, versions 13 and 14 (testanything.org). A subtest stands four spaces further in, before the
//! test point that sums it up.

use super::error::ReportError;
use super::results::{Case, CaseEnd, MESSAGE, NAME, cut};

const DEEPEST: usize = 50;

/// Test cases in order; of subtests the innermost.
///
/// ```
/// use ordotaxis_core::report::{CaseEnd, tap_cases};
/// let cases = tap_cases(b"1..2\nok 1 - height\nnot ok 2 - drift\n").expect("TAP");
/// assert_eq!((cases[0].name.as_str(), cases[0].end), ("height", CaseEnd::Passed));
/// assert_eq!((cases[1].name.as_str(), cases[1].end), ("drift", CaseEnd::Failed));
/// ```
pub fn tap_cases(bytes: &[u8]) -> Result<Vec<Case>, ReportError> {
    let text = std::str::from_utf8(bytes).map_err(|_| ReportError::Kind("TAP: it is not UTF-8"))?;
    let mut levels = vec![Level::default()];
    let mut seen = false;
    let mut lines = text.lines().enumerate().peekable();
    while let Some((number, line)) = lines.next() {
        let spaces = line.len() - line.trim_start_matches(' ').len();
        let (depth, line) = (spaces / 4, line.trim());
        let Some(said) = said(line) else { continue };
        seen = true;
        let error = |what: &str| ReportError::Line { line: number + 1, what: what.to_owned() };
        if depth >= DEEPEST {
            return Err(error("subtests stand too deep in each other"));
        }
        if matches!(said, Said::Bail(_)) {
            let Said::Bail(why) = said else { continue };
            let whole = &mut levels[0];
            let why = if why.is_empty() { "bailed out".to_owned() } else { format!("bailed out: {why}") };
            whole.cases.push(case("", "Bail out!", CaseEnd::Failed, Some(&why)));
            whole.planned = None;
            levels.truncate(1);
            break;
        }
        while levels.len() <= depth {
            levels.push(Level::default());
        }
        let below = (levels.len() > depth + 1).then(|| levels.split_off(depth + 1));
        let Some(level) = levels.last_mut() else { continue };
        match said {
            Said::Plan(count) => level.planned = Some(count),
            Said::Point { end, name, directive } => {
                level.points += 1;
                let message = diagnostic(&mut lines, spaces);
                let below = below.map(|mut below| std::mem::take(&mut below[0])).map(Level::close).unwrap_or_default();
                level.point(name, end, directive.or(message.as_deref()), below);
            }
            Said::Bail(_) => {}
        }
    }
    if !seen {
        return Err(ReportError::Kind("TAP: no line of it is a plan or a test point"));
    }
    let mut levels = levels.into_iter();
    let mut cases = levels.next().map(Level::close).unwrap_or_default();
    // Subtests that nothing summed up: the program ended within them.
    cases.extend(levels.flat_map(Level::close));
    Ok(cases)
}

#[derive(Default)]
struct Level {
    planned: Option<usize>,
    points: usize,
    cases: Vec<Case>,
}

impl Level {
    /// A test point, with the cases of the subtests below it.
    fn point(&mut self, name: &str, end: CaseEnd, message: Option<&str>, below: Vec<Case>) {
        let name = if name.is_empty() { format!("test {}", self.points) } else { name.to_owned() };
        let told = below.iter().any(|case| case.end == CaseEnd::Failed);
        if below.is_empty() || (end == CaseEnd::Failed && !told) {
            self.cases.push(case("", &name, end, message));
        }
        self.cases.extend(below.into_iter().map(|inner| {
            let suite = if inner.suite.is_empty() { name.clone() } else { format!("{name} > {}", inner.suite) };
            Case { suite: cut(suite, NAME), ..inner }
        }));
    }

    /// The end of the report: a plan that was not met is a failed case.
    fn close(mut self) -> Vec<Case> {
        if let Some(planned) = self.planned.filter(|planned| *planned != self.points) {
            let message = format!("{planned} tests were planned, {} were run", self.points);
            self.cases.push(case("", "the plan", CaseEnd::Failed, Some(&message)));
        }
        self.cases
    }
}

enum Said<'a> {
    Plan(usize),
    Point { end: CaseEnd, name: &'a str, directive: Option<&'a str> },
    Bail(&'a str),
}

fn said(line: &str) -> Option<Said<'_>> {
    if let Some(why) = line.strip_prefix("Bail out!") {
        return Some(Said::Bail(why.trim()));
    }
    if let Some(rest) = line.strip_prefix("1..") {
        let count = rest.split(|c: char| !c.is_ascii_digit()).next()?;
        return count.parse().ok().map(Said::Plan);
    }
    let (passed, rest) = match (line.strip_prefix("ok"), line.strip_prefix("not ok")) {
        (Some(rest), _) => (true, rest),
        (_, Some(rest)) => (false, rest),
        _ => return None,
    };
    if !rest.is_empty() && !rest.starts_with(' ') {
        return None;
    }
    let rest = rest.trim_start().trim_start_matches(|c: char| c.is_ascii_digit()).trim_start();
    let rest = rest.strip_prefix('-').unwrap_or(rest).trim();
    let (name, directive) = match rest.rfind(" # ").or_else(|| rest.starts_with("# ").then_some(0)) {
        Some(at) => (rest[..at].trim(), rest[at..].trim_start_matches([' ', '#'])),
        None => (rest, ""),
    };
    let word = directive.get(..4).unwrap_or_default().to_ascii_lowercase();
    let (end, directive) = match word.as_str() {
        "skip" => (CaseEnd::Skipped, Some(directive)),
        // What is yet to be done may fail; when it passes, it passed.
        "todo" if !passed => (CaseEnd::Skipped, Some(directive)),
        _ if passed => (CaseEnd::Passed, None),
        _ => (CaseEnd::Failed, None),
    };
    let name = if matches!(word.as_str(), "skip" | "todo") { name } else { rest };
    Some(Said::Point { end, name, directive })
}

/// The YAML block after a test point, as it is there.
fn diagnostic<'a>(lines: &mut std::iter::Peekable<impl Iterator<Item = (usize, &'a str)>>, spaces: usize) -> Option<String> {
    let begins = lines.peek().is_some_and(|(_, line)| line.trim() == "---" && line.len() - line.trim_start().len() > spaces);
    if !begins {
        return None;
    }
    lines.next();
    let mut text = String::new();
    for (_, line) in lines.by_ref() {
        if line.trim() == "..." {
            break;
        }
        if text.len() < MESSAGE {
            text.push_str(line.trim_end());
            text.push('\n');
        }
    }
    Some(text)
}

fn case(suite: &str, name: &str, end: CaseEnd, message: Option<&str>) -> Case {
    let message = message.filter(|_| end != CaseEnd::Passed).map(|message| cut(message.trim_end(), MESSAGE));
    Case { suite: suite.to_owned(), name: cut(name, NAME), end, wavered: false, ms: None, file: None, line: None, message }
}
