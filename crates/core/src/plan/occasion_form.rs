//! An occasion as it is stored and sent: one flat object, version 1. Fields are added, never renamed. What is read is
//! brought into the form of [`Cause`], where each kind has exactly what it is about.

use super::occasion::{Carry, Cause, Event, Merges, Occasion, Ref};
use indexmap::IndexMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use utoipa::openapi::{RefOr, Schema};

/// What made, or could make, a run begin. Stored with the run; fields are added, never renamed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
struct OccasionForm {
    event: Event,
    /// None for a tag, and for a proposal: its branch is the proposer's to name, so nothing may be decided by it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    branch: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    tag: Option<String>,
    /// The branch that a proposal is aimed at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    target: Option<String>,
    /// The branch that a proposal comes from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    source: Option<String>,
    /// What the forge calls the proposal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    proposal: Option<String>,
    /// A proposal from outside the project's own repository, or one of which that is not known: it gets no secrets.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    outside: bool,
    /// The commit's full id; empty where a plan is made without one.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    commit: String,
    /// What a proposal offers, where `commit` is that merged with its target: verdicts go here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    head: Option<String>,
    /// Who pushed or started it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    by: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    author: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    message: Option<String>,
    /// Paths that differ from what was there before. None: not known, so anything may have changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    changed: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, String>)]
    inputs: IndexMap<String, String>,
    /// The schedule's own text, as the file writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    schedule: Option<String>,
    /// The pipeline that passed, `PROJECT/NAME`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pipeline: Option<String>,
    /// What the branch named before a push.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    before: Option<String>,
    /// The target's commit that `commit` merges `head` into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    base: Option<String>,
    /// The trial's number in the landing queue.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    trial: Option<u64>,
    /// The earlier run whose jobs are done once more, `PROJECT/NUMBER`, and the environment that they are done for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    of: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    environment: Option<String>,
    /// Only this pipeline is meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    meant: Option<String>,
    /// Pipelines whose passed runs led here, oldest first: a circle of them must end.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    led_by: Vec<String>,
    /// The project that the pipeline belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    project: Option<String>,
    /// Only these jobs, and those they take from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    only: Vec<String>,
}

/// What is missing for an occasion of its kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("an occasion with the event `{}` names its {missing}", event.word())]
struct Incomplete {
    event: Event,
    missing: &'static str,
}

impl TryFrom<OccasionForm> for Occasion {
    type Error = Incomplete;

    fn try_from(form: OccasionForm) -> Result<Occasion, Incomplete> {
        let missing = |missing| Incomplete { event: form.event, missing };
        let mut commit = Some(form.commit).filter(|commit| !commit.is_empty());
        let on = || form.tag.clone().map(Ref::Tag).or_else(|| form.branch.clone().map(Ref::Branch));
        let cause = match form.event {
            Event::Push => Cause::Push { branch: form.branch.ok_or_else(|| missing("branch"))?, before: form.before },
            Event::Proposal => {
                let merges = match (form.head, form.base) {
                    (Some(head), Some(base)) => Some(Merges { head, base }),
                    (head, _) => {
                        commit = head.or(commit);
                        None
                    }
                };
                let target = form.target.ok_or_else(|| missing("target"))?;
                Cause::Proposal { target, source: form.source, outside: form.outside, number: form.proposal, merges }
            }
            Event::Tag => Cause::Tag { tag: form.tag.ok_or_else(|| missing("tag"))? },
            Event::Schedule => Cause::Schedule { line: form.schedule, branch: form.branch },
            Event::ByHand => Cause::ByHand { on: on() },
            Event::Pipeline => Cause::Passed { on: on(), pipeline: form.pipeline },
            Event::Landing => Cause::Landing {
                target: form.target.ok_or_else(|| missing("target"))?,
                trial: form.trial.ok_or_else(|| missing("trial"))?,
                outside: form.outside,
                base: form.base.ok_or_else(|| missing("base"))?,
            },
            Event::Promotion | Event::RollBack | Event::Closing => Cause::Carried {
                way: match form.event {
                    Event::RollBack => Carry::Back,
                    Event::Closing => Carry::Away,
                    _ => Carry::On,
                },
                outside: form.outside,
                on: on(),
                of: form.of.ok_or_else(|| missing("of"))?,
                environment: form.environment.ok_or_else(|| missing("environment"))?,
            },
        };
        Ok(Occasion {
            cause,
            commit,
            by: form.by,
            author: form.author,
            message: form.message,
            changed: form.changed,
            inputs: form.inputs,
            meant: form.meant,
            led_by: form.led_by,
            project: form.project,
            only: form.only,
        })
    }
}

impl From<Occasion> for OccasionForm {
    fn from(occasion: Occasion) -> OccasionForm {
        let owned = |text: Option<&str>| text.map(str::to_owned);
        let mut form = OccasionForm {
            event: occasion.event(),
            branch: owned(occasion.branch()),
            tag: owned(occasion.tag_name()),
            target: owned(occasion.target()),
            source: owned(occasion.source()),
            proposal: owned(occasion.proposal_number()),
            outside: occasion.is_from_outside(),
            commit: occasion.commit.unwrap_or_default(),
            by: occasion.by,
            author: occasion.author,
            message: occasion.message,
            changed: occasion.changed,
            inputs: occasion.inputs,
            meant: occasion.meant,
            led_by: occasion.led_by,
            project: occasion.project,
            only: occasion.only,
            ..OccasionForm::default()
        };
        match occasion.cause {
            Cause::Push { before, .. } => form.before = before,
            Cause::Proposal { merges: Some(Merges { head, base }), .. } => (form.head, form.base) = (Some(head), Some(base)),
            Cause::Schedule { line, .. } => form.schedule = line,
            Cause::Passed { pipeline, .. } => form.pipeline = pipeline,
            Cause::Landing { trial, base, .. } => (form.trial, form.base) = (Some(trial), Some(base)),
            Cause::Carried { of, environment, .. } => (form.of, form.environment) = (Some(of), Some(environment)),
            Cause::Proposal { .. } | Cause::Tag { .. } | Cause::ByHand { .. } => {}
        }
        form
    }
}

impl Serialize for Occasion {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        OccasionForm::from(self.clone()).serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Occasion {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Occasion, D::Error> {
        Occasion::try_from(OccasionForm::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

impl utoipa::PartialSchema for Occasion {
    fn schema() -> RefOr<Schema> {
        OccasionForm::schema()
    }
}

impl utoipa::ToSchema for Occasion {
    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        OccasionForm::schemas(schemas);
    }
}
