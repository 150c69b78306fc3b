//! How one attempt at a job is named, and the version of the protocol.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// 2: what jobs give and keep is sent in chunks. 3: labels are granted by the service. 8: machines of pools, and how much of a
/// machine a job has.
pub const VERSION: u32 = 8;
/// The oldest that the service still speaks: forms were only added to since.
pub const OLDEST: u32 = VERSION - 2;

/// Names one attempt in addresses: `RUN-JOB-NUMBER`, all numbers of the service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct AttemptId {
    pub run: i64,
    pub job: usize,
    pub attempt: u32,
}

impl fmt::Display for AttemptId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}-{}", self.run, self.job, self.attempt)
    }
}

impl FromStr for AttemptId {
    type Err = BadAttemptId;

    fn from_str(text: &str) -> Result<Self, BadAttemptId> {
        let mut parts = text.splitn(3, '-');
        let mut next = || parts.next().ok_or(BadAttemptId);
        let (run, job, attempt) = (next()?, next()?, next()?);
        Ok(AttemptId {
            run: run.parse().map_err(|_| BadAttemptId)?,
            job: job.parse().map_err(|_| BadAttemptId)?,
            attempt: attempt.parse().map_err(|_| BadAttemptId)?,
        })
    }
}

impl Serialize for AttemptId {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for AttemptId {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(|_| serde::de::Error::custom("an attempt is named RUN-JOB-NUMBER"))
    }
}

/// A text that does not name an attempt.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BadAttemptId;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_attempt_is_named_and_found_again() {
        let id = AttemptId { run: 12, job: 3, attempt: 2 };
        assert_eq!(id.to_string(), "12-3-2");
        assert_eq!("12-3-2".parse(), Ok(id));
        for bad in ["", "12", "12-3", "a-b-c", "12-3-2-1", "12--3"] {
            assert!(bad.parse::<AttemptId>().is_err(), "{bad:?}");
        }
    }
}
