//! Live updates as server-sent events. Their ids are those of stored events, so a client that comes back with
//! `Last-Event-ID` misses nothing: what happened meanwhile is read from the store, also over a restart of the service.

use super::streams::OpenStream;
use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::Query;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use ordotaxis_wire::run::LiveEvent;
use serde::Deserialize;
use std::collections::{BTreeSet, VecDeque};
use std::convert::Infallible;
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
pub(crate) async fn live(
    State(app): State<App>,
    caller: Caller,
    Query(filter): Query<Filter>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let last: Option<i64> = headers.get("last-event-id").and_then(|value| value.to_str().ok()).and_then(|value| value.parse().ok());
    let from = match last.or(filter.after) {
        Some(id) => id,
        None => app.records.event_end().await?,
    };
    let follower = Follower {
        _open: app.streams.open(caller.name())?,
        newest: app.records.newest_event(),
        caller,
        hidden: BTreeSet::new(),
        app,
        last: from,
        run: filter.run,
        ready: VecDeque::new(),
    };
    let stream = tokio_stream::StreamExt::map(unfold(follower), Ok);
    Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(Duration::from_secs(15))))
}

struct Follower {
    _open: OpenStream,
    app: App,
    newest: tokio::sync::watch::Receiver<i64>,
    caller: Caller,
    /// Projects that the caller does not see, as it was known when events were read last.
    hidden: BTreeSet<String>,
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
    /// Sends events until the browser is gone.
    async fn work(mut self, sender: tokio::sync::mpsc::Sender<Event>) {
        loop {
            while let Some(event) = self.ready.pop_front() {
                if sender.send(event).await.is_err() {
                    return;
                }
            }
            self.newest.borrow_and_update();
            match self.read().await {
                Ok(rows) if !rows.is_empty() => self.take(rows),
                Ok(_) => {
                    tokio::select! {
                        () = self.app.stop.cancelled() => return,
                        () = sender.closed() => return,
                        changed = self.newest.changed() => if changed.is_err() { return },
                    }
                    tokio::time::sleep(GATHER).await;
                }
                Err(error) => {
                    tracing::error!(?error, "events could not be read");
                    return;
                }
            }
        }
    }

    /// What happened since; rights may have changed meanwhile.
    async fn read(&mut self) -> Result<Vec<ordotaxis_store::Event>, ApiError> {
        let rows = self.app.records.events_after(self.last, PAGE).await?;
        if !rows.is_empty() {
            self.hidden = super::runners::hidden(&self.app, &self.caller).await?;
        }
        Ok(rows)
    }

    fn take(&mut self, rows: Vec<ordotaxis_store::Event>) {
        for row in rows {
            self.last = row.id;
            let run = serde_json::from_str::<LiveEvent>(&row.body).map(|event| event.run).unwrap_or_default();
            if self.run.as_ref().is_none_or(|wanted| *wanted == run) && !super::runners::is_of(&run, &self.hidden) {
                self.ready.push_back(Event::default().id(row.id.to_string()).event("change").data(row.body));
            }
        }
    }
}
