//! Notices: the main branch breaks and is fixed, each told once, to those whose commits are between; mail over a real server,
//! signed webhooks, a storm as one message; and everybody's own choice.

use super::ORDOTAXIS;
use axum::Router;
use axum::http::{HeaderMap, StatusCode};
use axum::routing::post;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use ordotaxis_practice::Dialect;
use ordotaxis_testbed::{Mail, MailServer, Process, Repository, RunnerOptions, World, until};
use reqwest::Method;
use serde_json::{Value, json};
use sha2::Sha256;
use std::path::Path;
use std::sync::{Arc, Mutex};

const PIPELINE: &str = "language = 1\n[starts]\npush = [\"main\"]\n[job.test.unit]\nsteps = [\"test ! -e bad\"]\n[job.test.other]\nsteps = [\"test ! -e worse\"]\n";

pub(super) struct Setting {
    pub(super) world: World,
    repository: Repository,
    server: MailServer,
    runner: Option<Process>,
}

/// A service that sends mail, with these lines in its configuration and these rules in its project.
pub(super) async fn setting(more: &str, rules: &str, persons: &[(&str, &str)]) -> Setting {
    let folder = tempfile::tempdir().expect("a folder");
    let server = MailServer::start(folder.path(), None);
    let config = format!(
        "beat = \"250ms\"\nretry_pause = \"100ms\"\n{more}\n[mail]\nserver = \"127.0.0.1:{}\"\ntls = \"none\"\nfrom = \"Ordotaxis <builds@saltmarsh.example>\"\n",
        server.port
    );
    let world = World::start_speaking(ORDOTAXIS, config.leak(), folder, Dialect::Practice).await;
    let repository = world.project("tidegauge").await;
    let runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
    for (name, mail) in persons {
        assert_eq!(world.run(&["person", "add", name, "--mail", mail]).await.code, 0);
        assert_eq!(world.run(&["grant", "set", name, "reader", "--project", "tidegauge"]).await.code, 0);
    }
    if !rules.is_empty() {
        std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
        repository.write("ordotaxis/rules.toml", rules);
    }
    let first = repository.push_pipeline(PIPELINE);
    world.verdict("tidegauge", &first).await;
    Setting { world, repository, server, runner: Some(runner) }
}

impl Setting {
    /// A commit of someone on main, and its run's number once that has ended.
    pub(super) async fn push(&self, who: &str, change: impl FnOnce(&Repository)) -> (String, i64) {
        change(&self.repository);
        let (name, mail) = (format!("user.name={who}"), format!("user.email={}@saltmarsh.example", who.to_lowercase()));
        self.repository.git(&["add", "--all"]);
        self.repository.git(&["-c", &name, "-c", &mail, "commit", "--quiet", "--allow-empty", "-m", &format!("A change of {who}")]);
        self.repository.git(&["push", "--quiet", "origin", "HEAD:main"]);
        let commit = self.repository.git(&["rev-parse", "HEAD"]).trim().to_owned();
        let run = self.world.verdict("tidegauge", &commit).await;
        (commit, run["number"].as_i64().expect("a number"))
    }

    pub(super) async fn mails(&self, count: usize) -> Vec<Mail> {
        until(&format!("{count} messages"), || async { (self.server.mails().len() >= count).then(|| self.server.mails()) }).await
    }
}

pub(super) fn worse(repository: &Repository) {
    repository.write("bad", "");
}

fn better(repository: &Repository) {
    repository.git(&["rm", "--quiet", "-f", "--ignore-unmatch", "bad", "worse"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn whose_commit_broke_it_is_told_once_and_once_that_it_is_fixed() {
    let setting =
        setting("", "", &[("maren", "Maren@saltmarsh.example"), ("tomas", "tomas@saltmarsh.example"), ("odd", "odd@saltmarsh.example")])
            .await;
    let world = &setting.world;
    let (commit, broken) = setting.push("Maren", worse).await;
    setting.push("Maren", |repository| repository.write("readings.txt", "1\n")).await;
    let (_, fixed) = setting.push("Tomas", better).await;
    let mails = setting.mails(3).await;
    let first = &mails[0];
    assert_eq!(
        (first.to.as_str(), first.subject.starts_with("tidegauge: main is broken: Failed: 1 of 2 jobs")),
        ("Maren@saltmarsh.example", true),
        "{first:?}"
    );
    for words in [
        "New failures:\n  test.unit: step `test ! -e bad` exited with 1",
        &format!("{} A change of Maren (Maren)", &commit[..8]),
        &format!("/runs/tidegauge/{broken}"),
    ] {
        assert!(first.text.contains(words), "{words} in {}", first.text);
    }
    assert!(first.html.contains("<a href=") && first.header("Auto-Submitted") == "auto-generated", "{first:?}");
    assert_eq!(first.header("List-Unsubscribe-Post"), "List-Unsubscribe=One-Click");
    // Both whose commits are between hear that it is fixed, in the thread of the break.
    let mut told: Vec<&Mail> = mails[1..].iter().collect();
    told.sort_by_key(|mail| mail.to.to_lowercase());
    assert_eq!(told.iter().map(|mail| mail.to.to_lowercase()).collect::<Vec<_>>(), ["maren@saltmarsh.example", "tomas@saltmarsh.example"]);
    for mail in told {
        assert!(mail.subject.starts_with("tidegauge: main is fixed: Passed"), "{mail:?}");
        assert!(
            mail.text.contains(&format!("since tidegauge/{broken}, 2 runs ago")) && mail.text.contains(&format!("/runs/tidegauge/{fixed}"))
        );
        assert_eq!(mail.header("References"), first.header("References"));
    }
    // Ending them from within the mail: looking at the address does nothing, sending to it does.
    let end = first.header("List-Unsubscribe").trim_matches(['<', '>']).to_owned();
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().expect("a client");
    let looked = client.get(&end).send().await.expect("an answer");
    assert_eq!(
        (looked.status(), looked.headers()["location"].to_str().ok()),
        (StatusCode::SEE_OTHER, Some(format!("{}/notices", world.url)).as_deref())
    );
    assert_eq!(client.post(end.replace("key=", "key=0")).send().await.expect("an answer").status(), StatusCode::NOT_FOUND);
    let ended = client.post(&end).body("List-Unsubscribe=One-Click").send().await.expect("an answer");
    assert_eq!(ended.status(), StatusCode::OK);
    setting.push("Maren", worse).await;
    let (_, last) = setting.push("Tomas", better).await;
    let mails = setting.mails(4).await;
    assert!(
        mails.len() == 4 && mails[3].to == "tomas@saltmarsh.example" && mails[3].text.contains(&format!("/runs/tidegauge/{last}")),
        "{mails:?}"
    );
    let journal = world.json(&["journal"]).await.to_string();
    assert!(journal.contains("notice.end"), "{journal}");
}

#[tokio::test(flavor = "multi_thread")]
async fn everybody_chooses_what_they_are_told() {
    let setting = setting("", "", &[("tomas", "tomas@saltmarsh.example")]).await;
    let world = &setting.world;
    let token = world.json(&["person", "list"]).await;
    assert!(token.to_string().contains("tomas"));
    // The owner, who has no address yet.
    let none = world.run(&["notice", "sample"]).await;
    assert!(none.code != 0 && none.err.contains("you have no mail address here"), "{none:?}");
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "owner@saltmarsh.example"]).await.code, 0);
    assert!(world.run(&["notice", "sample"]).await.out.contains("owner@saltmarsh.example"));
    let sample = setting.mails(1).await.remove(0);
    assert!(sample.subject.contains("this is what a notice looks like"), "{sample:?}");
    // By themselves the owner hears nothing of what others break.
    let shown = world.run(&["notice", "show"]).await.out;
    assert!(
        shown.contains("mail to  owner@saltmarsh.example")
            && shown.contains("broke, fixed, waits, landed, left, rolled-back, emergency  own    mail"),
        "{shown}"
    );
    assert_eq!(world.run(&["notice", "set", "--on", "broke", "--whose", "all", "--project", "tidegauge"]).await.code, 0);
    for (arguments, words) in [
        (vec!["--on", "brok"], "did you mean `broke`?"),
        (vec!["--whose", "mine"], "it is `own` or `all`"),
        (vec!["--by", "pigeon"], "it is `mail` or `nothing`"),
        (vec!["--project", "tidegage"], "did you mean tidegauge?"),
    ] {
        let bad = world.run(&[vec!["notice", "set"], arguments].concat()).await;
        assert!(bad.code == 2 && bad.err.contains(words), "{bad:?}");
    }
    setting.push("Ines", worse).await;
    let told = setting.mails(2).await.remove(1);
    assert!(told.to == "owner@saltmarsh.example" && told.subject.starts_with("tidegauge: main is broken"), "{told:?}");
    setting.push("Ines", better).await;
    let view = world.json(&["notice", "show"]).await;
    assert_eq!((view["last"][0]["state"].as_str(), view["choices"][0]["on"][0].as_str()), (Some("sent"), Some("broke")), "{view}");
    assert_eq!(world.run(&["notice", "drop", "--project", "tidegauge"]).await.code, 0);
    assert_eq!(world.run(&["notice", "drop", "--project", "tidegauge"]).await.code, 2, "there is none any more");
    // Who may not see the project is not told, whatever they chose.
    assert_eq!(world.run(&["notice", "set", "--whose", "all"]).await.code, 0);
    assert_eq!(world.run(&["project", "seen", "tidegauge", "granted"]).await.code, 0);
    assert_eq!(world.run(&["grant", "remove", "tomas", "--project", "tidegauge"]).await.code, 0);
    setting.push("Tomas", worse).await;
    let mails = setting.mails(3).await;
    assert!(mails.len() == 3 && mails[2].to == "owner@saltmarsh.example", "the owner, and nobody else: {mails:?}");
}

/// A runner that goes away and hooks that never come are told to those who asked for it, and to nobody else.
#[tokio::test(flavor = "multi_thread")]
async fn a_runner_that_goes_away_and_a_hook_that_never_comes_are_told() {
    let mut setting = setting("lease = \"1s\"\nhook_grace = \"200ms\"", "", &[("odd", "odd@saltmarsh.example")]).await;
    let world = &setting.world;
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "owner@saltmarsh.example"]).await.code, 0);
    assert_eq!(world.run(&["notice", "set", "--on", "hook,runner", "--whose", "all"]).await.code, 0);
    let waits = "language = 1\n[starts]\npush = [\"main\"]\n[job.test.unit]\nsteps = [\"sleep 600\"]\n";
    let commit = setting.repository.push_pipeline(waits);
    world.run_of("tidegauge", &commit, "a running job", |run| World::job(run, "test.unit")["state"] == "running").await;
    setting.runner.take().expect("a runner").kill();
    let told = setting.mails(1).await.remove(0);
    let run = world.verdict("tidegauge", &commit).await;
    let sentence = format!("tidegauge: a runner went away in the middle of {}: test.unit, attempt 1", run["run"].as_str().expect("a name"));
    assert!(told.to == "owner@saltmarsh.example" && told.subject.starts_with(&sentence), "{told:?}");
    let hook = json!({ "url": "http://127.0.0.1:1/", "secret": "none" });
    let set = reqwest::Client::new().put(format!("{}/api/repositories/tidegauge/hook", world.forge_url)).json(&hook);
    set.send().await.expect("an answer").error_for_status().expect("set");
    setting.repository.push_pipeline(&waits.replace("600", "601"));
    assert_eq!(world.run(&["project", "poll", "tidegauge", "1s"]).await.code, 0);
    let mails = setting.mails(2).await;
    assert!(mails[1].subject.starts_with("tidegauge: 1 push was found by looking; its hook never came"), "{mails:?}");
    assert!(mails[1].text.contains(&format!("{}/projects/tidegauge/deliveries", world.url)), "{mails:?}");
    assert!(mails.iter().all(|mail| mail.to == "owner@saltmarsh.example"), "{mails:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_refuses_one_of_three_takes_the_others() {
    let rules = "rules = 1\n[notice.keepers]\nmail = [\"one@saltmarsh.example\", \"refused@saltmarsh.example\", \"later@saltmarsh.example\", \"three@saltmarsh.example\"]\n";
    let setting = setting("", rules, &[]).await;
    setting.push("Maren", worse).await;
    let mails = setting.mails(2).await;
    let mut to: Vec<&str> = mails.iter().map(|mail| mail.to.as_str()).collect();
    to.sort_unstable();
    assert_eq!(to, ["one@saltmarsh.example", "three@saltmarsh.example"]);
    assert_eq!(mails[0].header("List-Unsubscribe"), "", "it is nobody's own");
    let last = until("that one is given up", || async {
        let last = setting.world.json(&["notice", "project", "tidegauge"]).await;
        let state = |to: &str| last.as_array()?.iter().find(|one| one["to"] == to)?["state"].as_str().map(str::to_owned);
        (state("refused@saltmarsh.example")? == "given up").then(|| (state("later@saltmarsh.example"), last.clone()))
    })
    .await;
    assert_eq!(last.0.as_deref(), Some("waiting"), "it is tried again");
    assert!(last.1.to_string().contains("nobody here is called so"), "{}", last.1);
    assert!(setting.world.run(&["work", "list"]).await.out.contains("not now"));
}

/// The practice mail sink, as the demo has it: what the service sends is read there.
#[tokio::test(flavor = "multi_thread")]
async fn the_practice_sink_shows_what_was_sent() {
    let folder = tempfile::tempdir().expect("a folder");
    let sink = ordotaxis_practice::Sink::open(folder.path().join("mail")).expect("a folder");
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(sink.clone().take(listener));
    let config = format!("[mail]\nserver = \"127.0.0.1:{port}\"\ntls = \"none\"\nfrom = \"builds@saltmarsh.example\"\n");
    let world = World::start_speaking(ORDOTAXIS, config.leak(), folder, Dialect::Practice).await;
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "refused@saltmarsh.example"]).await.code, 0);
    let refused = world.run(&["notice", "sample"]).await;
    assert!(refused.code != 0 && refused.err.contains("nobody here is called so"), "{refused:?}");
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "ines@saltmarsh.example"]).await.code, 0);
    // One a second.
    until("another sample", || async { (world.run(&["notice", "sample"]).await.code == 0).then_some(()) }).await;
    let came = sink.came();
    assert!(came.len() == 1 && came[0].contains("To: ines@saltmarsh.example") && came[0].contains("multipart/alternative"), "{came:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_storm_becomes_one_message() {
    let rules = "rules = 1\n[notice.keepers]\nmail = [\"keepers@saltmarsh.example\"]\n";
    let setting = setting("[notices]\npause = \"20s\"\n", rules, &[]).await;
    for _ in 0..3 {
        setting.push("Maren", worse).await;
        setting.push("Maren", better).await;
    }
    let mails = setting.mails(4).await;
    assert_eq!(mails.len(), 4, "three at once, and the others in one");
    let last = &mails[3];
    assert_eq!(last.subject, "tidegauge: 3 notices");
    let lines: Vec<&str> = last.text.lines().filter(|line| line.starts_with("- tidegauge: main is ")).collect();
    assert!(lines.len() == 3 && lines[0].contains("fixed") && lines[1].contains("broken"), "{}", last.text);
}

type Events = Arc<Mutex<Vec<(HeaderMap, String)>>>;

/// A server that takes events; the first is answered with a redirect, the second with an error.
async fn board() -> (String, Events) {
    let events: Events = Arc::default();
    let kept = events.clone();
    let take = move |headers: HeaderMap, body: String| async move {
        let mut events = kept.lock().expect("not poisoned");
        events.push((headers, body));
        match events.len() {
            1 => (StatusCode::FOUND, [("location", "http://127.0.0.1:1/elsewhere")]),
            2 => (StatusCode::INTERNAL_SERVER_ERROR, [("location", "")]),
            _ => (StatusCode::NO_CONTENT, [("location", "")]),
        }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let url = format!("http://{}/board", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, Router::new().route("/board", post(take))).await });
    (url, events)
}

#[tokio::test(flavor = "multi_thread")]
async fn webhooks_get_signed_events() {
    let (url, events) = board().await;
    let rules = format!("rules = 1\n[notice.board]\non = [\"broke\", \"fixed\"]\nurl = \"{url}\"\nsecret = \"BOARD_KEY\"\n");
    let mut setting = setting("", &rules, &[]).await;
    setting.push("Maren", worse).await;
    let given = async |words: &str, world: &World| {
        until(words, || async {
            let work = world.run(&["work", "list"]).await.out;
            work.contains(words).then_some(())
        })
        .await;
    };
    given("the secret BOARD_KEY is not set for tidegauge", &setting.world).await;
    assert_eq!(setting.world.run_with(&["secret", "set", "tidegauge", "BOARD_KEY"], "short").await.code, 0);
    given("is no key of a webhook", &setting.world).await;
    let key = [7_u8; 24];
    let secret = format!("whsec_{}", STANDARD.encode(key));
    assert_eq!(setting.world.run_with(&["secret", "set", "tidegauge", "BOARD_KEY"], &secret).await.code, 0);
    given("lies on this machine or in a private network; `[notices] near = true`", &setting.world).await;
    assert!(events.lock().expect("not poisoned").is_empty());
    // The owner allows it: the service starts anew with that.
    setting.world.kill_service();
    setting.world.configure("[notices]\nnear = true\n");
    setting.world.start_service();
    given("redirects are not followed", &setting.world).await;
    let (headers, body) = until("the event", || async {
        let events = events.lock().expect("not poisoned");
        events.get(2).cloned()
    })
    .await;
    let event: Value = serde_json::from_str(&body).expect("JSON");
    assert_eq!(headers["content-type"], "application/cloudevents+json");
    for (field, wanted) in [
        ("specversion", "1.0"),
        ("type", "org.ordotaxis.notice.broke"),
        ("subject", "tidegauge/2"),
        ("datacontenttype", "application/json"),
    ] {
        assert_eq!(event[field], wanted, "{event}");
    }
    assert_eq!(
        (&event["data"]["commits"][0]["author"], event["source"].as_str()),
        (&json!("Maren"), Some(format!("{}/projects/tidegauge", setting.world.url)).as_deref())
    );
    let text = |name: &str| headers[name].to_str().expect("text").to_owned();
    assert_eq!((text("webhook-id"), event["id"].as_str().map(str::to_owned)), (text("webhook-id"), Some(text("webhook-id"))));
    let mut mac = Hmac::<Sha256>::new_from_slice(&key).expect("a key");
    mac.update(format!("{}.{}.{body}", text("webhook-id"), text("webhook-timestamp")).as_bytes());
    assert_eq!(text("webhook-signature"), format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes())));
    let sent = setting.world.json(&["notice", "project", "tidegauge"]).await;
    assert_eq!(sent[0]["state"], "sent", "{sent}");
}

/// Mail goes over a way that is kept private, to a server that is who it says.
#[tokio::test(flavor = "multi_thread")]
async fn mail_goes_by_tls() {
    let folder = tempfile::tempdir().expect("a folder");
    let (certificate, key) = (folder.path().join("mail.pem"), folder.path().join("mail.key"));
    let made = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ed25519",
            "-nodes",
            "-days",
            "2",
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=DNS:localhost",
        ])
        .args(["-addext", "basicConstraints=critical,CA:FALSE", "-keyout"])
        .arg(&key)
        .arg("-out")
        .arg(&certificate)
        .output()
        .expect("openssl runs");
    assert!(made.status.success(), "{made:?}");
    let server = MailServer::start(folder.path(), Some((&certificate, &key)));
    let config = |ca: &Path| {
        format!("[mail]\nserver = \"localhost:{}\"\nfrom = \"builds@saltmarsh.example\"\nca_file = \"{}\"\n", server.port, ca.display())
    };
    let world = World::start_speaking(ORDOTAXIS, config(&certificate).leak(), folder, Dialect::Practice).await;
    assert_eq!(world.run(&["person", "set", "owner", "--mail", "owner@saltmarsh.example"]).await.code, 0);
    let sent = world.run(&["notice", "sample"]).await;
    assert_eq!(sent.code, 0, "{sent:?}");
    assert_eq!(server.mails().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_configuration_of_mail_that_cannot_be_right_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    for (text, words) in [
        ("server = \"mail.saltmarsh.example\"\nfrom = \"a@b.example\"\n", "write HOST:PORT"),
        ("server = \"mail.saltmarsh.example:25\"\ntls = \"none\"\nfrom = \"a@b.example\"\n", "for a server on this machine only"),
        ("server = \"localhost:25\"\ntls = \"none\"\nfrom = \"nobody\"\n", "`from` of [mail] is no mail address"),
        ("server = \"localhost:25\"\nfrom = \"a@b.example\"\nuser = \"a\"\n", "belong together"),
        ("server = \"localhost:25\"\nfrom = \"a@b.example\"\nca_file = \"none.pem\"\n", "none.pem"),
    ] {
        let config = folder.path().join("service.toml");
        std::fs::write(&config, format!("[mail]\n{text}")).expect("written");
        let data = folder.path().join("data");
        let mut command = std::process::Command::new(ORDOTAXIS);
        command.args(["serve", "--listen", "127.0.0.1:0", "--data"]).arg(&data).arg("--config").arg(&config);
        let ran = tokio::task::spawn_blocking(move || command.output()).await.expect("a task").expect("it runs");
        let err = String::from_utf8_lossy(&ran.stderr).into_owned();
        assert!(!ran.status.success() && err.contains(words), "{words}: {err}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn notices_of_others_are_not_shown() {
    let setting = setting("", "", &[("tomas", "tomas@saltmarsh.example")]).await;
    let anonymous = reqwest::Client::new().get(format!("{}/api/v1/notices", setting.world.url)).send().await.expect("an answer");
    assert_eq!(anonymous.status(), StatusCode::UNAUTHORIZED);
    setting.push("Tomas", worse).await;
    setting.mails(1).await;
    let own: Value = setting.world.http(Method::GET, "/api/v1/notices").send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!(own["last"], json!([]), "the owner sees their own");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_can_agree_is_asked_and_who_is_concerned_hears_what_became_of_it() {
    let rules = "rules = 1\n[environment.trial]\napprove = { of = 1, by = [\"maren\", \"owner\"] }\nemergency = [\"owner\"]\n\
                 [notice.team]\nmail = [\"team@saltmarsh.example\"]\non = [\"deployed\", \"rolled-back\", \"emergency\"]\n";
    let setting = setting("", rules, &[("maren", "maren@saltmarsh.example"), ("odd", "odd@saltmarsh.example")]).await;
    let world = &setting.world;
    assert_eq!(world.run(&["grant", "set", "maren", "operator", "--project", "tidegauge"]).await.code, 0);
    let pipeline = |steps: &str| format!("language = 1\n[job.ship.put]\ncheckout = false\ndeploys = \"trial\"\nsteps = [\"{steps}\"]\n");
    let mail = async |to: &str, words: &str| -> Mail {
        let fits = |mail: &&Mail| mail.to == to && mail.subject.contains(words);
        until(&format!("a message to {to}: {words}"), || async { setting.server.mails().iter().find(fits).cloned() }).await
    };
    setting.repository.push_pipeline(&pipeline("true"));
    let asked =
        mail("maren@saltmarsh.example", "tidegauge/2 ship.put waits to go into trial: 1 approval by maren or owner is missing").await;
    assert!(
        asked.text.contains("ordotaxis approve tidegauge/2 ship.put") && asked.text.contains("/projects/tidegauge/environments/trial"),
        "{asked:?}"
    );
    assert_eq!(world.run(&["approve", "tidegauge/2"]).await.code, 0);
    mail("team@saltmarsh.example", "is in trial, by tidegauge/2").await;
    // Past the rules: everybody who could have agreed hears of it at once, and that it failed.
    setting.repository.push_pipeline(&pipeline("false"));
    mail("maren@saltmarsh.example", "tidegauge/3 ship.put waits").await;
    let past = ["start", "tidegauge/3", "--job", "ship.put", "--emergency", "--reason", "the pier floods"];
    assert_eq!(world.run(&past).await.code, 0);
    for to in ["maren@saltmarsh.example", "team@saltmarsh.example"] {
        let told = mail(to, "owner puts tidegauge/3 ship.put into trial past its rules: the pier floods").await;
        assert!(told.text.contains("ordotaxis approve tidegauge/3 ship.put"), "{told:?}");
    }
    let failed = mail("team@saltmarsh.example", "did not go well in trial").await;
    assert!(failed.text.contains("ordotaxis roll-back tidegauge/trial"), "{failed:?}");
    assert!(setting.server.mails().iter().all(|mail| mail.to != "odd@saltmarsh.example"), "it does not concern him");
}
