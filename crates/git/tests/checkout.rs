//! From a mirror through a pack to a checkout: git itself says whether it is as a clone would be.

use ordotaxis_git::{Access, Layout, Mirror, Mirrors, PackAsk, Store, Tag};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use tempfile::TempDir;

const LIMIT: u64 = 1 << 30;

struct Setting {
    mirror: Arc<Mirror>,
    store: Store,
    folder: TempDir,
}

fn git(folder: &Path, arguments: &[&str]) -> String {
    let who = ["-c", "user.name=Maren", "-c", "user.email=maren@saltmarsh.example", "-c", "protocol.file.allow=always"];
    let mut command = Command::new("git");
    command.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null");
    let output = command.args(who).args(arguments).current_dir(folder).output().expect("git starts");
    assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

impl Setting {
    fn new() -> Setting {
        let folder = tempfile::tempdir().expect("a folder");
        git(folder.path(), &["init", "--quiet", "--initial-branch=main", "work"]);
        let url = folder.path().join("work").display().to_string();
        let mirror = Mirrors::new(folder.path().join("mirrors")).get("almanac", &url, Access::default());
        Setting { mirror, store: Store::new(folder.path().join("store.git")), folder }
    }

    fn work(&self) -> PathBuf {
        self.folder.path().join("work")
    }

    fn commit(&self, title: &str, files: &[(&str, &str)]) -> String {
        for (path, text) in files {
            let path = self.work().join(path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
            std::fs::write(path, text).expect("a file");
        }
        git(&self.work(), &["add", "--all"]);
        git(&self.work(), &["commit", "--quiet", "--allow-empty", "-m", title]);
        git(&self.work(), &["rev-parse", "HEAD"])
    }

    /// Sends what is asked for to the store; gives the bytes that were sent.
    async fn send(&self, commit: &str, depth: Option<u32>) -> usize {
        self.mirror.fetch_all().await.expect("a fetch");
        assert!(self.mirror.need(commit, None).await.expect("an answer"));
        let (haves, shallows) = self.store.known();
        let ask = PackAsk { commit: commit.to_owned(), depth, haves, shallows };
        let mut stream = self.mirror.pack(&ask).await.expect("a pack");
        let mut bytes = Vec::new();
        tokio::io::AsyncReadExt::read_to_end(&mut stream, &mut bytes).await.expect("all of it");
        self.store.take(commit, &[], &mut &bytes[..], LIMIT).await.expect("taken in");
        bytes.len()
    }

    async fn checkout(&self, name: &str, layout: Layout<'_>) -> PathBuf {
        let into = self.folder.path().join(name);
        std::fs::create_dir(&into).expect("a folder");
        self.store.check_out(&layout, &into).await.expect("a checkout");
        assert_eq!(git(&into, &["rev-parse", "HEAD"]), layout.commit);
        assert_eq!(git(&into, &["status", "--porcelain"]), "", "{name} is clean");
        assert_eq!(git(&into, &["diff-index", "--name-only", "HEAD"]), "");
        git(&into, &["fsck", "--connectivity-only"]);
        into
    }

    async fn tags(&self, commit: &str) -> Vec<Tag> {
        self.mirror.tags_of(commit).await.expect("tags")
    }
}

#[tokio::test]
async fn a_checkout_is_a_repository_of_its_own() {
    let setting = Setting::new();
    setting.commit("one", &[("src/gauge.c", "int a;\n"), ("Makefile", "all:\n"), ("docs/tide.md", "ebb\n")]);
    git(&setting.work(), &["tag", "-a", "v1.0", "-m", "The first"]);
    let tagged = setting.commit("two", &[("src/gauge.c", "int b;\n")]);
    git(&setting.work(), &["tag", "-a", "v1.1", "-m", "The second"]);
    git(&setting.work(), &["tag", "light"]);
    setting.send(&tagged, Some(1)).await;
    assert!(setting.store.has(&tagged));
    let tags = setting.tags(&tagged).await;
    let address = "https://forge.saltmarsh.example/almanac.git";
    let into = setting.checkout("one", Layout { commit: &tagged, address, tags: &tags, ..Layout::default() }).await;
    assert_eq!(git(&into, &["describe"]), "v1.1");
    assert_eq!(git(&into, &["describe", "--tags", "--dirty", "--exact-match", "--match", "light"]), "light");
    assert_eq!(git(&into, &["log", "--format=%s"]), "two");
    assert_eq!(git(&into, &["remote", "get-url", "origin"]), address);
    assert_eq!(git(&into, &["rev-parse", "--is-shallow-repository"]), "true");
    assert_eq!(std::fs::read_to_string(into.join("src/gauge.c")).expect("a file"), "int b;\n");
    // What a job does there changes nothing for others.
    std::fs::write(into.join("src/gauge.c"), "int c;\n").expect("a file");
    git(&into, &["commit", "--quiet", "-am", "three"]);
    assert_eq!(git(&into, &["describe"]).split('-').next(), Some("v1.1"));
    // The next commit is sent without what is there.
    let big: String = (0..20_000).map(|n: u64| format!("{:x}\n", n.wrapping_mul(0x9e37_79b9_7f4a_7c15))).collect();
    let large = setting.commit("large", &[("data/readings", &big)]);
    let sent = setting.send(&large, Some(1)).await;
    let small = setting.commit("small", &[("data/readings", &format!("{big}one more\n")), ("x", "y")]);
    let more = setting.send(&small, Some(1)).await;
    assert!(sent > 50_000 && more < 3_000, "{sent} {more}");
    let into = setting.checkout("two", Layout { commit: &small, address, ..Layout::default() }).await;
    assert_eq!(std::fs::read_to_string(into.join("data/readings")).expect("a file"), format!("{big}one more\n"));
    assert_eq!(git(&into, &["log", "--format=%s"]), "small");
}

#[tokio::test]
async fn as_much_history_as_is_asked_for() {
    let setting = Setting::new();
    let mut commits = vec![setting.commit("0", &[("a", "0")])];
    git(&setting.work(), &["tag", "-a", "v0", "-m", "x"]);
    for n in 1..6 {
        commits.push(setting.commit(&n.to_string(), &[("a", &n.to_string())]));
    }
    git(&setting.work(), &["tag", "-a", "v5", "-m", "x"]);
    git(&setting.work(), &["checkout", "--quiet", "-b", "topic", &commits[2]]);
    setting.commit("side", &[("b", "1")]);
    git(&setting.work(), &["merge", "--quiet", "--no-edit", "main"]);
    let merged = git(&setting.work(), &["rev-parse", "HEAD"]);
    for (number, (commit, depth, count)) in
        [(&commits[3], Some(3), 3), (&commits[5], Some(3), 3), (&merged, Some(2), 3), (&commits[5], Some(100), 6)].into_iter().enumerate()
    {
        let each = Setting { store: Store::new(setting.folder.path().join(format!("{number}.git"))), ..Setting::new() };
        let each = Setting { mirror: setting.mirror.clone(), ..each };
        each.send(commit, depth).await;
        let into = each.checkout("files", Layout { commit, address: "/x", ..Layout::default() }).await;
        assert_eq!(git(&into, &["rev-list", "--count", "HEAD"]), count.to_string(), "{number}");
    }
    // One store, commit after commit.
    for (number, commit) in commits.iter().enumerate() {
        setting.send(commit, Some(2)).await;
        let into = setting.checkout(&format!("at-{number}"), Layout { commit, address: "/x", ..Layout::default() }).await;
        assert_eq!(git(&into, &["rev-list", "--count", "HEAD"]), (number + 1).min(2).to_string(), "{number}");
    }
    let whole = Setting { store: Store::new(setting.folder.path().join("all.git")), mirror: setting.mirror.clone(), ..Setting::new() };
    for commit in [&commits[2], &merged] {
        whole.send(commit, None).await;
    }
    let tags = [whole.tags(&commits[0]).await, whole.tags(&commits[5]).await].concat();
    let into = whole.checkout("whole", Layout { commit: &merged, address: "/x", tags: &tags, ..Layout::default() }).await;
    assert_eq!(git(&into, &["rev-list", "--count", "HEAD"]), "8");
    assert_eq!(git(&into, &["rev-parse", "--is-shallow-repository"]), "false");
    assert_eq!(git(&into, &["describe"]), git(&setting.work(), &["describe"]));
}

#[tokio::test]
async fn only_some_files() {
    let setting = Setting::new();
    let commit = setting.commit("one", &[("src/deep/a.c", "a"), ("docs/b.md", "b"), ("c.toml", "c"), ("sub/c.toml", "c")]);
    setting.send(&commit, Some(1)).await;
    let paths = ["src/**".to_owned(), "*.toml".to_owned()];
    let into = setting.checkout("some", Layout { commit: &commit, address: "/x", paths: &paths, ..Layout::default() }).await;
    let there = |path: &str| into.join(path).exists();
    assert!(there("src/deep/a.c") && there("c.toml") && !there("docs") && !there("sub"));
}

/// What git-lfs would keep outside, committed as it is: a first line with a zero, and no end of the last.
const PLAIN: &str = "eb\0b\r\nand flow";

/// A pointer of git-lfs becomes its file, and git in the checkout knows it for unchanged.
#[tokio::test]
async fn large_files_in_place_of_their_pointers() {
    let setting = Setting::new();
    let text = "ebb and flow\n".repeat(1000);
    let large = setting.folder.path().join("large");
    std::fs::create_dir(&large).expect("a folder");
    std::fs::write(large.join("content"), &text).expect("a file");
    let sum = Command::new("sha256sum").arg(large.join("content")).output().expect("sha256sum starts");
    let oid = String::from_utf8_lossy(&sum.stdout).get(..64).expect("a digest").to_owned();
    std::fs::rename(large.join("content"), large.join(&oid)).expect("renamed");
    let pointer = format!("version https://git-lfs.github.com/spec/v1\noid sha256:{oid}\nsize {}\n", text.len());
    let commit =
        setting.commit("large", &[(".gitattributes", "*.bin filter=lfs diff=lfs merge=lfs -text\n"), ("tide.bin", &pointer), ("a", "b")]);
    setting.send(&commit, Some(1)).await;
    let found = setting.mirror.pointers(&commit).await.expect("pointers");
    assert_eq!((found.len(), found[0].oid.as_str(), found[0].bytes), (1, oid.as_str(), text.len() as u64));
    let into = setting.checkout("large-files", Layout { commit: &commit, address: "/x", large: Some(&large), ..Layout::default() }).await;
    assert_eq!(std::fs::read_to_string(into.join("tide.bin")).expect("a file"), text);
    std::fs::write(into.join("tide.bin"), "changed").expect("a file");
    assert_eq!(git(&into, &["status", "--porcelain"]), "M tide.bin");
    std::fs::write(into.join("tide.bin"), &text).expect("a file");
    assert_eq!(git(&into, &["status", "--porcelain"]), "");
    let into = setting.checkout("pointers", Layout { commit: &commit, address: "/x", ..Layout::default() }).await;
    assert_eq!(std::fs::read_to_string(into.join("tide.bin")).expect("a file"), pointer);
    // Committed by someone without git-lfs: it is no pointer, and stays as it is.
    let commit = setting.commit("plain", &[("plain.bin", PLAIN)]);
    setting.send(&commit, Some(1)).await;
    let into = setting.folder.path().join("plain");
    std::fs::create_dir(&into).expect("a folder");
    let layout = Layout { commit: &commit, address: "/x", large: Some(&large), ..Layout::default() };
    setting.store.check_out(&layout, &into).await.expect("a checkout");
    assert_eq!(std::fs::read_to_string(into.join("plain.bin")).expect("a file"), PLAIN);
    assert_eq!(std::fs::read_to_string(into.join("tide.bin")).expect("a file"), text);
    // Without the content there is no checkout that only looks like one.
    std::fs::remove_file(large.join(&oid)).expect("removed");
    let into = setting.folder.path().join("none");
    std::fs::create_dir(&into).expect("a folder");
    let layout = Layout { commit: &commit, address: "/x", large: Some(&large), ..Layout::default() };
    assert!(setting.store.check_out(&layout, &into).await.is_err());
}

/// After a crash of the machine a pack may be anything: it is not checked out, and all can be had again.
#[tokio::test]
async fn what_was_damaged_is_thrown_away() {
    let setting = Setting::new();
    let commit = setting.commit("one", &[("a", "1")]);
    setting.send(&commit, Some(1)).await;
    let packs = std::fs::read_dir(setting.folder.path().join("store.git/objects/pack")).expect("packs");
    for path in packs.flatten().map(|entry| entry.path()) {
        std::fs::remove_file(&path).expect("removed");
        std::fs::write(&path, "").expect("emptied");
    }
    let into = setting.folder.path().join("broken");
    std::fs::create_dir(&into).expect("a folder");
    let layout = Layout { commit: &commit, address: "/x", ..Layout::default() };
    assert!(setting.store.has(&commit) && setting.store.check_out(&layout, &into).await.is_err());
    setting.store.clear().await.expect("cleared");
    assert!(!setting.store.has(&commit));
    setting.send(&commit, Some(1)).await;
    setting.checkout("again", layout).await;
}

/// Many pushes, many packs: they are put together, and checkouts of before keep theirs.
#[tokio::test]
async fn packs_are_put_together() {
    let setting = Setting::new();
    let first = setting.commit("first", &[("n", "0")]);
    setting.send(&first, Some(1)).await;
    let into = setting.checkout("first", Layout { commit: &first, address: "/x", ..Layout::default() }).await;
    let mut last = first;
    for n in 1..40 {
        last = setting.commit("more", &[("n", &n.to_string())]);
        setting.send(&last, Some(1)).await;
    }
    let packs = std::fs::read_dir(setting.folder.path().join("store.git/objects/pack")).expect("packs");
    assert!(packs.flatten().filter(|entry| entry.path().extension().is_some_and(|end| end == "pack")).count() <= 33);
    git(&into, &["fsck", "--connectivity-only"]);
    let into = setting.checkout("last", Layout { commit: &last, address: "/x", ..Layout::default() }).await;
    assert_eq!(std::fs::read_to_string(into.join("n")).expect("a file"), "39");
}

#[tokio::test]
async fn what_is_no_answer_is_not_taken_in() {
    let setting = Setting::new();
    let commit = setting.commit("one", &[("a", "1")]);
    setting.mirror.fetch_all().await.expect("a fetch");
    let ask = PackAsk { commit: commit.clone(), depth: Some(1), ..PackAsk::default() };
    let mut bytes = Vec::new();
    tokio::io::AsyncReadExt::read_to_end(&mut setting.mirror.pack(&ask).await.expect("a pack"), &mut bytes).await.expect("all of it");
    let cut = bytes.len();
    for broken in
        [&bytes[..0], &bytes[..4], &bytes[..cut - 1], &bytes[..cut / 2], b"0009ERR x", b"0000", b"zzzz", b"000dpackfile\n0005\x03"]
    {
        assert!(setting.store.take(&commit, &[], &mut &broken[..], LIMIT).await.is_err());
        assert!(!setting.store.has(&commit));
    }
    assert!(setting.store.take(&commit, &[], &mut &bytes[..], 10).await.is_err(), "more than the limit");
    assert!(setting.store.take("../../etc", &[], &mut &bytes[..], LIMIT).await.is_err());
    setting.store.take(&commit, &[], &mut &bytes[..], LIMIT).await.expect("taken in");
    // Nothing is made of commits that the mirror never had.
    let unknown = vec!["0".repeat(40), "--upload-pack=evil".to_owned(), "x\n0000".to_owned()];
    let ask = PackAsk { commit, depth: Some(1), haves: unknown.clone(), shallows: unknown };
    let mut bytes = Vec::new();
    tokio::io::AsyncReadExt::read_to_end(&mut setting.mirror.pack(&ask).await.expect("a pack"), &mut bytes).await.expect("all of it");
    assert!(bytes.starts_with(b"0011shallow-info\n") || bytes.starts_with(b"000dpackfile\n"), "{}", String::from_utf8_lossy(&bytes));
}

#[tokio::test]
async fn submodules_and_their_commits() {
    let keel = Setting::new();
    let inner = keel.commit("keel", &[("keel.c", "k")]);
    let setting = Setting::new();
    git(&setting.work(), &["submodule", "--quiet", "add", "--name", "the keel", &keel.work().display().to_string(), "deps/keel"]);
    let commit = setting.commit("with a keel", &[]);
    setting.mirror.fetch_all().await.expect("a fetch");
    let found = setting.mirror.submodules(&commit).await.expect("submodules");
    assert_eq!(found.len(), 1);
    assert_eq!((found[0].name.as_str(), found[0].path.as_str(), found[0].commit.as_str()), ("the keel", "deps/keel", inner.as_str()));
    let first = setting
        .commit("x", &[(".gitmodules", "[submodule \"a\"]\n\tpath = ../../x\n\turl = y\n[submodule \"b\"]\n\tpath = n\n\turl = y\n")]);
    setting.mirror.fetch_all().await.expect("a fetch");
    assert_eq!(setting.mirror.submodules(&first).await.expect("submodules"), []);
    let broken = setting.commit("x", &[(".gitmodules", "[[[\n")]);
    setting.mirror.fetch_all().await.expect("a fetch");
    assert!(setting.mirror.submodules(&broken).await.is_err());
    // The place of one that is asked for is a folder in the checkout, with nothing in it yet.
    setting.send(&commit, Some(1)).await;
    let submodules = [("the keel".to_owned(), "deps/keel".to_owned(), keel.work().display().to_string())];
    let into = setting.checkout("sub", Layout { commit: &commit, address: "/x", submodules: &submodules, ..Layout::default() }).await;
    assert_eq!(std::fs::read_dir(into.join("deps/keel")).expect("a folder").count(), 0);
}
