//! A service that went away may be back soon: who follows something waits for it.

use crate::failure::Failure;
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// How long a service that went away is waited for.
const PATIENCE: Duration = Duration::from_secs(60);
const PAUSE: Duration = Duration::from_millis(500);

/// Asks again while the service cannot be reached: it may be restarting.
pub(super) async fn patiently<T>(ask: impl AsyncFn() -> Result<T, Failure>) -> Result<T, Failure> {
    let until = Instant::now() + PATIENCE;
    loop {
        match ask().await {
            Err(error) if error.is_passing() && Instant::now() < until => sleep(PAUSE).await,
            other => return other,
        }
    }
}
