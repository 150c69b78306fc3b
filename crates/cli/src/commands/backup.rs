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
    /// A folder that is empty or holds earlier backups; with --list and --config, the service's own place when left out
    #[arg(long, value_name = "DIR", required_unless_present_all = ["list", "config"])]
    to: Option<PathBuf>,
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
    #[arg(long, value_name = "DIR", required_unless_present = "config")]
    from: Option<PathBuf>,
    /// In its place: the service's configuration, whose `[backup]` says where they are
    #[arg(long, conflicts_with = "from")]
    config: Option<PathBuf>,
    /// One of them, as `backup --list` names it; the newest when left out
    #[arg(long, value_name = "NAME")]
    copy: Option<String>,
    /// Not what came after this moment, such as 2026-03-01T08:00:00Z: of a backup that the service kept
    #[arg(long, value_name = "MOMENT")]
    until: Option<Timestamp>,
    /// The data folder to make; it must not be there
    #[arg(long, default_value = "./ordotaxis-data")]
    data: PathBuf,
}

pub(super) async fn backup(options: BackupOptions, json: bool) -> Done {
    private();
    if options.list {
        let place = place(options.to.clone(), options.config.as_deref(), &options.data)?;
        return list(&place, json).await;
    }
    let settings = settings(&options.data, options.config.as_deref())?;
    let Some(to) = &options.to else { return Err(Failure::new(2, "--to names no folder", "")) };
    apart(&options.data, to)?;
    let _alone = alone(&options.data)?;
    let shelf = Shelf::open(&Place::Local(to.clone()), true).await.map_err(failure)?;
    let now = Timestamp::now();
    let ask = Ask {
        packs: settings.objects.clone().map_or_else(|| Place::Local(options.data.join("blobs")), Place::Objects),
        keys: if options.keys { settings.keys() } else { Vec::new() },
        data: options.data.clone(),
        now: now.as_millisecond(),
        name: shelf.free_name(now.as_millisecond()).await.map_err(failure)?,
    };
    let made = back_up(&shelf, &ask).await.map_err(failure)?;
    let dropped = match options.keep {
        Some(copies) => keep(&shelf, copies).await.map_err(failure)?,
        None => 0,
    };
    if json {
        out::json(&made.whole);
    } else {
        say(&made, dropped, to);
    }
    OK
}

/// What is written from here on is this user's alone.
fn private() {
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
}

fn settings(data: &Path, config: Option<&Path>) -> Result<Settings, Failure> {
    let settings = Settings::new(data.to_owned());
    let Some(config) = config else { return Ok(settings) };
    settings.with_file(config.to_owned()).map_err(|error| Failure::new(2, error.to_string(), "docs/service.md lists all settings"))
}

/// Where backups are: a folder, or where the service's configuration has its own.
fn place(folder: Option<PathBuf>, config: Option<&Path>, data: &Path) -> Result<Place, Failure> {
    if let Some(folder) = folder {
        return Ok(Place::Local(folder));
    }
    let none = || Failure::new(2, "the configuration has no `[backup]`", "name the folder with backups");
    Ok(settings(data, config)?.backup.ok_or_else(none)?.place)
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

fn say(made: &Made, dropped: usize, to: &Path) {
    let whole = &made.whole;
    out::print(format!("{} in {}: {}", out::bold(&whole.name), to.display(), holds(whole)));
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

async fn list(place: &Place, json: bool) -> Done {
    let shelf = Shelf::open(place, false).await.map_err(failure)?;
    let copies = shelf.copies().await.map_err(failure)?;
    let mut rows = vec![["backup", "goes up to", "holds", "by version"].map(str::to_owned).to_vec()];
    let mut all = Vec::new();
    for whole in &copies {
        let until = moment(shelf.reach(whole).await.map_err(failure)?);
        rows.push(vec![whole.name.clone(), until.clone(), holds(whole), whole.version.clone()]);
        all.push(Listed { whole, until });
    }
    if json {
        out::json(&all)
    } else {
        table(&rows, "no backup there is whole")
    }
    OK
}

/// A backup as `--json` shows it.
#[derive(serde::Serialize)]
struct Listed<'a> {
    #[serde(flatten)]
    whole: &'a Whole,
    /// The last moment that is in it.
    until: String,
}

/// Milliseconds since 1970 as `--until` takes them.
fn moment(ms: i64) -> String {
    Timestamp::from_millisecond(ms).map_or_else(|_| ms.to_string(), |moment| moment.to_string())
}

pub(super) async fn restore(options: RestoreOptions, json: bool) -> Done {
    private();
    let place = place(options.from, options.config.as_deref(), &options.data)?;
    if let Place::Local(from) = &place {
        apart(&options.data, from)?;
    }
    let shelf = Shelf::open(&place, false).await.map_err(failure)?;
    let until = options.until.map(Timestamp::as_millisecond);
    let restored = bring_back(&shelf, options.copy.as_deref(), until, &options.data).await.map_err(failure)?;
    if json {
        out::json(&Listed { whole: &restored.whole, until: moment(restored.until) });
        return OK;
    }
    let Restored { whole, keys, .. } = &restored;
    let when = if whole.goes_on() { moment(restored.until) } else { whole.name.clone() };
    out::print(format!("{} is as it was at {}: {}", options.data.display(), out::bold(&when), holds(whole)));
    out::print("  the database, and every pack and log, were read and are sound");
    if whole.packs_elsewhere {
        out::remark("  packs were in object storage: `ordotaxis store verify` says whether all are there");
    }
    if restored.swept > 0 {
        out::remark(format!(
            "  {} packs had just been swept away: `ordotaxis store verify` says whether anything lacks them",
            restored.swept
        ));
    }
    if keys.is_empty() {
        out::remark("  no keys were in it: put secrets.key back, which the service needs to start");
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
