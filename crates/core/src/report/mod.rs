//! Reports that jobs write: bytes → results. To add a kind, add a file that reads it, and its key to the language.

mod coverage;
mod difference;
mod error;
mod junit;
mod results;
mod sarif;
mod sbom;
mod tap;
mod xml;

pub use coverage::{cobertura_lines, lcov_lines};
pub use difference::{Difference, difference};
pub use error::ReportError;
pub use junit::{junit_cases, test_times};
pub use results::{Bill, BillForm, Case, CaseEnd, Component, Coverage, Finding, Level};
pub use sarif::sarif_findings;
pub use sbom::bill;
pub use tap::tap_cases;
