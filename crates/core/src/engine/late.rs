//! Conditions that read facts: decided when a job is about to start, when all that it waits for has ended. Those of its
//! steps as well: what cannot be decided is an error before anything runs.

use super::state::Run;
use crate::expression::{Expression, Facts, Values, with_deep_stack};
use crate::language::{JobId, Step};
use std::collections::BTreeMap;

/// The decision about a job's late conditions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Late {
    Run,
    /// One is false.
    Skip(String),
    /// One can be neither.
    Undecided(String),
}

impl Run {
    /// The facts that a job may read: of a matrix those of the cell with the same values, else of the first that has them.
    pub fn facts_for(&self, job: usize) -> Facts {
        let mut facts = Facts::new();
        let own = &self.plan.jobs[job].cell;
        let mut fit: BTreeMap<(String, String, String), usize> = BTreeMap::new();
        for &at in &self.with_facts {
            let other = &self.plan.jobs[at];
            let alike = other.cell.iter().filter(|(axis, value)| own.get(*axis) == Some(*value)).count();
            let stage = &self.plan.stages[other.stage].name;
            for (name, value) in &self.jobs[at].facts {
                let key = (stage.clone(), other.name.clone(), name.clone());
                if fit.get(&key).is_none_or(|known| alike > *known) {
                    fit.insert(key.clone(), alike);
                    facts.insert(key, value.clone());
                }
            }
        }
        facts
    }

    /// Whether a job that could start now wants to.
    pub(super) fn late(&self, job: usize) -> Late {
        let planned = &self.plan.jobs[job];
        if planned.conditions.is_empty() && planned.steps.iter().all(|step| step.condition.is_none()) {
            return Late::Run;
        }
        let values = self.values(job);
        with_deep_stack(|| match decide(&planned.conditions, &values, &planned.id) {
            Late::Run => {
                planned.steps.iter().map(|step| wanted(step, &values, &planned.id)).find_map(Result::err).map_or(Late::Run, Late::Undecided)
            }
            other => other,
        })
    }

    /// A job's steps without those whose condition is false. Call it when what the job waits for has ended.
    pub fn steps(&self, job: usize) -> Vec<Step> {
        let planned = &self.plan.jobs[job];
        if planned.steps.iter().all(|step| step.condition.is_none()) {
            return planned.steps.clone();
        }
        let values = self.values(job);
        with_deep_stack(|| planned.steps.iter().filter(|step| wanted(step, &values, &planned.id) == Ok(true)).cloned().collect())
    }

    /// All that the job's expressions may read.
    fn values(&self, job: usize) -> Values {
        let planned = &self.plan.jobs[job];
        let map = |from: &indexmap::IndexMap<String, String>| from.iter().map(|(name, value)| (name.clone(), value.clone())).collect();
        Values {
            each: map(&planned.cell),
            given: map(&planned.given),
            env: map(&planned.env),
            fact: self.facts_for(job),
            ..self.plan.occasion.values()
        }
    }
}

/// Whether a step is run; an error when that cannot be decided.
fn wanted(step: &Step, values: &Values, id: &JobId) -> Result<bool, String> {
    match decide(step.condition.as_slice(), values, id) {
        Late::Run => Ok(true),
        Late::Skip(_) => Ok(false),
        Late::Undecided(why) => Err(why),
    }
}

/// Evaluates conditions in order, up to the first that is false or cannot be decided.
fn decide(conditions: &[String], values: &Values, id: &JobId) -> Late {
    let root = values.root();
    let mut own = root.new_inner_scope();
    values.add_own(&mut own);
    for source in conditions {
        let decided = Expression::compile(source).map_err(|mistake| mistake.message).and_then(|expression| {
            let with = expression.with_values(values);
            expression.decide(&own).map(|decided| (decided, with))
        });
        match decided {
            Ok((true, _)) => {}
            Ok((false, with)) => {
                let with = if with.is_empty() { String::new() } else { format!(": {with}") };
                return Late::Skip(format!("its condition `{}` is false{with}", source.trim()));
            }
            Err(why) => return Late::Undecided(format!("the condition `{}` of {id} cannot be decided: {why}", source.trim())),
        }
    }
    Late::Run
}
