//! Where a secret or a connection goes, as options say it.

use ordotaxis_wire::secret::ReachAsk;

/// Where a secret or a connection goes; the main branch and tags when nothing is said.
#[derive(clap::Args)]
pub(crate) struct ReachOptions {
    /// To runs of branches that fit this glob; of a proposal the branch counts that it comes from
    #[arg(long, value_name = "GLOB")]
    branch: Vec<String>,
    /// To runs of tags that fit this glob
    #[arg(long, value_name = "GLOB")]
    tag: Vec<String>,
    /// Only to this pipeline, and to others named so
    #[arg(long, value_name = "NAME")]
    pipeline: Vec<String>,
}

impl From<ReachOptions> for ReachAsk {
    fn from(options: ReachOptions) -> ReachAsk {
        let some = |globs: Vec<String>| if globs.is_empty() { None } else { Some(globs) };
        ReachAsk { branches: some(options.branch), tags: some(options.tag), pipelines: some(options.pipeline) }
    }
}
