//! The release that a job makes once it has passed: what its `releases` says, with what is known by then.

use super::version::is_version;
use crate::plan::{Cause, Plan};
use crate::template::Slot;

/// What a job would release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    pub version: String,
    /// The tag that the run is of, or the one that is to be made.
    pub tag: String,
    /// It is to be made: the run is of a branch.
    pub makes_tag: bool,
    pub title: String,
    pub notes: NotesFrom,
    /// (`STAGE.NAME`, artifact)
    pub assets: Vec<(String, String)>,
    /// Someone publishes it later.
    pub draft: bool,
}

/// Where notes come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotesFrom {
    Nowhere,
    /// A whole file of the commit.
    File(String),
    /// The section of a file whose heading names this.
    Section(String, String),
    /// What landed since the release before.
    Collected,
}

/// What `notes` says in place of a file.
const COLLECTED: &str = "collected";

/// What a job would release; none where it releases nothing. An error says why it cannot. `fact`: what a job left, by the job's
/// full name and the fact's.
pub fn wanted(plan: &Plan, job: usize, fact: impl Fn(&str, &str) -> Option<String>) -> Option<Result<Wanted, String>> {
    let releases = plan.jobs.get(job)?.extras.as_ref()?.releases.as_ref()?;
    let occasion = &plan.occasion;
    if matches!(occasion.cause, Cause::Proposal { .. } | Cause::Landing { .. }) {
        return Some(Err("what has not landed yet is not released".to_owned()));
    }
    let filled = releases.version.0.value.fill(|slot| match slot {
        Slot::Project => occasion.project.clone(),
        Slot::Commit => occasion.commit.clone(),
        Slot::Fact(of, name) => fact(of, name),
        _ => None,
    });
    let Some(version) = filled.plain() else {
        return Some(Err(format!("its version needs what is not known here: `{}`", filled.source())));
    };
    if !is_version(&version) {
        let of = match (occasion.tag_name(), occasion.branch()) {
            (Some(tag), _) => format!("tag {tag}"),
            (None, Some(branch)) => format!("branch {branch}"),
            (None, None) => "this commit".to_owned(),
        };
        return Some(Err(format!("{of} makes the version `{version}`, which is none: letters, digits and `.`, `-`, `_`, `+` within")));
    }
    let fill = |text: &str| text.replace("{version}", &version);
    let own = occasion.tag_name();
    let named = releases.tag.as_deref().map_or_else(|| tag_of(&version), fill);
    if own.is_none() && !is_tag(&named) {
        return Some(Err(format!("`{named}` cannot be the name of a tag")));
    }
    Some(Ok(Wanted {
        tag: own.map_or(named, str::to_owned),
        makes_tag: own.is_none(),
        title: releases.title.as_deref().map_or_else(|| version.clone(), fill).chars().filter(|c| !c.is_control()).take(200).collect(),
        notes: notes(releases.notes.as_deref(), &version),
        assets: releases
            .assets
            .iter()
            .filter_map(|name| name.split_once('/'))
            .map(|(job, name)| (job.to_owned(), name.to_owned()))
            .collect(),
        draft: releases.draft,
        version,
    }))
}

/// A version that is a number has a `v` before it in its tag.
fn tag_of(version: &str) -> String {
    if version.starts_with(|c: char| c.is_ascii_digit()) { format!("v{version}") } else { version.to_owned() }
}

/// As git has it (git-check-ref-format), and not longer than an address takes.
fn is_tag(name: &str) -> bool {
    let parts = name.split('/').all(|part| !part.is_empty() && !part.starts_with('.') && !part.ends_with(".lock") && !part.ends_with('.'));
    let plain = !name.starts_with('-') && !name.contains("..") && !name.contains("@{") && name != "@";
    parts && plain && name.len() <= 200 && !name.chars().any(|c| c.is_control() || " ~^:?*[\\".contains(c))
}

fn notes(text: Option<&str>, version: &str) -> NotesFrom {
    let Some(text) = text else { return NotesFrom::Nowhere };
    match text.split_once('#') {
        _ if text == COLLECTED => NotesFrom::Collected,
        Some((file, heading)) => NotesFrom::Section(file.replace("{version}", version), heading.replace("{version}", version)),
        None => NotesFrom::File(text.replace("{version}", version)),
    }
}
