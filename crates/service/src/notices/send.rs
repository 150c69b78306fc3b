//! Tells one receiver what waits for them: mail, several notices in one message where many come; or a webhook, one event each.

use super::hook;
use super::mail::MailError;
use crate::app::App;
use crate::clock;
use crate::work::Outcome;
use ordotaxis_core::notice::{letter, rest};
use ordotaxis_store::{DueWork, NoticeRow, Project, StoreError};
use std::time::Duration;

/// The longest pause between two tries; with it they go on for about a day.
pub(crate) const LONGEST_PAUSE: Duration = Duration::from_secs(60 * 60);
const MOST_TRIES: u32 = 34;
/// While the same receiver is told something else.
const BUSY: Duration = Duration::from_millis(200);

/// Why a receiver could not be told.
enum NotTold {
    /// It may go well later.
    Now(String),
    Ever(String),
}

/// Tells a receiver all that waits for them.
pub(crate) async fn send(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let receiver = due.lane.as_str();
    let Some(_only_one) = app.busy.only(receiver) else { return Ok(Outcome::Later(BUSY)) };
    let waiting = app.records.notices_waiting(receiver).await?;
    if waiting.is_empty() {
        return Ok(Outcome::Done(Some("it went out with others".into())));
    }
    let (now, is_hook) = (clock::now(), receiver.contains("://"));
    if !is_hook {
        let pause = i64::try_from(app.settings.notice_pause.as_millis()).unwrap_or(i64::MAX);
        let sent = app.records.notices_sent(receiver, now - pause).await?;
        if let Some(until) = rest(&sent, pause, now) {
            return Ok(Outcome::Later(Duration::from_millis((until - now).unsigned_abs())));
        }
    }
    let told = if is_hook {
        let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
        hooked(app, &project, &waiting).await?
    } else {
        mailed(app, receiver, &waiting).await?
    };
    let last = u32::try_from(due.tries).unwrap_or(u32::MAX) + 1 >= MOST_TRIES;
    match told {
        Ok(()) => Ok(Outcome::Done(None)),
        Err(NotTold::Now(why)) if !last => Ok(Outcome::Failed { why, tries: MOST_TRIES, after: None }),
        Err(NotTold::Now(why) | NotTold::Ever(why)) => {
            ended(app, &waiting, Some(&why)).await?;
            Ok(Outcome::Hopeless(why))
        }
    }
}

async fn ended(app: &App, rows: &[NoticeRow], given_up: Option<&str>) -> Result<(), StoreError> {
    let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let mut tx = app.records.tx_by_rule("notices", clock::now()).await?;
    tx.notices_ended(&ids, given_up).await?;
    tx.commit().await
}

async fn mailed(app: &App, receiver: &str, waiting: &[NoticeRow]) -> Result<Result<(), NotTold>, StoreError> {
    let Some(post) = &app.post else {
        return Ok(Err(NotTold::Ever("the service's configuration has no [mail]".into())));
    };
    let notices = waiting.iter().map(NoticeRow::notice).collect::<Result<Vec<_>, _>>()?;
    let (Some(letter), Some(first)) = (letter(&notices), waiting.first()) else { return Ok(Ok(())) };
    let key = match first.person_id {
        Some(person) => Some(app.records.notice_key(person).await?),
        None => None,
    };
    let end = key.map(|key| format!("{}/notices/v1/end?key={key}", app.public_url));
    let (id, thread) = (format!("notice-{}", first.id), notices.first().map(|notice| notice.thread.clone()).filter(|_| notices.len() == 1));
    match post.send(receiver, &letter, &id, thread.as_deref(), end.as_deref()).await {
        Ok(()) => {
            ended(app, waiting, None).await?;
            Ok(Ok(()))
        }
        Err(MailError::Ever(why)) => Ok(Err(NotTold::Ever(why))),
        Err(MailError::Now(why)) => Ok(Err(NotTold::Now(why))),
    }
}

/// Each is an event of its own; those that arrived do not go again.
async fn hooked(app: &App, project: &Project, waiting: &[NoticeRow]) -> Result<Result<(), NotTold>, StoreError> {
    for row in waiting.iter().filter(|row| row.project == project.name) {
        match hook::send(app, project, row).await? {
            Ok(()) => ended(app, std::slice::from_ref(row), None).await?,
            Err(why) => return Ok(Err(NotTold::Now(why))),
        }
    }
    Ok(Ok(()))
}
