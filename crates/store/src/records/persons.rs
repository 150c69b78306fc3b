//! Persons, how they are known elsewhere, groups, and who holds which role on what.

use super::{Records, StoreError, Tx, exists};
use ordotaxis_core::access::{Grants, Role};
use std::collections::{BTreeMap, HashMap};

/// A person who may sign in.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct PersonRow {
    pub id: i64,
    pub name: String,
    pub mail: Option<String>,
    pub added_at: i64,
}

/// How a person is known elsewhere: the subject at an OpenID Connect issuer, the login at a forge's address.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct IdentityRow {
    pub person_id: i64,
    pub issuer: String,
    pub subject: String,
}

/// A group of persons, with its members.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GroupRow {
    pub name: String,
    /// Names of persons.
    pub members: Vec<String>,
}

/// Who holds a role.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holder {
    Person(String),
    Group(String),
}

impl Holder {
    /// `NAME`, or `@NAME` for a group.
    pub fn parse(text: &str) -> Holder {
        match text.strip_prefix('@') {
            Some(group) => Holder::Group(group.to_owned()),
            None => Holder::Person(text.to_owned()),
        }
    }
}

/// A role of a person or group on the service or on a project.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct GrantRow {
    /// `NAME`, or `@NAME` for a group.
    pub holder: String,
    /// None: on the service.
    pub project: Option<String>,
    pub role: String,
    pub given_by: String,
    pub given_at: i64,
}

const GRANTS: &str = "SELECT coalesce(persons.name, '@' || group_name) AS holder, projects.name AS project, role, given_by, given_at
  FROM grants LEFT JOIN persons ON persons.id = person_id LEFT JOIN projects ON projects.id = project_id";

fn role(word: &str) -> Result<Role, StoreError> {
    word.parse().map_err(|_| StoreError::Value("grants.role"))
}

impl Records {
    /// By name.
    pub async fn persons(&self) -> Result<Vec<PersonRow>, StoreError> {
        Ok(sqlx::query_as("SELECT id, name, mail, added_at FROM persons ORDER BY name").fetch_all(&self.reads).await?)
    }

    /// A person by name; none when there is no such person.
    pub async fn person(&self, name: &str) -> Result<Option<PersonRow>, StoreError> {
        let sql = "SELECT id, name, mail, added_at FROM persons WHERE name = ?";
        Ok(sqlx::query_as(sql).bind(name).fetch_optional(&self.reads).await?)
    }

    /// How a person can sign in through a provider: issuer and subject.
    pub async fn identities(&self) -> Result<Vec<IdentityRow>, StoreError> {
        let sql = "SELECT person_id, issuer, subject FROM identities ORDER BY person_id, issuer, subject";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// Who someone is that is known elsewhere.
    pub async fn identified(&self, issuer: &str, subject: &str) -> Result<Option<PersonRow>, StoreError> {
        let sql = "SELECT id, name, mail, persons.added_at FROM persons JOIN identities ON person_id = id WHERE issuer = ? AND subject = ?";
        Ok(sqlx::query_as(sql).bind(issuer).bind(subject).fetch_optional(&self.reads).await?)
    }

    /// By name, with their members by name.
    pub async fn groups(&self) -> Result<Vec<GroupRow>, StoreError> {
        let sql = "SELECT groups.name, persons.name FROM groups LEFT JOIN members ON group_name = groups.name
                   LEFT JOIN persons ON persons.id = person_id ORDER BY groups.name, persons.name";
        let rows: Vec<(String, Option<String>)> = sqlx::query_as(sql).fetch_all(&self.reads).await?;
        let mut groups: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (group, member) in rows {
            groups.entry(group).or_default().extend(member);
        }
        Ok(groups.into_iter().map(|(name, members)| GroupRow { name, members }).collect())
    }

    /// Every role that was given: those on the service first, then by project and holder.
    pub async fn grants(&self) -> Result<Vec<GrantRow>, StoreError> {
        let sql = format!("{GRANTS} ORDER BY projects.name, holder");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).fetch_all(&self.reads).await?)
    }

    /// What a person holds, also as a member of groups.
    pub async fn grants_of(&self, person_id: i64) -> Result<Grants, StoreError> {
        let sql = "SELECT projects.name, role FROM grants LEFT JOIN projects ON projects.id = project_id
                   WHERE person_id = ?1 OR group_name IN (SELECT group_name FROM members WHERE person_id = ?1)";
        let rows: Vec<(Option<String>, String)> = sqlx::query_as(sql).bind(person_id).fetch_all(&self.reads).await?;
        let mut grants = Grants::default();
        for (project, word) in rows {
            add(&mut grants, project, &word)?;
        }
        Ok(grants)
    }

    /// What each person holds that holds anything, by their numbers.
    pub async fn grants_of_all(&self) -> Result<HashMap<i64, Grants>, StoreError> {
        let sql = "SELECT holders.person_id, projects.name, role FROM grants LEFT JOIN projects ON projects.id = project_id
                   JOIN (SELECT id AS person_id, id AS own, NULL AS of FROM persons
                         UNION ALL SELECT person_id, NULL, group_name FROM members) AS holders
                     ON grants.person_id = own OR grants.group_name = of";
        let rows: Vec<(i64, Option<String>, String)> = sqlx::query_as(sql).fetch_all(&self.reads).await?;
        let mut all: HashMap<i64, Grants> = HashMap::new();
        for (person, project, word) in rows {
            add(all.entry(person).or_default(), project, &word)?;
        }
        Ok(all)
    }

    /// Persons who may give roles on a project (or on the service): its owners, by name.
    pub async fn owners(&self, project: Option<&str>) -> Result<Vec<String>, StoreError> {
        let sql = "SELECT DISTINCT persons.name FROM persons JOIN grants
                     ON person_id = persons.id OR group_name IN (SELECT group_name FROM members WHERE members.person_id = persons.id)
                   WHERE role = 'owner' AND (project_id IS NULL OR project_id = (SELECT id FROM projects WHERE name = ?)) ORDER BY 1";
        Ok(sqlx::query_scalar(sql).bind(project).fetch_all(&self.reads).await?)
    }
}

/// One more role; none on a project: on the service. The highest counts.
fn add(grants: &mut Grants, project: Option<String>, word: &str) -> Result<(), StoreError> {
    let role = Some(role(word)?);
    match project {
        None => grants.service = grants.service.max(role),
        Some(name) => {
            let known = grants.projects.get(&name).copied();
            grants.projects.extend(known.max(role).map(|role| (name, role)));
        }
    }
    Ok(())
}

impl Tx {
    /// A name that is taken is refused.
    pub async fn add_person(&mut self, name: &str, mail: Option<&str>) -> Result<i64, StoreError> {
        let sql = "INSERT INTO persons (name, mail, added_at, notice_key) VALUES (?, ?, ?, lower(hex(randomblob(16)))) RETURNING id";
        let query = sqlx::query_scalar(sql).bind(name).bind(mail).bind(self.now);
        query.fetch_one(&mut *self.on).await.map_err(|error| exists(error, "a person", name))
    }

    /// What a person is called; none where they were removed.
    pub async fn person_name(&mut self, person_id: i64) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT name FROM persons WHERE id = ?").bind(person_id).fetch_optional(&mut *self.on).await?)
    }

    /// Sets a person's mail address, or removes it.
    pub async fn set_mail(&mut self, person_id: i64, mail: Option<&str>) -> Result<(), StoreError> {
        sqlx::query("UPDATE persons SET mail = ? WHERE id = ?").bind(mail).bind(person_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// With the person go tokens, sessions, memberships and roles. The journal keeps what was done.
    pub async fn remove_person(&mut self, person_id: i64) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM persons WHERE id = ?").bind(person_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Whether someone holds `owner` on the service: without one nobody could give roles any more.
    pub async fn has_owner(&mut self) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM grants WHERE role = 'owner' AND project_id IS NULL AND (person_id IS NOT NULL
                     OR EXISTS (SELECT 1 FROM members WHERE members.group_name = grants.group_name)))";
        Ok(sqlx::query_scalar(sql).fetch_one(&mut *self.on).await?)
    }

    /// An identity that is another person's is refused.
    pub async fn add_identity(&mut self, person_id: i64, issuer: &str, subject: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO identities (issuer, subject, person_id, added_at) VALUES (?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(issuer).bind(subject).bind(person_id).bind(self.now);
        query.execute(&mut *self.on).await.map_err(|error| exists(error, "a person with the identity", subject))?;
        Ok(())
    }

    /// False when the person has no such identity.
    pub async fn remove_identity(&mut self, person_id: i64, issuer: &str, subject: &str) -> Result<bool, StoreError> {
        let sql = "DELETE FROM identities WHERE person_id = ? AND issuer = ? AND subject = ?";
        let query = sqlx::query(sql).bind(person_id).bind(issuer).bind(subject);
        Ok(query.execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Makes a group, or gives it other members.
    pub async fn set_group(&mut self, name: &str, members: &[i64]) -> Result<(), StoreError> {
        let sql = "INSERT INTO groups (name, added_at) VALUES (?, ?) ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(name).bind(self.now).execute(&mut *self.on).await?;
        sqlx::query("DELETE FROM members WHERE group_name = ?").bind(name).execute(&mut *self.on).await?;
        for member in members {
            let sql = "INSERT INTO members (group_name, person_id) VALUES (?, ?) ON CONFLICT DO NOTHING";
            sqlx::query(sql).bind(name).bind(member).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// With the group go its roles. False when there was none.
    pub async fn remove_group(&mut self, name: &str) -> Result<bool, StoreError> {
        Ok(sqlx::query("DELETE FROM groups WHERE name = ?").bind(name).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Gives a role in place of the one held there before, which is returned; with none it is only taken away.
    pub async fn set_grant(
        &mut self,
        holder: &Holder,
        project: Option<&str>,
        role: Option<Role>,
        by: &str,
    ) -> Result<Option<String>, StoreError> {
        let (person, group) = match holder {
            Holder::Person(name) => (Some(name), None),
            Holder::Group(name) => (None, Some(name)),
        };
        let sql = "DELETE FROM grants WHERE person_id IS (SELECT id FROM persons WHERE name = ?) AND group_name IS ?
                   AND project_id IS (SELECT id FROM projects WHERE name = ?) RETURNING role";
        let before = sqlx::query_scalar(sql).bind(person).bind(group).bind(project).fetch_optional(&mut *self.on).await?;
        if let Some(role) = role {
            let sql = "INSERT INTO grants (person_id, group_name, project_id, role, given_by, given_at)
                       VALUES ((SELECT id FROM persons WHERE name = ?), ?, (SELECT id FROM projects WHERE name = ?), ?, ?, ?)";
            let query = sqlx::query(sql).bind(person).bind(group).bind(project).bind(role.word()).bind(by).bind(self.now);
            query.execute(&mut *self.on).await?;
        }
        Ok(before)
    }
}
