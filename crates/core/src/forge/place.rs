//! Where a value stands in a delivery, and conditions on such values.

use super::part::Part;
use super::text::Text;
use serde_json::Value;

/// One place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spot {
    pub from: From,
    /// A JSON Pointer (RFC 6901), or a header's name.
    pub name: String,
}

/// What a place is looked for in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// The item of `each`; the whole body where there is no `each`.
    Item,
    /// The whole body, whatever `each` says.
    Whole,
    Header,
}

/// Where a field's value comes from. `line` is the profile's, counted from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    pub line: usize,
    pub holds: Holds,
}

/// What a [`Field`] is filled from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Holds {
    /// The first of these that is there.
    First(Vec<Spot>),
    /// Pointers between braces, joined with what stands around them.
    Joined(Text),
    /// True or false: whether a condition holds.
    Told(Condition),
}

/// What must hold of one place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Condition {
    pub spot: Spot,
    pub test: Test,
}

/// How a place's value is looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Test {
    /// One of these.
    Is(Vec<String>),
    /// None of these; a place that is not there counts as none of them.
    IsNot(Vec<String>),
    Begins(String),
    /// There, and not null.
    There(bool),
    /// Another value than this place's.
    Differs(Spot),
}

/// A value as text: strings, numbers, true and false. Null, lists and tables are none.
pub(super) fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(flag) => Some(flag.to_string()),
        Value::Null | Value::Array(_) | Value::Object(_) => None,
    }
}

impl Spot {
    /// The text that stands there.
    pub(super) fn text(&self, part: &Part<'_>) -> Option<String> {
        match self.from {
            From::Header => part.header(&self.name),
            From::Item => part.item.pointer(&self.name).and_then(text_of),
            From::Whole => part.whole.pointer(&self.name).and_then(text_of),
        }
    }

    fn is_there(&self, part: &Part<'_>) -> bool {
        let in_body = |body: &Value| body.pointer(&self.name).is_some_and(|value| !value.is_null());
        match self.from {
            From::Header => part.header(&self.name).is_some(),
            From::Item => in_body(part.item),
            From::Whole => in_body(part.whole),
        }
    }

    /// As the profile writes it.
    pub(super) fn words(&self) -> String {
        match self.from {
            From::Header => format!("header {}", self.name),
            From::Item | From::Whole => self.name.clone(),
        }
    }
}

impl Condition {
    /// What stands there in place of what is wanted.
    pub(super) fn unmet(&self, part: &Part<'_>) -> String {
        let there =
            self.spot.text(part).map_or_else(|| "nothing".to_owned(), |text| format!("`{}`", text.chars().take(60).collect::<String>()));
        let wanted = match &self.test {
            Test::Is(words) => format!("`{}` is wanted", words.join("` or `")),
            Test::IsNot(words) => format!("anything but `{}` is wanted", words.join("` and `")),
            Test::Begins(start) => format!("it should begin with `{start}`"),
            Test::There(true) => "something is wanted".to_owned(),
            Test::There(false) => "nothing is wanted".to_owned(),
            Test::Differs(other) => format!("another value than that of {} is wanted", other.words()),
        };
        format!("at {} stands {there}, and {wanted}", self.spot.words())
    }

    /// Whether it holds of a delivery.
    pub(super) fn holds(&self, part: &Part<'_>) -> bool {
        let text = self.spot.text(part);
        match &self.test {
            Test::Is(words) => text.is_some_and(|text| words.contains(&text)),
            Test::IsNot(words) => text.is_none_or(|text| !words.contains(&text)),
            Test::Begins(start) => text.is_some_and(|text| text.starts_with(start)),
            Test::There(wanted) => self.spot.is_there(part) == *wanted,
            Test::Differs(other) => text != other.text(part),
        }
    }
}

impl Condition {
    /// Whether it holds, where that is known: of a value that is not there only that it is not there can be told. What comes
    /// from nobody knows where must not count as coming from inside.
    fn told(&self, part: &Part<'_>) -> Option<bool> {
        let known = match &self.test {
            Test::There(_) => true,
            Test::Differs(other) => self.spot.is_there(part) && other.is_there(part),
            Test::Is(_) | Test::IsNot(_) | Test::Begins(_) => self.spot.is_there(part),
        };
        known.then(|| self.holds(part))
    }
}

impl Field {
    /// The value; none where no place has one.
    pub(super) fn text(&self, part: &Part<'_>) -> Option<String> {
        match &self.holds {
            Holds::First(spots) => spots.iter().find_map(|spot| spot.text(part)),
            Holds::Joined(text) => text.fill(|name| spot_of(name).text(part)).ok(),
            Holds::Told(condition) => condition.told(part).map(|told| told.to_string()),
        }
    }

    /// True or false; none where the place holds neither.
    pub(super) fn flag(&self, part: &Part<'_>) -> Option<bool> {
        self.text(part)?.parse().ok()
    }

    /// Where it was looked for, as the profile writes it.
    pub(super) fn words(&self) -> String {
        match &self.holds {
            Holds::First(spots) => spots.iter().map(Spot::words).collect::<Vec<_>>().join(" or "),
            Holds::Joined(text) => text.names().map(|name| spot_of(name).words()).collect::<Vec<_>>().join(" and "),
            Holds::Told(condition) => condition.spot.words(),
        }
    }
}

/// The place that stands between a text's braces: a pointer, or `header.NAME`.
pub(super) fn spot_of(name: &str) -> Spot {
    match name.strip_prefix("header.") {
        Some(header) => Spot { from: From::Header, name: header.to_owned() },
        None => Spot { from: From::Item, name: name.to_owned() },
    }
}
