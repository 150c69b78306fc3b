//! Mirrors against real repositories.

use ordotaxis_git::{Access, GitError, Mirror, Mirrors};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use tempfile::TempDir;

struct Setting {
    folder: TempDir,
    mirror: Arc<Mirror>,
}

fn git(folder: &Path, arguments: &[&str]) -> String {
    let who = ["-c", "user.name=Maren", "-c", "user.email=maren@saltmarsh.example"];
    let output = Command::new("git").args(who).args(arguments).current_dir(folder).output().expect("git starts");
    assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

impl Setting {
    /// A bare repository with one commit, and a mirror of it.
    fn new() -> Setting {
        let folder = tempfile::tempdir().expect("a folder");
        git(folder.path(), &["init", "--quiet", "--bare", "--initial-branch=main", "origin.git"]);
        git(folder.path(), &["clone", "--quiet", "origin.git", "work"]);
        let setting =
            Setting { mirror: Mirrors::new(folder.path().join("mirrors")).get("almanac", &origin(&folder), Access::default()), folder };
        setting.commit("first", &[("ordotaxis.toml", "language = 1\n"), ("ordotaxis/nightly.toml", "x"), ("bin/run", "#!/bin/sh\n")]);
        setting
    }

    fn work(&self) -> std::path::PathBuf {
        self.folder.path().join("work")
    }

    fn commit(&self, title: &str, files: &[(&str, &str)]) -> String {
        for (path, text) in files {
            let path = self.work().join(path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
            std::fs::write(path, text).expect("a file");
        }
        git(&self.work(), &["add", "--all"]);
        git(&self.work(), &["commit", "--quiet", "-m", title]);
        git(&self.work(), &["push", "--quiet", "origin", "HEAD"]);
        git(&self.work(), &["rev-parse", "HEAD"])
    }
}

fn origin(folder: &TempDir) -> String {
    folder.path().join("origin.git").display().to_string()
}

#[tokio::test]
async fn a_commit_is_fetched_when_it_is_needed() {
    let setting = Setting::new();
    let commit = setting.commit("Waters of a week", &[("readings.txt", "1 2\n")]);
    assert!(setting.mirror.need(&commit, Some("main")).await.expect("an answer"));
    let info = setting.mirror.commit(&commit).await.expect("the commit");
    assert_eq!((info.id.as_str(), info.title.as_str(), info.author.as_str()), (commit.as_str(), "Waters of a week", "Maren"));
    let unknown = "0123456789012345678901234567890123456789";
    assert!(!setting.mirror.need(unknown, Some("gone")).await.expect("an answer"));
    assert!(setting.mirror.need("--upload-pack=x", None).await.is_err());
}

#[tokio::test]
async fn names_are_resolved_and_files_are_read() {
    let setting = Setting::new();
    git(&setting.work(), &["tag", "v1"]);
    git(&setting.work(), &["push", "--quiet", "origin", "v1"]);
    setting.mirror.fetch_all().await.expect("fetched");
    let head = git(&setting.work(), &["rev-parse", "HEAD"]);
    for name in ["main", "v1", &head, &head[..12]] {
        assert_eq!(setting.mirror.resolve(name).await.expect("an answer").as_deref(), Some(head.as_str()), "{name}");
    }
    assert_eq!(setting.mirror.resolve("nowhere").await.expect("an answer"), None);
    assert!(matches!(setting.mirror.resolve("a..b").await, Err(GitError::BadName { .. })));
    assert_eq!(setting.mirror.branches().await.expect("a list"), ["main"]);
    assert_eq!(setting.mirror.files(&head, "ordotaxis").await.expect("a list"), ["ordotaxis/nightly.toml"]);
    assert!(setting.mirror.files(&head, "none").await.expect("a list").is_empty());
    assert_eq!(setting.mirror.read(&head, "ordotaxis.toml").await.expect("an answer").as_deref(), Some(&b"language = 1\n"[..]));
    assert_eq!(setting.mirror.read(&head, "none").await.expect("an answer"), None);
}

#[tokio::test]
async fn a_branch_that_is_gone_there_goes_here_too() {
    let setting = Setting::new();
    git(&setting.work(), &["push", "--quiet", "origin", "HEAD:refs/heads/topic"]);
    setting.mirror.fetch_all().await.expect("fetched");
    assert_eq!(setting.mirror.branches().await.expect("a list"), ["main", "topic"]);
    git(&setting.work(), &["push", "--quiet", "origin", ":refs/heads/topic"]);
    setting.mirror.fetch_all().await.expect("fetched");
    assert_eq!(setting.mirror.branches().await.expect("a list"), ["main"]);
}

#[tokio::test]
async fn notes_of_two_writers_are_both_kept() {
    let setting = Setting::new();
    let commit = git(&setting.work(), &["rev-parse", "HEAD"]);
    let other = Mirrors::new(setting.folder.path().join("others")).get("almanac", &origin(&setting.folder), Access::default());
    for mirror in [&setting.mirror, &other] {
        mirror.need(&commit, Some("main")).await.expect("an answer");
    }
    let marks = |run: &str| [format!("\"run\":\"{run}\"")];
    let (of_one, of_two) = (marks("almanac/1"), marks("almanac/2"));
    let (first, second) = tokio::join!(
        setting.mirror.write_note(&commit, &of_one, r#"{"run":"almanac/1","state":"passed"}"#),
        other.write_note(&commit, &of_two, r#"{"run":"almanac/2","state":"failed"}"#),
    );
    first.expect("the first note");
    second.expect("the second note");
    setting.mirror.write_note(&commit, &of_two, r#"{"run":"almanac/2","state":"passed"}"#).await.expect("the third note");
    let shown = git(&setting.folder.path().join("origin.git"), &["notes", "--ref", "ordotaxis", "show", &commit]);
    assert_eq!(shown.lines().count(), 2, "{shown}");
    assert!(shown.contains("almanac/1") && shown.contains("almanac/2") && !shown.contains("failed"), "{shown}");
}

#[tokio::test]
async fn what_git_says_is_told() {
    let folder = tempfile::tempdir().expect("a folder");
    let mirror =
        Mirrors::new(folder.path().join("mirrors")).get("none", &folder.path().join("none.git").display().to_string(), Access::default());
    let error = mirror.fetch_all().await.expect_err("nothing is there");
    assert!(error.to_string().contains("git fetch failed: fatal:"), "{error}");
}

/// *Not there* and *could not look* are different answers: a mirror that cannot be read decides nothing.
#[tokio::test]
async fn what_could_not_be_looked_at_is_not_taken_for_absent() {
    let setting = Setting::new();
    let head = git(&setting.work(), &["rev-parse", "HEAD"]);
    let mirror = &setting.mirror;
    assert!(mirror.need(&head, Some("main")).await.expect("an answer"));
    assert_eq!(mirror.files(&head, "none").await.expect("an answer"), Vec::<String>::new());
    assert_eq!(mirror.read(&head, "none").await.expect("an answer"), None);
    assert_eq!(mirror.resolve("none").await.expect("an answer"), None);
    assert_eq!(mirror.fixed("v9").await.expect("an answer"), None);
    // Its objects are gone, as on a disk that fails.
    std::fs::remove_dir_all(mirror.dir().join("objects")).expect("removed");
    assert!(mirror.files(&head, "").await.is_err());
    assert!(mirror.read(&head, "ordotaxis.toml").await.is_err());
    assert!(mirror.has(&head).await.is_err());
    assert!(mirror.resolve("main").await.is_err());
    assert!(mirror.changed(&head, &head).await.is_err());
}

/// What is read object by object is what git itself says, over commits that add, change, remove and replace files and folders.
#[tokio::test]
async fn what_changed_is_what_git_says() {
    let setting = Setting::new();
    let mut commits = vec![git(&setting.work(), &["rev-parse", "HEAD"])];
    let steps: [&[(&str, &str)]; 6] = [
        &[("src/a.c", "1"), ("src/deep/b.c", "1"), ("x", "1")],
        &[("src/a.c", "2"), ("y y", "é"), ("ä", "1")],
        &[("src/deep/b.c", "2"), ("src/deep/er/c.c", "1")],
        &[("x", "2")],
        &[("bin/run", "changed")],
        &[("z/z", "1")],
    ];
    for (number, files) in steps.into_iter().enumerate() {
        if number == 3 {
            git(&setting.work(), &["rm", "-r", "--quiet", "src/deep"]);
            std::fs::write(setting.work().join("src/deep"), "a file now").expect("a file");
        }
        commits.push(setting.commit("a step", files));
    }
    setting.mirror.fetch_all().await.expect("a fetch");
    for from in &commits {
        for to in &commits {
            let said = git(&setting.work(), &["-c", "core.quotePath=off", "diff-tree", "-r", "--name-only", from, to]);
            let mut wanted: Vec<&str> = said.lines().collect();
            wanted.sort_unstable();
            assert_eq!(
                setting.mirror.changed(from, to).await.expect("an answer"),
                Some(wanted.iter().map(|one| (*one).to_owned()).collect())
            );
            let is_before = commits.iter().position(|one| one == from) <= commits.iter().position(|one| one == to);
            assert_eq!(setting.mirror.leads_to(from, to).await.expect("an answer"), is_before);
        }
    }
    let many: Vec<(String, String)> = (0..10_001).map(|n| (format!("many/{n}"), n.to_string())).collect();
    let many: Vec<(&str, &str)> = many.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let last = setting.commit("many", &many);
    setting.mirror.fetch_all().await.expect("a fetch");
    assert_eq!(setting.mirror.changed(&commits[0], &last).await.expect("an answer"), None);
}

/// A project that was just added is asked for its main branch while it is looked at for the first time.
#[tokio::test(flavor = "multi_thread")]
async fn a_mirror_is_made_once_however_many_ask() {
    let setting = Setting::new();
    let mirrors = Mirrors::new(setting.folder.path().join("many"));
    let mut asking = tokio::task::JoinSet::new();
    for number in 0..48 {
        let mirror = mirrors.get(&format!("almanac-{}", number / 4), &origin(&setting.folder), Access::default());
        asking.spawn(async move { if number % 2 == 0 { mirror.look().await.map(drop) } else { mirror.head_branch().await.map(drop) } });
    }
    while let Some(asked) = asking.join_next().await {
        asked.expect("no panic").expect("an answer");
    }
    let left = std::fs::read_dir(setting.folder.path().join("many")).expect("the mirrors");
    assert_eq!(left.count(), 12, "and nothing beside them");
}
