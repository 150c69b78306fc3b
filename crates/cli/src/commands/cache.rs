//! `cache list`, `cache show`, `cache drop`.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out;
use crate::out::table;
use clap::Subcommand;
use ordotaxis_wire::artifact::FolderView;
use ordotaxis_wire::cache::{CacheView, DroppedView};
use ordotaxis_wire::words;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum CacheCommand {
    /// A project's caches, used last first
    List { project: String },
    /// What lies in one folder of an entry
    Show {
        project: String,
        key: String,
        /// The outermost when absent
        folder: Option<String>,
    },
    /// Drop an entry
    Drop {
        project: String,
        key: String,
        /// All entries whose keys begin so
        #[arg(long)]
        beginning: bool,
    },
}

pub(super) async fn cache(command: CacheCommand, api: &Api, json: bool) -> Done {
    match command {
        CacheCommand::List { project } => {
            let caches: Vec<CacheView> = api.get(&format!("projects/{project}/caches")).await?;
            if json {
                out::json(&caches);
                return OK;
            }
            let head = ["key", "files", "size", "new when saved", "saved by", "used", "times"].map(str::to_owned).to_vec();
            let row = |cache: &CacheView| {
                vec![
                    cache.key.clone(),
                    cache.files.to_string(),
                    words::bytes(cache.bytes),
                    words::bytes(cache.stored_bytes),
                    format!("{} {}", cache.run, cache.job),
                    out::moment(cache.used_at),
                    cache.uses.to_string(),
                ]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(caches.iter().map(row)).collect();
            table(&rows, &format!("{project} has no caches; a job with `cache` makes them"));
            OK
        }
        CacheCommand::Show { project, key, folder } => {
            let query = [("key", key.as_str()), ("folder", folder.as_deref().unwrap_or_default())];
            let view: FolderView = api.read(api.request(Method::GET, &format!("projects/{project}/caches/folder")).query(&query)).await?;
            if json {
                out::json(&view);
            } else {
                print_folder(&view);
            }
            OK
        }
        CacheCommand::Drop { project, key, beginning } => {
            let query = [(if beginning { "beginning" } else { "key" }, key.as_str())];
            let view: DroppedView = api.read(api.request(Method::DELETE, &format!("projects/{project}/caches")).query(&query)).await?;
            let entries = if view.dropped == 1 { "1 entry".to_owned() } else { format!("{} entries", view.dropped) };
            out::print(format!("dropped {entries} of {project}; what nothing else needs goes with the next sweep"));
            OK
        }
    }
}

/// What lies in one folder of a tree.
pub(super) fn print_folder(view: &FolderView) {
    let head = ["mode", "size", "sha256", "name"].map(str::to_owned).to_vec();
    let folder = |folder: &ordotaxis_wire::artifact::SubfolderView| {
        let files = if folder.files == 1 { "1 file".to_owned() } else { format!("{} files", folder.files) };
        vec![String::new(), words::bytes(folder.bytes), files, format!("{}/", folder.name)]
    };
    let file = |file: &ordotaxis_wire::artifact::FileView| {
        let digest = file.digest.as_deref().map(|digest| digest.trim_start_matches("sha256:").chars().take(16).collect::<String>());
        let name = match &file.link {
            Some(target) => format!("{} -> {target}", file.path),
            None => file.path.clone(),
        };
        vec![file.mode.clone(), words::bytes(file.bytes), digest.unwrap_or_default(), name]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(view.folders.iter().map(folder)).chain(view.files.iter().map(file)).collect();
    table(&rows, "there is nothing in this folder");
}
