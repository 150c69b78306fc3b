//! What came of a try.

pub(crate) enum Outcome {
    /// It is done; in words where there is something to say.
    Done(Option<String>),
    /// It failed, and may succeed later.
    Failed { why: String, tries: u32 },
    /// It cannot succeed, whatever one waits for.
    Hopeless(String),
}
