//! `order` lines: parsed by [`parse`], joined by [`StageGraph`] into which stage waits for which.
//!
//! ```text
//! line  = group *( ">" group )      a > b      everything in a ends before anything in b starts
//! group = item  *( "," item )       a, b       side by side
//! item  = NAME / "(" line ")"       (a > b), c
//! ```

mod parse;
mod stages;

pub use parse::{Item, Line, Mistake, parse};
pub use stages::{StageCircle, StageGraph};
