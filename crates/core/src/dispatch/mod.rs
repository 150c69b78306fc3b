//! Queued jobs and runners: who takes what ([`queue`]), and for the rest in one sentence why nobody does ([`why`]).

mod queue;
mod version;
mod why;

pub use queue::{Key, Queue, Queued, Want};
pub use version::{version_found, version_wanted};
pub use why::{Waited, why_queued};

use crate::language::Capacity;
use crate::plan::{Occasion, PlannedJob};
use serde::{Deserialize, Serialize};

/// What a job wants of a runner.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Needs {
    pub labels: Vec<String>,
    /// Tool → version wanted.
    pub tools: Vec<(String, String)>,
    /// It runs in an image: a runner that makes containers.
    pub container: bool,
    /// It must be kept from the network: a runner that can do that.
    pub fenced: bool,
    /// What it has for itself while it runs.
    pub capacity: Capacity,
    /// Its time limit in milliseconds; 0: it has none of its own. Only who makes machines looks at it.
    pub time_ms: u64,
    /// It was offered by someone who may not push: only runners that take such jobs.
    pub outside: bool,
    /// The project's name: some runners are for some projects.
    pub project: String,
}

/// Whether a runner takes jobs of proposals from outside.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Taking {
    #[default]
    No,
    Yes,
    /// And nothing else.
    Only,
}

impl Taking {
    /// As commands, the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            Taking::No => "no",
            Taking::Yes => "yes",
            Taking::Only => "only",
        }
    }

    /// The reverse of [`Taking::word`]; none for any other word.
    pub fn from_word(word: &str) -> Option<Taking> {
        [Taking::No, Taking::Yes, Taking::Only].into_iter().find(|taking| taking.word() == word)
    }

    fn takes(self, outside: bool) -> bool {
        match self {
            Taking::No => !outside,
            Taking::Yes => true,
            Taking::Only => outside,
        }
    }
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
    /// The projects whose jobs it takes; none: all.
    pub projects: Option<Vec<String>>,
    pub outside: Taking,
    /// It takes whatever is queued, fit for it or not: a rehearsal that goes on anyway.
    pub anything: bool,
    /// What the machine has.
    pub capacity: Capacity,
    /// What of that its running jobs have for themselves.
    pub taken: Capacity,
    /// Slots with nothing to do.
    pub free: usize,
    pub slots: usize,
}

impl Needs {
    /// What a planned job of this project needs. `occasion` says whether it comes from outside.
    pub fn of(job: &PlannedJob, project: &str, occasion: &Occasion) -> Needs {
        let extras = job.extras.as_deref();
        let tools = extras.iter().flat_map(|extras| &extras.tools).map(|(tool, wanted)| (tool.clone(), wanted.0.value.source()));
        Needs {
            labels: job.labels.clone(),
            tools: tools.collect(),
            container: extras.is_some_and(|extras| extras.image.is_some()),
            fenced: extras.is_some_and(|extras| extras.network == Some(false)),
            capacity: extras.map(|extras| extras.capacity).unwrap_or_default(),
            time_ms: job.timeout_ms.unwrap_or(0),
            outside: occasion.is_from_outside(),
            project: project.to_owned(),
        }
    }
}

impl Offer {
    /// Whether this runner may do a job that needs that.
    ///
    /// ```
    /// use ordotaxis_core::dispatch::{Needs, Offer};
    /// let words = |list: &[&str]| list.iter().map(|word| word.to_string()).collect::<Vec<_>>();
    /// let make = ("make".to_owned(), "GNU Make 4.3".to_owned());
    /// let quay = Offer { labels: words(&["linux", "usb"]), tools: vec![make], ..Offer::default() };
    /// let wants = |make: &str| vec![("make".to_owned(), make.to_owned())];
    /// assert!(quay.fits(&Needs { labels: words(&["usb"]), tools: wants(">=4"), ..Needs::default() }));
    /// assert!(!quay.fits(&Needs { labels: words(&["gpu"]), ..Needs::default() }));
    /// assert!(!quay.fits(&Needs { tools: wants(">=5"), ..Needs::default() }));
    /// ```
    pub fn fits(&self, needs: &Needs) -> bool {
        self.anything || self.has_all(needs)
    }

    /// Whether it may do such a job now: it fits, and so much of the machine is left.
    pub fn has_room(&self, needs: &Needs) -> bool {
        self.fits(needs) && (self.anything || needs.capacity.fits_in(self.capacity.less(self.taken)))
    }

    fn has_all(&self, needs: &Needs) -> bool {
        needs.labels.iter().all(|label| self.labels.contains(label))
            && needs.tools.iter().all(|(tool, wanted)| self.has_tool(tool, wanted))
            && (self.container || !needs.container)
            && (self.fenced || self.container || !needs.fenced)
            && needs.capacity.fits_in(self.capacity)
            && self.outside.takes(needs.outside)
            && self.projects.as_ref().is_none_or(|projects| projects.contains(&needs.project))
    }

    fn has_tool(&self, tool: &str, wanted: &str) -> bool {
        let Some(wanted) = version_wanted(wanted) else { return false };
        let found = self.tools.iter().filter(|(name, _)| name == tool).filter_map(|(_, version)| version_found(version));
        found.into_iter().any(|version| wanted.matches(&version))
    }
}
