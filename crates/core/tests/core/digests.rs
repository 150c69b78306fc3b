//! What a job's result depends on: changing anything that could matter changes the key, changing what cannot does not.

use ordotaxis_core::digest::{Before, differences, fitting, key, parts, why_not};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, plan};
use proptest::prelude::*;
use std::collections::BTreeMap;

const JOB: &str = "language = 1\n[job.build.gauge]\nsteps = [\"make gauge\"]\ngives = { fw = [\"out/*\"] }\n\
    [job.pack.bundle]\nsteps = [\"./bundle.sh\"]\ntakes = [\"build.gauge/fw\"]\nenv = { UNITS = \"mm\" }\ntools = { make = \">=4\" }\n\
    image = \"builder:1\"\ngives = { bundle = [\"out/b\"] }\nreuse = { inputs = [\"tools/**\", \"!tools/README\"] }\n";

fn planned(text: &str) -> Plan {
    let borrowed = BorrowedFiles::new();
    let occasion = Occasion { commit: Some("c1".into()), ..Occasion::push("main") };
    plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

fn before<'a>() -> Before<'a> {
    Before {
        files: BTreeMap::from([("tools/a.sh".to_owned(), "100644 aa".to_owned()), ("tools/b.sh".to_owned(), "100755 bb".to_owned())]),
        takes: vec![("build.gauge/fw".to_owned(), Some("f00".to_owned()))],
        inputs: BTreeMap::from([("station", "north-pier")]),
        facts: vec![("build.gauge.size".to_owned(), Some("4096".to_owned()))],
    }
}

fn of(text: &str, before: &Before<'_>) -> String {
    let plan = planned(text);
    let job = plan.jobs.iter().find(|job| job.id.as_str().starts_with("pack.bundle")).expect("the job");
    key(&parts(&plan, job, before))
}

#[test]
fn what_could_matter_changes_the_key() {
    let same = of(JOB, &before());
    for (from, to) in [
        ("./bundle.sh", "./bundle.sh --fast"),
        ("UNITS = \"mm\"", "UNITS = \"cm\""),
        ("UNITS = \"mm\"", "UNITS = \"mm\", MORE = \"\""),
        ("make = \">=4\"", "make = \">=5\""),
        ("builder:1", "builder:2"),
        ("out/b", "out/c"),
        ("bundle = [\"out/b\"]", "other = [\"out/b\"]"),
        ("env = { UNITS", "network = false\nenv = { UNITS"),
        ("env = { UNITS", "where = [\"arm\"]\nenv = { UNITS"),
        ("env = { UNITS", "facts = [\"size\"]\nenv = { UNITS"),
        ("env = { UNITS", "secrets = [\"STATION_KEY\"]\nenv = { UNITS"),
        ("env = { UNITS", "prepare = [\"./first.sh\"]\nenv = { UNITS"),
        ("env = { UNITS", "checkout = { dir = \"src\" }\nenv = { UNITS"),
        ("env = { UNITS", "reports = { junit = [\"x\"] }\nenv = { UNITS"),
        ("env = { UNITS", "afterwards = { always = [\"true\"] }\nenv = { UNITS"),
        ("env = { UNITS", "beside = [{ name = \"g\", run = \"./g\" }]\nenv = { UNITS"),
        ("env = { UNITS", "each = { opt = [\"O0\"] }\nenv = { UNITS"),
        ("takes = [\"build.gauge/fw\"]", "takes = [{ from = \"build.gauge/fw\", to = \"in\" }]"),
        ("\"!tools/README\"", "\"NOTICE\""),
    ] {
        assert_ne!(of(&JOB.replacen(from, to, 1), &before()), same, "{from} -> {to}");
    }
    let with = |change: &dyn Fn(&mut Before<'_>)| {
        let mut other = before();
        change(&mut other);
        of(JOB, &other)
    };
    let changes: [&dyn Fn(&mut Before<'_>); 7] = [
        &|b| drop(b.files.insert("tools/a.sh".into(), "100644 ab".into())),
        &|b| drop(b.files.insert("tools/a.sh".into(), "100755 aa".into())),
        &|b| drop(b.files.remove("tools/a.sh")),
        &|b| drop(b.files.insert("tools/c.sh".into(), "100644 cc".into())),
        &|b| b.takes[0].1 = Some("f01".into()),
        &|b| b.inputs = BTreeMap::from([("station", "lock-gate")]),
        &|b| b.facts[0].1 = Some("4097".into()),
    ];
    for (number, change) in changes.iter().enumerate() {
        assert_ne!(with(change), same, "change {number}");
    }
}

#[test]
fn what_cannot_matter_does_not() {
    let same = of(JOB, &before());
    for (from, to) in [
        ("env = { UNITS", "timeout = \"20m\"\nenv = { UNITS"),
        ("env = { UNITS", "retry = { times = 2 }\nenv = { UNITS"),
        ("env = { UNITS", "may_fail = true\nenv = { UNITS"),
        ("env = { UNITS", "turn = \"one\"\nenv = { UNITS"),
        ("env = { UNITS", "cache = [{ paths = [\"x\"], key = \"k\" }]\nenv = { UNITS"),
        ("bundle = [\"out/b\"]", "bundle = { paths = [\"out/b\"], keep = \"9d\" }"),
        ("language = 1", "language = 1\ntitle = \"Tide gauge\""),
        ("steps = [\"make gauge\"]", "steps = [\"make gauge2\"]"),
        ("[job.build.gauge]", "[job.test.other]\nsteps = [\"true\"]\n[job.build.gauge]"),
    ] {
        assert_eq!(of(&JOB.replacen(from, to, 1), &before()), same, "{from} -> {to}");
    }
}

#[test]
fn what_differs_is_said() {
    let plan = planned(JOB);
    let job = plan.jobs.iter().find(|job| job.id.as_str() == "pack.bundle").expect("the job");
    let (old, mut later) = (parts(&plan, job, &before()), before());
    later.files.insert("tools/a.sh".into(), "100644 ab".into());
    assert_eq!(why_not(&differences(&old, &parts(&plan, job, &later)), "tidegauge/11"), "input tools/a.sh is another since tidegauge/11");
    later.files.remove("tools/b.sh");
    later.takes[0].1 = None;
    let said = why_not(&differences(&old, &parts(&plan, job, &later)), "tidegauge/11");
    assert_eq!(said, "input tools/a.sh is another since tidegauge/11, and 2 more");
    assert!(differences(&old, &old).is_empty());
}

proptest! {
    /// Against the plain rule: a key is the same exactly when every part is.
    #[test]
    fn keys_are_the_same_exactly_when_the_parts_are(
        one in prop::collection::btree_map("[a-c]{0,2}", "[a-c]{0,2}", 0..4),
        two in prop::collection::btree_map("[a-c]{0,2}", "[a-c]{0,2}", 0..4),
    ) {
        prop_assert_eq!(key(&one) == key(&two), one == two);
        prop_assert_eq!(differences(&one, &two).is_empty(), one == two);
    }

    #[test]
    fn globs_choose_files_and_folders(paths in prop::collection::btree_set("(tools|src)/[a-c]{1,2}(/x)?", 0..12)) {
        let files: Vec<(String, String)> = paths.iter().map(|path| (path.clone(), "d".to_owned())).collect();
        let chosen = fitting(&["tools/**", "src/a", "!tools/b"], &files);
        for path in &paths {
            let wanted = (path.starts_with("tools/") && path != "tools/b") || path == "src/a" || path.starts_with("src/a/");
            prop_assert_eq!(chosen.contains_key(path), wanted, "{}", path);
        }
    }
}
