//! A stand-in for a machine that software is put on: it takes a bundle, starts it as a process anew, and answers with what that
//! process says of itself. It can be told to misbehave, as machines do.
//!
//! ```text
//! PUT /bundle ──▶ the folder ──▶ a process, started anew ──▶ GET /now
//! PUT /trouble  ──▶ how both go wrong from now on
//! ```
//!
//! - `trouble`: what can go wrong;
//! - `running`: the process;
//! - `page`: the addresses.

mod page;
mod running;
mod trouble;

pub use running::run;
pub use trouble::Trouble;

use running::Running;
use std::path::PathBuf;
use std::sync::Arc;
use tokio::net::TcpListener;
use tokio::sync::Mutex;

/// A machine of this name.
#[derive(Clone)]
pub struct Host {
    name: Arc<str>,
    folder: PathBuf,
    /// The program that has the command `runs`.
    program: PathBuf,
    /// Who puts something here must bring it.
    key: Option<Arc<str>>,
    now: Arc<Mutex<Now>>,
}

/// What it is at.
#[derive(Default)]
struct Now {
    trouble: Trouble,
    running: Option<Running>,
}

impl Host {
    /// A machine with nothing on it.
    pub fn open(name: &str, folder: PathBuf, program: PathBuf, key: Option<String>) -> std::io::Result<Host> {
        std::fs::create_dir_all(&folder)?;
        Ok(Host { name: name.into(), folder, program, key: key.map(Into::into), now: Arc::default() })
    }

    /// Answers calls until the listener fails.
    pub async fn serve(self, listener: TcpListener) -> std::io::Result<()> {
        axum::serve(listener, self.router()).await
    }
}
