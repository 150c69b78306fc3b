//! Who is who: persons here by what forges, commits and rules call them.

use crate::app::App;
use ordotaxis_core::access::{Action, Grants, Object, Rights, Seen, allowed};
use ordotaxis_store::{PersonRow, Project, StoreError};
use std::collections::{BTreeSet, HashMap};

/// The persons here, for one project.
pub(crate) struct Who {
    pub(crate) persons: Vec<PersonRow>,
    /// (login at the project's forge, person's number)
    logins: Vec<(String, i64)>,
    /// (group, person's name)
    members: Vec<(String, String)>,
    rights: HashMap<i64, Grants>,
    project: (String, Seen),
}

impl Who {
    pub(crate) async fn of(app: &App, project: &Project) -> Result<Who, StoreError> {
        let issuer = project.forge.as_ref().map(|forge| forge.url.trim_end_matches('/').to_owned()).unwrap_or_default();
        let identities = app.records.identities().await?.into_iter().filter(|one| one.issuer.trim_end_matches('/') == issuer);
        let groups = app.records.groups().await?.into_iter();
        let persons = app.records.persons().await?;
        // Where there is no forge, persons are called as they are here.
        let logins = match project.forge {
            Some(_) => identities.map(|one| (one.subject, one.person_id)).collect(),
            None => persons.iter().map(|person| (person.name.clone(), person.id)).collect(),
        };
        Ok(Who {
            persons,
            logins,
            rights: app.records.grants_of_all().await?,
            project: (project.name.clone(), project.seen),
            members: groups.flat_map(|group| group.members.into_iter().map(move |person| (group.name.clone(), person))).collect(),
        })
    }

    /// Whom the forge calls so.
    pub(crate) fn by_login(&self, login: &str) -> Option<&PersonRow> {
        let id = self.logins.iter().find(|(known, _)| known == login).map(|(_, id)| *id)?;
        self.persons.iter().find(|person| person.id == id)
    }

    /// What the forge calls someone.
    pub(crate) fn login_of(&self, person: i64) -> Option<&str> {
        self.logins.iter().find(|(_, id)| *id == person).map(|(login, _)| login.as_str())
    }

    /// Whose commits carry this name and address: by the address, then by what the forge calls them.
    pub(crate) fn by_author(&self, name: &str, mail: &str) -> Option<&PersonRow> {
        let same = |person: &&PersonRow| person.mail.as_deref().is_some_and(|known| known.eq_ignore_ascii_case(mail));
        self.persons.iter().find(same).or_else(|| self.by_login(name))
    }

    /// Whom the service calls so.
    pub(crate) fn by_name(&self, name: &str) -> Option<&PersonRow> {
        self.persons.iter().find(|person| person.name == name)
    }

    /// Whether a person is among these names of persons and `@groups`.
    pub(crate) fn is_among(&self, person: &str, by: &[String]) -> bool {
        by.iter().any(|name| match name.strip_prefix('@') {
            Some(group) => self.members.iter().any(|(of, member)| of == group && member == person),
            None => name == person,
        })
    }

    /// Whether a person may do this in the project.
    pub(crate) fn may(&self, person: i64, action: Action) -> bool {
        let (name, seen) = &self.project;
        let rights = Rights::Person(self.rights.get(&person).cloned().unwrap_or_default());
        allowed(&rights, action, Object::Project { name, seen: *seen }).is_ok()
    }

    /// The numbers of those who are among these names of persons and `@groups`.
    pub(crate) fn among(&self, by: &[String]) -> BTreeSet<i64> {
        self.persons.iter().filter(|person| self.is_among(&person.name, by)).map(|person| person.id).collect()
    }
}
