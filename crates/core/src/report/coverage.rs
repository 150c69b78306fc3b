//! Lines that tests ran, from LCOV tracefiles (as geninfo(1) describes them) and Cobertura XML.

use super::error::ReportError;
use super::results::Coverage;
use super::xml::{Part, part, unescaped};
use quick_xml::Reader;

/// Reads `SF` and `DA` records; the rest are sums of these, or about functions and branches.
///
/// ```
/// use ordotaxis_core::report::lcov_lines;
/// let coverage = lcov_lines(b"SF:src/gauge.c\nDA:1,4\nDA:2,0\nend_of_record\n").expect("LCOV");
/// assert_eq!(coverage.lines(), (1, 2), "one of two lines ran");
/// ```
pub fn lcov_lines(bytes: &[u8]) -> Result<Coverage, ReportError> {
    let text = std::str::from_utf8(bytes).map_err(|_| ReportError::Kind("LCOV: it is not UTF-8"))?;
    let mut coverage = Coverage::default();
    let mut file: Option<&str> = None;
    let mut seen = false;
    for (number, line) in text.lines().enumerate() {
        let error = |what: &str| ReportError::Line { line: number + 1, what: what.to_owned() };
        if let Some(path) = line.strip_prefix("SF:") {
            (file, seen) = (Some(path.trim()), true);
        } else if let Some(data) = line.strip_prefix("DA:") {
            let file = file.ok_or_else(|| error("a line of no file: `DA` before `SF`"))?;
            let mut parts = data.split(',');
            let line = parts.next().and_then(|line| line.trim().parse().ok());
            // Some tools write counts below zero where they overflowed.
            let hits = parts.next().and_then(|hits| hits.trim().parse::<f64>().ok());
            let (line, hits) = line.zip(hits).ok_or_else(|| error("`DA` wants a line number and a count"))?;
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a count: too large or below zero is as good")]
            coverage.add(file, line, hits.max(0.0) as u64);
        } else if line.trim() == "end_of_record" {
            file = None;
        }
    }
    if seen { Ok(coverage) } else { Err(ReportError::Kind("LCOV: it has no `SF` record")) }
}

/// Reads the `line` elements of each `class`; where there is one `source`, files lie below it.
pub fn cobertura_lines(bytes: &[u8]) -> Result<Coverage, ReportError> {
    let mut reader = Reader::from_reader(bytes);
    let mut coverage = Coverage::default();
    let mut open: Vec<String> = Vec::new();
    let mut file: Option<String> = None;
    let mut sources: Vec<String> = Vec::new();
    let mut seen = false;
    loop {
        let (element, stays) = match part(&mut reader, open.len())? {
            Part::Eof => break,
            Part::End => {
                if open.pop().as_deref() == Some("class") {
                    file = None;
                }
                continue;
            }
            Part::Text(text) => {
                if open.last().is_some_and(|name| name == "source") && !text.trim().is_empty() {
                    sources.push(text.trim().to_owned());
                }
                continue;
            }
            Part::Nothing => continue,
            Part::Begin(element, stays) => (element, stays),
        };
        let name = element.local_name().as_ref().to_owned();
        seen |= name == "coverage";
        let mut found: (Option<String>, Option<u32>, Option<u64>) = (None, None, None);
        for attribute in element.attributes().flatten() {
            match attribute.key.as_ref() {
                "filename" => found.0 = Some(unescaped(&attribute.value)?),
                "number" => found.1 = attribute.value.parse().ok(),
                "hits" => found.2 = attribute.value.parse().ok(),
                _ => {}
            }
        }
        match name.as_str() {
            "class" => file = found.0,
            // A class lists its lines, and each method those of its own: they are the same.
            "line" if !open.iter().any(|name| name == "method") => {
                if let (Some(file), Some(line), Some(hits)) = (&file, found.1, found.2) {
                    coverage.add(file, line, hits);
                }
            }
            _ => {}
        }
        if stays {
            open.push(name);
        }
    }
    if !seen {
        return Err(ReportError::Kind("Cobertura: it has no `coverage` element"));
    }
    match sources.as_slice() {
        [one] if one != "." => Ok(below(one, coverage)),
        _ => Ok(coverage),
    }
}

fn below(source: &str, coverage: Coverage) -> Coverage {
    let full = |file: String| if file.starts_with('/') { file } else { format!("{}/{file}", source.trim_end_matches('/')) };
    Coverage(coverage.0.into_iter().map(|(file, lines)| (full(file), lines)).collect())
}
