//! What a place is looked for in.

use serde_json::Value;
use std::collections::BTreeMap;

/// What is looked at: one item of a body.
pub(super) struct Part<'a> {
    pub(super) headers: &'a BTreeMap<String, String>,
    pub(super) whole: &'a Value,
    pub(super) item: &'a Value,
}

impl Part<'_> {
    pub(super) fn header(&self, name: &str) -> Option<String> {
        self.headers.get(&name.to_ascii_lowercase()).cloned()
    }
}
