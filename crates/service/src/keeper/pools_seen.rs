//! What runners have done, and what queued jobs wait for in pools.

use ordotaxis_core::dispatch::Needs;
use ordotaxis_core::pool::Outlooks;
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

/// What a runner has done since it signed on.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Worked {
    /// How many jobs it has begun.
    pub(crate) begun: u32,
    /// When it last began or ended one.
    pub(crate) at: Option<i64>,
}

impl Worked {
    pub(super) fn begins(&mut self, at: i64) {
        (self.begun, self.at) = (self.begun.saturating_add(1), Some(at));
    }
}

/// What queued jobs wait for in pools, by what they need.
pub(crate) type Waits = HashMap<Arc<Needs>, Outlooks>;

/// Where pools put what they think, and readers find it.
#[derive(Clone, Default)]
pub(crate) struct PoolsSeen(Arc<RwLock<Arc<Waits>>>);

impl PoolsSeen {
    pub(crate) fn set(&self, outlooks: Waits) {
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(outlooks);
    }

    pub(super) fn now(&self) -> Arc<Waits> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).clone()
    }
}
