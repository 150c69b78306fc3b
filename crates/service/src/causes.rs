//! An error with all that lies beneath it, for the log: what a sentence for a person leaves out.

use std::error::Error;

/// Each cause behind the one before.
pub fn causes(error: &dyn Error) -> String {
    let causes = std::iter::successors(error.source(), |cause: &&dyn Error| (*cause).source());
    std::iter::once(error.to_string()).chain(causes.map(ToString::to_string)).collect::<Vec<_>>().join(": ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_database_s_own_words_are_told() {
        let beneath = std::io::Error::other("disk I/O error");
        let error = ordotaxis_store::StoreError::Folder { path: "/data".into(), source: beneath };
        assert_eq!(causes(&error), "the data folder /data could not be prepared: disk I/O error");
    }
}
