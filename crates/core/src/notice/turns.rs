//! Whether a pipeline of the main branch broke or was fixed. What fails is told once as long as it goes on; what passes again
//! is told once. Runs may end in another order than their commits came: an older one's end says nothing any more.

use crate::engine::State;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// More that fails is not remembered by name.
const REMEMBERED: usize = 500;

/// How a pipeline was when people were last told. Stored as JSON, version 1.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Turns {
    /// The number of the newest run that counted, and its commit.
    pub run: i64,
    pub commit: String,
    /// The newest commit that passed.
    pub good: Option<String>,
    pub broken: Option<Broken>,
}

/// Since when it is broken, and what was told of that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Broken {
    /// The run that people were told of first.
    pub run: i64,
    pub commit: String,
    /// The newest commit that had passed.
    pub good: Option<String>,
    pub told: BTreeSet<String>,
}

/// How a run ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Judged {
    pub run: i64,
    /// It is a repeat of an earlier run.
    pub again: bool,
    pub commit: String,
    pub state: State,
    /// What fails in it: tests, or jobs without tests.
    pub failing: Vec<String>,
}

/// What is worth telling.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Turn {
    /// These fail now.
    Broke {
        new: Vec<String>,
        /// The newest commit that passed.
        good: Option<String>,
        /// The run of which people were told first, where it is broken already and more fails now.
        since: Option<i64>,
    },
    /// It was broken since this run.
    Fixed {
        since: i64,
        /// The newest commit that had passed before.
        good: Option<String>,
    },
}

impl Turns {
    /// Takes in how a run ended.
    pub fn judge(&mut self, judged: Judged) -> Option<Turn> {
        let old = if judged.again { judged.commit != self.commit } else { judged.run <= self.run };
        if old || !matches!(judged.state, State::Passed | State::Reused | State::Failed) {
            return None;
        }
        (self.run, self.commit) = (judged.run, judged.commit.clone());
        if judged.state == State::Failed {
            return self.broke(judged);
        }
        self.good = Some(judged.commit);
        let broken = self.broken.take()?;
        Some(Turn::Fixed { since: broken.run, good: broken.good })
    }

    fn broke(&mut self, judged: Judged) -> Option<Turn> {
        let since = self.broken.as_ref().map(|broken| broken.run);
        let broken = self.broken.get_or_insert_with(|| Broken {
            run: judged.run,
            commit: judged.commit,
            good: self.good.clone(),
            told: BTreeSet::new(),
        });
        let full = broken.told.len() >= REMEMBERED;
        let new: Vec<String> = judged.failing.into_iter().filter(|one| !broken.told.contains(one)).take(REMEMBERED).collect();
        broken.told.extend(new.iter().cloned());
        (since.is_none() || !(new.is_empty() || full)).then(|| Turn::Broke { new, good: self.good.clone(), since })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn judged(run: i64, state: State, failing: &[&str]) -> Judged {
        let failing = failing.iter().map(|one| (*one).to_owned()).collect();
        Judged { run, again: false, commit: format!("c{run}"), state, failing }
    }

    #[test]
    fn each_turn_is_told_once() {
        let mut turns = Turns::default();
        assert_eq!(turns.judge(judged(1, State::Passed, &[])), None, "it was never broken");
        let broke = turns.judge(judged(2, State::Failed, &["a"]));
        assert_eq!(broke, Some(Turn::Broke { new: vec!["a".into()], good: Some("c1".into()), since: None }));
        assert_eq!(turns.judge(judged(3, State::Failed, &["a"])), None, "the same is told once");
        let more = turns.judge(judged(4, State::Failed, &["a", "b"]));
        assert_eq!(more, Some(Turn::Broke { new: vec!["b".into()], good: Some("c1".into()), since: Some(2) }));
        assert_eq!(turns.judge(judged(5, State::Lost, &[])), None, "nobody knows");
        assert_eq!(turns.judge(judged(3, State::Passed, &[])), None, "an older commit's end");
        let other = Judged { again: true, commit: "c2".into(), ..judged(6, State::Passed, &[]) };
        assert_eq!(turns.judge(other), None, "an older commit once more");
        let again = Judged { again: true, commit: "c4".into(), ..judged(7, State::Passed, &[]) };
        assert_eq!(turns.judge(again), Some(Turn::Fixed { since: 2, good: Some("c1".into()) }), "the newest once more");
        assert!(turns.judge(judged(8, State::Failed, &["a"])).is_some(), "it is new again");
    }

    proptest! {
        /// Against a plain reading of the ends in order of their runs: after every end, people believe what the newest end
        /// says, and while it is broken nothing is told twice.
        #[test]
        fn people_believe_what_is_so(ends in prop::collection::vec((1_i64..30, 0_usize..3, prop::collection::btree_set("[abc]", 0..3)), 0..40)) {
            let (mut turns, mut told, mut believed) = (Turns::default(), BTreeSet::new(), None);
            let mut newest = (0, State::Passed);
            for (run, kind, failing) in ends {
                let state = [State::Passed, State::Failed, State::Stopped][kind];
                if run > newest.0 && state != State::Stopped {
                    newest = (run, state);
                }
                let failing: Vec<&str> = failing.iter().map(String::as_str).collect();
                match turns.judge(judged(run, state, &failing)) {
                    Some(Turn::Broke { new, since, .. }) => {
                        prop_assert_eq!(since, believed);
                        for one in new {
                            prop_assert!(told.insert(one), "told twice");
                        }
                        believed = believed.or(Some(run));
                    }
                    Some(Turn::Fixed { since, .. }) => {
                        prop_assert_eq!(Some(since), believed.take());
                        told.clear();
                    }
                    None => {}
                }
                prop_assert_eq!(believed.is_some(), newest.1 == State::Failed);
            }
        }
    }
}
