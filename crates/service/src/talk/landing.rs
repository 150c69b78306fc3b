//! Where proposals stand on their way into their branches, in words.

use crate::app::App;
use crate::landing::{RulesError, Words, rules_of};
use ordotaxis_core::forge::short;
use ordotaxis_core::landing::Queue;
use ordotaxis_core::rules::Rules;
use ordotaxis_store::{LandingEnd, Project, ProposalRow, StoreError};

/// How many ends are looked through for why one left.
const ENDS: i64 = 100;

/// What is known of a project's queues: read once, for as many proposals as one likes.
pub(crate) struct Landings {
    queues: Vec<(String, Queue)>,
    ends: Vec<LandingEnd>,
    /// None: they cannot be read.
    rules: Option<Rules>,
    words: Words,
}

impl Landings {
    pub(crate) async fn of(app: &App, project: &Project) -> Result<Landings, StoreError> {
        let rules = match rules_of(app, project).await {
            Err(RulesError::Store(error)) => return Err(error),
            rules => rules.ok(),
        };
        Ok(Landings {
            queues: app.records.landings(project.id).await?,
            ends: app.records.landing_ends(project.id, ENDS).await?,
            rules,
            words: Words::of(app, project).await?,
        })
    }

    /// Where a proposal stands in the landing queue; where it is in none, why it left and what it would lack.
    pub(crate) fn lines(&self, row: &ProposalRow) -> Vec<String> {
        match row.state.as_str() {
            "landed" => {
                let commit = row.landed_as.as_deref().map(|commit| format!(" as {}", short(commit))).unwrap_or_default();
                return vec![format!("it has landed in {}{commit}", row.target)];
            }
            "closed" => return vec!["it was closed".to_owned()],
            _ => {}
        }
        let queue = self.queues.iter().find(|(branch, _)| *branch == row.target);
        if let Some(place) = queue.and_then(|(_, queue)| queue.place(&row.number)) {
            let sentence = place.standing.sentence(&place.ahead);
            return vec![format!("place {} in the queue of {}: it {sentence}", place.place, row.target)];
        }
        let ends = self.ends.iter().filter(|end| end.proposal == row.number && end.head == row.head);
        let left = ends.filter_map(|end| end.why.as_ref()).next();
        let mut lines: Vec<String> = left.map(|why| format!("it left the queue of {}: {why}", row.target)).into_iter().collect();
        let rules = self.rules.as_ref().map(|rules| rules.branch(&row.target)).filter(|rules| rules.queue);
        lines.extend(rules.and_then(|rules| self.words.lacking(row, &rules)));
        lines
    }
}
