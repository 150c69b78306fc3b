//! What may come into an environment, and what happens around it.

use super::{Approvals, Hours, Rules};
use crate::engine::Millis;
use crate::language::Span;
use globset::GlobBuilder;
use indexmap::IndexMap;

/// The rules of an environment. Those that no rule names are free: what wants in comes in, one at a time.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct EnvironmentRules {
    /// Where they stand in the file.
    pub span: Span,
    /// Where people look.
    pub url: Option<String>,
    /// What must be well after the steps.
    pub check: Option<Check>,
    pub on_failure: OnFailure,
    /// What comes in must have been well in all of these.
    pub after: Vec<String>,
    /// The branches and `tag:…` whose runs may come in: each list must name them. All when there is none.
    pub from: Vec<Vec<String>>,
    /// All of these must be there.
    pub approvals: Vec<Agreement>,
    /// It is open while one of each list holds.
    pub hours: Vec<Vec<Hours>>,
    /// So long without trouble in each of `after`.
    pub still: Millis,
    /// The project's secrets that are lent to jobs that deploy here, and to no others.
    pub secrets: Vec<String>,
    /// For proposals; it is closed with its proposal, or when `lasts` is over.
    pub preview: bool,
    pub lasts: Option<Millis>,
    /// Proposals from outside may come in, without secrets.
    pub outside: bool,
    /// What may come in comes in by itself, once it was well in all of `after`.
    pub promote: bool,
    /// Persons and `@groups` who may go past the rules.
    pub emergency: Vec<String>,
}

/// Who must agree with what comes in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Agreement {
    pub wanted: Approvals,
    /// How long one counts; for ever when none.
    pub within: Option<Millis>,
}

/// What is asked after the steps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Check {
    pub asks: Asks,
    /// The first good answer must come in this time.
    pub within: Millis,
    /// From then on every answer must be good for so long.
    pub lasts: Millis,
}

/// Whom a check asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asks {
    /// An address; its answer must hold this text, with placeholders.
    Url { url: String, says: Option<String> },
    /// A command that must end with 0.
    Run(String),
}

/// What happens when the check, the watch or the steps fail.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum OnFailure {
    /// What is there stays there.
    #[default]
    Stay,
    /// What was there before is put there again, within the same run.
    RollBack,
}

/// By name or pattern.
pub type Entries = IndexMap<String, EnvironmentRules>;

impl Rules {
    /// The rules of an environment: in each file those that carry its name, else the first whose pattern fits. None: it is free.
    pub fn environment(&self, name: &str) -> Option<EnvironmentRules> {
        let mut found = self.files().filter_map(|entries| entry(entries, name)).map(|(_, _, rules)| rules);
        let first = found.next()?.clone();
        Some(found.fold(first, EnvironmentRules::stricter))
    }

    /// Why a job that deploys to this environment, or to none, is not lent a secret. None: nothing keeps it back.
    pub fn keeps_secret(&self, secret: &str, environment: Option<&str>) -> Option<String> {
        let names = |rules: &EnvironmentRules| rules.secrets.iter().any(|name| name == secret);
        let kept_for: Vec<&str> = self.files().flatten().filter(|(_, rules)| names(rules)).map(|(pattern, _)| pattern.as_str()).collect();
        let lent = environment.and_then(|name| self.environment(name)).is_some_and(|rules| names(&rules));
        (!kept_for.is_empty() && !lent).then(|| format!("is lent to jobs that deploy to {} only", kept_for.join(" or ")))
    }

    /// A way of `after` that comes back to where it began, as names of entries; none: every wait has an end.
    pub fn circle(&self) -> Option<Vec<String>> {
        let files: Vec<&Entries> = self.files().collect();
        let begins: Vec<usize> = files.iter().scan(0, |sum, file| Some(std::mem::replace(sum, *sum + file.len()))).collect();
        let to = |name: &String| -> Vec<usize> {
            let found = |(file, begin): (&&Entries, &usize)| Some(begin + entry(file, name)?.0);
            files.iter().zip(&begins).filter_map(found).collect()
        };
        let edges: Vec<Vec<usize>> =
            files.iter().flat_map(|file| file.values()).map(|rules| rules.after.iter().flat_map(to).collect()).collect();
        let names: Vec<&String> = files.iter().flat_map(|file| file.keys()).collect();
        let way = (0..names.len()).find_map(|start| way_back(&edges, start))?;
        Some(way.into_iter().map(|at| names[at].clone()).collect())
    }

    fn files(&self) -> impl Iterator<Item = &Entries> {
        [&self.environments, &self.kept_environments].into_iter()
    }
}

/// The shortest way from an entry to itself.
fn way_back(edges: &[Vec<usize>], start: usize) -> Option<Vec<usize>> {
    let mut came: Vec<Option<usize>> = vec![None; edges.len()];
    let mut open = std::collections::VecDeque::from([start]);
    while let Some(at) = open.pop_front() {
        for &next in &edges[at] {
            if next == start {
                let mut way = vec![start, at];
                while let Some(before) = way.last().filter(|last| **last != start).and_then(|last| came[*last]) {
                    way.push(before);
                }
                way.dedup();
                way.reverse();
                return Some(way);
            }
            if came[next].is_none() {
                came[next] = Some(at);
                open.push_back(next);
            }
        }
    }
    None
}

/// The entry that is for an environment, with its place.
fn entry<'r>(entries: &'r Entries, name: &str) -> Option<(usize, &'r String, &'r EnvironmentRules)> {
    let of_pattern = || entries.keys().position(|pattern| fits(pattern, name));
    let at = entries.get_index_of(name).or_else(of_pattern)?;
    entries.get_index(at).map(|(known, rules)| (at, known, rules))
}

/// Whether a name fits a pattern: `*` is any text.
fn fits(pattern: &str, name: &str) -> bool {
    pattern.contains('*') && GlobBuilder::new(pattern).build().is_ok_and(|glob| glob.compile_matcher().is_match(name))
}

impl EnvironmentRules {
    /// Both together: what either asks for is asked for.
    #[must_use]
    fn stricter(mut self, more: &EnvironmentRules) -> EnvironmentRules {
        let add = |own: &mut Vec<String>, more: &[String]| {
            let new: Vec<String> = more.iter().filter(|name| !own.contains(name)).cloned().collect();
            own.extend(new);
        };
        add(&mut self.after, &more.after);
        add(&mut self.secrets, &more.secrets);
        self.from.extend(more.from.iter().cloned());
        self.approvals.extend(more.approvals.iter().cloned());
        self.hours.extend(more.hours.iter().cloned());
        self.still = self.still.max(more.still);
        self.lasts = [self.lasts, more.lasts].into_iter().flatten().min();
        self
    }
}
