//! Decides what is tried now and what may land: looked at anew after every event, from the branch on upwards. What fits
//! stays; what does not is dropped; where there is room, one more trial is made.

use super::queue::{Marked, Queue, Trial, TrialState};
use super::{Effect, Offered};
use crate::language::counted;
use std::collections::HashSet;

/// What may be put on top of what, front first.
struct Walk {
    /// Trials that are still of use.
    kept: Vec<u64>,
    /// One that is to be made.
    make: Option<(String, Vec<Offered>)>,
    /// A proposal that fails, it may be because of one ahead of it: what comes behind it is not made before that is known.
    unclear: Option<Offered>,
}

impl Queue {
    pub(super) fn settle(&mut self, effects: &mut Vec<Effect>) {
        self.let_go(effects);
        let walk = self.walk();
        let kept: HashSet<u64> = walk.kept.iter().copied().collect();
        for trial in self.trials.iter().filter(|trial| !kept.contains(&trial.number)) {
            effects.push(Effect::Drop { trial: trial.number });
        }
        self.trials.retain(|trial| kept.contains(&trial.number));
        let place = |trial: &Trial| walk.kept.iter().position(|number| *number == trial.number);
        self.trials.sort_by_key(place);
        if let Some((on, group)) = walk.make {
            let number = self.next_trial;
            self.next_trial += 1;
            self.trials.push(Trial { number, on: on.clone(), group: group.clone(), state: TrialState::Making, twice: false });
            effects.push(Effect::Make { trial: number, on, group });
        }
        self.forget();
        self.land(effects);
    }

    /// The proposals that may be tried, in order.
    fn candidates(&self) -> Vec<Offered> {
        let may = self.entries.iter().filter(|entry| entry.held.is_none() && entry.lacks.is_none());
        may.map(|entry| entry.offered.clone()).collect()
    }

    /// Proposals of which it is known that they do not go on the branch as it is leave.
    fn let_go(&mut self, effects: &mut Vec<Effect>) {
        if self.trials.iter().any(Trial::may_have_landed) {
            // The branch is about to be another.
            return;
        }
        let alone: Vec<(String, String)> = self
            .marks
            .iter()
            .filter(|mark| mark.on == self.head)
            .filter_map(|mark| match (&mark.group[..], &mark.is) {
                ([one], Marked::Failed { sentence, .. }) => Some((one, sentence.clone())),
                ([one], Marked::Conflict { files }) => Some((one, does_not_fit(files))),
                ([one], Marked::Contained) => Some((one, "the branch holds it already".to_owned())),
                _ => None,
            })
            .filter(|(one, _)| self.entry(&one.proposal).is_some_and(|entry| entry.offered == **one))
            .map(|(one, why)| (one.proposal.clone(), why))
            .collect();
        for (proposal, why) in alone {
            self.leave(&proposal, why, effects);
        }
    }

    /// Goes from the branch upwards: which trials stay, and which is made next.
    fn walk(&self) -> Walk {
        let candidates = self.candidates();
        let (mut kept, mut on, mut at, mut live, mut unclear) = (Vec::new(), self.head.clone(), 0, 0, None);
        // What was pushed is the front, whatever is asked for meanwhile.
        if let Some(front) = self.trials.iter().find(|trial| trial.may_have_landed()) {
            kept.push(front.number);
            on = front.commit().cloned().unwrap_or(on);
        }
        let gone: HashSet<&Offered> = self.trials.iter().filter(|trial| trial.may_have_landed()).flat_map(|trial| &trial.group).collect();
        let candidates: Vec<Offered> = candidates.iter().filter(|one| !gone.contains(one)).cloned().collect();
        while at < candidates.len() {
            let rest = &candidates[at..];
            if let Some(trial) =
                self.trials.iter().find(|trial| !trial.may_have_landed() && trial.on == on && rest.starts_with(&trial.group))
            {
                kept.push(trial.number);
                live += usize::from(!trial.has_passed());
                at += trial.group.len();
                match trial.commit() {
                    Some(commit) => on = commit.clone(),
                    // What comes on top of it can be made when it is.
                    None => return Walk { kept, make: None, unclear },
                }
                continue;
            }
            if unclear.is_none() && live > 0 && self.may_be_led_astray(&on, rest) {
                unclear = rest.first().cloned();
            }
            // What is tried behind already is looked for on; nothing more is made.
            let size = if unclear.is_some() { 0 } else { self.size(&on, rest) };
            if size == 0 {
                at += 1;
                continue;
            }
            let make = (live < self.manner.ahead.max(1)).then(|| (on, rest[..size].to_vec()));
            return Walk { kept, make, unclear };
        }
        Walk { kept, make: None, unclear }
    }

    /// Whether the first of these failed on a commit, alone or with others, and nobody knows that what is ahead is well.
    fn may_be_led_astray(&self, on: &str, rest: &[Offered]) -> bool {
        let failed = |is: &Marked| matches!(is, Marked::Failed { own: false, .. });
        self.marks.iter().any(|mark| mark.on == on && rest.starts_with(&mark.group) && failed(&mark.is))
    }

    /// The proposal that another waits behind, since nobody knows yet whether it fails by itself.
    pub(super) fn unclear_before(&self, offered: &Offered) -> Option<String> {
        // Nearly always there is none, and nobody need look through the queue for it.
        self.unclear().next()?;
        let unclear = self.walk().unclear?;
        let place = |one: &Offered| self.entries.iter().position(|entry| entry.offered == *one);
        (place(&unclear)? < place(offered)?).then_some(unclear.proposal)
    }

    /// How many of these, from the first on, can be put on a commit as far as is known; 0: not even the first.
    fn size(&self, on: &str, rest: &[Offered]) -> usize {
        let mut size = self.unsuspected(rest).min(self.manner.together.max(1));
        while size > 0 {
            // What fails or does not fit does so with more on top of it, too.
            let Some(mark) = self.marks.iter().find(|mark| mark.on == on && rest[..size].starts_with(&mark.group)) else { return size };
            size = match mark.is {
                Marked::Conflict { .. } | Marked::Contained => mark.group.len() - 1,
                Marked::Failed { .. } => mark.group.len() / 2,
            };
        }
        0
    }

    /// How many of these may be tried together, by what is suspected: of a group that failed half of what is left of it; of
    /// others up to the first suspect.
    fn unsuspected(&self, rest: &[Offered]) -> usize {
        let among = |one: &Offered| self.suspects.iter().find(|suspects| suspects.contains(one));
        match rest.first().and_then(among) {
            Some(suspects) => {
                let together = rest.iter().take_while(|one| suspects.contains(one)).count();
                together.min((suspects.len() / 2).max(1))
            }
            None => rest.iter().take_while(|one| among(one).is_none()).count(),
        }
    }

    /// What is known of commits that nothing can be put on any more need not be known.
    fn forget(&mut self) {
        let mut on: HashSet<String> = self.trials.iter().filter_map(|trial| trial.commit().cloned()).collect();
        on.insert(self.head.clone());
        self.marks.retain(|mark| on.contains(&mark.on));
    }

    /// The front lands, if it has passed on exactly what the branch holds.
    fn land(&mut self, effects: &mut Vec<Effect>) {
        if self.shut.is_some() {
            return;
        }
        let Some(front) = self.trials.first_mut() else { return };
        if front.on != self.head {
            return;
        }
        let TrialState::Passed { commit } = front.state.clone() else { return };
        front.state = TrialState::Landing { commit: commit.clone() };
        let (from, group) = (self.head.clone(), front.group.clone());
        effects.push(Effect::Land { trial: front.number, from, commit, group });
    }
}

/// `it does not merge: 2 files differ on both sides: a, b`
fn does_not_fit(files: &[String]) -> String {
    let named = files.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
    let more = if files.len() > 5 { " and more" } else { "" };
    format!("it does not merge: {} changed on both sides: {named}{more}", counted(files.len(), "file"))
}
