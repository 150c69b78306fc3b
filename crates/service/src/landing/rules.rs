//! The rules of a project, as its main branch says them now, and what a proposal still lacks by them.

use crate::app::App;
use crate::who::Who;
use ordotaxis_core::access::Action;
use ordotaxis_core::language::{Lines, Severity};
use ordotaxis_core::rules::{self, Approvals, BranchRules, Rules};
use ordotaxis_git::GitError;
use ordotaxis_store::{Project, ProposalRow, ReviewRow, StoreError};

/// Why nobody knows what the rules are.
#[derive(Debug, thiserror::Error)]
pub(crate) enum RulesError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the rules cannot be read: {0}")]
    Git(#[from] GitError),
    #[error("{place}:{line}: {message}; nothing lands or goes into an environment until it is mended")]
    Mistake { place: &'static str, line: usize, message: String },
}

/// The rules that the newest commit of the main branch holds (none at all where it has no such file), and those that the
/// service keeps, which only add to them.
pub(crate) async fn rules_of(app: &App, project: &Project) -> Result<Rules, RulesError> {
    let kept = app.records.kept_rules(project.id).await?;
    let own = match text_on_main(app, project).await? {
        Some(text) => read(&text, rules::FILE)?,
        None => Rules::default(),
    };
    Ok(if kept.is_empty() { own } else { own.stricter(&read(&kept, KEPT)?) })
}

/// What the rules are called that the service keeps.
const KEPT: &str = "the rules that the service keeps";

/// The file's text on the main branch; none where it has none.
pub(crate) async fn text_on_main(app: &App, project: &Project) -> Result<Option<String>, RulesError> {
    let mirror = app.mirror(project);
    let Some(commit) = mirror.resolve(&project.main_branch).await? else { return Ok(None) };
    let bytes = mirror.read(&commit, rules::FILE).await?;
    Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned()))
}

fn read(text: &str, place: &'static str) -> Result<Rules, RulesError> {
    let (rules, told) = rules::read(text);
    match told.iter().find(|found| found.severity == Severity::Error) {
        Some(found) => {
            let (line, _) = Lines::new(text).position(found.span.start);
            Err(RulesError::Mistake { place, line, message: found.message.clone() })
        }
        None => Ok(rules),
    }
}

/// Everybody's words on the open proposals of a project, and who they are: read once, for as many proposals as one likes.
pub(crate) struct Words {
    reviews: Vec<ReviewRow>,
    who: Who,
}

impl Words {
    pub(crate) async fn of(app: &App, project: &Project) -> Result<Words, StoreError> {
        Ok(Words { reviews: app.records.reviews(project.id).await?, who: Who::of(app, project).await? })
    }

    /// What a proposal still lacks to be tried; none: nothing.
    pub(crate) fn lacking(&self, row: &ProposalRow, rules: &BranchRules) -> Option<String> {
        if row.draft {
            return Some("it is a draft".into());
        }
        let reviews: Vec<&ReviewRow> = self.reviews.iter().filter(|review| review.proposal_id == row.id).collect();
        rules.approvals.iter().find_map(|wanted| missing(wanted, row, &reviews, &self.who))
    }
}

/// What is missing of these approvals, in words: `1 of 2 approvals, by ines or @keepers`.
fn missing(wanted: &Approvals, row: &ProposalRow, reviews: &[&ReviewRow], who: &Who) -> Option<String> {
    let author = row.author.as_deref().and_then(|login| who.by_login(login));
    let counts = |review: &&&ReviewRow| {
        let Some(person) = who.by_login(&review.who) else { return false };
        let may = if wanted.by.is_empty() { who.may(person.id, Action::Land) } else { who.is_among(&person.name, &wanted.by) };
        let own = author.is_some_and(|author| author.id == person.id) || row.author.as_deref() == Some(review.who.as_str());
        may && (wanted.author || !own)
    };
    if let Some(refusal) = reviews.iter().filter(counts).find(|review| !review.approves && review.commit_id == row.head) {
        return Some(format!("{} refuses it", refusal.who));
    }
    let given = reviews.iter().filter(counts).filter(|review| review.approves && review.commit_id == row.head).count();
    if given >= wanted.of {
        return None;
    }
    let by = if wanted.by.is_empty() { String::new() } else { format!(", by {}", wanted.by.join(" or ")) };
    let count = ordotaxis_core::language::counted(wanted.of - given, "approval");
    let missing = if wanted.of - given == 1 { "is" } else { "are" };
    Some(format!("{count} of its newest commit {missing} missing{by}"))
}
