//! How one kind of event is found in a delivery, and how its fields are read.

use super::event::{Event, Hosted, Offer, Review};
use super::part::Part;
use super::place::{Condition, Field};
use serde_json::Value;
use std::collections::BTreeMap;

/// How one kind of event is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// The table of the profile: `hook.push`, `request.proposals.item`.
    pub table: &'static str,
    pub line: usize,
    /// All must hold.
    pub when: Vec<Condition>,
    /// A list in the body, of which each item is an event.
    pub each: Option<String>,
    /// By name.
    pub fields: BTreeMap<&'static str, Field>,
}

/// A field that must be there and is not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Miss {
    /// The table of the profile: `hook.push`.
    pub table: &'static str,
    pub field: &'static str,
    /// Where it was looked for.
    pub looked_for: String,
    /// The profile's line; 0 where the profile says nothing of the field.
    pub line: usize,
    /// Something stands there, and is no commit.
    pub odd: bool,
}

impl std::fmt::Display for Miss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Miss { table, field, looked_for, line, odd } = self;
        match line {
            line if *odd => write!(f, "`{field}` of [{table}] at {looked_for} is no commit (line {line} of the profile)"),
            0 => write!(f, "the profile says nothing of `{field}` of [{table}]"),
            line => write!(f, "`{field}` of [{table}] is not at {looked_for} (line {line} of the profile)"),
        }
    }
}

impl Pattern {
    pub(super) fn items<'v>(&self, body: &'v Value) -> Vec<&'v Value> {
        match &self.each {
            None => vec![body],
            Some(pointer) => body.pointer(pointer).and_then(Value::as_array).into_iter().flatten().collect(),
        }
    }

    fn optional(&self, part: &Part<'_>, field: &'static str) -> Option<String> {
        self.fields.get(field)?.text(part).filter(|text| !text.is_empty())
    }

    fn needed(&self, part: &Part<'_>, field: &'static str) -> Result<String, Miss> {
        self.optional(part, field).ok_or_else(|| self.miss(field, false))
    }

    fn miss(&self, field: &'static str, odd: bool) -> Miss {
        let known = self.fields.get(field);
        let looked_for = known.map(Field::words).unwrap_or_default();
        Miss { table: self.table, field, looked_for, line: known.map_or(0, |field| field.line), odd }
    }

    fn flag(&self, part: &Part<'_>, field: &'static str) -> Option<bool> {
        self.fields.get(field)?.flag(part)
    }

    /// A branch or tag without what git puts before its name.
    fn name(&self, part: &Part<'_>, field: &'static str, prefix: &str) -> Result<String, Miss> {
        let name = self.needed(part, field)?;
        Ok(name.strip_prefix(prefix).unwrap_or(&name).to_owned())
    }

    pub(super) fn event(&self, part: &Part<'_>) -> Result<Event, Miss> {
        let by = self.optional(part, "by");
        let proposal = || self.needed(part, "number");
        Ok(match self.table {
            "hook.push" => {
                let branch = self.name(part, "branch", "refs/heads/")?;
                match self.tip(part)? {
                    Some(commit) => Event::Push { branch, commit, before: self.optional(part, "before"), by },
                    None => Event::Gone { name: branch, tag: Some(false), by },
                }
            }
            "hook.tag" => {
                let tag = self.name(part, "tag", "refs/tags/")?;
                match self.tip(part)? {
                    Some(commit) => Event::Tag { tag, commit, by },
                    None => Event::Gone { name: tag, tag: Some(true), by },
                }
            }
            "hook.gone" => {
                let name = self.needed(part, "name")?;
                match (name.strip_prefix("refs/heads/"), name.strip_prefix("refs/tags/")) {
                    (Some(branch), _) => Event::Gone { name: branch.to_owned(), tag: Some(false), by },
                    (_, Some(tag)) => Event::Gone { name: tag.to_owned(), tag: Some(true), by },
                    _ => Event::Gone { tag: self.flag(part, "tag"), name, by },
                }
            }
            "hook.closed" => Event::Closed { proposal: proposal()?, by },
            "hook.landed" => Event::Landed { proposal: proposal()?, commit: self.optional_commit(part)?, by },
            "hook.comment" => Event::Comment { proposal: proposal()?, text: self.needed(part, "text")?, by },
            "hook.review" => Event::Review(self.review(part)?),
            _ => Event::Proposal(self.offer(part)?),
        })
    }

    /// The commit that a name has now; none where it was removed: nothing but zeros stands there.
    fn tip(&self, part: &Part<'_>) -> Result<Option<String>, Miss> {
        Ok(Some(self.commit(part)?).filter(|commit| !commit.bytes().all(|byte| byte == b'0')))
    }

    fn commit(&self, part: &Part<'_>) -> Result<String, Miss> {
        self.optional_commit(part)?.ok_or_else(|| self.miss("commit", false))
    }

    /// A forge may say anything: a commit is what git could call one (SHA-1 or SHA-256, in hexadecimal digits).
    fn optional_commit(&self, part: &Part<'_>) -> Result<Option<String>, Miss> {
        match self.optional(part, "commit") {
            Some(text) if text.len() > 64 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) => Err(self.miss("commit", true)),
            commit => Ok(commit),
        }
    }

    /// A repository, as a list tells of it.
    pub(super) fn hosted(&self, part: &Part<'_>) -> Result<Hosted, Miss> {
        Ok(Hosted { name: self.needed(part, "name")?, git: self.needed(part, "git")? })
    }

    /// A proposal, as a hook or a list tells of it.
    pub(super) fn offer(&self, part: &Part<'_>) -> Result<Offer, Miss> {
        Ok(Offer {
            number: self.optional(part, "number"),
            title: self.optional(part, "title"),
            target: self.name(part, "target", "refs/heads/")?,
            source: self.optional(part, "source").map(|name| name.strip_prefix("refs/heads/").unwrap_or(&name).to_owned()),
            commit: self.commit(part)?,
            outside: self.flag(part, "outside").unwrap_or(true),
            draft: self.flag(part, "draft").unwrap_or(false),
            by: self.optional(part, "by"),
            link: self.optional(part, "link"),
            open: self.flag(part, "open").unwrap_or(true),
        })
    }

    /// Someone's word on a proposal; a list of reviews need not name the proposal.
    pub(super) fn review(&self, part: &Part<'_>) -> Result<Review, Miss> {
        let proposal = if self.table == "hook.review" { self.needed(part, "number")? } else { String::new() };
        let approves = match (self.flag(part, "approves"), self.flag(part, "refuses")) {
            (Some(true), _) => Some(true),
            (_, Some(true)) => Some(false),
            _ => None,
        };
        Ok(Review { proposal, by: self.needed(part, "by")?, approves, commit: self.optional_commit(part)? })
    }
}
