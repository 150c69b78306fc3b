//! The outcome of one try.

/// How a try ended.
pub(crate) enum Outcome {
    /// It is done; in words where there is something to say.
    Done(Option<String>),
    /// It is not time for it yet.
    Later(std::time::Duration),
    /// It failed, and may succeed later.
    Failed {
        why: String,
        tries: u32,
        /// How long the other side asked us to wait.
        after: Option<std::time::Duration>,
    },
    /// It cannot succeed, whatever one waits for.
    Hopeless(String),
}

impl Outcome {
    /// As it is counted.
    pub(super) fn word(&self) -> &'static str {
        match self {
            Outcome::Done(_) => "done",
            Outcome::Later(_) => "later",
            Outcome::Failed { .. } => "failed",
            Outcome::Hopeless(_) => "hopeless",
        }
    }
}
