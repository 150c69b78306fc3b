//! Lists of a forge, page after page.

use super::call::{CallError, Called, Forge};
use ordotaxis_core::forge::{Kind, Miss, Request};
use serde_json::Value;
use std::collections::BTreeMap;

/// A list is read up to so many pages.
const MOST_PAGES: usize = 100;

/// A list, as far as it was read.
#[derive(Debug)]
pub(super) struct Listed<T> {
    pub(super) items: Vec<T>,
    /// It was read to its end.
    pub(super) whole: bool,
}

/// An answer that is not as the profile says.
pub(super) fn odd(kind: Kind, why: impl Into<String>) -> CallError {
    CallError::Odd { request: kind.word(), why: why.into() }
}

/// What takes the items out of a page; none where the list is not there.
type Items<T> = fn(&Request, &Value) -> Option<Vec<Result<T, Miss>>>;

/// Reads a list, page after page.
pub(super) async fn listed<T>(
    forge: &Forge<'_>,
    kind: Kind,
    values: BTreeMap<&'static str, String>,
    read: Items<T>,
) -> Result<Listed<T>, CallError> {
    let (first, request) = (forge.call(kind, values.clone())?, forge.request(kind)?);
    let mut page: Called = forge.ask(kind, values).await?;
    let mut items = Vec::new();
    for _ in 0..MOST_PAGES {
        for item in read(request, &page.body).ok_or_else(|| odd(kind, "there is no list where `items` points"))? {
            items.push(item.map_err(|miss| odd(kind, miss.to_string()))?);
        }
        match request.next(&page.headers, &page.body) {
            Some(address) => page = forge.ask_page(kind, &first, &address).await?,
            None => return Ok(Listed { items, whole: true }),
        }
    }
    Ok(Listed { items, whole: false })
}
