//! How things are printed: colour, symbols, columns. Into a pipe there is no colour and no animation.

use crate::failure::{Done, Failure, OK};
use crate::global::Global;
use crate::written;
use anstyle::{AnsiColor, Style};
use ordotaxis_core::engine::State;
use std::io::IsTerminal;
use std::sync::OnceLock;

struct Manner {
    ascii: bool,
    quiet: bool,
}

static MANNER: OnceLock<Manner> = OnceLock::new();

pub(crate) fn set_up(options: &Global) {
    if options.no_color {
        anstream::ColorChoice::Never.write_global();
    }
    let locale = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()));
    let utf8 = locale.is_none_or(|locale| locale.to_lowercase().contains("utf"));
    let _ = MANNER.set(Manner { ascii: options.ascii || !utf8, quiet: options.quiet });
}

pub(crate) fn quiet() -> bool {
    MANNER.get().is_some_and(|manner| manner.quiet)
}

/// Whether lines may be drawn over: a terminal that a person looks at.
pub(crate) fn live() -> bool {
    std::io::stdout().is_terminal() && !quiet()
}

pub(crate) fn symbol(state: State) -> &'static str {
    let ascii = MANNER.get().is_some_and(|manner| manner.ascii);
    let (drawn, letter) = match state {
        State::Passed => ("▌", "P"),
        State::Reused => ("‖", "U"),
        State::Failed => ("▼", "F"),
        State::Lost => ("▽", "L"),
        State::Running => ("▒", "R"),
        State::Queued => ("▯", "Q"),
        State::Waiting => ("┊", "w"),
        State::Gated => ("╪", "G"),
        State::Skipped => ("–", "-"),
        State::Stopped => ("■", "S"),
        State::Overtaken => ("╱", "O"),
        State::Refused => ("╳", "X"),
    };
    if ascii { letter } else { drawn }
}

fn style(state: State) -> Style {
    let color = match state {
        State::Passed | State::Reused => AnsiColor::Green,
        State::Failed | State::Lost => AnsiColor::Red,
        State::Running => AnsiColor::Blue,
        State::Gated | State::Refused => AnsiColor::Yellow,
        _ => return Style::new().dimmed(),
    };
    Style::new().fg_color(Some(color.into()))
}

/// Symbol and word of a state, padded to the same width.
pub(crate) fn state(state: State) -> String {
    let style = style(state);
    format!("{style}{} {:<9}{style:#}", symbol(state), state.word())
}

pub(crate) fn bold(text: &str) -> String {
    let style = Style::new().bold();
    format!("{style}{text}{style:#}")
}

pub(crate) fn dim(text: &str) -> String {
    let style = Style::new().dimmed();
    format!("{style}{text}{style:#}")
}

/// Text coloured as a state is.
pub(crate) fn as_state(of: State, text: &str) -> String {
    let style = style(of);
    format!("{style}{text}{style:#}")
}

/// The width of the terminal, or of a page where there is none.
pub(crate) fn width() -> usize {
    terminal_size::terminal_size().map_or(120, |(width, _)| usize::from(width.0))
}

pub(crate) fn height() -> usize {
    terminal_size::terminal_size().map_or(40, |(_, height)| usize::from(height.0))
}

/// Cuts a line that is too wide, with `…` at its end.
pub(crate) fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.to_owned();
    }
    text.chars().take(width.saturating_sub(1)).chain(['…']).collect()
}

/// Cuts a line of a table to the terminal's width, colour codes not counted; into a pipe it goes whole.
pub(crate) fn fit(line: &str) -> String {
    let width = width();
    if !std::io::stdout().is_terminal() || visible(line) <= width {
        return line.to_owned();
    }
    let (mut kept, mut seen, mut in_code) = (String::new(), 0, false);
    for c in line.chars() {
        in_code |= c == '\u{1b}';
        seen += usize::from(!in_code);
        if in_code || seen < width {
            kept.push(c);
        }
        in_code &= c != 'm';
    }
    kept.push('…');
    kept
}

/// Columns as wide as their widest cell, two spaces apart; cells hold plain text.
pub(crate) fn columns(rows: &[Vec<String>]) -> Vec<String> {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width = |column: usize| rows.iter().filter_map(|row| row.get(column)).map(|cell| visible(cell)).max().unwrap_or(0);
    let widths: Vec<usize> = (0..count).map(width).collect();
    let line = |row: &Vec<String>| {
        let padded = row.iter().enumerate().map(|(at, cell)| format!("{cell}{}", " ".repeat(widths[at] - visible(cell))));
        padded.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    rows.iter().map(line).collect()
}

/// How many characters a person sees of text that may hold colour codes.
fn visible(text: &str) -> usize {
    let mut count = 0;
    let mut in_code = false;
    for c in text.chars() {
        match c {
            '\u{1b}' => in_code = true,
            'm' if in_code => in_code = false,
            _ if !in_code => count += 1,
            _ => {}
        }
    }
    count
}

/// Prints rows in columns, the first as their head, or what to say when there are none.
pub(crate) fn table(rows: &[Vec<String>], none: &str) {
    if rows.len() <= 1 {
        return remark(none);
    }
    let lines = columns(rows);
    print(dim(&fit(&lines[0])));
    for line in &lines[1..] {
        print(fit(line));
    }
}

/// A moment as tables show it: in UTC, to the second.
pub(crate) fn moment(at: jiff::Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S").to_string()
}

pub(crate) fn print(line: impl std::fmt::Display) {
    let ascii = MANNER.get().is_some_and(|manner| manner.ascii);
    let line = tame(&line.to_string());
    if ascii {
        // Our own signs; what comes from the repository stays as it is.
        written::text(&format!("{}\n", line.replace(" · ", " - ").replace('…', "...")));
    } else {
        written::text(&format!("{line}\n"));
    }
}

/// Titles, branches and names come from outside: of what would steer a terminal only colours are left, which end with the line.
pub(crate) fn tame(line: &str) -> String {
    let (mut tamed, mut rest) = (String::with_capacity(line.len()), line);
    while let Some(at) = rest.find(|c: char| c.is_control() && c != '\n' && c != '\t') {
        tamed.push_str(&rest[..at]);
        rest = &rest[at..];
        let colour = rest.strip_prefix("\u{1b}[").and_then(|after| {
            let end = after.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            after[end..].starts_with('m').then_some(end + 3)
        });
        let length = colour.unwrap_or_else(|| rest.chars().next().map_or(1, char::len_utf8));
        tamed.push_str(if colour.is_some() { &rest[..length] } else { "" });
        rest = &rest[length..];
    }
    tamed + rest
}

/// Something beside what was asked for; not printed with `-q`.
pub(crate) fn remark(line: impl std::fmt::Display) {
    if !quiet() {
        written::aside(&format!("{}\n", tame(&line.to_string())));
    }
}

pub(crate) fn json(value: &impl serde::Serialize) {
    written::bytes(format!("{}\n", serde_json::to_string_pretty(value).unwrap_or_default()).as_bytes());
}

/// Prints an answer as it comes in, byte for byte.
pub(crate) async fn pour(mut answer: reqwest::Response) -> Done {
    let broke = |error| Failure::new(3, format!("the answer broke off: {error}"), "try again");
    while let Some(bytes) = answer.chunk().await.map_err(broke)? {
        if !written::bytes(&bytes) {
            break;
        }
    }
    OK
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_from_outside_steers_no_terminal() {
        let colour = as_state(State::Failed, "broken");
        assert_eq!(tame(&colour), colour, "colours are ours");
        for (text, wanted) in [
            ("a title\u{1b}[2J\u{1b}]0;owned\u{7}!", "a title[2J]0;owned!"),
            ("\u{9b}31mred\r\u{8}\u{0}", "31mred"),
            ("\u{1b}", ""),
            ("\u{1b}[", "["),
            ("æøå\ttab\nnext", "æøå\ttab\nnext"),
        ] {
            assert_eq!(tame(text), wanted, "{text:?}");
        }
    }

    #[test]
    fn columns_line_up_whatever_is_coloured() {
        let rows = vec![vec![as_state(State::Failed, "ab"), "x".into()], vec!["abcd".into(), "y".into()]];
        let lines = columns(&rows);
        assert_eq!(visible(&lines[0]), visible(&lines[1]));
        assert_eq!(cut("high water", 6), "high …");
    }
}
