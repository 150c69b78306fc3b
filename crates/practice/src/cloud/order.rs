//! What a machine is asked to be, what it becomes, and what it writes.

use std::collections::BTreeMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;

/// What a machine is once it has started.
pub trait Boot: Send + Sync {
    /// Runs until the machine ends by itself. Dropped, it is switched off; `notice` is cancelled some time before that, where the
    /// cloud gives notice.
    fn boot(&self, order: Order, console: Console, notice: CancellationToken) -> Pin<Box<dyn Future<Output = ()> + Send>>;
}

/// A machine as it was asked for.
#[derive(Debug, Clone)]
pub struct Order {
    pub name: String,
    pub cores: u32,
    pub memory_mib: u32,
    pub environment: BTreeMap<String, String>,
}

/// What a machine writes; the last of it is kept.
#[derive(Debug, Clone, Default)]
pub struct Console(Arc<Mutex<String>>);

impl Console {
    const KEPT: usize = 64 * 1024;

    /// Adds a line.
    pub fn say(&self, line: &str) {
        let mut text = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        text.push_str(line);
        text.push('\n');
        let from = text.len().saturating_sub(Console::KEPT);
        if let Some(from) = (from..text.len()).find(|at| text.is_char_boundary(*at)).filter(|from| *from > 0) {
            text.drain(..from);
        }
    }

    pub(super) fn text(&self) -> String {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}
