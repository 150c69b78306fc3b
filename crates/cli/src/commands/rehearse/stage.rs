//! The service and the runner of a rehearsal, both in this process.

use super::ask::{Ask, Wants, cannot};
use super::copy::Copy;
use super::folders::{Folders, KEPT_EACH, RUNNER};
use crate::api::Api;
use crate::commands::{artifacts, logs};
use crate::failure::Failure;
use crate::out;
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::language::{connection_stem, counted};
use ordotaxis_core::plan::Occasion;
use ordotaxis_runner::{Config, Isolation, Leave, Rehearses, Settings as RunnerSettings, enrol, work};
use ordotaxis_service::{Rehearsal, Settings, Shutdown, serve as run_service};
use ordotaxis_wire::artifact::ArtifactView;
use ordotaxis_wire::fleet::{Invitation, Invite, RunnerGrant, RunnerView};
use ordotaxis_wire::project::{NewProject, ProjectView, SetOutside};
use ordotaxis_wire::run::{NewRun, RunView, StartJob};
use ordotaxis_wire::secret::{NewConnection, NewSecret, ReachAsk};
use std::collections::BTreeMap;
use std::path::Path;
use tokio::sync::oneshot;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// A rehearsal gives jobs its secrets whatever it plays.
fn anywhere() -> ReachAsk {
    let all = || Some(vec!["**".to_owned()]);
    ReachAsk { branches: all(), tags: all(), pipelines: None }
}

/// A service of the rehearsal's own, and its runner.
pub(super) struct Stage {
    pub(super) api: Api,
    leave: Leave,
    stop: CancellationToken,
    service: JoinHandle<()>,
    runner: Option<JoinHandle<()>>,
}

impl Stage {
    pub(super) async fn raise(folders: &Folders, occasion: Occasion, anyway: bool) -> Result<Stage, Failure> {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.map_err(|error| cannot("a service", &error))?;
        let address = listener.local_addr().map_err(|error| cannot("a service", &error))?;
        let rehearsal = Rehearsal { occasion, kept: folders.kept().map(Path::to_owned), anyway };
        // Whoever rehearses may read what they may read: it is their own pipeline, run as themselves.
        let settings = Settings {
            rehearsal: Some(rehearsal),
            local_git: vec!["/".into()],
            near_git: true,
            store_limit: Some(KEPT_EACH),
            ..Settings::new(folders.live().join("service"))
        };
        let stop = CancellationToken::new();
        let (tell, told) = oneshot::channel();
        let (first, second) = (stop.clone(), stop.clone());
        let service = tokio::spawn(async move {
            let shutdown = Shutdown { first: async move { first.cancelled().await }, second: async move { second.cancelled().await } };
            let token = |token: &str| {
                let _ = tell.send(token.to_owned());
            };
            if let Err(error) = run_service(settings, listener, shutdown, token, || {}).await {
                out::remark(format!("the rehearsal's service ended: {error}"));
            }
        });
        let token = told.await.map_err(|error| cannot("a service", &error))?;
        Ok(Stage { api: Api::with(format!("http://{address}"), token)?, leave: Leave::default(), stop, service, runner: None })
    }

    /// Starts the runner. Gives what it has to offer, once it is there.
    pub(super) async fn start_runner(
        &mut self,
        folders: &Folders,
        ask: &Ask,
        wants: &Wants,
        isolation: Isolation,
    ) -> Result<RunnerView, Failure> {
        // For any labels that its jobs ask for, and also for a played proposal from outside.
        let grant = RunnerGrant { labels: wants.labels.iter().cloned().collect(), projects: None, outside: Taking::Yes };
        let invitation: Invitation = self.api.post("runner-invitations", &Invite { grant, expires_ms: None }).await?;
        let identity = enrol(&self.api.url, &invitation.token, "here").await.map_err(|error| cannot("a runner", &error))?;
        let settings = RunnerSettings {
            folder: folders.live().join(RUNNER),
            slots: ask.slots,
            isolation,
            config: Config::default(),
            jobs: None,
            patience: None,
            mounts: ask.mounts,
            rehearses: if ask.anyway { Rehearses::Anyway } else { Rehearses::Yes },
        };
        let leave = self.leave.clone();
        let (tell, told) = oneshot::channel();
        self.runner = Some(tokio::spawn(async move {
            let ready = |_: &[String], _: &str| {
                let _ = tell.send(());
            };
            if let Err(error) = work(identity, settings, leave, ready).await {
                out::remark(format!("the rehearsal's runner ended: {error}"));
            }
        }));
        told.await.map_err(|_| cannot("a runner", &"it ended before it began"))?;
        let runners: Vec<RunnerView> = self.api.get("runners").await?;
        runners.into_iter().next().ok_or_else(|| cannot("a runner", &"it is not there"))
    }

    /// Begins the run, with the values of secrets that have a variable here.
    pub(super) async fn begin(&self, copy: &Copy, ask: &Ask, wants: &Wants) -> Result<RunView, Failure> {
        let api = &self.api;
        let git_url = copy.repository.display().to_string();
        let project = NewProject {
            name: copy.project.clone(),
            git_url,
            main_branch: Some(copy.branch.clone()),
            login: None,
            forge: None,
            look: None,
        };
        let _: ProjectView = api.post("projects", &project).await?;
        let run = SetOutside { outside: "run".to_owned() };
        api.send(api.request(reqwest::Method::PUT, &format!("projects/{}/outside", copy.project)).json(&run)).await?;
        for (name, value) in wants.secrets.iter().filter_map(|name| Some((name, std::env::var(name).ok()?))) {
            let path = format!("projects/{}/secrets/{name}", copy.project);
            api.send(api.request(reqwest::Method::PUT, &path).json(&NewSecret { value, reach: anywhere() })).await?;
        }
        for name in &wants.connections {
            let variable = |end: &str| std::env::var(format!("{}_{end}", connection_stem(name))).ok();
            let Some(password) = variable("PASSWORD") else { continue };
            let connection =
                NewConnection { user: variable("USER").unwrap_or_default(), address: variable("ADDRESS"), password, reach: anywhere() };
            let path = format!("projects/{}/connections/{name}", copy.project);
            api.send(api.request(reqwest::Method::PUT, &path).json(&connection)).await?;
        }
        let start = NewRun {
            reference: Some(copy.branch.clone()),
            pipeline: Some(ask.pipeline.clone()),
            jobs: ask.jobs.clone(),
            ..NewRun::default()
        };
        api.post(&format!("projects/{}/runs", copy.project), &start).await
    }

    /// Starts jobs that start by hand only. Gives those that cannot be started yet, each with why.
    pub(super) async fn start(&self, run: &RunView, jobs: Vec<String>, inputs: &BTreeMap<String, String>) -> Vec<(String, String)> {
        let mut left = Vec::new();
        for job in jobs {
            let start = StartJob { job: job.clone(), inputs: inputs.clone() };
            let started: Result<RunView, Failure> = self.api.post(&format!("runs/{}/{}/start", run.project, run.number), &start).await;
            if let Err(error) = started {
                left.push((job, error.what().to_owned()));
            }
        }
        left
    }

    /// Ends what still runs.
    pub(super) async fn end_runner(&mut self) {
        self.leave.at_once.cancel();
        self.leave.soon.cancel();
        if let Some(runner) = self.runner.take() {
            let _ = runner.await;
        }
    }

    /// Ends the service: what jobs cached is kept then.
    pub(super) async fn close(self) {
        self.stop.cancel();
        let _ = self.service.await;
    }

    /// Artifacts below `STAGE.NAME/ARTIFACT`, logs below `logs`.
    pub(super) async fn keep(&self, run: &RunView, keep: &Path) -> Result<(), Failure> {
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
