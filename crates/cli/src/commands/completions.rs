//! `completions` and `manual`: what a shell and `man` know of the commands, made from the same options that are parsed.

use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::written;
use std::path::PathBuf;

/// `completions`
#[derive(clap::Args)]
pub(crate) struct CompletionsOptions {
    #[arg(value_enum)]
    shell: Shell,
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

/// `manual`
#[derive(clap::Args)]
pub(crate) struct ManualOptions {
    /// A folder, made where it is not there: `man -M` its parent, or copy them to `/usr/local/share/man/man1`
    folder: PathBuf,
}

pub(super) fn completions(options: &CompletionsOptions, mut command: clap::Command) -> Done {
    let mut text = Vec::new();
    let shell = match options.shell {
        Shell::Bash => clap_complete::Shell::Bash,
        Shell::Zsh => clap_complete::Shell::Zsh,
        Shell::Fish => clap_complete::Shell::Fish,
    };
    clap_complete::generate(shell, &mut command, "ordotaxis", &mut text);
    written::bytes(&text);
    OK
}

pub(super) fn manual(options: &ManualOptions, command: clap::Command) -> Done {
    let failed = |error: std::io::Error| {
        let what = format!("the pages could not be written to {}: {error}", options.folder.display());
        Failure::new(1, what, "name a folder that can be written")
    };
    std::fs::create_dir_all(&options.folder).map_err(failed)?;
    clap_mangen::generate_to(command, &options.folder).map_err(failed)?;
    out::remark(format!("the manual is in {}", options.folder.display()));
    OK
}
