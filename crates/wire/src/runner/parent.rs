//! Where something belongs in a trace, in the form of W3C Trace Context: `00-TRACE-SPAN-01`.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// So many phases of one attempt have spans of their own: their ids are the attempt's and the numbers after it.
pub const PHASES: u64 = 1 << 12;

/// A span, and its trace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parent {
    pub trace: [u8; 16],
    pub span: u64,
}

impl Parent {
    /// The span of an attempt's phase, counted from 0, where this is the attempt's. None: it has none of its own.
    pub fn of_phase(self, phase: usize) -> Option<Parent> {
        let number = u64::try_from(phase).ok()?.checked_add(1).filter(|number| *number < PHASES)?;
        Some(Parent { span: self.span.checked_add(number)?, ..self })
    }
}

/// What cannot be read as a place in a trace.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NoParent;

impl fmt::Display for NoParent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "it is no place in a trace: 00-TRACE-SPAN-01")
    }
}

impl fmt::Display for Parent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "00-{:032x}-{:016x}-01", u128::from_be_bytes(self.trace), self.span)
    }
}

impl FromStr for Parent {
    type Err = NoParent;

    fn from_str(text: &str) -> Result<Parent, NoParent> {
        let parts: Vec<&str> = text.split('-').collect();
        let &[_, trace, span, _] = parts.as_slice() else { return Err(NoParent) };
        let whole = trace.len() == 32 && span.len() == 16 && trace.bytes().chain(span.bytes()).all(|byte| byte.is_ascii_hexdigit());
        let trace = u128::from_str_radix(trace, 16).map_err(|_| NoParent)?.to_be_bytes();
        let span = u64::from_str_radix(span, 16).map_err(|_| NoParent)?;
        if whole { Ok(Parent { trace, span }) } else { Err(NoParent) }
    }
}

impl Serialize for Parent {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Parent {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Parent, D::Error> {
        String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_written_as_it_is_read() {
        let parent = Parent { trace: [7; 16], span: 0x00ab_cdef_0123_4000 };
        let text = "00-07070707070707070707070707070707-00abcdef01234000-01";
        assert_eq!((parent.to_string().as_str(), text.parse()), (text, Ok(parent)));
        assert_eq!(
            parent.of_phase(2).map(|phase| phase.to_string()).as_deref(),
            Some("00-07070707070707070707070707070707-00abcdef01234003-01")
        );
        assert_eq!(parent.of_phase(5_000), None);
        assert_eq!(Parent { span: u64::MAX, ..parent }.of_phase(0), None);
        for bad in [
            "",
            "00-07-00-01",
            "00-+7070707070707070707070707070707-00abcdef01234000-01",
            "00-07070707070707070707070707070707-00abcdef01234000",
        ] {
            assert_eq!(bad.parse::<Parent>(), Err(NoParent), "{bad}");
        }
    }
}
