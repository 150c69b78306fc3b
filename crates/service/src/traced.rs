//! The ids of what a run's trace holds. They follow from the run alone, so that runner and service agree without asking, and what is
//! told twice is told with the same ids.

use ordotaxis_wire::runner::{AttemptId, PHASES, Parent};
use sha2::{Digest, Sha256};

/// What tells this service's traces from another's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TraceMark(pub(crate) String);

impl TraceMark {
    fn digest(&self, of: &str) -> [u8; 32] {
        Sha256::digest(format!("{}/{of}", self.0)).into()
    }

    /// The trace of a run.
    pub(crate) fn trace(&self, run: i64) -> [u8; 16] {
        let mut id = [0; 16];
        id.copy_from_slice(&self.digest(&format!("trace/{run}"))[..16]);
        id
    }

    fn span(&self, of: &str) -> u64 {
        let mut id = [0; 8];
        id.copy_from_slice(&self.digest(of)[..8]);
        // Its phases have the numbers that follow; 0 is no span.
        (u64::from_be_bytes(id) & !(PHASES - 1)) | PHASES
    }

    pub(crate) fn run(&self, run: i64) -> u64 {
        self.span(&format!("run/{run}"))
    }

    pub(crate) fn job(&self, run: i64, job: usize) -> u64 {
        self.span(&format!("job/{run}/{job}"))
    }

    pub(crate) fn attempt(&self, of: AttemptId) -> u64 {
        self.span(&format!("attempt/{}/{}/{}", of.run, of.job, of.attempt))
    }

    /// What a runner is told, so that steps can join.
    pub(crate) fn parent(&self, of: AttemptId) -> Parent {
        Parent { trace: self.trace(of.run), span: self.attempt(of) }
    }
}
