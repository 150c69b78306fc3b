//! `artifacts RUN`, `artifacts RUN get NAME --to DIR`.

use super::verify::beside;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::out::table;
use crate::reference::run_ref;
use clap::Subcommand;
use clap::ValueEnum;
use ordotaxis_core::language::nearest;
use ordotaxis_core::provenance::Envelope;
use ordotaxis_wire::artifact::{ArtifactView, FolderView};
use ordotaxis_wire::words;
use reqwest::Method;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;

/// `artifacts`
#[derive(clap::Args)]
pub(crate) struct ArtifactsOptions {
    run: String,
    #[command(subcommand)]
    command: Option<ArtifactCommand>,
}

#[derive(Subcommand)]
pub(crate) enum ArtifactCommand {
    /// Fetch one artifact and unpack it
    Get {
        /// `STAGE.NAME/ARTIFACT`, or `ARTIFACT` where only one job gives it
        name: String,
        #[arg(long, default_value = ".")]
        to: PathBuf,
        /// Keep the archive as it is, in place of unpacking it
        #[arg(long, value_enum)]
        archive: Option<ArchiveForm>,
        /// Only this file of it
        #[arg(long, conflicts_with = "archive")]
        file: Option<String>,
        /// Write links that lead out of the folder, too
        #[arg(long, conflicts_with_all = ["archive", "file"])]
        links: bool,
    },
    /// What lies in one folder of an artifact
    Files {
        name: String,
        /// The outermost when absent
        folder: Option<String>,
    },
    /// Where an artifact comes from, said and signed by the service: for `verify`
    Statement {
        name: String,
        /// Into this file
        #[arg(long)]
        to: Option<PathBuf>,
    },
    /// The bills of materials that the run's jobs left, or one of them as it was written
    Bills {
        #[arg(requires = "file")]
        job: Option<String>,
        file: Option<String>,
    },
    /// Keep an artifact for good
    Pin {
        name: String,
        /// Let it go when its time is over
        #[arg(long)]
        undo: bool,
    },
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ArchiveForm {
    #[value(name = "tar.zst")]
    Tar,
    Zip,
}

pub(super) async fn artifacts(options: ArtifactsOptions, api: &Api, json: bool) -> Done {
    let (run, command) = (&run_ref(&options.run)?, options.command);
    let number = api.run(run).await?.number;
    let all: Vec<ArtifactView> = api.get(&format!("runs/{}/{number}/artifacts", run.project)).await?;
    match command {
        Some(ArtifactCommand::Get { name, to, archive, file, links }) => {
            let artifact = find(&all, &name)?;
            match (archive, file) {
                (Some(form), _) => get_archive(api, artifact, form, &to).await,
                (None, Some(file)) => get_file(api, artifact, &file, &to).await,
                (None, None) => get(api, artifact, &to, links).await,
            }
        }
        Some(ArtifactCommand::Files { name, folder }) => {
            let path = format!("{}/folder", address(find(&all, &name)?));
            let view: FolderView = api.read(api.request(Method::GET, &path).query(&[("folder", folder.unwrap_or_default())])).await?;
            if json {
                out::json(&view);
            } else {
                super::cache::print_folder(&view);
            }
            OK
        }
        Some(ArtifactCommand::Statement { name, to }) => statement(api, find(&all, &name)?, to.as_deref()).await,
        Some(ArtifactCommand::Bills { job, file }) => {
            super::trace::bills(&format!("{}/{number}", run.project), job.as_deref().zip(file.as_deref()), api, json).await
        }
        Some(ArtifactCommand::Pin { name, undo }) => {
            let artifact = find(&all, &name)?;
            let method = if undo { Method::DELETE } else { Method::PUT };
            api.send(api.request(method, &format!("{}/pin", address(artifact)))).await?;
            let kept = if undo { "goes when its time is over" } else { "is kept for good" };
            out::print(format!("{} {kept}", full_name(artifact)));
            OK
        }
        None if json => {
            out::json(&all);
            OK
        }
        None => {
            let head = ["artifact", "files", "size", "digest", "kept until"].map(str::to_owned).to_vec();
            let row = |one: &ArtifactView| {
                let kept = match (&one.pinned_by, one.kept_until) {
                    (Some(by), _) => format!("for good, pinned by {by}"),
                    (None, Some(until)) => until.strftime("%Y-%m-%d").to_string(),
                    (None, None) => String::new(),
                };
                let digest = one.digest.get(..23).unwrap_or(&one.digest).to_owned();
                vec![full_name(one), one.files.to_string(), words::bytes(one.bytes), digest, kept]
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

fn address(artifact: &ArtifactView) -> &str {
    artifact.url.trim_start_matches("/api/v1/")
}

async fn get(api: &Api, artifact: &ArtifactView, to: &Path, links: bool) -> Done {
    fetch(api, artifact, to, links).await?;
    let files = if artifact.files == 1 { "1 file".to_owned() } else { format!("{} files", artifact.files) };
    out::print(format!("{} is in {}: {files}", full_name(artifact), to.display()));
    OK
}

async fn statement(api: &Api, artifact: &ArtifactView, to: Option<&Path>) -> Done {
    let envelope: Envelope = api.get(&format!("{}/provenance", address(artifact))).await?;
    let Some(to) = to else {
        out::json(&envelope);
        return OK;
    };
    write_statement(&envelope, to)?;
    out::print(format!("the statement of {} is in {}", full_name(artifact), to.display()));
    OK
}

fn write_statement(envelope: &Envelope, to: &Path) -> Result<(), Failure> {
    let text = serde_json::to_string(envelope).unwrap_or_default();
    let failed = |error| Failure::new(1, format!("{} could not be written: {error}", to.display()), "name another with --to");
    std::fs::write(to, text).map_err(failed)
}

async fn get_archive(api: &Api, artifact: &ArtifactView, form: ArchiveForm, to: &Path) -> Done {
    let (form, ending) = if form == ArchiveForm::Zip { ("zip", "zip") } else { ("tar.zst", "tar.zst") };
    let name = format!("{}-{}.{ending}", artifact.job.as_str().replace(['[', ']', ','], "_"), artifact.name);
    let into = to.join(name);
    download(api.request(Method::GET, address(artifact)).query(&[("form", form)]), api, &into).await?;
    out::print(format!("{} is in {}", full_name(artifact), into.display()));
    OK
}

async fn get_file(api: &Api, artifact: &ArtifactView, file: &str, to: &Path) -> Done {
    let into = to.join(Path::new(file).file_name().unwrap_or_default());
    let request = api.request(Method::GET, &format!("{}/file", address(artifact))).query(&[("path", file)]);
    download(request, api, &into).await?;
    out::print(format!("{file} of {} is in {}", full_name(artifact), into.display()));
    OK
}

async fn download(request: reqwest::RequestBuilder, api: &Api, into: &Path) -> Result<(), Failure> {
    let mut answer = api.send(request).await?;
    let local = |error: std::io::Error| {
        Failure::new(1, format!("{} could not be written: {error}", into.display()), "choose another folder with --to")
    };
    if let Some(folder) = into.parent() {
        std::fs::create_dir_all(folder).map_err(local)?;
    }
    // Under another name until it is whole.
    let partial = into.with_extension("partial");
    let mut file = std::fs::File::create(&partial).map_err(local)?;
    let broken = |_| Failure::new(3, "the download broke off", "try again");
    while let Some(piece) = answer.chunk().await.map_err(broken)? {
        file.write_all(&piece).map_err(local)?;
    }
    std::fs::rename(&partial, into).map_err(local)
}

/// Fetches one artifact and unpacks it.
pub(super) async fn fetch(api: &Api, artifact: &ArtifactView, to: &Path, links: bool) -> Result<(), Failure> {
    fetch_at(api, (address(artifact), &full_name(artifact)), to, links).await
}

/// Fetches the artifact at an address and what is said of it, side by side.
pub(super) async fn fetch_with_statement(api: &Api, at: (&str, &str), to: &Path) -> Result<(), Failure> {
    fetch_at(api, at, to, false).await?;
    let envelope: Envelope = api.get(&format!("{}/provenance", at.0)).await?;
    write_statement(&envelope, &beside(to))
}

async fn fetch_at(api: &Api, (address, name): (&str, &str), to: &Path, links: bool) -> Result<(), Failure> {
    let local = |error| Failure::new(1, format!("no temporary folder could be made: {error}"), "make room in it, or set TMPDIR to another");
    let folder = tempfile::tempdir().map_err(local)?;
    let archive = folder.path().join("archive.tar.zst");
    download(api.request(Method::GET, address), api, &archive).await?;
    let unpacked = ordotaxis_runner::unpack(&archive, to, links);
    let outside = unpacked.map_err(|why| Failure::new(1, format!("{name} could not be unpacked: {why}"), "try again"))?;
    for link in outside {
        out::remark(match links {
            true => format!("  {link} leads out of the folder"),
            false => format!("  {link} leads out of the folder and was left out; --links writes it"),
        });
    }
    Ok(())
}
