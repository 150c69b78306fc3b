//! Commands about what is kept: pipeline files, artifacts, caches, the store.

use clap::{Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Subcommand)]
pub(crate) enum PipelineCommand {
    /// The pipelines of a project, and where each is kept
    List { project: String },
    /// Print a pipeline's file
    Show { project: String, pipeline: String },
    /// Keep a file in the service, as a new version
    Keep {
        project: String,
        pipeline: String,
        #[arg(long)]
        file: PathBuf,
        /// What the change is for
        #[arg(long)]
        message: String,
    },
    /// Every version that was kept
    History {
        project: String,
        pipeline: String,
        /// Print this version's text
        #[arg(long)]
        version: Option<i64>,
    },
    /// Take a kept pipeline out: the repository's file counts again
    Drop {
        project: String,
        pipeline: String,
        #[arg(long, default_value = "taken out")]
        message: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum ArtifactCommand {
    /// Fetch one artifact and unpack it
    Get {
        /// `STAGE.NAME/ARTIFACT`, or `ARTIFACT` where only one job gives it
        name: String,
        #[arg(long, default_value = ".")]
        to: PathBuf,
        /// Keep the archive as it is, in place of unpacking it
        #[arg(long, value_enum)]
        archive: Option<ArchiveForm>,
        /// Only this file of it
        #[arg(long, conflicts_with = "archive")]
        file: Option<String>,
        /// Write links that lead out of the folder, too
        #[arg(long, conflicts_with_all = ["archive", "file"])]
        links: bool,
    },
    /// What lies in one folder of an artifact
    Files {
        name: String,
        /// The outermost when absent
        folder: Option<String>,
    },
    /// Keep an artifact for good
    Pin {
        name: String,
        /// Let it go when its time is over
        #[arg(long)]
        undo: bool,
    },
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ArchiveForm {
    #[value(name = "tar.zst")]
    Tar,
    Zip,
}

#[derive(Subcommand)]
pub(crate) enum CacheCommand {
    /// A project's caches, used last first
    List { project: String },
    /// What lies in one folder of an entry
    Show {
        project: String,
        key: String,
        /// The outermost when absent
        folder: Option<String>,
    },
    /// Drop an entry
    Drop {
        project: String,
        key: String,
        /// All entries whose keys begin so
        #[arg(long)]
        beginning: bool,
    },
}

#[derive(Subcommand)]
pub(crate) enum StoreCommand {
    /// Read all that is stored and say what is damaged
    Verify,
    /// Show what is no longer needed
    Sweep {
        /// Take it away
        #[arg(long)]
        apply: bool,
    },
}
