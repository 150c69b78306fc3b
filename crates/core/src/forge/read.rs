//! A profile's text → [`Profile`]. What does not fit the table of keys is noted by the table; here is what only a second
//! look finds: names that no request fills, a condition without a test.

use super::address::names_of_address;
use super::keys;
use super::pattern::Pattern;
use super::place::{Condition, Field, From, Holds, Spot, Test};
use super::profile::{Body, Hash, Profile, Signature, Written};
use super::request::{EVERYWHERE, Kind, Page, Payload, Request, Statuses, Tree};
use super::text::Text;
use crate::engine::State;
use crate::language::reader::{self, Reader, Value};
use crate::language::shape::Place;
use crate::language::{Code, Diagnostic, FILE_LIMIT, Lines, Span, document, has_errors};
use indexmap::IndexMap;
use std::collections::BTreeMap;
use toml::de::{DeTable, DeValue};

/// The events of a profile, with the fields of each.
const EVENTS: [(&str, &[&str]); 8] = [
    ("hook.push", &["branch", "commit", "before", "by"]),
    ("hook.tag", &["tag", "commit", "by"]),
    ("hook.gone", &["name", "tag", "by"]),
    ("hook.proposal", OFFER),
    ("hook.closed", &["number", "by"]),
    ("hook.landed", &["number", "commit", "by"]),
    ("hook.comment", &["number", "text", "by"]),
    ("hook.review", &["number", "by", "approves", "refuses", "commit"]),
];
const OFFER: &[&str] = &["number", "title", "target", "source", "commit", "outside", "draft", "open", "by", "link"];

/// Reads a profile's text. None where a diagnostic is an error.
pub fn profile(text: &str) -> (Option<Profile>, Vec<Diagnostic>) {
    if text.len() > FILE_LIMIT {
        let message = format!("the file is {} bytes long; at most {FILE_LIMIT} are read", text.len());
        return (None, vec![Diagnostic::error(Code::Limit, 0..0, message)]);
    }
    let (profile, diagnostics) = document::read(text, |reader, table| {
        reader.fits_table(table, keys::FILE, Place::Fixed("the profile"), 0..0);
        Reading { reader, lines: Lines::new(text) }.file(table)
    });
    (Some(profile).filter(|_| !has_errors(&diagnostics)), diagnostics)
}

/// Profiles as JSON Schema, for editors.
pub fn schema() -> serde_json::Value {
    let schema = crate::language::schema::of_file("urn:ordotaxis:profile:1", "Ordotaxis forge profile, version 1", keys::FILE);
    serde_json::Value::Object(schema)
}

struct Reading<'r, 't, 'l> {
    reader: &'r mut Reader<'t>,
    lines: Lines<'l>,
}

impl Reading<'_, '_, '_> {
    fn error(&mut self, span: Span, message: impl Into<String>, hint: impl Into<String>) {
        self.reader.note(Diagnostic::error(Code::BadValue, span, message).hint(hint));
    }

    fn line(&self, span: &Span) -> usize {
        self.lines.position(span.start).0
    }

    fn file(&mut self, table: &DeTable<'_>) -> Profile {
        let hook = table.get("hook").and_then(reader::table);
        let mut profile = Profile {
            signature: hook.and_then(|hook| self.signature(hook.get("signature")?)).unwrap_or(Signature::StandardWebhooks),
            body: hook.and_then(|hook| hook.get("body")).map_or(Body::Json, body),
            id: hook.and_then(|hook| self.field(hook.get("id")?)),
            events: Vec::new(),
            requests: BTreeMap::new(),
            words: IndexMap::new(),
        };
        for (key, value) in hook.into_iter().flatten() {
            let known = EVENTS.iter().find(|(event, _)| event.strip_prefix("hook.") == Some(key.get_ref().as_ref()));
            if let (Some((event, fields)), Some(table)) = (known, reader::table(value)) {
                profile.events.push(self.pattern(event, fields, table, &key.span()));
            }
        }
        if let Some(before) = table.get("status").and_then(reader::table) {
            let words = before.get("words").and_then(reader::table);
            profile.words.extend(words.map(|words| self.words(words)).unwrap_or_default());
            let request = self.request(Kind::Status, before, &table.get("status").map_or(0..0, Value::span));
            profile.requests.insert(Kind::Status, request);
        }
        for (key, value) in table.get("request").and_then(reader::table).into_iter().flatten() {
            let kind = Kind::ALL.into_iter().find(|kind| kind.word() == key.get_ref().as_ref());
            if let (Some(kind), Some(table)) = (kind, reader::table(value)) {
                profile.requests.insert(kind, self.request(kind, table, &key.span()));
            }
        }
        if let Some(words) = table.get("words").and_then(reader::table) {
            profile.words.extend(self.words(words));
        }
        profile
    }

    fn words(&mut self, table: &DeTable<'_>) -> IndexMap<String, String> {
        for (key, _) in table {
            let state: &str = key.get_ref();
            if !State::ALL.iter().any(|known| known.word() == state) {
                let told = Diagnostic::error(Code::UnknownKey, key.span(), format!("there is no state `{state}`"));
                self.reader.note(told.nearest(state, State::ALL.iter().map(|known| known.word())));
            }
        }
        table.iter().filter_map(|(key, value)| Some((key.get_ref().to_string(), reader::string(value)?))).collect()
    }

    fn signature(&mut self, value: &Value<'_>) -> Option<Signature> {
        let Some(table) = reader::table(value) else { return Some(Signature::StandardWebhooks) };
        let text = |key: &str| table.get(key).and_then(reader::string);
        let way = text("way")?;
        if way == "standard-webhooks" {
            return Some(Signature::StandardWebhooks);
        }
        let Some(header) = text("header") else {
            self.error(value.span(), format!("a signature by `{way}` names no header"), "say where it stands: header = \"x-…\"");
            return None;
        };
        if way == "token" {
            return Some(Signature::Token { header });
        }
        let over = match table.get("over") {
            Some(over) => self.over(over)?,
            None => Text::parse("{body}").ok()?,
        };
        Some(Signature::Hmac {
            hash: if text("hash").as_deref() == Some("sha512") { Hash::Sha512 } else { Hash::Sha256 },
            header,
            prefix: text("prefix").unwrap_or_default(),
            written: if text("written").as_deref() == Some("base64") { Written::Base64 } else { Written::Hex },
            over,
        })
    }

    /// What is signed. Without the body in it, a signature would say nothing about what came.
    fn over(&mut self, value: &Value<'_>) -> Option<Text> {
        let text = self.text(value)?;
        let odd = text.names().find(|name| *name != "body" && !name.starts_with("header.")).map(str::to_owned);
        if let Some(odd) = odd {
            self.error(value.span(), format!("{{{odd}}} cannot be signed"), "write {body}, and {header.NAME} for a header");
        } else if !text.names().any(|name| name == "body") {
            self.error(value.span(), "the body is not part of what is signed", "put {body} into it");
        }
        Some(text)
    }

    fn text(&mut self, value: &Value<'_>) -> Option<Text> {
        let parsed = Text::parse(&reader::string(value)?);
        if parsed.is_err() {
            self.error(value.span(), "a brace is not closed", "write {{ for a brace that is meant as one");
        }
        parsed.ok()
    }

    fn pattern(&mut self, of: &'static str, names: &[&'static str], table: &DeTable<'_>, span: &Span) -> Pattern {
        let when = match table.get("when") {
            None => Vec::new(),
            Some(value) if reader::table(value).is_some() => self.condition(value).into_iter().collect(),
            Some(value) => reader::items(value).iter().filter_map(|item| self.condition(item)).collect(),
        };
        let fields = names.iter().filter_map(|name| Some((*name, self.field(table.get(*name)?)?))).collect();
        Pattern { table: of, line: self.line(span), when, each: table.get("each").and_then(reader::string), fields }
    }

    fn condition(&mut self, value: &Value<'_>) -> Option<Condition> {
        let table = reader::table(value)?;
        let spot = spots(table);
        let text = |key: &str| table.get(key).and_then(reader::string);
        let words = |key: &str| {
            let value = table.get(key)?;
            Some(reader::string(value).map_or_else(|| reader::strings(value), |word| vec![word]))
        };
        let tests: Vec<Test> = [
            words("is").map(Test::Is),
            words("is_not").map(Test::IsNot),
            text("begins").map(Test::Begins),
            table.get("there").and_then(reader::flag).map(Test::There),
            text("differs").map(|name| Test::Differs(Spot { from: From::Item, name })),
        ]
        .into_iter()
        .flatten()
        .collect();
        match (<[Spot; 1]>::try_from(spot), <[Test; 1]>::try_from(tests)) {
            (Ok([spot]), Ok([test])) => Some(Condition { spot, test }),
            (Err(_), _) => {
                self.error(value.span(), "a condition looks at one place", "name one of `pointer`, `whole` and `header`");
                None
            }
            (_, Err(_)) => {
                self.error(value.span(), "a condition has one test", "name one of `is`, `is_not`, `begins`, `there` and `differs`");
                None
            }
        }
    }

    fn field(&mut self, value: &Value<'_>) -> Option<Field> {
        let line = self.line(&value.span());
        let at = |name: String| Spot { from: From::Item, name };
        let holds = match value.get_ref() {
            DeValue::String(pointer) => Holds::First(vec![at(pointer.to_string())]),
            DeValue::Array(_) => Holds::First(reader::strings(value).into_iter().map(at).collect()),
            DeValue::Boolean(flag) => {
                // True or false, whatever was sent.
                let spot = Spot { from: From::Whole, name: String::new() };
                Holds::Told(Condition { spot, test: Test::There(*flag) })
            }
            DeValue::Table(table) if TESTS.iter().any(|test| table.contains_key(*test)) => Holds::Told(self.condition(value)?),
            DeValue::Table(table) => {
                let mut found: Vec<Holds> = spots(table).into_iter().map(|spot| Holds::First(vec![spot])).collect();
                found.extend(table.get("first").map(|list| Holds::First(reader::strings(list).into_iter().map(at).collect())));
                if let Some(template) = table.get("template") {
                    found.push(Holds::Joined(self.text(template)?));
                }
                let Ok([holds]) = <[Holds; 1]>::try_from(found) else {
                    self.error(
                        value.span(),
                        "a field stands in one place",
                        "name one of `pointer`, `whole`, `header`, `first` and `template`",
                    );
                    return None;
                };
                holds
            }
            _ => return None,
        };
        Some(Field { line, holds })
    }

    fn request(&mut self, kind: Kind, table: &DeTable<'_>, span: &Span) -> Request {
        let text = |key: &str| table.get(key).and_then(reader::string);
        if let Some(address) = table.get("url") {
            self.address(kind, address);
        }
        let mut headers = IndexMap::new();
        for (key, value) in table.get("headers").and_then(reader::table).into_iter().flatten() {
            if let Some(text) = self.text(value) {
                self.known(kind, text.names().map(str::to_owned), &value.span());
                headers.insert(key.get_ref().to_lowercase(), text);
            }
        }
        let (of, names) = match kind {
            Kind::Reviews => ("request.reviews.item", &["by", "approves", "refuses", "commit"][..]),
            Kind::Repositories => ("request.repositories.item", &["name", "git"][..]),
            Kind::Proposal => ("request.proposal.item", OFFER),
            _ => ("request.proposals.item", OFFER),
        };
        let item = table.get("item").and_then(reader::table);
        let item = item.map(|item| self.pattern(of, names, item, &table.get("item").map_or(0..0, Value::span)));
        let statuses = |key: &str| table.get(key).map(reader::strings).unwrap_or_default();
        let read = |key: &str| statuses(key).iter().filter_map(|text| Statuses::parse(text)).collect::<Vec<_>>();
        let gone = if table.contains_key("gone") { read("gone") } else { ["404", "410"].into_iter().filter_map(Statuses::parse).collect() };
        Request {
            line: self.line(span),
            method: text("method").unwrap_or_default(),
            url: text("url").unwrap_or_default(),
            headers,
            payload: self.payload(kind, table),
            done: read("done"),
            gone,
            again: read("again"),
            id: text("id"),
            items: text("items"),
            next: table.get("next").and_then(|value| self.next(value)),
            item,
        }
    }

    /// A secret in an address ends in logs of every machine on the way.
    fn address(&mut self, kind: Kind, value: &Value<'_>) {
        let Some(text) = reader::string(value) else { return };
        if text.matches('{').count() != text.matches('}').count() {
            return self.error(value.span(), "a brace of the address is not closed", "an expression reads like {+url} or {commit}");
        }
        let names: Vec<String> = names_of_address(&text).into_iter().map(str::to_owned).collect();
        if let Some(secret) = names.iter().find(|name| matches!(name.as_str(), "token" | "basic")) {
            let hint = "put it into a header: headers = { authorization = \"Bearer {token}\" }";
            return self.error(value.span(), format!("{{{secret}}} must not stand in an address"), hint);
        }
        self.known(kind, names.into_iter(), &value.span());
    }

    fn known(&mut self, kind: Kind, names: impl Iterator<Item = String>, span: &Span) {
        // Which repository it is about is not known where they are listed.
        let everywhere = || EVERYWHERE.iter().filter(|name| kind != Kind::Repositories || **name != "repository");
        let known = || everywhere().chain(kind.values()).copied();
        for name in names.filter(|name| !known().any(|known| known == name)) {
            let message = format!("[request.{}] has no value {{{name}}}", kind.word());
            let told = Diagnostic::error(Code::Placeholder, span.clone(), message);
            let told = told.hint(format!("it has {}", known().map(|name| format!("{{{name}}}")).collect::<Vec<_>>().join(", ")));
            self.reader.note(told);
        }
    }

    fn payload(&mut self, kind: Kind, table: &DeTable<'_>) -> Payload<Tree, Text> {
        let (body, form) = (table.get("body"), table.get("form"));
        if let (Some(body), Some(_)) = (body, form) {
            self.error(body.span(), "a request has a JSON body or a form", "take one of `body` and `form` away");
        }
        if let Some(body) = body.filter(|body| reader::table(body).is_some()) {
            let Some(tree) = self.tree(body) else { return Payload::None };
            self.known(kind, tree.names().into_iter().map(str::to_owned).collect::<Vec<_>>().into_iter(), &body.span());
            return Payload::Json(tree);
        }
        let Some(form) = form.and_then(reader::table) else { return Payload::None };
        let mut fields = Vec::new();
        for (key, value) in form {
            if let Some(text) = self.text(value) {
                self.known(kind, text.names().map(str::to_owned), &value.span());
                fields.push((key.get_ref().to_string(), text));
            }
        }
        Payload::Form(fields)
    }

    fn tree(&mut self, value: &Value<'_>) -> Option<Tree> {
        Some(match value.get_ref() {
            DeValue::String(_) => {
                let text = self.text(value)?;
                match text.only_name().and_then(|name| name.strip_prefix('=')) {
                    Some(name) => Tree::Value(name.to_owned()),
                    None => Tree::Text(text),
                }
            }
            DeValue::Array(items) => Tree::List(items.iter().filter_map(|item| self.tree(item)).collect()),
            DeValue::Table(table) => {
                Tree::Table(table.iter().filter_map(|(key, value)| Some((key.get_ref().to_string(), self.tree(value)?))).collect())
            }
            DeValue::Boolean(flag) => Tree::Plain((*flag).into()),
            DeValue::Integer(number) => Tree::Plain(serde_json::from_str(&number.as_str().replace('_', "")).ok()?),
            DeValue::Float(number) => Tree::Plain(serde_json::from_str(&number.as_str().replace('_', "")).ok()?),
            DeValue::Datetime(date) => Tree::Plain(date.to_string().into()),
        })
    }

    fn next(&mut self, value: &Value<'_>) -> Option<Page> {
        match reader::string(value)? {
            link if link == "link" => Some(Page::Link),
            pointer if pointer.starts_with('/') => Some(Page::At(pointer)),
            other => {
                self.error(value.span(), format!("`next` cannot be `{other}`"), "write a pointer to the next page's address, or \"link\"");
                None
            }
        }
    }
}

const TESTS: [&str; 5] = ["is", "is_not", "begins", "there", "differs"];

fn body(value: &Value<'_>) -> Body {
    let field = reader::table(value).and_then(|table| table.get("form")).and_then(reader::string);
    match (field, reader::string(value).as_deref()) {
        (Some(field), _) => Body::FormField(field),
        (None, Some("form")) => Body::Form,
        _ => Body::Json,
    }
}

fn spots(table: &DeTable<'_>) -> Vec<Spot> {
    let from = [("pointer", From::Item), ("whole", From::Whole), ("header", From::Header)];
    from.into_iter().filter_map(|(key, from)| Some(Spot { from, name: table.get(key).and_then(reader::string)? })).collect()
}
