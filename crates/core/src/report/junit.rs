//! How long test files took, read from JUnit XML: the form that common test runners write, which no document fixes.
//!
//! A case's file is its `file`, else its suite's; where neither is said, the suite's name stands for it.

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};
use std::collections::BTreeMap;

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum JunitError {
    #[error("it is not well-formed XML: {0}")]
    Form(String),
    #[error("it declares a document type, which is not read: that could name other files")]
    DocumentType,
    #[error("its elements stand more than {DEEPEST} deep in each other")]
    TooDeep,
}

/// No test runner nests suites deeper than a handful.
const DEEPEST: usize = 100;

/// File → milliseconds, cases of a file added. Cases without a time count as none.
pub fn test_times(bytes: &[u8]) -> Result<BTreeMap<String, i64>, JunitError> {
    let mut reader = Reader::from_reader(bytes);
    let mut suites: Vec<Option<String>> = Vec::new();
    let mut times = BTreeMap::new();
    loop {
        let (element, stays) = match reader.read_event().map_err(|error| JunitError::Form(error.to_string()))? {
            Event::Eof => return Ok(times),
            Event::DocType(_) => return Err(JunitError::DocumentType),
            Event::Start(element) => (element, true),
            Event::Empty(element) => (element, false),
            Event::End(_) => {
                suites.pop();
                continue;
            }
            _ => continue,
        };
        let file = match element.local_name().as_ref() {
            "testsuite" => attribute(&element, "file").or_else(|| attribute(&element, "name")),
            "testcase" => {
                let file = attribute(&element, "file").or_else(|| suites.iter().rev().flatten().next().cloned());
                if let Some((file, ms)) = file.zip(milliseconds(&element)) {
                    *times.entry(file).or_insert(0) += ms;
                }
                None
            }
            _ => None,
        };
        if stays {
            suites.push(file);
        }
        if suites.len() > DEEPEST {
            return Err(JunitError::TooDeep);
        }
    }
}

fn attribute(element: &BytesStart<'_>, name: &str) -> Option<String> {
    let found = element.attributes().flatten().find(|attribute| attribute.key.as_ref() == name)?;
    let text = found.value.into_owned();
    Some(quick_xml::escape::unescape(&text).map(|text| text.into_owned()).unwrap_or(text))
}

/// Seconds as a decimal number; some runners write thousands with commas.
fn milliseconds(element: &BytesStart<'_>) -> Option<i64> {
    let seconds: f64 = attribute(element, "time")?.replace(',', "").parse().ok()?;
    let ms = (seconds * 1000.0).round();
    // A day is more than any test takes: what is above is no time.
    (0.0..86_400_000.0).contains(&ms).then(|| {
        #[expect(clippy::cast_possible_truncation, reason = "it was just seen to be small")]
        let ms = ms as i64;
        ms
    })
}
