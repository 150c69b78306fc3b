//! The values an expression may read. Every declared name is always there: what an occasion does not have is empty.

use super::Read;
use cel::{Context, Value};
use globset::GlobBuilder;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Stage, job and name → what the job said.
pub type Facts = BTreeMap<(String, String, String), String>;

/// What an expression can read. Unset texts are empty.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Values {
    pub event: String,
    pub branch: String,
    pub tag: String,
    pub target: String,
    pub commit: String,
    pub author: String,
    pub message: String,
    /// None where it is not known what changed: then everything may have.
    pub changed: Option<Vec<String>>,
    pub each: BTreeMap<String, String>,
    pub given: BTreeMap<String, String>,
    pub input: BTreeMap<String, String>,
    pub env: BTreeMap<String, String>,
    pub fact: Facts,
}

/// The fields of the names that always have the same.
pub(crate) const REF: [&str; 3] = ["branch", "tag", "target"];
pub(crate) const COMMIT: [&str; 3] = ["id", "author", "message"];
pub(crate) const ROOTS: [&str; 9] = ["ref", "event", "commit", "changed", "each", "given", "input", "fact", "env"];

impl Values {
    /// Everything that is the same for all jobs of a plan, made once: the functions cost more than many expressions.
    pub fn root(&self) -> Context<'static, 'static> {
        let mut context = Context::default();
        let changed = self.changed.clone();
        // Only a name that is taken already would be refused.
        let _ = context.add_function("touches", move |glob: Arc<String>| touches(changed.as_deref(), &glob));
        context.add_variable_from_value("event", self.event.clone());
        context.add_variable_from_value("ref", table(&REF, [&self.branch, &self.tag, &self.target]));
        context.add_variable_from_value("commit", table(&COMMIT, [&self.commit, &self.author, &self.message]));
        context.add_variable_from_value("changed", self.changed.clone().unwrap_or_default());
        context.add_variable_from_value("input", map(&self.input));
        context
    }

    /// Adds what differs from job to job.
    pub fn add_own(&self, context: &mut Context<'_, 'static>) {
        context.add_variable_from_value("each", map(&self.each));
        context.add_variable_from_value("given", map(&self.given));
        context.add_variable_from_value("env", map(&self.env));
        let mut stages: HashMap<String, HashMap<String, HashMap<String, Value>>> = HashMap::new();
        for ((stage, job, name), value) in &self.fact {
            stages.entry(stage.clone()).or_default().entry(job.clone()).or_default().insert(name.clone(), value.clone().into());
        }
        let jobs = |jobs: HashMap<String, HashMap<String, Value>>| -> HashMap<String, Value> {
            jobs.into_iter().map(|(job, names)| (job, names.into())).collect()
        };
        let facts: HashMap<String, Value> = stages.into_iter().map(|(stage, all)| (stage, jobs(all).into())).collect();
        context.add_variable_from_value("fact", facts);
    }

    /// One value by its path.
    pub fn get(&self, read: &Read) -> Option<String> {
        let path: Vec<&str> = read.path.iter().map(String::as_str).collect();
        let value = match path.as_slice() {
            ["event"] => &self.event,
            ["ref", "branch"] => &self.branch,
            ["ref", "tag"] => &self.tag,
            ["ref", "target"] => &self.target,
            ["commit", "id"] => &self.commit,
            ["commit", "author"] => &self.author,
            ["commit", "message"] => &self.message,
            ["each", name] => self.each.get(*name)?,
            ["given", name] => self.given.get(*name)?,
            ["input", name] => self.input.get(*name)?,
            ["env", name] => self.env.get(*name)?,
            ["fact", stage, job, name] => self.fact.get(&((*stage).to_owned(), (*job).to_owned(), (*name).to_owned()))?,
            _ => return None,
        };
        Some(value.clone())
    }

    /// Whether a changed path fits one of the globs; true when it is not known what changed.
    pub fn touches(&self, glob: &str) -> bool {
        touches(self.changed.as_deref(), glob)
    }
}

fn touches(changed: Option<&[String]>, glob: &str) -> bool {
    let Some(changed) = changed else { return true };
    let Ok(glob) = GlobBuilder::new(glob).literal_separator(true).build() else { return false };
    let matcher = glob.compile_matcher();
    changed.iter().any(|path| matcher.is_match(path))
}

fn table(names: &[&str], values: [&String; 3]) -> HashMap<String, Value> {
    names.iter().map(|name| (*name).to_owned()).zip(values.into_iter().map(|value| Value::from(value.clone()))).collect()
}

fn map(values: &BTreeMap<String, String>) -> HashMap<String, Value> {
    values.iter().map(|(name, value)| (name.clone(), Value::from(value.clone()))).collect()
}
