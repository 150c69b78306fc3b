//! A stand-in for a cloud: it makes machines when it is asked to, with a delay, a quota and a price, and it can be told to go wrong
//! in every way that clouds do. A machine is whatever its [`Boot`] makes of it: a process, or what a test brings.
//!
//! ```text
//! PUT /machines/NAME ── after a while ──▶ Boot ── its console ──▶ GET /machines/NAME/console
//! PUT /weather ──▶ what goes wrong from now on
//! ```
//!
//! - `weather`: what can go wrong;
//! - `machine`: one machine, from its order to its end;
//! - `process`: machines that are processes;
//! - `page`: the addresses.

mod machine;
mod page;
mod process;
mod weather;

pub use process::Processes;
pub use weather::Weather;

use machine::Machine;
use serde::Serialize;
use std::collections::BTreeMap;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// What a machine is once it has started.
pub trait Boot: Send + Sync {
    /// Runs until the machine ends by itself. Dropped, it is switched off; `notice` is cancelled some time before that, where the
    /// cloud gives notice.
    fn boot(&self, order: Order, console: Console, notice: CancellationToken) -> Pin<Box<dyn Future<Output = ()> + Send>>;
}

/// A machine as it was asked for.
#[derive(Debug, Clone)]
pub struct Order {
    pub name: String,
    pub cores: u32,
    pub memory_mib: u32,
    pub environment: BTreeMap<String, String>,
}

/// What a machine writes; the last of it is kept.
#[derive(Debug, Clone, Default)]
pub struct Console(Arc<Mutex<String>>);

impl Console {
    const KEPT: usize = 64 * 1024;

    /// Adds a line.
    pub fn say(&self, line: &str) {
        let mut text = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        text.push_str(line);
        text.push('\n');
        let from = text.len().saturating_sub(Console::KEPT);
        if let Some(from) = (from..text.len()).find(|at| text.is_char_boundary(*at)).filter(|from| *from > 0) {
            text.drain(..from);
        }
    }

    fn text(&self) -> String {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// A cloud. Clones are the same.
#[derive(Clone)]
pub struct Cloud(Arc<Inner>);

struct Inner {
    boot: Box<dyn Boot>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    weather: Weather,
    machines: BTreeMap<String, Machine>,
    /// How many were ordered; what goes wrong with each so-and-so-manieth goes by it.
    ordered: u32,
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
        machine.take(self.clone(), notice);
        state.counts.taken += 1;
        true
    }

    /// Answers calls until the listener fails.
    pub async fn serve(self, listener: TcpListener) -> std::io::Result<()> {
        axum::serve(listener, page::router(self)).await
    }

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Orders a machine, or finds that it was ordered before.
    fn order(&self, order: Order) -> Result<String, Refused> {
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
            let machine = Machine::start(self.clone(), order, &weather, number, never);
            state.machines.insert(name, machine);
        }
        Ok(format!("ordered as number {number}"))
    }

    /// Whether there was one of this name.
    fn remove(&self, name: &str) -> bool {
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
struct Refused {
    status: u16,
    why: String,
}
