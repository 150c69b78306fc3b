//! Options that every command takes.

use clap::Args;

#[derive(Args, Clone)]
pub(crate) struct Global {
    /// The service's address; else what `sign-in` keeps
    #[arg(long, global = true, help_heading = "Options of every command", env = "ORDOTAXIS_URL")]
    pub(crate) url: Option<String>,
    /// Your token; else what `sign-in` keeps
    #[arg(long, global = true, help_heading = "Options of every command", env = "ORDOTAXIS_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    /// Print JSON
    #[arg(long, global = true, help_heading = "Options of every command")]
    pub(crate) json: bool,
    /// Print without colour (also with NO_COLOR set)
    #[arg(long, global = true, help_heading = "Options of every command")]
    pub(crate) no_color: bool,
    /// Letters in place of the state symbols
    #[arg(long, global = true, help_heading = "Options of every command")]
    pub(crate) ascii: bool,
    /// Print only what was asked for
    #[arg(short, long, global = true, help_heading = "Options of every command")]
    pub(crate) quiet: bool,
}
