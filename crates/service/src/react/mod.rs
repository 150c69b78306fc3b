//! Reactions: what follows from what happened to runs. Each reads events from a cursor of its own and writes work, in
//! the transaction that moves the cursor: whatever happened leads to its work exactly once, also over a restart.
//!
//! To add a reaction: a file with a function from events to work, and a line in [`REACTIONS`].

mod comment;
mod landing;
mod message;
mod news;
mod passed;

pub(crate) use message::{Message, Remark};

use crate::app::App;
use crate::causes::causes;
use crate::{clock, tasks};
use ordotaxis_store::{NewWork, RunEvent, StoreError};
use std::pin::Pin;
use std::time::Duration;

/// How many events are read at once.
const PAGE: i64 = 500;
/// How long a reaction rests after an error.
const REST: Duration = Duration::from_secs(1);

/// How many events a cursor may lag behind on disk.
const UNWRITTEN: i64 = 1000;

type Follows<'a> = Pin<Box<dyn Future<Output = Result<Vec<NewWork>, StoreError>> + Send + 'a>>;

struct Reaction {
    /// Names its cursor: never changes.
    name: &'static str,
    /// What follows from one event, of the run with this number.
    follows: for<'a> fn(&'a App, i64, &'a RunEvent) -> Follows<'a>,
}

const REACTIONS: [Reaction; 8] = [
    Reaction { name: "status", follows: |app, run, event| Box::pin(message::status(app, run, event)) },
    Reaction { name: "note", follows: |app, run, event| Box::pin(message::note(app, run, event)) },
    Reaction { name: "landing", follows: |app, run, event| Box::pin(landing::ended(app, run, event)) },
    Reaction { name: "comment", follows: |app, run, event| Box::pin(comment::follows(app, run, event)) },
    Reaction { name: "news", follows: |app, run, event| Box::pin(news::follows(app, run, event)) },
    Reaction { name: "trace", follows: |app, run, event| Box::pin(crate::trace::follows(app, run, event)) },
    Reaction { name: "spans", follows: |app, run, event| Box::pin(crate::telemetry::follows(app, run, event)) },
    Reaction { name: "passed", follows: |app, run, event| Box::pin(passed::passed(app, run, event)) },
];

/// Works until the service stops: one task a reaction, so that none delays another.
pub(crate) async fn work(app: App) {
    let tasks = REACTIONS.iter().map(|reaction| {
        let (stop, app) = (app.stop.clone(), app.clone());
        tasks::kept(reaction.name, stop, move || react(app.clone(), reaction))
    });
    futures_util::future::join_all(tasks).await;
}

/// How far a reaction has read, and how far that is written down.
#[derive(Debug, Clone, Copy)]
struct Place {
    read: i64,
    written: i64,
}

/// One reaction: reads events from its cursor, writes work, moves the cursor with it.
async fn react(app: App, reaction: &'static Reaction) {
    let mut newest = app.records.newest_run_event();
    let mut place = None;
    loop {
        newest.borrow_and_update();
        let pause = match step(&app, reaction, &mut place).await {
            Ok(true) => continue,
            Ok(false) => None,
            Err(error) => {
                tracing::error!(error = causes(&error), reaction = reaction.name, "a reaction could not go on; it tries again");
                Some(REST)
            }
        };
        let resting = async {
            match pause {
                Some(pause) => tokio::time::sleep(pause).await,
                None => drop(newest.changed().await),
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = resting => {}
        }
    }
}

/// Reads on from the cursor. Gives whether there may be more.
async fn step(app: &App, reaction: &Reaction, place: &mut Option<Place>) -> Result<bool, StoreError> {
    let known = match *place {
        Some(known) => known,
        None => {
            let written = app.records.cursor(reaction.name).await?;
            *place.insert(Place { read: written, written })
        }
    };
    let events = app.records.run_events_after(known.read, PAGE).await?;
    let Some(last) = events.last().map(|(id, ..)| *id) else { return Ok(false) };
    let mut work = Vec::new();
    for (_, run, event) in &events {
        work.extend((reaction.follows)(app, *run, event).await?);
    }
    // What led to nothing need not be written down at once: read again after a restart, it leads to nothing again.
    let mut written = known.written;
    if !work.is_empty() || last - written > UNWRITTEN {
        let mut tx = app.records.tx_by_rule(reaction.name, clock::now()).await?;
        for new in &work {
            tx.add_work(new).await?;
        }
        tx.move_cursor(reaction.name, last).await?;
        tx.commit().await?;
        written = last;
    }
    *place = Some(Place { read: last, written });
    Ok(true)
}
