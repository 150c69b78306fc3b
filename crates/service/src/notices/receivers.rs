//! Who is told: persons who see the project, want to hear of such things and have an address; and the addresses that the
//! project's rules name.

use crate::app::App;
use crate::causes::causes;
use crate::landing::{RulesError, rules_of};
use crate::who::Who;
use ordotaxis_core::access::Action;
use ordotaxis_core::notice::{Choice, Notice};
use ordotaxis_store::{NewNotice, NewWork, Project, StoreError, Tx, WorkKind};
use std::collections::{BTreeSet, HashMap};

/// One who is told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Receiver {
    pub(super) person: Option<i64>,
    /// The `[notice.NAME]` that names it.
    pub(super) name: Option<String>,
    /// A mail address, or the address of a webhook.
    pub(super) to: String,
}

/// Everybody who is told of a notice. `own`: the persons whom it concerns; `needs`: what one must be able to do about it.
pub(super) async fn receivers(
    app: &App,
    project: &Project,
    who: &Who,
    notice: &Notice,
    own: &BTreeSet<i64>,
    needs: Action,
) -> Result<Vec<Receiver>, StoreError> {
    let mut found = Vec::new();
    if app.post.is_some() {
        let choices: HashMap<i64, Choice> = app.records.choices_for(project.id).await?.into_iter().collect();
        for person in &who.persons {
            let Some(mail) = &person.mail else { continue };
            let wants = choices.get(&person.id).cloned().unwrap_or_default().wants(notice.occasion, own.contains(&person.id));
            if wants && who.may(person.id, needs) {
                found.push(Receiver { person: Some(person.id), name: None, to: mail.clone() });
            }
        }
    }
    let rules = match rules_of(app, project).await {
        Ok(rules) => rules,
        Err(RulesError::Store(error)) => return Err(error),
        Err(error) => {
            tracing::warn!(error = causes(&error), project = project.name, "the addresses of the project's rules are not told");
            return Ok(found);
        }
    };
    for (name, rule) in rules.notices.iter().filter(|(_, rule)| rule.on.contains(&notice.occasion)) {
        let mail = rule.mail.iter().filter(|_| app.post.is_some());
        for to in mail.chain(rule.hook.iter().map(|(url, _)| url)) {
            found.push(Receiver { person: None, name: Some(name.clone()), to: to.clone() });
        }
    }
    Ok(found)
}

/// Keeps a notice for each receiver, and has it sent.
pub(super) async fn tell(tx: &mut Tx, project: &Project, notice: &Notice, to: &[Receiver]) -> Result<(), StoreError> {
    for receiver in to {
        let (person_id, name) = (receiver.person, receiver.name.as_deref());
        tx.add_notice(&NewNotice { project_id: project.id, person_id, receiver: &receiver.to, name, notice }).await?;
        let (project_id, lane) = (project.id, receiver.to.clone());
        tx.add_work(&NewWork { kind: WorkKind::Notice, project_id, lane, once: None, body: "{}".to_owned() }).await?;
    }
    Ok(())
}
