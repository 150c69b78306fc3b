//! Reads what branches and environments both have: approvals, and times of the week.

use super::{Approvals, Hours};
use crate::language::reader::{self, Reader, Value};
use crate::language::{Code, Diagnostic};
use std::str::FromStr;
use toml::de::DeTable;

pub(super) fn approvals(table: &DeTable<'_>) -> Option<Approvals> {
    Some(Approvals {
        of: usize::try_from(table.get("of").and_then(reader::number)?).ok()?,
        by: table.get("by").map(reader::strings).unwrap_or_default(),
        author: table.get("author").and_then(reader::flag).unwrap_or(false),
    })
}

pub(super) fn hours(notes: &mut Reader<'_>, value: &Value<'_>) -> Vec<Hours> {
    let mut read = Vec::new();
    let one = reader::text(value).into_iter();
    for one in one.chain(reader::texts(value)) {
        match Hours::from_str(&one.value) {
            Ok(one) => read.push(one),
            Err(why) => {
                let hint = "write \"Fri 16:00 - Mon 06:00 Europe/Oslo\", \"Mon-Fri 08:00-16:00\" or \"22:00-06:00\"";
                notes.note(Diagnostic::error(Code::BadValue, one.span, why.to_string()).hint(hint));
            }
        }
    }
    read
}
