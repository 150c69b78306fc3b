//! Machines that a program of the operator's makes: any cloud or hypervisor. It is asked one thing at a time; what it answers is
//! checked, and what it was asked stays out of every argument and log.

use super::asked::{Failed, Wanted};
use super::program::{program, run};
use super::protocol::{Answer, Asks, Join, NoAnswer, Question, VERSION};
use ordotaxis_core::language::Capacity;
use ordotaxis_core::pool::Listed;
use ordotaxis_store::Secret;
use ordotaxis_wire::pool::CommandSettings;
use serde_json::{Map, Value};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long one answer may take. The pool waits a little longer, so that it can say what happened.
const LIMIT: Duration = Duration::from_secs(55);
const LOOK: Duration = Duration::from_secs(18);

/// One pool's program.
pub(crate) struct Program {
    pool: String,
    path: Result<PathBuf, String>,
    settings: Map<String, Value>,
}

impl Program {
    /// Programs lie in one folder, which only the service's configuration names: whoever may set a pool chooses among those.
    pub(super) fn new(pool: &str, settings: Option<CommandSettings>, folder: Option<PathBuf>) -> Program {
        let CommandSettings { program, settings } =
            settings.unwrap_or_else(|| CommandSettings { program: String::new(), settings: Map::new() });
        let path = folder.map(|folder| folder.join(&program));
        let path = path.ok_or_else(|| "the service's configuration names no folder `pool_programs`".to_owned());
        Program { pool: pool.to_owned(), path, settings }
    }

    pub(super) async fn make(&self, wanted: &Wanted<'_>) -> Result<String, Failed> {
        let Capacity { cores, memory_mib, gpus } = wanted.capacity;
        let join = Join { url: wanted.url, machine: wanted.id, invitation: wanted.invitation.expose() };
        let asks = Asks::Make { name: wanted.id, cores, memory_mib, gpus, lasts_s: wanted.lasts / 1000, join };
        match self.ask(asks, LIMIT).await.and_then(Answer::made) {
            Ok(words) => Ok(words),
            Err(NoAnswer::Refused(why)) => Err(Failed::Refused(why)),
            Err(NoAnswer::Wrong(why)) => Err(Failed::Unclear(why)),
        }
    }

    pub(super) async fn list(&self) -> Result<Vec<Listed>, String> {
        self.ask(Asks::List, LOOK).await.and_then(Answer::listed).map_err(said)
    }

    pub(super) async fn remove(&self, name: &str) -> Result<(), String> {
        self.ask(Asks::Remove { name }, LIMIT).await.and_then(Answer::removed).map_err(said)
    }

    pub(super) async fn console(&self, name: &str) -> Result<String, String> {
        self.ask(Asks::Console { name }, LOOK).await.and_then(Answer::console).map_err(said)
    }

    async fn ask(&self, asks: Asks<'_>, limit: Duration) -> Result<Answer, NoAnswer> {
        let path = self.path.as_ref().map_err(|why| NoAnswer::Refused(why.clone()))?;
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let question = Question { version: VERSION, pool: &self.pool, settings: &self.settings, asks };
        let text = serde_json::to_vec(&question).map_err(|error| NoAnswer::Refused(error.to_string()))?;
        let ran = run(program(path), &text, limit).await.map_err(|why| NoAnswer::Wrong(format!("{name}: {why}")))?;
        if !ran.good && ran.output.is_empty() {
            return Err(NoAnswer::Wrong(format!("{name}: {}", ran.complaint)));
        }
        Answer::read(&ran.output).map_err(|wrong| match wrong {
            NoAnswer::Wrong(why) => NoAnswer::Wrong(format!("{name}: {why}")),
            refused @ NoAnswer::Refused(_) => refused,
        })
    }
}

fn said(none: NoAnswer) -> String {
    match none {
        NoAnswer::Refused(why) | NoAnswer::Wrong(why) => why,
    }
}

/// What a program does that it should not.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ProgramError(String);

/// Tries a program with a machine of a made-up name, which is removed again: each question once, and those twice that may be asked
/// twice. `tell` is called with each thing that was found good. The machine's invitation is worth nothing.
pub async fn try_program(path: &Path, settings: Map<String, Value>, mut tell: impl FnMut(&str)) -> Result<(), ProgramError> {
    let name = &format!("try-{:08x}", rand::random::<u32>());
    let own = Program { pool: "try".into(), path: Ok(path.to_owned()), settings };
    let invitation = Secret::random("oxi");
    let capacity = Capacity { cores: 1, memory_mib: 512, gpus: 0 };
    let wanted = Wanted { id: name, capacity, lasts: 3_600_000, url: "http://127.0.0.1:9", invitation: &invitation };
    let fail = |what: &str, why: String| ProgramError(format!("{what}: {why}"));
    let there = async |what: &str| -> Result<bool, ProgramError> {
        let listed = own.list().await.map_err(|why| fail(what, why))?;
        Ok(listed.iter().any(|one| one.name == *name && !one.ended))
    };
    if there("list").await? {
        return Err(ProgramError(format!("list: it names {name}, which was not made yet")));
    }
    tell("list: it answers");
    let tried = async {
        own.make(&wanted).await.map_err(|failed| fail("make", failed.words().to_owned()))?;
        tell("make: it answers");
        if !there("list after make").await? {
            return Err(ProgramError(format!("list after make: it does not name {name}")));
        }
        tell("list after make: the machine is there");
        own.make(&wanted).await.map_err(|failed| fail("make with the same name once more", failed.words().to_owned()))?;
        let listed = own.list().await.map_err(|why| fail("list", why))?;
        let count = listed.iter().filter(|one| one.name == *name && !one.ended).count();
        if count != 1 {
            return Err(ProgramError(format!("make with the same name once more: there are {count} of it now, and one was meant")));
        }
        tell("make with the same name once more: there is one");
        own.console(name).await.map_err(|why| fail("console", why))?;
        tell("console: it answers");
        Ok(())
    };
    let tried = tried.await;
    // Whatever went wrong, nothing is left behind.
    let removed = own.remove(name).await.map_err(|why| fail("remove", why));
    tried?;
    removed?;
    tell("remove: it answers");
    if there("list after remove").await? {
        return Err(ProgramError(format!("list after remove: {name} is there still")));
    }
    tell("list after remove: the machine is gone");
    own.remove(name).await.map_err(|why| fail("remove of what is not there", why))?;
    tell("remove of what is not there: it answers the same");
    Ok(())
}
