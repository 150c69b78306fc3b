//! Where something is in a file.

use std::ops::Range;

/// Where something is in the text, in bytes.
pub type Span = Range<usize>;

/// A value and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct At<T> {
    pub value: T,
    pub span: Span,
}
