//! Over which time.

const HOUR: i64 = 3_600_000;
const DAY: i64 = 24 * HOUR;
/// How many days when nobody says.
const USUAL: i64 = 30;
/// Up to so many days the parts are hours, and days; beyond, weeks.
const IN_HOURS: i64 = 2;
const IN_DAYS: i64 = 31;

/// A time up to now in equal parts, the last of which is not over yet. In milliseconds since 1970.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Days {
    pub(crate) days: i64,
    pub(crate) since: i64,
    pub(crate) until: i64,
    pub(crate) part: i64,
}

impl Days {
    /// The last so many days, 30 when nobody says; none when that is more or less than can be asked for.
    pub(crate) fn until(now: i64, days: Option<i64>) -> Option<Days> {
        let days = days.unwrap_or(USUAL);
        if !(1..=730).contains(&days) {
            return None;
        }
        let part = if days <= IN_HOURS {
            HOUR
        } else if days <= IN_DAYS {
            DAY
        } else {
            7 * DAY
        };
        let whole = if part == HOUR { HOUR } else { DAY };
        let until = (now / whole + 1) * whole;
        let parts = (days * DAY + part - 1) / part;
        Some(Days { days, since: until - parts * part, until, part })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn now_lies_in_the_last_part(now in 1_700_000_000_000..1_900_000_000_000i64, days in 1..=730i64) {
            let found = Days::until(now, Some(days)).unwrap();
            prop_assert!(found.until > now && found.until - found.part <= now);
            prop_assert!(now - found.since >= (days - 1) * DAY, "so many days are in it");
            prop_assert_eq!((found.until - found.since) % found.part, 0);
            prop_assert!((found.until - found.since) / found.part <= 105, "few enough to be drawn");
        }
    }

    #[test]
    fn what_cannot_be_asked_for() {
        assert_eq!((Days::until(0, Some(0)), Days::until(0, Some(731)), Days::until(0, Some(i64::MIN))), (None, None, None));
        assert_eq!(Days::until(0, None).map(|days| days.days), Some(30));
    }
}
