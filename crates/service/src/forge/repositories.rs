//! What a forge has that may become a project.

use super::call::{CallError, Forge};
use super::pages::listed;
use crate::app::App;
use ordotaxis_core::forge::{Hosted, Kind, Request};
use std::collections::BTreeMap;

/// The repositories that a token opens at a forge, in its order; of a list without end the first hundred pages.
pub(crate) async fn repositories(app: &App, at: &ordotaxis_store::Forge, token: String) -> Result<Vec<Hosted>, CallError> {
    let forge = Forge::new(app, at, token)?;
    Ok(listed(&forge, Kind::Repositories, BTreeMap::new(), Request::repositories).await?.items)
}
