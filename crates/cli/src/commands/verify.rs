//! `verify`: whether a file is what a signed statement says it is. It needs no service, where the keys are at hand.

use crate::failure::{Done, Failure, OK};
use crate::global::Global;
use crate::{api, out};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ordotaxis_core::provenance::{Envelope, named};
use ring::signature::{ED25519, UnparsedPublicKey};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// The largest statement that is read.
const LARGEST: u64 = 64 * 1024 * 1024;

/// `verify`
#[derive(clap::Args)]
pub(crate) struct VerifyOptions {
    /// A file, or a folder with all that an artifact holds
    file: PathBuf,
    /// The signed statement; `FILE.intoto.json` when absent
    #[arg(long)]
    statement: Option<PathBuf>,
    /// The keys that are trusted, as `ordotaxis keys` prints them; asked of the service when absent
    #[arg(long)]
    keys: Option<PathBuf>,
}

/// Where a statement lies beside what it is about.
pub(super) fn beside(file: &Path) -> PathBuf {
    let mut name = file.as_os_str().to_owned();
    name.push(".intoto.json");
    name.into()
}

pub(super) async fn verify(options: VerifyOptions, global: &Global) -> Done {
    let digest = digest_of(&options.file)?;
    let at = options.statement.unwrap_or_else(|| beside(&options.file));
    let envelope: Envelope =
        read(&at, "statement", "fetch it with `ordotaxis artifacts RUN statement NAME --to FILE`, and name it with --statement")?;
    let keys = match &options.keys {
        Some(path) => read(path, "list of keys", "`ordotaxis keys` prints one")?,
        None => fetched(global).await?,
    };
    let known = known(&keys);
    let good = |id: &str, bytes: &[u8], signature: &[u8]| {
        known.get(id).map(|key| UnparsedPublicKey::new(&ED25519, key).verify(bytes, signature).is_ok())
    };
    let not = |why: String, next: &str| Failure::new(1, format!("{} is not verified: {why}", options.file.display()), next);
    let (statement, key) =
        envelope.opened(good).map_err(|error| not(format!("{}: {error}", at.display()), "get the statement and the keys anew"))?;
    let Some(name) = named(&statement, &digest) else {
        let about = statement["subject"][0]["name"].as_str().unwrap_or("something else");
        let why = format!("its digest is sha256:{digest}, and the statement is about {about} and does not name that");
        return Err(not(why, "it was changed, or the statement is of another build"));
    };
    if global.json {
        out::json(&serde_json::json!({ "verified": true, "name": name, "sha256": digest, "key": key, "statement": statement }));
        return OK;
    }
    tell(&options.file, &name, &statement, &key);
    OK
}

fn tell(file: &Path, name: &str, statement: &Value, key: &str) {
    let text = |at: &str| statement.pointer(at).and_then(Value::as_str).unwrap_or_default().to_owned();
    let (build, run) = ("/predicate/buildDefinition", "/predicate/runDetails");
    let artifact = text("/subject/0/name");
    let what = if artifact == name { artifact } else { format!("{name} of {artifact}") };
    out::print(format!("{} is {}", file.display(), out::bold(&what)));
    let isolation = text(&format!("{build}/internalParameters/isolation"));
    let (runner, fence) =
        (text(&format!("{build}/internalParameters/runner")), if isolation.is_empty() { String::new() } else { format!(" ({isolation})") });
    out::print(format!(
        "  made by   {} on {runner}{fence}, until {}",
        text(&format!("{run}/metadata/invocationId")),
        text(&format!("{run}/metadata/finishedOn"))
    ));
    let source = format!("{build}/resolvedDependencies/0");
    out::print(format!("  from      {} at {}", text(&format!("{source}/uri")), text(&format!("{source}/digest/gitCommit"))));
    out::print(format!("  signed by {} with key {key}", text(&format!("{run}/builder/id"))));
}

/// `keys`: what statements are verified with, for later and elsewhere.
pub(super) async fn keys(global: &Global) -> Done {
    out::json(&fetched(global).await?);
    OK
}

async fn fetched(global: &Global) -> Result<Value, Failure> {
    let url = format!("{}/keys", api::address(global).trim_end_matches('/'));
    let away = |why: &str| {
        Failure::new(3, format!("the keys could not be had from {url}: {why}"), "name the service with --url, or a file with --keys")
    };
    let answer = reqwest::get(&url).await.map_err(|_| away("it does not answer"))?;
    if !answer.status().is_success() {
        return Err(away(&format!("it answered {}", answer.status())));
    }
    answer.json().await.map_err(|_| away("it does not speak as an Ordotaxis service"))
}

/// The Ed25519 keys of a JWK set, by their names.
fn known(keys: &Value) -> HashMap<String, Vec<u8>> {
    let one = |key: &Value| {
        let x = key["x"].as_str().filter(|_| key["kty"] == "OKP" && key["crv"] == "Ed25519")?;
        Some((key["kid"].as_str()?.to_owned(), URL_SAFE_NO_PAD.decode(x).ok()?))
    };
    keys["keys"].as_array().into_iter().flatten().filter_map(one).collect()
}

fn read<T: serde::de::DeserializeOwned>(path: &Path, what: &str, next: &str) -> Result<T, Failure> {
    let wrong = |why: String| Failure::new(2, format!("the {what} {} cannot be read: {why}", path.display()), next);
    let file = std::fs::File::open(path).map_err(|error| wrong(error.to_string()))?;
    let mut text = String::new();
    file.take(LARGEST).read_to_string(&mut text).map_err(|error| wrong(error.to_string()))?;
    serde_json::from_str(&text).map_err(|error| wrong(format!("it is not one ({error})")))
}

/// 64 hexadecimal digits: of a file its SHA-256, of a folder that of what `sha256sum` prints for the files in it, in order of
/// their paths; a link's line has `link ` and its target in place of the digest.
pub(super) fn digest_of(path: &Path) -> Result<String, Failure> {
    let wrong =
        |at: &Path, error: std::io::Error| Failure::new(2, format!("{} cannot be read: {error}", at.display()), "name a file or a folder");
    if !path.is_dir() {
        return digest_of_file(path).map_err(|error| wrong(path, error));
    }
    let mut lines: Vec<(Vec<u8>, Vec<u8>)> = Vec::new();
    for entry in walkdir::WalkDir::new(path) {
        let entry = entry.map_err(|error| wrong(path, error.into()))?;
        let below = entry.path().strip_prefix(path).unwrap_or(entry.path()).as_os_str().as_bytes().to_vec();
        let at = |error| wrong(entry.path(), error);
        if entry.path_is_symlink() {
            let target = std::fs::read_link(entry.path()).map_err(at)?;
            lines.push((below, [b"link ", target.as_os_str().as_bytes()].concat()));
        } else if entry.file_type().is_file() {
            lines.push((below, digest_of_file(entry.path()).map_err(at)?.into_bytes()));
        }
    }
    lines.sort();
    let mut hash = Sha256::new();
    for (path, digest) in lines {
        hash.update([&digest[..], b"  ", &path, b"\n"].concat());
    }
    Ok(hex(&hash.finalize()))
}

fn digest_of_file(path: &Path) -> std::io::Result<String> {
    let (mut file, mut hash, mut piece) = (std::fs::File::open(path)?, Sha256::new(), vec![0; 1 << 16]);
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hex(&hash.finalize())),
            read => hash.update(&piece[..read]),
        }
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
