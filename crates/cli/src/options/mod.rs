//! Every command and option, as clap reads them: what there is here; what belongs to kept things in `kept`, to who may do
//! what in `settings`.

mod kept;
mod settings;

pub(crate) use kept::*;
pub(crate) use settings::*;

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::net::SocketAddr;
use std::path::PathBuf;

#[derive(Parser)]
#[command(name = "ordotaxis", version, about = "Pipelines defined as configuration, run on your own machines")]
pub(crate) struct Options {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Args, Clone)]
pub(crate) struct Global {
    /// The service's address; else what `sign-in` keeps
    #[arg(long, global = true, env = "ORDOTAXIS_URL")]
    pub(crate) url: Option<String>,
    /// Your token; else what `sign-in` keeps
    #[arg(long, global = true, env = "ORDOTAXIS_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    /// Print JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Print without colour (also with NO_COLOR set)
    #[arg(long, global = true)]
    pub(crate) no_color: bool,
    /// Letters in place of the state symbols
    #[arg(long, global = true)]
    pub(crate) ascii: bool,
    /// Print only what was asked for
    #[arg(short, long, global = true)]
    pub(crate) quiet: bool,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Find the mistakes in pipeline files
    Check {
        /// `ordotaxis.toml` and `ordotaxis/*.toml` when none is named
        files: Vec<PathBuf>,
        #[arg(long, value_enum, default_value_t = CheckFormat::Human)]
        format: CheckFormat,
    },
    /// Show what would run, in which order, and why
    Plan {
        #[arg(default_value = "ordotaxis.toml")]
        file: PathBuf,
        #[arg(long, value_enum, default_value_t = PlanFormat::Human)]
        format: PlanFormat,
        #[command(flatten)]
        occasion: OccasionOptions,
        /// Show the reason for each wait and skip
        #[arg(long)]
        reasons: bool,
        /// Show what the file changes in the plan, against the one at this commit, branch or tag
        #[arg(long, value_name = "REV")]
        against: Option<String>,
    },
    /// Run the plan here, in a copy of this folder, without the service
    Rehearse {
        /// Jobs or stages: these and what they take from; all when none is named
        jobs: Vec<String>,
        /// Another pipeline than `main`: the stem of a file in the folder `ordotaxis`
        #[arg(long, default_value = "main")]
        pipeline: String,
        #[command(flatten)]
        occasion: OccasionOptions,
        /// How many jobs at the same time
        #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u32).range(1..=1000))]
        slots: u32,
        /// Let `changed` hold only what differs from the last commit, in place of everything
        #[arg(long)]
        only_changed: bool,
        /// Keep artifacts and logs in this folder
        #[arg(long, value_name = "DIR")]
        keep: Option<PathBuf>,
        /// How steps are fenced in; `sandbox` where that works, when absent
        #[arg(long, value_enum)]
        isolation: Option<IsolationChoice>,
    },
    /// Write a first `ordotaxis.toml` for what is in this folder
    Init {
        /// Print it instead
        #[arg(long)]
        print: bool,
    },
    /// Put something more into the pipeline file
    Add {
        #[command(subcommand)]
        command: AddCommand,
    },
    /// Print the language as JSON Schema, for editors
    Schema,
    /// Pipelines of a project that the service keeps in place of the repository
    Pipeline {
        #[command(subcommand)]
        command: PipelineCommand,
    },
    /// Run the service
    Serve {
        /// Where everything that lasts is kept
        #[arg(long, default_value = "./ordotaxis-data")]
        data: PathBuf,
        #[arg(long, default_value = "127.0.0.1:7070")]
        listen: SocketAddr,
        /// A TOML file with further settings
        #[arg(long)]
        config: Option<PathBuf>,
    },
    /// Enrol and run a runner, or look at all
    Runner {
        #[command(subcommand)]
        command: RunnerCommand,
    },
    /// Add, list, show and remove projects
    Project {
        #[command(subcommand)]
        command: ProjectCommand,
    },
    /// Start a run by hand, or with RUN and --job a job that starts by hand only
    Start {
        /// `PROJECT`; or `PROJECT/NUMBER` with --job
        #[arg(value_name = "PROJECT|RUN")]
        project: String,
        /// A branch, tag or commit; the main branch when absent
        #[arg(long = "ref")]
        reference: Option<String>,
        #[arg(long)]
        pipeline: Option<String>,
        /// A value for an input of the file: NAME=VALUE
        #[arg(long, value_name = "NAME=VALUE")]
        input: Vec<String>,
        /// Only this job or stage, and those it takes from
        #[arg(long)]
        job: Vec<String>,
        /// Follow it until it ends
        #[arg(long)]
        watch: bool,
    },
    /// List runs, newest first
    Runs {
        project: Option<String>,
        /// How many at most
        #[arg(long, default_value_t = 20)]
        count: usize,
    },
    /// Show a run: its jobs, their steps, and why
    Show {
        /// `PROJECT/NUMBER`, or `PROJECT` for its newest
        run: String,
    },
    /// Follow a run until it ends
    Watch { run: String },
    /// Say why a run, or one of its jobs, is as it is
    Why { run: String, job: Option<String> },
    /// Print a job's log
    Logs {
        run: String,
        job: String,
        /// Go on until the job ends
        #[arg(long)]
        follow: bool,
        /// The newest when absent
        #[arg(long)]
        attempt: Option<u32>,
        /// Only what this step printed
        #[arg(long)]
        step: Option<String>,
        /// Only lines printed since then: a length of time before now (`5m`), or a moment (RFC 3339)
        #[arg(long)]
        since: Option<String>,
        /// Only lines in which this regular expression is found
        #[arg(long, value_name = "PATTERN")]
        grep: Option<String>,
        /// Put the time of each line before it
        #[arg(long)]
        times: bool,
        /// The log of this helper in place of the job's own
        #[arg(long, value_name = "HELPER")]
        beside: Option<String>,
    },
    /// Do a run's commit once more
    Again {
        run: String,
        /// Within this run: what did not end well, and what follows it
        #[arg(long)]
        failed: bool,
        /// Within this run: this job and what follows it
        #[arg(long, conflicts_with = "failed")]
        job: Vec<String>,
        /// Take nothing from before: neither caches nor earlier results
        #[arg(long)]
        fresh: bool,
        /// Follow it until it ends
        #[arg(long)]
        watch: bool,
    },
    /// Print the files of this copy's share, in a job with `split`; all of them anywhere else
    Share {
        /// Test files; from standard input, a line each, when none is named
        files: Vec<String>,
    },
    /// Values that jobs may be lent by name
    Secret {
        #[command(subcommand)]
        command: SecretCommand,
    },
    /// Let a run go on that comes from outside: this commit of it, and no other
    Allow { run: String },
    /// Messages to the outside that were given up
    Message {
        #[command(subcommand)]
        command: MessageCommand,
    },
    /// Stop a run, or one job of it
    Stop { run: String, job: Option<String> },
    /// List a run's artifacts, or fetch one
    Artifacts {
        run: String,
        #[command(subcommand)]
        command: Option<ArtifactCommand>,
    },
    /// What a run's tests came to; tests that turn by themselves, or one test over time
    Tests {
        /// A run, or with --flaky or --test a project
        run: String,
        /// Tests that passed and failed with nothing changed
        #[arg(long, conflicts_with = "test")]
        flaky: bool,
        /// One test over runs: `SUITE > NAME`
        #[arg(long)]
        test: Option<String>,
        /// Those that passed, too
        #[arg(long)]
        all: bool,
    },
    /// What analyses found in a run, new findings first
    Findings { run: String },
    /// What numbers of reports and facts were over runs
    Numbers {
        project: String,
        #[arg(long, default_value = "main")]
        pipeline: String,
    },
    /// What differs between two runs: jobs, tests, artifacts, caches, numbers
    Compare { before: String, after: String },
    /// What caches hold, and dropping it
    Cache {
        #[command(subcommand)]
        command: CacheCommand,
    },
    /// Look after what is stored: is it sound, and what is no longer needed
    Store {
        #[command(subcommand)]
        command: StoreCommand,
    },
    /// Users and passwords for registries and the like, lent to jobs that publish
    Connection {
        #[command(subcommand)]
        command: ConnectionCommand,
    },
    /// Keep the service's address and your token, or make a link that signs a browser in
    SignIn {
        /// Print a link that signs a browser in, once
        #[arg(long)]
        link: bool,
    },
}

/// What happens, as far as a plan depends on it.
#[derive(Args, Clone)]
pub(crate) struct OccasionOptions {
    /// What happens; a push, when no other option says otherwise
    #[arg(long, value_enum)]
    pub(crate) event: Option<EventChoice>,
    /// The branch; the one that is checked out here, else main
    #[arg(long)]
    pub(crate) branch: Option<String>,
    /// The tag that is pushed
    #[arg(long)]
    pub(crate) tag: Option<String>,
    /// The branch that a proposal is aimed at
    #[arg(long)]
    pub(crate) target: Option<String>,
    /// A path that changed; without any, everything may have
    #[arg(long, value_name = "PATH")]
    pub(crate) changed: Vec<String>,
    /// A value for an input of the file: NAME=VALUE
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) input: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CheckFormat {
    Human,
    Json,
    Sarif,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlanFormat {
    Human,
    Json,
    Dot,
    Svg,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
#[value(rename_all = "snake_case")]
pub(crate) enum EventChoice {
    Push,
    Proposal,
    Tag,
    Schedule,
    ByHand,
    Pipeline,
}
