//! What can go wrong with a machine.

use serde::{Deserialize, Serialize};

/// How it misbehaves from now on.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, clap::ValueEnum)]
#[serde(rename_all = "kebab-case")]
pub enum Trouble {
    /// Not at all
    #[default]
    None,
    /// It refuses what it is given
    Refuses,
    /// It takes two seconds to answer
    Slow,
    /// It ends what runs, writes half of what it is given, and breaks off
    Dies,
    /// It takes what it is given, and goes on with what it had
    Stays,
    /// It answers with a page of something else
    Page,
    /// It promises more of an answer than it sends
    Half,
    /// It does not answer
    Silent,
}
