//! The cloud itself: what there is, and what was ordered.

use super::machine::{Life, Machine};
use super::order::{Boot, Console, Order};
use super::weather::Weather;
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;

/// A cloud. Clones are the same.
#[derive(Clone)]
pub struct Cloud(Arc<Inner>);

struct Inner {
    boot: Box<dyn Boot>,
    state: Mutex<State>,
}

#[derive(Default)]
pub(super) struct State {
    pub(super) weather: Weather,
    pub(super) machines: BTreeMap<String, Machine>,
    /// How many were ordered; what goes wrong with each so-and-so-manieth goes by it.
    pub(super) ordered: u32,
    counts: Counts,
}

/// What a cloud did in its life.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    pub made: u32,
    pub refused: u32,
    pub never_came: u32,
    pub taken: u32,
    pub removed: u32,
    /// The most that were there together.
    pub most: u32,
    /// Milliseconds that machines were there, all added up: what is paid for.
    pub paid_ms: u64,
}

impl Cloud {
    /// A cloud in fine weather.
    pub fn new(boot: Box<dyn Boot>) -> Cloud {
        Cloud(Arc::new(Inner { boot, state: Mutex::default() }))
    }

    /// What goes wrong from now on.
    pub fn set_weather(&self, weather: Weather) {
        self.state().weather = weather;
    }

    /// The machines that are there, by name.
    pub fn names(&self) -> Vec<String> {
        self.state().machines.keys().cloned().collect()
    }

    /// The machines that are there, as they were ordered.
    pub fn orders(&self) -> Vec<Order> {
        self.state().machines.values().map(|machine| machine.order.clone()).collect()
    }

    /// What it did so far; machines that are there count up to now.
    pub fn counts(&self) -> Counts {
        let state = self.state();
        let there: u64 = state.machines.values().map(Machine::paid_ms).sum();
        Counts { paid_ms: state.counts.paid_ms + there, ..state.counts }
    }

    /// Takes a machine away, after so much notice. False when there is none of this name.
    pub fn take(&self, name: &str, notice: Duration) -> bool {
        let mut state = self.state();
        let Some(machine) = state.machines.get_mut(name) else { return false };
        let (cloud, name, begun) = (self.clone(), name.to_owned(), machine.begun);
        machine.take(notice, move || cloud.ended(&name, begun));
        state.counts.taken += 1;
        true
    }

    pub(super) fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Orders a machine, or finds that it was ordered before.
    pub(super) fn order(&self, order: Order) -> Result<String, Refused> {
        let mut state = self.state();
        if state.machines.contains_key(&order.name) {
            return Ok("it is there already".into());
        }
        state.ordered += 1;
        let (number, weather) = (state.ordered, state.weather.clone());
        let there = u32::try_from(state.machines.len()).unwrap_or(u32::MAX);
        if weather.quota.is_some_and(|quota| there >= quota) {
            state.counts.refused += 1;
            return Err(Refused { status: 429, why: format!("the quota of {there} machines is used up") });
        }
        if Weather::hits(weather.refuses_each, number) {
            state.counts.refused += 1;
            return Err(Refused { status: 409, why: "there is no machine of this size just now".into() });
        }
        state.counts.made += 1;
        state.counts.most = state.counts.most.max(there + 1);
        let never = Weather::hits(weather.never_each, number);
        state.counts.never_came += u32::from(never);
        let twin = Weather::hits(weather.twice_each, number).then(|| Order { name: format!("{}-twin", order.name), ..order.clone() });
        for order in [order].into_iter().chain(twin) {
            let name = order.name.clone();
            let (begun, cloud, ended) = (Instant::now(), self.clone(), self.clone());
            let at_end = {
                let name = name.clone();
                move |taken: bool| {
                    ended.state().counts.taken += u32::from(taken);
                    ended.ended(&name, begun);
                }
            };
            let boot = move |order: Order, console: Console, notice: CancellationToken| cloud.0.boot.boot(order, console, notice);
            let machine = Machine::start(order, Life { begun, weather: weather.clone(), number, never }, boot, at_end);
            state.machines.insert(name, machine);
        }
        Ok(format!("ordered as number {number}"))
    }

    /// Whether there was one of this name.
    pub(super) fn remove(&self, name: &str) -> bool {
        let mut state = self.state();
        let Some(machine) = state.machines.remove(name) else { return false };
        state.counts.removed += 1;
        state.counts.paid_ms += machine.paid_ms();
        true
    }

    /// A machine has ended by itself, or was taken: it is listed so until it is removed, as real ones are, and costs nothing more.
    fn ended(&self, name: &str, begun: Instant) {
        let mut state = self.state();
        if let Some(machine) = state.machines.get_mut(name).filter(|machine| machine.begun == begun) {
            machine.end();
        }
    }
}

/// Why a machine is not made.
pub(super) struct Refused {
    pub(super) status: u16,
    pub(super) why: String,
}
