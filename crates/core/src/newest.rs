//! Which commit of a branch is the newest, whatever the order in which pushes are looked at: its history decides, and
//! where it does not, the later report wins.

/// How a commit stands to the newest one that was looked at before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relation {
    Same,
    /// It led to that one.
    Older,
    /// That one led to it.
    Newer,
    /// Neither, or that one is not to be found any more.
    Apart,
}

/// Whether a commit takes the place of the newest one that was looked at. `later`: it was reported later than that one;
/// `moved`: the branch was moved from that one to this, as the push or the repository says.
///
/// ```
/// use ordotaxis_core::newest::{Relation, takes_its_place};
/// assert!(takes_its_place(Relation::Newer, false, false), "its history says so, however late it was reported");
/// assert!(!takes_its_place(Relation::Older, true, false), "an older commit, looked at late");
/// assert!(takes_its_place(Relation::Older, true, true), "the branch was put back on purpose");
/// ```
pub fn takes_its_place(relation: Relation, later: bool, moved: bool) -> bool {
    match relation {
        Relation::Same | Relation::Newer => true,
        // Someone may have put the branch back on purpose.
        Relation::Older => moved && later,
        Relation::Apart => later,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A branch as its repository moved it: each push names what it was moved from.
    #[derive(Debug, Clone)]
    struct Push {
        commit: usize,
        before: Option<usize>,
    }

    /// Commits in one line; the branch is pushed forward, or put back.
    fn pushes() -> impl Strategy<Value = Vec<Push>> {
        prop::collection::vec((1..4usize, prop::bool::weighted(0.2)), 1..8).prop_map(|moves| {
            let (mut at, mut made): (Option<usize>, Vec<Push>) = (None, Vec::new());
            for (by, back) in moves {
                let commit = match at {
                    Some(now) if back => now.saturating_sub(by),
                    Some(now) => now + by,
                    None => by,
                };
                if at != Some(commit) {
                    made.push(Push { commit, before: at });
                    at = Some(commit);
                }
            }
            made
        })
    }

    proptest! {
        /// Looked at in whatever order: what only went forward ends at its last commit.
        #[test]
        fn the_last_of_a_branch_that_goes_forward_wins(pushes in pushes(), seed in any::<u64>()) {
            let forward: Vec<Push> = pushes.into_iter().scan(0, |top, push| {
                let further = push.commit > *top;
                *top = (*top).max(push.commit);
                Some(further.then_some(push))
            }).flatten().collect();
            let last = forward.last().map(|push| push.commit);
            prop_assert_eq!(looked_at(&forward, seed), last);
        }

        /// Looked at in the order they came: the branch is where it was moved last, back or forward.
        #[test]
        fn in_order_the_last_push_wins(pushes in pushes()) {
            let last = pushes.last().map(|push| push.commit);
            prop_assert_eq!(looked_at(&pushes, 0), last);
        }
    }

    /// The newest commit after all were looked at: in order for seed 0, else shuffled by it.
    fn looked_at(pushes: &[Push], seed: u64) -> Option<usize> {
        let mut order: Vec<usize> = (0..pushes.len()).collect();
        if seed > 0 {
            order.sort_by_key(|at| (*at as u64 + 1).wrapping_mul(seed | 1).rotate_left(17));
        }
        let mut head: Option<(usize, usize)> = None;
        for arrived in order {
            let push = &pushes[arrived];
            let takes = head.is_none_or(|(commit, before)| {
                let relation = match push.commit.cmp(&commit) {
                    std::cmp::Ordering::Equal => Relation::Same,
                    std::cmp::Ordering::Less => Relation::Older,
                    std::cmp::Ordering::Greater => Relation::Newer,
                };
                takes_its_place(relation, arrived > before, push.before == Some(commit))
            });
            if takes {
                head = Some((push.commit, arrived));
            }
        }
        head.map(|(commit, _)| commit)
    }

    #[test]
    fn commits_that_share_no_history_go_by_when_they_were_told_of() {
        assert!(takes_its_place(Relation::Apart, true, false));
        assert!(!takes_its_place(Relation::Apart, false, false));
        assert!(!takes_its_place(Relation::Older, true, false), "told of late");
        assert!(takes_its_place(Relation::Older, true, true), "put back on purpose");
    }
}
