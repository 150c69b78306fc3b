//! The one place where the service asks for the time.

/// Milliseconds since 1970, UTC.
pub(crate) fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A moment as sentences name it: with its day where the hour alone could be taken for another.
pub(crate) fn words(ms: i64) -> String {
    words_seen_at(now(), ms)
}

/// The same as it is read at another moment than now.
pub(crate) fn words_seen_at(now: i64, ms: i64) -> String {
    let near = (now - ms).abs() < 12 * 60 * 60 * 1000;
    ordotaxis_wire::moment(ms).strftime(if near { "%H:%M:%S UTC" } else { "%Y-%m-%d %H:%M UTC" }).to_string()
}
