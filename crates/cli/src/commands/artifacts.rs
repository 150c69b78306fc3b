//! `artifacts RUN`, `artifacts RUN get NAME --to DIR`.

use super::{Done, Failure, OK, table};
use crate::api::Api;
use crate::options::ArtifactCommand;
use crate::out;
use crate::reference::RunRef;
use ordotaxis_core::language::nearest;
use ordotaxis_wire::view::ArtifactView;
use ordotaxis_wire::words;
use reqwest::Method;
use std::io::Write;
use std::path::Path;

pub(super) async fn artifacts(api: &Api, run: &RunRef, command: Option<ArtifactCommand>, json: bool) -> Done {
    let number = api.run(run).await?.number;
    let all: Vec<ArtifactView> = api.get(&format!("runs/{}/{number}/artifacts", run.project)).await?;
    match command {
        Some(ArtifactCommand::Get { name, to }) => get(api, &all, &name, &to).await,
        None if json => {
            out::json(&all);
            OK
        }
        None => {
            let head = ["artifact", "files", "packed", "digest"].map(str::to_owned).to_vec();
            let row = |one: &ArtifactView| {
                vec![full_name(one), one.files.to_string(), words::bytes(one.bytes), one.digest.get(..23).unwrap_or(&one.digest).to_owned()]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
            table(&rows, "this run has given no artifacts");
            OK
        }
    }
}

fn full_name(artifact: &ArtifactView) -> String {
    format!("{}/{}", artifact.job, artifact.name)
}

fn find<'a>(all: &'a [ArtifactView], name: &str) -> Result<&'a ArtifactView, Failure> {
    let fitting: Vec<&ArtifactView> = all.iter().filter(|one| full_name(one) == name || one.name == name).collect();
    let names: Vec<String> = all.iter().map(full_name).collect();
    match fitting.as_slice() {
        [one] => Ok(one),
        [] => {
            let hint = match nearest(name, names.iter().map(String::as_str)) {
                Some(near) => format!("did you mean {near}?"),
                None => format!("it has: {}", if names.is_empty() { "none".into() } else { names.join(", ") }),
            };
            Err(Failure::new(2, format!("the run has no artifact {name}"), hint))
        }
        _ => Err(Failure::new(2, format!("several jobs give {name}"), "name it as STAGE.NAME/ARTIFACT")),
    }
}

async fn get(api: &Api, all: &[ArtifactView], name: &str, to: &Path) -> Done {
    let artifact = find(all, name)?;
    fetch(api, artifact, to).await?;
    let files = if artifact.files == 1 { "1 file".to_owned() } else { format!("{} files", artifact.files) };
    out::print(format!("{} is in {}: {files}", full_name(artifact), to.display()));
    OK
}

/// Fetches one artifact and unpacks it.
pub(super) async fn fetch(api: &Api, artifact: &ArtifactView, to: &Path) -> Result<(), Failure> {
    let path = artifact.url.trim_start_matches("/api/v1/");
    let mut answer = api.send(api.request(Method::GET, path)).await?;
    let local = |error: std::io::Error| {
        Failure::new(1, format!("{} could not be written: {error}", to.display()), "choose another folder with --to")
    };
    let archive = std::env::temp_dir().join(format!("ordotaxis-{}-{}", std::process::id(), artifact.name));
    let mut file = std::fs::File::create(&archive).map_err(local)?;
    let broken = |_| Failure::new(3, "the download broke off", "try again");
    while let Some(piece) = answer.chunk().await.map_err(broken)? {
        file.write_all(&piece).map_err(local)?;
    }
    let unpacked = ordotaxis_runner::unpack_checked(&archive, &artifact.digest, to);
    let _ = std::fs::remove_file(&archive);
    unpacked.map_err(|why| Failure::new(1, format!("{} could not be unpacked: {why}", full_name(artifact)), "try again"))
}
