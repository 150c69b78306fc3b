//! Moments, and how a person reads them.

use super::Millis;

/// Writes a moment for a person; given by the caller, who knows the time zone.
pub type Clock<'c> = &'c dyn Fn(Millis) -> String;
