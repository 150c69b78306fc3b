//! The plan as a value: everything a run needs to know, without the file it came from. It is stored with the run, so
//! its field names are forever; `version` says which form it has.

use super::occasion::Occasion;
use super::resolve::{After, Graph};
use crate::language::{Checkout, Give, Job, JobId, Pipeline, Step};
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Plan {
    pub version: u32,
    pub pipeline: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    pub occasion: Occasion,
    /// In an order that agrees with the file's `order`.
    pub stages: Vec<PlannedStage>,
    /// By stage, then as they stand in the file.
    pub jobs: Vec<PlannedJob>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedStage {
    pub name: String,
    /// Every stage before this one, by number.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<usize>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedJob {
    pub id: JobId,
    pub stage: usize,
    pub name: String,
    pub steps: Vec<Step>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub takes: Vec<PlannedTake>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gives: Vec<Give>,
    /// What it waits for beside the earlier stages, each once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub waits: Vec<Wait>,
    /// Whether it waits for every stage before its own.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordered: bool,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub env: IndexMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub timeout_ms: Option<u64>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub may_fail: bool,
    pub checkout: Checkout,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedTake {
    pub job: usize,
    pub artifact: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wait {
    pub on: WaitOn,
    /// True when something is taken, not only awaited.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub takes: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WaitOn {
    Job(usize),
    Stage(usize),
}

pub(super) fn build(pipeline: &Pipeline, graph: &Graph, name: &str, occasion: &Occasion) -> Plan {
    let stages = stage_order(graph);
    let new_stage = inverse(&stages);
    let mut jobs: Vec<usize> = (0..pipeline.jobs.len()).collect();
    jobs.sort_by_key(|&job| new_stage[graph.stage_of[job]]);
    let new_job = inverse(&jobs);
    let mut build = Build { pipeline, graph, new_stage: &new_stage, new_job: &new_job };
    Plan {
        version: 1,
        pipeline: name.to_owned(),
        title: pipeline.title.clone(),
        occasion: occasion.clone(),
        stages: stages.iter().map(|&stage| build.stage(stage)).collect(),
        jobs: jobs.iter().map(|&job| build.job(job)).collect(),
    }
}

/// Stages so that none stands before one it waits for; otherwise as first named.
fn stage_order(graph: &Graph) -> Vec<usize> {
    let mut order: Vec<usize> = (0..graph.stages.names.len()).collect();
    order.sort_by_key(|&stage| graph.stages.before[stage].count_ones(..));
    order
}

fn inverse(order: &[usize]) -> Vec<usize> {
    let mut places = vec![0; order.len()];
    for (place, &item) in order.iter().enumerate() {
        places[item] = place;
    }
    places
}

struct Build<'a> {
    pipeline: &'a Pipeline,
    graph: &'a Graph,
    new_stage: &'a [usize],
    new_job: &'a [usize],
}

impl Build<'_> {
    fn stage(&mut self, stage: usize) -> PlannedStage {
        let mut before: Vec<usize> = self.graph.stages.before[stage].ones().map(|earlier| self.new_stage[earlier]).collect();
        before.sort_unstable();
        PlannedStage { name: self.graph.stages.names[stage].clone(), before }
    }

    fn job(&mut self, at: usize) -> PlannedJob {
        let (job, defaults) = (&self.pipeline.jobs[at], &self.pipeline.defaults);
        let mut env = self.pipeline.env.clone();
        env.extend(defaults.env.clone());
        env.extend(job.env.clone());
        PlannedJob {
            id: job.id(),
            stage: self.new_stage[self.graph.stage_of[at]],
            name: job.name.clone(),
            steps: job.steps.clone(),
            labels: job.labels.clone().or_else(|| defaults.labels.clone()).unwrap_or_default(),
            takes: self.takes(at, job),
            gives: job.gives.clone(),
            waits: self.waits(at),
            ordered: self.graph.ordered(self.pipeline, at),
            env,
            timeout_ms: job.timeout_ms.or(defaults.timeout_ms),
            may_fail: job.may_fail.or(defaults.may_fail).unwrap_or(false),
            checkout: job.checkout.clone().or_else(|| defaults.checkout.clone()).unwrap_or_default(),
        }
    }

    fn takes(&self, at: usize, job: &Job) -> Vec<PlannedTake> {
        let from = self.graph.takes[at].iter().map(|(from, _)| self.new_job[*from]);
        let pairs = from.zip(&job.takes);
        pairs.map(|(from, take)| PlannedTake { job: from, artifact: take.value.artifact.clone(), to: take.value.to.clone() }).collect()
    }

    fn waits(&self, at: usize) -> Vec<Wait> {
        let taken = self.graph.takes[at].iter().map(|(from, _)| Wait { on: WaitOn::Job(self.new_job[*from]), takes: true });
        let after = self.graph.after[at].iter().map(|(after, _)| {
            let on = match *after {
                After::Job(job) => WaitOn::Job(self.new_job[job]),
                After::Stage(stage) => WaitOn::Stage(self.new_stage[stage]),
            };
            Wait { on, takes: false }
        });
        let mut waits: Vec<Wait> = Vec::new();
        for wait in taken.chain(after) {
            if !waits.iter().any(|known| known.on == wait.on) {
                waits.push(wait);
            }
        }
        waits
    }
}
