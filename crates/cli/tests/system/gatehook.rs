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
    let listed = until("nothing was told", || async { Some(setting.world.json(&["hook", "list", "gauge"]).await) }).await;
    assert_eq!(listed, serde_json::json!([]));
}
