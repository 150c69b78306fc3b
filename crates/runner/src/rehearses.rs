//! Whether a runner works, or plays work for someone who rehearses.

/// Whether this runner plays its jobs for someone who rehearses.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Rehearses {
    #[default]
    No,
    /// Nothing is sent elsewhere: what would be is only said.
    Yes,
    /// As `Yes`, and what this machine has no image or fence for runs without.
    Anyway,
}
