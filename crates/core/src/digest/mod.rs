//! What a job's result depends on, and a key made of it: the same key, the same result.
//!
//! A job that says `reuse` promises that its result depends on the files it names, and on what it says itself. Each part
//! is kept by name, so that for a key that differs one can say which part did.

use crate::language::Extras;
use crate::plan::{Plan, PlannedJob};
use globset::{GlobBuilder, GlobSetBuilder};
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// Part → its value, short or a digest. Names are for people: `input src/gauge.c`, `variable GAUGE_UNITS`.
pub type Parts = BTreeMap<String, String>;

/// What is known of a job just before it starts, beside the plan.
#[derive(Debug, Clone, Default)]
pub struct Before<'a> {
    /// Files that `reuse` names, of the commit: path → mode and digest.
    pub files: BTreeMap<String, String>,
    /// What it takes: `STAGE.NAME/ARTIFACT` → what is in it; none when nothing was given.
    pub takes: Vec<(String, Option<String>)>,
    /// Inputs of the run and of the start by hand.
    pub inputs: BTreeMap<&'a str, &'a str>,
    /// Facts that its texts name: `STAGE.JOB.NAME` → value.
    pub facts: Vec<(String, Option<String>)>,
}

/// Everything that can change the result of a job.
pub fn parts(plan: &Plan, job: &PlannedJob, before: &Before<'_>) -> Parts {
    let mut parts = Parts::new();
    let mut put = |name: String, value: String| drop(parts.insert(name, value));
    for (path, digest) in &before.files {
        put(format!("input {path}"), digest.clone());
    }
    for (name, content) in &before.takes {
        put(format!("what it takes from {name}"), content.clone().unwrap_or_else(|| "nothing".into()));
    }
    for (name, value) in &before.inputs {
        put(format!("input of the run `{name}`"), (*value).to_owned());
    }
    for (name, value) in &before.facts {
        put(format!("fact {name}"), value.clone().unwrap_or_default());
    }
    for (name, value) in &job.env {
        put(format!("variable {name}"), value.clone());
    }
    for (axis, value) in &job.cell {
        put(format!("axis {axis}"), value.clone());
    }
    put("the command".into(), said(&job.steps));
    put("where it runs".into(), said(&job.labels));
    put("where files are taken to".into(), said(&job.takes.iter().map(|take| (&take.to, take.apart)).collect::<Vec<_>>()));
    put("what it gives".into(), said(&job.gives.iter().map(|give| (&give.artifact, &give.paths, give.none)).collect::<Vec<_>>()));
    put("its checkout".into(), said(&job.checkout));
    put("the pipeline's name".into(), plan.pipeline.clone());
    if let Some(extras) = &job.extras {
        put_extras(extras, &mut put);
    }
    parts
}

fn put_extras(extras: &Extras, put: &mut impl FnMut(String, String)) {
    for (tool, wanted) in &extras.tools {
        put(format!("tool {tool}"), wanted.0.value.source());
    }
    put("the image".into(), extras.image.as_ref().map(|image| image.0.value.source()).unwrap_or_default());
    put("the network".into(), (extras.network != Some(false)).to_string());
    put("its facts".into(), said(&extras.facts));
    put("its secrets".into(), said(&extras.secrets));
    // Absent from keys of earlier versions: where there is nothing, nothing is put.
    if !extras.allows.is_empty() || !extras.identity.is_empty() {
        put("what it is allowed".into(), said(&(&extras.allows, &extras.identity)));
    }
    if !extras.connections.is_empty() {
        put("its connections".into(), said(&extras.connections));
    }
    put("its reports".into(), said(&extras.reports));
    put("its helpers".into(), said(&extras.beside));
    put("what comes afterwards".into(), said(&extras.afterwards));
    put("its inputs' globs".into(), said(&extras.reuse));
    put("its share".into(), said(&extras.split));
}

/// Those of a commit's files that fit one of the globs; a glob with `!` before it takes away.
///
/// ```
/// use ordotaxis_core::digest::fitting;
/// let files = ["src/a.c", "src/a_test.c", "README"].map(|path| (path.to_owned(), "its digest".to_owned()));
/// let chosen: Vec<String> = fitting(&["src", "!**/*_test.c"], &files).into_keys().collect();
/// assert_eq!(chosen, ["src/a.c"]);
/// ```
pub fn fitting(globs: &[&str], files: &[(String, String)]) -> BTreeMap<String, String> {
    let set = |globs: &mut dyn Iterator<Item = &str>| {
        let mut set = GlobSetBuilder::new();
        globs.filter_map(|glob| GlobBuilder::new(glob).literal_separator(true).build().ok()).for_each(|glob| {
            set.add(glob);
        });
        set.build().unwrap_or_default()
    };
    let wanted = set(&mut globs.iter().copied().filter(|glob| !glob.starts_with('!')));
    let unwanted = set(&mut globs.iter().filter_map(|glob| glob.strip_prefix('!')));
    let fits = |path: &str| std::path::Path::new(path).ancestors().any(|part| wanted.is_match(part)) && !unwanted.is_match(path);
    files.iter().filter(|(path, _)| fits(path)).cloned().collect()
}

/// A short digest of a value as it is written down.
fn said(value: &impl Serialize) -> String {
    let text = serde_json::to_string(value).unwrap_or_default();
    hex(&Sha256::digest(text.as_bytes())[..12])
}

/// One key for all parts: SHA-256 over names and values with their lengths, 64 hexadecimal digits.
pub fn key(parts: &Parts) -> String {
    let mut hash = Sha256::new();
    for text in parts.iter().flat_map(|(name, value)| [name, value]) {
        hash.update((text.len() as u64).to_le_bytes());
        hash.update(text.as_bytes());
    }
    hex(&hash.finalize())
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Which parts are others now, in words. Empty where none is.
///
/// ```
/// use ordotaxis_core::digest::{Parts, differences, key, why_not};
/// let parts = |list: &[(&str, &str)]| list.iter().map(|(name, value)| (name.to_string(), value.to_string())).collect::<Parts>();
/// let (before, now) = (parts(&[("its steps", "a"), ("its image", "x")]), parts(&[("its steps", "b")]));
/// let found = differences(&before, &now);
/// assert_eq!(found, ["its steps is another", "its image is gone"]);
/// assert_eq!(why_not(&found, "tidegauge/7"), "its steps is another since tidegauge/7, and 1 more");
/// assert_ne!(key(&before), key(&now));
/// ```
pub fn differences(before: &Parts, now: &Parts) -> Vec<String> {
    let changed = now.iter().filter_map(|(name, value)| match before.get(name) {
        None => Some(format!("{name} is new")),
        Some(known) if known != value => Some(format!("{name} is another")),
        _ => None,
    });
    let gone = before.keys().filter(|name| !now.contains_key(*name)).map(|name| format!("{name} is gone"));
    changed.chain(gone).collect()
}

/// The same as one sentence: the first difference, and how many more there are.
pub fn why_not(differences: &[String], run: &str) -> String {
    match differences {
        [] => format!("nothing differs from {run}"),
        [one] => format!("{one} since {run}"),
        [first, rest @ ..] => format!("{first} since {run}, and {} more", rest.len()),
    }
}
