//! Hooks of a plain git server, on real gitolite behind real sshd: pushes are told at once and never lost; a branch with a
//! landing queue takes no other push; and what holds when the service is away.

use super::ORDOTAXIS;
use ordotaxis_testbed::{RunnerOptions, SshForge, World, until};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

const PIPELINE: &str = "language = 1\n[starts]\npush = [\"*\", \"topic/*\"]\n[job.a.b]\nsteps = [\"true\"]\n";

/// A gitolite with the repository `gauge`, its project in a service, and a clone of the administrator's.
struct Setting {
    world: World,
    forge: SshForge,
    clone: PathBuf,
    _runner: ordotaxis_testbed::Process,
}

impl Setting {
    async fn new() -> Setting {
        let world = super::world().await;
        let forge = SshForge::start(&world.folder.path().join("ssh"));
        forge.set_up_open(&["gauge"], &[]);
        let added = world.json(&["project", "add", "gauge", "--git", &forge.url("gauge")]).await;
        let secret = world.folder.path().join("gauge.key");
        std::fs::write(&secret, added["hook_secret"].as_str().expect("a secret")).expect("written");
        let key = world.run(&["project", "key", "gauge"]).await;
        forge.set_up_open(&["gauge"], &[("ordotaxis", key.out.trim())]);
        // What is told is told by the hook, and not found by looking.
        assert_eq!(world.run(&["project", "poll", "gauge", "never"]).await.code, 0);
        let runner = world.runner(RunnerOptions::default()).await;
        let setting = Setting { clone: world.folder.path().join("gauge"), world, forge, _runner: runner };
        setting.hooks("", &secret);
        std::fs::create_dir(&setting.clone).expect("a folder");
        setting.good(&["init", "--quiet", "--initial-branch=main"]);
        setting.good(&["remote", "add", "origin", &setting.forge.url("gauge")]);
        setting
    }

    /// Installs both hooks, the first with these options.
    fn hooks(&self, options: &str, secret: &Path) {
        let place = format!("--url {} --project gauge --secret-file {}", self.world.url, secret.display());
        for (name, options) in [("pre-receive", options), ("post-receive", "")] {
            // The repository that holds the server's own configuration is no project.
            let script = format!("#!/bin/sh\ntest \"$GL_REPO\" = gauge || exit 0\nexec {ORDOTAXIS} gatehook {name} {place} {options}\n");
            self.forge.hook(name, &script);
        }
    }

    fn git(&self, arguments: &[&str]) -> Output {
        let mut command = Command::new("git");
        command.env("GIT_SSH_COMMAND", self.forge.as_admin()).env("GIT_CONFIG_GLOBAL", "/dev/null").current_dir(&self.clone);
        command.args(["-c", "user.name=Odd", "-c", "user.email=odd@saltmarsh.example"]).args(arguments);
        command.output().expect("git starts")
    }

    fn good(&self, arguments: &[&str]) -> String {
        let output = self.git(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// Writes a file and commits all; gives the commit.
    fn commit(&self, path: &str, text: &str) -> String {
        let path = self.clone.join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, text).expect("written");
        self.good(&["add", "--all"]);
        self.good(&["commit", "--quiet", "--allow-empty", "-m", "A change"]);
        self.good(&["rev-parse", "HEAD"])
    }

    async fn passed(&self, commit: &str) -> Value {
        let run = self.world.verdict("gauge", commit).await;
        assert_eq!(run["state"], "passed", "{run}");
        run
    }
}

fn err(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plain_server_tells_of_pushes_and_keeps_a_branch_for_the_queue() {
    let mut setting = Setting::new().await;
    let first = setting.commit("ordotaxis.toml", PIPELINE);
    setting.good(&["push", "--quiet", "origin", "main"]);
    let run = setting.passed(&first).await;
    assert_eq!((&run["occasion"]["event"], &run["occasion"]["by"]), (&"push".into(), &"admin".into()), "who pushed is who gitolite says");
    // Rules on main: from the next push on they hold.
    let rules = setting.commit("ordotaxis/rules.toml", "rules = 1\n[branch.main]\nland = \"queue\"\n");
    setting.good(&["push", "--quiet", "origin", "main"]);
    setting.passed(&rules).await;
    let past = setting.commit("a", "1");
    for push in [
        &["push", "--quiet", "origin", "main"][..],
        &["push", "--quiet", "--force", "origin", "HEAD~2:main"],
        &["push", "--quiet", "origin", ":main"],
    ] {
        let refused = setting.git(push);
        assert!(!refused.status.success(), "{push:?}");
        if push.len() == 4 && push[3] == "main" {
            assert!(err(&refused).contains("ordotaxis: main has a landing queue: push another branch, propose it"), "{}", err(&refused));
        }
    }
    setting.good(&["push", "--quiet", "origin", "HEAD:topic/1"]);
    setting.passed(&past).await;
    // A tag starts what tags start, and needs nobody's word.
    setting.good(&["tag", "v1"]);
    setting.good(&["push", "--quiet", "origin", "v1"]);
    // The service is away: what nobody can ask about is refused with a sentence, or goes on where that was said.
    setting.world.kill_service();
    setting.commit("b", "1");
    let away = setting.git(&["push", "--quiet", "origin", "HEAD:topic/2"]);
    assert!(
        !away.status.success() && err(&away).contains("could not be asked whether this may be pushed (nothing answers there)"),
        "{}",
        err(&away)
    );
    let secret = setting.world.folder.path().join("gauge.key");
    setting.hooks("--when-away let-through", &secret);
    let (second, one) = (setting.good(&["rev-parse", "HEAD"]), setting.git(&["push", "--quiet", "origin", "HEAD:topic/2"]));
    assert!(
        one.status.success() && err(&one).contains("the push goes on") && err(&one).contains("could not be told of 1"),
        "{}",
        err(&one)
    );
    let third = setting.commit("c", "1");
    assert!(err(&setting.git(&["push", "--quiet", "origin", "HEAD:topic/3"])).contains("could not be told of 2"));
    // Once it is back, the next push tells of all, in order, once.
    setting.world.start_service();
    let fourth = setting.commit("d", "1");
    setting.good(&["push", "--quiet", "origin", "HEAD:topic/4"]);
    for commit in [&second, &third, &fourth] {
        setting.passed(commit).await;
    }
    let deliveries = setting.world.json(&["hook", "list", "gauge"]).await;
    let told = deliveries.as_array().into_iter().flatten().filter(|one| one["state"] == "taken" && one["times"] == 1).count();
    assert_eq!(told, deliveries.as_array().map_or(0, Vec::len), "{deliveries}");
    assert_eq!(setting.good(&["ls-remote", "origin", "refs/heads/main"]).split_whitespace().next(), Some(rules.as_str()));
}

/// Where there is no forge, proposals are made by command, follow their branch, and land through the server's own hooks.
#[tokio::test(flavor = "multi_thread")]
async fn proposals_of_a_plain_server_land_by_command() {
    let setting = Setting::new().await;
    let world = &setting.world;
    setting.commit(
        "ordotaxis/rules.toml",
        "rules = 1\n[branch.main]\nland = \"queue\"\napprovals = { of = 1, by = [\"maren\"], author = false }\n",
    );
    let first = setting.commit("ordotaxis.toml", &PIPELINE.replace("[job", "proposal = [\"main\"]\n[job"));
    setting.good(&["push", "--quiet", "origin", "main"]);
    setting.passed(&first).await;
    setting.good(&["checkout", "--quiet", "-b", "topic/neap"]);
    setting.commit("neap", "1");
    setting.good(&["push", "--quiet", "origin", "topic/neap"]);
    for (arguments, words) in [
        (vec!["propose", "gauge", "topic/naep"], "did you mean topic/neap?"),
        (vec!["propose", "gauge", "main"], "a branch cannot be offered to itself"),
        (vec!["propose", "gauge", "topic/neap", "--to", "mian"], "did you mean main?"),
        (vec!["withdraw", "gauge/9"], "has no proposal 9"),
    ] {
        let bad = world.run(&arguments).await;
        assert!(bad.code == 2 && bad.err.contains(words), "{arguments:?}: {bad:?}");
    }
    let made = world.run(&["propose", "gauge", "topic/neap", "--title", "Replay neap tides"]).await;
    assert!(made.out.contains("gauge/1 offers topic/neap for main: Replay neap tides"), "{made:?}");
    let twice = world.run(&["propose", "gauge", "topic/neap"]).await;
    assert!(twice.code == 3 && twice.err.contains("offered to main already: proposal 1"), "{twice:?}");
    let one = async |what: &str, fits: &dyn Fn(&Value) -> bool| world.proposal("gauge/1", what, fits).await;
    one("its verdict", &|one| one["verdicts"][0]["state"] == "passed").await;
    // It follows its branch; who has looked at the commit of before has not looked at this one.
    let before = setting.good(&["rev-parse", "HEAD"]);
    let head = setting.commit("neap", "2");
    setting.good(&["push", "--quiet", "origin", "topic/neap"]);
    one("its newer commit", &|one| one["commit"] == head && one["verdicts"][0]["state"] == "passed").await;
    assert_eq!(world.run(&["person", "add", "maren"]).await.code, 0);
    assert_eq!(world.run(&["grant", "set", "maren", "reader", "--project", "gauge"]).await.code, 0);
    let link = world.run(&["--quiet", "person", "link", "maren"]).await.out;
    let code = link.trim().rsplit('#').next().expect("a code").to_owned();
    let client = reqwest::Client::new();
    let signed =
        client.post(format!("{}/api/v1/session", world.url)).json(&serde_json::json!({ "code": code })).send().await.expect("an answer");
    let cookie = signed.headers()["set-cookie"].to_str().expect("a cookie").split(';').next().expect("a value").to_owned();
    let review = async |commit: &str| {
        let call = client.put(format!("{}/api/v1/projects/gauge/proposals/1/review", world.url)).header("cookie", &cookie);
        let call = call.header("origin", &world.url).json(&serde_json::json!({ "approves": true, "commit": commit }));
        call.send().await.expect("an answer").status().as_u16()
    };
    assert_eq!((review(&before[..8]).await, review(&head[..3]).await, review(&head[..8]).await), (409, 409, 200));
    let own = world.run(&["review", "gauge/1", "--approve", "--commit", &head]).await;
    assert_eq!(own.code, 0, "{own:?}");
    assert_eq!(world.run(&["land", "gauge/1"]).await.code, 0);
    let landed = one("that it landed", &|one| one["state"] == "landed").await;
    let main = setting.good(&["ls-remote", "origin", "refs/heads/main"]);
    assert_eq!(main.split_whitespace().next(), landed["landed_as"].as_str(), "the hook lets through what the queue lands");
    // Its branch is gone, or it is withdrawn: it ends.
    setting.good(&["push", "--quiet", "origin", "HEAD:refs/heads/topic/spring", "HEAD:refs/heads/topic/ebb"]);
    for branch in ["topic/spring", "topic/ebb"] {
        until("the branch", || async { (world.run(&["propose", "gauge", branch]).await.code == 0).then_some(()) }).await;
    }
    // A tag of the same name comes and goes: the branch is still offered.
    setting.good(&["tag", "topic/ebb"]);
    setting.good(&["push", "--quiet", "origin", "refs/tags/topic/ebb"]);
    setting.good(&["push", "--quiet", "origin", ":refs/tags/topic/ebb"]);
    until("that the tag is gone", || async {
        let list = world.json(&["hook", "list", "gauge"]).await;
        list.as_array()?.iter().any(|one| one["events"].to_string().contains("the tag topic/ebb was removed")).then_some(())
    })
    .await;
    assert_eq!(world.json(&["proposals", "gauge/3"]).await["state"], "open");
    setting.good(&["push", "--quiet", "origin", ":topic/spring"]);
    assert_eq!(world.run(&["withdraw", "gauge/3"]).await.code, 0);
    until("that both are closed", || async {
        let all = world.json(&["proposals", "gauge", "--all"]).await;
        (all.as_array()?.iter().filter(|one| one["state"] == "closed").count() == 2).then_some(())
    })
    .await;
    // Where there is a forge, proposals are its own.
    world.project("tidegauge").await;
    let forge = world.run(&["propose", "tidegauge", "main"]).await;
    assert!(forge.err.contains("offer and end its proposals there"), "{forge:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_believed_without_the_secret() {
    let setting = Setting::new().await;
    let wrong = setting.world.folder.path().join("wrong.key");
    for (text, words) in
        [("whsec_AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "does not take this server's word"), ("no secret at all", "holds no hook secret")]
    {
        std::fs::write(&wrong, text).expect("written");
        setting.hooks("--when-away let-through", &wrong);
        setting.commit("ordotaxis.toml", PIPELINE);
        let refused = setting.git(&["push", "--quiet", "origin", "main"]);
        assert!(!refused.status.success() && err(&refused).contains(words), "{}", err(&refused));
    }
    let ask = async |project: &str, body: &'static str| {
        let call = reqwest::Client::new().post(format!("{}/hooks/v1/{project}/gate", setting.world.url)).body(body);
        call.send().await.expect("an answer").status().as_u16()
    };
    assert_eq!((ask("gauge", "{}").await, ask("none", "{}").await), (401, 401), "a stranger learns nothing");
    assert_eq!(setting.world.json(&["hook", "list", "gauge"]).await, serde_json::json!([]), "nothing was told");
}
