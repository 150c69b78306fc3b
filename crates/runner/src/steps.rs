//! A job's commands: helpers beside, the steps, and what comes afterwards.

use crate::beneath::is_link_error;
use crate::beside::{self, Place, Running};
use crate::broken::{Broken, failed};
use crate::isolation::{Inside, SHELL};
use crate::job::Job;
use crate::processes::mark_to_end;
use crate::step::{Halt, StepCall, StepEnd, run_step};
use crate::workspace::Workspace;
use ordotaxis_core::language::{Helper, Step};
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::words;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::sync::watch;
use tokio::time::Instant;

/// How long all of `afterwards` may take: it also runs after a stop, when someone waits for the end.
const AFTERWARDS: Duration = Duration::from_secs(300);

/// Whose time limit a step runs under.
struct Limit {
    until: Option<Instant>,
    whose: &'static str,
    ms: Option<u64>,
}

fn command_of(shell: Option<&str>, run: &str) -> Vec<String> {
    let shell = shell.unwrap_or(SHELL).split_whitespace().map(str::to_owned);
    shell.chain(["-c".to_owned(), run.to_owned()]).collect()
}

impl Job<'_> {
    /// Starts every helper and waits until each is ready.
    pub(crate) async fn start_beside(&mut self, env: &[(String, String)]) -> Result<(), Broken> {
        for helper in self.lease.beside.clone() {
            self.check_halt()?;
            self.begin(&helper.name, PhaseKind::Beside).await;
            let done = self.start_helper(&helper, env).await;
            self.end(done.is_err(), None);
            done?;
        }
        Ok(())
    }

    async fn start_helper(&mut self, helper: &Helper, env: &[(String, String)]) -> Result<(), Broken> {
        let command = command_of(None, &helper.run);
        let log = self.shipper.beside(&helper.name);
        let inside = || Inside { dir: self.fence().files_inside(), command: &command, env, secrets: &self.secrets };
        let running = beside::start(helper, Place { fence: self.fence(), inside: inside(), log }).map_err(failed)?;
        let tries = |ready: String| {
            let command = command_of(None, &ready);
            let inside = Inside { dir: self.fence().files_inside(), command: &command, env, secrets: &self.secrets };
            let built = self.fence().command(&inside).map(|mut built| {
                built.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).kill_on_drop(true);
                built
            });
            async move {
                match built {
                    Ok(mut built) => built.status().await.is_ok_and(|status| status.success()),
                    Err(_) => false,
                }
            }
        };
        let mut halt = self.halt.clone();
        let ready = tokio::select! {
            ready = running.ready(helper, self.fence(), tries) => ready,
            _ = halt.wait_for(|halt| *halt != Halt::No) => Ok(()),
        };
        self.helpers.push(running);
        ready.map_err(failed)?;
        self.check_halt()
    }

    /// Ends the helpers, the last first.
    pub(crate) async fn stop_beside(&mut self) {
        let outside = !self.fence().is_host();
        while let Some(helper) = self.helpers.pop() {
            // What ends a fenced process is sent to the process itself: the fence would end it without asking.
            let last = self.helpers.is_empty();
            let mark = self.mark.clone();
            helper
                .stop(|| {
                    if outside && last {
                        mark_to_end(&mark)
                    }
                })
                .await;
        }
    }

    /// Runs one step of a job. An error when it fails, or the job is to end.
    pub(crate) async fn step(
        &mut self,
        workspace: &Workspace,
        step: &Step,
        env: &[(String, String)],
        kind: PhaseKind,
    ) -> Result<(), Broken> {
        self.check_halt()?;
        let limit = self.limit(step, self.until, "the job's", self.lease.timeout_ms);
        let (end, died) = self.run(workspace, step, env, kind, &limit, self.halt.clone()).await;
        if let Some(died) = died {
            return Err(failed(format!("{died}, while step {} ran", named(step))));
        }
        self.judge(step, end, &limit)
    }

    /// One look by a command: as a step, in so much time; without a kind within the phase that goes on.
    pub(crate) async fn look(
        &mut self,
        workspace: &Workspace,
        step: &Step,
        env: &[(String, String)],
        within: Duration,
        kind: Option<PhaseKind>,
    ) -> Result<(), Broken> {
        self.check_halt()?;
        let until = Some(Instant::now() + within).into_iter().chain(self.until).min();
        let limit = Limit { until, whose: "the check's", ms: u64::try_from(within.as_millis()).ok() };
        let (end, _) = match kind {
            Some(kind) => self.run(workspace, step, env, kind, &limit, self.halt.clone()).await,
            None => self.command(workspace, step, env, &limit, self.halt.clone()).await,
        };
        self.judge(step, end, &limit)
    }

    fn limit(&self, step: &Step, outer: Option<Instant>, whose: &'static str, ms: Option<u64>) -> Limit {
        let own = step.timeout_ms.map(|ms| Instant::now() + Duration::from_millis(ms));
        match (own, outer) {
            (Some(own), outer) if outer.is_none_or(|outer| own <= outer) => Limit { until: Some(own), whose: "its", ms: step.timeout_ms },
            _ => Limit { until: outer, whose, ms },
        }
    }

    /// Runs one command as a phase.
    async fn run(
        &mut self,
        workspace: &Workspace,
        step: &Step,
        env: &[(String, String)],
        kind: PhaseKind,
        limit: &Limit,
        halt: watch::Receiver<Halt>,
    ) -> (StepEnd, Option<String>) {
        self.begin(&step.name, kind).await;
        let (end, died) = self.command(workspace, step, env, limit, halt).await;
        let code = if let StepEnd::Exited(code) = end { Some(code) } else { None };
        self.end(end != StepEnd::Exited(0), code);
        (end, died)
    }

    /// Runs one command. A helper that dies meanwhile ends it; then the second says how.
    async fn command(
        &mut self,
        workspace: &Workspace,
        step: &Step,
        env: &[(String, String)],
        limit: &Limit,
        mut halt: watch::Receiver<Halt>,
    ) -> (StepEnd, Option<String>) {
        let mut env = env.to_vec();
        env.extend(self.traceparent(&env));
        env.extend(step.env.iter().map(|(name, value)| (name.clone(), value.clone())));
        let command = command_of(step.shell.as_deref(), &step.run);
        let wanted = Path::new(step.dir.as_deref().unwrap_or("."));
        let dir: PathBuf = self.fence().files_inside().join(wanted).components().collect();
        let (end, died) = if may_be_folder(workspace, wanted) {
            let inside = Inside { dir: &dir, command: &command, env: &env, secrets: &self.secrets };
            let Some(fence) = &self.fence else { return (StepEnd::NotStarted("the job has no fence".into()), None) };
            let call = StepCall { fence, inside, mark: &self.mark, until: limit.until };
            let (cut, mut cut_halt) = watch::channel(Halt::No);
            let death = first_death(&self.helpers);
            tokio::pin!(death);
            let running = run_step(call, &mut self.shipper.log, &mut cut_halt);
            tokio::pin!(running);
            let mut died = None;
            let end = loop {
                tokio::select! {
                    end = &mut running => break end,
                    how = &mut death, if died.is_none() => {
                        died = Some(how);
                        cut.send_replace(Halt::Cut);
                    }
                    halted = next_halt(&mut halt, *cut.borrow()) => drop(cut.send_replace(halted)),
                }
            };
            // A helper that ends just as the step does has done what it was there for.
            (end.clone(), died.filter(|_| end == StepEnd::Halted))
        } else {
            (StepEnd::NotStarted(format!("there is no folder `{}`", step.dir.as_deref().unwrap_or("."))), None)
        };
        self.shipper.log.flush_held_back().await;
        (end, died)
    }

    /// The place of the phase that goes on in its run's trace, for tools that join it; none where the job says its own.
    fn traceparent(&self, env: &[(String, String)]) -> Option<(String, String)> {
        const NAME: &str = "TRACEPARENT";
        let parent = self.lease.parent?.of_phase(self.phases.len().checked_sub(1)?)?;
        (!env.iter().any(|(name, _)| name == NAME)).then(|| (NAME.to_owned(), parent.to_string()))
    }

    fn judge(&self, step: &Step, end: StepEnd, limit: &Limit) -> Result<(), Broken> {
        let name = named(step);
        let (why, exit_code) = match end {
            StepEnd::Exited(0) => return Ok(()),
            StepEnd::Halted => {
                self.check_halt()?;
                return Err(Broken::Stopped);
            }
            StepEnd::Exited(_) | StepEnd::Signalled(_) if self.fence().out_of_memory() => {
                let limit = self.fence().memory_mib().unwrap_or(0);
                let asked = self.lease.capacity.memory_mib;
                let whose =
                    if asked > 0 && u64::from(asked) == limit { "the memory that the job asks for," } else { "the runner's limit of" };
                let each = if whose.starts_with("the runner") { " a job" } else { "" };
                (format!("step {name} used more memory than {whose} {limit} MiB{each}"), None)
            }
            StepEnd::Exited(code) => (format!("step {name} exited with {code}"), Some(code)),
            StepEnd::Signalled(signal) => (format!("step {name} was ended by signal {signal}"), None),
            StepEnd::NotStarted(why) => (format!("step {name}: {why}"), None),
            StepEnd::TimedOut => {
                let ms = words::duration(i64::try_from(limit.ms.unwrap_or(0)).unwrap_or(i64::MAX));
                return Err(Broken::TimedOut(format!("step {name} went past {} time limit of {ms}", limit.whose)));
            }
        };
        if step.may_fail { Ok(()) } else { Err(Broken::Failed { why, exit_code }) }
    }

    /// The machine is about to be taken away: steps that save what was done so far, and caches that are saved in any case.
    pub(crate) async fn checkpoint(&mut self, workspace: &Workspace, env: &[(String, String)]) {
        let until = Instant::now() + AFTERWARDS;
        for step in self.lease.checkpoint.clone() {
            let limit = self.limit(&step, Some(until), "the checkpoint's", None);
            let (end, _) = self.run(workspace, &step, env, PhaseKind::Checkpoint, &limit, self.given_up.clone()).await;
            if end != StepEnd::Exited(0) || *self.given_up.borrow() != Halt::No {
                return;
            }
        }
        self.save_caches(workspace, false).await;
    }

    /// Steps for after the others, however those ended: only an attempt that was given up has none. A failure here makes
    /// a passed job fail; of a failed one the first reason stays.
    pub(crate) async fn afterwards(
        &mut self,
        workspace: &Workspace,
        env: &[(String, String)],
        done: Result<(), Broken>,
    ) -> Result<(), Broken> {
        let which: &[&str] = match &done {
            Ok(()) => &["passed", "always"],
            Err(Broken::Failed { .. } | Broken::TimedOut(_)) => &["failed", "always"],
            Err(Broken::Stopped) => &["always"],
            Err(Broken::GivenUp | Broken::TakenAway) => return done,
        };
        let steps: Vec<Step> = which.iter().filter_map(|when| self.lease.afterwards.get(*when)).flatten().cloned().collect();
        let until = Instant::now() + AFTERWARDS;
        let ms = u64::try_from(AFTERWARDS.as_millis()).ok();
        let mut result = done;
        for step in steps {
            let limit = self.limit(&step, Some(until), "the afterwards'", ms);
            let (end, _) = self.run(workspace, &step, env, PhaseKind::After, &limit, self.given_up.clone()).await;
            if *self.given_up.borrow() != Halt::No {
                return Err(Broken::GivenUp);
            }
            let judged = self.judge(&step, end, &limit);
            result = result.and(judged.map_err(|broken| broken.after()));
        }
        result
    }
}

/// Whether a step can be run in this folder of the job's. For a folder behind a link only the fence can say.
fn may_be_folder(workspace: &Workspace, path: &Path) -> bool {
    match workspace.folders.job().map(|job| job.folder(path)) {
        Ok(Err(error)) => is_link_error(&error),
        Ok(Ok(_)) => true,
        Err(_) => false,
    }
}

fn named(step: &Step) -> String {
    format!("`{}`", step.name)
}

/// How the first helper to die did; pends while all live.
async fn first_death(helpers: &[Running]) -> String {
    let mut waits: Vec<_> = helpers.iter().map(|helper| Box::pin(helper.died())).collect();
    std::future::poll_fn(|context| {
        let found = waits.iter_mut().find_map(|wait| match wait.as_mut().poll(context) {
            std::task::Poll::Ready(how) => Some(how),
            std::task::Poll::Pending => None,
        });
        found.map_or(std::task::Poll::Pending, std::task::Poll::Ready)
    })
    .await
}

/// The next word that is not the one already passed on.
async fn next_halt(halt: &mut watch::Receiver<Halt>, known: Halt) -> Halt {
    if let Ok(halt) = halt.wait_for(|halt| *halt != Halt::No && *halt != known).await {
        return *halt;
    }
    std::future::pending().await
}
