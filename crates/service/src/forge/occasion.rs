//! What starts pipelines, and the work that it is.

use ordotaxis_core::forge::Event;
use ordotaxis_core::plan::{Cause, Occasion};
use ordotaxis_store::{NewWork, Project, WorkKind};

/// The occasion that an event is, where it starts pipelines.
pub(super) fn occasion(event: &Event) -> Option<Occasion> {
    let of = |cause, commit: &String, by: &Option<String>| {
        Some(Occasion { commit: Some(commit.clone()), by: by.clone(), ..Occasion::new(cause) })
    };
    match event {
        Event::Push { branch, commit, before, by } => of(Cause::Push { branch: branch.clone(), before: before.clone() }, commit, by),
        Event::Tag { tag, commit, by } => of(Cause::Tag { tag: tag.clone() }, commit, by),
        Event::Proposal(offer) if offer.open => {
            let cause = Cause::Proposal {
                target: offer.target.clone(),
                source: offer.source.clone(),
                outside: offer.outside,
                number: offer.number.clone(),
                merges: None,
            };
            of(cause, &offer.commit, &offer.by)
        }
        _ => None,
    }
}

/// An event that starts pipelines as work. `once` names it.
pub(super) fn work_of(project: &Project, event: &Event, once: String) -> NewWork {
    let body = occasion(event).and_then(|occasion| serde_json::to_string(&occasion).ok()).unwrap_or_default();
    NewWork { kind: WorkKind::Occasion, project_id: project.id, lane: String::new(), once: Some(once), body }
}
