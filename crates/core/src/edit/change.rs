//! What can be changed in a pipeline file, and why a change cannot be made.

use crate::language::FILE_LIMIT;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// One change to a pipeline file. Jobs are named `STAGE.NAME`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "what", rename_all = "snake_case", deny_unknown_fields)]
pub enum Edit {
    /// A job more, behind the last one of its stage. A stage that is new comes last in the order, or where `place` says.
    AddJob {
        job: String,
        steps: Vec<String>,
        /// Artifacts to take: `STAGE.NAME/ARTIFACT`.
        #[serde(default)]
        takes: Vec<String>,
        /// Jobs or stages to come after.
        #[serde(default)]
        after: Vec<String>,
        /// Artifacts to give: name and globs.
        #[serde(default)]
        #[schema(value_type = std::collections::BTreeMap<String, Vec<String>>)]
        gives: IndexMap<String, Vec<String>>,
        #[serde(default)]
        place: Option<Place>,
    },
    /// Takes a job out, and what named it. A stage that has no job any more goes with it.
    RemoveJob {
        job: String,
    },
    /// Another name, another stage, or both.
    RenameJob {
        job: String,
        to: String,
    },
    /// What a key of a job says; null takes the key out.
    SetKey {
        job: String,
        key: String,
        #[schema(value_type = Option<Object>)]
        value: Option<serde_json::Value>,
    },
    /// The job comes after another job, or after a whole stage.
    ComeAfter {
        job: String,
        of: String,
    },
    /// It does not any more.
    NotAfter {
        job: String,
        of: String,
    },
    /// The job takes an artifact: `STAGE.NAME/ARTIFACT`.
    Take {
        job: String,
        artifact: String,
    },
    /// It does not any more.
    NotTake {
        job: String,
        artifact: String,
    },
    /// Puts a stage elsewhere in the order.
    MoveStage {
        stage: String,
        place: Place,
    },
    RenameStage {
        stage: String,
        to: String,
    },
}

/// Where a stage stands in the order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    pub side: Side,
    /// Another stage.
    pub of: String,
}

/// On which side of another stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    Before,
    After,
    /// Neither waits for the other.
    Beside,
}

/// Why a change cannot be made; the text stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    #[error("the file cannot be read as TOML: {0}; mend that first")]
    Syntax(String),
    #[error("`{0}` is not a job's name; name it as STAGE.NAME")]
    NoName(String),
    #[error("a name is lower-case letters, digits, `-` and `_`, not a hyphen first, at most 64: `{0}` is none")]
    BadName(String),
    #[error("there is no job {0}")]
    NoJob(String),
    #[error("there is no stage {0}")]
    NoStage(String),
    #[error("there is a job {0} already; choose another name")]
    JobThere(String),
    #[error("there is a stage {0} already; move its jobs there instead")]
    StageThere(String),
    #[error("`{0}` is not a table; write jobs as [job.STAGE.NAME]")]
    NoTable(String),
    #[error("the order cannot be read: {0}; mend it in the text first")]
    Order(String),
    #[error("{0} cannot come after itself")]
    Itself(String),
    #[error("`{0}` is not an artifact; name it as STAGE.NAME/ARTIFACT")]
    NoArtifact(String),
    #[error("a value of {0} nests too deep, or holds what TOML has no word for")]
    Value(String),
    #[error("the file would be larger than {FILE_LIMIT} bytes")]
    Large,
}
