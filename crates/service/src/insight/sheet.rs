//! Every attempt as a line of a table (RFC 4180), for whoever wants to work out more.

use crate::app::App;
use bytes::Bytes;
use ordotaxis_store::{StoreError, TriedRow};
use ordotaxis_wire::moment;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;

const HEAD: [&str; 13] = [
    "run",
    "pipeline",
    "event",
    "branch",
    "commit",
    "job",
    "attempt",
    "state",
    "queued_at",
    "started_at",
    "ended_at",
    "waited_ms",
    "took_ms",
];

/// What begins so is a formula to the programs that people open tables with.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// All attempts of a project since a moment that have ended, the oldest first, page by page.
pub(crate) fn sheet(app: App, project_id: i64, since: i64) -> ReceiverStream<Result<Bytes, std::io::Error>> {
    let (sender, receiver) = mpsc::channel(4);
    tokio::spawn(async move {
        // An answer that breaks off is noticed by its reader.
        if let Err(error) = pages(&app, project_id, since, &sender).await {
            let _ = sender.send(Err(error)).await;
        }
    });
    ReceiverStream::new(receiver)
}

type Sender = mpsc::Sender<Result<Bytes, std::io::Error>>;

async fn pages(app: &App, project_id: i64, since: i64, sender: &Sender) -> Result<(), std::io::Error> {
    let mut after = 0;
    let mut page = csv::Writer::from_writer(Vec::new());
    page.write_record(HEAD)?;
    loop {
        let bytes = page.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
        if !bytes.is_empty() && sender.send(Ok(bytes.into())).await.is_err() {
            return Ok(()); // nobody reads on
        }
        page = csv::Writer::from_writer(Vec::new());
        let next = app.records.tried_after(project_id, since, after).await;
        let Some((last, rows)) = next.map_err(|error: StoreError| std::io::Error::other(error))? else { return Ok(()) };
        after = last;
        for row in &rows {
            page.write_record(line(row))?;
        }
    }
}

fn line(row: &TriedRow) -> [String; 13] {
    let at = |ms: i64| moment(ms).to_string();
    let waited = row.queued_at.map(|queued| (row.started_at - queued).max(0).to_string());
    [
        row.run.to_string(),
        plain(&row.pipeline),
        plain(&row.event),
        plain(row.branch.as_deref().unwrap_or_default()),
        plain(&row.commit_id),
        plain(&row.job_id),
        row.number.to_string(),
        plain(&row.state),
        row.queued_at.map(at).unwrap_or_default(),
        at(row.started_at),
        at(row.ended_at),
        waited.unwrap_or_default(),
        (row.ended_at - row.started_at).max(0).to_string(),
    ]
}

/// Words that came from elsewhere, so that no program takes them for a formula.
fn plain(text: &str) -> String {
    if text.starts_with(FORMULA) { format!("'{text}") } else { text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_branch_is_no_formula() {
        for (branch, cell) in [("=1+1", "'=1+1"), ("@x", "'@x"), ("-x", "'-x"), ("main", "main"), ("a=b", "a=b"), ("", "")] {
            assert_eq!(plain(branch), cell);
        }
    }
}
