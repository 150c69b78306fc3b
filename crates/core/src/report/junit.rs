//! Test cases from JUnit XML: the form that common test runners write, which no document fixes.
//!
//! Whoever writes it agrees on `testsuite` and `testcase` with `name`, and on `failure`, `error` and `skipped` within a
//! case. All else differs: what a case belongs to is its `classname`, else its suites; a case that was not run says so in
//! `status` or `result`; what failed first and then passed has elements of its own.

use super::error::ReportError;
use super::results::{Case, CaseEnd, MESSAGE, NAME, cut};
use super::xml::{Part, part, unescaped};
use quick_xml::Reader;
use quick_xml::events::BytesStart;
use std::collections::BTreeMap;

/// Test cases in the order in which they stand.
///
/// ```
/// use ordotaxis_core::report::{CaseEnd, junit_cases};
/// let text = "<testsuite name='gauge'><testcase name='height'/><testcase name='drift'><failure message='was 2'/></testcase></testsuite>";
/// let cases = junit_cases(text.as_bytes()).expect("JUnit");
/// assert_eq!((cases[0].suite.as_str(), cases[0].name.as_str(), cases[0].end), ("gauge", "height", CaseEnd::Passed));
/// assert_eq!((cases[1].end, cases[1].message.as_deref()), (CaseEnd::Failed, Some("was 2")));
/// assert!(junit_cases(b"<html/>").is_err());
/// ```
pub fn junit_cases(bytes: &[u8]) -> Result<Vec<Case>, ReportError> {
    let mut reader = Reader::from_reader(bytes);
    let mut reading = Reading::default();
    loop {
        match part(&mut reader, reading.open.len())? {
            Part::Eof => break,
            Part::Nothing => {}
            Part::Text(text) => reading.text(&text),
            Part::End => reading.end(),
            Part::Begin(element, stays) => {
                let said = Said::of(&element)?;
                reading.begin(element.local_name().as_ref(), said);
                if !stays {
                    reading.end();
                }
            }
        }
    }
    if reading.seen { Ok(reading.cases) } else { Err(ReportError::Kind("JUnit: it has no `testsuite` element")) }
}

/// File → milliseconds, cases of a file added: for sharing tests out. A case's file is its own, else its suite's; where
/// neither is said, what it belongs to stands for it.
///
/// ```
/// use ordotaxis_core::report::{junit_cases, test_times};
/// let text = "<testsuite name='gauge'><testcase name='a' file='t.c' time='0.5'/><testcase name='b' file='t.c' time='1'/></testsuite>";
/// let cases = junit_cases(text.as_bytes()).expect("JUnit");
/// assert_eq!(test_times(&cases)["t.c"], 1_500);
/// ```
pub fn test_times(cases: &[Case]) -> BTreeMap<String, i64> {
    let mut times = BTreeMap::new();
    for case in cases {
        let file = case.file.as_ref().unwrap_or(&case.suite);
        if let Some(ms) = case.ms.filter(|_| !file.is_empty()) {
            *times.entry(file.clone()).or_insert(0) += ms;
        }
    }
    times
}

/// The attributes that matter, read in one go.
#[derive(Default)]
struct Said {
    name: Option<String>,
    class: Option<String>,
    file: Option<String>,
    line: Option<u32>,
    ms: Option<i64>,
    message: Option<String>,
    kind: Option<String>,
    state: Option<String>,
}

impl Said {
    fn of(element: &BytesStart<'_>) -> Result<Said, ReportError> {
        let mut said = Said::default();
        for attribute in element.attributes().with_checks(false) {
            let attribute = attribute.map_err(|error| ReportError::Form(error.to_string()))?;
            let text = || unescaped(&attribute.value).map(Some);
            match attribute.key.as_ref() {
                "name" => said.name = text()?,
                "classname" | "class" => said.class = text()?.filter(|class| !class.is_empty()),
                "file" | "filepath" => said.file = text()?.filter(|file| !file.is_empty()),
                "line" | "lineno" => said.line = attribute.value.parse().ok(),
                "time" => said.ms = milliseconds(&attribute.value),
                "message" => said.message = text()?.filter(|message| !message.is_empty()),
                "type" => said.kind = text()?,
                "status" | "result" => said.state = said.state.or(text()?),
                _ => {}
            }
        }
        Ok(said)
    }
}

/// Seconds as a decimal number; some runners write thousands with commas.
fn milliseconds(text: &str) -> Option<i64> {
    let seconds: f64 = if text.contains(',') { text.replace(',', "").parse().ok()? } else { text.parse().ok()? };
    let ms = (seconds * 1000.0).round();
    // A day is more than any test takes: what is above is no time.
    (0.0..86_400_000.0).contains(&ms).then(|| {
        #[expect(clippy::cast_possible_truncation, reason = "it was just seen to be small")]
        let ms = ms as i64;
        ms
    })
}

/// An element that is being read.
enum Open {
    Suite {
        name: String,
        file: Option<String>,
    },
    Case,
    /// Says how the case ended; its text is the message.
    Verdict,
    Other,
}

#[derive(Default)]
struct Reading {
    open: Vec<Open>,
    cases: Vec<Case>,
    case: Option<Case>,
    /// The file was said by the case itself.
    text: String,
    seen: bool,
}

impl Reading {
    /// An element begins.
    fn begin(&mut self, name: &str, said: Said) {
        let open = match (name, &mut self.case) {
            ("testsuite" | "testsuites", None) => {
                self.seen = true;
                // The outermost names the whole report, which is in no test's name.
                let name = if name == "testsuite" { said.name.unwrap_or_default() } else { String::new() };
                Open::Suite { name, file: said.file }
            }
            ("testcase", None) => {
                self.case = Some(self.new_case(said));
                Open::Case
            }
            ("failure" | "error", Some(case)) => {
                case.end = CaseEnd::Failed;
                note(case, said);
                Open::Verdict
            }
            ("skipped" | "disabled", Some(case)) => {
                if case.end == CaseEnd::Passed {
                    case.end = CaseEnd::Skipped;
                    note(case, said);
                }
                Open::Verdict
            }
            // It failed at first and passed when it was tried again.
            ("flakyFailure" | "flakyError", Some(case)) => {
                case.wavered = true;
                note(case, said);
                Open::Verdict
            }
            _ => Open::Other,
        };
        self.open.push(open);
    }

    /// A case in the suites that are open now.
    fn new_case(&self, said: Said) -> Case {
        let suites = || {
            let names = self.open.iter().filter_map(|open| if let Open::Suite { name, .. } = open { Some(name.as_str()) } else { None });
            names.filter(|name| !name.is_empty()).collect::<Vec<_>>().join(" > ")
        };
        let file = |open: &Open| if let Open::Suite { file, .. } = open { file.clone() } else { None };
        let end = match said.state.as_deref() {
            Some("notrun" | "skipped" | "suppressed" | "disabled" | "pending") => CaseEnd::Skipped,
            Some("fail" | "failed" | "error") => CaseEnd::Failed,
            _ => CaseEnd::Passed,
        };
        Case {
            suite: cut(said.class.unwrap_or_else(suites), NAME),
            name: cut(said.name.unwrap_or_else(|| "(no name)".into()), NAME),
            end,
            wavered: false,
            ms: said.ms,
            file: said.file.or_else(|| self.open.iter().rev().find_map(file)),
            line: said.line,
            message: None,
        }
    }

    fn text(&mut self, text: &str) {
        if matches!(self.open.last(), Some(Open::Verdict)) && self.text.len() < MESSAGE {
            self.text.push_str(text);
        }
    }

    /// The innermost open element ends.
    fn end(&mut self) {
        match self.open.pop() {
            Some(Open::Verdict) => {
                let text = std::mem::take(&mut self.text);
                let text = text.trim();
                let Some(case) = self.case.as_mut().filter(|_| !text.is_empty()) else { return };
                // The text often begins with the message, and then says where.
                let joined = match &case.message {
                    Some(known) if text.contains(known.as_str()) => text.to_owned(),
                    Some(known) => format!("{known}\n{text}"),
                    None => text.to_owned(),
                };
                case.message = Some(cut(joined, MESSAGE));
            }
            Some(Open::Case) => self.cases.extend(self.case.take()),
            _ => {}
        }
    }
}

fn note(case: &mut Case, said: Said) {
    let message = said.message.or(said.kind.filter(|kind| !kind.is_empty()));
    case.message = case.message.take().or(message).map(|message| cut(message, MESSAGE));
}
