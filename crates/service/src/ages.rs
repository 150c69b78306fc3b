//! How long things are kept: `[ages]` in the configuration, every default filled in.

use ordotaxis_store::Cutoffs;
use serde::Deserialize;
use std::time::Duration;

const DAY: u64 = 24 * 60 * 60;
/// What forges sent may have so many bytes of each project, whatever its age.
const DELIVERY_BYTES: i64 = 256 << 20;

/// `[ages]`: how long each kind of thing is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ages {
    /// From their end on. None: for ever.
    pub runs: Option<Duration>,
    /// From the end of their run on. None: as long as the run.
    pub logs: Option<Duration>,
    /// A client that comes back with the last event it saw finds what happened since for so long.
    pub events: Duration,
    pub work: Duration,
    /// Work that was given up can be begun again, and a webhook that is sent once more is known, for so long.
    pub given_up: Duration,
    /// What forges sent can be looked at for so long.
    pub deliveries: Duration,
    /// What was told to whom can be looked at for so long.
    pub notices: Duration,
    /// Bills of materials of runs whose artifacts are gone.
    pub bills: Duration,
    /// Answers to calls that may be repeated.
    pub answers: Duration,
    /// Machines of pools, from when they were gone: what they cost is shared out among projects for so long.
    pub machines: Duration,
}

impl Default for Ages {
    fn default() -> Ages {
        let days = |count: u64| Duration::from_secs(count * DAY);
        Ages {
            runs: None,
            logs: None,
            events: days(7),
            work: days(7),
            given_up: days(90),
            deliveries: days(7),
            notices: days(30),
            bills: days(90),
            answers: days(1),
            machines: days(365),
        }
    }
}

/// `[ages]` as it is written.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct AgesFile {
    runs: Option<String>,
    logs: Option<String>,
    events: Option<String>,
    work: Option<String>,
    given_up: Option<String>,
    deliveries: Option<String>,
    notices: Option<String>,
    bills: Option<String>,
    answers: Option<String>,
    machines: Option<String>,
}

impl AgesFile {
    /// What it says, and the defaults where it says nothing; otherwise the key and what is wrong with it.
    pub(crate) fn checked(self) -> Result<Ages, String> {
        let ages = Ages::default();
        let age = |key: &str, said: Option<String>| {
            let Some(said) = said else { return Ok(None) };
            let length = humantime::parse_duration(&said).ok().filter(|length| !length.is_zero());
            length.map(Some).ok_or_else(|| format!("`{key}` is not a length of time: `{said}`; write one such as \"30d\""))
        };
        Ok(Ages {
            runs: age("runs", self.runs)?,
            logs: age("logs", self.logs)?,
            events: age("events", self.events)?.unwrap_or(ages.events),
            work: age("work", self.work)?.unwrap_or(ages.work),
            given_up: age("given_up", self.given_up)?.unwrap_or(ages.given_up),
            deliveries: age("deliveries", self.deliveries)?.unwrap_or(ages.deliveries),
            notices: age("notices", self.notices)?.unwrap_or(ages.notices),
            bills: age("bills", self.bills)?.unwrap_or(ages.bills),
            answers: age("answers", self.answers)?.unwrap_or(ages.answers),
            machines: age("machines", self.machines)?.unwrap_or(ages.machines),
        })
    }
}

impl Ages {
    pub(crate) fn cutoffs(&self, now: i64) -> Cutoffs {
        Cutoffs {
            events: before(now, self.events),
            work: before(now, self.work),
            given_up: before(now, self.given_up),
            deliveries: before(now, self.deliveries),
            delivery_bytes: DELIVERY_BYTES,
            notices: before(now, self.notices),
            bills: before(now, self.bills),
            answers: before(now, self.answers),
            machines: before(now, self.machines),
        }
    }
}

/// So long before now, in milliseconds since 1970.
pub(crate) fn before(now: i64, age: Duration) -> i64 {
    now.saturating_sub(i64::try_from(age.as_millis()).unwrap_or(i64::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn checked(text: &str) -> Result<Ages, String> {
        toml::from_str::<AgesFile>(text).map_err(|error| error.message().to_owned())?.checked()
    }

    #[test]
    fn ages_are_lengths_of_time_and_nothing_else() {
        assert_eq!(checked(""), Ok(Ages::default()));
        let said = checked("runs = \"1year\"\nlogs = \"30d\"\nevents = \"2d 12h\"").unwrap();
        assert_eq!((said.logs, said.events), (Some(Duration::from_secs(30 * DAY)), Duration::from_secs(60 * 3600)));
        assert_eq!(said.work, Ages::default().work);
        for wrong in ["runs = \"\"", "runs = \"0s\"", "logs = \"-3d\"", "events = \"long\"", "answers = \"99999999999999999999y\""] {
            let said = checked(wrong).unwrap_err();
            assert!(said.contains("is not a length of time"), "{said}");
        }
        for wrong in ["run = \"1d\"", "runs = 3", "runs = true"] {
            assert!(checked(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_is_older_than_time_is_never_old() {
        assert_eq!(before(100, Duration::from_millis(40)), 60);
        assert!(before(i64::MAX, Duration::MAX) <= 0 && before(0, Duration::MAX) < 0);
    }
}
