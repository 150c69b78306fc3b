//! Plans of runs that were read lately. A plan never changes.

use ordotaxis_core::plan::Plan;
use ordotaxis_store::{Records, StoreError};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// How many plans are kept in memory.
const PLANS: usize = 64;
/// How many jobs all of them may have: about a kilobyte each.
const JOBS: usize = 10_000;

#[derive(Default)]
struct Kept {
    plans: HashMap<i64, Arc<Plan>>,
    jobs: usize,
}

/// A cache of plans by run. When it is full it begins anew.
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
        self.kept().plans.get(&run).cloned()
    }

    /// These runs are no more.
    pub(crate) fn forget(&self, runs: &[i64]) {
        let mut kept = self.kept();
        for run in runs {
            let jobs = kept.plans.remove(run).map_or(0, |plan| plan.jobs.len());
            kept.jobs -= jobs;
        }
    }

    fn keep(&self, run: i64, plan: &Arc<Plan>) {
        let mut kept = self.kept();
        let jobs = plan.jobs.len();
        if kept.plans.len() >= PLANS || kept.jobs + jobs > JOBS {
            *kept = Kept::default();
        }
        if jobs <= JOBS && kept.plans.insert(run, plan.clone()).is_none() {
            kept.jobs += jobs;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::plan::{Lent, Occasion, Source, plan};

    #[test]
    fn large_plans_push_others_out_and_too_large_ones_are_not_kept() {
        let of = |count: usize| {
            let jobs: String = (0..count).map(|n| format!("[job.a.j{n}]\nsteps = ['true']\n")).collect();
            let text = format!("language = 1\n{jobs}");
            Arc::new(plan(Source { text: &text, name: "main", lent: &Lent::new() }, &Occasion::by_hand()).unwrap().plan)
        };
        let plans = Plans::default();
        let size = || {
            let kept = plans.kept();
            (kept.plans.len(), kept.jobs)
        };
        let (small, large) = (of(1), of(JOBS));
        (0..PLANS as i64 + 1).for_each(|run| plans.keep(run, &small));
        assert_eq!(size(), (1, 1), "it began anew");
        plans.keep(100, &large);
        assert!(plans.get(100).is_some() && plans.get(PLANS as i64).is_none());
        plans.keep(101, &of(JOBS + 1));
        assert!(plans.get(101).is_none());
        plans.keep(102, &small);
        plans.keep(102, &small);
        assert_eq!(size(), (1, 1), "a repeat counts once");
        plans.forget(&[102, 7]);
        assert_eq!(size(), (0, 0));
    }
}
