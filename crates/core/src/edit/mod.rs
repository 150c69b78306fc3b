//! Changes to a pipeline file by what they mean: a job more, another name, one link less. What they do not touch stays as it is
//! written, comments and layout included; what names the changed thing elsewhere in the file is changed with it.
//!
//! [`apply`] makes one [`Edit`]; [`outline`] tells which stages, jobs and links a text has, also while it has mistakes.

mod change;
mod jobs;
mod keys;
mod names;
mod order;
mod outline;

pub use change::{Edit, EditError, Place, Side};
pub use outline::{Outline, OutlineJob, OutlineLink, OutlineStage, outline};

use crate::language::FILE_LIMIT;
use jobs::named;
use toml_edit::DocumentMut;

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

/// Where a stage lost its last job, the stage goes too: from the order, and from what came after it.
fn drop_empty(file: &mut DocumentMut, job: &str) -> Result<(), EditError> {
    let (stage, _) = job.split_once('.').unwrap_or((job, ""));
    if jobs::has_stage(file, stage).is_err() {
        names::drop_stage(file, stage);
        order::drop(file, stage)?;
    }
    Ok(())
}
