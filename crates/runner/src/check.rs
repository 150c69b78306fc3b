//! What must be well after the steps of a job that deploys: asked again and again, until it is well and stays so.

use crate::ask::ask_from;
use crate::broken::{Broken, failed};
use crate::job::Job;
use crate::look::{judged, look_step};
use crate::workspace::Workspace;
use ordotaxis_wire::run::PhaseKind;
use ordotaxis_wire::runner::LeaseCheck;
use ordotaxis_wire::words;
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// The pause between two looks.
const LOOK: Duration = Duration::from_millis(250);

impl Job<'_> {
    /// All that follows the steps of a job that deploys: the check, the watch of a roll-out's first cells, and where there
    /// are two sides the switch.
    pub(crate) async fn followed(&mut self, workspace: &Workspace, env: &[(String, String)]) -> Result<(), Broken> {
        self.check(workspace, env, false).await?;
        self.watch(workspace, env).await?;
        for step in &self.lease.switch.clone() {
            self.step(workspace, step, env, PhaseKind::Switch).await?;
        }
        self.check(workspace, env, true).await
    }

    /// Asks until the first good answer, then for as long as it is to stay good.
    async fn check(&mut self, workspace: &Workspace, env: &[(String, String)], switched: bool) -> Result<(), Broken> {
        let Some(check) = self.lease.check.clone().filter(|check| check.switched == switched) else { return Ok(()) };
        if let Some(run) = &check.run {
            return self.check_by_command(workspace, run, &check, env).await;
        }
        let Some(url) = &check.url else { return Ok(()) };
        self.begin(&format!("check {url}"), PhaseKind::Check).await;
        let done = if self.lease.network {
            self.until_well(url, &check).await
        } else {
            Err(failed("the check asks an address, and the job has no network to ask it from".to_owned()))
        };
        self.end(done.is_err(), None);
        done
    }

    async fn until_well(&mut self, url: &str, check: &LeaseCheck) -> Result<(), Broken> {
        let mut times = Times::new(check, Instant::now());
        let mut last = None;
        loop {
            self.check_halt()?;
            let look = judged(ask_from(url, self.fence().lookout()).await, check.says.as_deref());
            if last.as_ref() != Some(&look) {
                let line = match &look {
                    Ok(said) => format!("well: {said}"),
                    Err(why) => format!("not well: {why}"),
                };
                self.shipper.log.say(&line).await;
            }
            let told = match &look {
                Ok(said) | Err(said) => self.shipper.masked(said),
            };
            self.answer = Some(told);
            match times.after(look.is_ok(), Instant::now()) {
                Some(true) => return Ok(()),
                Some(false) => return Err(failed(times.why(url, look.err().unwrap_or_default()))),
                None => self.in_time(url)?,
            }
            last = Some(look);
            sleep(LOOK).await;
        }
    }

    /// A command is well when it ends with 0; each try is a phase of its own.
    async fn check_by_command(
        &mut self,
        workspace: &Workspace,
        run: &str,
        check: &LeaseCheck,
        env: &[(String, String)],
    ) -> Result<(), Broken> {
        let step = look_step("check", run);
        let mut times = Times::new(check, Instant::now());
        loop {
            let look = self.look(workspace, &step, env, times.left(), Some(PhaseKind::Check)).await;
            let (well, why) = match look {
                Ok(()) => (true, String::new()),
                Err(Broken::Failed { why, .. } | Broken::TimedOut(why)) => (false, why),
                Err(other) => return Err(other),
            };
            self.answer = Some(if well { "it ended with 0".to_owned() } else { why.clone() });
            let over = self.in_time(run);
            match times.after(well, Instant::now()) {
                Some(true) => return Ok(()),
                Some(false) => return Err(over.err().unwrap_or_else(|| failed(times.why(run, why)))),
                None => over?,
            }
            sleep(LOOK).await;
        }
    }
}

/// Until when a first good answer may come, and how long it must stay good from then on.
struct Times {
    begun: Instant,
    until: Instant,
    lasts: Duration,
    well_since: Option<Instant>,
}

impl Times {
    fn new(check: &LeaseCheck, begun: Instant) -> Times {
        let until = begun + Duration::from_millis(check.within_ms);
        Times { begun, until, lasts: Duration::from_millis(check.for_ms), well_since: None }
    }

    /// What follows from one more look: it is well, it is not, or none: look again.
    fn after(&mut self, well: bool, now: Instant) -> Option<bool> {
        match (well, self.well_since) {
            (true, None) => {
                self.well_since = Some(now);
                self.lasts.is_zero().then_some(true)
            }
            (true, Some(since)) => (now - since >= self.lasts).then_some(true),
            (false, Some(_)) => Some(false),
            (false, None) => (now >= self.until).then_some(false),
        }
    }

    /// How long one look may take.
    fn left(&self) -> Duration {
        let until = self.well_since.map_or(self.until, |since| since + self.lasts);
        until.saturating_duration_since(Instant::now()).max(Duration::from_secs(1))
    }

    fn why(&self, asked: &str, said: String) -> String {
        let ms = |length: Duration| words::duration(i64::try_from(length.as_millis()).unwrap_or(i64::MAX));
        match self.well_since {
            Some(since) => format!("the check failed: {asked} was well, and {} later was not: {said}", ms(since.elapsed())),
            None => format!("the check failed: {asked} was not well within {}: {said}", ms(self.until - self.begun)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_well_must_stay_well() {
        let begun = Instant::now();
        let times =
            |within_ms, for_ms| Times::new(&LeaseCheck { url: None, says: None, run: None, within_ms, for_ms, switched: false }, begun);
        let at = |ms| begun + Duration::from_millis(ms);
        let mut stays = times(1_000, 500);
        assert_eq!(stays.after(false, at(0)), None, "there is time");
        assert_eq!(stays.after(true, at(900)), None, "it has to stay so");
        assert_eq!(stays.after(true, at(1_400)), Some(true), "also when the first time is over");
        let mut turns = times(1_000, 500);
        assert_eq!((turns.after(true, at(0)), turns.after(false, at(100))), (None, Some(false)), "it was well and is not");
        assert_eq!(times(1_000, 0).after(true, at(0)), Some(true));
        let mut never = times(1_000, 0);
        assert_eq!((never.after(false, at(999)), never.after(false, at(1_000))), (None, Some(false)));
        assert_eq!(never.why("it", "no".into()), "the check failed: it was not well within 1.0 s: no");
    }
}
