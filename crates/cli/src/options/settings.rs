//! Commands about projects, runners and what each may have.

use clap::{Subcommand, ValueEnum};
use ordotaxis_core::dispatch::Taking;
use ordotaxis_wire::ask::ReachAsk;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Subcommand)]
pub(crate) enum AddCommand {
    /// Add a job, keeping everything else as it is written
    Job {
        /// `STAGE.NAME`
        name: String,
        /// A command; may stand several times
        #[arg(long, required = true)]
        step: Vec<String>,
        /// An artifact to take: STAGE.NAME/ARTIFACT
        #[arg(long)]
        takes: Vec<String>,
        /// A job or stage to come after
        #[arg(long)]
        after: Vec<String>,
        /// A file to leave as an artifact: NAME=GLOB
        #[arg(long, value_name = "NAME=GLOB")]
        gives: Vec<String>,
        #[arg(long, default_value = "ordotaxis.toml")]
        file: PathBuf,
    },
}

#[derive(Subcommand)]
pub(crate) enum ConnectionCommand {
    /// Set a connection; its password is read from standard input
    Set {
        project: String,
        name: String,
        #[arg(long)]
        user: String,
        #[command(flatten)]
        reach: ReachOptions,
    },
    /// The names of a project's connections
    List { project: String },
    /// Remove a connection
    Remove { project: String, name: String },
}

#[derive(Subcommand)]
pub(crate) enum RunnerCommand {
    /// Make a token that enrols one runner, once; what the runner may have is fixed with it
    Invite {
        #[command(flatten)]
        grant: GrantOptions,
        /// How long it is good, seven days at most
        #[arg(long, default_value = "1h", value_parser = humantime::parse_duration)]
        expires: Duration,
    },
    /// Change what a runner may have; all of it is said anew
    Set {
        name: String,
        #[command(flatten)]
        grant: GrantOptions,
    },
    /// Remove a runner: its credential is worth nothing any more, and its running jobs are lost
    Remove { name: String },
    /// Make this machine a runner
    Enrol {
        /// What `runner invite` printed
        #[arg(long)]
        invitation: String,
        /// How it is called; the machine's name when absent
        #[arg(long)]
        name: Option<String>,
        #[arg(long, default_value = "./ordotaxis-runner")]
        dir: PathBuf,
    },
    /// Claim jobs and do them until told to leave
    Work {
        #[arg(long, default_value = "./ordotaxis-runner")]
        dir: PathBuf,
        /// How many jobs at the same time
        #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u32).range(1..=1000))]
        slots: u32,
        /// How steps are fenced in; `sandbox` where that works, when absent
        #[arg(long, value_enum)]
        isolation: Option<IsolationChoice>,
        /// Do one job, then leave
        #[arg(long)]
        once: bool,
        /// A TOML file with labels, tools and limits of this machine
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Whether something answers at this address or port; a runner asks this from within a job's network
    #[command(hide = true)]
    Look { what: String },
    /// Who is there, and what each does
    List,
    /// Let a runner finish what it has and take nothing more
    Drain {
        name: String,
        /// Let it take jobs again
        #[arg(long)]
        undo: bool,
    },
}

/// What a runner may have.
#[derive(clap::Args)]
pub(crate) struct GrantOptions {
    /// What jobs may ask for with `where`, beside the system and its architecture
    #[arg(long)]
    pub(crate) label: Vec<String>,
    /// Only jobs of this project, and of others named so; of all when absent
    #[arg(long)]
    pub(crate) project: Vec<String>,
    /// Whether it takes proposals from outside
    #[arg(long, value_enum, default_value_t = TakingChoice::No)]
    pub(crate) outside: TakingChoice,
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum TakingChoice {
    No,
    Yes,
    /// And nothing else
    Only,
}

impl From<TakingChoice> for Taking {
    fn from(choice: TakingChoice) -> Taking {
        match choice {
            TakingChoice::No => Taking::No,
            TakingChoice::Yes => Taking::Yes,
            TakingChoice::Only => Taking::Only,
        }
    }
}

/// Where a secret or a connection goes; the main branch and tags when nothing is said.
#[derive(clap::Args)]
pub(crate) struct ReachOptions {
    /// To runs of branches that fit this glob; of a proposal the branch counts that it comes from
    #[arg(long, value_name = "GLOB")]
    branch: Vec<String>,
    /// To runs of tags that fit this glob
    #[arg(long, value_name = "GLOB")]
    tag: Vec<String>,
    /// Only to this pipeline, and to others named so
    #[arg(long, value_name = "NAME")]
    pipeline: Vec<String>,
}

impl From<ReachOptions> for ReachAsk {
    fn from(options: ReachOptions) -> ReachAsk {
        let some = |globs: Vec<String>| if globs.is_empty() { None } else { Some(globs) };
        ReachAsk { branches: some(options.branch), tags: some(options.tag), pipelines: some(options.pipeline) }
    }
}

#[derive(Subcommand)]
pub(crate) enum MessageCommand {
    /// Messages to the outside that were given up, with the reason
    List,
    /// Send one once more
    Again { id: i64 },
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum OutsideChoice {
    /// Each waits for someone to allow it
    Ask,
    Run,
    Never,
}

#[derive(Subcommand)]
pub(crate) enum SecretCommand {
    /// Set a secret; its value is read from standard input
    Set {
        project: String,
        name: String,
        #[command(flatten)]
        reach: ReachOptions,
    },
    /// The names of a project's secrets
    List { project: String },
    /// Remove a secret
    Remove { project: String, name: String },
}

#[derive(Subcommand)]
pub(crate) enum ProjectCommand {
    /// Add a project
    Add {
        name: String,
        /// Anything that `git clone` takes
        #[arg(long)]
        git: String,
        #[arg(long, default_value = "main")]
        main_branch: String,
        /// The forge's profile; none: verdicts are written as git notes only
        #[arg(long, requires = "forge_url")]
        forge: Option<String>,
        #[arg(long)]
        forge_url: Option<String>,
        /// The repository's name on the forge; the project's when absent
        #[arg(long)]
        forge_repository: Option<String>,
        /// What the forge wants to see before it takes a status
        #[arg(long, env = "ORDOTAXIS_FORGE_TOKEN", hide_env_values = true)]
        forge_token: Option<String>,
    },
    List,
    Show {
        name: String,
    },
    /// Remove a project with all its runs
    Remove {
        name: String,
    },
    /// Say what is done with proposals from outside
    Outside {
        name: String,
        #[arg(value_enum)]
        what: OutsideChoice,
    },
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum IsolationChoice {
    Sandbox,
    Host,
    Container,
}
