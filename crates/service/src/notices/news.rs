//! What happened, kept as work until it is found out whether anybody is told.

use ordotaxis_store::{NewWork, WorkKind};
use serde::{Deserialize, Serialize};

/// Something that may be worth telling; the body of its work, version 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "news", rename_all = "snake_case")]
pub(crate) enum News {
    /// A run has ended.
    Ended { run: i64 },
    /// A run waits for someone to allow it.
    Held { run: i64 },
    /// A proposal landed (as this commit), or left the queue (with this reason).
    Landing { branch: String, proposal: String, by: String, commit: Option<String>, why: Option<String> },
    /// A proposal in the queue lacks something that people can give.
    Lacks { branch: String, proposal: String, head: String, why: String },
    /// A job waits for people to agree with what it would put into its environment.
    Asks { environment: String, run: i64, job: usize },
    /// A deployment has ended: its number in its environment.
    Delivered { environment: String, number: i64 },
    /// Something goes past the rules of an environment.
    Past { environment: String, called: String, by: String, reason: String },
    /// Hooks did not come.
    Hook { words: String },
}

/// Work to find out whether it is told. All of a project's is worked off in order.
pub(crate) fn news(project_id: i64, news: &News) -> NewWork {
    let body = serde_json::to_string(news).unwrap_or_default();
    NewWork { kind: WorkKind::News, project_id, lane: String::new(), once: None, body }
}
