//! The one place where the service asks for the time.

/// Milliseconds since 1970, UTC.
pub(crate) fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A moment as sentences name it.
pub(crate) fn words(ms: i64) -> String {
    ordotaxis_wire::moment(ms).strftime("%H:%M:%S UTC").to_string()
}
