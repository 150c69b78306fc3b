//! What goes wrong in a cloud.

use serde::{Deserialize, Serialize};

/// How a cloud behaves. `…_each` is of each so-many-th machine; 0: of none.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Weather {
    /// Machines at the same time.
    pub quota: Option<u32>,
    /// How long a machine takes to start.
    pub start_ms: u64,
    /// How long every answer takes.
    pub slow_ms: u64,
    /// It is refused.
    pub refuses_each: u32,
    /// It is made, and the answer is lost.
    pub silent_each: u32,
    /// It is made twice, under a second name.
    pub twice_each: u32,
    /// It starts, and nothing runs on it.
    pub never_each: u32,
    /// It is taken away, so long after it started.
    pub taken_each: u32,
    pub taken_after_ms: u64,
    /// With so much notice before.
    pub notice_ms: u64,
    /// Nothing is answered at all.
    pub away: bool,
    /// Lists are nonsense.
    pub garbled: bool,
}

impl Weather {
    pub(super) fn hits(each: u32, number: u32) -> bool {
        each > 0 && number.is_multiple_of(each)
    }
}
