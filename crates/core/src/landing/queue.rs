//! What the queue keeps, and what each event changes in it. What follows is decided in one place: `settle`.

use super::{Effect, Event, Manner, Offered};
use crate::engine::Millis;
use serde::{Deserialize, Serialize};

/// A proposal in the queue.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    pub offered: Offered,
    pub by: String,
    pub asked_at: Millis,
    /// Higher ones go first; within one rank it is the order of asking.
    pub rank: i64,
    /// In which order it came: no two have the same.
    pub came: u64,
    /// It keeps its place and is not tried.
    pub held: Option<String>,
    /// What it still lacks.
    pub lacks: Option<String>,
}

/// Some proposals put on top of a commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trial {
    pub number: u64,
    /// The branch's commit, or that of the trial ahead.
    pub on: String,
    pub group: Vec<Offered>,
    pub state: TrialState,
    /// It was tried once more, since what failed is flaky.
    pub twice: bool,
}

/// How far a trial is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "snake_case")]
pub enum TrialState {
    Making,
    /// It could not be made, and is made again when it is time for that.
    Unmade {
        why: String,
    },
    Running {
        commit: String,
    },
    Passed {
        commit: String,
    },
    /// It is being pushed: nothing about it changes until that is known.
    Landing {
        commit: String,
    },
    /// It could not be pushed, and is pushed again when it is time for that. Not `sure`: the push may have arrived.
    Unlanded {
        commit: String,
        sure: bool,
        why: String,
    },
}

impl Trial {
    /// Its commit, once it is made.
    pub fn commit(&self) -> Option<&String> {
        match &self.state {
            TrialState::Making | TrialState::Unmade { .. } => None,
            TrialState::Running { commit }
            | TrialState::Passed { commit }
            | TrialState::Landing { commit }
            | TrialState::Unlanded { commit, .. } => Some(commit),
        }
    }

    pub(super) fn has_passed(&self) -> bool {
        matches!(self.state, TrialState::Passed { .. } | TrialState::Landing { .. } | TrialState::Unlanded { .. })
    }

    fn is_landing(&self) -> bool {
        matches!(self.state, TrialState::Landing { .. })
    }

    /// It was pushed, and what became of that is not known: a push may arrive of which no answer comes back.
    pub(super) fn may_have_landed(&self) -> bool {
        matches!(self.state, TrialState::Landing { .. } | TrialState::Unlanded { sure: false, .. })
    }

    /// What could not be done is done once more. A push that may have arrived is asked about, whoever holds it back by now.
    fn again(&mut self, effects: &mut Vec<Effect>) {
        let (number, on, group) = (self.number, self.on.clone(), self.group.clone());
        match self.state.clone() {
            TrialState::Unmade { .. } => {
                self.state = TrialState::Making;
                effects.push(Effect::Make { trial: number, on, group });
            }
            TrialState::Unlanded { commit, sure: false, .. } => {
                self.state = TrialState::Landing { commit: commit.clone() };
                effects.push(Effect::Land { trial: number, from: on, commit, group });
            }
            TrialState::Unlanded { commit, sure: true, .. } => self.state = TrialState::Passed { commit },
            _ => {}
        }
    }

    fn holds(&self, proposal: &str) -> bool {
        self.group.iter().any(|offered| offered.proposal == proposal)
    }
}

/// What is known of a group on a commit: that it fails, or does not fit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    pub on: String,
    pub group: Vec<Offered>,
    pub is: Marked,
}

/// Why a group cannot be put on a commit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "mark", rename_all = "snake_case")]
pub enum Marked {
    Failed {
        sentence: String,
        /// What failed passes without it: nothing ahead of it can be the reason.
        #[serde(default)]
        own: bool,
        /// The trial that told it; 0 in queues of before.
        #[serde(default)]
        trial: u64,
    },
    /// The last of the group does not fit on what is before it.
    Conflict { files: Vec<String> },
    /// What is before the last of the group holds it already.
    Contained,
}

/// The landing queue of one branch. Stored as JSON, version 1: fields are added, never renamed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Queue {
    /// The branch's commit, as far as is known.
    pub head: String,
    pub manner: Manner,
    /// Why nothing lands now.
    pub shut: Option<String>,
    pub(super) entries: Vec<Entry>,
    pub(super) trials: Vec<Trial>,
    pub(super) marks: Vec<Mark>,
    /// Groups of which one is known to be guilty: they are halved until it stands alone.
    #[serde(default)]
    pub(super) suspects: Vec<Vec<Offered>>,
    /// What the branch was told to name while something was being pushed to it.
    #[serde(default)]
    pub(super) elsewhere: Option<String>,
    pub(super) next_trial: u64,
    pub(super) next_entry: u64,
}

impl Queue {
    /// An empty queue for a branch that names this commit.
    pub fn new(head: impl Into<String>, manner: Manner) -> Queue {
        Queue {
            head: head.into(),
            manner,
            shut: None,
            entries: Vec::new(),
            trials: Vec::new(),
            marks: Vec::new(),
            suspects: Vec::new(),
            elsewhere: None,
            next_trial: 1,
            next_entry: 1,
        }
    }

    /// Its proposals in the order in which they are to land.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// What is being tried, front first.
    pub fn trials(&self) -> &[Trial] {
        &self.trials
    }

    /// One proposal of it.
    pub fn entry(&self, proposal: &str) -> Option<&Entry> {
        self.entries.iter().find(|entry| entry.offered.proposal == proposal)
    }

    /// Whether it was pushed, and may have landed: then it is too late to take it out.
    pub fn is_landing(&self, proposal: &str) -> bool {
        self.trials.iter().any(|trial| trial.may_have_landed() && trial.holds(proposal))
    }

    /// Takes in what happened, and says what is to be done.
    pub fn apply(&mut self, event: Event) -> Vec<Effect> {
        let mut effects = Vec::new();
        self.take(event, &mut effects);
        self.settle(&mut effects);
        effects
    }

    fn take(&mut self, event: Event, effects: &mut Vec<Effect>) {
        match event {
            Event::Asked { offered, by, at, lacks } => {
                let entry = Entry { offered, by, asked_at: at, rank: 0, came: self.next_entry, held: None, lacks };
                self.asked(entry, effects);
            }
            Event::Ranked { proposal, rank } => {
                if let Some(entry) = self.entry_mut(&proposal) {
                    entry.rank = rank;
                    self.sort();
                }
            }
            Event::Held { proposal, why } => {
                if let Some(entry) = self.entry_mut(&proposal) {
                    entry.held = why;
                }
            }
            Event::Lacks { proposal, why } => {
                if let Some(entry) = self.entry_mut(&proposal) {
                    entry.lacks = why;
                }
            }
            Event::Leave { proposal, why } => {
                // What was pushed has landed or not; which of the two is not known yet.
                if !self.is_landing(&proposal) {
                    self.leave(&proposal, why, effects);
                }
            }
            Event::Made { trial, commit } => {
                if let Some(trial) = self.trial_mut(trial).filter(|trial| trial.state == TrialState::Making) {
                    trial.state = TrialState::Running { commit: commit.clone() };
                    effects.push(Effect::Try { trial: trial.number, commit, again: false });
                }
            }
            Event::Conflict { trial, proposal, files } => self.unfit(trial, &proposal, Marked::Conflict { files }),
            Event::Contained { trial, proposal } => self.unfit(trial, &proposal, Marked::Contained),
            Event::NotMade { trial, why } => {
                if let Some(trial) = self.trial_mut(trial).filter(|trial| trial.state == TrialState::Making) {
                    trial.state = TrialState::Unmade { why };
                }
            }
            Event::Passed { trial } => self.passed(trial),
            Event::Failed { trial, sentence, flaky, own } => {
                self.failed(trial, Marked::Failed { sentence, own, trial }, flaky, effects);
            }
            Event::Cleared { trial } => self.cleared(trial),
            Event::Moved { head } => self.moved(head, effects),
            Event::Landed { trial } => self.landed(trial, effects),
            Event::NotLanded { trial, head, sure, why } => self.not_landed(trial, head, sure, why),
            Event::Shut { why } => self.shut = why,
            Event::Manner(manner) => self.manner = manner,
            Event::Again => self.trials.iter_mut().for_each(|trial| trial.again(effects)),
        }
    }

    fn entry_mut(&mut self, proposal: &str) -> Option<&mut Entry> {
        self.entries.iter_mut().find(|entry| entry.offered.proposal == proposal)
    }

    fn trial_mut(&mut self, number: u64) -> Option<&mut Trial> {
        self.trials.iter_mut().find(|trial| trial.number == number)
    }

    fn sort(&mut self) {
        self.entries.sort_by_key(|entry| (-entry.rank, entry.came));
    }

    fn asked(&mut self, entry: Entry, effects: &mut Vec<Effect>) {
        match self.entry(&entry.offered.proposal) {
            Some(known) if known.offered.head == entry.offered.head => return,
            // Another commit is another question: it goes to the end.
            Some(known) if self.is_landing(&known.offered.proposal) => return,
            Some(_) => {
                let proposal = entry.offered.proposal.clone();
                self.leave(&proposal, "it was asked for with another commit".into(), effects);
            }
            None => {}
        }
        self.next_entry += 1;
        self.entries.push(entry);
        self.sort();
    }

    /// Takes a proposal out; what was tried with it is of no use any more, which `settle` finds.
    pub(super) fn leave(&mut self, proposal: &str, why: String, effects: &mut Vec<Effect>) {
        let Some(at) = self.entries.iter().position(|entry| entry.offered.proposal == proposal) else { return };
        let entry = self.entries.remove(at);
        self.clear(std::slice::from_ref(&entry.offered));
        effects.push(Effect::HasLeft { offered: entry.offered, why });
    }

    /// A trial could not be made, since one of its proposals does not go on what is before it.
    fn unfit(&mut self, trial: u64, proposal: &str, is: Marked) {
        let Some(trial) = self.trial_mut(trial).filter(|trial| trial.state == TrialState::Making) else { return };
        let Some(at) = trial.group.iter().position(|offered| offered.proposal == proposal) else { return };
        let mark = Mark { on: trial.on.clone(), group: trial.group[..=at].to_vec(), is };
        let number = trial.number;
        self.trials.retain(|trial| trial.number != number);
        self.marks.push(mark);
    }

    fn passed(&mut self, number: u64) {
        let Some(trial) = self.trial_mut(number) else { return };
        let TrialState::Running { commit } = trial.state.clone() else { return };
        trial.state = TrialState::Passed { commit };
        let group = trial.group.clone();
        self.clear(&group);
    }

    /// What failed by chance, it may be, is tried once more.
    fn failed(&mut self, number: u64, is: Marked, flaky: bool, effects: &mut Vec<Effect>) {
        let Some(trial) = self.trial_mut(number) else { return };
        let TrialState::Running { commit } = trial.state.clone() else { return };
        if flaky && !trial.twice {
            trial.twice = true;
            effects.push(Effect::Try { trial: number, commit, again: true });
        } else {
            let mark = Mark { on: trial.on.clone(), group: trial.group.clone(), is };
            self.trials.retain(|trial| trial.number != number);
            self.suspect(&mark.group);
            self.marks.push(mark);
        }
    }

    /// What failed there fails by itself.
    fn cleared(&mut self, number: u64) {
        for mark in &mut self.marks {
            if let Marked::Failed { own, trial, .. } = &mut mark.is
                && *trial == number
                && number > 0
            {
                *own = true;
            }
        }
    }

    /// Trials that failed, it may be because of what is ahead of them, with the commit that each was put on.
    pub fn unclear(&self) -> impl Iterator<Item = (u64, &str)> {
        self.marks.iter().filter_map(|mark| match mark.is {
            Marked::Failed { own: false, trial, .. } if mark.on != self.head => Some((trial, mark.on.as_str())),
            _ => None,
        })
    }

    /// One of these is guilty. Of those that were suspected with them nothing is known any more; one alone is found.
    fn suspect(&mut self, group: &[Offered]) {
        self.suspects.retain(|suspects| !suspects.iter().any(|one| group.contains(one)));
        if group.len() > 1 {
            self.suspects.push(group.to_vec());
        }
    }

    /// These are not the guilty ones: they passed, or left.
    fn clear(&mut self, group: &[Offered]) {
        for suspects in &mut self.suspects {
            suspects.retain(|one| !group.contains(one));
        }
        self.suspects.retain(|suspects| !suspects.is_empty());
    }

    /// While something is being pushed, others tell of our own push or of one that came after it: which of the two is known
    /// when the push has answered.
    fn moved(&mut self, head: String, effects: &mut Vec<Effect>) {
        if let Some(landing) = self.trials.iter().find(|trial| trial.is_landing()) {
            if landing.commit() != Some(&head) && head != self.head {
                self.elsewhere = Some(head);
            }
            return;
        }
        // What passed as exactly this commit has landed, whoever pushed it.
        let landed = self.trials.iter().find(|trial| trial.has_passed() && trial.on == self.head && trial.commit() == Some(&head));
        match landed.map(|trial| trial.number) {
            Some(number) => self.landed(number, effects),
            None => self.head = head,
        }
    }

    fn not_landed(&mut self, number: u64, head: Option<String>, sure: bool, why: String) {
        let Some(trial) = self.trial_mut(number).filter(|trial| trial.is_landing()) else { return };
        let Some(commit) = trial.commit().cloned() else { return };
        let elsewhere = head.is_some();
        trial.state = if elsewhere { TrialState::Passed { commit } } else { TrialState::Unlanded { commit, sure, why } };
        if let Some(head) = head.or(self.elsewhere.take()) {
            self.head = head;
        }
        self.elsewhere = None;
    }

    fn landed(&mut self, number: u64, effects: &mut Vec<Effect>) {
        let Some(at) = self.trials.iter().position(|trial| trial.number == number && trial.has_passed()) else { return };
        let trial = self.trials.remove(at);
        let Some(commit) = trial.commit().cloned() else { return };
        for offered in &trial.group {
            self.entries.retain(|entry| entry.offered.proposal != offered.proposal);
            effects.push(Effect::HasLanded { offered: offered.clone(), commit: commit.clone() });
        }
        self.head = self.elsewhere.take().unwrap_or(commit);
    }
}
