//! Roles, who holds which, and what a token leaves of them.

use super::Object;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::str::FromStr;

/// Each holds what those before it hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// Sees runs, logs, artifacts, plans.
    Reader,
    /// Starts and stops.
    Operator,
    /// Changes a project's secrets, connections, kept pipelines, caches, settings.
    Editor,
    /// Everything.
    Owner,
}

/// A word that is not one of those there are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownWord(pub &'static str);

impl fmt::Display for UnknownWord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

impl std::error::Error for UnknownWord {}

impl Role {
    /// From the least rights to the most.
    pub const ALL: [Role; 4] = [Role::Reader, Role::Operator, Role::Editor, Role::Owner];

    /// The role as commands, the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Reader => "reader",
            Role::Operator => "operator",
            Role::Editor => "editor",
            Role::Owner => "owner",
        }
    }
}

impl FromStr for Role {
    type Err = UnknownWord;

    fn from_str(word: &str) -> Result<Role, UnknownWord> {
        let found = Role::ALL.into_iter().find(|role| role.word() == word);
        found.ok_or(UnknownWord("a role is reader, operator, editor or owner"))
    }
}

/// Who sees a project.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Seen {
    /// Everybody who is signed in.
    #[default]
    All,
    /// Who was granted a role on it, or on the service.
    Granted,
    /// Everybody, also without signing in.
    Public,
}

impl Seen {
    pub fn word(self) -> &'static str {
        match self {
            Seen::All => "all",
            Seen::Granted => "granted",
            Seen::Public => "public",
        }
    }
}

impl FromStr for Seen {
    type Err = UnknownWord;

    fn from_str(word: &str) -> Result<Seen, UnknownWord> {
        let found = [Seen::All, Seen::Granted, Seen::Public].into_iter().find(|seen| seen.word() == word);
        found.ok_or(UnknownWord("a project is seen by `all`, `granted` or is `public`"))
    }
}

/// What the caller holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Rights {
    /// Nobody is signed in.
    Nobody,
    Person(Grants),
    /// A job, with the token that it asked for.
    Job {
        /// Projects of which it may start pipelines.
        starts: BTreeSet<String>,
        /// Its own project, where it may leave notes on its run's commit.
        run_project: Option<String>,
    },
}

impl Rights {
    /// Whether the caller sees this project.
    pub fn sees(&self, name: &str, seen: Seen) -> bool {
        match self {
            Rights::Nobody => seen == Seen::Public,
            Rights::Person(grants) => grants.role_on(Object::Project { name, seen }).is_some(),
            Rights::Job { .. } => false,
        }
    }

    /// Whether the caller was given a role on just this project.
    pub fn has_own(&self, name: &str) -> bool {
        matches!(self, Rights::Person(grants) if grants.projects.contains_key(name))
    }
}

/// Roles of a person, those of groups included.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Grants {
    /// On the whole service, and so on every project.
    pub service: Option<Role>,
    /// On projects, by name.
    pub projects: BTreeMap<String, Role>,
    /// What the token that is used leaves of it.
    pub limit: Limit,
}

/// Fewer rights than the person has.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limit {
    /// No more than this role anywhere.
    pub role: Option<Role>,
    /// Nothing outside of these projects.
    pub projects: Option<BTreeSet<String>>,
}

impl Grants {
    /// The highest role on something; none where the person does not see it.
    ///
    /// ```
    /// use ordotaxis_core::access::{Grants, Limit, Object, Role, Seen};
    /// let ines = Grants { service: Some(Role::Owner), ..Grants::default() };
    /// let tidegauge = Object::Project { name: "tidegauge", seen: Seen::Granted };
    /// assert_eq!(ines.role_on(tidegauge), Some(Role::Owner), "a role on the service is one on every project");
    /// let token = Grants { limit: Limit { role: Some(Role::Reader), projects: None }, ..ines };
    /// assert_eq!(token.role_on(tidegauge), Some(Role::Reader));
    /// ```
    pub fn role_on(&self, object: Object<'_>) -> Option<Role> {
        let held = match object {
            Object::Service if self.limit.projects.is_some() => None,
            Object::Service => self.service,
            Object::Project { name, .. } if self.limit.projects.as_ref().is_some_and(|names| !names.contains(name)) => None,
            Object::Project { name, seen } => {
                let sees = (seen != Seen::Granted).then_some(Role::Reader);
                self.service.max(self.projects.get(name).copied()).max(sees)
            }
        };
        held.map(|role| self.limit.role.map_or(role, |most| role.min(most)))
    }
}
