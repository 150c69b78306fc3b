//! Where a proposal stands in the queue, in words.

use super::Offered;
use super::queue::{Entry, Marked, Queue, TrialState};

/// Where a proposal stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Counted from 1.
    pub place: usize,
    /// The proposals ahead of it, in order.
    pub ahead: Vec<String>,
    pub standing: Standing,
}

/// What it waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    Held {
        why: String,
    },
    Lacks {
        why: String,
    },
    /// It is put on top of what is ahead.
    Making,
    NotMade {
        why: String,
    },
    /// Its trial runs. `twice`: once more, since all that failed is known to fail by itself at times.
    Running {
        trial: u64,
        twice: bool,
    },
    /// Its trial has passed; it waits for those ahead, or for the branch to be open.
    Passed {
        trial: u64,
        shut: Option<String>,
    },
    Landing {
        trial: u64,
    },
    NotLanded {
        trial: u64,
        why: String,
    },
    /// It fails on top of those ahead: when they land it leaves, when one of them leaves it is tried anew.
    Doubtful {
        why: String,
    },
    /// It does not fit on one ahead.
    Conflicts {
        files: Vec<String>,
    },
    /// One ahead holds it already.
    Contained,
    /// One ahead fails, and nobody knows yet whether by itself.
    Unclear {
        of: String,
    },
    /// No trial is free.
    Waiting,
}

impl Standing {
    /// One sentence, without a full stop.
    pub fn sentence(&self, ahead: &[String]) -> String {
        let after = || match ahead {
            [] => String::new(),
            [one] => format!(" after {one}"),
            more => format!(" after {}", more.join(", ")),
        };
        match self {
            Standing::Held { why } => format!("is held: {why}"),
            Standing::Lacks { why } => format!("waits: {why}"),
            Standing::Making => format!("is being put on top of the branch{}", after()),
            Standing::NotMade { why } => format!("could not be put on top of the branch yet: {why}"),
            Standing::Running { twice: true, .. } => format!("is being tested once more, since what failed turns by itself{}", after()),
            Standing::Running { .. } => format!("is being tested{}", after()),
            Standing::Passed { shut: Some(why), .. } => format!("has passed, and waits: {why}"),
            Standing::Passed { .. } => format!("has passed, and lands{}", after()),
            Standing::Landing { .. } => "is landing".to_owned(),
            Standing::NotLanded { why, .. } => format!("has passed, and could not be pushed yet: {why}"),
            Standing::Doubtful { why } => format!("fails{}: {why}", after()),
            Standing::Conflicts { files } => format!("does not fit{}: {}", after(), files.join(", ")),
            Standing::Contained => format!("is part of what is ahead of it{}", after()),
            Standing::Unclear { of } => format!("waits until it is known whether {of} fails by itself"),
            Standing::Waiting => format!("waits for a free trial{}", after()),
        }
    }
}

impl Queue {
    /// Where a proposal stands; none when it is not in the queue.
    pub fn place(&self, proposal: &str) -> Option<Place> {
        let at = self.entries.iter().position(|entry| entry.offered.proposal == proposal)?;
        let ahead = self.entries[..at].iter().map(|entry| entry.offered.proposal.clone()).collect();
        Some(Place { place: at + 1, ahead, standing: self.standing(&self.entries[at]) })
    }

    fn standing(&self, entry: &Entry) -> Standing {
        if let Some(trial) = self.trials.iter().find(|trial| trial.group.contains(&entry.offered)) {
            let number = trial.number;
            return match &trial.state {
                TrialState::Making => Standing::Making,
                TrialState::Unmade { why } => Standing::NotMade { why: why.clone() },
                TrialState::Running { .. } => Standing::Running { trial: number, twice: trial.twice },
                TrialState::Passed { .. } => Standing::Passed { trial: number, shut: self.shut.clone() },
                TrialState::Landing { .. } => Standing::Landing { trial: number },
                TrialState::Unlanded { why, .. } => Standing::NotLanded { trial: number, why: why.clone() },
            };
        }
        if let Some(why) = &entry.held {
            return Standing::Held { why: why.clone() };
        }
        if let Some(why) = &entry.lacks {
            return Standing::Lacks { why: why.clone() };
        }
        match self.alone(&entry.offered) {
            Some(Marked::Failed { sentence, .. }) => Standing::Doubtful { why: sentence.clone() },
            Some(Marked::Conflict { files }) => Standing::Conflicts { files: files.clone() },
            Some(Marked::Contained) => Standing::Contained,
            None => self.unclear_before(&entry.offered).map_or(Standing::Waiting, |of| Standing::Unclear { of }),
        }
    }

    /// What is known of a proposal by itself, on some commit that counts.
    fn alone(&self, offered: &Offered) -> Option<&Marked> {
        self.marks.iter().find(|mark| mark.group == [offered.clone()]).map(|mark| &mark.is)
    }
}
