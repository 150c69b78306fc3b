//! `backup` and `restore`: a copy of all that lasts, taken while the service runs, and the way back.

use crate::failure::{Done, Failure, OK};
use crate::out::{self, table};
use jiff::Timestamp;
use ordotaxis_service::{Settings, causes};
use ordotaxis_store::Place;
use ordotaxis_store::backup::{Ask, BackupError, Made, Restored, Shelf, Whole, back_up, keep, restore as bring_back};
use ordotaxis_wire::words;
use std::path::{Path, PathBuf};

/// `backup`
#[derive(clap::Args)]
pub(crate) struct BackupOptions {
    /// The data folder of the service, which may run meanwhile
    #[arg(long, default_value = "./ordotaxis-data")]
    data: PathBuf,
    /// The configuration that the service is started with, if it has one
    #[arg(long)]
    config: Option<PathBuf>,
    /// A folder that is empty or holds earlier backups
    #[arg(long, value_name = "DIR")]
    to: PathBuf,
    /// The keys, too: whoever has the backup can then read all secrets
    #[arg(long)]
    keys: bool,
    /// Drop all but the newest so many afterwards
    #[arg(long, value_name = "COUNT")]
    keep: Option<usize>,
    /// Only say which backups there are
    #[arg(long, conflicts_with_all = ["keys", "keep"])]
    list: bool,
}

/// `restore`
#[derive(clap::Args)]
pub(crate) struct RestoreOptions {
    /// The folder with backups
    #[arg(long, value_name = "DIR")]
    from: PathBuf,
    /// One of them, as `backup --list` names it; the newest when left out
    #[arg(long, value_name = "NAME")]
    copy: Option<String>,
    /// The data folder to make; it must not be there
    #[arg(long, default_value = "./ordotaxis-data")]
    data: PathBuf,
}

pub(super) async fn backup(options: BackupOptions, json: bool) -> Done {
    private();
    if options.list {
        return list(&options.to, json).await;
    }
    let settings = settings(&options)?;
    apart(&options.data, &options.to)?;
    let _alone = alone(&options.data)?;
    let shelf = Shelf::open(&Place::Local(options.to.clone()), true).await.map_err(failure)?;
    let now = Timestamp::now();
    let ask = Ask {
        packs: settings.objects.clone().map_or_else(|| Place::Local(options.data.join("blobs")), Place::Objects),
        keys: if options.keys { keys(&settings) } else { Vec::new() },
        data: options.data.clone(),
        now: now.as_millisecond(),
        name: free_name(&shelf, now).await?,
    };
    let made = back_up(&shelf, &ask).await.map_err(failure)?;
    let dropped = match options.keep {
        Some(copies) => keep(&shelf, copies).await.map_err(failure)?,
        None => 0,
    };
    if json {
        out::json(&made.whole);
    } else {
        say(&made, dropped, &options);
    }
    OK
}

/// What is written from here on is this user's alone.
fn private() {
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
}

fn settings(options: &BackupOptions) -> Result<Settings, Failure> {
    let settings = Settings::new(options.data.clone());
    let Some(config) = options.config.clone() else { return Ok(settings) };
    settings.with_file(config).map_err(|error| Failure::new(2, error.to_string(), "docs/service.md lists all settings"))
}

/// Files with keys, each with the name that it has in the data folder or would have there.
fn keys(settings: &Settings) -> Vec<(PathBuf, String)> {
    let secrets = settings.key_file.clone().unwrap_or_else(|| settings.data.join("secrets.key"));
    let store = settings.store_key_file.clone().map(|path| (path, "store.key".to_owned()));
    [(secrets, "secrets.key".to_owned())].into_iter().chain(store).collect()
}

/// A backup that lies in what it backs up grows for ever.
fn apart(data: &Path, to: &Path) -> Result<(), Failure> {
    let whole = |path: &Path| {
        let known = path.ancestors().find_map(|part| Some((part.canonicalize().ok()?, path.strip_prefix(part).ok()?)));
        known.map(|(known, rest)| known.join(rest)).or_else(|| Some(std::env::current_dir().ok()?.join(path)))
    };
    let (Some(one), Some(other)) = (whole(data), whole(to)) else { return Ok(()) };
    if one.starts_with(&other) || other.starts_with(&one) {
        return Err(failure(BackupError::Within(data.to_owned(), to.to_owned())));
    }
    Ok(())
}

/// Held until this backup is done. What one that was killed left in the data folder is taken away.
fn alone(data: &Path) -> Result<std::fs::File, Failure> {
    if !data.join("ordotaxis.db").is_file() {
        return Err(failure(BackupError::NoData(data.to_owned())));
    }
    let wrong = |error: std::io::Error| Failure::new(3, format!("{} cannot be written: {error}", data.display()), "");
    let lock = std::fs::File::create(data.join("backup.lock")).map_err(wrong)?;
    lock.try_lock().map_err(|_| Failure::new(3, "another backup of this folder goes on", "wait until it is done"))?;
    for entry in std::fs::read_dir(data).map_err(wrong)?.flatten() {
        if entry.file_name().to_string_lossy().starts_with(".backup") {
            std::fs::remove_dir_all(entry.path()).map_err(wrong)?;
        }
    }
    Ok(lock)
}

/// The moment as a name; with a number where another of the same second is there.
async fn free_name(shelf: &Shelf, now: Timestamp) -> Result<String, Failure> {
    let there: Vec<String> = shelf.copies().await.map_err(failure)?.into_iter().map(|whole| whole.name).collect();
    let moment = now.strftime("%Y-%m-%dT%H%M%SZ").to_string();
    let names = std::iter::once(moment.clone()).chain((2..).map(|number| format!("{moment}.{number}")));
    Ok(names.into_iter().find(|name| !there.contains(name)).unwrap_or(moment))
}

fn say(made: &Made, dropped: usize, options: &BackupOptions) {
    let whole = &made.whole;
    out::print(format!("{} in {}: {}", out::bold(&whole.name), options.to.display(), holds(whole)));
    if !whole.packs_elsewhere {
        out::print(format!("  {} packs were new, with {}", made.new_packs, words::bytes(made.new_bytes)));
    }
    if dropped > 0 {
        out::print(format!("  {dropped} older ones were dropped"));
    }
    if whole.packs_elsewhere {
        out::remark("  packs are in object storage of their own, and are not copied");
    }
    if !whole.keys {
        out::remark("  the keys are not in it: keep them elsewhere, or secrets cannot be opened after a restore (`--keys` takes them in)");
    }
}

fn holds(whole: &Whole) -> String {
    let packs = if whole.packs_elsewhere {
        "no packs".to_owned()
    } else {
        format!("{} packs with {}", whole.packs, words::bytes(whole.pack_bytes))
    };
    format!(
        "a database of {}, {packs}, {} logs{}",
        words::bytes(whole.database_bytes),
        whole.logs,
        if whole.keys { ", the keys" } else { "" }
    )
}

async fn list(from: &Path, json: bool) -> Done {
    let shelf = Shelf::open(&Place::Local(from.to_owned()), false).await.map_err(failure)?;
    let copies = shelf.copies().await.map_err(failure)?;
    if json {
        out::json(&copies);
        return OK;
    }
    let head = ["backup", "holds", "by version"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> =
        std::iter::once(head).chain(copies.iter().map(|whole| vec![whole.name.clone(), holds(whole), whole.version.clone()])).collect();
    table(&rows, "no backup there is whole");
    OK
}

pub(super) async fn restore(options: RestoreOptions, json: bool) -> Done {
    private();
    apart(&options.data, &options.from)?;
    let shelf = Shelf::open(&Place::Local(options.from.clone()), false).await.map_err(failure)?;
    let restored = bring_back(&shelf, options.copy.as_deref(), &options.data).await.map_err(failure)?;
    if json {
        out::json(&restored.whole);
        return OK;
    }
    let Restored { whole, keys, .. } = &restored;
    out::print(format!("{} is as it was at {}: {}", options.data.display(), out::bold(&whole.name), holds(whole)));
    out::print("  the database, and every pack and log, were read and are sound");
    if whole.packs_elsewhere {
        out::remark("  packs were in object storage: `ordotaxis store verify` says whether all are there");
    }
    if keys.is_empty() {
        out::remark("  no keys were in it: put secrets.key back before the service starts, or secrets cannot be opened");
    }
    out::remark("  see to it that the service it was taken from does not run any more: both would speak for the same projects");
    OK
}

fn failure(error: BackupError) -> Failure {
    let next = match &error {
        _ if is_full(&error) => "make room, and try again; earlier backups are whole",
        BackupError::Damaged(_) => "`ordotaxis backup --to DIR --list` says which others there are",
        BackupError::NoData(_) => "name it with --data",
        _ => "",
    };
    Failure::new(3, causes(&error), next)
}

/// Whether a disk without room is what lies beneath.
fn is_full(error: &BackupError) -> bool {
    let mut next = std::error::Error::source(error);
    while let Some(cause) = next {
        if cause.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == std::io::ErrorKind::StorageFull) {
            return true;
        }
        next = cause.source();
    }
    false
}
