//! Who does something, and the way it came.

use serde::{Deserialize, Serialize};

/// Who makes a change, and how the request came in. Every transaction has one, and the journal keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Actor {
    pub who: Who,
    pub way: Way,
    /// The address that the call came from.
    pub address: Option<String>,
}

/// Who acts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Who {
    /// `id` is never given twice, so that a name that is used again later is not mistaken for the earlier one.
    Person {
        id: i64,
        name: String,
    },
    Runner(String),
    /// `PROJECT/NUMBER JOB`, with the token that its lease gave it.
    Job(String),
    /// The service itself, because of a rule: a schedule, a passed pipeline, a time that is over.
    Service(String),
    /// Nobody who is known: a wrong password, a webhook.
    Nobody,
}

impl Who {
    /// As it is stored.
    pub fn kind(&self) -> &'static str {
        match self {
            Who::Person { .. } => "person",
            Who::Runner(_) => "runner",
            Who::Job(_) => "job",
            Who::Service(_) => "service",
            Who::Nobody => "nobody",
        }
    }

    /// The name as people read it: of a person, a job, a runner or a rule.
    pub fn name(&self) -> &str {
        match self {
            Who::Person { name, .. } | Who::Runner(name) | Who::Job(name) | Who::Service(name) => name,
            Who::Nobody => "",
        }
    }
}

/// How the request came in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Way {
    Console,
    Client,
    Api,
    Hook,
    Comment,
    Rule,
}

impl Way {
    /// The word that the journal keeps for it. Words never change.
    pub fn word(self) -> &'static str {
        match self {
            Way::Console => "console",
            Way::Client => "client",
            Way::Api => "api",
            Way::Hook => "hook",
            Way::Comment => "comment",
            Way::Rule => "rule",
        }
    }
}

impl Actor {
    /// The service itself, because of a rule.
    pub fn rule(name: &str) -> Actor {
        Actor { who: Who::Service(name.to_owned()), way: Way::Rule, address: None }
    }

    /// A runner, by its name; it acts through its own API.
    pub fn runner(name: &str) -> Actor {
        Actor { who: Who::Runner(name.to_owned()), way: Way::Api, address: None }
    }

    /// As it is said in sentences: "stopped by maren".
    pub fn name(&self) -> &str {
        self.who.name()
    }
}
