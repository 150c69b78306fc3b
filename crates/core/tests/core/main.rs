//! The core against plain reference models, through its public functions only.

mod diagnostics;
mod engine;
mod garbage;
mod guides;
mod model;
mod orders;
mod planning;
