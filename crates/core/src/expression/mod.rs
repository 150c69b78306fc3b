//! `if`: text → [`Expression`] → true or false, with the values that decided. The language is CEL, the Common
//! Expression Language, an open specification.
//!
//! The evaluator has no budget of its own and recurses without a bound, so the bounds are ours: a source is at most
//! [`SOURCE_LIMIT`] bytes, loops do not nest, only declared names exist, and everything happens in [`with_deep_stack`].

mod reads;
mod values;

pub use reads::Read;
pub(crate) use values::{COMMIT, REF, ROOTS};
pub use values::{Facts, Values};

use crate::language::Span;
use cel::{Context, Program, Value};

/// A flat chain of 2,000 terms overflows a stack of 2 MiB; this many bytes hold at most a quarter of that.
pub const SOURCE_LIMIT: usize = 1024;
/// A hundred times what the longest source was seen to need.
const STACK: usize = 64 * 1024 * 1024;

/// Macros and functions that an expression may call; operators have names of their own.
const FUNCTIONS: [&str; 13] =
    ["touches", "size", "contains", "startsWith", "endsWith", "matches", "int", "double", "string", "bool", "uint", "has", "type"];

/// A compiled `if`.
pub struct Expression {
    program: Program,
    pub source: String,
    /// Every value it reads, with its place in the source; each path once.
    pub reads: Vec<Read>,
    /// Globs of `touches(…)`.
    pub touched: Vec<String>,
    pub literals: Vec<String>,
    pub calls: Vec<String>,
}

/// What is wrong with an expression; `span` counts bytes of its source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    pub message: String,
    pub hint: Option<String>,
    pub span: Span,
    pub limit: bool,
}

/// Runs what compiles or evaluates expressions where deep recursion has room. Programs must not leave it: freeing one
/// recurses too.
pub fn with_deep_stack<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let room = std::thread::Builder::new().name("expressions".into()).stack_size(STACK).spawn_scoped(scope, work);
        match room.expect("a thread can be started").join() {
            Ok(done) => done,
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })
}

impl Expression {
    /// Compiles a CEL expression (Common Expression Language, the specification's "Language Definition") and looks through it: names, calls, compared texts. The error
    /// points at its place in bytes.
    ///
    /// ```
    /// use ordotaxis_core::expression::Expression;
    /// assert!(Expression::compile("ref.branch == 'main' && touches('src/**')").is_ok());
    /// let mistake = Expression::compile("toches('src/**')").err().expect("a mistake");
    /// assert_eq!((mistake.message.as_str(), mistake.hint.as_deref()), ("there is no function `toches`", Some("did you mean `touches`?")));
    /// ```
    pub fn compile(source: &str) -> Result<Expression, Mistake> {
        let whole = 0..source.len();
        if source.len() > SOURCE_LIMIT {
            let message = format!("the expression is {} bytes long; at most {SOURCE_LIMIT} are read", source.len());
            return Err(Mistake { message, hint: Some("split it over a stage's `if` and a job's".into()), span: whole, limit: true });
        }
        let program = Program::compile(source).map_err(|errors| syntax(source, &errors))?;
        let mut found = reads::Found::default();
        reads::walk(program.expression(), program.source_info(), source, &mut found);
        if found.loops_in_loops {
            let message = "a loop (`all`, `exists`, `map`, `filter`) is inside another one".to_owned();
            return Err(Mistake { message, hint: Some("write it as two expressions joined with `&&`".into()), span: whole, limit: true });
        }
        if let Some((name, span)) = found.calls.iter().find(|(name, _)| !callable(name)) {
            let near = crate::language::nearest(name, FUNCTIONS).map(|near| format!("did you mean `{near}`?"));
            let hint = near.or_else(|| Some(format!("there are {}", FUNCTIONS.join(", "))));
            return Err(Mistake { message: format!("there is no function `{name}`"), hint, span: span.clone(), limit: false });
        }
        Ok(Expression {
            program,
            source: source.to_owned(),
            reads: found.reads,
            touched: found.touched,
            literals: found.literals,
            calls: found.calls.into_iter().map(|(name, _)| name).filter(|name| name.starts_with(char::is_alphabetic)).collect(),
        })
    }

    /// Whether it can only be decided when other jobs have ended.
    pub fn needs_facts(&self) -> bool {
        self.reads.iter().any(|read| read.root() == "fact")
    }

    /// True or false, or what kept it from being either.
    ///
    /// ```
    /// use ordotaxis_core::expression::{Expression, Values};
    /// let values = Values { branch: "topic/x".into(), changed: Some(vec!["src/gauge.c".into()]), ..Values::default() };
    /// let decide = |source: &str| Expression::compile(source).ok().expect("an expression").decide(&values.root());
    /// assert_eq!(decide("ref.branch == 'main' || touches('src/**')"), Ok(true));
    /// assert!(decide("ref.branch").is_err(), "a text is neither true nor false");
    /// ```
    pub fn decide(&self, context: &Context<'_, '_>) -> Result<bool, String> {
        match self.program.execute(context) {
            Ok(Value::Bool(decided)) => Ok(decided),
            Ok(other) => Err(format!("it gives {}, not true or false", kind(&other))),
            Err(error) => Err(plain(&error)),
        }
    }

    /// The values that decided, for a person: `ref.branch is "topic/x"`.
    pub fn with_values(&self, values: &Values) -> String {
        let mut said: Vec<String> = self
            .reads
            .iter()
            .filter(|read| read.root() != "changed")
            .filter_map(|read| Some(format!("{read} is {:?}", values.get(read)?)))
            .collect();
        said.extend(self.touched.iter().map(|glob| match values.touches(glob) {
            true => format!("a changed file fits {glob}"),
            false => format!("no changed file fits {glob}"),
        }));
        if self.reads.iter().any(|read| read.root() == "changed") {
            said.push(format!("{} changed", crate::language::counted(values.changed.as_ref().map_or(0, Vec::len), "file")));
        }
        said.join(", ")
    }
}

fn callable(name: &str) -> bool {
    !name.starts_with(char::is_alphabetic) || FUNCTIONS.contains(&name)
}

fn kind(value: &Value) -> &'static str {
    match value {
        Value::String(_) => "a text",
        Value::Int(_) | Value::UInt(_) | Value::Float(_) => "a number",
        Value::List(_) => "a list",
        Value::Map(_) => "a table of values",
        _ => "something else",
    }
}

/// The evaluator's errors show values in its own notation; a person needs the kinds only.
fn plain(error: &cel::ExecutionError) -> String {
    use cel::ExecutionError as E;
    match error {
        E::NoSuchKey(key) => format!("there is no `{key}`"),
        E::UndeclaredReference(name) => format!("there is no `{name}`"),
        E::NoSuchOverload(error) => {
            format!("`{}` does not take {}", error.function().trim_matches('_'), error.argument_types().join(" and "))
        }
        E::ValuesNotComparable(left, right) => format!("{} cannot be compared with {}", kind(left), kind(right)),
        E::DivisionByZero(_) | E::RemainderByZero(_) => "it divides by zero".into(),
        E::Overflow(..) => "a number grows too large".into(),
        E::IndexOutOfBounds(_) => "a list has no such place".into(),
        E::FunctionError { function, message } => format!("`{function}`: {message}"),
        _ => "its parts do not fit together".into(),
    }
}

fn syntax(source: &str, errors: &cel::ParseErrors) -> Mistake {
    let first = errors.errors.first();
    let column = first.map_or(1, |error| usize::try_from(error.pos.1).unwrap_or(1)).max(1);
    let line = first.map_or(1, |error| usize::try_from(error.pos.0).unwrap_or(1)).max(1);
    let line_start: usize = source.split_inclusive('\n').take(line - 1).map(str::len).sum();
    let mut start = (line_start + column - 1).min(source.len());
    while !source.is_char_boundary(start) {
        start -= 1;
    }
    let rest = &source[start..];
    let length = rest.chars().take_while(|c| c.is_alphanumeric()).map(char::len_utf8).sum::<usize>();
    let end = start + length.max(rest.chars().next().map_or(0, char::len_utf8));
    let at = source[start..end].trim();
    let message =
        if at.is_empty() { "the expression ends too early".to_owned() } else { format!("the expression cannot be read at `{at}`") };
    let hint = match at {
        "=" => "compare with `==`",
        "" if source.trim_end().ends_with("==") => "a text within the expression needs quotes of the other kind: 'ref.branch == \"main\"'",
        "'" | "\"" => "a text within the expression needs quotes of the other kind",
        _ if source.contains(" and ") || source.contains(" or ") || source.contains(" not ") => "`&&` is and, `||` is or, `!` is not",
        _ => "it reads like: ref.branch == \"main\" && touches(\"src/**\")",
    };
    Mistake { message, hint: Some(hint.into()), span: start..end.max(start), limit: false }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decide(source: &str, values: &Values) -> Result<bool, String> {
        let (source, values) = (source.to_owned(), values.clone());
        with_deep_stack(move || {
            let expression = Expression::compile(&source).map_err(|mistake| mistake.message)?;
            let root = values.root();
            let mut own = root.new_inner_scope();
            values.add_own(&mut own);
            expression.decide(&own)
        })
    }

    fn scene() -> Values {
        let mut values = Values { event: "push".into(), branch: "main".into(), changed: Some(vec!["src/a.c".into()]), ..Values::default() };
        values.each.insert("cc".into(), "gcc".into());
        values
    }

    #[test]
    fn expressions_see_the_occasion() {
        for (source, wanted) in [
            ("ref.branch == \"main\"", true),
            ("ref.branch == 'main' && event != \"proposal\"", true),
            ("ref.branch.startsWith('release/')", false),
            ("ref.tag != ''", false),
            ("touches('src/**')", true),
            ("touches(\"docs/**\") || each.cc == 'clang'", false),
            ("changed.exists(path, path.endsWith('.c'))", true),
            ("ref.branch.matches('^m.*n$')", true),
            ("event in ['push', 'tag']", true),
        ] {
            assert_eq!(decide(source, &scene()), Ok(wanted), "{source}");
        }
    }

    #[test]
    fn what_is_not_true_or_false_is_told() {
        for (source, wanted) in [
            ("ref.branch", "it gives a text, not true or false"),
            ("ref.brunch == ''", "there is no `brunch`"),
            ("1 / 0 == 1", "it divides by zero"),
            ("tuoches('x')", "there is no function `tuoches`"),
            ("ref.branch = 'main'", "the expression cannot be read at `=`"),
            ("changed.all(a, changed.all(b, a == b))", "a loop (`all`, `exists`, `map`, `filter`) is inside another one"),
        ] {
            assert_eq!(decide(source, &scene()), Err(wanted.to_owned()), "{source}");
        }
    }

    #[test]
    fn the_longest_and_deepest_sources_neither_overflow_nor_hang() {
        let chain = format!("{}1 == 1", "1+".repeat(508));
        let deep = format!("{}true{}", "(".repeat(500), ")".repeat(500));
        let nots = format!("{}true", "!".repeat(1000));
        let lists = format!("{}{} == []", "[".repeat(500), "]".repeat(500));
        let selects = format!("ref{} == ''", ".a".repeat(480));
        for source in [chain, deep, nots, lists, selects] {
            assert!(source.len() <= SOURCE_LIMIT);
            let _ = decide(&source, &scene());
        }
        assert!(decide(&"1+".repeat(3000), &scene()).unwrap_err().contains("at most 1024"));
    }
}
