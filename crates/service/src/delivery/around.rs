//! What stands around an environment at a moment.

use crate::app::App;
use crate::landing::{RulesError, rules_of};
use crate::who::Who;
use ordotaxis_core::access::Action;
use ordotaxis_core::delivery::{Environment, People, Stay, Surroundings, Way, Wish};
use ordotaxis_core::rules::{EnvironmentRules, Rules};
use ordotaxis_store::{Project, StoreError};
use std::collections::hash_map::Entry;
use std::collections::{BTreeSet, HashMap, HashSet};

/// What holds for all environments of a project at a moment: the rules as the main branch says them, and who people are.
pub(crate) struct Standing {
    /// An error says in words why nobody knows them.
    rules: Result<Rules, String>,
    /// The main branch's newest commit.
    pub(crate) commit: String,
    pub(crate) who: Who,
}

impl Standing {
    pub(crate) async fn of(app: &App, project: &Project) -> Result<Standing, StoreError> {
        let rules = match rules_of(app, project).await {
            Ok(rules) => in_order(rules),
            Err(RulesError::Store(error)) => return Err(error),
            Err(error) => Err(error.to_string()),
        };
        // Without the commit nobody knows which rules these are.
        let (rules, commit) = match app.mirror(project).resolve(&project.main_branch).await {
            Ok(commit) => (rules, commit.unwrap_or_default()),
            Err(error) => (Err(format!("the rules cannot be read: {error}")), String::new()),
        };
        Ok(Standing { rules, commit, who: Who::of(app, project).await? })
    }

    /// The rules of one environment.
    pub(crate) fn rules(&self, name: &str) -> Result<EnvironmentRules, String> {
        let rules = self.rules.as_ref().map_err(Clone::clone)?;
        Ok(rules.environment(name).unwrap_or_default())
    }
}

/// Rules under which every wait can end.
fn in_order(rules: Rules) -> Result<Rules, String> {
    match rules.circle() {
        Some(way) => Err(format!("the rules of environments come after each other in a circle: {}", way.join(" after "))),
        None => Ok(rules),
    }
}

/// Everything that one environment is decided by, read once.
pub(crate) struct Around<'s> {
    standing: &'s Standing,
    pub(crate) rules: Result<EnvironmentRules, String>,
    /// (environment, digest) → when it was well there.
    stays: HashMap<(String, String), Vec<Stay>>,
    /// (environment, digest) of what is being put there.
    going: HashSet<(String, String)>,
}

impl<'s> Around<'s> {
    /// Without what was well elsewhere: enough to ask whose approval counts.
    pub(crate) fn here(standing: &'s Standing, name: &str) -> Around<'s> {
        Around { standing, rules: standing.rules(name), stays: HashMap::new(), going: HashSet::new() }
    }

    /// With what was well elsewhere of all that waits there, and of what comes along.
    pub(crate) async fn of(
        app: &App,
        project: &Project,
        standing: &'s Standing,
        name: &str,
        state: &Environment,
        more: Option<&Wish>,
    ) -> Result<Around<'s>, StoreError> {
        let Around { rules, mut stays, mut going, .. } = Around::here(standing, name);
        for other in rules.iter().flat_map(|rules| &rules.after) {
            // Before what was well there is read: what ends in between is known to be there, or to be on its way.
            let inside = app.records.environment_state(project.id, other).await?;
            let wish = inside.inside().map(|inside| &inside.wish).filter(|wish| wish.way != Way::Close);
            going.extend(wish.iter().flat_map(|wish| &wish.artifacts).map(|digest| (other.clone(), digest.clone())));
            for digest in state.waiting().map(|(wish, _)| wish).chain(more).flat_map(|wish| &wish.artifacts) {
                let key = (other.clone(), digest.clone());
                if let Entry::Vacant(free) = stays.entry(key) {
                    free.insert(app.records.stays(project.id, other, digest).await?);
                }
            }
        }
        Ok(Around { standing, rules, stays, going })
    }

    /// The same for one call of the core.
    pub(crate) fn at<R>(&self, now: i64, with: impl FnOnce(&Surroundings<'_>) -> R) -> R {
        let stays =
            |environment: &str, digest: &str| self.stays.get(&(environment.to_owned(), digest.to_owned())).cloned().unwrap_or_default();
        let going = |environment: &str, digest: &str| self.going.contains(&(environment.to_owned(), digest.to_owned()));
        let rules = self.rules.as_ref().map_err(String::as_str);
        with(&Surroundings { now, rules, rules_commit: &self.standing.commit, people: &self.standing.who, stays: &stays, going: &going })
    }
}

impl People for Who {
    fn is_among(&self, person: &str, names: &[String]) -> bool {
        let may = self.by_name(person).is_some_and(|row| self.may(row.id, Action::ApproveDeployment));
        may && (names.is_empty() || Who::is_among(self, person, names))
    }

    fn count(&self, names: &[String], without: &BTreeSet<String>) -> usize {
        self.persons.iter().filter(|row| !without.contains(&row.name) && People::is_among(self, &row.name, names)).count()
    }
}
