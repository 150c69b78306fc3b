//! Who may do what: every route of the description with every role, against one table; and what may be seen.

use super::world;
use ordotaxis_testbed::World;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

/// What each call needs. Written down by hand, apart from the table in the service: both must say the same.
const NEEDS: &[(&str, &str)] = &[
    ("nothing", "sign_in sign_out sign_in_ways begin_sign_in"),
    (
        "signed in",
        "board service_insight check edit_file live list_pools list_machines show_machine me list_profiles list_projects list_runs list_runners queue schema slots sign_in_link list_sessions end_session list_tokens make_token
         end_token trace search find_components list_needs list_notices choose_notices drop_notice_choice sample_notice list_persons list_groups list_grants",
    ),
    (
        "reader",
        "show_project first_file show_rules list_refs list_proposals show_proposal show_landing list_releases show_release fetch_evidence list_environments show_environment delivery_insight project_insight export_attempts commits_between list_caches list_cache_folder flaky_tests newest_run numbers list_pipelines stored_versions test_history show_run
         list_artifacts fetch_artifact fetch_artifact_file list_artifact_folder show_artifact compare_runs run_findings read_lines read_log
         search_log run_plan run_tests run_why why_failed run_file show_provenance list_bills fetch_bill",
    ),
    ("reader, signed in", "review_proposal list_connections list_secrets show_repository show_badge"),
    ("operator", "offer_proposal withdraw_proposal land_proposal start_run plan_start again allow_run start_job stop_run add_note approve_deployment emergency promote roll_back close_environment"),
    (
        "editor",
        "set_poll list_project_notices list_deliveries show_delivery delivery_again make_hook_secret set_secret remove_secret set_connection remove_connection keep_draft store_pipeline drop_caches pin_artifact unpin_artifact freeze_environment thaw_environment edit_release publish_release withdraw_release
         set_outside project_journal set_repository_login remove_repository_login make_repository_key remove_repository_key
         forget_repository_hosts set_main_branch",
    ),
    ("owner", "remove_project set_seen set_rules"),
    (
        "owner of the service",
        "add_project look heard end_look find_repositories invite_runner set_runner remove_runner drain_runner set_pool remove_pool remove_machine keep_machine machine_console list_work work_again sweep_store verify_store add_person set_person
         remove_person add_identity remove_identity set_group remove_group set_grant remove_grant sign_in_link_for journal export_journal
         verify_journal",
    ),
];

const ROLES: [&str; 4] = ["reader", "operator", "editor", "owner"];

fn needs(operation: &str) -> &'static str {
    let found = NEEDS.iter().find(|(_, calls)| calls.split_whitespace().any(|call| call == operation));
    found.unwrap_or_else(|| panic!("{operation} is not in the table of this test")).0
}

/// Whether someone with a role on the project, and perhaps on the service, may make a call.
fn may(needs: &str, on_project: Option<&str>, on_service: bool, signed_in: bool) -> bool {
    let rank = |role: &str| ROLES.iter().position(|known| *known == role);
    match needs {
        "nothing" => true,
        "signed in" => signed_in,
        "reader, signed in" => signed_in && on_project.is_some(),
        "owner of the service" => on_service && on_project == Some("owner"),
        role => on_project.is_some_and(|held| rank(held) >= rank(role)),
    }
}

async fn call(client: &reqwest::Client, world: &World, token: Option<&str>, method: &str, path: &str) -> (StatusCode, Value) {
    let path = path
        .replace("/projects/{name}", "/projects/tidegauge")
        .replace("{project}", "tidegauge")
        .replace("{number}", "1")
        .replace("{other}", "1")
        .replace("{id}", "99")
        .replace("{proposal}", "99")
        .replace("{job}", "a.b")
        .replace("{name}", "no-such-thing")
        .replace("{pipeline}", "main")
        .replace("{look}", "no-such-look")
        .replace("{pool}", "no-such-pool")
        .replace("{version}", "1.0");
    let method: Method = method.to_uppercase().parse().expect("a method");
    let mut request = client.request(method.clone(), format!("{}{path}", world.url));
    if let Some(token) = token {
        request = request.bearer_auth(token);
    }
    if method != Method::GET {
        // Nothing of it fits any call: who may make it is told what is wrong with it, and nothing is done.
        request = request.json(&json!({ "no such key": 1 }));
    }
    let answer = request.send().await.expect("an answer");
    let status = answer.status();
    if status.is_success() || status.is_redirection() {
        return (status, Value::Null);
    }
    (status, answer.json().await.unwrap_or_default())
}

/// Adds a person and makes them a token.
pub(super) async fn person(world: &World, name: &str) -> String {
    assert_eq!(world.run(&["person", "add", name]).await.code, 0);
    let link = world.json(&["person", "link", name]).await["url"].as_str().unwrap_or_default().to_owned();
    let code = link.split_once('#').expect("a code").1;
    let client = reqwest::Client::new();
    let session = client.post(format!("{}/api/v1/session", world.url)).json(&json!({ "code": code })).send().await.expect("an answer");
    let cookie = session.headers()["set-cookie"].to_str().expect("a cookie").split(';').next().unwrap_or_default().to_owned();
    let make = client.post(format!("{}/api/v1/tokens", world.url)).json(&json!({ "name": "a test's" }));
    let made: Value =
        make.header("cookie", cookie).header("origin", &world.url).send().await.expect("an answer").json().await.expect("JSON");
    made["token"].as_str().unwrap_or_else(|| panic!("no token: {made}")).to_owned()
}

async fn operations(world: &World) -> Vec<(String, String, String)> {
    let api: Value = world.http(Method::GET, "/api/openapi.json").send().await.expect("an answer").json().await.expect("JSON");
    let mut all = Vec::new();
    for (path, item) in api["paths"].as_object().expect("paths") {
        for (method, operation) in item.as_object().expect("methods") {
            all.push((operation["operationId"].as_str().unwrap_or_default().to_owned(), method.clone(), path.clone()));
        }
    }
    assert!(all.len() > 80, "the description is read: {}", all.len());
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_asks_every_role_for_what_it_needs() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    world.run_of("tidegauge", &repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n"), "a run", |_| true).await;
    let all = operations(&world).await;
    let known: Vec<&str> = all.iter().map(|(id, ..)| id.as_str()).collect();
    for call in NEEDS.iter().flat_map(|(_, calls)| calls.split_whitespace()) {
        assert!(known.contains(&call), "the table names {call}, which the description does not");
    }
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().expect("a client");
    let mut callers: Vec<(String, Option<String>, Option<&str>, bool)> = vec![("nobody".into(), None, None, false)];
    callers.push(("stranger".into(), Some(person(&world, "stranger").await), None, false));
    for role in ROLES {
        let name = format!("{role}-there");
        let token = person(&world, &name).await;
        assert_eq!(world.run(&["grant", "set", &name, role, "--project", "tidegauge"]).await.code, 0);
        callers.push((name, Some(token), Some(role), false));
    }
    callers.push(("the owner".into(), Some(world.token.clone()), Some("owner"), true));
    for seen in ["granted", "all", "public"] {
        assert_eq!(world.run(&["project", "seen", "tidegauge", seen]).await.code, 0);
        for (operation, method, path) in &all {
            let needs = needs(operation);
            let of_project = path.contains("/projects/{") || path.contains("{project}");
            for (who, token, role, on_service) in &callers {
                let signed_in = token.is_some();
                let sees = role.or(match seen {
                    "public" => Some("reader"),
                    "all" if signed_in => Some("reader"),
                    _ => None,
                });
                let allowed = may(needs, sees, *on_service, signed_in);
                if allowed && operation == "remove_project" {
                    continue; // it is tried last, below
                }
                let (status, problem) = call(&client, &world, token.as_deref(), method, path).await;
                let at = format!("{who} calls {operation} of a project that is seen by {seen}: {status} {problem}");
                let hidden = problem["type"] == "/problems/unknown-project";
                match (allowed, signed_in) {
                    (true, _) => assert!(!hidden && !matches!(status.as_u16(), 401 | 403 | 405), "{at}"),
                    (false, false) => assert_eq!(status, StatusCode::UNAUTHORIZED, "{at}"),
                    (false, true) if of_project && sees.is_none() => assert!(hidden && status == StatusCode::NOT_FOUND, "{at}"),
                    (false, true) => assert!(status == StatusCode::FORBIDDEN && problem["type"] == "/problems/not-allowed", "{at}"),
                }
            }
        }
    }
    let (status, _) = call(&client, &world, Some(&world.token), "delete", "/api/v1/projects/{name}").await;
    assert_eq!(status, StatusCode::NO_CONTENT);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_may_not_see_is_in_no_list() {
    let world = world().await;
    for name in ["tidegauge", "almanac"] {
        let repository = world.project(name).await;
        world.run_of(name, &repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n"), "a run", |_| true).await;
    }
    let odd = person(&world, "odd").await;
    assert_eq!(world.run(&["project", "seen", "almanac", "granted"]).await.code, 0);
    let get = async |path: &str| {
        let answer = reqwest::Client::new().get(format!("{}{path}", world.url)).bearer_auth(&odd).send().await.expect("an answer");
        answer.text().await.expect("text")
    };
    for path in ["board", "projects", "runs", "queue", "runners", "grants"] {
        let told = get(&format!("/api/v1/{path}")).await;
        assert!(!told.contains("almanac"), "{path}: {told}");
        let owners: String =
            world.http(Method::GET, &format!("/api/v1/{path}")).send().await.expect("an answer").text().await.expect("text");
        assert!(owners.contains("almanac") || matches!(path, "runners" | "grants"), "{path}: {owners}");
    }
    for path in ["runs?project=almanac", "projects/almanac", "projects/almanacs", "runs/almanac/1", "projects/almanac/secrets"] {
        let told: Value = serde_json::from_str(&get(&format!("/api/v1/{path}")).await).expect("JSON");
        assert_eq!(told["type"], "/problems/unknown-project", "{path}: {told}");
        assert!(!told["detail"].as_str().unwrap_or_default().contains("did you mean almanac"), "{told}");
    }
    // Live updates, from the first event on.
    let live = reqwest::Client::new().get(format!("{}/api/v1/live?after=0", world.url)).bearer_auth(&odd);
    let mut live = live.send().await.expect("an answer");
    let mut told = String::new();
    while !told.contains("tidegauge/1") {
        told.push_str(&String::from_utf8_lossy(&live.chunk().await.expect("a stream").expect("more")));
    }
    assert!(!told.contains("almanac"), "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_gives_no_more_than_it_says() {
    let world = world().await;
    world.project("tidegauge").await;
    world.project("almanac").await;
    let make = ["token", "make", "a program", "--role", "operator", "--project", "tidegauge"];
    let token = world.json(&make).await["token"].as_str().expect("a token").to_owned();
    let status = async |method: Method, path: &str, body: Value| {
        let call = reqwest::Client::new().request(method, format!("{}/api/v1/{path}", world.url)).bearer_auth(&token).json(&body);
        call.send().await.expect("an answer").status().as_u16()
    };
    assert_eq!(status(Method::GET, "projects/tidegauge", json!({})).await, 200);
    assert_eq!(status(Method::GET, "projects/almanac", json!({})).await, 404, "outside of its projects");
    assert_eq!(status(Method::PUT, "projects/tidegauge/secrets/KEY", json!({ "value": "long enough" })).await, 403, "above its role");
    for (path, body) in [("tokens", json!({ "name": "more" })), ("sign-in-links", json!({})), ("persons/owner/sign-in-links", json!({}))] {
        assert_eq!(status(Method::POST, path, body).await, 403, "{path}: it leads to no more");
    }
    assert_eq!(status(Method::POST, "session", json!({ "token": token })).await, 401, "it signs no browser in");
    let listed = world.json(&["token", "list"]).await;
    let known = listed.as_array().and_then(|all| all.iter().find(|one| one["name"] == "a program")).expect("the token").clone();
    assert!(known["token"].is_null() && known["used_at"].is_string(), "{known}");
    assert_eq!(world.run(&["token", "end", &known["id"].to_string()]).await.code, 0);
    assert_eq!(status(Method::GET, "projects/tidegauge", json!({})).await, 401);
}

/// Someone who leaves is out at once, and the last owner cannot leave.
#[tokio::test(flavor = "multi_thread")]
async fn who_is_removed_is_out_and_the_last_owner_stays() {
    let world = world().await;
    let maren = person(&world, "maren").await;
    let me = async |token: &str| {
        let answer = reqwest::Client::new().get(format!("{}/api/v1/me", world.url)).bearer_auth(token).send().await.expect("an answer");
        answer.status().as_u16()
    };
    assert_eq!(me(&maren).await, 200);
    assert_eq!(world.run(&["person", "remove", "maren"]).await.code, 0);
    assert_eq!(me(&maren).await, 401);
    for arguments in [&["person", "remove", "owner"][..], &["grant", "remove", "owner"], &["grant", "set", "owner", "editor"]] {
        let refused = world.run(arguments).await;
        assert!(refused.code == 3 && refused.err.contains("the last owner"), "{refused:?}");
    }
    assert_eq!(world.run(&["group", "set", "keepers", "owner"]).await.code, 0);
    assert_eq!(world.run(&["grant", "set", "@keepers", "owner"]).await.code, 0);
    assert_eq!(world.run(&["grant", "remove", "owner"]).await.code, 0, "the group holds it now");
    let emptied = world.run(&["group", "set", "keepers"]).await;
    assert!(emptied.code == 3 && emptied.err.contains("the last owner"), "{emptied:?}");
}

/// Sessions are listed and ended; what was done, and what was refused, stands in the journal, which is whole.
#[tokio::test(flavor = "multi_thread")]
async fn everything_done_and_refused_is_in_the_journal() {
    let world = world().await;
    let repository = world.project("tidegauge").await;
    let odd = person(&world, "odd").await;
    assert_eq!(world.run_with(&["secret", "set", "tidegauge", "STATION_KEY"], "salt and mud").await.code, 0);
    let refused = reqwest::Client::new()
        .put(format!("{}/api/v1/projects/tidegauge/secrets/STATION_KEY", world.url))
        .bearer_auth(&odd)
        .json(&json!({ "value": "something else" }))
        .send()
        .await
        .expect("an answer");
    let problem: Value = refused.json().await.expect("JSON");
    assert_eq!(problem["detail"], "this needs the role editor of tidegauge; owner can give it");
    let commit = repository.push_pipeline("language = 1\n[job.a.b]\nsteps = [\"true\"]\n");
    world.run_of("tidegauge", &commit, "a run", |_| true).await;
    assert_eq!(world.run(&["stop", "tidegauge/1"]).await.code, 0);
    let sessions = world.json(&["session", "list", "--all"]).await;
    assert_eq!(sessions[0]["person"], "odd", "{sessions}");
    assert_eq!(world.run(&["session", "end", &sessions[0]["id"].to_string()]).await.code, 0);
    let rows = world.json(&["journal", "--count", "500"]).await;
    let rows = rows.as_array().expect("a list");
    let has = |who: &str, action: &str, object: &str| {
        rows.iter()
            .find(|row| row["who"] == who && row["action"] == action && row["object"].as_str().is_some_and(|text| text.contains(object)))
    };
    for (who, action, object) in [
        ("first-start", "person.add", "owner"),
        ("owner", "project.add", "tidegauge"),
        ("owner", "person.add", "odd"),
        ("owner", "person.link", "odd"),
        ("odd", "session.begin", "session"),
        ("odd", "token.make", "a test's"),
        ("owner", "secret.set", "STATION_KEY"),
        ("push", "run.start", "tidegauge/1"),
        ("owner", "run.stop", "tidegauge/1"),
        ("owner", "person-session.end", "odd"),
    ] {
        assert!(has(who, action, object).is_some(), "{who} {action} {object} in {rows:#?}");
    }
    let refusal = has("odd", "secret.set", "STATION_KEY").expect("the refusal");
    assert_eq!(refusal["refused"], problem["detail"], "{refusal}");
    assert!(!format!("{rows:?}").contains("salt and mud"), "no value of a secret is in it");
    let stopped = has("owner", "run.stop", "tidegauge/1").expect("the stop");
    assert_eq!((stopped["way"].as_str(), stopped["address"].as_str()), (Some("client"), Some("127.0.0.1")), "{stopped}");
    // Filters, pages, the export, and verifying.
    let secrets = world.json(&["journal", "tidegauge", "--action", "secret", "--since", "1h"]).await;
    assert_eq!(secrets.as_array().map(Vec::len), Some(2), "{secrets}");
    let by = world.json(&["journal", "--by", "odd"]).await;
    assert!(by.as_array().is_some_and(|rows| rows.len() >= 3 && rows.iter().all(|row| row["who"] == "odd")), "{by}");
    let exported = world.run(&["journal", "export"]).await;
    assert!(exported.out.lines().count() >= rows.len() && exported.out.lines().all(|line| serde_json::from_str::<Value>(line).is_ok()));
    let whole = world.json(&["journal", "verify"]).await;
    assert_eq!(whole["whole"], true, "{whole}");
    let against = format!("{}:{}", whole["rows"], whole["digest"].as_str().unwrap_or_default());
    assert_eq!(world.run(&["journal", "verify", "--against", &against]).await.code, 0);
    // Someone changes the database behind the service's back.
    let path = world.folder.path().join("service/ordotaxis.db");
    let pool = sqlx::SqlitePool::connect(&format!("sqlite:{}", path.display())).await.expect("the database");
    let sql = "DROP TRIGGER journal_stays; UPDATE journal SET who = 'tomas' WHERE action = 'secret.set' AND refused IS NULL";
    sqlx::raw_sql(sql).execute(&pool).await.expect("a change");
    let broken = world.run(&["journal", "verify"]).await;
    assert!(broken.code == 1 && broken.out.contains("it was changed"), "{broken:?}");
}
