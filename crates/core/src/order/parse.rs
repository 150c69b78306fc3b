//! One order line: text → [`Line`]. Parentheses are bounded, so that no text can overflow the stack.

use crate::language::Span;

/// How deep parentheses may nest.
const DEPTH_LIMIT: usize = 64;

/// Groups in order; the items of one group stand side by side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    pub groups: Vec<Vec<Item>>,
    pub span: Span,
}

/// One part of an order line: a stage, or a line in parentheses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item {
    Stage { name: String, span: Span },
    Line(Line),
}

/// What is wrong with a line; `span` counts bytes of the line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    pub message: String,
    pub span: Span,
    pub too_deep: bool,
}

impl Line {
    /// Moves every span to where it is in a larger text.
    #[must_use]
    pub fn placed(mut self, place: impl Fn(Span) -> Span + Copy) -> Line {
        self.span = place(self.span);
        for item in self.groups.iter_mut().flatten() {
            match item {
                Item::Stage { span, .. } => *span = place(span.clone()),
                Item::Line(line) => *line = line.clone().placed(place),
            }
        }
        self
    }

    /// Every stage that the line names, with its place.
    pub fn stages(&self) -> Vec<(&str, Span)> {
        let mut found = Vec::new();
        for item in self.groups.iter().flatten() {
            match item {
                Item::Stage { name, span } => found.push((name.as_str(), span.clone())),
                Item::Line(line) => found.extend(line.stages()),
            }
        }
        found
    }
}

/// Reads an order line such as `build > (test, lint) > ship`. The error points at its place in the line.
///
/// ```
/// use ordotaxis_core::order::parse;
/// let line = parse("build > (test, lint) > ship").expect("an order");
/// let names: Vec<&str> = line.stages().into_iter().map(|(name, _)| name).collect();
/// assert_eq!(names, ["build", "test", "lint", "ship"]);
/// let mistake = parse("build > ship)").expect_err("a mistake");
/// assert_eq!((mistake.message.as_str(), mistake.span), ("this `)` closes nothing", 12..13));
/// ```
pub fn parse(text: &str) -> Result<Line, Mistake> {
    let mut parser = Parser { tokens: tokens(text)?, next: 0, end: text.len() };
    let line = parser.line(0)?;
    match parser.peek() {
        None => Ok(line),
        Some((Token::Close, span)) => Err(mistake("this `)` closes nothing", span)),
        Some((_, span)) => Err(mistake("expected `>` or `,` before this", span)),
    }
}

fn mistake(message: impl Into<String>, span: Span) -> Mistake {
    Mistake { message: message.into(), span, too_deep: false }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    Name(String),
    After,
    Beside,
    Open,
    Close,
}

fn tokens(text: &str) -> Result<Vec<(Token, Span)>, Mistake> {
    let mut tokens = Vec::new();
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        let token = match c {
            c if c.is_whitespace() => continue,
            '>' => Token::After,
            ',' => Token::Beside,
            '(' => Token::Open,
            ')' => Token::Close,
            c if in_name(c) => {
                let mut name = String::from(c);
                while let Some((_, c)) = chars.next_if(|(_, c)| in_name(*c)) {
                    name.push(c);
                }
                Token::Name(name)
            }
            other => {
                let what = if other == '-' || other == '=' { "an arrow is written `>`" } else { "not part of an order line" };
                return Err(mistake(format!("`{other}`: {what}"), at..at + other.len_utf8()));
            }
        };
        let end = chars.peek().map_or(text.len(), |(next, _)| *next);
        tokens.push((token, at..end));
    }
    Ok(tokens)
}

fn in_name(c: char) -> bool {
    c.is_alphanumeric() || c == '_' || c == '-'
}

struct Parser {
    tokens: Vec<(Token, Span)>,
    next: usize,
    end: usize,
}

impl Parser {
    fn peek(&self) -> Option<(Token, Span)> {
        self.tokens.get(self.next).cloned()
    }

    fn eat(&mut self, wanted: &Token) -> bool {
        let found = self.tokens.get(self.next).is_some_and(|(token, _)| token == wanted);
        self.next += usize::from(found);
        found
    }

    fn line(&mut self, depth: usize) -> Result<Line, Mistake> {
        let start = self.peek().map_or(self.end, |(_, span)| span.start);
        let mut groups = vec![self.group(depth)?];
        while self.eat(&Token::After) {
            groups.push(self.group(depth)?);
        }
        let end = self.next.checked_sub(1).map_or(self.end, |last| self.tokens[last].1.end);
        Ok(Line { groups, span: start..end })
    }

    fn group(&mut self, depth: usize) -> Result<Vec<Item>, Mistake> {
        let mut items = vec![self.item(depth)?];
        while self.eat(&Token::Beside) {
            items.push(self.item(depth)?);
        }
        Ok(items)
    }

    fn item(&mut self, depth: usize) -> Result<Item, Mistake> {
        let (token, span) = self.peek().ok_or_else(|| mistake("a stage's name is missing here", self.end..self.end))?;
        self.next += 1;
        match token {
            Token::Name(name) => Ok(Item::Stage { name, span }),
            Token::Open if depth == DEPTH_LIMIT => {
                Err(Mistake { message: format!("parentheses nest deeper than {DEPTH_LIMIT}"), span, too_deep: true })
            }
            Token::Open => {
                let line = self.line(depth + 1)?;
                if self.eat(&Token::Close) { Ok(Item::Line(line)) } else { Err(mistake("this `(` is never closed", span)) }
            }
            Token::After | Token::Beside | Token::Close => Err(mistake("a stage's name is missing before this", span)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spoken(line: &Line) -> String {
        let group = |items: &Vec<Item>| items.iter().map(item).collect::<Vec<_>>().join("+");
        fn item(item: &Item) -> String {
            match item {
                Item::Stage { name, .. } => name.clone(),
                Item::Line(line) => format!("[{}]", spoken(line)),
            }
        }
        line.groups.iter().map(group).collect::<Vec<_>>().join(" then ")
    }

    #[test]
    fn reads_the_grammar() {
        for (text, meaning) in [
            ("a", "a"),
            ("a>b", "a then b"),
            ("check, build > test", "check+build then test"),
            ("(a > b), c > d", "[a then b]+c then d"),
            ("((a))", "[[a]]"),
        ] {
            assert_eq!(parse(text).map(|line| spoken(&line)), Ok(meaning.to_owned()), "{text}");
        }
    }

    #[test]
    fn points_at_what_is_wrong() {
        for (text, span, words) in [
            ("", 0..0, "missing"),
            ("a >", 3..3, "missing"),
            ("a > > b", 4..5, "missing before"),
            ("a b", 2..3, "expected"),
            ("(a > b", 0..1, "never closed"),
            ("a)", 1..2, "closes nothing"),
            ("a => b", 2..3, "an arrow is written"),
            ("a; b", 1..2, "not part"),
        ] {
            let mistake = parse(text).unwrap_err();
            assert_eq!(mistake.span, span, "{text}");
            assert!(mistake.message.contains(words), "{text}: {}", mistake.message);
        }
    }

    #[test]
    fn deep_nesting_is_told_not_suffered() {
        let text = "(".repeat(100_000);
        assert!(parse(&text).unwrap_err().too_deep);
    }
}
