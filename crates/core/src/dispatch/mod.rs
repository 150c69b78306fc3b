//! Queued jobs and runners: who takes what ([`queue`]), and for the rest in one sentence why nobody does ([`why`]).

mod queue;
mod version;
mod why;

pub use queue::{Key, Queue, Queued};
pub use version::{version_found, version_wanted};
pub use why::{Waited, why_queued};

use crate::plan::PlannedJob;

/// What a job wants of a runner.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct Needs {
    pub labels: Vec<String>,
    /// Tool → version wanted.
    pub tools: Vec<(String, String)>,
    /// It runs in an image: a runner that makes containers.
    pub container: bool,
    /// It must be kept from the network: a runner that can do that.
    pub fenced: bool,
}

/// A runner as far as dispatch cares. Gone runners are not offered at all.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Offer {
    pub name: String,
    pub labels: Vec<String>,
    /// Tools found there, each with its version as the tool prints it.
    pub tools: Vec<(String, String)>,
    pub container: bool,
    pub fenced: bool,
    /// It finishes what it has and takes nothing more.
    pub draining: bool,
    /// Slots with nothing to do.
    pub free: usize,
    pub slots: usize,
}

impl Needs {
    pub fn of(job: &PlannedJob) -> Needs {
        let extras = job.extras.as_deref();
        let tools = extras.iter().flat_map(|extras| &extras.tools).map(|(tool, wanted)| (tool.clone(), wanted.clone()));
        Needs {
            labels: job.labels.clone(),
            tools: tools.collect(),
            container: extras.is_some_and(|extras| extras.image.is_some()),
            fenced: extras.is_some_and(|extras| extras.network == Some(false)),
        }
    }
}

impl Offer {
    /// Whether this runner may do a job that needs that.
    pub fn fits(&self, needs: &Needs) -> bool {
        needs.labels.iter().all(|label| self.labels.contains(label))
            && needs.tools.iter().all(|(tool, wanted)| self.has_tool(tool, wanted))
            && (self.container || !needs.container)
            && (self.fenced || self.container || !needs.fenced)
    }

    fn has_tool(&self, tool: &str, wanted: &str) -> bool {
        let Some(wanted) = version_wanted(wanted) else { return false };
        let found = self.tools.iter().filter(|(name, _)| name == tool).filter_map(|(_, version)| version_found(version));
        found.into_iter().any(|version| wanted.matches(&version))
    }
}
