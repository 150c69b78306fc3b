//! What providers are asked for, and what can come of it.

use ordotaxis_core::engine::Millis;
use ordotaxis_core::language::Capacity;
use ordotaxis_store::Secret;

/// So much of a machine's console is shown, in bytes.
pub(super) const CONSOLE: u64 = 64 * 1024;

/// A machine that is wanted.
pub(in crate::pools) struct Wanted<'a> {
    pub(in crate::pools) id: &'a str,
    pub(in crate::pools) capacity: Capacity,
    pub(in crate::pools) lasts: Millis,
    /// The service's address, as the machine reaches it.
    pub(in crate::pools) url: &'a str,
    /// Good for this machine, once.
    pub(in crate::pools) invitation: &'a Secret,
}

/// Why a provider did not do what it was asked to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::pools) enum Failed {
    /// It said no: nothing was done.
    Refused(String),
    /// Nobody knows what it did.
    Unclear(String),
}

impl Failed {
    pub(in crate::pools) fn words(&self) -> &str {
        match self {
            Failed::Refused(why) | Failed::Unclear(why) => why,
        }
    }
}

/// The last bytes of a file, as text.
pub(super) async fn tail(path: &std::path::Path) -> Result<String, String> {
    use tokio::io::{AsyncReadExt, AsyncSeekExt};
    let told = |error: std::io::Error| format!("its console could not be read: {error}");
    let mut file = tokio::fs::File::open(path).await.map_err(told)?;
    let length = file.metadata().await.map_err(told)?.len();
    file.seek(std::io::SeekFrom::Start(length.saturating_sub(CONSOLE))).await.map_err(told)?;
    let mut bytes = Vec::new();
    file.take(CONSOLE).read_to_end(&mut bytes).await.map_err(told)?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
