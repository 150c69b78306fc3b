//! A badge: how a branch is, drawn small, for a README: the pipeline's name in ink, the state's shape, colour and word.
//! Pure: what is drawn follows from what is given.

use ordotaxis_core::engine::State;
use std::fmt::Write;

/// What a badge says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Says {
    State(State),
    NoRun,
    /// There is nothing of that name, or nothing that may be seen without signing in.
    Unknown,
}

impl Says {
    /// The verdict of several pipelines together: the worst; of none, that there was no run.
    pub(crate) fn of(states: &[State]) -> Says {
        let worst = [State::Failed, State::Lost, State::Refused, State::Stopped, State::Running, State::Passed];
        let found = worst.into_iter().find(|state| states.contains(state));
        found.or(states.first().copied()).map_or(Says::NoRun, Says::State)
    }

    pub(crate) fn word(self) -> &'static str {
        match self {
            Says::State(state) => state.word(),
            Says::NoRun => "no run yet",
            Says::Unknown => "unknown",
        }
    }

    /// Contrast against the white panel is at least 4.5.
    fn colour(self) -> &'static str {
        match self {
            Says::State(State::Passed | State::Reused) => "#0f7a52",
            Says::State(State::Failed | State::Lost) => "#a3170a",
            Says::State(State::Running) => "#2458b3",
            Says::State(State::Gated | State::Refused) => "#9a6a00",
            _ => "#5f6b7a",
        }
    }

    /// The state's shape in a square of 12, as the console draws it.
    fn shape(self) -> &'static str {
        match self {
            Says::State(State::Passed) => "<path d=\"M4 0h4v12H4z\"/>",
            Says::State(State::Reused) => "<path d=\"M3 0h2v12H3zM7 0h2v12H7z\"/>",
            Says::State(State::Failed) => "<path d=\"M0 0h12L6 12z\"/>",
            Says::State(State::Lost) => "<path d=\"M0 0h5.2L3.4 6.8zM7 0h5L6 12 4.4 8.8z\"/>",
            Says::State(State::Running) => "<path d=\"M4 0h4v12H4zM5 1v5h2V1z\" fill-rule=\"evenodd\"/>",
            Says::State(State::Stopped) => "<path d=\"M3 3h6v6H3z\"/>",
            Says::State(State::Refused) => "<path d=\"M1 2.4 2.4 1 6 4.6 9.6 1 11 2.4 7.4 6 11 9.6 9.6 11 6 7.4 2.4 11 1 9.6 4.6 6z\"/>",
            Says::State(State::Gated) => "<path d=\"M0 4.5h12v3H0z\"/>",
            _ => "<path d=\"M3 5h6v2H3z\"/>",
        }
    }
}

/// How wide a text is at 12 px, nearly: the viewer's own font is made to keep to it.
fn width(text: &str) -> usize {
    let tenths: usize = text
        .chars()
        .map(|c| match c {
            'i' | 'j' | 'l' | '.' | ',' | ':' | '/' | '|' | '\'' => 34,
            'f' | 't' | 'r' | ' ' | '-' => 45,
            'm' | 'w' | 'M' | 'W' => 98,
            'A'..='Z' => 80,
            _ => 67,
        })
        .sum();
    tenths.div_ceil(10)
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The badge as SVG, 20 px high. `name` is what it is about: project and pipeline.
pub(crate) fn svg(name: &str, says: Says) -> String {
    let name: String = name.chars().filter(|c| !c.is_control()).take(80).collect();
    let (word, colour) = (says.word(), says.colour());
    let (left, right) = (width(&name), width(word));
    let (shape_at, word_at) = (8 + left + 9, 8 + left + 9 + 12 + 6);
    let whole = word_at + right + 8;
    let told = escaped(&format!("{name}: {word}"));
    let name = escaped(&name);
    let mut out = String::new();
    let _ = write!(
        out,
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{whole}\" height=\"20\" viewBox=\"0 0 {whole} 20\" role=\"img\" aria-label=\"{told}\">\
         <title>{told}</title>\
         <rect x=\"0.5\" y=\"0.5\" width=\"{}\" height=\"19\" rx=\"2\" fill=\"#ffffff\" stroke=\"#ddd9cf\"/>\
         <g font-family=\"system-ui,sans-serif\" font-size=\"12\">\
         <text x=\"8\" y=\"14\" fill=\"#18212d\" textLength=\"{left}\" lengthAdjust=\"spacingAndGlyphs\">{name}</text>\
         <g fill=\"{colour}\"><g transform=\"translate({shape_at} 4)\">{}</g>\
         <text x=\"{word_at}\" y=\"14\" font-weight=\"600\" textLength=\"{right}\" lengthAdjust=\"spacingAndGlyphs\">{word}</text></g></g></svg>",
        whole - 1,
        says.shape()
    );
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_worst_of_several_pipelines_counts() {
        use State::{Failed, Overtaken, Passed, Running};
        for (states, wanted) in [
            (vec![], "no run yet"),
            (vec![Passed, Passed], "passed"),
            (vec![Passed, Failed, Running], "failed"),
            (vec![Passed, Running], "running"),
            (vec![Overtaken], "overtaken"),
        ] {
            assert_eq!(Says::of(&states).word(), wanted, "{states:?}");
        }
    }

    proptest! {
        /// Whatever a project or pipeline is called, a badge is one well-formed drawing that says its state in words.
        #[test]
        fn a_name_never_breaks_out(name in ".{0,100}") {
            for says in State::ALL.into_iter().map(Says::State).chain([Says::NoRun, Says::Unknown]) {
                let drawn = svg(&name, says);
                let mut reader = quick_xml::Reader::from_str(&drawn);
                let mut texts = Vec::new();
                loop {
                    match reader.read_event().expect("well formed") {
                        quick_xml::events::Event::Text(text) => texts.push(text.into_inner().into_owned()),
                        quick_xml::events::Event::Eof => break,
                        _ => {}
                    }
                }
                prop_assert_eq!(texts.last().map(String::as_str), Some(says.word()));
                prop_assert!(!drawn.contains("<script"));
            }
        }
    }
}
