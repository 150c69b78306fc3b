//! Talk on proposals: the one comment that says how each is, and what people ask for in theirs.
//!
//! - `comment`: the comment, written and written anew;
//! - `landing`: where proposals stand on their way into their branches;
//! - `spoken`: commands in comments of others, done as the person who wrote them;
//! - `again`: runs of a proposal done once more.

mod again;
mod comment;
mod landing;
mod spoken;
mod wanted;

pub(crate) use comment::{gathered, newest_runs, write};
pub(crate) use landing::Landings;
pub(crate) use spoken::answer;
pub(crate) use wanted::{comment_anew, take_spoken};
