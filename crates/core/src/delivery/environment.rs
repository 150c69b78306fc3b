//! What is kept of an environment, and what each event changes in it.

use super::admit::{Answer, answer, counted};
use super::hold::Hold;
use super::kept::{Doubt, Emergency, Frozen, Inside, Put, Side};
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
    /// What was there before that, if it was something else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous: Option<Put>,
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

    /// What undoes something first, then emergencies, then roll-backs, then by when they were ready.
    fn line_up(&mut self, new: Waiting) {
        let kind = |way: &Way| match way {
            Way::Undo { .. } => 0,
            Way::Emergency { .. } => 1,
            Way::RollBack | Way::Close => 2,
            Way::Forward => 3,
        };
        let rank = |wish: &Wish| (kind(&wish.way), wish.asked_at, wish.job);
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
        let Some(Inside { wish, side, .. }) = self.inside.take_if(|inside| inside.wish.job == job) else { return };
        let Wish { called, artifacts, way, .. } = wish;
        match end {
            End::Well if way == Way::Close => (self.present, self.previous, self.doubt) = (None, None, None),
            End::Well if matches!(way, Way::Undo { .. }) => {
                self.present = self.previous.take().map(|put| Put { since: at, side, ..put });
                self.doubt = None;
            }
            End::Well => {
                let before = self.present.replace(Put { job, called, artifacts, since: at, side });
                let another = |before: &Put| self.present.as_ref().is_none_or(|now| now.artifacts != before.artifacts);
                if let Some(before) = before.filter(another) {
                    self.previous = Some(before);
                }
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
            match self.too_late(&one.wish).unwrap_or_else(|| answer(self.frozen.as_ref(), &one.wish, around)) {
                Answer::No(why) => effects.push(Effect::Refuse { job: one.wish.job, why }),
                Answer::Held(holds) => open.push((one, holds)),
            }
        }
        if let Some(at) = open.iter().position(|(_, holds)| holds.is_empty()).filter(|_| self.inside.is_none()) {
            let (one, _) = open.remove(at);
            let goes_back = around.rules.is_ok_and(|rules| rules.on_failure == OnFailure::RollBack);
            let other = self.present.as_ref().is_some_and(|there| there.artifacts != one.wish.artifacts);
            let fresh = !matches!(one.wish.way, Way::Close | Way::Undo { .. });
            let (rules, back) = (around.rules_commit.to_owned(), goes_back && other && fresh);
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

    fn enter(&mut self, mut wish: Wish, around: &Surroundings<'_>) {
        // What is kept of them is what let it in.
        wish.words = counted(&wish, around);
        if let Way::Emergency { by, reason } = &wish.way {
            let (job, called) = (wish.job, wish.called.clone());
            self.emergencies.push(Emergency { job, called, by: by.clone(), reason: reason.clone(), at: around.now });
        }
        let (side, switch) = self.side_for(&wish);
        self.inside = Some(Inside { wish, since: around.now, rules: around.rules_commit.to_owned(), side, switch });
    }

    /// The side that something is put on, and whether it is there already. What was on it before is not there any more.
    fn side_for(&mut self, wish: &Wish) -> (Option<Side>, bool) {
        if !wish.sides || wish.way == Way::Close {
            return (None, false);
        }
        let side = self.present.as_ref().and_then(|put| put.side).map_or(Side::A, Side::other);
        let Some(before) = self.previous.as_mut().filter(|before| before.side == Some(side)) else { return (Some(side), false) };
        let there = wish.way.goes_back() && before.artifacts == wish.artifacts;
        if !there {
            before.side = None;
        }
        (Some(side), there)
    }

    /// What undoes something comes too late when something else has been put there since.
    fn too_late(&self, wish: &Wish) -> Option<Answer> {
        let undoes = matches!(wish.way, Way::Undo { .. });
        let own = self.present.as_ref().is_some_and(|put| put.job == wish.job) && self.previous.is_some();
        (undoes && !own && !self.is_inside(wish.job)).then(|| Answer::No("something else has been put there since".to_owned()))
    }
}
