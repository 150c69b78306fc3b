//! The service: occasions in, verdicts out. [`serve`] does everything; the caller brings settings, a listener and two
//! shutdown signals.
//!
//! - `keeper`: owns every run that goes on; the only writer of runs.
//! - `occasions`, `outbox`: workers for what comes in and what goes out.
//! - `http`: the API for people, the runner protocol, hooks, live events, the console.

mod app;
mod care;
mod clock;
mod http;
mod keeper;
mod lanes;
mod listening;
mod occasions;
mod outbox;
mod places;
mod profile;
mod secrets;
mod sentence;
mod serve;
mod settings;
mod trees;

pub use http::openapi;
pub use listening::ListenError;
pub use occasions::{NotLent, lend_from};
pub use profile::ProfileError;
pub use secrets::KeyError;
pub use serve::{ServeError, Shutdown, serve};
pub use settings::{Open, Settings, SettingsError, Tls};
