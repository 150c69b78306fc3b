//! The data folder: its modes, keys, database, store, and what lies about.

use super::finding::Finding;
use jiff::Timestamp;
use ordotaxis_service::{Settings, causes};
use ordotaxis_store::Place;
use ordotaxis_store::inspect::{Inspected, Packs, inspect, inspect_packs};
use ordotaxis_wire::words;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// A newest event so far ahead of now is no matter of two clocks beside each other.
const AHEAD_MS: i64 = 60_000;
const KEY_BYTES: u64 = 32;

pub(super) async fn look(settings: &Settings) -> Vec<Finding> {
    let mut findings = vec![folder(&settings.data)];
    match inspect(&settings.data).await {
        Ok(found) => findings.extend(of_database(&found)),
        Err(error) => {
            let next = "name it with --data; the first `ordotaxis serve` makes one";
            findings.push(Finding::wrong("database", causes(&error), next));
            return findings;
        }
    }
    let place = settings.objects.clone().map_or_else(|| Place::Local(settings.data.join("blobs")), Place::Objects);
    match inspect_packs(&settings.data, &place).await {
        Ok(found) => findings.extend(of_packs(&found)),
        Err(error) => findings.push(Finding::wrong("store", causes(&error), "see whether it can be reached from here")),
    }
    let own = settings.data.join("secrets.key");
    findings.push(key("key of secrets", settings.key_file.as_deref().unwrap_or(&own)));
    findings.extend(settings.store_key_file.as_deref().map(|path| key("key of the store", path)));
    findings
}

fn folder(data: &Path) -> Finding {
    const WHAT: &str = "data folder";
    let here = data.display();
    let Ok(found) = std::fs::metadata(data) else {
        return Finding::wrong(WHAT, format!("{here} is not there, or cannot be seen"), "name it with --data");
    };
    let (mode, own) = (found.mode() & 0o777, nix::unistd::geteuid());
    if mode & 0o077 != 0 {
        return Finding::wrong(WHAT, format!("others can look into {here} (mode {mode:o})"), format!("chmod 700 {here}"));
    }
    if found.uid() != own.as_raw() && !own.is_root() {
        return Finding::look(WHAT, format!("{here} belongs to another user"), "look as the user that the service runs as");
    }
    Finding::well(WHAT, format!("{here} is its user's alone"))
}

fn of_database(found: &Inspected) -> Vec<Finding> {
    let mut findings = Vec::new();
    findings.push(match found.unsound.as_slice() {
        [] => Finding::well("database", format!("sound, {}", words::bytes(found.bytes))),
        said => Finding::wrong("database", said.join("; "), "stop the service, and restore the newest backup: `ordotaxis restore`"),
    });
    findings.push(match found.schema.cmp(&found.knows) {
        std::cmp::Ordering::Equal => Finding::well("version", "the database has the form that this version writes"),
        std::cmp::Ordering::Less => {
            let says = "the database is older than this version; the service brings it up to date when it starts";
            Finding::look("version", says, "make a backup first: there is no way back")
        }
        std::cmp::Ordering::Greater => {
            Finding::wrong("version", "the database was written by a newer version", "use that version, or restore a backup from before")
        }
    });
    let ahead = found.newest_at - Timestamp::now().as_millisecond();
    findings.push(if ahead > AHEAD_MS {
        let says = format!("the newest that happened lies {} ahead: this machine's clock was set back", words::duration(ahead));
        Finding::wrong("clock", says, "set it right; until then pauses and times are wrong")
    } else {
        Finding::well("clock", "nothing lies in the future")
    });
    findings.push(match found.troubles.as_slice() {
        [] => Finding::well("repositories", "all could be read when they were last"),
        some => {
            let said: Vec<String> = some.iter().map(|(project, said)| format!("{project}: {said}")).collect();
            Finding::look("repositories", said.join("; "), "`ordotaxis work list`; it is tried again by itself")
        }
    });
    findings.push(match found.given_up {
        0 => Finding::well("outside", "nothing was given up"),
        count => Finding::look("outside", format!("{count} things to do outside were given up"), "`ordotaxis work list` says why"),
    });
    findings.push(match found.orphans.as_slice() {
        [] => Finding::well("folders", "none is left over"),
        some => Finding::look("folders", format!("left over: {}", some.join(", ")), "they belong to nothing any more, and can be deleted"),
    });
    findings
}

fn of_packs(found: &Packs) -> Vec<Finding> {
    let mut findings = Vec::new();
    findings.push(match &found.broken {
        (_, 0) => Finding::well("store", format!("{} packs, {}, each is there", found.count, words::bytes(found.bytes))),
        (names, count) => {
            let says = format!("{count} of {} packs are gone or cut off: {}", found.count, names.join(", "));
            Finding::wrong("store", says, "`ordotaxis store verify` says what they held; runners send again what they have")
        }
    });
    if found.strays > 0 {
        findings.push(Finding::look(
            "store",
            format!("{} packs that nothing names", found.strays),
            "`ordotaxis store sweep --apply` takes them away",
        ));
    }
    findings
}

/// A key: there, of its length, and for nobody else.
fn key(what: &'static str, path: &Path) -> Finding {
    let here = path.display();
    match std::fs::metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            Finding::wrong(what, format!("{here} is not there"), "put it back: without it nothing that it sealed can be opened")
        }
        Err(error) => Finding::wrong(what, format!("{here} cannot be seen: {error}"), "look as the user that the service runs as"),
        Ok(found) if found.len() != KEY_BYTES => {
            Finding::wrong(what, format!("{here} holds {} bytes, and a key has {KEY_BYTES}", found.len()), "put back the right one")
        }
        Ok(found) if found.mode() & 0o077 != 0 => {
            Finding::wrong(what, format!("others can read {here} (mode {:o})", found.mode() & 0o777), format!("chmod 600 {here}"))
        }
        Ok(_) => Finding::well(what, format!("{here} is its user's alone")),
    }
}
