//! Work on what is kept, side by side: of each project so much at once, so that a slow repository or forge holds up
//! nobody else's. What broke off, or could not be written down, rests before its project is taken up again: an error that
//! stays makes no loop that runs hot.

use std::collections::HashMap;
use std::time::Duration;
use tokio::task::{Id, JoinSet};
use tokio::time::Instant;

/// How much goes on in all.
const IN_ALL: usize = 64;
/// The first rest; each after it is twice as long.
const FIRST_REST: Duration = Duration::from_millis(500);
const LONGEST_REST: Duration = Duration::from_secs(60);

/// Which lanes are busy, and how much of each kind runs for each project.
pub(crate) struct Lanes {
    /// How many of one project go on at the same time.
    each: usize,
    tasks: JoinSet<Result<(), ordotaxis_store::StoreError>>,
    /// What goes on: (item, project).
    going: HashMap<Id, (i64, i64)>,
    /// Projects that rest: until when, and how long this rest is.
    resting: HashMap<i64, (Instant, Duration)>,
}

impl Lanes {
    /// No lane is busy.
    pub(crate) fn new(each: usize) -> Lanes {
        Lanes { each, tasks: JoinSet::new(), going: HashMap::new(), resting: HashMap::new() }
    }

    /// Begins to work on an item of a project, unless that goes on already, its project rests, or enough goes on.
    pub(crate) fn take<F>(&mut self, item: i64, project: i64, work: impl FnOnce() -> F)
    where
        F: Future<Output = Result<(), ordotaxis_store::StoreError>> + Send + 'static,
    {
        let own = self.going.values().filter(|(_, theirs)| *theirs == project).count();
        let rests = self.resting.get(&project).is_some_and(|(until, _)| *until > Instant::now());
        let goes_on = self.going.values().any(|(theirs, _)| *theirs == item);
        if goes_on || rests || own >= self.each || self.going.len() >= IN_ALL {
            return;
        }
        let id = self.tasks.spawn(work()).id();
        self.going.insert(id, (item, project));
    }

    /// Waits until one of them is done, or a rest is over; forever when there is neither.
    pub(crate) async fn changed(&mut self) {
        let now = Instant::now();
        let rest = self.resting.values().map(|(until, _)| *until).filter(|until| *until > now).min();
        tokio::select! {
            Some(done) = self.tasks.join_next_with_id() => match done {
                Ok((id, Ok(()))) => {
                    if let Some((_, project)) = self.going.remove(&id) {
                        self.resting.remove(&project);
                    }
                }
                Ok((id, Err(error))) => self.rest(id, &error),
                Err(error) => self.rest(error.id(), &error),
            },
            () = until(rest) => {}
        }
    }

    /// A try broke off: its project rests, twice as long each time.
    fn rest(&mut self, id: Id, error: &dyn std::fmt::Display) {
        let Some((item, project)) = self.going.remove(&id) else { return };
        let before = self.resting.get(&project).map(|(_, length)| *length);
        let length = before.map_or(FIRST_REST, |before| (before * 2).min(LONGEST_REST));
        tracing::error!(%error, item, project, rest_ms = length.as_millis(), "what is kept could not be worked off; its project rests");
        self.resting.insert(project, (Instant::now() + length, length));
    }
}

async fn until(moment: Option<Instant>) {
    match moment {
        Some(moment) => tokio::time::sleep_until(moment).await,
        None => std::future::pending().await,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_store::StoreError;

    /// The rests after which one project was taken up again, with an item that fails so many times.
    async fn rests(fails: usize) -> Vec<Duration> {
        let mut lanes = Lanes::new(1);
        let mut rests = Vec::new();
        for _ in 0..fails {
            lanes.take(1, 1, || async { Err(StoreError::Value("of a test")) });
            lanes.changed().await;
            let (_, length) = lanes.resting[&1];
            rests.push(length);
            // As if the rest were over.
            lanes.resting.insert(1, (Instant::now(), length));
        }
        rests
    }

    #[tokio::test]
    async fn an_error_that_stays_is_met_with_longer_and_longer_rests() {
        let seconds: Vec<f64> = rests(9).await.iter().map(Duration::as_secs_f64).collect();
        assert_eq!(seconds, [0.5, 1.0, 2.0, 4.0, 8.0, 16.0, 32.0, 60.0, 60.0]);
    }

    #[tokio::test]
    async fn a_panic_rests_too_and_leaves_other_projects_alone() {
        let mut lanes = Lanes::new(1);
        lanes.take(1, 1, || async { panic!("of a test") });
        lanes.changed().await;
        lanes.take(2, 1, || async { Ok(()) });
        lanes.take(3, 2, || async { Ok(()) });
        assert_eq!(lanes.going.values().collect::<Vec<_>>(), [&(3, 2)], "project 1 rests, 2 does not");
        lanes.changed().await;
        let until = lanes.resting[&1].0;
        lanes.changed().await;
        assert!(Instant::now() >= until, "nothing but the end of the rest changes anything");
        lanes.take(2, 1, || async { Ok(()) });
        lanes.changed().await;
        assert!(lanes.resting.is_empty(), "what went well ends the rest");
    }

    #[tokio::test]
    async fn a_project_that_hangs_holds_up_nobody() {
        let mut lanes = Lanes::new(2);
        for item in 0..10 {
            lanes.take(item, 1, std::future::pending::<Result<(), StoreError>>);
        }
        assert_eq!(lanes.going.len(), 2);
        lanes.take(10, 2, || async { Ok(()) });
        lanes.changed().await;
        assert!(lanes.going.values().all(|(_, project)| *project == 1), "the other's is done");
        lanes.take(0, 1, std::future::pending::<Result<(), StoreError>>);
        assert_eq!(lanes.going.len(), 2, "what goes on is not begun twice");
    }
}
