//! The one place where the service asks for the time.

/// Milliseconds since 1970, UTC.
pub(crate) fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}
