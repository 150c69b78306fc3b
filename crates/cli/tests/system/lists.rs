//! Lists of runs and projects, completions, and sentences that say exactly what was.

use super::{ORDOTAXIS, world};
use ordotaxis_testbed::{Browser, RunnerOptions, until};
use serde_json::Value;
use std::process::Command;

#[tokio::test(flavor = "multi_thread")]
async fn runs_are_told_apart_by_their_pipeline() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let file = |steps: &str| {
        format!(
            "language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"{steps}\"]\n[job.a.c]\nby_hand = true\nsteps = [\"true\"]\n[job.a.d]\nif = 'ref.tag != \"\"'\nsteps = [\"true\"]\n"
        )
    };
    repository.write("ordotaxis/nightly.toml", &file("echo nightly"));
    repository.push_pipeline(&file("echo main"));
    until("both runs", || async {
        let runs = world.json(&["runs", "tidegauge"]).await;
        runs.as_array().filter(|runs| runs.len() == 2 && runs.iter().all(|run| !run["ended_at"].is_null())).map(|_| ())
    })
    .await;
    let list = world.run(&["runs", "tidegauge"]).await.out;
    assert!(list.contains("pipeline") && list.contains("nightly") && list.contains(" main "), "{list}");
    // What passed is what ran: one waits for someone, one was skipped.
    assert!(list.contains("Passed: 1 job, 1 skipped") && list.contains("1 waits for someone to start it"), "{list}");
    let only = world.json(&["runs", "tidegauge", "--pipeline", "nightly"]).await;
    assert_eq!((only.as_array().map(Vec::len), only[0]["pipeline"].as_str()), (Some(1), Some("nightly")));
    for shown in [world.json(&["show", "tidegauge", "--pipeline", "nightly"]).await, world.json(&["show", "tidegauge/nightly"]).await] {
        assert_eq!(shown["run"], only[0]["run"]);
    }
    assert!(world.run(&["logs", "tidegauge/nightly", "a.b", "-f"]).await.out.contains("nightly"));
    let none = world.run(&["show", "tidegauge/none"]).await;
    assert!(none.code == 2 && none.err.contains("no run of a pipeline none"), "{none:?}");
    assert_eq!(world.run(&["show", "tidegauge/1", "--pipeline", "main"]).await.code, 2);
    let projects = world.run(&["project", "list"]).await.out;
    assert!(projects.contains("passed") && projects.contains("since"), "{projects}");
    let again = world.run(&["again", "tidegauge", "--failed"]).await;
    assert!(again.code == 0 && again.err.contains("nothing to do again"), "{again:?}");
    let short = world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "x").await;
    assert!(short.err.contains("secret STATION_KEY"), "{short:?}");
}

#[test]
fn shells_and_man_know_the_commands() {
    for (shell, words) in [("bash", "complete"), ("zsh", "#compdef ordotaxis"), ("fish", "complete -c ordotaxis")] {
        let output = Command::new(ORDOTAXIS).args(["completions", shell]).output().expect("the client starts");
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success() && text.contains(words) && text.contains("rehearse"), "{shell}: {text}");
    }
    let folder = tempfile::tempdir().expect("a folder");
    let output = Command::new(ORDOTAXIS).arg("manual").arg(folder.path().join("man1")).output().expect("the client starts");
    assert!(output.status.success());
    let page = std::fs::read_to_string(folder.path().join("man1/ordotaxis-project-add.1")).expect("a page");
    assert!(page.contains(".TH") && page.contains("main\\-branch"), "{page}");
    assert!(!Command::new(ORDOTAXIS).args(["completions", "tide"]).output().expect("the client starts").status.success());
}

#[test]
fn files_that_are_no_text_and_stages_without_jobs() {
    let folder = tempfile::tempdir().expect("a folder");
    let run = |arguments: &[&str]| {
        let output = Command::new(ORDOTAXIS).args(arguments).current_dir(folder.path()).output().expect("the client starts");
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let file = folder.path().join("ordotaxis.toml");
    std::fs::write(&file, b"language = 1\ntitle = \"\xff\"\n").expect("a file");
    let (code, out, _) = run(&["check", "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!(
        (code, told["diagnostics"][0]["line"].as_i64(), told["diagnostics"][0]["code"].as_str()),
        (Some(1), Some(2), Some("syntax")),
        "{out}"
    );
    assert!(run(&["check"]).2.contains("is not UTF-8 text"));
    // The stage is ordered already; the job that is added is its first.
    std::fs::write(&file, "language = 1\norder = \"build > ship\"\n[job.build.gauge]\nsteps = [\"make\"]\n").expect("a file");
    assert_eq!(run(&["check"]).0, Some(1));
    let (code, out, err) = run(&["add", "job", "ship.it", "--step", "./ship"]);
    assert_eq!(code, Some(0), "{out} {err}");
    assert_eq!(run(&["check"]).0, Some(0));
    assert!(std::fs::read_to_string(&file).expect("a file").contains("[job.ship.it]"));
    assert_ne!(run(&["add", "job", "none.it", "--step", "x", "--after", "nowhere"]).0, Some(0));
    // A plan says what a job asks for.
    let text = "language = 1\n[job.a.b]\nwhere = [\"quay\"]\nturn = \"pier\"\nretry = { times = 2 }\nby_hand = true\nsteps = [\"true\"]\n\
                beside = [{ name = \"gauge\", run = \"true\" }]\ntools = { make = \">=4\" }\nnetwork = false\n[stage.a.gate]\ntests.failed = 0\n";
    std::fs::write(&file, text).expect("a file");
    let (_, out, err) = run(&["plan"]);
    for words in [
        "on quay",
        "turn pier",
        "tried again up to 2 times",
        "started by hand",
        "beside gauge",
        "with make >=4",
        "no network",
        "behind a gate: tests.failed 0",
    ] {
        assert!(out.contains(words), "{words}: {out} {err}");
    }
}

/// Holds a value to its description: every property that is described is there, null where there is nothing.
fn holds(all: &Value, schema: &Value, value: &Value, at: &str) {
    if let Some(name) = schema["$ref"].as_str() {
        return holds(all, all.pointer(name.trim_start_matches('#')).expect("a schema"), value, at);
    }
    for part in schema["allOf"].as_array().into_iter().flatten() {
        holds(all, part, value, at);
    }
    // One that may be null is described as either.
    for part in ["oneOf", "anyOf"].iter().flat_map(|key| schema[key].as_array().into_iter().flatten()) {
        if part["type"] != "null" && value.is_object() {
            holds(all, part, value, at);
        }
    }
    for (name, of) in schema["properties"].as_object().into_iter().flatten().filter(|_| value.is_object()) {
        let found = value.get(name).unwrap_or_else(|| panic!("{at}.{name} is described and not there: {value}"));
        holds(all, of, found, &format!("{at}.{name}"));
    }
    for one in value.as_array().into_iter().flatten() {
        holds(all, &schema["items"], one, at);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn json_has_every_field_that_is_described() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let junit = "<testsuite name='unit'><testcase classname='gauge' name='rises'/></testsuite>";
    repository.write("unit.xml", junit);
    let text = "language = 1\n[job.a.b]\nsteps = [\"echo x > x\"]\ngives = { x = [\"x\"] }\nreports = { junit = [\"unit.xml\"] }\n\
                cache = [{ paths = [\"none\"], key = \"k\" }]\n[job.a.c]\nafter = [\"a.b\"]\nif = 'ref.tag != \"\"'\nsteps = [\"true\"]\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(text)).await;
    assert_eq!(run["state"], "passed", "{run}");
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud").await.code, 0);
    assert_eq!(world.run_with(&["connection", "set", "tidegauge", "INDEX", "--user", "ines"], "salt and mud").await.code, 0);
    let all: Value = serde_json::from_str(include_str!("../../../../docs/openapi.json")).expect("JSON");
    for (arguments, schema) in [
        (vec!["show", "tidegauge/1"], "RunView"),
        (vec!["runs", "tidegauge"], "RunView"),
        (vec!["project", "list"], "ProjectView"),
        (vec!["runner", "list"], "RunnerView"),
        (vec!["artifacts", "tidegauge/1"], "ArtifactView"),
        (vec!["secret", "list", "tidegauge"], "SecretView"),
        (vec!["connection", "list", "tidegauge"], "ConnectionView"),
        (vec!["person", "list"], "PersonView"),
        (vec!["token", "list"], "TokenView"),
    ] {
        let value = world.json(&arguments).await;
        let schema = serde_json::json!({ "$ref": format!("#/components/schemas/{schema}") });
        let list = serde_json::json!({ "items": schema });
        assert!(value.as_array().is_none_or(|list| !list.is_empty()), "{arguments:?}: {value}");
        holds(&all, if value.is_array() { &list } else { &schema }, &value, arguments[0]);
    }
}

/// A cache that could not be saved fails nothing: so it is told where people look.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_not_kept_is_told_where_people_look() {
    let world = world().await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let repository = world.project("tidegauge").await;
    let text = "language = 1\n[job.a.b]\nsteps = [\"true\"]\ncache = [{ paths = [\"obj\"], key = \"obj-1\" }]\n";
    let run = world.verdict("tidegauge", &repository.push_pipeline(text)).await;
    let why = "a.b: cache obj-1: not saved: nothing lies at obj";
    assert_eq!((run["state"].as_str(), run["uncached"][0]["why"].as_str()), (Some("passed"), Some("not saved: nothing lies at obj")));
    for arguments in [["show", "tidegauge/1"], ["watch", "tidegauge/1"]] {
        let shown = world.run(&arguments).await;
        assert!(shown.code == 0 && shown.out.contains(why), "{shown:?}");
    }
    let browser = Browser::start(1280, 800).await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    browser.client.goto(&link).await.expect("the page");
    browser.see("The main branch is well").await;
    browser.client.goto(&format!("{}/runs/tidegauge/1", world.url)).await.expect("the page");
    assert_eq!(browser.text("#uncached").await, why);
    browser.end().await;
    // One that is there now is none of that.
    let good = text.replace("true", "mkdir obj; echo x > obj/x");
    let run = world.verdict("tidegauge", &repository.push_pipeline(&good)).await;
    assert_eq!(run["uncached"], serde_json::json!([]));
}
