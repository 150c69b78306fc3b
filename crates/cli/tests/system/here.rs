//! What needs no service: rehearse, init, add, plan, check and schema in a folder.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::RunnerOptions;
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use tempfile::TempDir;

pub(crate) fn here(folder: &Path, arguments: &[&str]) -> (i32, String, String) {
    let mut command = Command::new(ORDOTAXIS);
    command.args(arguments).current_dir(folder).env("GIT_CEILING_DIRECTORIES", "/tmp");
    // Not what whoever runs the tests keeps: they may be signed in.
    let own = Path::new(env!("CARGO_TARGET_TMPDIR")).join("here");
    command.env("XDG_CACHE_HOME", own.join("cache")).env("XDG_CONFIG_HOME", own.join("config"));
    command.env_remove("ORDOTAXIS_URL").env_remove("ORDOTAXIS_TOKEN");
    let Output { status, stdout, stderr } = command.output().expect("the client starts");
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    (status.code().unwrap_or(-1), text(stdout), text(stderr))
}

pub(crate) fn folder(files: &[(&str, &str)]) -> TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    for (name, text) in files {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, text).expect("a file");
    }
    folder
}

pub(crate) fn git(folder: &Path, arguments: &[&str]) -> String {
    let who = ["-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example"];
    let output = Command::new("git").args(who).args(arguments).current_dir(folder).output().expect("git starts");
    assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// Every file below a folder with its contents.
pub(crate) fn contents(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(at) = open.pop() {
        for entry in std::fs::read_dir(&at).expect("a folder").flatten() {
            match entry.path() {
                path if path.is_dir() => open.push(path),
                path => drop(found.insert(path.strip_prefix(folder).expect("below").to_owned(), std::fs::read(&path).expect("a file"))),
            }
        }
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_does_the_same_here_and_on_a_runner() {
    let world = world().await;
    // What the demo's pools offer, this runner has.
    let _runner = world.runner(RunnerOptions { labels: &["sky", "tables"], ..RunnerOptions::default() }).await;
    for demo in ["tidegauge", "almanac"] {
        let repository = world.project(demo).await;
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(demo);
        let copied = Command::new("cp").arg("-a").arg(source.join(".")).arg(&repository.folder).status().expect("cp starts");
        assert!(copied.success());
        if demo == "almanac" {
            let datum = world.project("datum").await;
            datum.write("heights.txt", "north-pier 412\n");
            datum.commit("The zero of each station");
            datum.push();
            repository.git(&["submodule", "--quiet", "add", &format!("{}/git/datum.git", world.forge_url), "datum"]);
        }
        let commit = repository.commit("The demo as it is");
        repository.push();
        let run = world.run_of(demo, &commit, "a verdict", |run| run["pipeline"] == "main" && !run["ended_at"].is_null()).await;
        assert_eq!(run["state"], "passed", "{run}");

        let keep = world.folder.path().join(format!("kept-{demo}"));
        let arguments = ["rehearse", "--isolation", "host", "--keep", &keep.display().to_string()];
        let ran = world.run_in(&repository.folder, &arguments).await;
        assert_eq!(ran.code, 0, "{ran:?}");
        for job in run["jobs"].as_array().expect("jobs").iter().filter(|job| job["state"] == "passed") {
            let id = job["id"].as_str().expect("an id");
            let there = world.log(&run, id).await;
            let here = std::fs::read_to_string(keep.join("logs").join(format!("{id}.log"))).expect("a log");
            // How long caches took is another each time.
            let plain = |log: String| log.lines().filter(|line| !line.starts_with("ordotaxis: cache ")).collect::<Vec<_>>().join("\n");
            assert_eq!(plain(here), plain(there), "{id} says the same");
        }
        let artifacts = world.json(&["artifacts", run["run"].as_str().unwrap_or_default()]).await;
        let artifacts = artifacts.as_array().expect("a list");
        assert!(!artifacts.is_empty());
        for artifact in artifacts {
            let name = format!("{}/{}", artifact["job"].as_str().unwrap_or_default(), artifact["name"].as_str().unwrap_or_default());
            let to = world.folder.path().join("fetched").join(demo).join(&name);
            std::fs::create_dir_all(&to).expect("a folder");
            let got =
                world.run(&["artifacts", run["run"].as_str().unwrap_or_default(), "get", &name, "--to", &to.display().to_string()]).await;
            assert_eq!(got.code, 0, "{got:?}");
            assert!(contents(&keep.join(&name)) == contents(&to), "{name} holds the same");
        }
    }
}

#[test]
fn a_rehearsal_takes_what_is_not_committed_and_tells_how_it_ended() {
    let folder = folder(&[
        (
            "ordotaxis.toml",
            "language = 1\n[job.a.b]\nif = 'touches(\"new\")'\nsteps = [\"cat new\"]\n[job.a.c]\nif = 'touches(\"old\")'\nsteps = [\"exit 7\"]\n",
        ),
        ("old", "old\n"),
        (".gitignore", "secret\n"),
    ]);
    git(folder.path(), &["init", "--quiet", "--initial-branch=topic/x"]);
    git(folder.path(), &["add", "--all"]);
    git(folder.path(), &["commit", "--quiet", "-m", "Old"]);
    std::fs::write(folder.path().join("new"), "not yet committed\n").expect("a file");
    std::fs::write(folder.path().join("secret"), "ignored\n").expect("a file");
    let before = git(folder.path(), &["count-objects", "-v"]);
    let (code, out, _) = here(folder.path(), &["rehearse", "--isolation", "host"]);
    assert_eq!(code, 1, "{out}");
    assert!(out.contains("for a push to topic/x, in a copy of this folder (with 1 uncommitted change)"), "{out}");
    assert!(out.contains("step `exit 7` exited with 7"), "{out}");
    let (code, out, err) = here(folder.path(), &["rehearse", "--only-changed", "--isolation", "host"]);
    assert_eq!(code, 0, "{out}{err}");
    assert!(out.contains("its condition `touches(\"old\")` is false: no changed file fits old"), "{out}");
    let (code, out, _) = here(folder.path(), &["rehearse", "a.b", "--isolation", "host"]);
    assert_eq!(code, 0, "{out}");
    let (code, _, err) = here(folder.path(), &["--json", "rehearse", "a.bb"]);
    assert_eq!(code, 1, "{err}");
    assert_eq!(git(folder.path(), &["count-objects", "-v"]), before, "the repository itself is left as it was");
    assert_eq!(git(folder.path(), &["status", "--porcelain"]), "?? new");
}

#[test]
fn add_puts_a_job_in_and_leaves_the_rest_as_it_was() {
    let before = "# Ours.\nlanguage = 1\norder    = \"build > test\"   # as ever\n\n[job.build.gauge]   # the gauge\nsteps = [ \"make\" ]  # spaces kept\ngives = { firmware = [\"out/gauge\"] }\n\n[job.test.unit]\nsteps = [\"make test\"]\n";
    let folder = folder(&[("ordotaxis.toml", before)]);
    let text = || std::fs::read_to_string(folder.path().join("ordotaxis.toml")).expect("a file");
    let (code, out, err) =
        here(folder.path(), &["add", "job", "build.simulator", "--step", "make simulator", "--gives", "simulator=out/sim"]);
    assert_eq!(code, 0, "{out}{err}");
    let (code, out, err) = here(
        folder.path(),
        &["add", "job", "pack.bundle", "--step", "tar cf b.tar out", "--step", "ls", "--takes", "build.gauge/firmware"],
    );
    assert_eq!(code, 0, "{out}{err}");
    let after = text();
    assert_eq!(
        after.replace("build > test > pack", "build > test").lines().filter(|line| before.contains(line)).count(),
        before.lines().count() + 2,
        "{after}"
    );
    assert!(after.contains("order    = \"build > test > pack\"   # as ever"), "{after}");
    let place = |words: &str| after.find(words).unwrap_or_else(|| panic!("{words} in\n{after}"));
    assert!(place("[job.build.gauge]   # the gauge") < place("[job.build.simulator]"), "{after}");
    assert!(place("[job.build.simulator]") < place("[job.test.unit]") && place("[job.test.unit]") < place("[job.pack.bundle]"), "{after}");
    let (_, plan, _) = here(folder.path(), &["--json", "plan"]);
    let plan: Value = serde_json::from_str(&plan).expect("JSON");
    assert_eq!(plan["jobs"].as_array().map(Vec::len), Some(4));
    for (arguments, words) in [
        (vec!["add", "job", "build.gauge", "--step", "x"], "there is a job build.gauge already"),
        (vec!["add", "job", "gauge", "--step", "x"], "is not a job's name"),
        (vec!["add", "job", "test.more", "--step", "x", "--takes", "build.gauge/firmwear"], "nothing was written"),
    ] {
        let (code, _, err) = here(folder.path(), &arguments);
        assert!(code != 0 && err.contains(words), "{arguments:?}: {err}");
        assert_eq!(text(), after);
    }
}

#[test]
fn plan_answers_for_any_occasion_and_against_a_commit() {
    let file = "language = 1\norder = \"build > ship\"\n[starts]\npush = [\"main\"]\ntag = [\"v*\"]\nproposal = [\"main\"]\n[starts.inputs.station]\ndefault = \"lock-gate\"\n\
        [job.build.gauge]\nif = 'touches(\"src/**\")'\nsteps = [\"make\"]\n[job.ship.it]\nif = 'ref.tag != \"\" || input.station == \"north-pier\"'\nsteps = [\"./send {x}\"]\n";
    let folder = folder(&[("ordotaxis.toml", file)]);
    let skipped = |arguments: &[&str]| -> Vec<String> {
        let (code, out, err) = here(folder.path(), &[&["--json", "plan"], arguments].concat());
        assert_eq!(code, 0, "{arguments:?}: {err}");
        let plan: Value = serde_json::from_str(&out).expect("JSON");
        let jobs = plan["jobs"].as_array().expect("jobs").iter();
        jobs.filter(|job| !job["skipped"].is_null()).filter_map(|job| job["id"].as_str().map(str::to_owned)).collect()
    };
    assert_eq!(skipped(&["--event", "push", "--branch", "main", "--changed", "src/a.c"]), ["ship.it"]);
    assert_eq!(skipped(&["--changed", "docs/x"]), ["build.gauge", "ship.it"]);
    assert_eq!(skipped(&["--tag", "v1", "--changed", "docs/x"]), ["build.gauge"]);
    assert_eq!(skipped(&["--event", "by_hand", "--input", "station=north-pier"]), Vec::<String>::new());
    assert_eq!(skipped(&["--target", "main"]), ["ship.it"]);
    let twice = [here(folder.path(), &["--json", "plan"]), here(folder.path(), &["--json", "plan"])];
    assert_eq!(twice[0], twice[1], "the same text and occasion give the same bytes");
    let (_, out, _) = here(folder.path(), &["plan", "--branch", "other", "--reasons", "--changed", "docs/x"]);
    assert!(out.contains("its condition `touches(\"src/**\")` is false: no changed file fits src/**"), "{out}");
    assert!(out.contains("[starts] does not start this pipeline on a push to other"), "{out}");
    let (_, svg, _) = here(folder.path(), &["plan", "--format", "svg"]);
    assert!(svg.starts_with("<svg") && svg.trim_end().ends_with("</svg>") && svg.contains("gauge"), "{svg}");
    let (_, dot, _) = here(folder.path(), &["plan", "--format", "dot"]);
    assert!(dot.contains("\"build.gauge\" -> \"ship.it\" [style = dotted];"), "{dot}");
    for (arguments, words) in [
        (vec!["plan", "--event", "tag"], "--event tag needs --tag"),
        (vec!["plan", "--against", "v9"], "there is no ordotaxis.toml at v9"),
        (vec!["plan", "--against=--output=x"], "is not a commit"),
        (vec!["plan", "--input", "station"], "is not NAME=VALUE"),
    ] {
        let (code, _, err) = here(folder.path(), &arguments);
        assert!(code == 2 && err.contains(words), "{arguments:?}: {err}");
    }
    git(folder.path(), &["init", "--quiet", "--initial-branch=main"]);
    git(folder.path(), &["add", "--all"]);
    git(folder.path(), &["commit", "--quiet", "-m", "One"]);
    let (_, same, _) = here(folder.path(), &["plan", "--against", "HEAD"]);
    assert!(same.contains("is the same as at HEAD"), "{same}");
    std::fs::write(
        folder.path().join("ordotaxis.toml"),
        file.replace("steps = [\"make\"]", "steps = [\"make all\"]") + "[job.ship.other]\nafter = [\"ship.it\"]\nsteps = [\"x\"]\n",
    )
    .expect("a file");
    let (_, changed, _) = here(folder.path(), &["plan", "--against", "main"]);
    assert!(changed.contains("+ ship.other") && changed.contains("~ build.gauge: `steps`") && !changed.contains("ship.it"), "{changed}");
}

#[test]
fn check_speaks_sarif_and_the_schema_is_the_one_that_ships() {
    let folder = folder(&[(
        "ordotaxis.toml",
        "language = 1\ntitle = 'Høyvann'\n[job.a.x]\nsteps = ['x']\nafter = ['a.y']\n[job.a.y]\nsteps = ['x']\nafter = ['a.x']\n[pattern.p]\nsteps = ['x']\n",
    )]);
    let (code, out, _) = here(folder.path(), &["check", "--format", "sarif"]);
    assert_eq!(code, 1);
    let log: Value = serde_json::from_str(&out).expect("JSON");
    let schema: Value = serde_json::from_str(include_str!("../sarif-2.1.0.schema.json")).expect("JSON");
    let validator = jsonschema::validator_for(&schema).expect("a schema");
    let wrong: Vec<String> = validator.iter_errors(&log).map(|error| error.to_string()).collect();
    assert!(wrong.is_empty(), "{wrong:?}");
    let results = log["runs"][0]["results"].as_array().expect("results");
    assert_eq!(results.iter().map(|one| one["level"].as_str().unwrap_or_default()).collect::<Vec<_>>(), ["error", "warning"]);
    assert_eq!(results[0]["relatedLocations"].as_array().map(Vec::len), Some(2));

    let (_, printed, _) = here(folder.path(), &["schema"]);
    let shipped = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/ordotaxis.schema.json")).expect("the schema");
    assert_eq!(printed, shipped, "run `ordotaxis schema > docs/ordotaxis.schema.json`");
}

#[test]
fn the_schema_takes_what_check_takes() {
    let (_, printed, _) = here(Path::new("."), &["schema"]);
    let schema: Value = serde_json::from_str(&printed).expect("JSON");
    let validator = jsonschema::validator_for(&schema).expect("a schema of 2020-12");
    let as_json = |text: &str| serde_json::to_value(toml::from_str::<toml::Value>(text).expect("TOML")).expect("JSON");
    for demo in ["tidegauge", "almanac"] {
        let text = std::fs::read_to_string(format!("{}/../../demo/{demo}/ordotaxis.toml", env!("CARGO_MANIFEST_DIR"))).expect("a file");
        let wrong: Vec<String> = validator.iter_errors(&as_json(&text)).map(|error| error.to_string()).collect();
        assert!(wrong.is_empty(), "{demo}: {wrong:?}");
    }
    // Of the wrong files those that are wrong in shape alone: the schema must refuse them too.
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../core/tests/wrong");
    for name in [
        "misspelt-steps",
        "steps-as-one-string",
        "step-without-run",
        "upon-unknown-outcome",
        "at-once-zero",
        "cache-without-key",
        "retry-too-often",
        "matrix-as-list",
        "starts-unknown-key",
        "none-is-never",
        "if-a-boolean-value",
    ] {
        let text = std::fs::read_to_string(folder.join(format!("{name}.toml"))).expect("a file");
        assert!(!validator.is_valid(&as_json(&text)), "{name}");
    }
}
