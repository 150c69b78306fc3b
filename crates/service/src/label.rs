//! What labels and names of runners may be.

/// Letters, digits, `-`, `_` and `.`: nothing that means something to a terminal, a page or a query.
pub(crate) fn is_label(text: &str) -> bool {
    !text.is_empty() && text.len() <= 64 && text.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c))
}
