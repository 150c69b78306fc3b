//! `init`: looks at the folder and writes a first pipeline for what it finds.

mod folder;

use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::written;
use ordotaxis_core::first::{FirstFile, first_file};
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
    let here = Path::new(".");
    let FirstFile { text, found, unsure } = first_file(&folder::look(here), &super::local::branch(here));
    if print {
        written::bytes(text.as_bytes());
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
    out::print(format!("{FILE} is written; found {}", if found.is_empty() { "nothing to build".into() } else { found.join("; ") }));
    unsure.iter().for_each(|line| out::remark(format!("  not sure: {line}")));
    out::remark("  next: ordotaxis check, ordotaxis plan, ordotaxis rehearse");
    OK
}
