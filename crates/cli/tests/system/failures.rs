//! Why a job failed, told in one answer; the file that a run was made from; what words find; and answers that are packed.

use super::world;
use ordotaxis_testbed::{Repository, RunnerOptions, World};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const PIPELINE: &str = "language = 1\n[job.test.unit]\nsteps = [\n  \"echo ready\",\n  { name = \"measure\", run = \"cat log; cp unit.xml out.xml; [ ! -e broken ]\" },\n]\nreports = { junit = [\"out.xml\"] }\n";

fn report(failure: &str) -> String {
    format!(
        "<testsuite><testcase classname='gauge' name='datum'/><testcase classname='gauge' name='drift is subtracted once'>{failure}</testcase></testsuite>"
    )
}

/// A commit whose job prints this log, fails or not, and reports so.
pub(super) async fn measured(world: &World, repository: &Repository, title: &str, log: &str, failure: Option<&str>) -> Value {
    repository.write("log", log);
    repository.write("unit.xml", &report(failure.unwrap_or_default()));
    match failure {
        Some(_) => repository.write("broken", title),
        None => {
            let _ = std::fs::remove_file(repository.folder.join("broken"));
        }
    }
    repository.write("ordotaxis.toml", PIPELINE);
    let commit = repository.commit(title);
    repository.push();
    world.verdict("tidegauge", &commit).await
}

async fn get(world: &World, path: &str) -> (StatusCode, Value) {
    let answer = world.http(Method::GET, path).send().await.expect("an answer");
    (answer.status(), answer.json().await.unwrap_or_default())
}

#[tokio::test(flavor = "multi_thread")]
async fn one_answer_tells_why_a_job_failed() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let calm: String = (1..=40).map(|number| format!("reading {number}\n")).collect();
    let broken = format!("{calm}error: levels differ\n{calm}");
    let failure = "<failure message='levels differ'>levels differ\nexpected: 412\nactual:   415\n</failure>";
    measured(&world, &repository, "All is well", &calm, None).await;
    measured(&world, &repository, "Subtract the drift", &broken, Some(failure)).await;
    measured(&world, &repository, "Subtract it again", &broken, Some(failure)).await;

    let (status, found) = get(&world, "/api/v1/runs/tidegauge/3/jobs/test.unit/failure").await;
    assert_eq!(status, StatusCode::OK, "{found}");
    assert_eq!((&found["run"], &found["job"], &found["attempt"]), (&json!("tidegauge/3"), &json!("test.unit"), &json!(1)));
    assert_eq!(found["step"]["name"], "measure");
    assert_eq!(found["step"]["command"], "cat log; cp unit.xml out.xml; [ ! -e broken ]");
    assert_eq!(found["step"]["exit_code"], 1);
    // It fails since the run before, whose commit is the one that is named.
    assert_eq!((&found["since"]["run"], &found["since"]["passed_in"]), (&json!("tidegauge/2"), &json!("tidegauge/1")));
    assert_eq!(found["since"]["commit_title"], "Subtract the drift");
    assert_eq!(found["since"]["commits"].as_array().map(Vec::len), Some(1), "{found}");
    assert_eq!(found["since"]["commits"][0]["title"], "Subtract the drift");
    assert_eq!((&found["failed_tests"], &found["tests"][0]["name"]), (&json!(1), &json!("drift is subtracted once")));
    assert_eq!(found["tests"][0]["difference"], json!({ "names": ["expected", "actual"], "values": ["412", "415"] }));
    assert_eq!(found["tests"][0]["since"], "tidegauge/2");
    // The excerpt's error is the line that says so, with what stands around it.
    let (first, error) = (found["excerpt"]["first"].as_u64().expect("a number"), found["excerpt"]["error"].as_u64().expect("a number"));
    let lines = found["excerpt"]["lines"].as_array().expect("lines");
    assert_eq!(lines[usize::try_from(error - first).expect("small")], "error: levels differ");
    assert_eq!((lines.len(), &lines[0]), (24, &json!("reading 33")));

    // Mended, and broken anew: it fails since then.
    measured(&world, &repository, "Subtract it once", &calm, None).await;
    measured(&world, &repository, "Tidy up", &calm, Some("<failure message='no value'/>")).await;
    let (_, found) = get(&world, "/api/v1/runs/tidegauge/5/jobs/test.unit/failure").await;
    assert_eq!((&found["since"]["run"], &found["since"]["passed_in"]), (&json!("tidegauge/5"), &json!("tidegauge/4")));
    assert_eq!(found["tests"][0]["difference"], Value::Null);
    // No line tells of an error: the last ones are told.
    assert_eq!(found["excerpt"]["error"], Value::Null);
    let lines = found["excerpt"]["lines"].as_array().expect("lines");
    assert!(lines.contains(&json!("reading 40")), "{found}");
    let last = lines.last().and_then(Value::as_str).expect("a line");
    assert!(last.starts_with("ordotaxis: step `measure` exited with 1"), "{found}");

    for (path, status) in [
        ("/api/v1/runs/tidegauge/5/jobs/test.unt/failure", StatusCode::NOT_FOUND),
        ("/api/v1/runs/tidegauge/5/jobs/test.unit/failure?attempt=7", StatusCode::NOT_FOUND),
        ("/api/v1/runs/tidegauge/99/jobs/test.unit/failure", StatusCode::NOT_FOUND),
    ] {
        assert_eq!(get(&world, path).await.0, status, "{path}");
    }
    words_find_places(&world).await;
    large_answers_are_packed(&world).await;
}

/// Words lead to projects, runs, jobs, tests, commits and people; of what one may not see, to nothing.
async fn words_find_places(world: &World) {
    let found = async |words: &str| {
        let answer = world.http(Method::GET, "/api/v1/search").query(&[("words", words), ("project", "tidegauge")]).send().await;
        let places: Value = answer.expect("an answer").json().await.expect("JSON");
        let of = |place: &Value| format!("{} {} {}", place["kind"], place["name"], place["page"]).replace('"', "");
        places.as_array().expect("a list").iter().map(of).collect::<Vec<_>>()
    };
    assert_eq!(found("tidega").await[0], "project tidegauge /projects/tidegauge");
    assert_eq!(found("2").await[0], "run tidegauge/2 /runs/tidegauge/2", "a number is a run of the project that one is in");
    assert_eq!(found("tidegauge / 4").await[0], "run tidegauge/4 /runs/tidegauge/4");
    assert!(found("tidy").await.contains(&"run tidegauge/5 /runs/tidegauge/5".to_owned()));
    assert!(found("unit").await.contains(&"job test.unit /runs/tidegauge/5/test.unit".to_owned()));
    let test = "test drift is subtracted once /projects/tidegauge/test?suite=gauge&name=drift%20is%20subtracted%20once";
    assert!(found("drift once").await.contains(&test.to_owned()), "{:?}", found("drift once").await);
    assert!(found("owner").await.contains(&"person owner /people?find=owner".to_owned()));
    let commit = world.json(&["show", "tidegauge/2"]).await["commit"].as_str().expect("a commit").to_owned();
    let expected = format!("commit {} /trace?thing={commit}", &commit[..10]);
    assert!(found(&commit[..8]).await.contains(&expected));
    // What LIKE takes as a sign stands for itself, and what nobody has said is found nowhere.
    for nothing in ["%", "_____", "\\", "'; drop table runs", "  "] {
        assert_eq!(found(nothing).await, Vec::<String>::new(), "{nothing}");
    }
    assert!(found(&"a ".repeat(5_000)).await.len() < 40);
    let hidden = world.http(Method::PUT, "/api/v1/projects/tidegauge/seen").json(&json!({ "seen": "granted" })).send().await;
    assert!(hidden.expect("an answer").status().is_success());
    world.run(&["person", "add", "nils"]).await;
    let link = world.json(&["person", "link", "nils"]).await["url"].as_str().expect("a link").to_owned();
    let code = link.split('#').nth(1).expect("a code");
    let client = reqwest::Client::new();
    let signed = client.post(format!("{}/api/v1/session", world.url)).json(&json!({ "code": code })).send().await.expect("an answer");
    let cookie = signed.headers()["set-cookie"].to_str().expect("text").split(';').next().expect("a pair").to_owned();
    let call = client.get(format!("{}/api/v1/search?words=tidegauge", world.url)).header("cookie", cookie);
    let places = call.send().await.expect("an answer");
    assert_eq!(places.json::<Value>().await.expect("JSON"), json!([]), "nils does not see it");
}

/// What is large is packed for whoever takes that; small answers and streams are not.
async fn large_answers_are_packed(world: &World) {
    let client = reqwest::Client::builder().build().expect("a client");
    let asked = async |path: &str, takes: &str| {
        let call = client.get(format!("{}{path}", world.url)).bearer_auth(&world.token).header("accept-encoding", takes);
        let answer = call.send().await.expect("an answer");
        let packed = answer.headers().get("content-encoding").map(|way| way.to_str().expect("text").to_owned());
        (packed, answer)
    };
    for (takes, way) in [("gzip", Some("gzip")), ("zstd", Some("zstd")), ("gzip, zstd", Some("zstd")), ("identity", None)] {
        let (packed, answer) = asked("/api/v1/runs/tidegauge/5", takes).await;
        assert_eq!(packed.as_deref(), way, "{takes}");
        let bytes = answer.bytes().await.expect("bytes");
        let text = match way {
            Some("zstd") => zstd::decode_all(&bytes[..]).expect("zstd"),
            _ => bytes.to_vec(),
        };
        assert!(way == Some("gzip") || serde_json::from_slice::<Value>(&text).is_ok());
    }
    assert_eq!(asked("/api/v1/slots", "gzip").await.0, None, "a few bytes");
    assert_eq!(asked("/api/v1/live", "gzip").await.0, None, "a stream");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_file_of_a_run_is_the_one_it_was_made_from() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let wrong = "language = 1\n[job.test.unit]\nstpes = [\"make\"]\n";
    let commit = repository.push_pipeline(wrong);
    world.verdict("tidegauge", &commit).await;
    repository.push_pipeline("language = 1\n[job.test.unit]\nsteps = [\"true\"]\n");
    let (status, file) = get(&world, "/api/v1/runs/tidegauge/1/file").await;
    assert_eq!(
        (status, &file["text"], &file["path"], &file["commit"]),
        (StatusCode::OK, &json!(wrong), &json!("ordotaxis.toml"), &json!(commit))
    );
    // The pipelines of another commit than the main branch's newest; and of one that is not there.
    let (_, at) = get(&world, &format!("/api/v1/projects/tidegauge/pipelines?ref={commit}")).await;
    assert_eq!(at[0]["text"], wrong);
    let (status, problem) = get(&world, "/api/v1/projects/tidegauge/pipelines?ref=never").await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    assert!(problem["detail"].as_str().is_some_and(|detail| detail.contains("no branch, tag or commit never")), "{problem}");
    // Kept by the service: from then on that is the file, and still the first run's is its own.
    let kept = "language = 1\n[job.test.unit]\nsteps = 3\n";
    let put = world.http(Method::PUT, "/api/v1/projects/tidegauge/stored/main");
    let put = put.json(&json!({ "text": "language = 1\n[job.test.unit]\nsteps = [\"true\"]\n", "on": 0, "message": "here" })).send().await;
    assert_eq!(put.expect("an answer").status(), StatusCode::OK);
    let refused = world.http(Method::PUT, "/api/v1/projects/tidegauge/stored/main").json(&json!({ "text": kept, "on": 1, "message": "x" }));
    assert_eq!(refused.send().await.expect("an answer").status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(get(&world, "/api/v1/runs/tidegauge/1/file").await.1["text"], wrong);
}
