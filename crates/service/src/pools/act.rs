//! What a look wants done: written down first, then done. Providers are asked side by side, and what they answer is an event.

use super::handle::{Message, PoolNow};
use super::provider::{Failed, Provider, Wanted};
use super::settings::granted;
use crate::app::App;
use crate::clock;
use crate::keeper::{Away, FleetCommand};
use ordotaxis_core::pool::{Effect, Event, Machine, Pools, Stage};
use ordotaxis_store::{Secret, StoreError};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError};
use std::time::Instant;
use tokio_util::sync::CancellationToken;

/// What is known while something is done.
pub(super) struct Hands<'a> {
    pub(super) app: &'a App,
    pub(super) pools: &'a Pools,
    pub(super) known: &'a HashMap<String, PoolNow>,
    /// Ends what is under way.
    pub(super) stop: &'a CancellationToken,
}

/// Why a look came to nothing.
#[derive(Debug, thiserror::Error)]
pub(super) enum LookError {
    #[error("the machines could not be written down or read")]
    Store(#[from] StoreError),
    #[error("the keeper is away")]
    Away,
}

impl From<Away> for LookError {
    fn from(_: Away) -> LookError {
        LookError::Away
    }
}

/// Whoever asks a runner to take nothing more.
const BY: &str = "its pool";

/// A runner that takes nothing more, as was wanted.
pub(super) struct Done {
    pub(super) id: String,
}

/// Writes machines down as they are now; with them the invitations of those that are wanted, and the end of those that are given up.
pub(super) async fn write(
    hands: &Hands<'_>,
    machines: &[Machine],
    effects: &[Effect],
    found: &BTreeMap<String, String>,
    now: i64,
) -> Result<HashMap<String, Secret>, StoreError> {
    let mut invitations = HashMap::new();
    let ended = |effect: &&Effect| matches!(effect, Effect::EndRunner { .. });
    if machines.is_empty() && found.is_empty() && !effects.iter().any(|effect| ended(&effect)) {
        return Ok(invitations);
    }
    let mut tx = hands.app.records.tx_by_rule("pools", now).await?;
    tx.write_machines(machines).await?;
    for effect in effects {
        match effect {
            Effect::Make { pool, id, .. } => {
                let (Some(known), Some(machine)) = (hands.known.get(pool), hands.pools.machine(id)) else { continue };
                let invitation = Secret::random("oxi");
                let until = machine.wanted_at.saturating_add(known.pool.rules.start);
                tx.invite_machine(invitation.expose(), id, &granted(&known.settings), until).await?;
                invitations.insert(id.clone(), invitation);
            }
            Effect::EndRunner { id, .. } => tx.end_machine(id).await?,
            _ => {}
        }
    }
    // One that is gone for want of a provider's yes was never given up in so many words.
    for machine in machines.iter().filter(|machine| machine.stage == Stage::Gone) {
        tx.end_machine(&machine.id).await?;
    }
    for (pool, text) in found {
        tx.set_pool_found(pool, text).await?;
    }
    tx.drop_ended_pools().await?;
    tx.commit().await?;
    Ok(invitations)
}

/// Does it. What the keeper does is done when this returns; what providers do goes on, and is told when it has come to an end.
pub(super) async fn carry_out(
    hands: &Hands<'_>,
    effects: Vec<Effect>,
    mut invitations: HashMap<String, Secret>,
) -> Result<Vec<Done>, LookError> {
    // All at once, so that the keeper writes many down together: hundreds of machines may go in one moment.
    let asked = effects.iter().map(|effect| tell_keeper(hands, effect));
    let done = futures_util::future::try_join_all(asked).await?;
    for effect in effects {
        match effect {
            Effect::Drain { .. } | Effect::Undrain { .. } | Effect::EndRunner { .. } => {} // the keeper has done it
            Effect::Make { pool, id, capacity, lasts } => {
                let Some(invitation) = invitations.remove(&id) else { continue };
                let url = hands.app.public_url.clone();
                ask(hands, &pool, move |provider| async move {
                    let wanted = Wanted { id: &id, capacity, lasts, url: &url, invitation: &invitation };
                    match provider.make(&wanted).await {
                        Ok(words) => Event::Made { id, words },
                        Err(Failed::Refused(why)) => Event::Refused { id, why },
                        Err(Failed::Unclear(why)) => Event::Unclear { id, why },
                    }
                });
            }
            Effect::Remove { pool, name } => {
                let of = pool.clone();
                ask(hands, &pool, |provider| async move {
                    match provider.remove(&name).await {
                        Ok(()) => Event::Removed { pool: of, name },
                        Err(why) => {
                            tracing::warn!(machine = name, why, "a machine could not be removed; it is tried again");
                            Event::NotRemoved { pool: of, name, why }
                        }
                    }
                });
            }
            Effect::List { pool } => {
                let (of, asked_at) = (pool.clone(), clock::now());
                ask(hands, &pool, move |provider| async move {
                    match provider.list().await {
                        Ok(machines) => Event::Listed { pool: of, asked_at, machines },
                        Err(why) => {
                            tracing::warn!(pool = of, why, "a pool's machines could not be listed; it is tried again");
                            Event::NotListed { pool: of, why }
                        }
                    }
                });
            }
        }
    }
    Ok(done.into_iter().flatten().collect())
}

/// What the keeper is to do about a runner, if it is; a runner that takes nothing more from now on is given back.
async fn tell_keeper(hands: &Hands<'_>, effect: &Effect) -> Result<Option<Done>, LookError> {
    let keeper = &hands.app.keeper;
    match effect {
        Effect::Drain { id, why } => {
            let by = Some(format!("{BY}: {why}"));
            keeper.ask(|reply| FleetCommand::Drain { runner: id.clone(), by, reply }).await?;
            return Ok(Some(Done { id: id.clone() }));
        }
        Effect::Undrain { id } => keeper.ask(|reply| FleetCommand::Drain { runner: id.clone(), by: None, reply }).await?,
        Effect::EndRunner { id, why } => {
            hands.app.runner_names.write().unwrap_or_else(PoisonError::into_inner).retain(|_, known| known != id);
            let why = format!("machine {id} was removed: {why}");
            keeper.ask(|reply| FleetCommand::RemoveRunner { runner: id.clone(), why, reply }).await?;
        }
        Effect::Make { .. } | Effect::Remove { .. } | Effect::List { .. } => {}
    }
    Ok(None)
}

/// Asks a pool's provider, and tells the loop what came of it: always, so that nothing is waited for that does not come.
fn ask<F>(hands: &Hands<'_>, pool: &str, question: impl FnOnce(Arc<Provider>) -> F)
where
    F: Future<Output = Event> + Send + 'static,
{
    let Some(known) = hands.known.get(pool) else { return };
    let (app, stop, pool) = (hands.app.clone(), hands.stop.clone(), pool.to_owned());
    let asked = question(known.provider.clone());
    tokio::spawn(async move {
        let (sender, since) = (app.pools.sender(), Instant::now());
        if let Some(event) = stop.run_until_cancelled(asked).await {
            let (asked, answer) = counted(&event);
            app.counters.asked(&pool, asked, answer, since.elapsed());
            let _ = sender.send(Message::Event(event)).await;
        }
    });
}

/// What a provider was asked, and how it answered, as that is counted.
fn counted(event: &Event) -> (&'static str, &'static str) {
    match event {
        Event::Made { .. } => ("make", "done"),
        Event::Refused { .. } => ("make", "refused"),
        Event::Unclear { .. } => ("make", "unclear"),
        Event::Removed { .. } => ("remove", "done"),
        Event::NotRemoved { .. } => ("remove", "unclear"),
        Event::Listed { .. } => ("list", "done"),
        _ => ("list", "unclear"),
    }
}
