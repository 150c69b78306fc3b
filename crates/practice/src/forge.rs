//! The practice forge: repositories on disk, hooks and statuses in one JSON file beside them.

use crate::book::{Book, Release};
use crate::dialect::Dialect;
use crate::fault::{Fault, What};
use crate::late::Late;
use crate::status::Status;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Why the forge's book could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum ForgeError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error("{} is damaged", path.display())]
    Form { path: PathBuf, source: serde_json::Error },
}

/// The forge: repositories in a folder, and a book of their hooks, proposals and statuses. Clones share both.
#[derive(Clone)]
pub struct Forge {
    pub(crate) folder: PathBuf,
    pub(crate) url: String,
    pub(crate) dialect: Dialect,
    book: Arc<Mutex<Book>>,
    faults: Arc<Mutex<Vec<Fault>>>,
    pub(crate) late: Arc<Late>,
    pub(crate) client: reqwest::Client,
}

impl Forge {
    /// Opens the forge kept in `folder`; `url` is how others reach it, and `dialect` how it speaks.
    pub fn open(folder: PathBuf, url: String, dialect: Dialect) -> Result<Forge, ForgeError> {
        std::fs::create_dir_all(&folder).map_err(|source| ForgeError::Io { path: folder.clone(), source })?;
        let path = folder.join("forge.json");
        let book = match std::fs::read_to_string(&path) {
            Ok(text) => serde_json::from_str(&text).map_err(|source| ForgeError::Form { path, source })?,
            Err(_) => Book::default(),
        };
        Ok(Forge {
            folder,
            url,
            dialect,
            book: Arc::new(Mutex::new(book)),
            faults: Arc::default(),
            late: Arc::default(),
            client: reqwest::Client::new(),
        })
    }

    /// How it speaks.
    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    /// The next calls meet these.
    pub fn will_fail(&self, faults: impl IntoIterator<Item = Fault>) {
        self.faults().extend(faults);
    }

    /// From now on calls meet nothing.
    pub fn forget_faults(&self) {
        self.faults().clear();
    }

    /// How many slow answers are made and not sent yet.
    pub fn late(&self) -> usize {
        self.late.count()
    }

    /// Sends slow answers that are made now, however long they were to wait.
    pub fn answer_now(&self) {
        self.late.go_on();
    }

    pub(crate) fn faults(&self) -> MutexGuard<'_, Vec<Fault>> {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn save(&self, book: &Book) {
        let text = serde_json::to_string_pretty(book).unwrap_or_default();
        let (staging, path) = (self.folder.join("forge.json.new"), self.folder.join("forge.json"));
        if let Err(error) = std::fs::write(&staging, text).and_then(|()| std::fs::rename(staging, path)) {
            tracing::error!(%error, "the forge could not write its book");
        }
    }

    /// Refuses the next `count` statuses.
    pub fn refuse_statuses(&self, count: usize) {
        let fault = Fault { what: What::Status { status: 503 }, on: "statuses".into() };
        self.will_fail(std::iter::repeat_n(fault, count));
    }

    /// All statuses a commit got, oldest first.
    pub fn statuses(&self, repository: &str, commit: &str) -> Vec<Status> {
        self.book().repositories.get(repository).and_then(|known| known.statuses.get(commit)).cloned().unwrap_or_default()
    }

    /// What it was told of releases, by version.
    pub fn releases(&self, repository: &str) -> BTreeMap<String, Release> {
        self.book().repositories.get(repository).map(|known| known.releases.clone()).unwrap_or_default()
    }

    pub(crate) async fn refs(&self, repository: &str) -> BTreeMap<String, String> {
        let dir = self.folder.join(format!("{repository}.git"));
        let mut command = tokio::process::Command::new("git");
        command.arg("--git-dir").arg(dir).args(["for-each-ref", "--format=%(refname) %(objectname)"]);
        let output = command.output().await.map(|output| output.stdout).unwrap_or_default();
        let text = String::from_utf8_lossy(&output).into_owned();
        text.lines().filter_map(|line| line.split_once(' ')).map(|(name, id)| (name.to_owned(), id.to_owned())).collect()
    }

    /// Who made a commit: the practice forge has no accounts, so that is who pushed.
    pub(crate) async fn committer(&self, repository: &str, commit: &str) -> String {
        let dir = self.folder.join(format!("{repository}.git"));
        let mut command = tokio::process::Command::new("git");
        command.arg("--git-dir").arg(dir).args(["log", "-1", "--format=%cn", commit]);
        let output = command.output().await.map(|output| output.stdout).unwrap_or_default();
        String::from_utf8_lossy(&output).trim().to_owned()
    }
}
