//! Plans of runs that were read lately. A plan never changes.

use crate::app::App;
use ordotaxis_core::plan::Plan;
use ordotaxis_store::StoreError;
use std::sync::{Arc, PoisonError};

/// How many plans are kept at hand.
const PLANS: usize = 64;

/// A run's plan; none for a run that could not be planned.
pub(crate) async fn plan_of(app: &App, run: i64) -> Result<Option<Arc<Plan>>, StoreError> {
    if let Some(known) = app.plans.lock().unwrap_or_else(PoisonError::into_inner).get(&run) {
        return Ok(Some(known.clone()));
    }
    let Some(plan) = app.records.run_plan(run).await?.map(Arc::new) else { return Ok(None) };
    let mut plans = app.plans.lock().unwrap_or_else(PoisonError::into_inner);
    if plans.len() >= PLANS {
        plans.clear();
    }
    plans.insert(run, plan.clone());
    Ok(Some(plan))
}
