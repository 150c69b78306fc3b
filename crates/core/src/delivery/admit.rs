//! What holds a wish back at a moment, by the rules of that moment.

use super::hold::{Hold, Lack};
use super::kept::Frozen;
use super::{Surroundings, Way, Wish, Word};
use crate::engine::Millis;
use crate::plan::among;
use crate::rules::{Agreement, EnvironmentRules, all_open};
use std::collections::BTreeSet;

/// What the rules say to a wish.
pub(super) enum Answer {
    /// Never: it ends.
    No(String),
    /// Not yet, where there are holds.
    Held(Vec<Hold>),
}

/// What the environment's rules, and people, say to a wish; who else wants in is not looked at.
pub(super) fn answer(frost: Option<&Frozen>, wish: &Wish, around: &Surroundings<'_>) -> Answer {
    // Whatever the rules say of what may come in: this goes out, or undoes what came in.
    if matches!(wish.way, Way::Close | Way::Undo { .. }) {
        return Answer::Held(Vec::new());
    }
    let rules = match around.rules {
        Ok(rules) => rules,
        Err(why) => return Answer::Held(vec![Hold::Unread { why: why.to_owned() }]),
    };
    if let Some(list) = rules.from.iter().find(|list| !admits(list, &wish.reference)) {
        return Answer::No(format!("only {} may go there, and it is of {}", list.join(", "), wish.reference));
    }
    if wish.outside && !rules.outside {
        return Answer::No("it comes from outside, and the environment's rules do not let that in".to_owned());
    }
    if let Some(word) = refusal(wish, rules, around) {
        let reason = word.reason.as_ref().map(|reason| format!(": {reason}")).unwrap_or_default();
        return Answer::No(format!("{} refused it{reason}", word.by));
    }
    let mut holds = Vec::new();
    if wish.way == Way::Forward {
        holds.extend(frozen(frost, around.now));
        holds.extend(shut(rules, around.now));
        holds.extend(rules.after.iter().filter_map(|name| lacks(name, wish, rules.still, around)));
    }
    if !matches!(wish.way, Way::Emergency { .. }) {
        holds.extend(rules.approvals.iter().filter_map(|agreement| missing(agreement, wish, around)));
    }
    Answer::Held(holds)
}

/// Whether a list of branches and `tag:…` names a reference. A branch is never taken for a tag.
fn admits(list: &[String], reference: &str) -> bool {
    let globs = |of_tags: bool| -> Vec<String> {
        let one = |glob: &String| {
            let (not, rest) = glob.strip_prefix('!').map_or(("", glob.as_str()), |rest| ("!", rest));
            let tag = rest.strip_prefix("tag:");
            (tag.is_some() == of_tags).then(|| format!("{not}{}", tag.unwrap_or(rest)))
        };
        list.iter().filter_map(one).collect()
    };
    match reference.strip_prefix("tag:") {
        Some(tag) => among(&globs(true), tag),
        None => among(&globs(false), reference),
    }
}

/// A refusal that counts: of exactly this, by someone whose refusal counts.
fn refusal<'w>(wish: &'w Wish, rules: &EnvironmentRules, around: &Surroundings<'_>) -> Option<&'w Word> {
    let counts = |word: &&Word| !word.agrees && word.artifacts == wish.artifacts && may_refuse(wish, &word.by, rules, around);
    wish.words.iter().find(counts)
}

/// Whether a person's refusal counts: of one whose approval could, of its author, of who may operate the project.
fn may_refuse(wish: &Wish, person: &str, rules: &EnvironmentRules, around: &Surroundings<'_>) -> bool {
    let asked = rules.approvals.iter().any(|agreement| around.people.is_among(person, &agreement.wanted.by));
    asked || wish.authors.contains(person) || around.people.is_among(person, &[])
}

/// Why a person's word on a wish does not count, by the rules of the moment; none: it does.
pub fn why_not(wish: &Wish, person: &str, agrees: bool, around: &Surroundings<'_>) -> Option<String> {
    let rules = match around.rules {
        Ok(rules) => rules,
        Err(why) => return Some(why.to_owned()),
    };
    if !agrees {
        let may = may_refuse(wish, person, rules, around);
        return (!may).then(|| format!("{person}'s refusal does not count here"));
    }
    if rules.approvals.is_empty() {
        return Some("no approval is asked for".to_owned());
    }
    let named = |agreement: &&Agreement| around.people.is_among(person, &agreement.wanted.by);
    let mut asked = rules.approvals.iter().filter(named).peekable();
    if asked.peek().is_none() {
        let by: Vec<String> = rules.approvals.iter().flat_map(|agreement| agreement.wanted.by.iter().cloned()).collect();
        return Some(format!("{person}'s approval does not count here: it takes {}", by.join(" or ")));
    }
    let own = wish.authors.contains(person) && asked.all(|agreement| !agreement.wanted.author);
    own.then(|| format!("it is {person}'s own change: someone else must approve it"))
}

/// Whether an approval by a person would bring a wish nearer to going in.
pub fn asks(wish: &Wish, person: &str, around: &Surroundings<'_>) -> bool {
    let Ok(rules) = around.rules else { return false };
    let by_this = |agreement: &Agreement| {
        let word = Word { by: person.to_owned(), agrees: true, reason: None, at: around.now, artifacts: wish.artifacts.clone() };
        let mut with = wish.clone();
        with.words.retain(|known| known.by != person);
        with.words.push(word);
        missing(agreement, wish, around).is_some() && missing(agreement, &with, around) != missing(agreement, wish, around)
    };
    !matches!(wish.way, Way::Emergency { .. } | Way::Close | Way::Undo { .. }) && rules.approvals.iter().any(by_this)
}

fn frozen(frozen: Option<&Frozen>, now: Millis) -> Option<Hold> {
    let frozen = frozen.filter(|frozen| frozen.until.is_none_or(|until| until > now))?;
    Some(Hold::Frozen { by: frozen.by.clone(), reason: frozen.reason.clone(), until: frozen.until })
}

fn shut(rules: &EnvironmentRules, now: Millis) -> Option<Hold> {
    let opens = all_open(&rules.hours, now);
    let text = rules.hours.iter().map(|list| list.iter().map(|hours| hours.text()).collect::<Vec<_>>().join(", "));
    (opens != Some(now)).then(|| Hold::Hours { opens, text: text.collect::<Vec<_>>().join(" and ") })
}

/// Whether a word is an approval that counts now.
fn counts(agreement: &Agreement, wish: &Wish, word: &Word, around: &Surroundings<'_>) -> bool {
    let wanted = &agreement.wanted;
    let fresh = agreement.within.is_none_or(|within| word.at.saturating_add(within) > around.now);
    let of_this = word.agrees && word.artifacts == wish.artifacts;
    let own = !wanted.author && wish.authors.contains(&word.by);
    fresh && of_this && !own && around.people.is_among(&word.by, &wanted.by)
}

/// The approvals that count for a wish now.
pub(super) fn counted(wish: &Wish, around: &Surroundings<'_>) -> Vec<Word> {
    let Ok(rules) = around.rules else { return Vec::new() };
    let any = |word: &&Word| rules.approvals.iter().any(|agreement| counts(agreement, wish, word, around));
    wish.words.iter().filter(any).cloned().collect()
}

/// What is missing of these approvals.
fn missing(agreement: &Agreement, wish: &Wish, around: &Surroundings<'_>) -> Option<Hold> {
    let wanted = &agreement.wanted;
    let without = if wanted.author { BTreeSet::new() } else { wish.authors.clone() };
    let counts = |word: &&Word| counts(agreement, wish, word, around);
    let needs = if wish.way == Way::RollBack { 1 } else { wanted.of };
    let given: BTreeSet<&String> = wish.words.iter().filter(counts).map(|word| &word.by).collect();
    if given.len() >= needs {
        return None;
    }
    let there = around.people.count(&wanted.by, &without);
    let first_out = wish.words.iter().filter(counts).filter_map(|word| Some(word.at.saturating_add(agreement.within?))).min();
    Some(Hold::Approvals { needs, given: given.into_iter().cloned().collect(), by: wanted.by.clone(), there, runs_out: first_out })
}

/// What is missing until a wish may come from another environment: all that it holds, by digest, was well there long enough.
fn lacks(environment: &str, wish: &Wish, still: Millis, around: &Surroundings<'_>) -> Option<Hold> {
    let lack = |digest: &String| match lack(&(around.stays)(environment, digest), still, around.now)? {
        there @ Lack::Still { .. } => Some(there),
        _ if (around.going)(environment, digest) => Some(Lack::Going),
        lack => Some(lack),
    };
    let lacks = wish.artifacts.iter().filter_map(lack);
    let hold = |lack| Hold::After { environment: environment.to_owned(), lack };
    lacks.max_by_key(Lack::weight).map(hold)
}

fn lack(stays: &[super::Stay], still: Millis, now: Millis) -> Option<Lack> {
    let good = || stays.iter().filter(|stay| stay.trouble.is_none());
    let lasted = |stay: &super::Stay| stay.until.unwrap_or(now) - stay.since;
    let Some(longest) = good().map(lasted).max() else {
        let trouble = stays.iter().rev().find_map(|stay| stay.trouble.clone());
        return Some(trouble.map_or(Lack::Never, |why| Lack::Trouble { why }));
    };
    if longest >= still {
        return None;
    }
    let there = good().filter(|stay| stay.until.is_none()).map(|stay| stay.since).min();
    Some(there.map_or(Lack::TooShort { lasted: longest, wanted: still }, |since| Lack::Still { until: since + still }))
}
