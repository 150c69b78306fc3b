//! Times of the week: `Fri 16:00 - Mon 06:00 Europe/Oslo` from one moment to another, `Mon-Fri 08:00-16:00` each day between
//! two times, `22:00-06:00` each day of the week. Without a zone it is UTC.

use crate::engine::Millis;
use chrono::{Datelike, Duration, LocalResult, NaiveDateTime, TimeZone, Timelike, Utc};
use chrono_tz::Tz;
use std::str::FromStr;

const DAY: i64 = 24 * 60;
const WEEK: i64 = 7 * DAY;
const DAYS: [&str; 7] = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/// Some times of the week.
#[derive(Debug, Clone, PartialEq)]
pub struct Hours {
    text: String,
    zone: Tz,
    /// From and for how long, in minutes; from the beginning of Monday.
    spans: Vec<(i64, i64)>,
}

/// Why a text is no time of the week.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HoursError {
    #[error("`{0}` is no time of the week")]
    Form(String),
    #[error("there is no time zone `{0}`")]
    Zone(String),
    #[error("it begins and ends at the same moment")]
    Empty,
}

impl FromStr for Hours {
    type Err = HoursError;

    fn from_str(text: &str) -> Result<Hours, HoursError> {
        let spaced = text.replace(['-', '–'], " - ");
        let mut words: Vec<&str> = spaced.split_whitespace().collect();
        let named =
            words.last().filter(|word| words.len() > 1 && word.chars().next().is_some_and(char::is_alphabetic) && day(word).is_none());
        let zone = named.and_then(|_| text.split_whitespace().last());
        if let Some(zone) = zone {
            // A dash belongs to some names of zones.
            let parts = zone.split('-').count() * 2 - 1;
            words.truncate(words.len().saturating_sub(parts));
        }
        let spans = match words[..] {
            [from_day, from, "-", to_day, to] if day(from_day).is_some() && day(to_day).is_some() => {
                let at = |day_word: &str, time_word: &str| Some(day(day_word)? * DAY + time(time_word)?);
                at(from_day, from).zip(at(to_day, to)).map(|(from, to)| vec![(from, (to - from).rem_euclid(WEEK))])
            }
            [from_day, "-", to_day, from, "-", to] => {
                let last = day(to_day).zip(day(from_day)).map(|(to, from)| (from, (to - from).rem_euclid(7)));
                last.and_then(|(first, more)| (0..=more).map(|day| daily((first + day) % 7, from, to)).collect())
            }
            [one_day, from, "-", to] => day(one_day).and_then(|day| Some(vec![daily(day, from, to)?])),
            [from, "-", to] => (0..7).map(|day| daily(day, from, to)).collect(),
            _ => None,
        };
        let spans: Vec<(i64, i64)> = spans.ok_or_else(|| HoursError::Form(text.to_owned()))?;
        let zone = zone.map_or(Ok(Tz::UTC), |name| name.parse().map_err(|_| HoursError::Zone(name.to_owned())))?;
        if spans.iter().any(|(_, length)| *length == 0) {
            return Err(HoursError::Empty);
        }
        Ok(Hours { text: text.to_owned(), zone, spans })
    }
}

/// A day's part from one time to another; over midnight where the second is earlier.
fn daily(day: i64, from: &str, to: &str) -> Option<(i64, i64)> {
    let (from, to) = (time(from)?, time(to)?);
    Some((day * DAY + from, if to < from { to - from + DAY } else { to - from }))
}

fn day(word: &str) -> Option<i64> {
    let lower = word.to_lowercase();
    let at = DAYS.iter().position(|known| lower == *known || lower == known[..3])?;
    i64::try_from(at).ok()
}

/// Minutes since midnight; `24:00` is the day's end.
fn time(word: &str) -> Option<i64> {
    let (hours, minutes) = word.split_once(':')?;
    let two = |digits: &str| digits.len() <= 2 && !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
    let (hours, minutes): (i64, i64) = (hours.parse().ok().filter(|_| two(hours))?, minutes.parse().ok().filter(|_| two(minutes))?);
    let whole = hours * 60 + minutes;
    (minutes < 60 && whole <= DAY).then_some(whole)
}

impl Hours {
    /// As it is written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// When what holds at this moment ends; none when it does not hold.
    pub fn ends(&self, now: Millis) -> Option<Millis> {
        let local = Utc.timestamp_millis_opt(now).single()?.with_timezone(&self.zone).naive_local();
        let monday = (local.date() - Duration::days(i64::from(local.weekday().num_days_from_monday()))).and_hms_opt(0, 0, 0)?;
        let minute = i64::from(local.weekday().num_days_from_monday()) * DAY + i64::from(local.hour() * 60 + local.minute());
        let ends = self.spans.iter().filter_map(|(from, length)| {
            let into = (minute - from).rem_euclid(WEEK);
            (into < *length).then_some(minute - into + length)
        });
        let end = monday + Duration::minutes(ends.max()?);
        // Where clocks show that time twice, the first that is still to come.
        let ends = moments(self.zone, end);
        Some(ends.iter().copied().find(|at| *at > now).or(ends.last().copied())?.max(now + 1))
    }
}

impl Hours {
    /// When it holds next: `now` where it holds already. None: never within five weeks, which no times of the week do.
    pub fn begins(&self, now: Millis) -> Option<Millis> {
        if self.ends(now).is_some() {
            return Some(now);
        }
        let local = Utc.timestamp_millis_opt(now).single()?.with_timezone(&self.zone).naive_local();
        let monday = (local.date() - Duration::days(i64::from(local.weekday().num_days_from_monday()))).and_hms_opt(0, 0, 0)?;
        let starts = (0..5).flat_map(|week| self.spans.iter().map(move |(from, _)| week * WEEK + from));
        let begins = starts.flat_map(|minutes| moments(self.zone, monday + Duration::minutes(minutes)));
        // A span that clocks skip as a whole does not hold when it would begin; one that they show twice begins twice.
        begins.filter(|at| *at > now && self.ends(*at).is_some()).min()
    }
}

/// When one of each list holds next, all at once; none: not as far as is looked, which is weeks.
pub fn all_open(lists: &[Vec<Hours>], now: Millis) -> Option<Millis> {
    let mut at = now;
    for _ in 0..500 {
        let begins = |list: &Vec<Hours>| list.iter().filter_map(|one| one.begins(at)).min();
        match lists.iter().map(begins).try_fold(at, |latest, begins| Some(latest.max(begins?))) {
            Some(next) if next == at => return Some(at),
            next => at = next?,
        }
    }
    None
}

/// A local time as moments, in order: two where clocks show it twice. One that clocks skip is the first after it.
fn moments(zone: Tz, mut local: NaiveDateTime) -> Vec<Millis> {
    // A whole day was skipped once, where a country moved over the date line.
    for _ in 0..=DAY {
        match zone.from_local_datetime(&local) {
            LocalResult::Single(at) => return vec![at.timestamp_millis()],
            LocalResult::Ambiguous(first, second) => return vec![first.timestamp_millis(), second.timestamp_millis()],
            LocalResult::None => local += Duration::minutes(1),
        }
    }
    Vec::new()
}

/// Whether some of these hold now: when none of them holds any more, and the one that holds now. None: none holds. Times that
/// never end leave no such moment: they are taken to end in a week.
pub fn opens(closed: &[Hours], now: Millis) -> Option<(Millis, &Hours)> {
    let holds = |at: Millis| closed.iter().find_map(|hours| Some((hours.ends(at)?, hours)));
    let (mut end, first) = holds(now)?;
    while let Some((later, _)) = holds(end).filter(|_| end - now < WEEK * 60_000) {
        end = later;
    }
    Some((end, first))
}
