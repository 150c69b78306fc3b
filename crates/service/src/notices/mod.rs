//! Notices: something happened, it is found out whether that is worth telling and whom, and each receiver is told.
//!
//! - `news`: what happened, as work;
//! - `find`: what is told of it; `delivered`: of environments; `found`: before it is known to whom; `turned`: whether a pipeline of the main branch broke or was fixed;
//! - `receivers`: who sees it and wants to hear of it;
//! - `send`: one receiver is told, a storm in one message; `mail` and `hook`: how; `only`: one message at a time.

mod delivered;
mod find;
mod found;
mod hook;
mod mail;
mod news;
mod only;
mod receivers;
mod send;
mod turned;

pub(crate) use find::find_out;
pub(crate) use hook::client as hook_client;
pub(crate) use mail::Post;
pub(crate) use news::{News, news};
pub(crate) use only::Busy;
pub(crate) use send::{LONGEST_PAUSE, send};
