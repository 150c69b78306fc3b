//! A delivery for a project that is not there yet: where someone looks at a repository for one of that name, it is read and
//! remembered, and begins nothing.

use crate::app::App;
use crate::forge::{Came, Taken, read};

/// What was read where it was signed with the secret of one that is open; none where nobody's fits.
pub(crate) fn hear(app: &App, project: &str, came: &Came<'_>) -> Option<Taken> {
    let mut signed = None;
    for look in app.looks.all() {
        let (name, profile) = look.called();
        if name != project {
            continue;
        }
        let taken = read(app, profile.as_deref(), &look.hook_secret, came);
        let events = match &taken {
            Taken::New(events) => events.clone(),
            _ => Vec::new(),
        };
        look.note(taken.state(), events, taken.why());
        if !matches!(taken, Taken::Refused(_) | Taken::NoProfile(_)) {
            signed = Some(taken);
        }
    }
    signed
}
