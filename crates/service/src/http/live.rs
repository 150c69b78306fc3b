//! Live updates as server-sent events. Their ids are the journal's, so a client that comes back with `Last-Event-ID`
//! misses nothing: what happened meanwhile is read from the journal, also over a restart of the service.

use super::auth::Person;
use super::error::ApiError;
use super::extract::Query;
use crate::app::App;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use ordotaxis_store::Journal;
use serde::Deserialize;
use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio_stream::Stream;
use utoipa::IntoParams;

/// How many events are read at once.
const PAGE: i64 = 500;
/// Events that come close together are sent together: one query serves many.
const GATHER: Duration = Duration::from_millis(30);

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Filter {
    /// Only events of this run, `PROJECT/NUMBER`.
    run: Option<String>,
    /// Events after this id, where `Last-Event-ID` is not sent.
    after: Option<i64>,
}

/// What happens, as it happens: a stream of LiveEvent. Without an id it begins with what happens next.
#[utoipa::path(get, operation_id = "live", path = "/api/v1/live", params(Filter), responses((status = 200, description = "server-sent events", content_type = "text/event-stream")))]
pub(super) async fn live(
    State(app): State<App>,
    Person(person): Person,
    Query(filter): Query<Filter>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let last: Option<i64> = headers.get("last-event-id").and_then(|value| value.to_str().ok()).and_then(|value| value.parse().ok());
    let from = match last.or(filter.after) {
        Some(id) => id,
        None => app.records.journal_end().await?,
    };
    let follower = Follower {
        _open: app.streams.open(&person)?,
        journal: app.keeper.journal.clone(),
        app,
        last: from,
        run: filter.run,
        ready: VecDeque::new(),
    };
    let stream = tokio_stream::StreamExt::map(unfold(follower), Ok);
    Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

/// How many streams one person may have open: a stream serves all tabs of a browser.
const STREAMS: usize = 32;

/// Open streams, by person.
#[derive(Debug, Default, Clone)]
pub(crate) struct Streams(Arc<Mutex<HashMap<String, usize>>>);

/// One of them; counted until it is dropped.
struct Open(Streams, String);

impl Streams {
    fn open(&self, person: &str) -> Result<Open, ApiError> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(person.to_owned()).or_default();
        if *count >= STREAMS {
            let detail = format!("{STREAMS} live streams are open already; close one");
            return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, "too-many-streams", detail));
        }
        *count += 1;
        Ok(Open(self.clone(), person.to_owned()))
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        let mut open = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.1) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.1);
            }
        }
    }
}

struct Follower {
    _open: Open,
    app: App,
    journal: tokio::sync::watch::Receiver<i64>,
    last: i64,
    run: Option<String>,
    ready: VecDeque<Event>,
}

fn unfold(follower: Follower) -> impl Stream<Item = Event> {
    let (sender, receiver) = tokio::sync::mpsc::channel(64);
    tokio::spawn(follower.work(sender));
    tokio_stream::wrappers::ReceiverStream::new(receiver)
}

impl Follower {
    async fn work(mut self, sender: tokio::sync::mpsc::Sender<Event>) {
        loop {
            while let Some(event) = self.ready.pop_front() {
                if sender.send(event).await.is_err() {
                    return;
                }
            }
            self.journal.borrow_and_update();
            match self.app.records.journal_after(self.last, PAGE).await {
                Ok(rows) if !rows.is_empty() => self.take(rows),
                Ok(_) => {
                    tokio::select! {
                        () = self.app.stop.cancelled() => return,
                        () = sender.closed() => return,
                        changed = self.journal.changed() => if changed.is_err() { return },
                    }
                    tokio::time::sleep(GATHER).await;
                }
                Err(error) => {
                    tracing::error!(%error, "the journal could not be read");
                    return;
                }
            }
        }
    }

    fn take(&mut self, rows: Vec<Journal>) {
        for row in rows {
            self.last = row.id;
            let mark = self.run.as_ref().map(|run| format!("\"run\":\"{run}\""));
            if mark.is_none_or(|mark| row.body.contains(&mark)) {
                self.ready.push_back(Event::default().id(row.id.to_string()).event("change").data(row.body));
            }
        }
    }
}
