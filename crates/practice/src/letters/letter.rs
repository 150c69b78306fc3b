//! A delivery, before it is signed and as it goes out.

use serde_json::Value;

/// A delivery before it is signed.
#[derive(Debug, Clone)]
pub(crate) struct Letter {
    /// What the headers say of its kind.
    pub(crate) kind: &'static str,
    pub(crate) body: Value,
}

/// A delivery as it goes out.
pub(crate) struct Signed {
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) body: String,
}
