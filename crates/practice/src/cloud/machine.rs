//! One machine: it starts, runs, and ends or is switched off.

use super::{Cloud, Console, Order, Weather};
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

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
    pub(super) fn start(cloud: Cloud, order: Order, weather: &Weather, number: u32, never: bool) -> Machine {
        let (begun, start) = (Instant::now(), Duration::from_millis(weather.start_ms));
        let (console, notice) = (Console::default(), CancellationToken::new());
        let taken = Weather::hits(weather.taken_each, number).then(|| Duration::from_millis(weather.taken_after_ms));
        let notice_time = Duration::from_millis(weather.notice_ms);
        let (ordered, kept, stop) = (order.clone(), console.clone(), notice.clone());
        let running = tokio::spawn(async move {
            kept.say(&format!("{} has {} cores and {} MiB", order.name, order.cores, order.memory_mib));
            tokio::time::sleep(start).await;
            if never {
                kept.say("no system was found");
                return std::future::pending().await;
            }
            kept.say("it has started");
            let name = order.name.clone();
            let runs = cloud.0.boot.boot(order, kept.clone(), stop.clone());
            let away = async {
                match taken {
                    Some(after) => {
                        tokio::time::sleep(after).await;
                        kept.say("it is being taken away");
                        stop.cancel();
                        tokio::time::sleep(notice_time).await;
                    }
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                () = runs => kept.say("it has ended"),
                () = away => {
                    cloud.state().counts.taken += 1;
                    kept.say("it was taken away");
                }
            }
            cloud.ended(&name, begun);
        });
        Machine { begun, console, notice, order: ordered, running, ended: None, starts_at: begun + start }
    }

    /// Tells it that it will be switched off, and does so.
    pub(super) fn take(&mut self, cloud: Cloud, notice: Duration) {
        self.console.say("it is being taken away");
        self.notice.cancel();
        let (name, begun, running) = (self.order.name.clone(), self.begun, self.running.abort_handle());
        tokio::spawn(async move {
            tokio::time::sleep(notice).await;
            running.abort();
            cloud.ended(&name, begun);
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

    pub(super) fn console(&self) -> String {
        self.console.text()
    }
}
