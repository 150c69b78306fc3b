//! `doctor`: looks at all that a service rests on, and says what to do. Nothing is changed; the service may run or not.

mod finding;
mod folder;
mod machine;

use crate::failure::{Done, OK, failed};
use crate::global::Global;
use crate::out::{self, table};
use finding::{Finding, Level};
use ordotaxis_service::Settings;
use std::path::PathBuf;

/// `doctor`
#[derive(clap::Args)]
pub(crate) struct DoctorOptions {
    /// The data folder of the service
    #[arg(long, default_value = "./ordotaxis-data")]
    data: PathBuf,
    /// The configuration that the service is started with, if it has one
    #[arg(long)]
    config: Option<PathBuf>,
}

pub(super) async fn doctor(options: DoctorOptions, global: &Global) -> Done {
    let findings = look(options, global).await;
    if global.json {
        out::json(&findings);
    } else {
        let head = ["", "what", "says", "do"].map(str::to_owned).to_vec();
        let rows: Vec<Vec<String>> = std::iter::once(head).chain(findings.iter().map(Finding::row)).collect();
        table(&rows, "");
        out::print(sentence(&findings));
    }
    if findings.iter().any(|finding| finding.level == Level::Wrong) { Ok(failed()) } else { OK }
}

async fn look(options: DoctorOptions, global: &Global) -> Vec<Finding> {
    let mut findings = Vec::new();
    let settings = match &options.config {
        None => Settings::new(options.data.clone()),
        Some(path) => match Settings::new(options.data.clone()).with_file(path.clone()) {
            Ok(settings) => {
                findings.push(Finding::well("configuration", format!("{} can be read", path.display())));
                settings
            }
            Err(error) => {
                findings.push(Finding::wrong("configuration", error.to_string(), "mend it; docs/service.md lists all settings"));
                Settings::new(options.data.clone())
            }
        },
    };
    findings.extend(folder::look(&settings).await);
    findings.extend(machine::look(&settings, global).await);
    findings
}

fn sentence(findings: &[Finding]) -> String {
    let count = |level| findings.iter().filter(|finding| finding.level == level).count();
    match (count(Level::Wrong), count(Level::Look)) {
        (0, 0) => "all is well".to_owned(),
        (0, look) => format!("nothing is wrong; {look} to look at"),
        (wrong, 0) => format!("{wrong} wrong"),
        (wrong, look) => format!("{wrong} wrong, {look} to look at"),
    }
}
