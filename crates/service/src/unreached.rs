//! Why a call to the outside had no answer.

/// The reason beneath all that a library wraps around it, without the address: it may hold what is nobody's business.
pub(crate) fn cause(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    if error.is_timeout() { "it did not answer in time".into() } else { cause.to_string() }
}
