//! Changes to a pipeline file by what they mean: a job more, another name, one link less. What they do not touch stays as it is
//! written, comments and layout included; what names the changed thing elsewhere in the file is changed with it.
//!
//! [`apply`] makes one [`Edit`]; [`outline`] tells which stages, jobs and links a text has, also while it has mistakes.

mod jobs;
mod keys;
mod names;
mod order;
mod outline;

pub use outline::{Outline, OutlineJob, OutlineLink, OutlineStage, outline};

use crate::language::FILE_LIMIT;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use toml_edit::DocumentMut;

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

/// Makes a change. The answer is the whole text; nothing but what the change means is other than before.
pub fn apply(text: &str, edit: &Edit) -> Result<String, EditError> {
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| EditError::Syntax(error.message().trim().to_owned()))?;
    let file = &mut document;
    match edit {
        Edit::AddJob { job, place, .. } => {
            let (stage, name) = named(job)?;
            jobs::add(file, stage, name, edit)?;
            order::name(file, stage, place.as_ref())?;
        }
        Edit::RemoveJob { job } => {
            jobs::remove(file, job)?;
            names::drop_job(file, job);
            drop_empty(file, job)?;
        }
        Edit::RenameJob { job, to } => rename_job(file, job, to)?,
        Edit::SetKey { job, key, value } => keys::set(jobs::find(file, job)?, key, value.as_ref())?,
        Edit::ComeAfter { job, of } => {
            jobs::may_follow(file, job, of)?;
            keys::put_into(jobs::find(file, job)?, "after", of)?;
        }
        Edit::NotAfter { job, of } => keys::take_out(jobs::find(file, job)?, "after", of),
        Edit::Take { job, artifact } => {
            let (from, _) = artifact.split_once('/').ok_or_else(|| EditError::NoArtifact(artifact.clone()))?;
            jobs::may_follow(file, job, from)?;
            keys::put_into(jobs::find(file, job)?, "takes", artifact)?;
        }
        Edit::NotTake { job, artifact } => keys::take_out(jobs::find(file, job)?, "takes", artifact),
        Edit::MoveStage { stage, place } => {
            jobs::has_stage(file, stage)?;
            jobs::has_stage(file, &place.of)?;
            order::place(file, stage, place)?;
        }
        Edit::RenameStage { stage, to } => rename_stage(file, stage, to)?,
    }
    let written = document.to_string();
    if written.len() > FILE_LIMIT { Err(EditError::Large) } else { Ok(written) }
}

fn rename_stage(file: &mut DocumentMut, stage: &str, to: &str) -> Result<(), EditError> {
    jobs::rename_stage(file, stage, to)?;
    names::rename_stage(file, stage, to);
    order::rename(file, stage, to)
}

fn rename_job(file: &mut DocumentMut, job: &str, to: &str) -> Result<(), EditError> {
    let (stage, name) = named(to)?;
    let (old, old_name) = job.split_once('.').ok_or_else(|| EditError::NoJob(job.to_owned()))?;
    jobs::find(file, job)?;
    if jobs::is_alone(file, old) && jobs::has_stage(file, stage).is_err() {
        // The only job of a stage goes to one that is new: that one stands where the other stood.
        rename_stage(file, old, stage)?;
        let moved = format!("{stage}.{old_name}");
        jobs::rename(file, &moved, to)?;
        names::rename_job(file, &moved, &format!("{stage}.{name}"));
        return order::name(file, stage, None);
    }
    jobs::rename(file, job, to)?;
    names::rename_job(file, job, to);
    order::name(file, stage, None)?;
    drop_empty(file, job)
}

/// Stage and name.
fn named(job: &str) -> Result<(&str, &str), EditError> {
    let (stage, name) = job.split_once('.').ok_or_else(|| EditError::NoName(job.to_owned()))?;
    for part in [stage, name] {
        fits(part)?;
    }
    Ok((stage, name))
}

fn fits(name: &str) -> Result<(), EditError> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    if name.is_empty() || name.len() > 64 || name.starts_with('-') || !name.chars().all(plain) {
        return Err(EditError::BadName(name.to_owned()));
    }
    Ok(())
}

/// Where a stage lost its last job, the stage goes too: from the order, and from what came after it.
fn drop_empty(file: &mut DocumentMut, job: &str) -> Result<(), EditError> {
    let (stage, _) = job.split_once('.').unwrap_or((job, ""));
    if jobs::has_stage(file, stage).is_err() {
        names::drop_stage(file, stage);
        order::drop(file, stage)?;
    }
    Ok(())
}
