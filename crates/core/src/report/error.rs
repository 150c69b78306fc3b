//! Why a report is not read.

/// Why a report is not read. Its text completes the sentence "The report cannot be read: …".
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReportError {
    #[error("it is not well-formed XML: {0}")]
    Form(String),
    #[error("it declares a document type, which is not read: that could name other files")]
    DocumentType,
    #[error("it uses the entity `&{0};`, which XML does not know by itself")]
    Entity(String),
    #[error("its elements stand more than {deepest} deep in each other", deepest = DEEPEST)]
    TooDeep,
    #[error("it is not {0}")]
    Kind(&'static str),
    #[error("line {line}: {what}")]
    Line { line: usize, what: String },
    #[error("it is not JSON: {0}")]
    Json(String),
}

/// No test runner nests deeper than a handful.
pub(super) const DEEPEST: usize = 100;
