//! What the service says about a commit.

use serde::{Deserialize, Serialize};

/// A status on a commit, as it was sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Status {
    pub context: String,
    pub state: String,
    pub text: String,
    pub link: String,
}
