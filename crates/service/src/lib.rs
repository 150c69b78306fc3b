//! The service: occasions in, verdicts out. [`serve`] does everything; the caller brings settings, a listener and two
//! shutdown signals.
//!
//! - `keeper`: owns every run that goes on; the only writer of runs.
//! - `occasions`: from what happened outside to runs.
//! - `react`: what follows from what happened to runs.
//! - `work`: the queue of everything that is to be done outside.
//! - `forge`: what forges send and what is asked of them.
//! - `landing`: acts for the queue in which proposals land.
//! - `delivery`: acts for the environments into which jobs put something.
//! - `pools`: runners that are made when jobs queue.
//! - `release`: what is made known of what runs made.
//! - `trace`: where things come from and where they went.
//! - `ship`: logs of jobs, sent on.
//! - `insight`: what the history of jobs comes to.
//! - `telemetry`: what machines that watch are told.
//! - `http`: the API for people, the runner protocol, hooks, live events, the console.

mod about;
mod ages;
mod app;
mod backed_up;
mod backoff;
mod backup;
mod badge;
mod care;
mod causes;
mod clock;
mod collector;
mod counters;
mod delivery;
mod events;
mod forge;
mod http;
mod identity;
mod insight;
mod keeper;
mod kept;
mod label;
mod landing;
mod listening;
mod looks;
mod notices;
mod occasions;
mod offers;
mod old;
mod outgoing;
mod places;
mod plans;
mod pools;
mod prune;
mod react;
mod reading;
mod release;
mod seal;
mod secrets;
mod sentence;
mod serve;
mod settings;
mod ship;
mod sign_in;
mod talk;
mod tasks;
mod telemetry;
mod trace;
mod traced;
mod trees;
mod unreached;
mod who;
mod work;

pub use ages::Ages;
pub use causes::causes;
pub use collector::{Collector, Form, Ship, Traces};
pub use forge::ProfileError;
pub use http::openapi;
pub use listening::ListenError;
pub use occasions::{NotBorrowed, read_borrowed};
pub use pools::{ProgramError, is_pool_name, try_program};
pub use seal::KeyError;
pub use serve::{ServeError, Shutdown, serve};
pub use settings::{Newcomers, Open, Rehearsal, Settings, SettingsError, SignIn, Tls};
pub use telemetry::OwnSpans;
