//! How a job ends before its end: what went wrong, as a sentence for the reader of the result.

use crate::archive::ArchiveError;
use crate::client::CallError;
use crate::workspace_error::WorkspaceError;
use std::io::ErrorKind;

/// How a job ends before its end.
pub(crate) enum Broken {
    Failed {
        why: String,
        exit_code: Option<i32>,
    },
    TimedOut(String),
    Stopped,
    /// Its machine is about to go.
    TakenAway,
    /// The attempt is no longer wanted.
    GivenUp,
}

impl Broken {
    /// The same, of a step that came afterwards: it says so, and its exit code is not the job's.
    pub(crate) fn after(self) -> Broken {
        match self {
            Broken::Failed { why, .. } => failed(format!("afterwards, {why}")),
            Broken::TimedOut(why) => failed(format!("afterwards, {why}")),
            other => other,
        }
    }
}

impl From<WorkspaceError> for Broken {
    fn from(error: WorkspaceError) -> Broken {
        if let WorkspaceError::Call(CallError::GivenUp | CallError::Leaving) = error {
            return Broken::GivenUp;
        }
        failed(disk_full(&error).unwrap_or_else(|| format!("checkout: {error}")))
    }
}

impl From<ArchiveError> for Broken {
    fn from(error: ArchiveError) -> Broken {
        failed(disk_full(&error).unwrap_or_else(|| error.to_string()))
    }
}

impl From<CallError> for Broken {
    fn from(error: CallError) -> Broken {
        match error {
            CallError::GivenUp | CallError::Leaving => Broken::GivenUp,
            other => failed(other.to_string()),
        }
    }
}

/// The job fails for this reason, which is no step's.
pub(crate) fn failed(why: String) -> Broken {
    Broken::Failed { why, exit_code: None }
}

/// A sentence for the one error that a person must mend on the runner's machine.
pub(crate) fn disk_full(error: &(dyn std::error::Error + 'static)) -> Option<String> {
    let mut cause = Some(error);
    while let Some(error) = cause {
        let full = error.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == ErrorKind::StorageFull);
        if full || error.to_string().contains("No space left on device") {
            return Some("the runner's disk is full; free some space in its folder and start the job again".into());
        }
        cause = error.source();
    }
    None
}
