//! Requests that a forge takes: a request of the profile and values make a [`Call`]; what comes back is judged by the
//! same request. Who sends the call, with which limits, is the service's affair.

use super::address::names_of_address;
use super::event::{Hosted, Offer, Review};
use super::part::Part;
use super::pattern::{Miss, Pattern};
use super::place::text_of;
use super::text::Text;
use indexmap::IndexMap;
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// What a request is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    Status,
    Comment,
    CommentAgain,
    Proposals,
    Proposal,
    Reviews,
    Repositories,
    Land,
    Release,
}

impl Kind {
    /// Every kind, in the order of the guide.
    pub const ALL: [Kind; 9] = [
        Kind::Status,
        Kind::Comment,
        Kind::CommentAgain,
        Kind::Proposals,
        Kind::Proposal,
        Kind::Reviews,
        Kind::Repositories,
        Kind::Land,
        Kind::Release,
    ];

    /// Its table in a profile: `[request.WORD]`.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Status => "status",
            Kind::Comment => "comment",
            Kind::CommentAgain => "comment-again",
            Kind::Proposals => "proposals",
            Kind::Proposal => "proposal",
            Kind::Reviews => "reviews",
            Kind::Repositories => "repositories",
            Kind::Land => "land",
            Kind::Release => "release",
        }
    }

    /// The names that its texts may hold, besides those of every request.
    pub fn values(self) -> &'static [&'static str] {
        match self {
            Kind::Status => &["commit", "context", "state", "word", "sentence", "link"],
            Kind::Comment => &["proposal", "text", "link"],
            Kind::CommentAgain => &["proposal", "comment", "text", "link"],
            Kind::Proposals | Kind::Repositories => &[],
            Kind::Proposal | Kind::Reviews => &["proposal"],
            Kind::Land => &["proposal", "commit", "target", "sentence"],
            Kind::Release => &["version", "tag", "commit", "title", "state", "text", "link"],
        }
    }
}

/// What every request may name: where the forge is, what the repository is called there, and what opens it.
pub(super) const EVERYWHERE: [&str; 4] = ["url", "repository", "token", "basic"];

/// One request of a profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    pub line: usize,
    pub method: String,
    /// A URI Template (RFC 6570).
    pub url: String,
    pub headers: IndexMap<String, Text>,
    pub payload: Payload<Tree, Text>,
    /// Statuses that count as done; all of 2xx where none is named.
    pub done: Vec<Statuses>,
    /// What was asked for is not there any more.
    pub gone: Vec<Statuses>,
    /// Worth another try, besides those that always are.
    pub again: Vec<Statuses>,
    /// Where the answer says what the made thing is called.
    pub id: Option<String>,
    /// Where the list stands; the whole answer where it is none.
    pub items: Option<String>,
    pub next: Option<Page>,
    /// How an item of the list is read.
    pub item: Option<Pattern>,
}

/// A request's body.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Payload<J, T> {
    None,
    Json(J),
    /// An HTML form.
    Form(Vec<(String, T)>),
}

/// JSON whose texts are filled in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tree {
    Text(Text),
    /// `{=NAME}`: the value itself, a number as a number.
    Value(String),
    Plain(Value),
    List(Vec<Tree>),
    Table(Vec<(String, Tree)>),
}

/// One HTTP status, or all of a hundred.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Statuses {
    pub first: u16,
    pub last: u16,
}

/// Where the next page of a list is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Page {
    /// A JSON Pointer to its address.
    At(String),
    /// The `Link` header with `rel="next"` (RFC 8288).
    Link,
}

/// A call that is to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Call {
    pub method: String,
    pub url: String,
    pub headers: Vec<(String, String)>,
    pub payload: Payload<Value, String>,
}

/// A name that has no value.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the request [request.{request}] asks for {{{name}}}, which is not known here")]
pub struct NotFilled {
    pub request: &'static str,
    pub name: String,
}

/// What came back.
pub struct Answer<'a> {
    pub status: u16,
    /// By lower-case name.
    pub headers: &'a BTreeMap<String, String>,
    pub body: &'a [u8],
}

/// What an answer means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    Done,
    /// What was asked for is not there (any more).
    Gone(String),
    /// It may succeed later.
    Again(String),
    /// It cannot succeed, whatever one waits for.
    Refused(String),
}

/// Always worth another try: the forge, or what stands before it, has trouble or asks for patience.
const AGAIN: [Statuses; 4] = [one(408), one(425), one(429), Statuses { first: 500, last: 599 }];
const DONE: Statuses = Statuses { first: 200, last: 299 };

const fn one(status: u16) -> Statuses {
    Statuses { first: status, last: status }
}

impl Statuses {
    /// `404`, or `4xx`.
    pub(super) fn parse(text: &str) -> Option<Statuses> {
        match text.strip_suffix("xx") {
            Some(hundred) => hundred.parse::<u16>().ok().map(|hundred| Statuses { first: hundred * 100, last: hundred * 100 + 99 }),
            None => text.parse().ok().map(one),
        }
    }

    fn holds(self, status: u16) -> bool {
        (self.first..=self.last).contains(&status)
    }
}

fn any(list: &[Statuses], status: u16) -> bool {
    list.iter().any(|one| one.holds(status))
}

impl Tree {
    fn fill(&self, values: &BTreeMap<&str, String>) -> Result<Value, String> {
        Ok(match self {
            Tree::Plain(value) => value.clone(),
            Tree::Text(text) => Value::String(fill(text, values)?),
            Tree::Value(name) => {
                let text = values.get(name.as_str()).ok_or_else(|| name.clone())?;
                let plain = serde_json::from_str(text).ok().filter(|value| matches!(value, Value::Number(_) | Value::Bool(_)));
                plain.unwrap_or_else(|| Value::String(text.clone()))
            }
            Tree::List(items) => Value::Array(items.iter().map(|item| item.fill(values)).collect::<Result<_, _>>()?),
            Tree::Table(entries) => {
                let filled = entries.iter().map(|(key, tree)| Ok((key.clone(), tree.fill(values)?)));
                Value::Object(filled.collect::<Result<Map<_, _>, String>>()?)
            }
        })
    }

    /// All names in it.
    pub(super) fn names(&self) -> Vec<&str> {
        match self {
            Tree::Plain(_) => Vec::new(),
            Tree::Text(text) => text.names().collect(),
            Tree::Value(name) => vec![name],
            Tree::List(items) => items.iter().flat_map(Tree::names).collect(),
            Tree::Table(entries) => entries.iter().flat_map(|(_, tree)| tree.names()).collect(),
        }
    }
}

fn fill(text: &Text, values: &BTreeMap<&str, String>) -> Result<String, String> {
    text.fill(|name| values.get(name).cloned()).map_err(str::to_owned)
}

impl Request {
    /// The call with these values.
    pub fn call(&self, kind: Kind, values: &BTreeMap<&str, String>) -> Result<Call, NotFilled> {
        let not = |name: String| NotFilled { request: kind.word(), name };
        let mut url = uritemplate::UriTemplate::new(&self.url);
        for name in names_of_address(&self.url) {
            url.set(name, values.get(name).ok_or_else(|| not(name.to_owned()))?.as_str());
        }
        let filled = |(name, text): (&String, &Text)| Ok((name.clone(), fill(text, values)?));
        Ok(Call {
            method: self.method.clone(),
            url: url.build(),
            headers: self.headers.iter().map(filled).collect::<Result<_, String>>().map_err(not)?,
            payload: match &self.payload {
                Payload::None => Payload::None,
                Payload::Json(tree) => Payload::Json(tree.fill(values).map_err(not)?),
                Payload::Form(fields) => {
                    Payload::Form(fields.iter().map(|(name, text)| filled((name, text))).collect::<Result<_, String>>().map_err(not)?)
                }
            },
        })
    }

    /// What an answer to this request means.
    pub fn outcome(&self, answer: &Answer<'_>) -> Outcome {
        let status = answer.status;
        let told = || match told(answer.body) {
            text if text.is_empty() => format!("the forge answered {status}"),
            text => format!("the forge answered {status}: {text}"),
        };
        let done = if self.done.is_empty() { DONE.holds(status) } else { any(&self.done, status) };
        if done && is_page(answer) {
            // Whoever is not signed in gets a page in place of data, on some forges with a status as if all were well.
            return Outcome::Again(format!("the forge answered {status} with a page for people, of which nothing can be read"));
        }
        match status {
            _ if done => Outcome::Done,
            _ if any(&self.gone, status) => Outcome::Gone(told()),
            _ if any(&AGAIN, status) || any(&self.again, status) => Outcome::Again(told()),
            300..=399 => {
                let to = answer.headers.get("location").map(|to| format!(" to {}", shortened(to))).unwrap_or_default();
                Outcome::Refused(format!(
                    "the forge answered {status} and redirects{to}; redirects are not followed: name the address that answers"
                ))
            }
            _ => Outcome::Refused(told()),
        }
    }

    /// What the made thing is called; none where the profile does not say where that stands, or it is not there.
    pub fn made(&self, body: &Value) -> Option<String> {
        body.pointer(self.id.as_deref()?).and_then(text_of)
    }

    fn items<'v>(&self, body: &'v Value) -> Option<&'v Vec<Value>> {
        body.pointer(self.items.as_deref().unwrap_or_default())?.as_array()
    }

    /// The proposals of a page. None where the list is not there.
    pub fn offers(&self, body: &Value) -> Option<Vec<Result<Offer, Miss>>> {
        self.each(body, Pattern::offer)
    }

    /// The words on a proposal. None where the list is not there.
    pub fn reviews(&self, body: &Value) -> Option<Vec<Result<Review, Miss>>> {
        self.each(body, Pattern::review)
    }

    /// The repositories of a page. None where the list is not there.
    pub fn repositories(&self, body: &Value) -> Option<Vec<Result<Hosted, Miss>>> {
        self.each(body, Pattern::hosted)
    }

    /// One proposal, of an answer that is no list.
    pub fn offer(&self, body: &Value) -> Option<Result<Offer, Miss>> {
        let item = body.pointer(self.items.as_deref().unwrap_or_default())?;
        Some(self.item.as_ref()?.offer(&Part { headers: &BTreeMap::new(), whole: body, item }))
    }

    fn each<T>(&self, body: &Value, read: impl Fn(&Pattern, &Part<'_>) -> Result<T, Miss>) -> Option<Vec<Result<T, Miss>>> {
        let (headers, item) = (BTreeMap::new(), self.item.as_ref()?);
        Some(self.items(body)?.iter().map(|one| read(item, &Part { headers: &headers, whole: body, item: one })).collect())
    }

    /// The address of the list's next page.
    pub fn next(&self, headers: &BTreeMap<String, String>, body: &Value) -> Option<String> {
        let found = match self.next.as_ref()? {
            Page::At(pointer) => body.pointer(pointer).and_then(text_of),
            Page::Link => next_by_link(headers.get("link")?),
        };
        found.filter(|address| !address.is_empty())
    }
}

/// The address with `rel="next"` of a `Link` header (RFC 8288).
pub fn next_by_link(header: &str) -> Option<String> {
    let mut rest = header;
    while let Some(start) = rest.find('<') {
        let (address, after) = rest[start + 1..].split_once('>')?;
        let end = after.find('<').unwrap_or(after.len());
        let is_next = after[..end].split([';', ',']).any(|part| {
            let value = part.trim().strip_prefix("rel=").unwrap_or_default().trim_matches('"');
            value.split(' ').any(|word| word.eq_ignore_ascii_case("next"))
        });
        if is_next {
            return Some(address.to_owned());
        }
        rest = &after[end..];
    }
    None
}

fn is_page(answer: &Answer<'_>) -> bool {
    let told = answer.headers.get("content-type").is_some_and(|kind| kind.starts_with("text/html"));
    let start: String = String::from_utf8_lossy(&answer.body[..answer.body.len().min(200)]).trim_start().to_lowercase();
    told || start.starts_with("<!doctype html") || start.starts_with("<html")
}

/// What a forge said, short enough for a sentence.
fn told(body: &[u8]) -> String {
    let text = String::from_utf8_lossy(&body[..body.len().min(2_000)]).into_owned();
    if text.trim_start().starts_with('<') {
        return "a page for people".into();
    }
    shortened(&text.split_whitespace().collect::<Vec<_>>().join(" "))
}

fn shortened(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(200).collect()
}
