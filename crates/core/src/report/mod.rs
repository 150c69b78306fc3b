//! Reports that jobs write: bytes → results.

mod junit;

pub use junit::{JunitError, test_times};
