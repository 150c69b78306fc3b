//! Plans of runs that were read lately. A plan never changes.

use ordotaxis_core::plan::Plan;
use ordotaxis_store::{Records, StoreError};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// How many plans are kept in memory.
const PLANS: usize = 64;
/// How many jobs all of them may have: about a kilobyte each.
const JOBS: usize = 10_000;
/// A plan that nobody asked for so long is dropped.
const UNUSED: Duration = Duration::from_secs(60);

#[derive(Default)]
struct Kept {
    /// Each with when it was asked for last.
    plans: HashMap<i64, (Arc<Plan>, Instant)>,
    jobs: usize,
}

impl Kept {
    fn remove(&mut self, run: i64) {
        if let Some((plan, _)) = self.plans.remove(&run) {
            self.jobs -= plan.jobs.len();
        }
    }
}

/// A cache of plans by run. When it is full it is emptied.
#[derive(Default)]
pub(crate) struct Plans(Mutex<Kept>);

impl Plans {
    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A run's plan; none for a run that could not be planned.
    pub(crate) async fn of(&self, records: &Records, run: i64) -> Result<Option<Arc<Plan>>, StoreError> {
        if let Some(known) = self.get(run) {
            return Ok(Some(known));
        }
        let Some(plan) = records.run_plan(run).await?.map(Arc::new) else { return Ok(None) };
        self.keep(run, &plan);
        Ok(Some(plan))
    }

    fn get(&self, run: i64) -> Option<Arc<Plan>> {
        let mut kept = self.kept();
        let (plan, used) = kept.plans.get_mut(&run)?;
        *used = Instant::now();
        Some(plan.clone())
    }

    /// These runs are no more.
    pub(crate) fn forget(&self, runs: &[i64]) {
        let mut kept = self.kept();
        runs.iter().for_each(|run| kept.remove(*run));
    }

    /// Drops what nobody has asked for in the last minute, so that a large plan does not stay in memory.
    pub(crate) fn drop_unused(&self, now: Instant) {
        let mut kept = self.kept();
        let unused: Vec<i64> =
            kept.plans.iter().filter(|(_, (_, used))| now.saturating_duration_since(*used) > UNUSED).map(|(run, _)| *run).collect();
        unused.into_iter().for_each(|run| kept.remove(run));
    }

    fn keep(&self, run: i64, plan: &Arc<Plan>) {
        let mut kept = self.kept();
        let jobs = plan.jobs.len();
        if kept.plans.len() >= PLANS || kept.jobs + jobs > JOBS {
            *kept = Kept::default();
        }
        if jobs <= JOBS && kept.plans.insert(run, (plan.clone(), Instant::now())).is_none() {
            kept.jobs += jobs;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};

    #[test]
    fn large_plans_push_others_out_and_too_large_ones_are_not_kept() {
        let of = |count: usize| {
            let jobs: String = (0..count).map(|n| format!("[job.a.j{n}]\nsteps = ['true']\n")).collect();
            let text = format!("language = 1\n{jobs}");
            Arc::new(plan(Source { text: &text, name: "main", borrowed: &BorrowedFiles::new() }, &Occasion::by_hand()).unwrap().plan)
        };
        let plans = Plans::default();
        let size = || {
            let kept = plans.kept();
            (kept.plans.len(), kept.jobs)
        };
        let (small, large) = (of(1), of(JOBS));
        (0..PLANS as i64 + 1).for_each(|run| plans.keep(run, &small));
        assert_eq!(size(), (1, 1), "it was emptied");
        plans.keep(100, &large);
        assert!(plans.get(100).is_some() && plans.get(PLANS as i64).is_none());
        plans.keep(101, &of(JOBS + 1));
        assert!(plans.get(101).is_none());
        plans.keep(102, &small);
        plans.keep(102, &small);
        assert_eq!(size(), (1, 1), "a repeat counts once");
        plans.forget(&[102, 7]);
        assert_eq!(size(), (0, 0));
        plans.keep(103, &small);
        plans.drop_unused(Instant::now());
        assert_eq!(size(), (1, 1), "it was asked for just now");
        plans.drop_unused(Instant::now() + UNUSED * 2);
        assert_eq!(size(), (0, 0));
    }
}
