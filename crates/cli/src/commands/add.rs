//! `add job`: one more job at the end of its stage's jobs; comments and layout stay as they are.

use super::check;
use crate::failure::{Done, Failure, OK};
use crate::out;
use clap::Subcommand;
use ordotaxis_core::edit::{Edit, EditError, apply};
use ordotaxis_core::language::{Code, Diagnostic, Severity, has_errors};
use ordotaxis_core::plan;
use std::io::Write;
use std::path::Path;
use std::path::PathBuf;

#[derive(Subcommand)]
pub(crate) enum AddCommand {
    /// Add a job, keeping everything else as it is written
    Job {
        /// `STAGE.NAME`
        name: String,
        /// A command; may stand several times
        #[arg(long, required = true)]
        step: Vec<String>,
        /// An artifact to take: STAGE.NAME/ARTIFACT
        #[arg(long)]
        takes: Vec<String>,
        /// A job or stage to come after
        #[arg(long)]
        after: Vec<String>,
        /// A file to leave as an artifact: NAME=GLOB
        #[arg(long, value_name = "NAME=GLOB")]
        gives: Vec<String>,
        #[arg(long, default_value = "ordotaxis.toml")]
        file: PathBuf,
    },
}

pub(super) fn add(command: AddCommand) -> Done {
    let AddCommand::Job { name, step, takes, after, gives, file } = command;
    let text = check::read(&file)?;
    // A stage that is ordered and has no job yet is what the job is for.
    let unfilled = |one: &Diagnostic| {
        one.code == Code::EmptyStage && one.message.contains(&format!("`{}`", name.split('.').next().unwrap_or_default()))
    };
    let before: Vec<Diagnostic> = plan::check(&text).into_iter().filter(|one| !unfilled(one)).collect();
    if has_errors(&before) {
        check::print(&file.display().to_string(), &text, &before)?;
        return Err(Failure::new(1, format!("{} has mistakes already", file.display()), "mend these first; nothing was written"));
    }
    let gives = gives.iter().map(|give| given(give)).collect::<Result<_, _>>()?;
    let edit = Edit::AddJob { job: name.clone(), steps: step, takes, after, gives, place: None };
    let written = apply(&text, &edit).map_err(|error| refused(&error))?;
    let found = plan::check(&written);
    if has_errors(&found) {
        let errors: Vec<_> = found.into_iter().filter(|one| one.severity == Severity::Error).collect();
        check::print(&file.display().to_string(), &written, &errors)?;
        return Err(Failure::new(1, "with that job the file would have mistakes", "nothing was written"));
    }
    replace(&file, &written)?;
    out::print(format!("{}: job {name} is added", file.display()));
    OK
}

fn refused(error: &EditError) -> Failure {
    let (status, what) = match error {
        EditError::NoName(_) | EditError::BadName(_) | EditError::JobThere(_) => (2, "nothing was written"),
        _ => (1, "nothing was written"),
    };
    Failure::new(status, error.to_string(), what)
}

/// `NAME=GLOB`
fn given(give: &str) -> Result<(String, Vec<String>), Failure> {
    let (name, glob) = give
        .split_once('=')
        .ok_or_else(|| Failure::new(2, format!("`--gives {give}` is not NAME=GLOB"), "such as --gives report=out/report.xml"))?;
    Ok((name.to_owned(), vec![glob.to_owned()]))
}

/// Writes beside the file and renames, so that it is never half written.
fn replace(file: &Path, text: &str) -> Result<(), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(1, format!("{} could not be written: {error}", file.display()), "nothing was changed");
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut staging = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
    staging.write_all(text.as_bytes()).map_err(failed)?;
    if let Ok(known) = std::fs::metadata(file) {
        std::fs::set_permissions(staging.path(), known.permissions()).map_err(failed)?;
    }
    staging.persist(file).map_err(|error| failed(error.error))?;
    Ok(())
}
