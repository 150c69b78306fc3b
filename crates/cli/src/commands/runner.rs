//! `runner invite`, `enrol`, `work`, `list`, `drain`.

use super::as_runner::{configured, isolation};
use super::signals::{self, LogForm, reaches, set_up_log};
use crate::api::{Api, address};
use crate::failure::{Done, Failure, OK};
use crate::fence::IsolationChoice;
use crate::global::Global;
use crate::out;
use crate::out::table;
use clap::Subcommand;
use clap::ValueEnum;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_runner::{Identity, Leave, Rehearses, Settings, enrol, work};
use ordotaxis_wire::fleet::RunnerView;
use ordotaxis_wire::fleet::{Drain, Invitation, Invite, RunnerGrant};
use ordotaxis_wire::words;
use reqwest::Method;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

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
    /// Change what a runner may have; all of it is replaced
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
    /// Claim jobs and run them until asked to leave
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
    /// Be a pool's machine: enrol, do what the service says, leave. What it needs is in its environment: ORDOTAXIS_URL,
    /// ORDOTAXIS_MACHINE (its name) and ORDOTAXIS_INVITATION
    Join {
        #[arg(long, default_value = "./ordotaxis-machine")]
        dir: PathBuf,
        /// A TOML file with tools and limits of this machine
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Whether something answers at this address or port; a runner asks this from within a job's network
    #[command(hide = true)]
    Look { what: String },
    /// What an address answers from here, as JSON: what a runner sends a process for
    #[command(hide = true)]
    Ask { url: String },
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

pub(super) async fn runner(command: RunnerCommand, global: &Global, mounts: bool) -> Done {
    match command {
        RunnerCommand::Invite { grant, expires } => invite(&Api::new(global)?, grant, expires, global.json).await,
        RunnerCommand::Set { name, grant } => set(&Api::new(global)?, &name, grant).await,
        RunnerCommand::Remove { name } => remove(&Api::new(global)?, &name).await,
        RunnerCommand::Enrol { invitation, name, dir } => enrol_here(&address(global), &invitation, name, &dir).await,
        RunnerCommand::Work { dir, slots, isolation, once, config } => {
            work_here(Work { dir, slots: if once { 1 } else { slots }, isolation, once, config }, mounts).await
        }
        RunnerCommand::Join { dir, config } => super::join::join(&address(global), dir, config, mounts).await,
        RunnerCommand::Ask { url } => {
            out::json(&ordotaxis_runner::ask(&url).await);
            OK
        }
        RunnerCommand::Look { what } => Ok(if ordotaxis_runner::looks_ready(&what).await { ExitCode::SUCCESS } else { ExitCode::FAILURE }),
        RunnerCommand::List => list(&Api::new(global)?, global.json).await,
        RunnerCommand::Drain { name, undo } => drain(&Api::new(global)?, &name, undo).await,
    }
}

fn granted(grant: GrantOptions) -> RunnerGrant {
    let projects = if grant.project.is_empty() { None } else { Some(grant.project) };
    RunnerGrant { labels: grant.label, projects, outside: grant.outside.into() }
}

async fn set(api: &Api, name: &str, grant: GrantOptions) -> Done {
    api.send(api.request(Method::PUT, &format!("runners/{name}")).json(&granted(grant))).await?;
    out::print(format!("runner {name} may have this from now on"));
    OK
}

async fn remove(api: &Api, name: &str) -> Done {
    api.send(api.request(Method::DELETE, &format!("runners/{name}"))).await?;
    out::print(format!("runner {name} is removed; its credential is worth nothing any more"));
    OK
}

async fn invite(api: &Api, grant: GrantOptions, expires: Duration, json: bool) -> Done {
    let expires_ms = Some(i64::try_from(expires.as_millis()).unwrap_or(i64::MAX));
    let invitation: Invitation = api.post("runner-invitations", &Invite { grant: granted(grant), expires_ms }).await?;
    if json {
        out::json(&invitation);
    } else {
        out::print(&invitation.token);
        let within = humantime::format_duration(expires);
        out::remark(format!("  within {within}: ordotaxis runner enrol --url {} --invitation {}", api.url, invitation.token));
    }
    OK
}

async fn enrol_here(url: &str, invitation: &str, name: Option<String>, dir: &Path) -> Done {
    if Identity::exists(dir) {
        let what = format!("{} is enrolled already", dir.display());
        return Err(Failure::new(2, what, "run `ordotaxis runner work`, or choose another folder with --dir"));
    }
    let name = name.unwrap_or_else(machine_name);
    let refused = |error: ordotaxis_runner::CallError| Failure::new(3, error.to_string(), "the runner is not enrolled");
    let identity = enrol(url, invitation, &name).await.map_err(refused)?;
    identity
        .save(dir)
        .map_err(|error| Failure::new(3, error.to_string(), "make the folder writable and enrol again with a new invitation"))?;
    out::print(format!("runner {name} is enrolled in {}", dir.display()));
    out::remark(format!("  start it: ordotaxis runner work --dir {}", dir.display()));
    OK
}

fn machine_name() -> String {
    let name = nix::unistd::gethostname().ok().and_then(|name| name.into_string().ok()).unwrap_or_else(|| "runner".into());
    name.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' }).take(64).collect()
}

struct Work {
    dir: PathBuf,
    slots: u32,
    isolation: Option<IsolationChoice>,
    once: bool,
    config: Option<PathBuf>,
}

async fn work_here(ask: Work, mounts: bool) -> Done {
    set_up_log(LogForm::Text, None);
    let Work { dir, slots, isolation: choice, once, config } = ask;
    let identity =
        Identity::load(&dir).map_err(|error| Failure::new(2, error.to_string(), "enrol it first: `ordotaxis runner enrol --help`"))?;
    let isolation = isolation(choice)?;
    let config = configured(config)?;
    let name = identity.name.clone();
    let line = format!(
        "runner {name} works at {}: {slots} {}, isolation {}",
        identity.url,
        if slots == 1 { "slot" } else { "slots" },
        isolation.word(),
    );
    let settings =
        Settings { folder: dir, slots, isolation, config, jobs: once.then_some(1), mounts, rehearses: Rehearses::No, patience: None };
    let leave = Leave::default();
    let signals = signals::count(signals::LEAVES)?;
    for (count, token) in [(1, leave.soon.clone()), (2, leave.at_once.clone())] {
        let signals = signals.clone();
        tokio::spawn(async move {
            reaches(signals, count).await;
            token.cancel();
        });
    }
    let done =
        work(identity, settings, leave, |labels, fence| out::print(format!("{line}, labels {}\n  fence: {fence}", labels.join(", "))))
            .await;
    done.map_err(|error| Failure::new(3, error.to_string(), "the runner has ended"))?;
    OK
}

async fn list(api: &Api, json: bool) -> Done {
    let runners: Vec<RunnerView> = api.get("runners").await?;
    if json {
        out::json(&runners);
        return OK;
    }
    let head =
        ["runner", "state", "busy", "isolation", "machine", "labels", "projects", "outside", "tools", "doing"].map(str::to_owned).to_vec();
    let row = |runner: &RunnerView| {
        let state = match (runner.connected, runner.seen_at) {
            (true, _) if runner.draining_by.is_some() => "draining".to_owned(),
            (true, _) => "connected".to_owned(),
            (false, Some(seen)) => format!("gone {}", words::age(jiff::Timestamp::now().as_millisecond() - seen.as_millisecond())),
            (false, None) => "never seen".into(),
        };
        let busy = format!("{} of {}", runner.busy, runner.slots);
        let machine = match runner.cores {
            0 => String::new(),
            cores => format!("{cores} cores, {}", words::bytes(runner.memory_bytes)),
        };
        let tools: Vec<String> = runner.tools.iter().map(|tool| format!("{} {}", tool.name, tool.version)).collect();
        let doing = runner.doing.join(", ");
        let projects = runner.grant.projects.as_ref().map_or("all".to_owned(), |projects| projects.join(", "));
        let outside = runner.grant.outside.word().to_owned();
        let labels = runner.labels.join(", ");
        vec![runner.name.clone(), state, busy, runner.isolation.clone(), machine, labels, projects, outside, tools.join(", "), doing]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(runners.iter().map(row)).collect();
    table(&rows, "no runner is enrolled; `ordotaxis runner invite` makes a token for one");
    for runner in runners.iter().filter(|runner| !runner.fence.is_empty()) {
        out::remark(format!("  {}: {}", runner.name, runner.fence));
    }
    OK
}

async fn drain(api: &Api, name: &str, undo: bool) -> Done {
    let ask = Drain { draining: !undo };
    api.send(api.request(Method::PUT, &format!("runners/{name}/drain")).json(&ask)).await?;
    out::print(match undo {
        false => format!("runner {name} finishes what it has and takes nothing more"),
        true => format!("runner {name} takes jobs again"),
    });
    OK
}
