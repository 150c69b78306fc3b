//! What goes wrong in the storm, each for a moment.

use super::Storm;
use crate::faults::{Away, ReadOnly, locked, pause};
use crate::order::bare;
use axum::Router;
use axum::http::{HeaderMap, StatusCode};
use axum::routing::post;
use ordotaxis_practice::{Fault, Weather, What};
use rand::rngs::StdRng;
use rand::{Rng, RngExt};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Trouble {
    ServiceKilled,
    ServicePaused,
    RunnerKilled,
    DatabaseLocked,
    StoreReadOnly,
    BackupsReadOnly,
    RepositoryAway,
    CloudLies,
    ForgeFails,
    BoardAway,
    /// No trouble in itself: what is old is swept away, environments are frozen and rolled back while all else goes on.
    Swept,
    Frozen,
    RolledBack,
}

/// Each with how often it comes.
const ALL: [(Trouble, u32); 13] = [
    (Trouble::ServiceKilled, 4),
    (Trouble::ServicePaused, 2),
    (Trouble::RunnerKilled, 2),
    (Trouble::DatabaseLocked, 1),
    (Trouble::StoreReadOnly, 1),
    (Trouble::BackupsReadOnly, 1),
    (Trouble::RepositoryAway, 1),
    (Trouble::CloudLies, 4),
    (Trouble::ForgeFails, 2),
    (Trouble::BoardAway, 2),
    (Trouble::Swept, 1),
    (Trouble::Frozen, 1),
    (Trouble::RolledBack, 1),
];

impl Trouble {
    pub(super) fn any(random: &mut StdRng) -> Trouble {
        let all: Vec<Trouble> = ALL.iter().flat_map(|(trouble, often)| std::iter::repeat_n(*trouble, *often as usize)).collect();
        all[random.random_range(0..all.len())]
    }
}

/// Weather in which a cloud does what it was not asked for.
fn bad_weather(random: &mut impl Rng) -> Weather {
    let mut each = |often: u32| if random.random_range(0..2) == 0 { 0 } else { random.random_range(2..often) };
    Weather {
        quota: Some(6),
        start_ms: 100,
        slow_ms: u64::from(each(400)),
        refuses_each: each(6),
        silent_each: each(6),
        twice_each: each(6),
        never_each: each(6),
        taken_each: each(6),
        taken_after_ms: 700,
        notice_ms: u64::from(each(1_000)),
        away: each(6) == 2,
        garbled: each(6) == 2,
    }
}

impl Storm {
    /// Meets one trouble; when this is done it is over, but for the weather and who was killed.
    pub(super) async fn meet(&mut self, trouble: Trouble) {
        let moment = Duration::from_millis(self.random.random_range(50..1_500));
        let data = self.at("service");
        match trouble {
            Trouble::ServiceKilled => {
                self.world.kill_service();
                self.world.start_service();
            }
            Trouble::ServicePaused => pause(&self.world, moment).await,
            Trouble::RunnerKilled => {
                self.bring_back();
                let at = self.random.random_range(0..self.runners.len());
                self.runners[at].1.take().into_iter().for_each(ordotaxis_testbed::Process::kill);
            }
            Trouble::DatabaseLocked => {
                let _locked = locked(&data).await;
                tokio::time::sleep(moment).await;
            }
            Trouble::StoreReadOnly => {
                let _refusing = ReadOnly::over(&data.join("blobs"));
                tokio::time::sleep(moment).await;
            }
            Trouble::BackupsReadOnly => {
                let _refusing = ReadOnly::over(&self.at("backups"));
                tokio::time::sleep(moment).await;
            }
            Trouble::RepositoryAway => {
                let _away = Away::of(&bare(&self.world, "tidegauge"));
                tokio::time::sleep(moment).await;
            }
            Trouble::CloudLies => self.cloud.set_weather(bad_weather(&mut self.random)),
            Trouble::ForgeFails => {
                let what = || What::Status { status: 503 };
                self.world.forge.will_fail(
                    [what(), What::Half, What::Busy { seconds: 1 }, What::Page, what()].map(|what| Fault { what, on: String::new() }),
                );
            }
            Trouble::BoardAway => self.board.is_away(!self.board.away()),
            Trouble::Swept => drop(self.world.run(&["store", "sweep", "--apply"]).await),
            Trouble::Frozen => {
                drop(self.world.run(&["environment", "freeze", "tidegauge/pier", "--reason", "stocktaking", "--until", "1m"]).await)
            }
            Trouble::RolledBack => {
                drop(self.world.run(&["environment", "thaw", "tidegauge/pier"]).await);
                drop(self.world.run(&["roll-back", "tidegauge/trial"]).await);
            }
        }
    }
}

/// Nothing goes wrong from now on.
pub(super) fn calm(storm: &mut Storm) {
    storm.cloud.set_weather(Weather { start_ms: 100, ..Weather::default() });
    storm.board.is_away(false);
    storm.world.forge.forget_faults();
}

/// Who takes the project's notices, by their ids: how often each came.
pub(super) struct Board {
    pub(super) url: String,
    came: Arc<Mutex<BTreeMap<String, u32>>>,
    away: Arc<AtomicBool>,
}

impl Board {
    pub(super) async fn start() -> Board {
        let (came, away) = (Arc::<Mutex<BTreeMap<String, u32>>>::default(), Arc::new(AtomicBool::new(false)));
        let (kept, gone) = (came.clone(), away.clone());
        let take = move |headers: HeaderMap| async move {
            if gone.load(Ordering::Relaxed) {
                return StatusCode::SERVICE_UNAVAILABLE;
            }
            let id = headers.get("webhook-id").and_then(|id| id.to_str().ok()).unwrap_or_default().to_owned();
            *kept.lock().expect("not poisoned").entry(id).or_default() += 1;
            StatusCode::NO_CONTENT
        };
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}/board", listener.local_addr().expect("an address"));
        tokio::spawn(async move { axum::serve(listener, Router::new().route("/board", post(take))).await });
        Board { url, came, away }
    }

    pub(super) fn is_away(&self, away: bool) {
        self.away.store(away, Ordering::Relaxed);
    }

    pub(super) fn away(&self) -> bool {
        self.away.load(Ordering::Relaxed)
    }

    pub(super) fn came(&self) -> BTreeMap<String, u32> {
        self.came.lock().expect("not poisoned").clone()
    }
}
