//! Packs that go between runner and storage without the service, where storage has addresses that it signs for that.

use serde::{Deserialize, Serialize};

/// Asks where a pack may be put.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct AskPut {
    /// The pack's length.
    pub bytes: u64,
}

/// The answer to [`AskPut`].
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PutPlace {
    /// False: this service's storage is reached by nobody else, so there is no need to ask again for a while.
    pub open: bool,
    /// Where to put it; none: send it to the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub put: Option<PackPut>,
}

/// Where a pack is to be put, by an HTTP PUT; it has to have just the length that was asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PackPut {
    /// By this the service is told that it is there.
    pub name: String,
    /// Is as good as a password for as long as it can be used.
    pub url: String,
}

/// Where the blocks of chunks can be read.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct ReadPlaces {
    /// As in [`PutPlace`].
    pub open: bool,
    /// In this order they are the blocks of a pack, without its beginning; none: ask the service for them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pieces: Option<Vec<PackPiece>>,
}

/// A part of a pack, to be read by an HTTP GET with `Range: bytes=FROM-LAST`.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct PackPiece {
    pub url: String,
    /// The first byte, counted from 0.
    pub from: u64,
    /// The last byte, which belongs to it.
    pub last: u64,
}
