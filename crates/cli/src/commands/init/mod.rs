//! `init`: looks at the folder and writes a first pipeline for what it finds.

mod kinds;
mod write;

use crate::failure::{Done, Failure, OK};
use crate::out;
use std::io::Write;
use std::path::Path;

/// `init`
#[derive(clap::Args)]
pub(crate) struct InitOptions {
    /// Print it instead
    #[arg(long)]
    print: bool,
}

const FILE: &str = "ordotaxis.toml";

pub(super) fn init(options: InitOptions) -> Done {
    let print = options.print;
    let folder = Path::new(".");
    let found = kinds::look(folder);
    let branch = super::local::branch(folder);
    let text = write::text(&found, &branch);
    if print {
        print!("{text}");
        return OK;
    }
    let known = |error: std::io::Error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Failure::new(
            2,
            format!("there is an {FILE} already"),
            "it stays as it is; `ordotaxis init --print` shows what would be written",
        ),
        _ => Failure::new(1, format!("{FILE} could not be written: {error}"), "make the folder writable"),
    };
    let mut file = std::fs::File::create_new(FILE).map_err(known)?;
    file.write_all(text.as_bytes()).map_err(known)?;
    let what: Vec<&str> = found.iter().map(|kind| kind.says.as_str()).collect();
    out::print(format!("{FILE} is written; found {}", if what.is_empty() { "nothing to build".into() } else { what.join("; ") }));
    out::remark("  next: ordotaxis check, ordotaxis plan, ordotaxis rehearse");
    OK
}
