//! Those that are open, each its person's, for an hour: the key, the hook secret, the folder, and what came meanwhile.

use crate::clock;
use crate::seal::GitKey;
use ordotaxis_git::{GitError, Key};
use std::collections::{HashMap, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use tempfile::TempDir;
use tokio::sync::OnceCell;

/// A look that nobody asked for so long is forgotten.
const LASTS_MS: i64 = 60 * 60 * 1000;
/// How many one person has open, and how many there are in all; the oldest make way.
const OF_ONE: usize = 4;
const MOST: usize = 64;
/// So many deliveries of a look are remembered.
const HEARD: usize = 20;

/// Those that are open, by their ids.
pub(crate) struct FirstLooks {
    folder: PathBuf,
    open: Mutex<HashMap<String, Arc<FirstLook>>>,
}

/// One of them.
pub(crate) struct FirstLook {
    pub(crate) id: String,
    pub(crate) person: String,
    pub(crate) hook_secret: String,
    /// What is fetched, and the servers that were met; gone with the look.
    pub(super) folder: TempDir,
    key: OnceCell<GitKey>,
    now: Mutex<Now>,
    /// One call at a time reads.
    pub(super) reading: tokio::sync::Mutex<()>,
}

/// What changes while it is open.
#[derive(Default)]
struct Now {
    asked_at: i64,
    name: String,
    profile: Option<String>,
    heard: VecDeque<Heard>,
}

/// A delivery that came for it.
#[derive(Debug, Clone)]
pub(crate) struct Heard {
    pub(crate) at: i64,
    pub(crate) state: &'static str,
    pub(crate) events: Vec<String>,
    pub(crate) why: Option<String>,
}

impl FirstLooks {
    /// None is open; what an earlier service left in the folder is removed.
    pub(crate) fn new(folder: PathBuf) -> FirstLooks {
        let _ = std::fs::remove_dir_all(&folder);
        FirstLooks { folder, open: Mutex::default() }
    }

    fn open(&self) -> std::sync::MutexGuard<'_, HashMap<String, Arc<FirstLook>>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One that this person has open, asked for now.
    pub(crate) fn of(&self, id: &str, person: &str) -> Option<Arc<FirstLook>> {
        let now = clock::now();
        let mut open = self.open();
        open.retain(|_, look| look.now().asked_at + LASTS_MS > now);
        let found = open.get(id).filter(|look| look.person == person).cloned()?;
        found.now().asked_at = now;
        Some(found)
    }

    /// Opens one.
    pub(crate) fn begin(&self, person: &str, hook_secret: String) -> std::io::Result<Arc<FirstLook>> {
        std::fs::create_dir_all(&self.folder)?;
        let now = clock::now();
        let look = Arc::new(FirstLook {
            id: format!("{:032x}", rand::random::<u128>()),
            person: person.to_owned(),
            hook_secret,
            folder: tempfile::Builder::new().prefix("look-").tempdir_in(&self.folder)?,
            key: OnceCell::new(),
            now: Mutex::new(Now { asked_at: now, ..Now::default() }),
            reading: tokio::sync::Mutex::default(),
        });
        let mut open = self.open();
        open.retain(|_, other| other.now().asked_at + LASTS_MS > now);
        make_room(&mut open, OF_ONE, |other| other.person == person);
        make_room(&mut open, MOST, |_| true);
        open.insert(look.id.clone(), look.clone());
        Ok(look)
    }

    /// All that are open, whosever they are.
    pub(super) fn all(&self) -> Vec<Arc<FirstLook>> {
        self.open().values().cloned().collect()
    }

    /// It is over: a project was made of it, or nobody wants it.
    pub(crate) fn end(&self, id: &str) {
        self.open().remove(id);
    }
}

/// Where there are as many of a kind as may be, the one that was asked for longest ago goes.
fn make_room(open: &mut HashMap<String, Arc<FirstLook>>, most: usize, of: impl Fn(&FirstLook) -> bool) {
    let mut known: Vec<(i64, String)> = open.values().filter(|look| of(look)).map(|look| (look.now().asked_at, look.id.clone())).collect();
    known.sort();
    let over = (known.len() + 1).saturating_sub(most);
    for (_, id) in known.into_iter().take(over) {
        open.remove(&id);
    }
}

impl FirstLook {
    fn now(&self) -> std::sync::MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What the project would be called, and which profile reads its deliveries.
    pub(crate) fn call(&self, name: &str, profile: Option<String>) {
        let mut now = self.now();
        (now.name, now.profile) = (name.to_owned(), profile);
    }

    /// When it is forgotten.
    pub(crate) fn ends_at(&self) -> i64 {
        self.now().asked_at + LASTS_MS
    }

    /// What came, the newest first.
    pub(crate) fn heard(&self) -> Vec<Heard> {
        self.now().heard.iter().rev().cloned().collect()
    }

    /// What would be told of a delivery: its project's name and its profile.
    pub(super) fn called(&self) -> (String, Option<String>) {
        let now = self.now();
        (now.name.clone(), now.profile.clone())
    }

    /// Remembers a delivery that came for it.
    pub(super) fn note(&self, state: &'static str, events: Vec<String>, why: Option<String>) {
        let mut now = self.now();
        if now.heard.len() == HEARD {
            now.heard.pop_front();
        }
        now.heard.push_back(Heard { at: clock::now(), state, events, why });
    }

    /// The key that the repository is read with by SSH, made at the first call.
    pub(crate) async fn key(&self) -> Result<&GitKey, GitError> {
        let make = || async {
            let (private, public) = Key::make("ordotaxis").await?;
            Ok(GitKey { private, public })
        };
        self.key.get_or_try_init(make).await
    }

    /// The key, where one was made.
    pub(crate) fn key_made(&self) -> Option<GitKey> {
        self.key.get().cloned()
    }

    /// Where servers that were met are kept.
    pub(crate) fn known_hosts(&self) -> PathBuf {
        self.folder.path().join("known_hosts")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_look_is_its_persons_and_the_oldest_make_way() {
        let folder = tempfile::tempdir().expect("a folder");
        let looks = FirstLooks::new(folder.path().join("looks"));
        let first = looks.begin("maren", "s".into()).expect("a look");
        let place = first.folder.path().to_owned();
        assert!(looks.of(&first.id, "odd").is_none(), "another person's");
        assert!(looks.of(&first.id, "maren").is_some());
        let id = first.id.clone();
        drop(first);
        let later: Vec<_> = (0..OF_ONE).map(|_| looks.begin("maren", "s".into()).expect("a look").id.clone()).collect();
        let there = [vec![id], later].concat().iter().filter(|id| looks.of(id, "maren").is_some()).count();
        assert_eq!(there, OF_ONE);
        for number in 0..MOST {
            looks.begin(&format!("p{number}"), "s".into()).expect("a look");
        }
        assert_eq!(looks.open().len(), MOST);
        looks.open().values().for_each(|look| look.now().asked_at -= LASTS_MS);
        assert!(looks.of("none", "maren").is_none());
        assert!(looks.open().is_empty() && !place.exists(), "what is forgotten leaves nothing");
    }
}
