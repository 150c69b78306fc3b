//! What must stay well in the first cells of a roll-out: looked at from time to time, for as long as the file says.

use crate::ask::ask_from;
use crate::broken::{Broken, failed};
use crate::job::Job;
use crate::look::{judged, look_step};
use crate::step::Halt;
use crate::workspace::Workspace;
use ordotaxis_core::language::Watch;
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::words;
use std::time::Duration;
use tokio::time::{Instant, timeout};

/// The least and the most that one look may take, however far apart they are.
const LOOK: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

impl Job<'_> {
    /// Looks until the time is over, or too many looks were bad. One phase, in whose log each change is said.
    pub(crate) async fn watch(&mut self, workspace: &Workspace, env: &[(String, String)]) -> Result<(), Broken> {
        let Some(watch) = self.lease.watch.clone() else { return Ok(()) };
        let asked = watch.url.clone().or(watch.run.clone()).unwrap_or_default();
        self.begin(&format!("watch {asked}"), PhaseKind::Watch).await;
        let done = self.watch_for(workspace, &watch, &asked, env).await;
        self.end(done.is_err(), None);
        done
    }

    async fn watch_for(&mut self, workspace: &Workspace, watch: &Watch, asked: &str, env: &[(String, String)]) -> Result<(), Broken> {
        let (begun, every) = (Instant::now(), Duration::from_millis(watch.every_ms));
        let until = begun + Duration::from_millis(watch.for_ms);
        let (mut bad, mut looks, mut last) = (0, 0_u32, None);
        loop {
            self.check_halt()?;
            let look = self.look_once(workspace, watch, env).await?;
            looks += 1;
            let line = match &look {
                Ok(said) => format!("well: {said}"),
                Err(why) => {
                    bad += 1;
                    format!("bad, {bad} of {}: {why}", watch.bad)
                }
            };
            if look.is_err() || last != Some(true) {
                self.shipper.log.say(&line).await;
            }
            last = Some(look.is_ok());
            if let Err(why) = look
                && bad >= watch.bad
            {
                let long = words::duration(i64::try_from(begun.elapsed().as_millis()).unwrap_or(i64::MAX));
                return Err(failed(format!("the watch failed: {bad} of {looks} looks at {asked} in {long} were bad: {why}")));
            }
            let now = Instant::now();
            if now >= until {
                return Ok(());
            }
            self.in_time(asked)?;
            self.pause(every.min(until - now)).await;
        }
    }

    /// Until then, or until the job is to end.
    async fn pause(&self, length: Duration) {
        let mut halt = self.halt.clone();
        let _ = timeout(length, halt.wait_for(|halt| *halt != Halt::No)).await;
    }

    /// In words, either way. An error: the job is to end.
    async fn look_once(
        &mut self,
        workspace: &Workspace,
        watch: &Watch,
        env: &[(String, String)],
    ) -> Result<Result<String, String>, Broken> {
        let within = Duration::from_millis(watch.every_ms).clamp(LOOK.0, LOOK.1);
        if let Some(url) = &watch.url {
            if !self.lease.network {
                return Ok(Err("it asks an address, and the job has no network to ask it from".to_owned()));
            }
            let answer = match timeout(within, ask_from(url, self.fence().lookout())).await {
                Ok(answer) => answer,
                Err(_) => Err("it did not answer in time".to_owned()),
            };
            return Ok(judged(answer, watch.says.as_deref()));
        }
        let step = look_step("watch", watch.run.as_deref().unwrap_or_default());
        match self.look(workspace, &step, env, within, None).await {
            Ok(()) => Ok(Ok("it ended with 0".to_owned())),
            Err(Broken::Failed { why, .. } | Broken::TimedOut(why)) => Ok(Err(why)),
            Err(other) => Err(other),
        }
    }
}
