//! What the history of jobs comes to: as figures, in the terminal, as a table, and as a page.

use super::console::{accessible, signed_in};
use super::world;
use ordotaxis_testbed::{Repository, RunnerOptions, World};
use reqwest::{Method, StatusCode};
use serde_json::Value;

/// A job that takes as long as it is told, one that fails at its first try, one whose result is taken over.
const FILE: &str = "language = 1\n\
    [starts]\npush = [\"**\"]\n[starts.inputs.pause]\ndefault = \"0.05\"\n\
    [job.a.sleepy]\ncheckout = false\nsteps = [{ name = \"doze\", run = \"sleep ${ORDOTAXIS_INPUT_PAUSE:-0.05}\" }, \"true\"]\n\
    [job.a.moody]\ncheckout = false\nretry = { times = 1, on = [\"exit:1\"] }\nsteps = [\"test $ORDOTAXIS_ATTEMPT -gt 1\"]\n\
    [job.a.same]\nreuse = { inputs = [\"NOTICE\"] }\nsteps = [\"sleep 0.2\"]\n";

async fn began(world: &World, repository: &Repository) -> Value {
    repository.write("NOTICE", "a gauge\n");
    let commit = repository.push_pipeline(FILE);
    world.verdict("tidegauge", &commit).await
}

async fn figures(world: &World) -> Value {
    world.json(&["insight", "tidegauge", "--days", "1"]).await
}

fn job<'v>(found: &'v Value, id: &str) -> &'v Value {
    let all = found["jobs"].as_array().expect("a list");
    all.iter().find(|job| job["job"] == id).unwrap_or_else(|| panic!("{id} is not in {found}"))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_got_slower_is_found_with_the_run_it_began_with() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    let first = began(&world, &repository).await;
    assert_eq!(first["state"], "passed", "{first}");
    for pause in ["0.05"; 7].into_iter().chain(["0.6"; 8]) {
        let ran = world.run(&["start", "tidegauge", "--input", &format!("pause={pause}"), "--watch"]).await;
        assert_eq!(ran.code, 0, "{ran:?}");
    }
    let found = figures(&world).await;
    let sleepy = job(&found, "a.sleepy");
    assert_eq!(sleepy["change"]["run"], "tidegauge/9", "{sleepy}");
    let (before, after) = (sleepy["change"]["before_ms"].as_i64(), sleepy["change"]["after_ms"].as_i64());
    assert!(before < Some(550) && after >= Some(600), "{sleepy}");
    assert_eq!((sleepy["passed"].as_i64(), sleepy["failed"].as_i64()), (Some(16), Some(0)), "{sleepy}");
    assert_eq!(sleepy["steps"][0]["name"], "doze");
    assert_eq!(sleepy["steps"][0]["count"], 16);
    let waited = sleepy["waited"]["p50_ms"].as_i64();
    assert!(waited.is_some_and(|ms| (0..10_000).contains(&ms)), "{sleepy}");
    let in_parts: i64 = sleepy["parts"].as_array().into_iter().flatten().filter_map(|part| part["passed"].as_i64()).sum();
    assert_eq!(in_parts, 16, "{sleepy}");
    let moody = job(&found, "a.moody");
    assert_eq!((moody["failed"].as_i64(), moody["retried"].as_i64()), (Some(16), Some(16)), "{moody}");
    assert_eq!(found["retried"], 16);
    assert_eq!(found["reused"], 14, "{found}");
    assert!(found["reused_ms"].as_i64() >= Some(14 * 200), "{found}");
    assert_eq!(found["branches"][0]["branch"], "main");
    assert_eq!(found["branches"][0]["passed"], 16);
    assert!(found["cost"].is_null(), "nothing has a price");
    in_words(&world).await;
    on_the_page(&world).await;
}

async fn in_words(world: &World) {
    let told = world.run(&["insight", "tidegauge"]).await;
    for words in ["16 times a job failed and passed", "14 results were taken over", "a.sleepy", "slower since tidegauge/9", "main"] {
        assert!(told.out.contains(words), "{words}: {told:?}");
    }
    let steps = world.run(&["insight", "tidegauge", "--job", "a.sleepy"]).await;
    assert!(steps.out.contains("doze") && steps.out.contains("slower since"), "{steps:?}");
    let all = world.run(&["insight"]).await;
    assert!(all.out.contains("tidegauge"), "{all:?}");
    let table = world.run(&["insight", "tidegauge", "--csv"]).await;
    let mut rows = table.out.lines();
    assert_eq!(rows.next(), Some("run,pipeline,event,branch,commit,job,attempt,state,queued_at,started_at,ended_at,waited_ms,took_ms"));
    let rows: Vec<Vec<&str>> = rows.map(|row| row.split(',').collect()).collect();
    assert_eq!(rows.len(), 16 + 32 + 2, "sleepy, moody twice each, and one that was done once for each input: {table:?}");
    assert!(rows.iter().all(|row| row.len() == 13 && !row[8].is_empty()), "{table:?}");
    assert_eq!((rows[0][0], rows[0][1], rows[0][3]), ("1", "main", "main"));
    for (arguments, words) in [
        (vec!["insight", "tidegauge", "--days", "0"], "1 to 730 days"),
        (vec!["insight", "tidegauge", "--days", "9000"], "1 to 730 days"),
        (vec!["insight", "tidegage"], "tidegauge"),
        (vec!["insight", "tidegauge", "--job", "a.sleep"], "there are: "),
        (vec!["insight", "--csv"], "<PROJECT>"),
    ] {
        let refused = world.run(&arguments).await;
        assert!(refused.code != 0 && refused.err.contains(words), "{arguments:?}: {refused:?}");
    }
}

async fn on_the_page(world: &World) {
    let browser = signed_in(world).await;
    browser.client.goto(&format!("{}/insight", world.url)).await.expect("the page");
    browser.see("of runners' time").await;
    accessible(&browser).await;
    browser.click("a[href='/projects/tidegauge/insight']").await;
    for words in ["Slower than it was", "tidegauge/9", "16: ", "14: ", "Branches"] {
        browser.see(words).await;
    }
    accessible(&browser).await;
    browser.click(".figures-of-jobs button").await;
    browser.see("doze").await;
    browser.see("takes: most").await;
    accessible(&browser).await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_branch_named_like_a_formula_is_none_and_strangers_see_nothing() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let _runner = world.runner(RunnerOptions::default()).await;
    repository.write("ordotaxis.toml", "language = 1\n[job.a.b]\ncheckout = false\nsteps = [\"true\"]\n");
    let commit = repository.commit("a file");
    repository.git(&["push", "--quiet", "origin", &format!("{commit}:refs/heads/=cmd|x\"y")]);
    world.verdict("tidegauge", &commit).await;
    let table = world.run(&["insight", "tidegauge", "--csv"]).await;
    assert!(table.out.contains(",\"'=cmd|x\"\"y\","), "{table:?}");
    // A person without a role sees neither the project nor that it takes anything.
    assert_eq!(world.run(&["project", "seen", "tidegauge", "granted"]).await.code, 0);
    let stranger = super::rights::person(&world, "odd").await;
    let asked = async |path: &str| {
        let asked = reqwest::Client::new().get(format!("{}/api/v1/{path}", world.url)).bearer_auth(&stranger);
        asked.send().await.expect("an answer")
    };
    for path in ["projects/tidegauge/insight/jobs", "projects/tidegauge/insight/attempts.csv"] {
        assert_eq!(asked(path).await.status(), StatusCode::NOT_FOUND, "{path}");
    }
    let all: Value = asked("insight").await.json().await.expect("JSON");
    assert_eq!((all["projects"].as_array().map(Vec::len), all["unused_cost"].is_null()), (Some(0), true), "{all}");
    let own: Value = world.http(Method::GET, "/api/v1/insight").send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!(own["projects"][0]["attempts"], 1, "{own}");
}
