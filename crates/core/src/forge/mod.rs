//! A forge's dialect as data: a profile says where things stand in what a forge sends, how that is signed, and which
//! requests the forge takes. Text → [`Profile`], with every mistake told as those of pipelines are; a delivery and a
//! profile → [`Event`]s; a request of the profile and values → a [`Call`]; the forge's answer → an [`Outcome`].
//!
//! To add a word to profiles: its key in `keys`, its field in the type, its reading in `read`.

mod address;
mod comment;
mod event;
mod hook;
mod keys;
mod part;
mod pattern;
mod place;
mod profile;
mod read;
mod request;
mod spoken;
mod text;

pub use comment::{ANSWERS, Answered, Comment, Failure, Grown, Ran};
pub use event::{Event, Hosted, Offer, Review, short};
pub use hook::{Delivery, NoBody, Reading};
pub use pattern::{Miss, Pattern};
pub use place::{Condition, Field, From, Holds, Spot};
pub use profile::{Body, Hash, Profile, Signature, Written};
pub use read::{profile, schema};
pub use request::{Answer, Call, Kind, NotFilled, Outcome, Page, Payload, Request, next_by_link};
pub use spoken::{CALL, Command, SPOKEN, Spoken, spoken};
pub use text::Text;
