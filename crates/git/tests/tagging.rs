//! Tags that are made here: on exactly one commit, once, signed where there is a key.

use ordotaxis_git::{Access, Key, Mirrors, Tagged};
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

fn git(folder: &Path, args: &[&str]) -> String {
    let mut command = Command::new("git");
    command.args(["-c", "user.name=Odd", "-c", "user.email=odd@saltmarsh.example"]).args(args).current_dir(folder);
    let output = command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").output().expect("git starts");
    assert!(output.status.success(), "git {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// A repository on a server, with two commits on main.
fn repository() -> (TempDir, [String; 2]) {
    let folder = tempfile::tempdir().expect("a folder");
    git(folder.path(), &["init", "--quiet", "--bare", "--initial-branch=main", "there.git"]);
    git(folder.path(), &["clone", "--quiet", "there.git", "here"]);
    let here = folder.path().join("here");
    let commits = ["one", "two"].map(|title| {
        git(&here, &["commit", "--quiet", "--allow-empty", "-m", title]);
        git(&here, &["rev-parse", "HEAD"])
    });
    git(&here, &["push", "--quiet", "origin", "HEAD:main"]);
    (folder, commits)
}

fn mirrors(folder: &Path) -> Mirrors {
    Mirrors::new(folder.join("mirrors"))
}

#[tokio::test]
async fn a_tag_is_made_once_on_exactly_its_commit() {
    let (folder, [first, second]) = repository();
    let there = folder.path().join("there.git");
    let mirror = mirrors(folder.path()).get("stations", &there.display().to_string(), Access::default());
    assert!(mirror.need(&second, Some("main")).await.expect("fetched"));
    for _ in 0..2 {
        let made = mirror.make_tag("v1.0", &first, "The first\n\nMade by stations/1", 1_700_000_000).await;
        assert_eq!(made.expect("an answer"), Tagged::Done, "told again it is done already");
    }
    assert_eq!(git(&there, &["rev-parse", "v1.0^{commit}"]), first);
    assert_eq!(git(&there, &["cat-file", "-t", "v1.0"]), "tag", "annotated");
    assert!(git(&there, &["cat-file", "tag", "v1.0"]).contains("Made by stations/1"));
    let other = mirror.make_tag("v1.0", &second, "Another", 1_700_000_000).await.expect("an answer");
    assert_eq!(other, Tagged::Names(first.clone()));
    assert_eq!(git(&there, &["rev-parse", "v1.0^{commit}"]), first, "nothing was moved");
    assert_eq!(mirror.tag_commit("v1.0").await.expect("an answer"), Some(first.clone()));
    assert_eq!(mirror.tag_commit("v2.0").await.expect("an answer"), None);
    // One of somebody's that is no object of its own counts as well.
    git(&folder.path().join("here"), &["push", "--quiet", "origin", &format!("{second}:refs/tags/light")]);
    assert_eq!(mirror.make_tag("light", &second, "x", 1_700_000_000).await.expect("an answer"), Tagged::Done);
    for bad in ["-x", "a b", "a..b", "", "a:b"] {
        assert!(mirror.make_tag(bad, &second, "x", 1_700_000_000).await.is_err(), "{bad:?}");
    }
}

#[tokio::test]
async fn a_server_that_says_no_is_heard_and_one_that_is_away_leaves_it_open() {
    let (folder, [first, _]) = repository();
    let there = folder.path().join("there.git");
    let mirror = mirrors(folder.path()).get("stations", &there.display().to_string(), Access::default());
    assert!(mirror.need(&first, Some("main")).await.expect("fetched"));
    let hook = there.join("hooks/pre-receive");
    std::fs::create_dir_all(there.join("hooks")).expect("a folder");
    std::fs::write(&hook, "#!/bin/sh\necho tags are for owners >&2\nexit 1\n").expect("a hook");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(&hook, mode).expect("executable");
    assert!(matches!(mirror.make_tag("v1.0", &first, "x", 1_700_000_000).await.expect("an answer"), Tagged::Refused(_)));
    std::fs::rename(&there, folder.path().join("away.git")).expect("moved");
    assert!(mirror.make_tag("v1.0", &first, "x", 1_700_000_000).await.is_err(), "nobody knows");
}

#[tokio::test]
async fn a_project_with_a_key_of_its_own_signs_its_tags() {
    let (folder, [first, _]) = repository();
    let there = folder.path().join("there.git");
    let (private, public) = Key::make("stations").await.expect("a key");
    let key = Key { private, known_hosts: folder.path().join("known") };
    let access = Access { key: Some(key), ..Access::default() };
    let mirror = mirrors(folder.path()).get("stations", &there.display().to_string(), access);
    assert!(mirror.need(&first, Some("main")).await.expect("fetched"));
    assert_eq!(mirror.make_tag("v1.0", &first, "The first", 1_700_000_000).await.expect("an answer"), Tagged::Done);
    let signers = folder.path().join("signers");
    std::fs::write(&signers, format!("ordotaxis@localhost {public}\n")).expect("a file");
    let setting = format!("gpg.ssh.allowedSignersFile={}", signers.display());
    git(&there, &["-c", "gpg.format=ssh", "-c", &setting, "verify-tag", "v1.0"]);
}
