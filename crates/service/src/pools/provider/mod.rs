//! Who makes machines. Each provider makes one of a given name, lists what there is, removes one, and shows the last of its
//! console. What it answers is checked before it is believed, and nothing takes for ever.

mod asked;
pub(in crate::pools) mod command;
mod practice;
mod process;
mod program;
mod protocol;
mod slurm;

pub(in crate::pools) use asked::{Failed, Wanted};

use crate::settings::Settings;
use asked::CONSOLE;
use ordotaxis_core::pool::Listed;
use ordotaxis_wire::pool::{PoolSettings, Provider as Kind};
use std::time::Duration;
use tokio::time::timeout;

/// How long making and removing a machine may take, and looking.
const MAKE: Duration = Duration::from_secs(60);
const LOOK: Duration = Duration::from_secs(20);
/// So many characters of what a provider says are kept.
const WORDS: usize = 300;
/// The most machines that a list may name.
const LISTED: usize = 20_000;

/// One pool's provider.
pub(crate) enum Provider {
    Process(process::Processes),
    Command(command::Program),
    Slurm(slurm::Cluster),
    Practice(practice::Cloud),
}

impl Provider {
    /// The provider that a pool's settings name.
    pub(in crate::pools) fn of(pool: &str, settings: &PoolSettings, service: &Settings) -> Provider {
        let folder = service.data.join("pools").join(pool);
        match settings.provider {
            Kind::Process => Provider::Process(process::Processes::new(folder)),
            Kind::Command => Provider::Command(command::Program::new(pool, settings.command.clone(), service.pool_programs.clone())),
            Kind::Slurm => Provider::Slurm(slurm::Cluster::new(pool, folder, settings.slurm.clone().unwrap_or_default())),
            Kind::Practice => Provider::Practice(practice::Cloud::new(settings.practice.as_ref().map_or("", |practice| &practice.url))),
        }
    }

    /// Makes a machine. Asked again with the same name it makes no second one. Gives what the provider says.
    pub(in crate::pools) async fn make(&self, wanted: &Wanted<'_>) -> Result<String, Failed> {
        let made = async {
            match self {
                Provider::Process(own) => own.make(wanted).await,
                Provider::Command(own) => own.make(wanted).await,
                Provider::Slurm(own) => own.make(wanted).await,
                Provider::Practice(own) => own.make(wanted).await,
            }
        };
        match timeout(MAKE, made).await {
            Ok(Ok(words)) => Ok(plain(&words)),
            Ok(Err(Failed::Refused(why))) => Err(Failed::Refused(plain(&why))),
            Ok(Err(Failed::Unclear(why))) => Err(Failed::Unclear(plain(&why))),
            Err(_) => Err(Failed::Unclear(format!("the provider did not answer within {} s", MAKE.as_secs()))),
        }
    }

    /// What there is.
    pub(in crate::pools) async fn list(&self) -> Result<Vec<Listed>, String> {
        let listed = async {
            match self {
                Provider::Process(own) => own.list().await,
                Provider::Command(own) => own.list().await,
                Provider::Slurm(own) => own.list().await,
                Provider::Practice(own) => own.list().await,
            }
        };
        let listed = in_time(LOOK, listed).await?;
        if listed.len() > LISTED {
            return Err(format!("the provider lists {} machines, which is more than it can have", listed.len()));
        }
        // What could not be a name of ours is none.
        let named = listed.into_iter().filter(|one| crate::label::is_label(&one.name));
        Ok(named.map(|one| Listed { words: plain(&one.words), ..one }).collect())
    }

    /// Removes a machine. One that is not there is removed.
    pub(in crate::pools) async fn remove(&self, name: &str) -> Result<(), String> {
        let removed = async {
            match self {
                Provider::Process(own) => own.remove(name).await,
                Provider::Command(own) => own.remove(name).await,
                Provider::Slurm(own) => own.remove(name).await,
                Provider::Practice(own) => own.remove(name).await,
            }
        };
        in_time(MAKE, removed).await
    }

    /// The last of what a machine wrote.
    pub(in crate::pools) async fn console(&self, name: &str) -> Result<String, String> {
        let console = async {
            match self {
                Provider::Process(own) => own.console(name).await,
                Provider::Command(own) => own.console(name).await,
                Provider::Slurm(own) => own.console(name).await,
                Provider::Practice(own) => own.console(name).await,
            }
        };
        let text = in_time(LOOK, console).await?;
        let most = usize::try_from(CONSOLE).unwrap_or(usize::MAX);
        let from = text.len().saturating_sub(most);
        let from = (from..=text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        Ok(text[from..].to_owned())
    }
}

async fn in_time<T>(limit: Duration, work: impl Future<Output = Result<T, String>>) -> Result<T, String> {
    match timeout(limit, work).await {
        Ok(Ok(answer)) => Ok(answer),
        Ok(Err(why)) => Err(plain(&why)),
        Err(_) => Err(format!("the provider did not answer within {} s", limit.as_secs())),
    }
}

/// What a provider says, as one line that no terminal takes for more.
fn plain(words: &str) -> String {
    let spaced: String = words.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    spaced.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(WORDS).collect()
}
