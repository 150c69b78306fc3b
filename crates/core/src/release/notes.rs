//! Notes of releases, which are Markdown: the section of a file that is about one version, or what landed since the release
//! before.

use super::version::unprefixed;

/// A proposal that landed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Landed {
    pub number: String,
    pub title: String,
    pub author: Option<String>,
}

/// The section of a Markdown text whose heading names a version: what stands below it, up to the next heading of the same or
/// a higher level. Lines in fenced code are no headings.
///
/// ```
/// use ordotaxis_core::release::section;
/// let text = "# Changes\n\n## [1.1.0] - 2026-11-20\n\n- a tide table\n\n### Mended\n\n- the datum\n\n## 1.0.0\n\nFirst.\n";
/// assert_eq!(section(text, "1.1.0").as_deref(), Some("- a tide table\n\n### Mended\n\n- the datum"));
/// assert_eq!(section(text, "v1.0.0").as_deref(), Some("First."));
/// assert_eq!(section(text, "1.1"), None);
/// ```
pub fn section(text: &str, version: &str) -> Option<String> {
    let (mut fence, mut level, mut found): (Option<&str>, usize, Vec<&str>) = (None, 0, Vec::new());
    for line in text.lines() {
        let mark = ["```", "~~~"].into_iter().find(|mark| line.trim_start().starts_with(mark));
        match (fence, mark) {
            (None, Some(mark)) => fence = Some(mark),
            (Some(open), Some(mark)) if open == mark => fence = None,
            _ => {}
        }
        let heading = if fence.is_some() || mark.is_some() { None } else { heading(line) };
        match heading {
            Some((depth, _)) if level > 0 && depth <= level => break,
            Some((depth, title)) if level == 0 && names(title, version) => level = depth,
            _ if level > 0 => found.push(line),
            _ => {}
        }
    }
    (level > 0).then(|| found.join("\n").trim().to_owned())
}

/// How deep a heading is, and its text (CommonMark 4.2).
fn heading(line: &str) -> Option<(usize, &str)> {
    let depth = line.bytes().take_while(|byte| *byte == b'#').count();
    let title = line.get(depth..)?;
    ((1..=6).contains(&depth) && (title.is_empty() || title.starts_with([' ', '\t']))).then(|| (depth, title.trim()))
}

/// Whether a word of a heading is the version.
fn names(title: &str, version: &str) -> bool {
    let words = title.split([' ', '\t', '(', ')', '[', ']', ':', ',']).map(|word| word.trim_matches(|c: char| !c.is_ascii_alphanumeric()));
    words.into_iter().any(|word| unprefixed(word) == unprefixed(version))
}

/// A list of what landed, the oldest first.
///
/// ```
/// use ordotaxis_core::release::{Landed, collected};
/// let landed = [Landed { number: "7".into(), title: "A tide table".into(), author: Some("mara".into()) }];
/// assert_eq!(collected(&landed), "- A tide table (7, mara)");
/// assert_eq!(collected(&[]), "Nothing landed since the release before.");
/// ```
pub fn collected(landed: &[Landed]) -> String {
    if landed.is_empty() {
        return "Nothing landed since the release before.".to_owned();
    }
    let line = |one: &Landed| {
        let by = one.author.as_ref().map(|by| format!(", {by}")).unwrap_or_default();
        let title = if one.title.is_empty() { "Without a title" } else { one.title.as_str() };
        format!("- {} ({}{by})", title.replace(['\n', '\r'], " "), one.number)
    };
    landed.iter().map(line).collect::<Vec<_>>().join("\n")
}
