//! How the rest of the service reaches pools: what is so now, and what people and runners say.

use super::provider::Provider;
use super::settings::terms;
use crate::keeper::Away;
use ordotaxis_core::pool::{Event, Machine, Pool};
use ordotaxis_store::PoolRow;
use ordotaxis_wire::pool::PoolSettings;
use ordotaxis_wire::runner::MachineTerms;
use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};
use tokio::sync::{Mutex, mpsc, oneshot};

/// How many messages may wait.
const WAITING: usize = 1024;

/// What the loop is told.
pub(crate) enum Message {
    /// A provider answered.
    Event(Event),
    /// Somebody said something of a machine: it is answered with it, as it is then, once that is written down; none when there is
    /// no such machine.
    Said { event: Event, reply: oneshot::Sender<Option<Machine>> },
    /// Pools were set: answered when that counts.
    Set { reply: oneshot::Sender<()> },
}

/// One pool as it is now.
#[derive(Clone)]
pub(crate) struct PoolNow {
    pub(crate) row: PoolRow,
    pub(crate) settings: PoolSettings,
    pub(crate) pool: Pool,
    pub(super) provider: Arc<Provider>,
}

/// Everything as of the last look.
#[derive(Clone, Default)]
pub(crate) struct Now {
    pub(crate) pools: Vec<PoolNow>,
    pub(crate) machines: HashMap<String, Machine>,
}

/// The way to the loop.
pub(crate) struct Pools {
    sender: mpsc::Sender<Message>,
    /// The loop's own, also when it begins again.
    pub(super) receiver: Mutex<mpsc::Receiver<Message>>,
    now: RwLock<Arc<Now>>,
}

impl Default for Pools {
    fn default() -> Pools {
        let (sender, receiver) = mpsc::channel(WAITING);
        Pools { sender, receiver: Mutex::new(receiver), now: RwLock::default() }
    }
}

impl Pools {
    pub(crate) fn now(&self) -> Arc<Now> {
        self.now.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    pub(super) fn publish(&self, now: Now) {
        *self.now.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(now);
    }

    pub(super) fn sender(&self) -> mpsc::Sender<Message> {
        self.sender.clone()
    }

    /// Pools were set: from the answer on that counts.
    pub(crate) async fn were_set(&self) -> Result<(), Away> {
        let (reply, answer) = oneshot::channel();
        self.sender.send(Message::Set { reply }).await.map_err(|_| Away)?;
        answer.await.map_err(|_| Away)
    }

    /// What a person or its runner says of a machine; none when there is no such machine.
    pub(crate) async fn say(&self, event: Event) -> Result<Option<Machine>, Away> {
        let (reply, answer) = oneshot::channel();
        self.sender.send(Message::Said { event, reply }).await.map_err(|_| Away)?;
        answer.await.map_err(|_| Away)
    }

    /// What the runner of a machine is to do; none when there is no such machine, or it is on its way out.
    pub(crate) fn terms(&self, machine: &str) -> Option<MachineTerms> {
        let now = self.now();
        let machine = now.machines.get(machine).filter(|machine| machine.serves())?;
        let pool = now.pools.iter().find(|pool| pool.row.name == machine.pool)?;
        Some(terms(&pool.settings, machine))
    }

    /// The last of what a machine wrote; why not, where its provider cannot say.
    pub(crate) async fn console(&self, machine: &Machine) -> Result<String, String> {
        let now = self.now();
        let pool = now.pools.iter().find(|pool| pool.row.name == machine.pool);
        let pool = pool.ok_or_else(|| format!("pool {} is no more", machine.pool))?;
        pool.provider.console(&machine.id).await
    }
}
