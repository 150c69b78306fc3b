//! Why a call did not give an answer.

/// Why a call to the service did not give an answer.
#[derive(Debug, thiserror::Error)]
pub enum CallError {
    #[error("the service at {url} could not be reached")]
    Unreachable {
        url: String,
        #[source]
        source: reqwest::Error,
    },
    #[error("the certificates of authorities on this machine could not be read")]
    NoCertificates(#[source] reqwest::Error),
    /// The attempt or session was given up; nothing more is wanted.
    #[error("the service has given this up")]
    GivenUp,
    #[error("{detail}")]
    Refused { status: u16, detail: String },
    /// Storage that this runner reaches by itself; the same can be asked of the service.
    #[error("the storage could not be reached, or refuses: {0}")]
    Storage(String),
    #[error("the runner is leaving")]
    Leaving,
}

impl CallError {
    /// An answer that ended before its end.
    pub(crate) fn broke_off(source: reqwest::Error) -> CallError {
        CallError::Unreachable { url: "the service".into(), source }
    }

    /// Whether the same call may succeed later.
    pub(crate) fn is_passing(&self) -> bool {
        match self {
            CallError::Unreachable { .. } | CallError::Storage(_) => true,
            CallError::Refused { status, .. } => *status >= 500,
            CallError::NoCertificates(_) | CallError::GivenUp | CallError::Leaving => false,
        }
    }
}
