//! `runner join`: a pool's machine. It enrols with the invitation in its environment, works as the service says, and leaves.

use super::as_runner::{configured, isolation};
use super::signals::{self, LogForm, reaches, set_up_log};
use crate::failure::{Done, Failure, OK};
use crate::fence::IsolationChoice;
use crate::out;
use clap::ValueEnum;
use ordotaxis_runner::{Config, Identity, Leave, Offers, Rehearses, Settings, join as enrol, work};
use ordotaxis_wire::runner::MachineTerms;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The names of what a machine finds in its environment.
const MACHINE: &str = "ORDOTAXIS_MACHINE";
const INVITATION: &str = "ORDOTAXIS_INVITATION";

/// What the service said that the machine is to do, beside its identity: it may be started again.
const TERMS: &str = "machine.json";

/// A machine that nobody answers for so long is wanted by nobody.
const PATIENCE: Duration = Duration::from_secs(10 * 60);
/// How long jobs may go on once its life is over.
const LAST: Duration = Duration::from_secs(60);

pub(super) async fn join(url: &str, dir: PathBuf, config: Option<PathBuf>, mounts: bool) -> Done {
    set_up_log(LogForm::Text, None);
    let config = configured(config)?;
    let (identity, terms) = match Identity::load(&dir) {
        Ok(identity) => (identity, read(&dir)?),
        Err(_) => enrolled(url, &dir).await?,
    };
    let choice = terms.isolation.as_deref().map(|word| IsolationChoice::from_str(word, false));
    let unknown =
        |word: String| Failure::new(3, word, "the service asks for an isolation that this build does not know; install its version");
    let isolation = isolation(choice.transpose().map_err(unknown)?)?;
    let config = Config { offers: offers(config.offers, &terms), ..config };
    let leave = Leave::default();
    let signals = signals::count(signals::LEAVES)?;
    let (first, second) = (leave.clone(), leave.clone());
    let counted = signals.clone();
    tokio::spawn(async move {
        reaches(counted, 1).await;
        // Whoever ends a machine while it works takes it away.
        first.taken_away.cancel();
        first.soon.cancel();
    });
    tokio::spawn(async move {
        reaches(signals, 2).await;
        second.at_once.cancel();
    });
    let (old, lasts) = (leave.clone(), Duration::from_millis(terms.lasts_ms));
    tokio::spawn(async move {
        tokio::time::sleep(lasts).await;
        old.soon.cancel();
        tokio::time::sleep(LAST).await;
        old.at_once.cancel();
    });
    let line = format!("machine {} works at {}", identity.name, identity.url);
    let settings = Settings {
        folder: dir,
        slots: terms.slots,
        isolation,
        config,
        jobs: terms.jobs,
        mounts,
        rehearses: Rehearses::No,
        patience: Some(PATIENCE),
    };
    let done =
        work(identity, settings, leave, |labels, fence| out::print(format!("{line}, labels {}\n  fence: {fence}", labels.join(", "))))
            .await;
    done.map_err(|error| Failure::new(3, error.to_string(), "the machine has ended"))?;
    OK
}

/// What the service said it may give to jobs, where its own configuration says nothing.
fn offers(own: Offers, terms: &MachineTerms) -> Offers {
    let said = |number: u32| Some(number).filter(|number| *number > 0);
    let capacity = terms.capacity;
    Offers {
        cores: own.cores.or(said(capacity.cores)),
        memory_mib: own.memory_mib.or(said(capacity.memory_mib).map(u64::from)),
        gpus: own.gpus.or(said(capacity.gpus)),
    }
}

/// Uses the invitation, and keeps what came of it.
async fn enrolled(url: &str, dir: &Path) -> Result<(Identity, MachineTerms), Failure> {
    let find = |name: &str| {
        std::env::var(name).ok().filter(|value| !value.is_empty()).ok_or_else(|| {
            let what = format!("{name} is not in the environment");
            Failure::new(2, what, "a pool's provider starts machines; `ordotaxis runner enrol` makes any other runner")
        })
    };
    let (name, invitation) = (find(MACHINE)?, find(INVITATION)?);
    let refused = |error: ordotaxis_runner::CallError| Failure::new(3, error.to_string(), "the machine has not joined");
    let (identity, terms) = enrol(url, &invitation, &name).await.map_err(refused)?;
    let terms = terms.ok_or_else(|| Failure::new(3, "this invitation is not a machine's", "use it with `ordotaxis runner enrol`"))?;
    let kept = |error: String| Failure::new(3, error, "make the folder writable; the machine will be made anew");
    identity.save(dir).map_err(|error| kept(error.to_string()))?;
    let text = serde_json::to_string(&terms).unwrap_or_default();
    std::fs::write(dir.join(TERMS), text).map_err(|error| kept(format!("{} could not be written: {error}", dir.join(TERMS).display())))?;
    Ok((identity, terms))
}

fn read(dir: &Path) -> Result<MachineTerms, Failure> {
    let path = dir.join(TERMS);
    let text = std::fs::read_to_string(&path).ok();
    text.and_then(|text| serde_json::from_str(&text).ok()).ok_or_else(|| {
        Failure::new(
            2,
            format!("{} is not there, or damaged", path.display()),
            "the folder belongs to another runner; name one of its own with --dir",
        )
    })
}
