//! Ends a person's notices from within a mail, without signing in (RFC 8058): who has the key in the message's header may do
//! that and nothing else. Looking at the address changes nothing, since programs look at the addresses in mail.

use super::error::ApiError;
use super::extract::Query;
use super::known::Address;
use crate::app::App;
use crate::clock;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use ordotaxis_core::access::{Action, Actor, Way, Who};
use ordotaxis_core::notice::{By, Choice};
use ordotaxis_store::Entry;
use serde::Deserialize;

#[derive(Deserialize)]
pub(super) struct Key {
    #[serde(default)]
    key: String,
}

/// Shows the page on which one chooses.
pub(super) async fn look(State(app): State<App>) -> Response {
    Redirect::to(&format!("{}/notices", app.public_url)).into_response()
}

/// From now on this person is told nothing by mail, of any project.
pub(super) async fn end(State(app): State<App>, caller: Address, Query(key): Query<Key>) -> Result<&'static str, ApiError> {
    app.guesses.check("notices", caller, "")?;
    let Some(person) = app.records.person_of_notice_key(&key.key).await? else {
        app.guesses.wrong("notices", caller, "");
        return Err(ApiError::not_found("key", "nobody's notices are ended by this address"));
    };
    let actor = Actor { who: Who::Nobody, way: Way::Api, address: Some(caller.0.to_string()) };
    let mut tx = app.records.tx(&actor, clock::now()).await?;
    tx.drop_choices(person).await?;
    tx.set_choice(person, None, &Choice { by: By::Nothing, ..Choice::default() }).await?;
    let name = tx.person_name(person).await?.unwrap_or_default();
    tx.note(Entry::new(Action::EndNotices, name));
    tx.commit().await?;
    Ok("No more notices will be sent to you. In the console, the page Notices brings them back.\n")
}
