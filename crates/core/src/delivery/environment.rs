//! What is kept of an environment, and what each event changes in it.

use super::admit::{Answer, answer};
use super::hold::Hold;
use super::kept::{Doubt, Emergency, Frozen, Inside, Put};
use super::{Effect, End, Event, Surroundings, Way, Wish, Word};
use crate::dispatch::Key;
use crate::engine::Millis;
use crate::rules::OnFailure;
use serde::{Deserialize, Serialize};

/// One environment. Stored as JSON, version 1: fields are added, never renamed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Environment {
    /// What was last put there well.
    pub present: Option<Put>,
    /// Since when nobody knows what is there.
    pub doubt: Option<Doubt>,
    pub frozen: Option<Frozen>,
    pub(super) inside: Option<Inside>,
    pub(super) waiting: Vec<Waiting>,
    /// What went past the rules, until someone else confirms it.
    pub(super) emergencies: Vec<Emergency>,
    /// When it asked to be woken.
    pub(super) wakes: Option<Millis>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Waiting {
    wish: Wish,
    /// As last told.
    holds: Vec<Hold>,
}

impl Environment {
    /// Applies one event and looks at all that waits. Telling it again changes nothing.
    pub fn apply(&mut self, event: Event, around: &Surroundings<'_>) -> Vec<Effect> {
        let mut effects = Vec::new();
        match event {
            Event::Wants(wish) => self.wants(*wish, &mut effects),
            Event::Said { job, word } => self.said(job, word, around, &mut effects),
            Event::Gone { job } => self.gone(job),
            Event::Ended { job, end, at } => self.ended(job, end, at),
            Event::Urgent { job, by, reason } => self.urgent(job, by, reason),
            Event::Frozen(frozen) => self.frozen = frozen,
            Event::Look => {}
        }
        self.look(around, &mut effects);
        effects
    }

    /// Who waits, in the order in which they go in, with what holds each back.
    pub fn waiting(&self) -> impl Iterator<Item = (&Wish, &[Hold])> {
        self.waiting.iter().map(|one| (&one.wish, one.holds.as_slice()))
    }

    /// The deployment that goes on.
    pub fn inside(&self) -> Option<&Inside> {
        self.inside.as_ref()
    }

    /// When time alone changes something; none: never.
    pub fn wakes(&self) -> Option<Millis> {
        self.wakes
    }

    /// What went past the rules and nobody else has confirmed yet.
    pub fn unconfirmed(&self) -> &[Emergency] {
        &self.emergencies
    }

    fn is_inside(&self, job: Key) -> bool {
        self.inside.as_ref().is_some_and(|inside| inside.wish.job == job)
    }

    fn wants(&mut self, wish: Wish, effects: &mut Vec<Effect>) {
        if self.is_inside(wish.job) || self.waiting.iter().any(|one| one.wish.job == wish.job) {
            return;
        }
        if let Some(line) = &wish.line {
            let same = |one: &Waiting| one.wish.line.as_ref() == Some(line) && one.wish.job.0 != wish.job.0;
            if let Some(newer) = self.waiting.iter().find(|one| same(one) && one.wish.job.0 > wish.job.0) {
                return effects.push(Effect::Overtake { job: wish.job, by: newer.wish.called.clone() });
            }
            for older in self.waiting.extract_if(.., |one| same(one)) {
                effects.push(Effect::Overtake { job: older.wish.job, by: wish.called.clone() });
            }
        }
        self.line_up(Waiting { wish, holds: Vec::new() });
    }

    /// Emergencies first, then roll-backs, then by when they were ready.
    fn line_up(&mut self, new: Waiting) {
        let rank = |wish: &Wish| (matches!(wish.way, Way::Forward), !matches!(wish.way, Way::Emergency { .. }), wish.asked_at, wish.job);
        let at = self.waiting.partition_point(|one| rank(&one.wish) < rank(&new.wish));
        self.waiting.insert(at, new);
    }

    /// What waits by the rules goes past them from now on. Of what is inside already nothing changes.
    fn urgent(&mut self, job: Key, by: String, reason: String) {
        let Some(at) = self.waiting.iter().position(|one| one.wish.job == job) else { return };
        let mut one = self.waiting.remove(at);
        one.wish.way = Way::Emergency { by, reason };
        self.line_up(one);
    }

    /// The latest word of a person counts. Of an emergency it is a confirmation, where it comes from somebody else.
    fn said(&mut self, job: Key, word: Word, around: &Surroundings<'_>, effects: &mut Vec<Effect>) {
        if let Some(waits) = self.waiting.iter_mut().find(|one| one.wish.job == job) {
            let words = &mut waits.wish.words;
            if words.iter().any(|known| known.by == word.by && known.at > word.at) {
                return;
            }
            words.retain(|known| known.by != word.by);
            return words.push(word);
        }
        let confirms = |one: &mut Emergency| one.job == job && word.agrees && one.by != word.by && around.people.is_among(&word.by, &[]);
        effects.extend(self.emergencies.extract_if(.., confirms).map(|one| Effect::Confirmed { job: one.job, by: word.by.clone() }));
    }

    fn gone(&mut self, job: Key) {
        self.waiting.retain(|one| one.wish.job != job);
        if self.is_inside(job) {
            self.inside = None;
        }
    }

    fn ended(&mut self, job: Key, end: End, at: Millis) {
        let Some(Inside { wish, .. }) = self.inside.take_if(|inside| inside.wish.job == job) else { return };
        let Wish { called, artifacts, way, .. } = wish;
        match end {
            End::Well if way == Way::Close => (self.present, self.doubt) = (None, None),
            End::Well => {
                self.present = Some(Put { job, called, artifacts, since: at });
                self.doubt = None;
            }
            End::Untouched | End::Failed { back: true, .. } => {}
            End::Failed { why, back: false } | End::Lost { why } => self.doubt = Some(Doubt { job, called, since: at, why }),
        }
    }

    /// Lets in what may go in, ends what never may, and tells what holds the others back.
    fn look(&mut self, around: &Surroundings<'_>, effects: &mut Vec<Effect>) {
        if self.frozen.as_ref().and_then(|frozen| frozen.until).is_some_and(|until| until <= around.now) {
            self.frozen = None;
        }
        let mut open = Vec::new();
        for one in std::mem::take(&mut self.waiting) {
            match answer(self.frozen.as_ref(), &one.wish, around) {
                Answer::No(why) => effects.push(Effect::Refuse { job: one.wish.job, why }),
                Answer::Held(holds) => open.push((one, holds)),
            }
        }
        if let Some(at) = open.iter().position(|(_, holds)| holds.is_empty()).filter(|_| self.inside.is_none()) {
            let (one, _) = open.remove(at);
            let goes_back = around.rules.is_ok_and(|rules| rules.on_failure == OnFailure::RollBack);
            let other = self.present.as_ref().is_some_and(|there| there.artifacts != one.wish.artifacts);
            let (rules, back) = (around.rules_commit.to_owned(), goes_back && other && one.wish.way != Way::Close);
            effects.push(Effect::Admit { job: one.wish.job, rules, back });
            self.enter(one.wish, around);
        }
        for (mut one, mut holds) in open {
            holds.extend(self.inside.iter().map(|inside| Hold::Claim { held_by: inside.wish.called.clone() }));
            if holds != one.holds {
                effects.push(Effect::Held { job: one.wish.job, holds: holds.clone() });
                one.holds = holds;
            }
            self.waiting.push(one);
        }
        let wakes = self.waiting.iter().flat_map(|one| &one.holds).filter_map(Hold::changes).filter(|at| *at > around.now).min();
        if wakes != self.wakes {
            self.wakes = wakes;
            effects.push(Effect::Wake { at: wakes });
        }
    }

    fn enter(&mut self, wish: Wish, around: &Surroundings<'_>) {
        if let Way::Emergency { by, reason } = &wish.way {
            let (job, called) = (wish.job, wish.called.clone());
            self.emergencies.push(Emergency { job, called, by: by.clone(), reason: reason.clone(), at: around.now });
        }
        self.inside = Some(Inside { wish, since: around.now, rules: around.rules_commit.to_owned() });
    }
}
