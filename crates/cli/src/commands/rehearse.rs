//! `rehearse`: the plan run here. A copy of the working tree becomes a commit in a repository of its own; a private
//! service and a runner in this process run it, so that the engine, the isolation and the steps are the same as
//! anywhere. Nothing is reported anywhere, and afterwards all of it is deleted except what was asked to be kept.

use super::local::OccasionOptions;
use super::{artifacts, check, local, logs, plan, runner, signals, watch};
use crate::api::Api;
use crate::failure::{Done, Failure, failed};
use crate::fence::IsolationChoice;
use crate::out;
use crate::reference::RunRef;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::language::counted;
use ordotaxis_core::plan::{Occasion, Source, plan as make_plan};
use ordotaxis_runner::{Config, Isolation, Leave, Settings as RunnerSettings, enrol, work};
use ordotaxis_service::{Settings, Shutdown, serve as run_service};
use ordotaxis_wire::artifact::ArtifactView;
use ordotaxis_wire::fleet::{Invitation, Invite, RunnerGrant};
use ordotaxis_wire::project::ProjectView;
use ordotaxis_wire::project::{NewProject, SetOutside};
use ordotaxis_wire::run::NewRun;
use ordotaxis_wire::run::RunView;
use ordotaxis_wire::secret::{NewSecret, ReachAsk};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

/// `rehearse`
#[derive(clap::Args)]
pub(crate) struct RehearseOptions {
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
}

struct Ask {
    options: RehearseOptions,
    mounts: bool,
    json: bool,
}

impl std::ops::Deref for Ask {
    type Target = RehearseOptions;

    fn deref(&self) -> &RehearseOptions {
        &self.options
    }
}

pub(super) async fn rehearse(options: RehearseOptions, mounts: bool, json: bool) -> Done {
    let ask = Ask { options, mounts, json };
    let root = root();
    let file = if ask.pipeline == "main" { root.join("ordotaxis.toml") } else { root.join(format!("ordotaxis/{}.toml", ask.pipeline)) };
    let text = check::read(&file)?;
    let mut occasion = Occasion { only: ask.jobs.clone(), ..local::occasion(&ask.occasion, &root)? };
    let place = tempfile::Builder::new().prefix("ordotaxis-rehearsal-").tempdir().map_err(|error| cannot("a folder for it", &error))?;
    let copy = Copy::of(&root, place.path(), &occasion)?;
    if ask.only_changed {
        occasion.changed = Some(copy.changed.clone().unwrap_or_default());
    }
    let Some(Wants { labels, secrets }) = planned(&file, &text, &occasion).await? else { return Ok(failed()) };
    let isolation = runner::isolation(ask.isolation)?;
    if !ask.json {
        announce(&ask, &occasion, &copy, isolation);
    }
    occasion.project = Some(copy.project.clone());
    occasion.by = Some(occasion.author.clone().unwrap_or_else(|| "you".into()));
    let leave = Leave::default();
    let (mut stage, signals) = (Stage::raise(place.path(), occasion, leave.clone()).await?, signals::count_signals()?);
    let runner = stage.runner(place.path(), &ask, labels, isolation).await?;
    let done = tokio::select! {
        done = stage.play(&copy, &ask, &secrets) => done,
        () = signals::reaches(signals, 1) => Err(Failure::interrupted()),
    };
    // Ends what still runs, then the service.
    leave.at_once.cancel();
    leave.soon.cancel();
    let _ = runner.await;
    stage.stop.cancel();
    let _ = stage.service.await;
    done
}

/// The folder that is rehearsed: this one when it has pipelines, else the top of its repository.
fn root() -> PathBuf {
    let here = PathBuf::from(".");
    match local::git(&here, &["rev-parse", "--show-toplevel"]) {
        Some(top) if !here.join("ordotaxis.toml").exists() && !here.join("ordotaxis").is_dir() => PathBuf::from(top),
        _ => here,
    }
}

fn cannot(what: &str, error: &dyn std::fmt::Display) -> Failure {
    Failure::new(
        1,
        format!("the rehearsal could not make {what}: {error}"),
        "see that the folder for temporary files is writable and has room",
    )
}

/// What the jobs ask for: the rehearsal's runner has every label, and secrets are variables here.
struct Wants {
    labels: BTreeSet<String>,
    secrets: BTreeSet<String>,
}

/// Plans once before anything is raised: mistakes cost nothing.
async fn planned(file: &Path, text: &str, occasion: &Occasion) -> Result<Option<Wants>, Failure> {
    let name = file.display().to_string();
    let borrowed = local::fetch_borrowed(text).await;
    let planned = match make_plan(Source { text, name: &plan::pipeline_name(file), borrowed: &borrowed }, occasion) {
        Ok(planned) => planned,
        Err(diagnostics) => {
            check::print(&name, text, &diagnostics)?;
            return Ok(None);
        }
    };
    let jobs = planned.plan.jobs.iter();
    let secrets = jobs.clone().filter_map(|job| job.extras.as_ref()).flat_map(|extras| extras.secrets.clone()).collect();
    Ok(Some(Wants { labels: jobs.flat_map(|job| job.labels.clone()).collect(), secrets }))
}

fn announce(ask: &Ask, occasion: &Occasion, copy: &Copy, isolation: Isolation) {
    let changes = match &copy.changed {
        None => "not under git".to_owned(),
        Some(changed) if changed.is_empty() => "as committed".to_owned(),
        Some(changed) => format!("with {}", counted(changed.len(), "uncommitted change")),
    };
    let what = if ask.jobs.is_empty() { ask.pipeline.clone() } else { format!("{} and what it takes", ask.jobs.join(", ")) };
    out::print(out::dim(&format!(
        "rehearses {what} for {}, in a copy of this folder ({changes}), isolation {}",
        occasion.words(),
        isolation.word()
    )));
}

/// The working tree as a commit of a repository of its own.
struct Copy {
    repository: PathBuf,
    branch: String,
    project: String,
    /// What differs from the last commit; none outside of git or before the first one.
    changed: Option<Vec<String>>,
}

impl Copy {
    fn of(root: &Path, place: &Path, occasion: &Occasion) -> Result<Copy, Failure> {
        let root = root.canonicalize().map_err(|error| cannot("a copy of this folder", &error))?;
        let repository = place.join("tree.git");
        let branch = occasion.branch().unwrap_or("main").to_owned();
        let top = local::git(&root, &["rev-parse", "--show-toplevel"]).and_then(|top| Path::new(&top).canonicalize().ok());
        // A folder below the top of a repository is a tree of its own: the last commit says nothing about it.
        let head = local::git(&root, &["rev-parse", "--quiet", "--verify", "HEAD^{commit}"]).filter(|_| top.as_ref() == Some(&root));
        let run = |args: &[&str]| -> Result<String, Failure> {
            let mut command = Command::new("git");
            command.arg("--git-dir").arg(&repository).args(["-c", "core.autocrlf=false"]).args(args);
            command.current_dir(&root).env_remove("GIT_WORK_TREE").env_remove("GIT_INDEX_FILE");
            for (name, value) in [("NAME", "rehearsal"), ("EMAIL", "rehearsal@localhost")] {
                command.env(format!("GIT_AUTHOR_{name}"), value).env(format!("GIT_COMMITTER_{name}"), value);
            }
            let output = command.output().map_err(|error| cannot("a copy of this folder", &error))?;
            match output.status.success() {
                true => Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned()),
                false => Err(cannot("a copy of this folder", &String::from_utf8_lossy(&output.stderr).trim())),
            }
        };
        run(&["init", "--quiet", "--bare"])?;
        // What is committed already is read from the repository itself; only the rest is copied.
        if let Some(objects) = local::git(&root, &["rev-parse", "--path-format=absolute", "--git-path", "objects"]) {
            let path = repository.join("objects/info/alternates");
            std::fs::write(path, format!("{objects}\n")).map_err(|error| cannot("a copy of this folder", &error))?;
        }
        run(&["--work-tree", ".", "add", "--all", "."])?;
        let tree = run(&["write-tree"])?;
        let message = "the working tree as it is";
        let commit = match &head {
            // Nothing is uncommitted: the commit itself, with its time.
            Some(head) if run(&["rev-parse", &format!("{head}^{{tree}}")])? == tree => head.clone(),
            Some(head) => run(&["commit-tree", &tree, "-p", head, "-m", message])?,
            None => run(&["commit-tree", &tree, "-m", message])?,
        };
        run(&["update-ref", &format!("refs/heads/{branch}"), &commit])?;
        if let Some(tag) = occasion.tag_name() {
            run(&["update-ref", &format!("refs/tags/{tag}"), &commit])?;
        }
        let changed = match &head {
            Some(head) => Some(run(&["-c", "core.quotepath=off", "diff-tree", "-r", "--name-only", "--no-commit-id", head, &commit])?),
            None => None,
        };
        let name = root.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
        let project: String =
            name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' || c == '_' { c } else { '-' }).take(60).collect();
        let project = if project.is_empty() { "rehearsal".to_owned() } else { project };
        Ok(Copy { repository, branch, project, changed: changed.map(|text| text.lines().map(str::to_owned).collect()) })
    }
}

/// A rehearsal gives jobs its secrets whatever it plays.
fn anywhere() -> ReachAsk {
    let all = || Some(vec!["**".to_owned()]);
    ReachAsk { branches: all(), tags: all(), pipelines: None }
}

/// A service of the rehearsal's own.
struct Stage {
    api: Api,
    leave: Leave,
    stop: CancellationToken,
    service: tokio::task::JoinHandle<()>,
}

impl Stage {
    async fn raise(place: &Path, occasion: Occasion, leave: Leave) -> Result<Stage, Failure> {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.map_err(|error| cannot("a service", &error))?;
        let address = listener.local_addr().map_err(|error| cannot("a service", &error))?;
        // Whoever rehearses may read what they may read: it is their own pipeline, run as themselves.
        let settings =
            Settings { rehearsal: Some(occasion), local_git: vec!["/".into()], near_git: true, ..Settings::new(place.join("service")) };
        let stop = CancellationToken::new();
        let (tell, told) = oneshot::channel();
        let (first, second) = (stop.clone(), stop.clone());
        let service = tokio::spawn(async move {
            let shutdown = Shutdown { first: async move { first.cancelled().await }, second: async move { second.cancelled().await } };
            let token = |token: &str| {
                let _ = tell.send(token.to_owned());
            };
            if let Err(error) = run_service(settings, listener, shutdown, token).await {
                out::remark(format!("the rehearsal's service ended: {error}"));
            }
        });
        let token = told.await.map_err(|error| cannot("a service", &error))?;
        Ok(Stage { api: Api::with(format!("http://{address}"), token)?, leave, stop, service })
    }

    async fn runner(
        &mut self,
        place: &Path,
        ask: &Ask,
        labels: BTreeSet<String>,
        isolation: Isolation,
    ) -> Result<tokio::task::JoinHandle<()>, Failure> {
        // For any labels that its jobs ask for, and also for a played proposal from outside.
        let grant = RunnerGrant { labels: labels.into_iter().collect(), projects: None, outside: Taking::Yes };
        let invitation: Invitation = self.api.post("runner-invitations", &Invite { grant, expires_ms: None }).await?;
        let identity = enrol(&self.api.url, &invitation.token, "here").await.map_err(|error| cannot("a runner", &error))?;
        let settings = RunnerSettings {
            folder: place.join("runner"),
            slots: ask.slots,
            isolation,
            config: Config::default(),
            once: false,
            mounts: ask.mounts,
            rehearses: true,
        };
        let leave = self.leave.clone();
        Ok(tokio::spawn(async move {
            if let Err(error) = work(identity, settings, leave, |_, _| ()).await {
                out::remark(format!("the rehearsal's runner ended: {error}"));
            }
        }))
    }

    async fn play(&self, copy: &Copy, ask: &Ask, secrets: &BTreeSet<String>) -> Result<ExitCode, Failure> {
        let api = &self.api;
        let git_url = copy.repository.display().to_string();
        let project = NewProject { name: copy.project.clone(), git_url, main_branch: Some(copy.branch.clone()), login: None, forge: None };
        let _: ProjectView = api.post("projects", &project).await?;
        let run = SetOutside { outside: "run".to_owned() };
        api.send(api.request(reqwest::Method::PUT, &format!("projects/{}/outside", copy.project)).json(&run)).await?;
        for (name, value) in secrets.iter().filter_map(|name| Some((name, std::env::var(name).ok()?))) {
            let path = format!("projects/{}/secrets/{name}", copy.project);
            api.send(api.request(reqwest::Method::PUT, &path).json(&NewSecret { value, reach: anywhere() })).await?;
        }
        let start = NewRun {
            reference: Some(copy.branch.clone()),
            pipeline: Some(ask.pipeline.clone()),
            jobs: ask.jobs.clone(),
            ..NewRun::default()
        };
        let run: RunView = api.post(&format!("projects/{}/runs", copy.project), &start).await?;
        let reference = RunRef::numbered(&run.project, run.number);
        let done = watch::watch_here(api, &reference, ask.json).await;
        if let Some(keep) = &ask.keep {
            self.keep(&run, keep).await?;
        }
        done
    }

    /// Artifacts below `STAGE.NAME/ARTIFACT`, logs below `logs`.
    async fn keep(&self, run: &RunView, keep: &Path) -> Result<(), Failure> {
        let base = format!("runs/{}/{}", run.project, run.number);
        let all: Vec<ArtifactView> = self.api.get(&format!("{base}/artifacts")).await?;
        for artifact in &all {
            let to = keep.join(artifact.job.as_str()).join(&artifact.name);
            std::fs::create_dir_all(&to).map_err(|error| cannot("the folder to keep things in", &error))?;
            artifacts::fetch(&self.api, artifact, &to, true).await?;
        }
        let view: RunView = self.api.get(&base).await?;
        let folder = keep.join("logs");
        std::fs::create_dir_all(&folder).map_err(|error| cannot("the folder to keep things in", &error))?;
        for job in view.jobs.iter().flatten().filter(|job| !job.attempts.is_empty()) {
            let log = logs::part(&self.api, &run.project, run.number, job.id.as_str(), None, "").await?;
            std::fs::write(folder.join(format!("{}.log", job.id)), log.bytes).map_err(|error| cannot("a log", &error))?;
        }
        out::remark(format!("{} and the logs are kept in {}", counted(all.len(), "artifact"), keep.display()));
        Ok(())
    }
}
