//! Waiting for a condition, with a deadline.

use std::future::Future;
use std::time::{Duration, Instant};

/// How long a condition may take: generous, since machines that run tests are shared.
pub const PATIENCE: Duration = Duration::from_secs(120);

/// Asks again and again until there is an answer. Panics with `what` when there is none in time.
pub async fn until<T, F>(what: &str, mut ask: impl FnMut() -> F) -> T
where
    F: Future<Output = Option<T>>,
{
    let end = Instant::now() + PATIENCE;
    loop {
        if let Some(answer) = ask().await {
            return answer;
        }
        assert!(Instant::now() < end, "waited {} s in vain: {what}", PATIENCE.as_secs());
        tokio::time::sleep(Duration::from_millis(15)).await;
    }
}
