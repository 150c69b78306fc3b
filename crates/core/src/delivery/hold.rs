//! What holds something back that wants into an environment, in words.

use crate::engine::{Clock, Millis};
use crate::language::counted;
use serde::{Deserialize, Serialize};

/// One thing that holds a deployment back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "hold", rename_all = "snake_case")]
pub enum Hold {
    /// It is outside of the hours in which the environment is open. `opens`: none when it never is.
    Hours { opens: Option<Millis>, text: String },
    /// Someone froze the environment.
    Frozen { by: String, reason: String, until: Option<Millis> },
    /// Another deployment goes on there.
    Claim { held_by: String },
    /// Approvals are missing. `there`: how many persons there are whose approval counts; `runs_out`: when the first of those
    /// given does not count any more.
    Approvals { needs: usize, given: Vec<String>, by: Vec<String>, there: usize, runs_out: Option<Millis> },
    /// It was not well elsewhere, or not for long enough.
    After { environment: String, lack: Lack },
    /// Nobody knows the rules.
    Unread { why: String },
}

/// What something lacks in the environment that it must have been well in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "lack", rename_all = "snake_case")]
pub enum Lack {
    /// It is being put there.
    Going,
    /// It is there, and has to stay until then.
    Still {
        until: Millis,
    },
    /// It was taken away too early.
    TooShort {
        lasted: Millis,
        wanted: Millis,
    },
    Trouble {
        why: String,
    },
    Never,
}

impl Lack {
    /// Of several the one that is furthest from being made good counts.
    pub(super) fn weight(&self) -> (u8, Millis) {
        match self {
            Lack::Going => (0, 0),
            Lack::Still { until } => (1, *until),
            Lack::TooShort { wanted, lasted } => (2, wanted - lasted),
            Lack::Trouble { .. } => (3, 0),
            Lack::Never => (4, 0),
        }
    }
}

impl Hold {
    /// Whether another deployment that goes on is all that there is to wait for: as good as being queued.
    pub fn is_short(&self) -> bool {
        matches!(self, Hold::Claim { .. } | Hold::After { lack: Lack::Going, .. })
    }

    /// When it opens by itself, where that is known.
    pub fn opens(&self) -> Option<Millis> {
        match self {
            Hold::Hours { opens: at, .. } | Hold::Frozen { until: at, .. } => *at,
            Hold::After { lack: Lack::Still { until }, .. } => Some(*until),
            _ => None,
        }
    }

    /// When it may say something else: it opens, or what was given runs out.
    pub(super) fn changes(&self) -> Option<Millis> {
        if let Hold::Approvals { runs_out, .. } = self { *runs_out } else { self.opens() }
    }

    /// Smaller opens sooner, as far as that can be told: first what does so by itself, then what goes on, then what takes a
    /// person, last what takes more than that.
    fn rank(&self) -> (u8, Millis) {
        match (self.opens(), self) {
            (Some(at), _) => (0, at),
            (None, Hold::Claim { .. }) => (1, 0),
            (None, Hold::After { lack: Lack::Going, .. }) => (1, 1),
            (None, Hold::Approvals { needs, there, .. }) if there >= needs => (3, 0),
            (None, Hold::After { lack, .. }) => (4, lack.weight().0.into()),
            (None, Hold::Frozen { .. }) => (5, 0),
            (None, Hold::Unread { .. }) => (6, 0),
            (None, Hold::Approvals { .. }) => (7, 0),
            (None, Hold::Hours { .. }) => (8, 0),
        }
    }

    fn clause(&self, clock: Clock<'_>) -> String {
        match self {
            Hold::Hours { opens: Some(at), text } => format!("it opens at {} ({text})", clock(*at)),
            Hold::Hours { opens: None, text } => format!("it never opens: {text}"),
            Hold::Frozen { by, reason, until: Some(until) } => format!("it is frozen until {} by {by}: {reason}", clock(*until)),
            Hold::Frozen { by, reason, until: None } => format!("it is frozen by {by}: {reason}"),
            Hold::Claim { held_by } => format!("{held_by} is being put there"),
            Hold::Approvals { needs, given, by, there, .. } => approvals(*needs, given, by, *there),
            Hold::After { environment, lack } => match lack {
                Lack::Going => format!("it is being put into {environment}"),
                Lack::Still { until } => format!("it has to be well in {environment} until {}", clock(*until)),
                Lack::TooShort { lasted, wanted } => {
                    let [lasted, wanted] = [lasted, wanted].map(|ms| length(*ms));
                    format!("it was in {environment} for {lasted} only, and must be there for {wanted}; put it there again")
                }
                Lack::Trouble { why } => format!("it was not well in {environment}: {why}"),
                Lack::Never => format!("it has not been well in {environment} yet"),
            },
            Hold::Unread { why } => format!("the rules cannot be read: {why}"),
        }
    }
}

fn approvals(needs: usize, given: &[String], by: &[String], there: usize) -> String {
    let left = needs - given.len();
    let verb = if left == 1 { "is" } else { "are" };
    let by = if by.is_empty() { String::new() } else { format!(" by {}", by.join(" or ")) };
    let so_far = if given.is_empty() { String::new() } else { format!(" ({} approved)", given.join(", ")) };
    let never = match there {
        _ if there >= needs => String::new(),
        0 => "; there is nobody whose approval counts, so the rules or a group must change".to_owned(),
        1 => "; there is only 1 person whose approval counts, so the rules or a group must change".to_owned(),
        more => format!("; there are only {more} persons whose approvals count, so the rules or a group must change"),
    };
    format!("{}{by} {verb} missing{so_far}{never}", counted(left, "approval"))
}

fn length(ms: Millis) -> String {
    let seconds = std::time::Duration::from_secs(ms.max(0).unsigned_abs() / 1000);
    humantime::format_duration(seconds).to_string()
}

/// All that holds something back from an environment, in one sentence without a full stop: the soonest way to open first.
pub fn sentence(environment: &str, holds: &[Hold], clock: Clock<'_>) -> String {
    let mut sorted: Vec<&Hold> = holds.iter().collect();
    sorted.sort_by_key(|hold| hold.rank());
    let clauses: Vec<String> = sorted.into_iter().map(|hold| hold.clause(clock)).collect();
    match &clauses[..] {
        [] => format!("goes into {environment} at once"),
        _ => format!("waits to go into {environment}: {}", clauses.join("; ")),
    }
}
