//! What is asked of a rehearsal, and what its jobs ask for.

use crate::commands::local::OccasionOptions;
use crate::failure::Failure;
use crate::fence::IsolationChoice;
use ordotaxis_core::plan::Plan;
use std::collections::BTreeSet;
use std::path::PathBuf;

/// `rehearse`
#[derive(clap::Args)]
pub(crate) struct RehearseOptions {
    /// Jobs or stages: these and what they take from; all when none is named
    pub(super) jobs: Vec<String>,
    /// Another pipeline than `main`: the stem of a file in the folder `ordotaxis`
    #[arg(long, default_value = "main")]
    pub(super) pipeline: String,
    #[command(flatten)]
    pub(super) occasion: OccasionOptions,
    /// How many jobs at the same time
    #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub(super) slots: u32,
    /// Let `changed` hold only what differs from the last commit, in place of everything
    #[arg(long)]
    pub(super) only_changed: bool,
    /// Begin also what no runner would, or this machine cannot: labels, tools and images are left aside
    #[arg(long)]
    pub(super) anyway: bool,
    /// Restore nothing that an earlier rehearsal cached
    #[arg(long)]
    pub(super) fresh: bool,
    /// Keep artifacts and logs in this folder
    #[arg(long, value_name = "DIR")]
    pub(super) keep: Option<PathBuf>,
    /// How steps are fenced in; `sandbox` where that works, when absent
    #[arg(long, value_enum)]
    pub(super) isolation: Option<IsolationChoice>,
}

/// What was asked for, with what the process brings.
pub(super) struct Ask {
    pub(super) options: RehearseOptions,
    /// Whether this process has mounts of its own.
    pub(super) mounts: bool,
    pub(super) json: bool,
}

impl std::ops::Deref for Ask {
    type Target = RehearseOptions;

    fn deref(&self) -> &RehearseOptions {
        &self.options
    }
}

/// What the jobs ask for: the rehearsal's runner has every label, and secrets are variables here.
pub(super) struct Wants {
    pub(super) plan: Plan,
    pub(super) labels: BTreeSet<String>,
    pub(super) secrets: BTreeSet<String>,
    pub(super) connections: BTreeSet<String>,
    /// Some job runs in an image.
    pub(super) images: bool,
}

/// Why a rehearsal did not begin.
pub(super) fn cannot(what: &str, error: &dyn std::fmt::Display) -> Failure {
    Failure::new(
        1,
        format!("the rehearsal could not make {what}: {error}"),
        "see that the folder for temporary files is writable and has room",
    )
}
