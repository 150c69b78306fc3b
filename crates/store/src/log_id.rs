//! The name of a log.

/// Whose log it is; with `beside` that of a helper process.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct LogId {
    pub run: i64,
    pub job: usize,
    pub attempt: u32,
    pub beside: Option<String>,
}

impl LogId {
    /// The log of an attempt itself, not of a helper.
    pub fn new(run: i64, job: usize, attempt: u32) -> LogId {
        LogId { run, job, attempt, beside: None }
    }

    /// The log of one of the attempt's helpers. None for a name that is no helper's: it becomes part of a path.
    pub fn beside(self, name: &str) -> Option<LogId> {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
        let fits = !name.is_empty() && name.len() <= 64 && name.chars().all(plain);
        fits.then(|| LogId { beside: Some(name.to_owned()), ..self })
    }

    /// The name of the file of one segment.
    pub(crate) fn file(&self, segment: usize) -> String {
        match &self.beside {
            None => format!("{}-{}.{segment}", self.job, self.attempt),
            Some(name) => format!("{}-{}-{name}.{segment}", self.job, self.attempt),
        }
    }

    /// The log that a file of a run belongs to.
    pub(crate) fn of_file(run: i64, name: &str) -> Option<LogId> {
        let (log, segment) = name.strip_suffix(".zst").unwrap_or(name).rsplit_once('.')?;
        segment.parse::<usize>().ok()?;
        let mut parts = log.splitn(3, '-');
        let id = LogId::new(run, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        parts.next().map_or(Some(id.clone()), |beside| id.beside(beside))
    }
}
