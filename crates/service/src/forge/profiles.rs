//! The dialects that are known: those that are shipped, and those in the data folder's `profiles`.

use ordotaxis_core::forge::{Profile, profile};
use ordotaxis_core::language::{Diagnostic, Lines};
use ordotaxis_store::Project;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// What a plain git server's hooks speak: that of every project without a forge.
pub(crate) const PLAIN: &str = "plain";

const SHIPPED: [(&str, &str); 4] = [
    ("practice", include_str!("../../profiles/practice.toml")),
    ("harbour", include_str!("../../profiles/harbour.toml")),
    ("beacon", include_str!("../../profiles/beacon.toml")),
    (PLAIN, include_str!("../../profiles/plain.toml")),
];

/// Why a forge's profile could not be used.
#[derive(Debug, thiserror::Error)]
pub enum ProfileError {
    #[error("the profile {name} could not be read")]
    Read {
        name: String,
        #[source]
        source: std::io::Error,
    },
    #[error("the profile {name} has {count} {}, first in line {line}: {message}; `ordotaxis profile check FILE` shows all", if *count == 1 { "mistake" } else { "mistakes" })]
    Form { name: String, count: usize, line: usize, message: String },
}

/// Profiles by name.
#[derive(Debug, Default)]
pub(crate) struct Profiles(BTreeMap<String, Arc<Profile>>);

impl Profiles {
    /// The shipped ones and those in `folder`, if there is such a folder; one in the folder goes before a shipped one.
    pub(crate) fn load(folder: &Path) -> Result<Profiles, ProfileError> {
        let mut profiles = BTreeMap::new();
        for (name, text) in SHIPPED {
            profiles.insert(name.to_owned(), Arc::new(parse(name, text)?));
        }
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        for path in entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|ext| ext == "toml")) {
            let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
            let text = std::fs::read_to_string(&path).map_err(|source| ProfileError::Read { name: name.clone(), source })?;
            profiles.insert(name.clone(), Arc::new(parse(&name, &text)?));
        }
        Ok(Profiles(profiles))
    }

    /// A profile by name.
    pub(crate) fn get(&self, name: &str) -> Option<&Arc<Profile>> {
        self.0.get(name)
    }

    /// The profile that a project's deliveries are read by; none where it names one that is not there any more.
    pub(crate) fn of(&self, project: &Project) -> Option<&Arc<Profile>> {
        self.get(project.forge.as_ref().map_or(PLAIN, |forge| forge.profile.as_str()))
    }

    /// The names of all that are some forge's.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str).filter(|name| *name != PLAIN)
    }
}

fn parse(name: &str, text: &str) -> Result<Profile, ProfileError> {
    let (profile, diagnostics) = profile(text);
    profile.ok_or_else(|| mistakes(name, text, &diagnostics))
}

fn mistakes(name: &str, text: &str, diagnostics: &[Diagnostic]) -> ProfileError {
    let first = diagnostics.first();
    let line = first.map_or(1, |found| Lines::new(text).position(found.span.start).0);
    let message = first.map(|found| found.message.clone()).unwrap_or_default();
    ProfileError::Form { name: name.to_owned(), count: diagnostics.len(), line, message }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_shipped_has_no_mistake_and_the_folder_goes_first() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(Profiles::load(folder.path()).unwrap().names().collect::<Vec<_>>(), ["beacon", "harbour", "practice"]);
        std::fs::write(folder.path().join("practice.toml"), "[hook]\nsignature = { way = \"token\", header = \"x-own\" }\n").unwrap();
        let own = Profiles::load(folder.path()).unwrap();
        assert!(own.get("practice").unwrap().events.is_empty());
        std::fs::write(folder.path().join("other.toml"), "[hook]\nsignature = \"standard-webhooks\"\n[hook.push]\n").unwrap();
        let told = Profiles::load(folder.path()).unwrap_err().to_string();
        assert!(told.starts_with("the profile other has 3 mistakes, first in line 3: `[hook.push]` has no `when`"), "{told}");
    }
}
