//! Changes to a pipeline file: whatever is done in whatever order, the file says what a plain model of it says, comments stay
//! where they were, and what was not meant is not touched.

use ordotaxis_core::edit::{Edit, EditError, Place, Side, apply, outline};
use ordotaxis_core::language::{Code, has_errors};
use ordotaxis_core::plan;
use proptest::prelude::*;
use proptest::sample::Index;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};

const FILE: &str = r#"# The tide gauge
language = 1
order = "build > (test, lint) > ship"   # in this order

[starts]
push = ["main"] # only there

# Builds it.
[job.build.gauge]
steps = [
  "make",        # all of it
  "make size",
]
gives = { firmware = ["out/*"] }
facts = ["size"]
[[job.build.gauge.cache]]   # kept
paths = ["obj"]
key   = "obj"

[job.test.unit]   # quick
takes = ["build.gauge/firmware"]
steps = ["./unit"]
if    = 'fact.build.gauge.size != "0"'

[job.lint.style]
steps = ["./style"]
after = ["build.gauge"]

[stage.ship]
if = 'ref.branch == "main"'

[job.ship.it]
takes = [{ from = "build.gauge/firmware", to = "in" }]
after = ["test", "lint.style"]
steps = ["echo build.gauge fact.build.gauge.size"]
env   = { SIZE = "{fact.build.gauge.size}" }
"#;

fn add(job: &str) -> Edit {
    Edit::AddJob { job: job.into(), steps: vec!["true".into()], takes: Vec::new(), after: Vec::new(), gives: indexmap(), place: None }
}

fn indexmap<K: std::hash::Hash + Eq, V>() -> indexmap::IndexMap<K, V> {
    indexmap::IndexMap::new()
}

fn rename(job: &str, to: &str) -> Edit {
    Edit::RenameJob { job: job.into(), to: to.into() }
}

fn set(job: &str, key: &str, value: serde_json::Value) -> Edit {
    Edit::SetKey { job: job.into(), key: key.into(), value: Some(value) }
}

fn after(text: &str, edits: &[Edit]) -> String {
    edits.iter().fold(text.to_owned(), |text, edit| apply(&text, edit).unwrap_or_else(|error| panic!("{edit:?}: {error}")))
}

/// Lines of one text that the other one does not have, and the other way round.
fn changed(before: &str, now: &str) -> (Vec<String>, Vec<String>) {
    let lines = |text: &str| text.lines().map(str::to_owned).collect::<Vec<_>>();
    let (before, now) = (lines(before), lines(now));
    let only = |one: &[String], other: &[String]| one.iter().filter(|line| !other.contains(line)).cloned().collect();
    (only(&before, &now), only(&now, &before))
}

#[test]
fn a_new_name_goes_through_all_that_names_it_and_leaves_commands_alone() {
    let now = after(FILE, &[rename("build.gauge", "make.gauge2")]);
    let (gone, come) = changed(FILE, &now);
    assert_eq!(
        come,
        [
            "order = \"make > (test, lint) > ship\"   # in this order",
            "[job.make.gauge2]",
            "[[job.make.gauge2.cache]]   # kept",
            "takes = [\"make.gauge2/firmware\"]",
            "if    = 'fact.make.gauge2.size != \"0\"'",
            "after = [\"make.gauge2\"]",
            "takes = [{ from = \"make.gauge2/firmware\", to = \"in\" }]",
            "env   = { SIZE = \"{fact.make.gauge2.size}\" }",
        ]
    );
    assert_eq!(gone.len(), come.len());
    assert!(now.contains("echo build.gauge fact.build.gauge.size"), "{now}");
    let now = after(FILE, &[Edit::RenameStage { stage: "build".into(), to: "make".into() }]);
    assert!(!has_errors(&plan::check(&now)), "{now}");
    assert!(now.contains("order = \"make > (test, lint) > ship\"   # in this order"), "{now}");
    let back = after(&now, &[Edit::RenameStage { stage: "make".into(), to: "build".into() }]);
    assert_eq!(back, FILE);
}

#[test]
fn a_value_changes_without_the_lines_around_it() {
    for (edit, gone, come) in [
        (set("build.gauge", "steps", json!(["make", "make size", "make check"])), vec![], vec!["  \"make check\","]),
        (set("build.gauge", "steps", json!(["make", "make sizes"])), vec!["  \"make size\","], vec!["  \"make sizes\","]),
        (set("build.gauge", "steps", json!(["make"])), vec!["  \"make size\","], vec![]),
        (set("test.unit", "steps", json!(["./unit", "./more"])), vec!["steps = [\"./unit\"]"], vec!["steps = [\"./unit\", \"./more\"]"]),
        (set("test.unit", "may_fail", json!(true)), vec![], vec!["may_fail = true"]),
        (
            set("ship.it", "env", json!({ "SIZE": "1", "TO": "x" })),
            vec!["env   = { SIZE = \"{fact.build.gauge.size}\" }"],
            vec!["env   = { SIZE = \"1\", TO = \"x\" }"],
        ),
        (set("build.gauge", "cache", json!([{ "paths": ["obj"], "key": "obj" }])), vec![], vec![]),
        (
            set("build.gauge", "cache", json!([{ "paths": ["obj", "dep"], "key": "obj" }, { "paths": ["lib"], "key": "lib" }])),
            vec!["paths = [\"obj\"]"],
            vec!["paths = [\"obj\", \"dep\"]", "[[job.build.gauge.cache]]", "paths = [\"lib\"]", "key = \"lib\""],
        ),
        (Edit::SetKey { job: "test.unit".into(), key: "if".into(), value: None }, vec!["if    = 'fact.build.gauge.size != \"0\"'"], vec![]),
        (
            Edit::Take { job: "lint.style".into(), artifact: "build.gauge/firmware".into() },
            vec![],
            vec!["takes = [\"build.gauge/firmware\"]"],
        ),
        (Edit::NotAfter { job: "lint.style".into(), of: "build.gauge".into() }, vec!["after = [\"build.gauge\"]"], vec![]),
        (
            Edit::NotTake { job: "ship.it".into(), artifact: "build.gauge/firmware".into() },
            vec!["takes = [{ from = \"build.gauge/firmware\", to = \"in\" }]"],
            vec![],
        ),
        (
            Edit::ComeAfter { job: "lint.style".into(), of: "test".into() },
            vec!["after = [\"build.gauge\"]"],
            vec!["after = [\"build.gauge\", \"test\"]"],
        ),
    ] {
        let now = after(FILE, std::slice::from_ref(&edit));
        let (was, is) = changed(FILE, &now);
        // A line that stood twice is not told from one that stands once.
        let is: Vec<&str> = is.iter().map(String::as_str).collect();
        let expected: Vec<&str> = come.into_iter().filter(|line| !FILE.lines().any(|known| known == *line)).collect();
        assert_eq!((was, is), (gone.into_iter().map(str::to_owned).collect(), expected), "{edit:?}\n{now}");
    }
    let same = after(
        FILE,
        &[set("build.gauge", "gives", json!({ "firmware": ["out/*"] })), set("ship.it", "after", json!(["test", "lint.style"]))],
    );
    assert_eq!(same, FILE, "what is said already is not written anew");
}

#[test]
fn a_stage_goes_with_its_last_job_and_comes_where_it_is_put() {
    let now = after(FILE, &[Edit::RemoveJob { job: "lint.style".into() }]);
    assert!(now.contains("order = \"build > test > ship\"   # in this order"), "{now}");
    assert!(now.contains("after = [\"test\"]"), "{now}");
    assert!(!has_errors(&plan::check(&now)), "{now}");
    let now = after(FILE, &[Edit::RemoveJob { job: "ship.it".into() }]);
    assert!(!now.contains("ship") && !has_errors(&plan::check(&now)), "{now}");
    let order = |edits: &[Edit]| after(FILE, edits).lines().find(|line| line.starts_with("order")).map(str::to_owned).unwrap_or_default();
    for (side, of, line) in [
        (Side::Before, "build", "order = \"ship > build > (test, lint)\"   # in this order"),
        (Side::Beside, "lint", "order = \"build > (test, lint, ship)\"   # in this order"),
        (Side::After, "test", "order = \"build > (test, lint > ship)\"   # in this order"),
    ] {
        assert_eq!(order(&[Edit::MoveStage { stage: "ship".into(), place: Place { side, of: of.into() } }]), line);
    }
    assert_eq!(order(&[add("sign.it")]), "order = \"build > (test, lint) > ship > sign\"   # in this order");
    let bare = "[job.a.x]\nsteps = [\"true\"]\n[job.b.y]\nsteps = [\"true\"]\n";
    let now = after(bare, &[Edit::MoveStage { stage: "b".into(), place: Place { side: Side::After, of: "a".into() } }]);
    assert!(now.starts_with("order = \"a > b\"\n"), "{now}");
    assert_eq!(after(bare, &[add("c.z")]).matches("order").count(), 0, "nothing was ordered before");
    let lines = after(&bare.replacen("[job", "order = [\"a > b\"]\n[job", 1), &[add("c.z"), Edit::RemoveJob { job: "a.x".into() }]);
    assert!(lines.starts_with("order = [\"b > c\"]\n"), "{lines}");
}

#[test]
fn what_cannot_be_done_is_told_and_changes_nothing() {
    let place = |of: &str| Place { side: Side::After, of: of.into() };
    for (edit, error) in [
        (add("build.gauge"), EditError::JobThere("build.gauge".into())),
        (add("build"), EditError::NoName("build".into())),
        (add("build.Gauge"), EditError::BadName("Gauge".into())),
        (add("build.x]\n[job"), EditError::BadName("x]\n[job".into())),
        (rename("build.never", "a.b"), EditError::NoJob("build.never".into())),
        (rename("build.gauge", "ship.it"), EditError::JobThere("ship.it".into())),
        (Edit::RemoveJob { job: "never".into() }, EditError::NoJob("never".into())),
        (Edit::ComeAfter { job: "ship.it".into(), of: "ship".into() }, EditError::Itself("ship.it".into())),
        (Edit::ComeAfter { job: "ship.it".into(), of: "moon".into() }, EditError::NoStage("moon".into())),
        (Edit::Take { job: "ship.it".into(), artifact: "build.gauge".into() }, EditError::NoArtifact("build.gauge".into())),
        (Edit::MoveStage { stage: "ship".into(), place: place("ship") }, EditError::Itself("ship".into())),
        (Edit::MoveStage { stage: "moon".into(), place: place("ship") }, EditError::NoStage("moon".into())),
        (Edit::RenameStage { stage: "ship".into(), to: "test".into() }, EditError::StageThere("test".into())),
        (set("ship.it", "env", json!([[[[[[[[[[1]]]]]]]]]])), EditError::Value("env".into())),
    ] {
        assert_eq!(apply(FILE, &edit), Err(error), "{edit:?}");
    }
    assert!(matches!(apply("[job", &add("a.b")), Err(EditError::Syntax(_))));
    assert!(matches!(apply("job = 1", &add("a.b")), Err(EditError::NoTable(_))));
    assert!(matches!(apply("order = \"a >\"\n[job.a.x]\nsteps=[]\n", &add("b.y")), Err(EditError::Order(_))));
    assert!(matches!(apply(&"#".repeat(1024 * 1024), &add("a.b")), Err(EditError::Large)));
    assert!(outline("[job").is_none());
    assert!(outline("job = 1\n").is_some_and(|outline| outline.stages.is_empty()));
}

#[test]
fn an_outline_tells_stages_in_order_with_jobs_and_links() {
    let told = outline(FILE).expect("an outline");
    let stages: Vec<(&str, usize)> = told.stages.iter().map(|stage| (stage.name.as_str(), stage.level)).collect();
    assert_eq!(stages, [("build", 0), ("test", 1), ("lint", 1), ("ship", 2)]);
    let ship = &told.stages[3].jobs[0];
    let links: Vec<(&str, Option<&str>)> = ship.links.iter().map(|link| (link.of.as_str(), link.artifact.as_deref())).collect();
    assert_eq!(links, [("test", None), ("lint.style", None), ("build.gauge", Some("firmware"))]);
    assert_eq!(FILE.lines().nth(ship.line - 1), Some("[job.ship.it]"));
    assert_eq!(told.stages[0].jobs[0].gives, ["firmware"]);
    assert_eq!(told.stages[0].jobs[0].keys["cache"], json!([{ "paths": ["obj"], "key": "obj" }]));
}

/// What a file says, as plainly as can be: jobs by name, each with what it comes after and takes.
#[derive(Debug, Clone, Default, PartialEq)]
struct Model(BTreeMap<String, BTreeSet<(String, Option<String>)>>);

const STAGES: [&str; 4] = ["a", "b", "c", "d"];

impl Model {
    fn of(text: &str) -> Model {
        let told = outline(text).expect("TOML");
        let jobs = told.stages.into_iter().flat_map(|stage| stage.jobs);
        Model(jobs.map(|job| (job.job, job.links.into_iter().map(|link| (link.of, link.artifact)).collect())).collect())
    }

    fn stage(&self, stage: &str) -> bool {
        self.0.keys().any(|job| job.split('.').next() == Some(stage))
    }

    fn call(&mut self, job: &str, to: &str) {
        let links = self.0.remove(job).unwrap_or_default();
        self.0.insert(to.to_owned(), links);
        for links in self.0.values_mut() {
            *links = links.iter().map(|(of, artifact)| (if of == job { to.to_owned() } else { of.clone() }, artifact.clone())).collect();
        }
    }

    fn follow(&mut self, stage: &str, to: &str) {
        for links in self.0.values_mut() {
            *links = links.iter().map(|(of, artifact)| (if of == stage { to.to_owned() } else { of.clone() }, artifact.clone())).collect();
        }
    }

    fn forget(&mut self, name: &str) {
        self.0.values_mut().for_each(|links| links.retain(|(of, _)| of != name));
    }

    fn done(&mut self, edit: &Edit) {
        let stage = |job: &str| job.split('.').next().unwrap_or_default().to_owned();
        match edit {
            Edit::AddJob { job, .. } => {
                self.0.insert(job.clone(), BTreeSet::new());
            }
            Edit::RemoveJob { job } => {
                self.0.remove(job);
                self.forget(job);
                if !self.stage(&stage(job)) {
                    self.forget(&stage(job));
                }
            }
            Edit::RenameJob { job, to } => {
                let is_new = !self.stage(&stage(to));
                self.call(job, to);
                if self.stage(&stage(job)) {
                    return;
                }
                // The only job of a stage that goes to a new one takes all that named the stage along.
                if is_new {
                    self.follow(&stage(job), &stage(to));
                } else {
                    self.forget(&stage(job));
                }
            }
            Edit::ComeAfter { job, of } => {
                self.0.entry(job.clone()).or_default().insert((of.clone(), None));
            }
            Edit::NotAfter { job, of } => {
                self.0.entry(job.clone()).or_default().remove(&(of.clone(), None));
            }
            Edit::Take { job, artifact } => {
                let (of, name) = artifact.split_once('/').expect("an artifact");
                self.0.entry(job.clone()).or_default().insert((of.to_owned(), Some(name.to_owned())));
            }
            _ => {}
        }
    }
}

/// What someone does next: which kind, and which of what is there.
fn wishes() -> impl Strategy<Value = Vec<(u8, Index, Index, u8)>> {
    prop::collection::vec((0_u8..9, any::<Index>(), any::<Index>(), 0_u8..6), 1..25)
}

fn edit_of(model: &Model, (kind, one, other, number): (u8, Index, Index, u8)) -> Option<Edit> {
    let jobs: Vec<&String> = model.0.keys().collect();
    let stages: Vec<&&str> = STAGES.iter().filter(|stage| model.stage(stage)).collect();
    let new = format!("{}.j{number}", STAGES[other.index(STAGES.len())]);
    if kind == 0 || jobs.is_empty() {
        return Some(add(&new));
    }
    let (job, of) = (one.get(&jobs).to_string(), other.get(&jobs).to_string());
    let place = Place { side: [Side::Before, Side::After, Side::Beside][usize::from(number % 3)], of: (*other.get(&stages)).to_string() };
    Some(match kind {
        1 => Edit::RemoveJob { job },
        2 | 3 => Edit::RenameJob { job, to: new },
        4 => Edit::ComeAfter { job, of },
        5 => Edit::ComeAfter { job, of: place.of },
        6 => Edit::NotAfter { job, of },
        7 => Edit::Take { job, artifact: format!("{of}/x{number}") },
        _ => Edit::MoveStage { stage: (*one.get(&stages)).to_string(), place },
    })
}

proptest! {
    #[test]
    fn the_file_says_what_the_model_says(wishes in wishes()) {
        let mut text = "# The gauge\nlanguage = 1\n\n# first\n[job.a.j0]   # as ever\nsteps = [\"true\"] # nothing\n".to_owned();
        let mut model = Model::of(&text);
        for wish in wishes {
            let Some(edit) = edit_of(&model, wish) else { continue };
            let comments: Vec<String> = text.lines().filter_map(|line| line.split_once('#').map(|(_, said)| said.to_owned())).collect();
            match apply(&text, &edit) {
                Ok(now) => {
                    model.done(&edit);
                    if !matches!(edit, Edit::RemoveJob { .. }) {
                        let kept: Vec<String> = now.lines().filter_map(|line| line.split_once('#').map(|(_, said)| said.to_owned())).collect();
                        prop_assert_eq!(kept, comments, "{:?}\n{}", edit, now);
                    }
                    text = now;
                }
                Err(error) => prop_assert!(
                    matches!(error, EditError::JobThere(_) | EditError::Itself(_)),
                    "{:?} of {:?}: {}\n{}", edit, model, error, text
                ),
            }
            prop_assert_eq!(&Model::of(&text), &model, "{:?}\n{}", edit, text);
            let wrong: Vec<_> = plan::check(&text)
                .into_iter()
                .filter(|one| has_errors(std::slice::from_ref(one)))
                .filter(|one| !matches!(one.code, Code::Circle | Code::UnknownArtifact))
                .collect();
            prop_assert!(model.0.is_empty() || wrong.is_empty(), "{:?}: {:?}\n{}", edit, wrong, text);
        }
    }

    #[test]
    fn no_text_and_no_edit_break_it(text in "\\PC{0,60}", job in "[a-c.]{0,5}", key in "\\PC{0,8}") {
        let _ = outline(&text);
        for edit in [add(&job), Edit::RemoveJob { job: job.clone() }, set(&job, &key, json!("x")), rename(&job, "a.b")] {
            if let Ok(now) = apply(&text, &edit) {
                prop_assert!(outline(&now).is_some(), "{now}");
            }
        }
    }
}
