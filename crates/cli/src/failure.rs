//! Why a command did not do what it was asked, and the codes that commands end with.

use anstyle::{AnsiColor, Style};
use std::process::ExitCode;

/// Why a command did not do what it was asked: one line what, one line what to do.
#[derive(Debug)]
pub(crate) struct Failure {
    code: u8,
    what: String,
    next: String,
}

impl Failure {
    pub(crate) fn new(code: u8, what: impl Into<String>, next: impl Into<String>) -> Failure {
        Failure { code, what: what.into(), next: next.into() }
    }

    /// What went wrong.
    pub(crate) fn what(&self) -> &str {
        &self.what
    }

    /// Whether what went wrong is said with these words.
    pub(crate) fn says(&self, words: &str) -> bool {
        self.what.contains(words)
    }

    /// The service is away, or went away in the middle of its answer: it may be back soon.
    pub(crate) fn is_passing(&self) -> bool {
        self.says("could not be reached") || self.says("broke off")
    }

    pub(crate) fn interrupted() -> Failure {
        Failure::new(130, "interrupted", "")
    }

    pub(crate) fn report(self) -> ExitCode {
        let red = Style::new().fg_color(Some(AnsiColor::Red.into()));
        crate::written::aside(&format!("{red}ordotaxis: {}{red:#}\n", self.what));
        if !self.next.is_empty() {
            crate::written::aside(&format!("  {}\n", self.next));
        }
        ExitCode::from(self.code)
    }
}

pub(crate) type Done = Result<ExitCode, Failure>;

pub(crate) const OK: Done = Ok(ExitCode::SUCCESS);

/// The work itself failed: a run failed, a check found an error.
pub(crate) fn failed() -> ExitCode {
    ExitCode::from(1)
}
