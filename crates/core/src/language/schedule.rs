//! `schedule`: five cron fields, and a time zone where it is not UTC. Format: POSIX `crontab`, fields as lists, ranges
//! and `*`; steps (`*/15`) and names (`mon`) too. Zone names and rules are those of the IANA database, compiled in.

use chrono::{DateTime, Utc};
use chrono_tz::Tz;
use croner::Cron;
use croner::parser::{CronParser, Seconds, Year};
use std::str::FromStr;

/// The longest text that is read.
const LENGTH: usize = 200;

/// A schedule in cron's five fields, in UTC or a named time zone.
#[derive(Debug, Clone)]
pub struct Schedule {
    cron: Cron,
    zone: Tz,
}

impl FromStr for Schedule {
    type Err = String;

    fn from_str(text: &str) -> Result<Schedule, String> {
        if text.len() > LENGTH || !text.is_ascii() {
            return Err("it is not five fields".into());
        }
        let parts: Vec<&str> = text.split_whitespace().collect();
        let zone = match parts.as_slice() {
            [_, _, _, _, _] => Tz::UTC,
            [_, _, _, _, _, zone] if zone.starts_with(|c: char| c.is_ascii_alphabetic()) => zone.parse().map_err(|_| unknown_zone(zone))?,
            _ => return Err(format!("it has {}", crate::language::counted(parts.len(), "field"))),
        };
        let parser = CronParser::builder().seconds(Seconds::Disallowed).year(Year::Disallowed).build();
        let cron = parser.parse(&parts[..5].join(" ")).map_err(|error| plain(&error.to_string()))?;
        Ok(Schedule { cron, zone })
    }
}

/// The parser's words without the name of its own kind of error.
fn plain(said: &str) -> String {
    let words = said.trim_end_matches('.').rsplit(": ").next().unwrap_or(said);
    words.to_lowercase()
}

fn unknown_zone(zone: &str) -> String {
    let near = super::nearest(zone, chrono_tz::TZ_VARIANTS.iter().map(|zone| zone.name()));
    match near {
        Some(near) => format!("there is no time zone `{zone}`; did you mean `{near}`?"),
        None => format!("there is no time zone `{zone}`"),
    }
}

impl Schedule {
    /// The first moment after `after` that fits, both in milliseconds since 1970; None when none ever comes.
    pub fn next(&self, after: i64) -> Option<i64> {
        let after = DateTime::<Utc>::from_timestamp_millis(after)?.with_timezone(&self.zone);
        let next = self.cron.find_next_occurrence(&after, false).ok()?;
        Some(next.timestamp_millis())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn next(text: &str, after: &str) -> String {
        let after = DateTime::parse_from_rfc3339(after).unwrap().timestamp_millis();
        let next = Schedule::from_str(text).unwrap().next(after).unwrap();
        DateTime::<Utc>::from_timestamp_millis(next).unwrap().to_rfc3339()
    }

    #[test]
    fn the_next_moment_is_found_in_its_zone() {
        assert_eq!(next("0 4 * * 1-5", "2026-11-20T04:00:00Z"), "2026-11-23T04:00:00+00:00", "over a weekend");
        assert_eq!(next("0 4 * * * Europe/Oslo", "2026-11-23T00:00:00Z"), "2026-11-23T03:00:00+00:00", "winter");
        assert_eq!(next("0 4 * * * Europe/Oslo", "2026-07-01T00:00:00Z"), "2026-07-01T02:00:00+00:00", "summer");
        assert_eq!(next("*/15 * * * *", "2026-11-23T10:07:00Z"), "2026-11-23T10:15:00+00:00");
        assert_eq!(next("0 0 29 2 *", "2026-11-23T10:07:00Z"), "2028-02-29T00:00:00+00:00");
    }

    #[test]
    fn what_is_no_schedule_is_told() {
        for (text, wanted) in
            [("0 4 * *", "it has 4 fields"), ("0 4 * * * Europe/Olso", "there is no time zone `Europe/Olso`; did you mean `Europe/Oslo`?")]
        {
            assert_eq!(Schedule::from_str(text).unwrap_err(), wanted);
        }
        for text in ["61 4 * * *", "a b c d e", "0 4 * * 9", "@daily"] {
            assert!(Schedule::from_str(text).is_err(), "{text}");
        }
    }
}
