//! How looking at repositories goes.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How looking at projects goes: when each is due, and what kept it from being seen.
#[derive(Debug, Default)]
pub(crate) struct Polls(Mutex<HashMap<i64, Poll>>);

#[derive(Debug, Clone, Default)]
pub(super) struct Poll {
    pub(super) next_at: i64,
    pub(super) fails: u32,
    pub(super) going: bool,
    /// Someone asked for a look since the last one began.
    pub(super) hurried: bool,
    pub(super) trouble: Option<String>,
}

impl Polls {
    pub(super) fn with<T>(&self, act: impl FnOnce(&mut HashMap<i64, Poll>) -> T) -> T {
        act(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What kept a project from being looked at the last time.
    pub(crate) fn trouble(&self, project_id: i64) -> Option<String> {
        self.with(|polls| polls.get(&project_id)?.trouble.clone())
    }

    /// It is looked at now.
    pub(crate) fn hurry(&self, project_id: i64) {
        self.with(|polls| {
            let poll = polls.entry(project_id).or_default();
            (poll.next_at, poll.hurried) = (0, true);
        });
    }
}

impl Poll {
    /// A look begins.
    pub(super) fn begins(&mut self) {
        (self.going, self.hurried) = (true, false);
    }

    /// It has ended. The next one is due then, unless someone asked for it meanwhile: what they changed was not seen yet.
    pub(super) fn ended(&mut self, next_at: i64) {
        if !self.hurried {
            self.next_at = next_at;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_asks_while_a_look_goes_on_gets_another() {
        let polls = Polls::default();
        let next = || polls.with(|polls| polls[&1].next_at);
        polls.hurry(1);
        polls.with(|polls| polls.entry(1).or_default().begins());
        polls.with(|polls| polls.entry(1).or_default().ended(600_000));
        assert_eq!(next(), 600_000, "the look that was asked for has begun after that");
        polls.with(|polls| polls.entry(1).or_default().begins());
        polls.hurry(1);
        polls.with(|polls| polls.entry(1).or_default().ended(1_200_000));
        assert_eq!(next(), 0, "the pause that it knew of is not the one that was set meanwhile");
    }
}
