//! What a pool is set to, checked, and as the core takes it.

use ordotaxis_core::dispatch::Offer;
use ordotaxis_core::engine::Millis;
use ordotaxis_core::language::{Capacity, mebibytes};
use ordotaxis_core::pool::{Pool, Rules};
use ordotaxis_store::{Granted, PoolRow};
use ordotaxis_wire::pool::{PoolSettings, Provider};
use ordotaxis_wire::runner::MachineTerms;
use serde::{Deserialize, Serialize};

const START: Millis = 3 * 60 * 1000;
const IDLE: Millis = 60 * 1000;
/// Of a machine for one job: it has come for it.
const IDLE_ALONE: Millis = 10 * 1000;
const LASTS: Millis = 2 * 60 * 60 * 1000;
/// A machine that comes and goes within less could not be told from one that fails.
const SHORTEST: Millis = 1_000;
const LONGEST: Millis = 30 * 24 * 60 * 60 * 1000;
const MOST: u32 = 10_000;

/// Which setting is wrong, and why.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{why}")]
pub(crate) struct SettingError {
    /// JSON Pointer
    pub(crate) at: String,
    pub(crate) why: String,
}

fn wrong(at: &str, why: impl Into<String>) -> SettingError {
    SettingError { at: at.to_owned(), why: why.into() }
}

/// A pool's name begins those of its machines.
pub fn is_pool_name(name: &str) -> bool {
    let first = name.starts_with(|c: char| c.is_ascii_lowercase());
    first && name.len() <= 32 && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-') && !name.ends_with('-')
}

/// Settings, every default filled in.
#[derive(Debug, Clone)]
pub(super) struct Checked {
    pub(super) rules: Rules,
    offer: Offer,
    any_version: Vec<String>,
}

/// What a machine was found to have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Found {
    labels: Vec<String>,
    tools: Vec<(String, String)>,
    container: bool,
    fenced: bool,
    capacity: Capacity,
}

impl Found {
    pub(super) fn of(offer: &Offer) -> Found {
        let Offer { labels, tools, container, fenced, capacity, .. } = offer.clone();
        Found { labels, tools, container, fenced, capacity }
    }
}

/// Whether a pool can be set so.
pub(crate) fn check(settings: &PoolSettings) -> Result<(), SettingError> {
    checked(settings).map(drop)
}

pub(super) fn checked(settings: &PoolSettings) -> Result<Checked, SettingError> {
    if !(1..=MOST).contains(&settings.most) {
        return Err(wrong("/most", format!("`most` is a number of machines from 1 to {MOST}")));
    }
    let least = settings.least.unwrap_or(0);
    if least > settings.most {
        return Err(wrong("/least", "`least` is more than `most`"));
    }
    let slots = settings.slots.unwrap_or(1);
    if !(1..=256).contains(&slots) {
        return Err(wrong("/slots", "`slots` is a number from 1 to 256"));
    }
    if settings.jobs == Some(0) {
        return Err(wrong("/jobs", "`jobs` is at least 1; leave it out for as many as come"));
    }
    let price = match settings.price {
        None => None,
        Some(price) if (0.0..=1_000_000.0).contains(&price) => Some(millionths(price)),
        Some(_) => return Err(wrong("/price", "`price` is what a machine costs in an hour, from 0 to 1000000")),
    };
    let lasts = length("/lasts", settings.lasts.as_ref(), LASTS)?;
    let start = length("/start", settings.start.as_ref(), START)?;
    let alone = settings.jobs == Some(1);
    let idle = length("/idle", settings.idle.as_ref(), if alone { IDLE_ALONE } else { IDLE })?;
    if start >= lasts {
        return Err(wrong("/lasts", "`lasts` is not longer than `start`: a machine would end before it came"));
    }
    let isolation = settings.isolation.as_deref();
    if isolation.is_some_and(|word| !["sandbox", "container", "host"].contains(&word)) {
        return Err(wrong("/isolation", "`isolation` is sandbox, container or host"));
    }
    if let Some(label) = settings.labels.iter().find(|label| !crate::label::is_label(label)) {
        return Err(wrong("/labels", format!("{label:?} is no label: that is letters, digits, `-`, `_` and `.`, at most 64")));
    }
    own_settings(settings)?;
    let capacity = capacity(settings)?;
    let (tools, any_version) = tools(settings)?;
    // What every runner of this kind finds of its system; what machines were found to have counts later.
    let system = [std::env::consts::OS, std::env::consts::ARCH].map(str::to_owned).into_iter();
    let offer = Offer {
        labels: system.chain(settings.labels.iter().cloned()).collect(),
        tools,
        container: isolation == Some("container"),
        fenced: isolation != Some("host"),
        projects: settings.projects.clone(),
        outside: settings.outside,
        capacity,
        free: slots as usize,
        slots: slots as usize,
        ..Offer::default()
    };
    let rules = Rules {
        most: settings.most as usize,
        least: least as usize,
        start,
        idle,
        jobs: settings.jobs,
        lasts,
        price,
        fitted: settings.provider == Provider::Slurm && alone,
        list_every: match settings.provider {
            Provider::Process => 1_000,
            Provider::Practice => 2_000,
            Provider::Slurm => 5_000,
            Provider::Command => 15_000,
        },
        // Processes are listed by reading a folder; who is asked for more is not asked at once for each machine that goes.
        list_again: if settings.provider == Provider::Process { 0 } else { 1_000 },
    };
    Ok(Checked { rules, offer, any_version })
}

/// A provider's own table belongs to it, and is there when it needs one.
fn own_settings(settings: &PoolSettings) -> Result<(), SettingError> {
    let tables = [
        (Provider::Command, settings.command.is_some()),
        (Provider::Slurm, settings.slurm.is_some()),
        (Provider::Practice, settings.practice.is_some()),
    ];
    for (of, there) in tables {
        let word = of.word();
        if there && of != settings.provider {
            return Err(wrong(
                &format!("/{word}"),
                format!("`{word}` is for pools whose provider is {word}, not {}", settings.provider.word()),
            ));
        }
        if !there && of == settings.provider && of != Provider::Slurm {
            return Err(wrong(&format!("/{word}"), format!("provider {word} needs its own table `{word}`")));
        }
    }
    if let Some(command) = &settings.command {
        let plain = !command.program.is_empty() && !command.program.starts_with('.') && !command.program.contains(['/', '\0']);
        if !plain {
            return Err(wrong(
                "/command/program",
                "`program` is a file's name in the folder `pool_programs` of the service's configuration",
            ));
        }
    }
    if let Some(slurm) = &settings.slurm {
        let words = [("partition", &slurm.partition), ("account", &slurm.account), ("qos", &slurm.qos)];
        for (key, word) in words {
            if word.as_ref().is_some_and(|word| !crate::label::is_label(word) || word.starts_with('-')) {
                return Err(wrong(&format!("/slurm/{key}"), format!("`{key}` is letters, digits, `-`, `_` and `.`, at most 64")));
            }
        }
        for (key, path) in [("binary", &slurm.binary), ("folder", &slurm.folder)] {
            if path.as_ref().is_some_and(|path| !path.starts_with('/') || path.contains(['\'', '\n', '\0'])) {
                return Err(wrong(&format!("/slurm/{key}"), format!("`{key}` is a path from `/` on, without quotes")));
            }
        }
    }
    if let Some(practice) = &settings.practice {
        let url = reqwest::Url::parse(&practice.url).ok();
        let near =
            url.as_ref().and_then(|url| url.host_str()).is_some_and(|host| host == "127.0.0.1" || host == "localhost" || host == "[::1]");
        if !near {
            return Err(wrong("/practice/url", "`url` is the practice cloud's address on this machine, such as http://127.0.0.1:7060"));
        }
    }
    Ok(())
}

fn length(at: &str, text: Option<&String>, usual: Millis) -> Result<Millis, SettingError> {
    let Some(text) = text else { return Ok(usual) };
    let ms = humantime::parse_duration(text).ok().and_then(|length| i64::try_from(length.as_millis()).ok());
    let good = ms.filter(|ms| (SHORTEST..=LONGEST).contains(ms) || *ms == 0 && at == "/idle");
    good.ok_or_else(|| wrong(at, format!("`{}` is a length of time from a second to 30 days, such as \"3m\"", at.trim_start_matches('/'))))
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "its range was looked at")]
fn millionths(price: f64) -> u64 {
    (price * 1_000_000.0).round() as u64
}

fn capacity(settings: &PoolSettings) -> Result<Capacity, SettingError> {
    let offers = &settings.offers;
    let memory = match &offers.memory {
        None => 0,
        Some(text) => mebibytes(text).ok_or_else(|| wrong("/offers/memory", "`memory` is a whole number and a unit, such as \"32GiB\""))?,
    };
    Ok(Capacity { cores: offers.cores.unwrap_or(0), memory_mib: memory, gpus: offers.gpus.unwrap_or(0) })
}

/// Tools with their versions, and those of which any version is offered.
type Tools = (Vec<(String, String)>, Vec<String>);

fn tools(settings: &PoolSettings) -> Result<Tools, SettingError> {
    let mut tools: Tools = Default::default();
    for tool in &settings.offers.tools {
        match tool.split_once(' ') {
            _ if tool.trim().is_empty() => return Err(wrong("/offers/tools", "a tool has a name")),
            Some((name, version)) if ordotaxis_core::dispatch::version_found(version).is_some() => {
                tools.0.push((name.to_owned(), version.to_owned()));
            }
            Some((_, version)) => return Err(wrong("/offers/tools", format!("`{version}` is no version"))),
            None => tools.1.push(tool.clone()),
        }
    }
    Ok(tools)
}

/// A pool as it was stored, for the core; what was found of its machines counts for what it was said to offer.
pub(super) fn pool_of(row: &PoolRow, checked: &Checked) -> Pool {
    let mut pool = Pool::new(&row.name, checked.rules.clone(), checked.offer.clone(), checked.any_version.clone());
    pool.ended = row.ended;
    if let Some(found) = row.found.as_deref().and_then(|found| serde_json::from_str::<Found>(found).ok()) {
        let Found { labels, tools, container, fenced, capacity } = found;
        let capacity = if checked.rules.fitted { checked.offer.capacity } else { capacity };
        pool.offer = Offer { labels, tools, container, fenced, capacity, ..pool.offer };
        pool.any_version.clear();
    }
    pool
}

/// What runners of this pool may have.
pub(super) fn granted(settings: &PoolSettings) -> Granted {
    Granted { labels: settings.labels.clone(), projects: settings.projects.clone(), outside: settings.outside }
}

/// What the runner of a machine is to do.
pub(super) fn terms(settings: &PoolSettings, machine: &ordotaxis_core::pool::Machine) -> MachineTerms {
    MachineTerms {
        slots: settings.slots.unwrap_or(1),
        jobs: settings.jobs,
        lasts_ms: u64::try_from(machine.lasts).unwrap_or(0),
        capacity: machine.capacity,
        isolation: settings.isolation.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings(text: &str) -> Result<PoolSettings, toml::de::Error> {
        toml::from_str(text)
    }

    #[test]
    fn what_is_left_out_has_its_usual_value() {
        let one = settings("provider = 'process'\nmost = 2\njobs = 1\nlabels = ['usb']\noffers = { cores = 2, memory = '1GiB', tools = ['gcc', 'make 4.3'] }").expect("settings");
        let checked = checked(&one).expect("they are good");
        assert_eq!((checked.rules.start, checked.rules.idle, checked.rules.lasts), (START, IDLE_ALONE, LASTS));
        assert_eq!(checked.offer.labels, [std::env::consts::OS, std::env::consts::ARCH, "usb"]);
        assert_eq!(checked.offer.tools, [("make".to_owned(), "4.3".to_owned())]);
        assert_eq!(checked.any_version, ["gcc"]);
        assert_eq!(checked.offer.capacity, Capacity { cores: 2, memory_mib: 1024, gpus: 0 });
        assert!(!checked.rules.fitted && checked.rules.price.is_none());
    }

    #[test]
    fn each_setting_that_cannot_be_is_named() {
        for (line, at) in [
            ("most = 0", "/most"),
            ("most = 20000", "/most"),
            ("most = 1\nleast = 2", "/least"),
            ("most = 1\nslots = 0", "/slots"),
            ("most = 1\njobs = 0", "/jobs"),
            ("most = 1\nprice = -1.0", "/price"),
            ("most = 1\nprice = nan", "/price"),
            ("most = 1\nstart = 'soon'", "/start"),
            ("most = 1\nstart = '0s'", "/start"),
            ("most = 1\nidle = '40d'", "/idle"),
            ("most = 1\nstart = '3h'", "/lasts"),
            ("most = 1\nisolation = 'glass'", "/isolation"),
            ("most = 1\nlabels = ['a b']", "/labels"),
            ("most = 1\noffers = { memory = '8G' }", "/offers/memory"),
            ("most = 1\noffers = { tools = [''] }", "/offers/tools"),
            ("most = 1\noffers = { tools = ['gcc new'] }", "/offers/tools"),
            ("most = 1\nslurm = {}", "/slurm"),
        ] {
            let one = settings(&format!("provider = 'process'\n{line}")).unwrap_or_else(|error| panic!("{line}: {error}"));
            assert_eq!(checked(&one).expect_err(line).at, at, "{line}");
        }
        for (text, at) in [
            ("provider = 'command'\nmost = 1", "/command"),
            ("provider = 'command'\nmost = 1\ncommand = { program = '../sh' }", "/command/program"),
            ("provider = 'command'\nmost = 1\ncommand = { program = '/bin/sh' }", "/command/program"),
            ("provider = 'slurm'\nmost = 1\nslurm = { partition = '--wrap=x' }", "/slurm/partition"),
            ("provider = 'slurm'\nmost = 1\nslurm = { binary = \"/x'; rm -r /'\" }", "/slurm/binary"),
            ("provider = 'practice'\nmost = 1\npractice = { url = 'http://10.0.0.1/' }", "/practice/url"),
            ("provider = 'practice'\nmost = 1\npractice = { url = 'what' }", "/practice/url"),
        ] {
            assert_eq!(checked(&settings(text).expect(text)).expect_err(text).at, at, "{text}");
        }
        for text in ["provider = 'heap'\nmost = 1", "provider = 'process'", "provider = 'process'\nmost = 1\nlest = 1"] {
            assert!(settings(text).is_err(), "{text}");
        }
        for name in ["", "Heavy", "a b", "-a", "a-", "1a", "a.b", &"a".repeat(33)] {
            assert!(!is_pool_name(name), "{name}");
        }
        assert!(is_pool_name("heavy-2"));
    }
}
