//! The project's own tasks: `cargo xtask demo | test | lint | bench | fuzz | soak`. Each does all set-up it needs: missing programs
//! come from packages where that is allowed, else it says exactly what to install.

mod demo;
mod layers;
mod setup;

use std::process::ExitCode;

const USAGE: &str = "usage: cargo xtask TASK

  demo [--once]   show everything: forge, service and runners on loopback, with a short real history
                  (--once: replay it, check how it ended, print a table, and leave)
  test            every test, in headless Chromium too
  lint            formatting, clippy, console types and style, the layering of crates
  bench           measure, each figure beside its limit
  fuzz            a million changed files and lines: no panic, none slow
  soak [SECONDS]  everything breaking for five minutes, then the journal read for what must never happen";

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let done = match words.as_slice() {
        ["demo"] => demo::demo(false),
        ["demo", "--once"] => demo::demo(true),
        ["test", rest @ ..] => test(rest),
        ["lint"] => lint(),
        ["bench", rest @ ..] => bench(rest),
        ["fuzz"] => fuzz(),
        ["soak", rest @ ..] => soak(rest),
        _ => {
            eprintln!("{USAGE}");
            return ExitCode::from(2);
        }
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("xtask: {why}");
            ExitCode::FAILURE
        }
    }
}

type Done = Result<(), String>;

fn test(rest: &[&str]) -> Done {
    setup::programs(setup::FOR_TESTS)?;
    setup::console()?;
    setup::stand_ins()?;
    // The tests start these as processes; one build serves all of them.
    setup::ordotaxis()?;
    let mut arguments = vec!["test", "--workspace", "--quiet"];
    arguments.extend(rest);
    setup::run("cargo", &arguments)?;
    layers::check()
}

fn lint() -> Done {
    setup::console()?;
    setup::run("cargo", &["fmt", "--all", "--check"])?;
    setup::run("cargo", &["clippy", "--workspace", "--all-targets", "--quiet", "--", "-D", "warnings"])?;
    setup::run_in("console", "npm", &["run", "--silent", "lint"])?;
    layers::check()
}

fn bench(rest: &[&str]) -> Done {
    setup::programs(setup::FOR_DEMO)?;
    setup::console()?;
    setup::run("cargo", &["build", "--quiet", "--release", "--package", "ordotaxis-cli"])?;
    let mut arguments = vec!["run", "--quiet", "--release", "--package", "ordotaxis-testbed", "--bin", "ordotaxis-bench", "--"];
    arguments.extend(rest);
    setup::run("cargo", &arguments)
}

/// The storm of the system's tests, for longer: five minutes, or as many seconds as are named.
fn soak(rest: &[&str]) -> Done {
    let seconds = match rest {
        [] => "300",
        [seconds] if seconds.parse::<u32>().is_ok() => seconds,
        _ => return Err("write `cargo xtask soak`, or `cargo xtask soak SECONDS`".into()),
    };
    setup::programs(setup::FOR_TESTS)?;
    setup::console()?;
    let test = ["test", "-p", "ordotaxis-cli", "--test", "system", "faults::whatever", "--", "--nocapture"];
    let done = std::process::Command::new(env!("CARGO")).args(test).env("ORDOTAXIS_SOAK", seconds).current_dir(setup::root()).status();
    let done = done.map_err(|error| format!("cargo could not be started: {error}"))?;
    if done.success() { Ok(()) } else { Err("the soak found something: the seed above brings it again (ORDOTAXIS_SEED)".into()) }
}

/// The proptest mutator of the core's tests, with many cases and without debug checks in the way of time.
fn fuzz() -> Done {
    let mut command = std::process::Command::new("cargo");
    command.args(["test", "--release", "--package", "ordotaxis-core", "--test", "core", "mutated", "--", "--nocapture"]);
    let status = command.env("ORDOTAXIS_CASES", "1000000").current_dir(setup::root()).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("the fuzzing ended with {status}")),
        Err(error) => Err(format!("cargo could not be started: {error}")),
    }
}
