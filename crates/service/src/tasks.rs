//! Tasks that go on as long as the service does. Each has an owner: a panic is logged, and the task is started again.

use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// How long a task rests that broke off.
const REST: Duration = Duration::from_millis(500);

/// Runs a task until it ends by itself; one that panics begins again after a rest, until `stop`.
pub(crate) async fn kept<F>(name: &'static str, stop: CancellationToken, task: impl Fn() -> F)
where
    F: Future<Output = ()> + Send + 'static,
{
    loop {
        // Dropping this ends the task.
        let mut running = tokio::task::JoinSet::new();
        running.spawn(task());
        match running.join_next().await {
            Some(Err(error)) if error.is_panic() => tracing::error!(%error, task = name, "a task broke off; it begins again"),
            _ => return,
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(REST) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicU32, Ordering};

    #[tokio::test]
    async fn a_task_that_panics_begins_again() {
        let runs = Arc::new(AtomicU32::new(0));
        let counted = runs.clone();
        kept("of a test", CancellationToken::new(), move || {
            let run = counted.fetch_add(1, Ordering::Relaxed);
            async move { assert!(run >= 2, "of a test") }
        })
        .await;
        assert_eq!(runs.load(Ordering::Relaxed), 3);
    }

    #[tokio::test]
    async fn it_rests_no_longer_than_it_is_wanted() {
        let stop = CancellationToken::new();
        stop.cancel();
        kept("of a test", stop, || async { panic!("of a test") }).await;
    }
}
