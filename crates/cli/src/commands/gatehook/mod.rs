//! `gatehook`: hooks of a plain git server. `pre-receive` asks the service whether a push may go on; `post-receive` tells of
//! the push, and remembers what it could not tell until the next time.

mod call;
mod kept;
mod lines;

use crate::failure::{Done, Failure, OK};
use crate::global::Global;
use crate::written;
use call::{Caller, NotAsked};
use clap::{Args, Subcommand, ValueEnum};
use kept::Kept;
use ordotaxis_core::notice::webhook_key;
use ordotaxis_wire::gate::Asked;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Subcommand)]
pub(crate) enum GatehookCommand {
    /// Ask whether a push may go on: git's hook of this name runs it
    PreReceive {
        #[command(flatten)]
        place: Place,
        /// What becomes of a push when the service cannot be asked
        #[arg(long, value_enum, default_value_t = WhenAway::Refuse)]
        when_away: WhenAway,
    },
    /// Tell of a push: git's hook of this name runs it
    PostReceive {
        #[command(flatten)]
        place: Place,
        /// Where what could not be told is remembered; beside the repository when absent
        #[arg(long)]
        keep: Option<PathBuf>,
    },
}

/// Which project, and what proves that the server speaks for it.
#[derive(Args)]
pub(crate) struct Place {
    /// The project; the repository's own name when absent
    #[arg(long)]
    project: Option<String>,
    /// A file that holds the project's hook secret, and that only the server's user can read
    #[arg(long)]
    secret_file: PathBuf,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum WhenAway {
    /// The push is refused, with a sentence
    Refuse,
    /// It goes on
    LetThrough,
}

pub(super) async fn gatehook(command: GatehookCommand, global: &Global) -> Done {
    match command {
        GatehookCommand::PreReceive { place, when_away } => pre_receive(&place, when_away, global).await,
        GatehookCommand::PostReceive { place, keep } => post_receive(&place, keep, global).await,
    }
}

impl Place {
    fn caller(&self, global: &Global) -> Result<Caller, Failure> {
        let url = global.url.clone().ok_or_else(|| Failure::new(2, "the hook does not say where the service is", "add --url"))?;
        let path = self.secret_file.display();
        let text = std::fs::read_to_string(&self.secret_file).map_err(|error| {
            Failure::new(2, format!("the secret could not be read from {path}: {error}"), "name the right --secret-file")
        })?;
        let key = webhook_key(&text).ok_or_else(|| {
            let hint = "put into it what `ordotaxis hook secret PROJECT` prints, and nothing else";
            Failure::new(2, format!("{path} holds no hook secret"), hint)
        })?;
        let project = self.project.clone().or_else(lines::repository_name);
        let project = project.ok_or_else(|| Failure::new(2, "the hook does not know which project it is for", "add --project"))?;
        Caller::new(&url, &project, key)
    }
}

/// What git hands a hook on standard input.
fn push() -> Result<Asked, Failure> {
    let text = std::io::read_to_string(std::io::stdin())
        .map_err(|error| Failure::new(2, format!("what is pushed could not be read: {error}"), "let git run this as its hook"))?;
    lines::push(&text).ok_or_else(|| Failure::new(2, "what is pushed is not what git hands a hook", "let git run this as its hook"))
}

async fn pre_receive(place: &Place, when_away: WhenAway, global: &Global) -> Done {
    let asked = push()?;
    // Tags and other refs have no queue: nobody need be asked.
    if !asked.moved.iter().any(|moved| moved.name.starts_with("refs/heads/")) {
        return OK;
    }
    match place.caller(global)?.ask(&asked).await {
        Ok(refused) if refused.is_empty() => OK,
        Ok(refused) => {
            refused.iter().for_each(|one| written::aside(&format!("ordotaxis: {}\n", crate::out::tame(&one.why))));
            Ok(ExitCode::from(1))
        }
        Err(NotAsked::Away(why)) if when_away == WhenAway::LetThrough => {
            written::aside(&format!("ordotaxis: the service could not be asked ({why}); the push goes on\n"));
            OK
        }
        Err(NotAsked::Away(why)) => {
            written::aside(&format!(
                "ordotaxis: the service could not be asked whether this may be pushed ({why}); try again in a moment\n"
            ));
            Ok(ExitCode::from(1))
        }
        Err(NotAsked::Refused(why)) => {
            written::aside(&format!("ordotaxis: the service does not take this server's word: {why}\n"));
            Ok(ExitCode::from(1))
        }
    }
}

/// A push that has happened is told, or remembered: it is never undone because of that.
async fn post_receive(place: &Place, keep: Option<PathBuf>, global: &Global) -> Done {
    let kept = Kept::at(keep.unwrap_or_else(|| lines::repository().join("ordotaxis-untold")))?;
    let mut push = push()?;
    // The service's own notes come by here, too: they are no news.
    push.moved.retain(|moved| moved.name.starts_with("refs/heads/") || moved.name.starts_with("refs/tags/"));
    if !push.moved.is_empty() {
        kept.add(&push)?;
    }
    let caller = place.caller(global)?;
    let left = kept.tell(|id, body| caller.tell(id, body)).await?;
    if let Some((count, why)) = left {
        written::aside(&format!(
            "ordotaxis: the push stands; the service could not be told of {count} ({why}), and is told with the next\n"
        ));
    }
    OK
}
