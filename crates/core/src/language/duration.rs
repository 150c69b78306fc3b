//! Lengths of time as a file writes them.

/// Whole milliseconds from words like `90s`, `20m`, `1h 30m`; none for zero.
pub(super) fn milliseconds(text: &str) -> Option<u64> {
    let length = humantime::parse_duration(text).ok()?;
    u64::try_from(length.as_millis()).ok().filter(|&ms| ms > 0)
}
