//! What could not be told yet: one file a push, told in order with the next push. Looking at the repository finds what is
//! never told, so that nothing depends on these files.

use super::call::NotAsked;
use crate::failure::Failure;
use jiff::Timestamp;
use ordotaxis_wire::gate::Asked;
use std::path::PathBuf;

/// More pushes are not remembered; the oldest go.
const MOST: usize = 1_000;

/// A folder of pushes that nobody was told of.
pub(super) struct Kept {
    folder: PathBuf,
}

impl Kept {
    pub(super) fn at(folder: PathBuf) -> Result<Kept, Failure> {
        let kept = Kept { folder };
        std::fs::create_dir_all(&kept.folder).map_err(|error| kept.trouble(&error))?;
        Ok(kept)
    }

    fn trouble(&self, error: &std::io::Error) -> Failure {
        let what = format!("the push stands, and could not be remembered in {}: {error}", self.folder.display());
        Failure::new(1, what, "let the hook's user write there, or name another folder with --keep")
    }

    /// Remembers a push. Its name says when it came, so that names sort in order; two at once have two names.
    pub(super) fn add(&self, push: &Asked) -> Result<(), Failure> {
        let name = format!("push-{:020}-{}", Timestamp::now().as_nanosecond(), std::process::id());
        let text = serde_json::to_string(push).unwrap_or_default();
        let (new, path) = (self.folder.join(format!(".{name}")), self.folder.join(format!("{name}.json")));
        let written = std::fs::write(&new, text).and_then(|()| std::fs::rename(&new, &path));
        written.map_err(|error| self.trouble(&error))
    }

    fn waiting(&self) -> Result<Vec<PathBuf>, Failure> {
        let entries = std::fs::read_dir(&self.folder).map_err(|error| self.trouble(&error))?;
        let is_push = |path: &PathBuf| path.extension().is_some_and(|ext| ext == "json");
        let mut paths: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).filter(is_push).collect();
        paths.sort();
        let old = paths.len().saturating_sub(MOST);
        for path in paths.drain(..old) {
            let _ = std::fs::remove_file(path);
        }
        Ok(paths)
    }

    /// Tells all that is remembered, oldest first, and forgets what was told. Gives how much is left, and why.
    pub(super) async fn tell<F>(&self, tell: impl Fn(String, String) -> F) -> Result<Option<(usize, String)>, Failure>
    where
        F: Future<Output = Result<(), NotAsked>>,
    {
        let waiting = self.waiting()?;
        for (at, path) in waiting.iter().enumerate() {
            // Another hook may have told it meanwhile.
            let Ok(body) = std::fs::read_to_string(path) else { continue };
            let id = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
            match tell(id, body).await {
                Ok(()) => drop(std::fs::remove_file(path)),
                Err(NotAsked::Away(why) | NotAsked::Refused(why)) => return Ok(Some((waiting.len() - at, why))),
            }
        }
        Ok(None)
    }
}
