//! The core against plain reference models, through its public functions only.

mod cells;
mod conditions;
mod diagnostics;
mod endings;
mod engine;
mod garbage;
mod guides;
mod model;
mod mutated;
mod orders;
mod patterns;
mod planning;
mod queueing;
mod returns;
mod sharing;
mod starts;
