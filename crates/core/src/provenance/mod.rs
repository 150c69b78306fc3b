//! Where an artifact comes from, said so that it can be checked without this service: an in-toto statement with SLSA
//! provenance 1.0, in an envelope that is signed (DSSE 1.0).
//!
//! - `statement`: what is known of an artifact → the statement;
//! - `envelope`: the statement's bytes and who signed them.

mod envelope;
mod statement;

pub use envelope::{Envelope, PAYLOAD, Signature, Untrusted, to_sign};
pub use statement::{Made, Source, Taken, named, statement};
