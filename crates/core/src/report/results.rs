//! What reports come to: test cases, lines covered, findings. The same values go over the wire and are shown.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The most that is kept of what a test said; the log has the rest.
pub(super) const MESSAGE: usize = 4 * 1024;
/// The longest name.
pub(super) const NAME: usize = 1024;

/// How a test case ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum CaseEnd {
    Passed,
    Failed,
    Skipped,
}

impl CaseEnd {
    /// As the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            CaseEnd::Passed => "passed",
            CaseEnd::Failed => "failed",
            CaseEnd::Skipped => "skipped",
        }
    }

    /// The value of a stored word; none for a word that is none.
    pub fn from_word(word: &str) -> Option<CaseEnd> {
        [CaseEnd::Passed, CaseEnd::Failed, CaseEnd::Skipped].into_iter().find(|end| end.word() == word)
    }
}

/// One test case of one job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Case {
    /// What it belongs to: a class, a file, suites joined by ` > `.
    pub suite: String,
    pub name: String,
    pub end: CaseEnd,
    /// It failed before it ended well, within the same job.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub wavered: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// What it said, where it did not pass.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
}

/// Lines that tests ran: file → line → how often.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Coverage(pub BTreeMap<String, BTreeMap<u32, u64>>);

impl Coverage {
    /// Adds up what two reports say of a line.
    pub fn add(&mut self, file: &str, line: u32, hits: u64) {
        let lines = match self.0.get_mut(file) {
            Some(lines) => lines,
            None => self.0.entry(file.to_owned()).or_default(),
        };
        let known = lines.entry(line).or_insert(0);
        *known = known.saturating_add(hits);
    }

    /// Adds what another report says: of a line that both name, the counts are added.
    ///
    /// ```
    /// use ordotaxis_core::report::Coverage;
    /// let mut whole = Coverage::default();
    /// whole.add("gauge.c", 1, 2);
    /// let mut other = Coverage::default();
    /// other.add("gauge.c", 1, 3);
    /// other.add("gauge.c", 2, 0);
    /// whole.join(other);
    /// assert_eq!((whole.0["gauge.c"][&1], whole.lines()), (5, (1, 2)));
    /// ```
    pub fn join(&mut self, other: Coverage) {
        for (file, lines) in other.0 {
            lines.into_iter().for_each(|(line, hits)| self.add(&file, line, hits));
        }
    }

    /// Lines that ran, and lines that could have.
    pub fn lines(&self) -> (u64, u64) {
        let all = || self.0.values().flat_map(BTreeMap::values);
        (all().filter(|hits| **hits > 0).count() as u64, all().count() as u64)
    }

    /// The same of some lines only: file → lines.
    ///
    /// ```
    /// use ordotaxis_core::report::Coverage;
    /// let mut coverage = Coverage::default();
    /// coverage.add("gauge.c", 1, 2);
    /// coverage.add("gauge.c", 2, 0);
    /// let changed = [("gauge.c".to_owned(), vec![2, 9])].into();
    /// assert_eq!(coverage.of_lines(&changed), (0, 1), "line 9 holds nothing that can run");
    /// ```
    pub fn of_lines(&self, wanted: &BTreeMap<String, Vec<u32>>) -> (u64, u64) {
        let lines = wanted.iter().flat_map(|(file, lines)| lines.iter().filter_map(move |line| self.0.get(file)?.get(line)));
        lines.fold((0, 0), |(ran, all), hits| (ran + u64::from(*hits > 0), all + 1))
    }
}

/// How bad a finding is, in SARIF's words; `none` is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Error,
    Warning,
    Note,
}

impl Level {
    /// As the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            Level::Error => "error",
            Level::Warning => "warning",
            Level::Note => "note",
        }
    }
}

/// Something an analysis found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Finding {
    pub rule: String,
    pub level: Level,
    pub message: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// The same for the same finding in another commit, wherever its line has moved to.
    pub key: String,
}

/// A bill of materials: what something is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Bill {
    pub form: BillForm,
    /// By name and version, each once.
    pub components: Vec<Component>,
}

/// The form that a bill of materials is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum BillForm {
    CycloneDx,
    Spdx,
}

impl BillForm {
    /// As the API and the database write it.
    pub fn word(self) -> &'static str {
        match self {
            BillForm::CycloneDx => "cyclonedx",
            BillForm::Spdx => "spdx",
        }
    }
}

/// One part that something is made of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Component {
    pub name: String,
    /// Empty where the bill says none.
    pub version: String,
    /// A package URL (ECMA-427).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purl: Option<String>,
}

/// The beginning of a text, at most so many bytes.
pub(super) fn cut(text: impl Into<String>, most: usize) -> String {
    let mut text = text.into();
    if text.len() > most {
        let end = (0..=most).rev().find(|&end| text.is_char_boundary(end)).unwrap_or(0);
        text.truncate(end);
        text.push('…');
    }
    text
}
