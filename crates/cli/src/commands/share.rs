//! `share`: this copy's files, in a job with a `split`. Every copy works out the same shares, from the durations that were
//! known when the run began.

use crate::failure::{Done, Failure, OK};
use crate::written;
use ordotaxis_core::share::shares;
use ordotaxis_wire::runner::Share;
use std::collections::BTreeMap;
use std::io::Read;

/// `share`
#[derive(clap::Args)]
pub(crate) struct ShareOptions {
    /// Test files; from standard input, a line each, when none is named
    files: Vec<String>,
}

pub(super) fn share(options: ShareOptions) -> Done {
    let files = options.files;
    let files = if files.is_empty() { from_input()? } else { files };
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<usize>().ok());
    let (index, count) = (number("ORDOTAXIS_SHARE_INDEX").unwrap_or(1), number("ORDOTAXIS_SHARE_COUNT").unwrap_or(1));
    if index == 0 || index > count {
        let what = format!("ORDOTAXIS_SHARE_INDEX is {index} and ORDOTAXIS_SHARE_COUNT {count}");
        return Err(Failure::new(2, what, "leave both as the job finds them, or unset both"));
    }
    let names: Vec<&str> = files.iter().map(String::as_str).collect();
    for file in &shares(&names, &usual()?, count)[index - 1] {
        written::bytes(format!("{file}\n").as_bytes());
    }
    OK
}

fn from_input() -> Result<Vec<String>, Failure> {
    let mut text = String::new();
    let read = std::io::stdin().read_to_string(&mut text);
    read.map_err(|error| Failure::new(2, format!("standard input could not be read: {error}"), "name the files as arguments"))?;
    Ok(text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect())
}

/// Past durations, where the job has some and does not share by number alone.
fn usual() -> Result<BTreeMap<String, i64>, Failure> {
    let Some(path) = std::env::var_os("ORDOTAXIS_SHARE_TIMES") else { return Ok(BTreeMap::new()) };
    let broken = |why: String| {
        let what = format!("the past durations in {} could not be read: {why}", path.to_string_lossy());
        Failure::new(3, what, "leave that file and ORDOTAXIS_SHARE_TIMES as the job finds them")
    };
    let text = std::fs::read_to_string(&path).map_err(|error| broken(error.to_string()))?;
    let share: Share = serde_json::from_str(&text).map_err(|error| broken(error.to_string()))?;
    Ok(if share.by_time { share.usual } else { BTreeMap::new() })
}
