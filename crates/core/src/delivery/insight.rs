//! What the history of an environment comes to: how often something new is put there, how long a commit takes to get there, how
//! much of it goes wrong, and how long that lasts. The four figures are those by which teams commonly judge how they deliver.

use crate::engine::Millis;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

/// A deployment that has ended, as far as the figures care.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Past {
    pub commit: String,
    /// When the commit was made; none: nobody knows any more.
    pub committed_at: Option<Millis>,
    pub let_in_at: Millis,
    pub ended_at: Millis,
    pub kind: Kind,
    pub went: Went,
}

/// What it was for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Something new was to come in.
    New,
    /// What was there before was to come back.
    Back,
}

/// What became of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Went {
    Well,
    /// It was well, and was rolled back at this moment.
    Undone(Millis),
    /// `back`: what was there before was put back within the same run.
    Failed {
        back: bool,
    },
}

/// The figures of one environment over a time. Lengths are medians, in milliseconds.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Figures {
    /// How many new things were put there, well or not.
    pub count: usize,
    /// How many of them failed, were lost or were rolled back.
    pub failed: usize,
    /// From a commit to its first being well there.
    pub lead: Option<Millis>,
    /// From something going wrong to the environment being well again.
    pub mend: Option<Millis>,
    /// Something went wrong and nothing has been well since.
    pub open: bool,
    /// The same time in equal parts, the oldest first.
    pub parts: Vec<Part>,
}

/// A part of the time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    pub since: Millis,
    pub well: usize,
    pub failed: usize,
    pub lead: Option<Millis>,
}

/// The figures of the time from `since` up to `until`, in parts of so many milliseconds. `past`: what ended by then, in the order
/// in which it was let in. What took nothing there, or took something away, is to be left out.
pub fn figures(past: &[Past], since: Millis, until: Millis, part: Millis) -> Figures {
    let within = |at: Millis| at >= since && at < until;
    let leads = leads(past);
    let counted = |one: &&(usize, &Past)| one.1.kind == Kind::New && within(one.1.ended_at);
    let all: Vec<(usize, &Past)> = past.iter().enumerate().collect();
    let new: Vec<(usize, &Past)> = all.iter().filter(counted).copied().collect();
    let (mends, open) = mends(past);
    let of = |from: Millis| Part {
        since: from,
        well: new.iter().filter(|(_, one)| in_part(one, from, part) && one.went == Went::Well).count(),
        failed: new.iter().filter(|(_, one)| in_part(one, from, part) && one.went != Went::Well).count(),
        lead: median(new.iter().filter(|(_, one)| in_part(one, from, part)).filter_map(|(at, _)| leads[*at]).collect()),
    };
    let parts = usize::try_from((until - since).max(0) / part.max(1)).unwrap_or(0);
    Figures {
        count: new.len(),
        failed: new.iter().filter(|(_, one)| one.went != Went::Well).count(),
        lead: median(new.iter().filter_map(|(at, _)| leads[*at]).collect()),
        mend: median(mends.into_iter().filter(|(at, _)| within(*at)).map(|(_, length)| length).collect()),
        open,
        parts: (0..parts).map(|at| of(since + Millis::try_from(at).unwrap_or(0) * part)).collect(),
    }
}

fn in_part(one: &Past, from: Millis, part: Millis) -> bool {
    one.ended_at >= from && one.ended_at < from + part
}

/// For each how long its commit took to get there, where it is the first time that this commit is well there.
fn leads(past: &[Past]) -> Vec<Option<Millis>> {
    let mut seen: HashSet<&str> = HashSet::new();
    let lead = |one: &Past| Some(one.ended_at - one.committed_at?).filter(|length| *length >= 0);
    past.iter().map(|one| if matches!(one.went, Went::Failed { .. }) || !seen.insert(&one.commit) { None } else { lead(one) }).collect()
}

/// For each trouble that is over when it ended, and how long it lasted; and whether one is not over.
fn mends(past: &[Past]) -> (Vec<(Millis, Millis)>, bool) {
    let (mut mends, mut since) = (Vec::new(), None);
    for one in past {
        match one.went {
            Went::Failed { back: false } => since = since.or(Some(one.let_in_at)),
            Went::Failed { back: true } => mends.push((one.ended_at, one.ended_at - since.take().unwrap_or(one.let_in_at))),
            Went::Undone(at) => {
                since = None;
                mends.push((at, at - one.ended_at));
            }
            Went::Well => mends.extend(since.take().map(|since| (one.ended_at, one.ended_at - since))),
        }
    }
    (mends, since.is_some())
}

/// The middle one; of an even number the larger of the two in the middle.
fn median(mut lengths: Vec<Millis>) -> Option<Millis> {
    lengths.sort_unstable();
    lengths.get(lengths.len() / 2).copied()
}
