//! What reading XML from elsewhere has in common: no document types, no entities but XML's own, no endless nesting.

use super::error::{DEEPEST, ReportError};
use quick_xml::events::{BytesRef, BytesStart, Event};
use std::borrow::Cow;

/// What a report's text consists of, as far as reports need it.
pub(super) enum Part<'a> {
    /// An element begins; the second says whether it holds anything.
    Begin(BytesStart<'a>, bool),
    End,
    Text(Cow<'a, str>),
    Nothing,
    Eof,
}

/// The next part, as far as it is to be read.
pub(super) fn part<'a>(reader: &mut quick_xml::Reader<&'a [u8]>, depth: usize) -> Result<Part<'a>, ReportError> {
    let form = |error: quick_xml::Error| ReportError::Form(error.to_string());
    Ok(match reader.read_event().map_err(form)? {
        Event::Eof if depth > 0 => return Err(ReportError::Form("it ends within an element".into())),
        Event::Eof => Part::Eof,
        Event::DocType(_) => return Err(ReportError::DocumentType),
        Event::Start(_) if depth >= DEEPEST => return Err(ReportError::TooDeep),
        Event::Start(element) => Part::Begin(element, true),
        Event::Empty(element) => Part::Begin(element, false),
        Event::End(_) => Part::End,
        Event::Text(text) => Part::Text(text.into_inner()),
        Event::CData(text) => Part::Text(text.into_inner()),
        Event::GeneralRef(reference) => Part::Text(Cow::Owned(resolved(&reference)?)),
        _ => Part::Nothing,
    })
}

fn resolved(reference: &BytesRef<'_>) -> Result<String, ReportError> {
    let name: &str = reference;
    if let Ok(Some(letter)) = reference.resolve_char_ref() {
        return Ok(letter.to_string());
    }
    match quick_xml::escape::resolve_predefined_entity(name) {
        Some(text) => Ok(text.to_owned()),
        None => Err(ReportError::Entity(name.chars().take(40).collect())),
    }
}

/// A value as it was meant.
pub(super) fn unescaped(value: &str) -> Result<String, ReportError> {
    if !value.contains('&') {
        return Ok(value.to_owned());
    }
    match quick_xml::escape::unescape(value) {
        Ok(text) => Ok(text.into_owned()),
        Err(error) => Err(ReportError::Entity(error.to_string().chars().take(40).collect())),
    }
}
