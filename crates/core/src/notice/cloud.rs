//! A notice for programs: a CloudEvents 1.0 event in the structured JSON form (cloudevents.io, spec v1.0.2).

use super::Notice;
use serde_json::{Value, json};

/// The event. `source` names the service, `id` the event, `time` is RFC 3339.
pub fn cloud_event(notice: &Notice, source: &str, id: &str, time: &str) -> Value {
    let subject = notice.run.as_ref().or(notice.proposal.as_ref()).unwrap_or(&notice.project);
    json!({
        "specversion": "1.0",
        "id": id,
        "source": source,
        "type": format!("org.ordotaxis.notice.{}", notice.occasion.word()),
        "subject": subject,
        "time": time,
        "datacontenttype": "application/json",
        "data": {
            "project": notice.project,
            "occasion": notice.occasion.word(),
            "sentence": notice.sentence,
            "parts": notice.parts,
            "link": notice.link,
            "run": notice.run,
            "proposal": notice.proposal,
            "commit": notice.commit,
            "commits": notice.commits,
        },
    })
}
