//! What happens to machines, and what is to be done.

use crate::engine::Millis;
use crate::language::Capacity;

/// A machine as its provider lists it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    pub name: String,
    /// It is not coming any more, or has ended.
    pub ended: bool,
    /// What the provider says of it.
    pub words: String,
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// The provider has it.
    Made {
        id: String,
        words: String,
    },
    /// The provider said no: there is no such machine.
    Refused {
        id: String,
        why: String,
    },
    /// It did not answer, or in a way that nobody understands: the machine may be there or not.
    Unclear {
        id: String,
        why: String,
    },
    /// What there is, as it was asked for at that time.
    Listed {
        pool: String,
        asked_at: Millis,
        machines: Vec<Listed>,
    },
    NotListed {
        pool: String,
        why: String,
    },
    /// The provider says that it removed it.
    Removed {
        pool: String,
        name: String,
    },
    NotRemoved {
        pool: String,
        name: String,
        why: String,
    },
    /// Its runner takes nothing more.
    Drained {
        id: String,
    },
    /// Its runner says that the machine is being taken away.
    TakenAway {
        id: String,
        why: String,
    },
    /// Somebody wants it removed, whatever it does.
    Remove {
        id: String,
        by: String,
    },
    /// Somebody wants to look at it until then; with none it is as any other again.
    Keep {
        id: String,
        until: Option<Millis>,
        by: String,
    },
}

/// What is to be done. Whatever of it comes to an end is told as an [`Event`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    /// Ask the provider for a machine of this name, once it is written down.
    Make { pool: String, id: String, capacity: Capacity, lasts: Millis },
    /// Ask it to remove one.
    Remove { pool: String, name: String },
    /// Ask it what there is.
    List { pool: String },
    /// Let its runner take nothing more.
    Drain { id: String, why: String },
    /// Let it take jobs again.
    Undrain { id: String },
    /// Its runner is none any more: what it holds is lost at once.
    EndRunner { id: String, why: String },
}
