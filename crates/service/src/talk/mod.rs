//! Talk on proposals: the one comment that says how each is, and what people ask for in theirs.
//!
//! - `comment`: the comment, written and written anew;
//! - `spoken`: commands in comments of others, done as the person who wrote them;
//! - `again`: runs of a proposal done once more.

mod again;
mod comment;
mod spoken;
mod wanted;

pub(crate) use comment::{gathered, landing, newest_runs, write};
pub(crate) use spoken::answer;
pub(crate) use wanted::{comment_anew, take_spoken};
