//! Texts with `{name}` in them: headers, bodies, what is signed. `{{` is a brace. Nothing but names stands between braces,
//! so what is filled in can never bring more of them.

/// A text whose names are filled in later.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Text {
    pieces: Vec<Piece>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    Plain(String),
    Name(String),
}

/// A brace without its other half.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unclosed;

impl Text {
    /// Parses a text. A single `}` stands for itself.
    pub fn parse(text: &str) -> Result<Text, Unclosed> {
        let (mut pieces, mut plain, mut rest) = (Vec::new(), String::new(), text);
        while let Some(at) = rest.find('{') {
            plain.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix('{') {
                plain.push('{');
                rest = after;
                continue;
            }
            let (name, after) = rest.split_once('}').ok_or(Unclosed)?;
            if !plain.is_empty() {
                pieces.push(Piece::Plain(std::mem::take(&mut plain)));
            }
            pieces.push(Piece::Name(name.to_owned()));
            rest = after;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            pieces.push(Piece::Plain(plain));
        }
        Ok(Text { pieces })
    }

    /// The names that are filled in, in order.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| if let Piece::Name(name) = piece { Some(name.as_str()) } else { None })
    }

    /// The one name that the text consists of; none for any other text.
    pub fn only_name(&self) -> Option<&str> {
        if let [Piece::Name(name)] = &self.pieces[..] { Some(name) } else { None }
    }

    /// The text with each name's value in its place, or the first name that has none.
    pub fn fill(&self, value: impl Fn(&str) -> Option<String>) -> Result<String, &str> {
        let mut filled = String::new();
        for piece in &self.pieces {
            match piece {
                Piece::Plain(plain) => filled.push_str(plain),
                Piece::Name(name) => filled.push_str(&value(name).ok_or(name.as_str())?),
            }
        }
        Ok(filled)
    }

    /// As [`Text::fill`], in bytes: what a body holds need not be text.
    pub(super) fn bytes(&self, value: impl Fn(&str) -> Option<Vec<u8>>) -> Option<Vec<u8>> {
        let mut filled = Vec::new();
        for piece in &self.pieces {
            match piece {
                Piece::Plain(plain) => filled.extend_from_slice(plain.as_bytes()),
                Piece::Name(name) => filled.extend(value(name)?),
            }
        }
        Some(filled)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_are_filled_and_braces_stay() {
        let fill = |text: &str| Text::parse(text).map(|text| text.fill(|name| (name == "a").then(|| "{b}".into())).map_err(str::to_owned));
        assert_eq!(fill("x{a}y{{a}}{a}"), Ok(Ok("x{b}y{a}}{b}".into())));
        assert_eq!(fill("{a}{b}"), Ok(Err("b".into())));
        assert_eq!(fill("{a"), Err(Unclosed));
        assert_eq!(Text::parse("{a}").unwrap().only_name(), Some("a"));
        assert_eq!(Text::parse(" {a}").unwrap().only_name(), None);
    }

    proptest! {
        /// Whatever a value holds, nothing in it is taken for a name.
        #[test]
        fn what_is_filled_in_stays_as_it_is(before in "[a-z}]{0,4}", value in ".{0,12}", after in "[a-z}]{0,4}") {
            let text = Text::parse(&format!("{before}{{v}}{after}")).unwrap();
            prop_assert_eq!(text.fill(|_| Some(value.clone())), Ok(format!("{before}{value}{after}")));
        }

        #[test]
        fn any_text_can_be_written_with_doubled_braces(text in ".{0,20}") {
            let written = Text::parse(&text.replace('{', "{{")).unwrap();
            prop_assert_eq!(written.fill(|_| None), Ok(text));
        }
    }
}
