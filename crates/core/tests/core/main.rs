//! The core against plain reference models, through its public functions only.

mod cells;
mod conditions;
mod diagnostics;
mod digests;
mod endings;
mod engine;
mod facts;
mod forge;
mod garbage;
mod guides;
mod landing;
mod model;
mod mutated;
mod occasions;
mod orders;
mod patterns;
mod planning;
mod queueing;
mod reports;
mod returns;
mod rules;
mod settings;
mod sharing;
mod starts;
