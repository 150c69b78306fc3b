//! What commands that need no service know of the folder they run in: its git, the occasion to plan for, and what the
//! file borrows, kept in mirrors of the user's cache folder.

use crate::failure::Failure;
use clap::Args;
use clap::ValueEnum;
use indexmap::IndexMap;
use ordotaxis_core::plan::{BorrowedFiles, Cause, Event, Occasion, Ref, borrows};
use ordotaxis_git::{Access, Mirrors};
use sha2::{Digest, Sha256};
use std::path::{Path, PathBuf};
use std::process::Command;

/// What happens, as far as a plan depends on it.
#[derive(Args, Clone)]
pub(crate) struct OccasionOptions {
    /// What happens; a push, when no other option says otherwise
    #[arg(long, value_enum)]
    pub(crate) event: Option<EventChoice>,
    /// The branch; the one that is checked out here, else main
    #[arg(long)]
    pub(crate) branch: Option<String>,
    /// The tag that is pushed
    #[arg(long)]
    pub(crate) tag: Option<String>,
    /// The branch that a proposal is aimed at
    #[arg(long)]
    pub(crate) target: Option<String>,
    /// A path that changed; without any, everything may have
    #[arg(long, value_name = "PATH")]
    pub(crate) changed: Vec<String>,
    /// A value for an input of the file: NAME=VALUE
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) input: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
#[value(rename_all = "snake_case")]
pub(crate) enum EventChoice {
    Push,
    Proposal,
    Tag,
    Schedule,
    ByHand,
    Pipeline,
    Landing,
}

/// What git says in this folder; none where it fails or is missing.
pub(super) fn git(dir: &Path, args: &[&str]) -> Option<String> {
    let output = Command::new("git").arg("-C").arg(dir).args(args).env("GIT_TERMINAL_PROMPT", "0").output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim_end().to_owned())
}

pub(super) fn branch(dir: &Path) -> String {
    git(dir, &["symbolic-ref", "--quiet", "--short", "HEAD"]).filter(|branch| !branch.is_empty()).unwrap_or_else(|| "main".into())
}

/// `NAME=VALUE` each.
pub(super) fn inputs(options: &[String]) -> Result<IndexMap<String, String>, Failure> {
    let pair = |text: &String| {
        let (name, value) = text.split_once('=').filter(|(name, _)| !name.is_empty())?;
        Some((name.to_owned(), value.to_owned()))
    };
    let unfit = |text: &String| Failure::new(2, format!("`--input {text}` is not NAME=VALUE"), "such as --input station=lock-gate");
    options.iter().map(|text| pair(text).ok_or_else(|| unfit(text))).collect()
}

/// The occasion that the options name; what they leave out comes from the folder.
pub(super) fn occasion(options: &OccasionOptions, dir: &Path) -> Result<Occasion, Failure> {
    let event = match options.event {
        Some(EventChoice::Push) => Event::Push,
        Some(EventChoice::Proposal) => Event::Proposal,
        Some(EventChoice::Tag) => Event::Tag,
        Some(EventChoice::Schedule) => Event::Schedule,
        Some(EventChoice::ByHand) => Event::ByHand,
        Some(EventChoice::Pipeline) => Event::Pipeline,
        Some(EventChoice::Landing) => Event::Landing,
        None if options.tag.is_some() => Event::Tag,
        None if options.target.is_some() => Event::Proposal,
        None if !options.input.is_empty() => Event::ByHand,
        None => Event::Push,
    };
    let named = |what: &str| Failure::new(2, format!("--event {} needs --{what}", event.word()), format!("name the {what} it is about"));
    let branch = || options.branch.clone().unwrap_or_else(|| branch(dir));
    let on = || Some(Ref::Branch(branch()));
    let cause = match event {
        Event::Push => Cause::Push { branch: branch(), before: None },
        Event::Tag => Cause::Tag { tag: options.tag.clone().ok_or_else(|| named("tag"))? },
        Event::Proposal => {
            let target = options.target.clone().ok_or_else(|| named("target"))?;
            Cause::Proposal { target, source: Some(branch()), outside: false, number: None, merges: None }
        }
        Event::Schedule => Cause::Schedule { line: None, branch: Some(branch()) },
        // Promotions and the like are made of a run, not of a file: no option names them.
        Event::ByHand | Event::Promotion | Event::RollBack | Event::Closing => Cause::ByHand { on: on() },
        Event::Landing => {
            let target = options.target.clone().ok_or_else(|| named("target"))?;
            Cause::Landing { target, trial: 1, outside: false, base: String::new() }
        }
        Event::Pipeline => Cause::Passed { pipeline: None, on: on() },
    };
    let changed = (!options.changed.is_empty()).then(|| options.changed.clone());
    let author = git(dir, &["config", "user.name"]);
    Ok(Occasion { inputs: inputs(&options.input)?, changed, author, ..Occasion::new(cause) })
}

/// Fetches what a file borrows. What cannot be had is there with the reason.
pub(super) async fn fetch_borrowed(text: &str) -> BorrowedFiles {
    let mut borrowed = BorrowedFiles::new();
    let wanted = borrows(text);
    if wanted.is_empty() {
        return borrowed;
    }
    let mirrors = Mirrors::new(cache().join("borrowed"));
    for (name, borrow) in wanted {
        let borrow = borrow.value;
        let digest: String = Sha256::digest(borrow.git.as_bytes()).iter().take(10).map(|byte| format!("{byte:02x}")).collect();
        let mirror = mirrors.get(&digest, &borrow.git, Access::default());
        borrowed.insert(name, ordotaxis_service::read_borrowed(&mirror, &borrow).await.map_err(|error| error.to_string()));
    }
    borrowed
}

/// The user's cache folder for everything of ours.
pub(super) fn cache() -> PathBuf {
    use etcetera::BaseStrategy;
    etcetera::choose_base_strategy().map_or_else(|_| std::env::temp_dir(), |strategy| strategy.cache_dir()).join("ordotaxis")
}
