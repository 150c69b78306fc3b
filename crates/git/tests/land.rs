//! Proposals put on top of a commit and pushed: git itself says whether it is as people would have done it.

use ordotaxis_git::{Access, Mirror, Mirrors, Pushed, Put, PutHow, Saying};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use tempfile::TempDir;

fn git(folder: &Path, arguments: &[&str]) -> String {
    let who = ["-c", "user.name=Maren", "-c", "user.email=maren@saltmarsh.example"];
    let mut command = Command::new("git");
    command.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null");
    let output = command.args(who).args(arguments).current_dir(folder).output().expect("git starts");
    assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// A bare repository, a clone to work in, and the service's mirror of it.
struct Setting {
    folder: TempDir,
    mirror: Arc<Mirror>,
}

impl Setting {
    fn new() -> Setting {
        let folder = tempfile::tempdir().expect("a folder");
        git(folder.path(), &["init", "--quiet", "--bare", "--initial-branch=main", "tide.git"]);
        git(folder.path(), &["init", "--quiet", "--initial-branch=main", "work"]);
        let url = folder.path().join("tide.git").display().to_string();
        let mirror = Mirrors::new(folder.path().join("mirrors")).get("tidegauge", &url, Access::default());
        let setting = Setting { folder, mirror };
        setting.git(&["remote", "add", "origin", &url]);
        setting.commit("main", "Begin", &[("gauge.c", "one\ntwo\nthree\n")]);
        setting
    }

    fn git(&self, arguments: &[&str]) -> String {
        git(&self.folder.path().join("work"), arguments)
    }

    /// A commit on a branch, pushed.
    fn commit(&self, branch: &str, title: &str, files: &[(&str, &str)]) -> String {
        for (path, text) in files {
            std::fs::write(self.folder.path().join("work").join(path), text).expect("a file");
        }
        self.git(&["add", "--all"]);
        self.git(&["commit", "--quiet", "-m", title]);
        self.git(&["push", "--quiet", "origin", &format!("HEAD:refs/heads/{branch}")]);
        self.git(&["rev-parse", "HEAD"])
    }

    fn branch(&self, name: &str, from: &str) {
        self.git(&["checkout", "--quiet", "-B", name, from]);
    }

    async fn put(&self, on: &str, head: &str, how: PutHow) -> Put {
        self.mirror.fetch_all().await.expect("a fetch");
        let saying = Saying { message: "Land 7: neap tides\n\nlong".into(), author: Some("Odd".into()), time: 1_800_000_000 };
        self.mirror.put_on(on, head, how, &saying).await.expect("an answer")
    }

    /// What the mirror's own git says.
    fn said(&self, arguments: &[&str]) -> String {
        git(self.mirror.dir(), arguments)
    }
}

fn made(put: Put) -> String {
    if let Put::Made(commit) = put { commit } else { panic!("{put:?}") }
}

#[tokio::test]
async fn a_proposal_is_put_in_as_it_is_asked_for() {
    let setting = Setting::new();
    let start = setting.git(&["rev-parse", "HEAD"]);
    setting.branch("topic", &start);
    setting.commit("topic", "First", &[("neap.txt", "4250\n")]);
    let head = setting.commit("topic", "Second", &[("neap.txt", "4250\n4260\n")]);
    setting.branch("main", &start);
    let on = setting.commit("main", "Elsewhere", &[("almanac.txt", "x\n")]);

    let merge = made(setting.put(&on, &head, PutHow::Merge).await);
    assert_eq!(setting.said(&["log", "-1", "--format=%P %s", &merge]), format!("{on} {head} Land 7: neap tides"));
    assert_eq!(setting.said(&["ls-tree", "--name-only", &merge]), "almanac.txt\ngauge.c\nneap.txt");
    assert_eq!(made(setting.put(&on, &head, PutHow::Merge).await), merge, "the same again is the same commit");

    let squash = made(setting.put(&on, &head, PutHow::Squash).await);
    assert_eq!(
        setting.said(&["log", "-1", "--format=%P %an <%ae> %s", &squash]),
        format!("{on} Odd <maren@saltmarsh.example> Land 7: neap tides")
    );
    assert_eq!(setting.said(&["diff", &merge, &squash]), "", "all ways lead to the same files");

    let rebase = made(setting.put(&on, &head, PutHow::Rebase).await);
    assert_eq!(setting.said(&["log", "--format=%an %s", &format!("{on}..{rebase}")]), "Maren Second\nMaren First");
    assert_eq!(setting.said(&["diff", &merge, &rebase]), "");
    for (how, landed) in [(PutHow::Merge, &merge), (PutHow::Squash, &squash), (PutHow::Rebase, &rebase)] {
        assert_eq!(setting.put(landed, &head, how).await, Put::Contained, "{how:?}: it is there already");
    }
}

#[tokio::test]
async fn what_does_not_fit_names_its_files() {
    let setting = Setting::new();
    let start = setting.git(&["rev-parse", "HEAD"]);
    setting.branch("topic", &start);
    let head = setting.commit("topic", "Theirs", &[("gauge.c", "one\nTWO\nthree\n"), ("new.txt", "a\n")]);
    setting.branch("main", &start);
    let on = setting.commit("main", "Ours", &[("gauge.c", "one\n2\nthree\n")]);
    for how in [PutHow::Merge, PutHow::Squash, PutHow::Rebase] {
        assert_eq!(setting.put(&on, &head, how).await, Put::Conflict(vec!["gauge.c".into()]), "{how:?}");
    }
    for bad in ["--all", "main..topic", ""] {
        let saying = Saying { message: String::new(), author: None, time: 0 };
        assert!(setting.mirror.put_on(bad, &head, PutHow::Merge, &saying).await.is_err(), "{bad}");
    }
}

#[tokio::test]
async fn a_branch_is_pushed_from_exactly_one_commit_to_another() {
    let setting = Setting::new();
    let start = setting.git(&["rev-parse", "HEAD"]);
    setting.branch("topic", &start);
    let head = setting.commit("topic", "Offered", &[("neap.txt", "1\n")]);
    let landed = made(setting.put(&start, &head, PutHow::Merge).await);
    let push = async |from: &str, commit: &str| setting.mirror.push_from("main", from, commit).await.expect("an answer");
    assert_eq!(push(&head, &landed).await, Pushed::Moved(start.clone()), "the branch is elsewhere");
    assert_eq!(push(&start, &landed).await, Pushed::Done);
    assert_eq!(push(&start, &landed).await, Pushed::Holds(landed.clone()), "once more is no harm");
    // Someone builds upon it at once.
    setting.git(&["fetch", "--quiet", "origin"]);
    setting.branch("main", "origin/main");
    let upon = setting.commit("main", "Upon it", &[("more.txt", "1\n")]);
    assert_eq!(push(&start, &landed).await, Pushed::Holds(upon.clone()));
    // Someone puts the branch back.
    setting.git(&["push", "--quiet", "--force", "origin", &format!("{start}:refs/heads/main")]);
    assert_eq!(push(&upon, &landed).await, Pushed::Moved(start.clone()));
    // A server that takes nothing.
    let hook = setting.folder.path().join("tide.git/hooks/pre-receive");
    std::fs::write(&hook, "#!/bin/sh\necho 'the branch is closed'\nexit 1\n").expect("a hook");
    std::fs::set_permissions(&hook, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("it runs");
    let refused = push(&start, &landed).await;
    assert!(matches!(&refused, Pushed::Refused(said) if said.contains("rejected")), "{refused:?}");
    git(&setting.folder.path().join("tide.git"), &["update-ref", "-d", "refs/heads/main"]);
    assert_eq!(push(&start, &landed).await, Pushed::Gone);
    std::fs::rename(setting.folder.path().join("tide.git"), setting.folder.path().join("away.git")).expect("moved");
    assert!(setting.mirror.push_from("main", &start, &landed).await.is_err(), "nobody knows");
}
