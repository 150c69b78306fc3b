//! Every command, one file a noun with its own options. This file chooses among them.

mod add;
mod approve;
mod artifacts;
mod as_runner;
mod backup;
mod cache;
mod check;
mod compare;
mod completions;
mod connection;
mod doctor;
mod environment;
mod environment_address;
mod gatehook;
mod grant;
mod group;
mod hook;
mod init;
mod insight;
mod insight_jobs;
mod join;
mod journal;
mod landing;
mod local;
mod logs;
mod notice;
mod patience;
mod person;
mod pipeline;
mod plan;
mod pool;
mod pool_set;
mod profile;
mod project;
mod promote;
mod proposals;
mod propose;
mod rehearse;
mod release;
mod rules;
mod runner;
mod runners_there;
mod runs;
mod sarif;
mod secret;
mod serve;
mod session;
mod share;
mod show;
mod sign_in;
mod signals;
mod store;
mod tests;
mod token;
mod trace;
mod verify;
mod watch;
mod work;

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::global::Global;
use crate::out;
use clap::{CommandFactory, Parser, Subcommand};

#[derive(Parser)]
#[command(name = "ordotaxis", version, about = "Pipelines defined as configuration, run on your own machines")]
pub(crate) struct Options {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Find the mistakes in pipeline files
    Check(check::CheckOptions),
    /// Show what would run, in which order, and why
    Plan(plan::PlanOptions),
    /// Run the plan here, in a copy of this folder, without the service
    Rehearse(rehearse::RehearseOptions),
    /// Write a first `ordotaxis.toml` for what is in this folder
    Init(init::InitOptions),
    /// Put something more into the pipeline file
    Add {
        #[command(subcommand)]
        command: add::AddCommand,
    },
    /// Print the language, or with --rules what `ordotaxis/rules.toml` may say, as JSON Schema, for editors
    Schema {
        #[arg(long)]
        rules: bool,
    },
    /// Pipelines of a project that the service keeps in place of the repository
    Pipeline {
        #[command(subcommand)]
        command: pipeline::PipelineCommand,
    },
    /// Run the service
    Serve(serve::ServeOptions),
    /// Enrol and run a runner, or look at all
    Runner {
        #[command(subcommand)]
        command: runner::RunnerCommand,
    },
    /// Runners that are made when jobs queue, and their machines
    Pool {
        #[command(subcommand)]
        command: pool::PoolCommand,
    },
    /// Add, list, show and remove projects
    Project {
        #[command(subcommand)]
        command: project::ProjectCommand,
    },
    /// What is offered: how its runs went, who approved it
    Proposals(proposals::ProposalsOptions),
    /// Offer a branch to another one, where the repository has no forge
    Propose(propose::ProposeOptions),
    /// Take a proposal back, where the repository has no forge
    Withdraw(propose::WithdrawOptions),
    /// Agree with a proposal's newest commit, or refuse it
    Review(propose::ReviewOptions),
    /// Let a proposal land: it is tested on top of those ahead of it, and what was tested lands
    Land(landing::LandOptions),
    /// What waits to land, where it stands and why; or take one out, put it first, hold it
    Landing(landing::LandingOptions),
    /// What forges sent, how it was read, and what came of it
    Hook {
        #[command(subcommand)]
        command: hook::HookCommand,
    },
    /// Forge profiles: how a forge's dialect is read and spoken
    Profile {
        #[command(subcommand)]
        command: profile::ProfileCommand,
    },
    /// Start a run by hand, or with RUN and --job a job that starts by hand only
    Start(runs::StartOptions),
    /// List runs, newest first
    Runs(runs::RunsOptions),
    /// Show a run: its jobs, their steps, and why
    Show(show::ShowOptions),
    /// Follow a run until it ends
    Watch(watch::WatchOptions),
    /// Say why a run, or one of its jobs, is as it is
    Why(show::WhyOptions),
    /// Print a job's log
    Logs(logs::LogsOptions),
    /// Do a run's commit once more
    Again(runs::AgainOptions),
    /// Print the files of this copy's share, in a job with `split`; all of them anywhere else
    Share(share::ShareOptions),
    /// Values that jobs get by name
    Secret {
        #[command(subcommand)]
        command: secret::SecretCommand,
    },
    /// Let a run go on that comes from outside: this commit of it, and no other
    Allow(runs::AllowOptions),
    /// What could not be done outside: given up, or tried again
    #[command(alias = "message")]
    Work {
        #[command(subcommand)]
        command: work::WorkCommand,
    },
    /// What is in each environment, what waits to come in and why, and all that was ever put there
    Environment {
        #[command(subcommand)]
        command: environment::EnvironmentCommand,
    },
    /// Agree with what a job would put into its environment, or confirm an emergency
    Approve(approve::SpeakOptions),
    /// Refuse what a job would put into its environment: the job ends as refused
    Refuse(approve::SpeakOptions),
    /// Where something comes from and where it went: from a commit, a digest, a file, a run, an environment or a version
    Trace(trace::TraceOptions),
    /// Which environments hold a component, or which runs made something of it
    Components(trace::ComponentsOptions),
    /// Whether a file is what a signed statement says; needs no service where the keys are at hand
    Verify(verify::VerifyOptions),
    /// Print the keys that statements are verified with
    Keys,
    /// What was made known: versions, notes, what belongs to them and what they rest on
    Release {
        #[command(subcommand)]
        command: release::ReleaseCommand,
    },
    /// Put what a run made into one more environment: nothing is built anew
    Promote(promote::PromoteOptions),
    /// Put what was in an environment before there again
    RollBack(promote::RollBackOptions),
    /// What waits for you: approvals, emergencies to confirm, runs from outside
    Needs,
    /// Stop a run, or one job of it
    Stop(runs::StopOptions),
    /// List a run's artifacts, or fetch one
    Artifacts(artifacts::ArtifactsOptions),
    /// The results of a run's tests; flaky tests; one test over time
    Tests(tests::TestsOptions),
    /// What analyses found in a run, new findings first
    Findings(tests::FindingsOptions),
    /// What numbers of reports and facts were over runs
    Numbers(tests::NumbersOptions),
    /// What differs between two runs: jobs, tests, artifacts, caches, numbers
    Compare(compare::CompareOptions),
    /// What caches hold, and dropping it
    Cache {
        #[command(subcommand)]
        command: cache::CacheCommand,
    },
    /// Look after what is stored: is it sound, and what is no longer needed
    Store {
        #[command(subcommand)]
        command: store::StoreCommand,
    },
    /// Look at all that the service rests on, and say what to do
    Doctor(doctor::DoctorOptions),
    /// Copy all that lasts, while the service runs
    Backup(backup::BackupOptions),
    /// Make a data folder of a backup
    Restore(backup::RestoreOptions),
    /// Users and passwords for registries and the like, for jobs that publish
    Connection {
        #[command(subcommand)]
        command: connection::ConnectionCommand,
    },
    /// Persons, and how they are known elsewhere
    Person {
        #[command(subcommand)]
        command: person::PersonCommand,
    },
    /// Groups of persons
    Group {
        #[command(subcommand)]
        command: group::GroupCommand,
    },
    /// Who holds which role on what
    Grant {
        #[command(subcommand)]
        command: grant::GrantCommand,
    },
    /// Your tokens, for programs
    Token {
        #[command(subcommand)]
        command: token::TokenCommand,
    },
    /// What you are told, and by which way
    Notice {
        #[command(subcommand)]
        command: notice::NoticeCommand,
    },
    /// What admits changes into a project's branches
    Rules {
        #[command(subcommand)]
        command: rules::RulesCommand,
    },
    /// Browsers that are signed in
    Session {
        #[command(subcommand)]
        command: session::SessionCommand,
    },
    /// Hooks of a plain git server, which git runs: nobody types them
    Gatehook {
        #[command(subcommand)]
        command: gatehook::GatehookCommand,
    },
    /// How long jobs take and queue, what got slower since when, what is done in vain and what it costs
    Insight(insight_jobs::InsightOptions),
    /// Who did what, and whether the journal is whole
    Journal(journal::JournalOptions),
    /// Print what completes commands in a shell
    Completions(completions::CompletionsOptions),
    /// Write manual pages, one a command, into a folder
    Manual(completions::ManualOptions),
    /// Keep the service's address and your token, or make a link that signs a browser in
    SignIn(sign_in::SignInOptions),
}

impl Options {
    /// Whether a runner's own mounts are needed: they must be made before there is a second thread.
    pub(crate) fn runs_jobs(&self) -> bool {
        matches!(
            self.command,
            Command::Runner { command: runner::RunnerCommand::Work { .. } | runner::RunnerCommand::Join { .. } } | Command::Rehearse(_)
        )
    }

    /// Whether the command looks at signals itself.
    pub(crate) fn minds_signals(&self) -> bool {
        self.runs_jobs() || matches!(self.command, Command::Serve(_))
    }
}

/// Does what was asked. `mounts`: whether this process has mounts of its own.
pub(crate) async fn run(options: Options, mounts: bool) -> Done {
    let (global, json) = (&options.global, options.global.json);
    let api = || Api::new(global);
    match options.command {
        Command::Check(options) => check::check(options, global).await,
        Command::Plan(options) => plan::plan(options, json).await,
        Command::Rehearse(options) => rehearse::rehearse(options, global, mounts).await,
        Command::Init(options) => init::init(options),
        Command::Add { command } => add::add(command),
        Command::Schema { rules } => {
            out::json(&if rules { ordotaxis_core::rules::schema() } else { ordotaxis_core::language::schema() });
            OK
        }
        Command::Pipeline { command } => pipeline::pipeline(command, &api()?, json).await,
        Command::Serve(options) => serve::serve(options).await,
        Command::Runner { command } => runner::runner(command, global, mounts).await,
        Command::Pool { command } => pool::pool(command, global).await,
        Command::Project { command } => project::project(command, &api()?, json).await,
        Command::Proposals(options) => proposals::proposals(options, &api()?, json).await,
        Command::Propose(options) => propose::propose(options, &api()?, json).await,
        Command::Withdraw(options) => propose::withdraw(options, &api()?).await,
        Command::Review(options) => propose::review(options, &api()?, json).await,
        Command::Land(options) => landing::land(options, &api()?, json).await,
        Command::Landing(options) => landing::landing(options, &api()?, json).await,
        Command::Hook { command } => hook::hook(command, &api()?, json).await,
        Command::Gatehook { command } => gatehook::gatehook(command, global).await,
        Command::Profile { command } => profile::profile(command, global).await,
        Command::Start(options) => runs::start(options, &api()?, json).await,
        Command::Runs(options) => runs::list(options, &api()?, json).await,
        Command::Show(options) => show::show(options, &api()?, json).await,
        Command::Watch(options) => watch::watch(options, &api()?, json).await,
        Command::Why(options) => show::why(options, &api()?, json).await,
        Command::Logs(options) => logs::logs(options, &api()?).await,
        Command::Again(options) => runs::again(options, &api()?, json).await,
        Command::Share(options) => share::share(options),
        Command::Secret { command } => secret::secret(command, &api()?, json).await,
        Command::Allow(options) => runs::allow(options, &api()?, json).await,
        Command::Work { command } => work::work(command, &api()?, json).await,
        Command::Environment { command } => environment::environment(command, &api()?, json).await,
        Command::Approve(options) => approve::speak(options, true, &api()?, json).await,
        Command::Refuse(options) => approve::speak(options, false, &api()?, json).await,
        Command::Release { command } => release::release(command, &api()?, json).await,
        Command::Trace(options) => trace::trace(options, &api()?, json).await,
        Command::Components(options) => trace::components(options, &api()?, json).await,
        Command::Verify(options) => verify::verify(options, global).await,
        Command::Keys => verify::keys(global).await,
        Command::Promote(options) => promote::promote(options, &api()?, json).await,
        Command::RollBack(options) => promote::roll_back(options, &api()?, json).await,
        Command::Needs => approve::needs(&api()?, json).await,
        Command::Stop(options) => runs::stop(options, &api()?, json).await,
        Command::Artifacts(options) => artifacts::artifacts(options, &api()?, json).await,
        Command::Tests(options) => tests::tests(options, &api()?, json).await,
        Command::Findings(options) => tests::findings(options, &api()?, json).await,
        Command::Numbers(options) => tests::numbers(options, &api()?, json).await,
        Command::Compare(options) => compare::compare(options, &api()?, json).await,
        Command::Cache { command } => cache::cache(command, &api()?, json).await,
        Command::Store { command } => store::store(command, &api()?, json).await,
        Command::Doctor(options) => doctor::doctor(options, global).await,
        Command::Backup(options) => backup::backup(options, json).await,
        Command::Restore(options) => backup::restore(options, json).await,
        Command::Connection { command } => connection::connection(command, &api()?, json).await,
        Command::Person { command } => person::person(command, &api()?, json).await,
        Command::Group { command } => group::group(command, &api()?, json).await,
        Command::Grant { command } => grant::grant(command, &api()?, json).await,
        Command::Token { command } => token::token(command, &api()?, json).await,
        Command::Notice { command } => notice::notice(command, &api()?, json).await,
        Command::Rules { command } => rules::rules(command, &api()?, json).await,
        Command::Session { command } => session::session(command, &api()?, json).await,
        Command::Insight(options) => insight_jobs::insight(options, &api()?, json).await,
        Command::Journal(options) => journal::journal(options, &api()?, json).await,
        Command::Completions(options) => completions::completions(&options, Options::command()),
        Command::Manual(options) => completions::manual(&options, Options::command()),
        Command::SignIn(options) => sign_in::sign_in(options, global).await,
    }
}
