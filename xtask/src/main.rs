//! The project's own tasks: `cargo xtask demo | test | lint | release | dist | bench | fuzz | fuzz-api | real | soak`. Each does all set-up it needs: missing programs
//! come from packages where that is allowed, else it says exactly what to install.

mod circles;
mod demo;
mod dist;
mod layers;
mod packages;
mod real;
mod release;
mod setup;

use std::process::ExitCode;

const USAGE: &str = "usage: cargo xtask TASK

  demo [--once]   show everything: forge, service and runners on loopback, with a short real history
                  (--once: replay it, check how it ended, print a table, and leave)
  test            every test, in headless Chromium too
  lint            formatting, clippy, console types and style, licences, features, the layering of crates
  release         what is shipped, into target/ship: the program, and its debug information beside it
  dist [--of PROGRAM] [--to DIR]
                  an archive, a Debian package and an image for containers, into target/ship
  bench           measure, each figure beside its limit
  fuzz            a million changed files and lines: no panic, none slow
  fuzz-api [SECONDS]
                  calls made up from the API's description, for two and a half minutes: each ends as described
  real            five small projects from the registries through init, check and rehearse
  soak [SECONDS]  everything breaking for twice five minutes, then all that is on disk read for what must never be";

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let done = match words.as_slice() {
        ["demo"] => demo::demo(false),
        ["demo", "--once"] => demo::demo(true),
        ["test", rest @ ..] => test(rest),
        ["lint"] => lint(),
        ["release"] => release::release(),
        ["dist", rest @ ..] => dist::Order::read(rest).and_then(|order| dist::dist(&order)),
        ["bench", rest @ ..] => bench(rest),
        ["fuzz"] => fuzz(),
        ["fuzz-api", rest @ ..] => fuzz_api(rest),
        ["real"] => real::real(),
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
    if rest.is_empty() {
        setup::run_in("console", "npm", &["run", "--silent", "test"])?;
    }
    setup::stand_ins()?;
    // The tests start these as processes; one build serves all of them.
    setup::ordotaxis()?;
    let mut arguments = vec!["test", "--workspace", "--quiet"];
    arguments.extend(rest);
    setup::run("cargo", &arguments)?;
    layers::check()
}

fn lint() -> Done {
    circles::check(&setup::root())?;
    setup::console()?;
    setup::run("cargo", &["fmt", "--all", "--check"])?;
    setup::run("cargo", &["clippy", "--workspace", "--all-targets", "--quiet", "--", "-D", "warnings"])?;
    setup::run_in("console", "npm", &["run", "--silent", "lint"])?;
    setup::stand_ins()?;
    packages::check()?;
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

/// The two storms of the system's tests, for longer: five minutes each, or as many seconds as are named.
fn soak(rest: &[&str]) -> Done {
    let seconds = seconds("soak", rest, "300")?;
    setup::programs(setup::FOR_TESTS)?;
    setup::console()?;
    let env = [("ORDOTAXIS_SOAK", seconds.to_owned())];
    system_test(&["--", "faults::", "storm::", "--nocapture", "--test-threads=1"], &env)
        .map_err(|why| format!("{why}; the seed above brings it again (ORDOTAXIS_SEED)"))
}

/// Calls made up from the API's description; bounded in time, and on loopback only.
fn fuzz_api(rest: &[&str]) -> Done {
    let seconds = seconds("fuzz-api", rest, "150")?;
    setup::programs(setup::FOR_TESTS)?;
    setup::console()?;
    let fuzzer = setup::fuzzer()?.display().to_string();
    let env = [("ORDOTAXIS_FUZZER", fuzzer), ("ORDOTAXIS_FUZZ_SECONDS", seconds.to_owned())];
    system_test(&["described::every_call", "--", "--ignored", "--nocapture"], &env)
}

fn seconds<'a>(task: &str, rest: &[&'a str], usual: &'a str) -> Result<&'a str, String> {
    match rest {
        [] => Ok(usual),
        [seconds] if seconds.parse::<u32>().is_ok() => Ok(seconds),
        _ => Err(format!("write `cargo xtask {task}`, or `cargo xtask {task} SECONDS`")),
    }
}

fn system_test(arguments: &[&str], env: &[(&str, String)]) -> Done {
    let mut command = std::process::Command::new(env!("CARGO"));
    command.args(["test", "-p", "ordotaxis-cli", "--test", "system"]).args(arguments).envs(env.iter().cloned()).current_dir(setup::root());
    let done = command.status().map_err(|error| format!("cargo could not be started: {error}"))?;
    if done.success() { Ok(()) } else { Err("it found something: see above".into()) }
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
