//! What may be asked of a log.

/// Which log, and which of its lines.
#[derive(clap::Args)]
pub(crate) struct LogsOptions {
    pub(super) run: String,
    pub(super) job: String,
    /// Go on until the job ends
    #[arg(short = 'f', long)]
    pub(super) follow: bool,
    /// The newest when absent
    #[arg(long)]
    pub(super) attempt: Option<u32>,
    /// Only what this step printed
    #[arg(long)]
    pub(super) step: Option<String>,
    /// Only lines printed since then: a length of time before now (`5m`), or a moment (RFC 3339)
    #[arg(long)]
    pub(super) since: Option<String>,
    /// Only lines in which this regular expression is found
    #[arg(long, value_name = "PATTERN")]
    pub(super) grep: Option<String>,
    /// Put the time of each line before it
    #[arg(long)]
    pub(super) times: bool,
    /// The log of this helper in place of the job's own
    #[arg(long, value_name = "HELPER")]
    pub(super) beside: Option<String>,
}

/// How long one call of a follower is held by the service.
pub(super) const WAIT_MS: u32 = 20_000;
