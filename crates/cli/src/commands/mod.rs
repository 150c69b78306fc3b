//! One file a group of commands.

mod add;
mod artifacts;
mod cache;
mod check;
mod compare;
mod connection;
mod init;
mod local;
mod logs;
mod message;
mod pipeline;
mod plan;
mod project;
mod rehearse;
mod runner;
mod runs;
mod sarif;
mod secret;
mod serve;
mod share;
mod show;
mod sign_in;
mod store;
mod tests;
mod watch;

use crate::api::Api;
use crate::options::{Command, Options, PlanFormat};
use crate::out;
use crate::reference::RunRef;
use anstyle::{AnsiColor, Style};
use ordotaxis_wire::ask::{Again, NewRun};
use std::process::ExitCode;

/// Why a command did not do what it was asked: one line what, one line what to do.
#[derive(Debug)]
pub(crate) struct Failure {
    code: u8,
    what: String,
    next: String,
}

impl Failure {
    pub(crate) fn new(code: u8, what: impl Into<String>, next: impl Into<String>) -> Failure {
        Failure { code, what: what.into(), next: next.into() }
    }

    /// Whether what went wrong is said with these words.
    pub(crate) fn says(&self, words: &str) -> bool {
        self.what.contains(words)
    }

    /// The service is away, or went away in the middle of its answer: it may be back soon.
    pub(crate) fn is_passing(&self) -> bool {
        self.says("could not be reached") || self.says("broke off")
    }

    pub(crate) fn interrupted() -> Failure {
        Failure::new(130, "interrupted", "")
    }

    pub(crate) fn report(self) -> ExitCode {
        let red = Style::new().fg_color(Some(AnsiColor::Red.into()));
        anstream::eprintln!("{red}ordotaxis: {}{red:#}", self.what);
        if !self.next.is_empty() {
            anstream::eprintln!("  {}", self.next);
        }
        ExitCode::from(self.code)
    }
}

pub(crate) type Done = Result<ExitCode, Failure>;

pub(crate) const OK: Done = Ok(ExitCode::SUCCESS);

/// The work itself failed: a run failed, a check found an error.
pub(crate) fn failed() -> ExitCode {
    ExitCode::from(1)
}

fn run_ref(text: &str) -> Result<RunRef, Failure> {
    text.parse().map_err(|what: String| Failure::new(2, what, "name one as PROJECT/NUMBER, or PROJECT for its newest"))
}

pub(crate) async fn run(options: Options, mounts: bool) -> Done {
    let global = options.global;
    let api = || Api::new(&global);
    match options.command {
        Command::Check { files, format } => check::check(files, format, global.json).await,
        Command::Plan { file, format, occasion, reasons, against } => {
            let format = if global.json { PlanFormat::Json } else { format };
            plan::plan(&file, format, &occasion, reasons, against.as_deref()).await
        }
        Command::Rehearse { jobs, pipeline, occasion, slots, only_changed, keep, isolation } => {
            let ask = rehearse::Ask { jobs, pipeline, slots, only_changed, keep, isolation, mounts, json: global.json };
            rehearse::rehearse(ask, &occasion).await
        }
        Command::Init { print } => init::init(print),
        Command::Add { command } => add::add(command),
        Command::Schema => {
            out::json(&ordotaxis_core::language::schema());
            OK
        }
        Command::Pipeline { command } => pipeline::pipeline(command, &api()?, global.json).await,
        Command::Serve { data, listen, config } => serve::serve(data, listen, config).await,
        Command::Runner { command } => runner::runner(command, &global, mounts).await,
        Command::Project { command } => project::project(command, &api()?, global.json).await,
        Command::Start { project, reference, pipeline, input, job, watch } => {
            let inputs = local::inputs(&input)?.into_iter().collect();
            if project.contains('/') {
                let ask = runs::ByHand { reference, pipeline, inputs, jobs: job, watch };
                return runs::start_jobs(&api()?, &run_ref(&project)?, ask, global.json).await;
            }
            runs::start(&api()?, &project, NewRun { reference, pipeline, inputs, jobs: job }, watch, global.json).await
        }
        Command::Again { run, failed, job, fresh, watch } => {
            runs::again(&api()?, &run_ref(&run)?, Again { failed, jobs: job, fresh }, watch, global.json).await
        }
        Command::Share { files } => share::share(files),
        Command::Secret { command } => secret::secret(command, &api()?, global.json).await,
        Command::Runs { project, count } => runs::list(&api()?, project, count, global.json).await,
        Command::Show { run } => show::show(&api()?, &run_ref(&run)?, global.json).await,
        Command::Watch { run } => watch::watch(&api()?, &run_ref(&run)?, global.json).await,
        Command::Why { run, job } => show::why(&api()?, &run_ref(&run)?, job.as_deref(), global.json).await,
        Command::Logs { run, job, follow, attempt, step, since, grep, times, beside } => {
            let ask = logs::Ask { job, follow, attempt, step, since, grep, times, beside };
            logs::logs(&api()?, &run_ref(&run)?, ask).await
        }
        Command::Allow { run } => runs::allow(&api()?, &run_ref(&run)?, global.json).await,
        Command::Message { command } => message::message(command, &api()?, global.json).await,
        Command::Stop { run, job } => runs::stop(&api()?, &run_ref(&run)?, job, global.json).await,
        Command::Artifacts { run, command } => artifacts::artifacts(&api()?, &run_ref(&run)?, command, global.json).await,
        Command::Tests { run, flaky, test, all } => {
            tests::tests(&api()?, &run_ref(&run)?, tests::Ask { flaky, test, all }, global.json).await
        }
        Command::Findings { run } => tests::findings(&api()?, &run_ref(&run)?, global.json).await,
        Command::Numbers { project, pipeline } => tests::numbers(&api()?, &project, &pipeline, global.json).await,
        Command::Compare { before, after } => compare::compare(&api()?, &run_ref(&before)?, &run_ref(&after)?, global.json).await,
        Command::Cache { command } => cache::cache(command, &api()?, global.json).await,
        Command::Store { command } => store::store(command, &api()?, global.json).await,
        Command::Connection { command } => connection::connection(command, &api()?, global.json).await,
        Command::SignIn { link } => sign_in::sign_in(&global, link).await,
    }
}

/// Prints rows in columns, or what to say when there are none.
fn table(rows: &[Vec<String>], none: &str) {
    if rows.len() <= 1 {
        return out::remark(none);
    }
    let lines = out::columns(rows);
    out::print(out::dim(&out::fit(&lines[0])));
    for line in &lines[1..] {
        out::print(out::fit(line));
    }
}
