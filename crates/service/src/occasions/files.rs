//! The pipelines of a commit: files of the repository, or kept by the service in their place; and what they borrow.

use super::OccasionError;
use crate::app::App;
use crate::clock;
use ordotaxis_core::language::{Borrow, Code, Diagnostic, Severity};
use ordotaxis_core::plan::{BorrowedFile, BorrowedFiles, borrows};
use ordotaxis_git::{Access, GitError, Mirror};
use ordotaxis_store::{Project, StoreError};
use sha2::{Digest, Sha256};

/// The file of the pipeline `main`.
pub(crate) const ROOT_FILE: &str = "ordotaxis.toml";
const FOLDER: &str = "ordotaxis";

/// A pipeline's file as it is at a commit.
#[derive(Clone)]
pub(crate) struct PipelineFile {
    /// `main`, or the file's stem.
    pub(crate) name: String,
    /// How it is spoken of in diagnostics.
    pub(crate) path: String,
    pub(crate) text: String,
}

/// The commit's pipelines. One that the service keeps goes before a file of the same name.
pub(crate) async fn pipeline_files(
    app: &App,
    project: &Project,
    mirror: &Mirror,
    commit: &str,
) -> Result<Vec<PipelineFile>, OccasionError> {
    let stored = app.records.stored_pipelines(project.id).await?;
    let mut found: Vec<PipelineFile> = stored
        .into_iter()
        .map(|kept| PipelineFile {
            path: format!("{} (kept by the service, version {})", path_of(&kept.pipeline), kept.version),
            name: kept.pipeline,
            text: kept.text,
        })
        .collect();
    for (name, path) in in_repository(mirror, commit).await? {
        if !found.iter().any(|file| file.name == name) {
            // It was listed a moment ago: that it cannot be read is no empty file.
            let Some(bytes) = mirror.read(commit, &path).await? else { continue };
            found.push(PipelineFile { name, path, text: String::from_utf8_lossy(&bytes).into_owned() });
        }
    }
    found.sort_by(|one, other| (one.name != "main", &one.name).cmp(&(other.name != "main", &other.name)));
    Ok(found)
}

/// The file that a pipeline's name stands for.
pub(crate) fn path_of(name: &str) -> String {
    if name == "main" { ROOT_FILE.to_owned() } else { format!("{FOLDER}/{name}.toml") }
}

/// The pipeline that a file of a repository is, by its path; none for any other file.
pub(crate) fn pipeline_of(path: &str) -> Option<&str> {
    if path == ROOT_FILE {
        return Some("main");
    }
    let name = path.strip_prefix(FOLDER)?.strip_prefix('/')?.strip_suffix(".toml")?;
    (!name.contains('/') && path != ordotaxis_core::rules::FILE).then_some(name)
}

/// All pipeline files of a commit, each with its text.
pub(crate) async fn in_repository(mirror: &Mirror, commit: &str) -> Result<Vec<(String, String)>, GitError> {
    let mut paths = mirror.files(commit, "").await?;
    if paths.iter().any(|path| path == FOLDER) {
        paths.extend(mirror.files(commit, FOLDER).await?);
    }
    Ok(paths.into_iter().filter_map(|path| Some((pipeline_of(&path)?.to_owned(), path))).collect())
}

/// Why something cannot be borrowed.
#[derive(Debug, thiserror::Error)]
pub enum NotBorrowed {
    /// It was looked for, and is not to be had: a mistake of the file.
    #[error("{0}")]
    No(String),
    /// The lending repository could not be read: nobody knows.
    #[error(transparent)]
    Away(#[from] GitError),
}

/// Fetches what a file borrows. What cannot be had is there with the reason; a tag that names another commit than it
/// did before is a warning. A lending repository that cannot be read now is an error: it says nothing about the file.
pub(crate) async fn fetch_borrowed(
    app: &App,
    project: &Project,
    file: &PipelineFile,
) -> Result<(BorrowedFiles, Vec<Diagnostic>), OccasionError> {
    let (mut borrowed, mut told) = (BorrowedFiles::new(), Vec::new());
    for (name, borrow) in borrows(&file.text) {
        let found = match fetch_one_borrowed(app, project, &borrow.value, Fetch::Always).await {
            Err(NotBorrowed::Away(source)) => {
                let (pipeline, git) = (file.name.clone(), borrow.value.git.clone());
                return Err(OccasionError::Lender { pipeline, borrow: name, git, source });
            }
            found => found,
        };
        if let Ok(file_there) = &found
            && let Some(before) = borrowed_before(app, &borrow.value.git, &borrow.value.at, &file_there.commit).await?
        {
            let short = |id: &str| id.get(..10).unwrap_or(id).to_owned();
            let message = format!(
                "tag `{}` of `{name}` moved: it named {}, and now names {}",
                borrow.value.at,
                short(&before),
                short(&file_there.commit)
            );
            let hint = format!("borrow at the commit itself to be safe from that: at = \"{}\"", short(&file_there.commit));
            told.push(Diagnostic {
                severity: Severity::Warning,
                ..Diagnostic::error(Code::MovedTag, borrow.span.clone(), message).hint(hint)
            });
        }
        borrowed.insert(name, found.map_err(|error| error.to_string()));
    }
    Ok((borrowed, told))
}

/// As [`fetch_borrowed`], fetching only what is not there yet: for someone who types, and reads why it could not be read.
pub(crate) async fn fetch_missing_borrowed(app: &App, project: &Project, text: &str) -> BorrowedFiles {
    let mut borrowed = BorrowedFiles::new();
    for (name, borrow) in borrows(text) {
        let found = fetch_one_borrowed(app, project, &borrow.value, Fetch::Missing).await;
        borrowed.insert(name, found.map_err(|error| error.to_string()));
    }
    borrowed
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Fetch {
    Always,
    Missing,
}

/// One file of another repository at a tag or commit.
async fn fetch_one_borrowed(app: &App, project: &Project, borrow: &Borrow, fetch: Fetch) -> Result<BorrowedFile, NotBorrowed> {
    crate::places::may_borrow(&app.settings, &borrow.git, &project.git_url).map_err(NotBorrowed::No)?;
    let digest = Sha256::digest(borrow.git.as_bytes());
    let short: String = digest.iter().take(10).map(|byte| format!("{byte:02x}")).collect();
    let mirror = app.mirrors.get(&format!("+{short}"), &borrow.git, Access::default());
    if fetch == Fetch::Always {
        mirror.fetch_all().await?;
    }
    read_borrowed(&mirror, borrow).await
}

/// Reads what is borrowed through a mirror of the lending repository, which is fetched when it does not have it yet.
pub async fn read_borrowed(mirror: &Mirror, borrow: &Borrow) -> Result<BorrowedFile, NotBorrowed> {
    let known = mirror.dir().join("HEAD").exists() && matches!(mirror.fixed(&borrow.at).await, Ok(Some(_)));
    if !known {
        mirror.fetch_all().await?;
    }
    let Some(commit) = mirror.fixed(&borrow.at).await? else {
        return Err(NotBorrowed::No(match mirror.branches().await?.contains(&borrow.at) {
            true => format!("`{}` is a branch, and branches move; borrow at a tag or a commit", borrow.at),
            false => format!("it has no tag and no commit `{}`", borrow.at),
        }));
    };
    match mirror.read(&commit, &borrow.file).await? {
        Some(bytes) => Ok(BorrowedFile { commit, text: String::from_utf8_lossy(&bytes).into_owned() }),
        None => Err(NotBorrowed::No(format!("there is no file `{}` at {}", borrow.file, borrow.at))),
    }
}

/// Notes which commit a tag named; gives the one it named before, when that was another.
async fn borrowed_before(app: &App, git: &str, at: &str, commit: &str) -> Result<Option<String>, StoreError> {
    let mut tx = app.records.tx_by_rule("borrow", clock::now()).await?;
    let before = tx.borrowed_at(git, at, commit).await?;
    tx.commit().await?;
    Ok(before)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_and_names_of_pipelines_are_each_others() {
        for (path, name) in [
            ("ordotaxis.toml", Some("main")),
            ("ordotaxis/nightly.toml", Some("nightly")),
            ("ordotaxis/deep/nightly.toml", None),
            ("ordotaxis/nightly.yaml", None),
            ("ordotaxisx/nightly.toml", None),
            ("sub/ordotaxis.toml", None),
        ] {
            assert_eq!(pipeline_of(path), name, "{path}");
            if let Some(name) = name {
                assert_eq!(path_of(name), path);
            }
        }
    }
}
