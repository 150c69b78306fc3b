//! How steps are fenced in, as an option says it.

use clap::ValueEnum;

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum IsolationChoice {
    Sandbox,
    Host,
    Container,
}
