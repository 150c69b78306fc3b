//! What is written: kinds of projects that were found, as jobs.

/// One kind of project that was found.
#[derive(Default)]
pub(super) struct Kind {
    /// For the person: `a Cargo package`.
    pub(super) says: String,
    /// For the file's comments, with the file it was known by.
    pub(super) about: String,
    pub(super) jobs: Vec<Job>,
    /// What could not be known, in whole sentences.
    pub(super) unsure: Vec<String>,
}

#[derive(Default)]
pub(super) struct Job {
    pub(super) stage: &'static str,
    pub(super) name: String,
    pub(super) comment: String,
    pub(super) steps: Vec<String>,
    /// `STAGE.NAME/ARTIFACT`
    pub(super) takes: Vec<String>,
    /// Name and globs.
    pub(super) gives: Vec<(String, Vec<String>)>,
    /// Kind of report and where it is written.
    pub(super) reports: Vec<(&'static str, String)>,
    pub(super) cache: Option<Cache>,
    /// Globs of what the job depends on: while none of it changes its result is taken over.
    pub(super) reuse: Vec<String>,
    pub(super) unsure: Vec<String>,
}

/// Folders to keep, and the file whose content names the entry.
pub(super) struct Cache {
    pub(super) stem: &'static str,
    pub(super) paths: Vec<String>,
    pub(super) file: String,
}

impl Job {
    pub(super) fn new(stage: &'static str, name: &str, comment: &str, steps: &[&str]) -> Job {
        let steps = steps.iter().map(|step| (*step).to_owned()).collect();
        Job { stage, name: name.into(), comment: comment.into(), steps, ..Job::default() }
    }

    pub(super) fn cached(mut self, stem: &'static str, paths: &[&str], file: &str) -> Job {
        self.cache = Some(Cache { stem, paths: paths.iter().map(|path| (*path).to_owned()).collect(), file: file.to_owned() });
        self
    }

    pub(super) fn reporting(mut self, kind: &'static str, path: &str) -> Job {
        self.reports.push((kind, path.to_owned()));
        self
    }
}
