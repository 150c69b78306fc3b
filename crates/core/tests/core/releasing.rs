//! The release that a job makes: its version, its tag, its notes, from what the run is of.

use ordotaxis_core::language::{Code, Diagnostic};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, check, plan};
use ordotaxis_core::release::{NotesFrom, Wanted, wanted};
use proptest::prelude::*;

fn text(releases: &str) -> String {
    format!(
        "language = 1\n[job.pack.bundle]\nsteps = ['true']\ngives = {{ bundle = ['out'] }}\nfacts = ['next']\n\
         [job.ship.release]\nsteps = ['true']\ntakes = ['pack.bundle/bundle']\nreleases = {{ {releases} }}\n"
    )
}

fn of(releases: &str, occasion: &Occasion) -> Option<Result<Wanted, String>> {
    let text = text(releases);
    let planned = plan(Source { text: &text, name: "main", borrowed: &BorrowedFiles::new() }, occasion).expect("a plan");
    wanted(&planned.plan, 1, |job, name| (job == "pack.bundle" && name == "next").then(|| "7.1".to_owned()))
}

fn made(releases: &str, occasion: &Occasion) -> Wanted {
    of(releases, occasion).expect("it releases").expect("a release")
}

#[test]
fn a_tag_or_a_version_branch_says_the_version() {
    let tagged = made(
        "version = '{tag|after:v}', notes = 'CHANGES.md#{version}', title = 'Stations {version}', assets = ['pack.bundle/bundle']",
        &Occasion::tag("v1.4.2"),
    );
    assert_eq!((tagged.version.as_str(), tagged.tag.as_str(), tagged.makes_tag), ("1.4.2", "v1.4.2", false));
    assert_eq!((tagged.title.as_str(), tagged.draft), ("Stations 1.4.2", false));
    assert_eq!(tagged.notes, NotesFrom::Section("CHANGES.md".into(), "1.4.2".into()));
    assert_eq!(tagged.assets, [("pack.bundle".to_owned(), "bundle".to_owned())]);
    let branch = made("version = '{branch|after:release/}', notes = 'collected', draft = true", &Occasion::push("release/2.0"));
    assert_eq!((branch.version.as_str(), branch.tag.as_str(), branch.makes_tag, branch.draft), ("2.0", "v2.0", true, true));
    assert_eq!((branch.notes, branch.title.as_str()), (NotesFrom::Collected, "2.0"));
    let fact =
        made("version = '{fact.pack.bundle.next}', tag = 'stations-{version}', notes = 'NEWS-{version}.md'", &Occasion::push("main"));
    assert_eq!((fact.version.as_str(), fact.tag.as_str()), ("7.1", "stations-7.1"));
    assert_eq!(fact.notes, NotesFrom::File("NEWS-7.1.md".into()));
    assert_eq!(made("version = '1.0', title = \"A\\u0007\\nB\"", &Occasion::push("main")).title, "AB", "it is one line of a tag's message");
    assert_eq!(made("version = 'spring'", &Occasion::push("main")).tag, "spring", "no number, no `v`");
    // The tag that the run is of stays the tag, whatever `tag` says.
    assert_eq!(made("version = '1.0', tag = 'x'", &Occasion::tag("y")).tag, "y");
}

#[test]
fn what_makes_no_version_says_so() {
    let no = |releases: &str, occasion: &Occasion| of(releases, occasion).expect("it releases").expect_err("no release");
    assert!(no("version = '{branch|after:release/}'", &Occasion::push("main")).contains("branch main makes the version ``"));
    assert!(no("version = '{tag}'", &Occasion::tag("a/b")).contains("tag a/b makes the version `a/b`"));
    assert!(no("version = '{tag|after:v}'", &Occasion::push("main")).contains("branch main"));
    assert!(no("version = '1.0', tag = 'a b'", &Occasion::push("main")).contains("cannot be the name of a tag"));
    assert_eq!(
        of("version = '1.0'", &Occasion::proposal("main")).expect("it releases"),
        Err("what has not landed yet is not released".into())
    );
}

fn told(text: &str) -> Vec<Diagnostic> {
    check(text)
}

#[test]
fn mistakes_of_the_key_are_found_without_a_run() {
    for (releases, code, words) in [
        ("notes = 'x.md'", Code::MissingKey, "version"),
        ("version = '{tagg}'", Code::Placeholder, "there is no placeholder"),
        ("version = '{tag|before:v}'", Code::Placeholder, "there is no placeholder"),
        ("version = '1', assets = ['pack.bundle/bundel']", Code::BadValue, "which it neither takes nor gives"),
        ("version = '1', assets = ['bundle']", Code::BadValue, "which it neither takes nor gives"),
        ("version = '1', notes = '/etc/passwd'", Code::BadValue, "leads outside"),
        ("version = '1', notes = '../x.md#1'", Code::BadValue, "leads outside"),
    ] {
        let found = told(&text(releases));
        assert!(found.iter().any(|one| one.code == code && one.message.contains(words)), "{releases}: {found:?}");
    }
    let cells = text("version = '1'").replace("[job.ship.release]\n", "[job.ship.release]\neach = { place = ['north', 'south'] }\n");
    assert!(told(&cells).iter().any(|one| one.message.contains("would make its release once for each cell")), "{:?}", told(&cells));
    assert!(told(&text("version = '{tag|after:v}', assets = ['pack.bundle/bundle'], notes = 'CHANGES.md#{version}'")).is_empty());
}

#[test]
fn a_proposal_skips_what_releases() {
    let text = text("version = '1.0'");
    let source = Source { text: &text, name: "main", borrowed: &BorrowedFiles::new() };
    let planned = plan(source, &Occasion::proposal("main")).expect("a plan").plan;
    assert_eq!(planned.jobs[1].skipped.as_deref(), Some("skipped: what has not landed yet is not released"));
    assert!(planned.jobs[0].skipped.is_none());
}

proptest! {
    /// Whatever a branch is called, what comes of it is a version and a tag that git takes, or a reason.
    #[test]
    fn no_name_of_a_branch_makes_a_bad_tag(branch in "[ -~]{1,30}", tag in "[ -~]{0,20}") {
        let tag = tag.replace(['\'', '{', '}'], "");
        match of(&format!("version = '{{branch|after:r/}}', tag = '{tag}{{version}}'"), &Occasion::push(format!("r/{branch}"))) {
            Some(Ok(made)) => {
                prop_assert!(!made.tag.starts_with('-') && !made.tag.contains("..") && !made.tag.contains([' ', '~', '^', ':', '?', '*', '[', '\\']));
                prop_assert!(branch.contains(&made.version));
            }
            Some(Err(why)) => prop_assert!(!why.is_empty()),
            None => prop_assert!(false, "it releases"),
        }
    }
}
