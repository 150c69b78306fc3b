//! One machine: it starts, runs, and ends or is switched off.

use super::order::{Console, Order};
use super::weather::Weather;
use std::pin::Pin;
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// How it will go with a machine.
pub(super) struct Life {
    pub(super) begun: Instant,
    pub(super) weather: Weather,
    /// Its number among all that were ordered.
    pub(super) number: u32,
    /// Nothing ever runs on it.
    pub(super) never: bool,
}

/// A machine that was ordered. Dropped, it is switched off.
pub(super) struct Machine {
    pub(super) begun: Instant,
    pub(super) console: Console,
    notice: CancellationToken,
    pub(super) order: Order,
    running: JoinHandle<()>,
    ended: Option<Instant>,
    pub(super) starts_at: Instant,
}

impl Drop for Machine {
    fn drop(&mut self) {
        self.running.abort();
    }
}

impl Machine {
    /// Starts it: `boot` makes of it what it is, and `at_end` is told when it has ended, and whether it was taken away.
    pub(super) fn start(
        order: Order,
        life: Life,
        boot: impl FnOnce(Order, Console, CancellationToken) -> Pin<Box<dyn Future<Output = ()> + Send>> + Send + 'static,
        at_end: impl FnOnce(bool) + Send + 'static,
    ) -> Machine {
        let Life { begun, weather, number, never } = life;
        let start = Duration::from_millis(weather.start_ms);
        let (console, notice) = (Console::default(), CancellationToken::new());
        let taken = Weather::hits(weather.taken_each, number).then(|| Duration::from_millis(weather.taken_after_ms));
        let (ordered, kept, stop) = (order.clone(), console.clone(), notice.clone());
        let running = tokio::spawn(async move {
            kept.say(&format!("{} has {} cores and {} MiB", order.name, order.cores, order.memory_mib));
            tokio::time::sleep(start).await;
            if never {
                kept.say("no system was found");
                return std::future::pending().await;
            }
            kept.say("it has started");
            let runs = boot(order, kept.clone(), stop.clone());
            let away = async {
                let Some(after) = taken else { return std::future::pending().await };
                tokio::time::sleep(after).await;
                kept.say("it is being taken away");
                stop.cancel();
                tokio::time::sleep(Duration::from_millis(weather.notice_ms)).await;
            };
            tokio::select! {
                () = runs => {
                    kept.say("it has ended");
                    at_end(false);
                }
                () = away => {
                    kept.say("it was taken away");
                    at_end(true);
                }
            }
        });
        Machine { begun, console, notice, order: ordered, running, ended: None, starts_at: begun + start }
    }

    /// Tells it that it will be switched off, and does so.
    pub(super) fn take(&mut self, notice: Duration, at_end: impl FnOnce() + Send + 'static) {
        self.console.say("it is being taken away");
        self.notice.cancel();
        let running = self.running.abort_handle();
        tokio::spawn(async move {
            tokio::time::sleep(notice).await;
            running.abort();
            at_end();
        });
    }

    pub(super) fn end(&mut self) {
        self.ended.get_or_insert_with(Instant::now);
    }

    pub(super) fn paid_ms(&self) -> u64 {
        let until = self.ended.unwrap_or_else(Instant::now);
        u64::try_from(until.saturating_duration_since(self.begun).as_millis()).unwrap_or(u64::MAX)
    }

    pub(super) fn state(&self) -> &'static str {
        match self.ended {
            Some(_) => "ended",
            None if self.starts_at > Instant::now() => "coming",
            None => "running",
        }
    }

    /// What the cloud says of it.
    pub(super) fn words(&self) -> String {
        format!("{}, {} s old", self.state(), self.begun.elapsed().as_secs())
    }

    pub(super) fn console(&self) -> String {
        self.console.text()
    }
}
