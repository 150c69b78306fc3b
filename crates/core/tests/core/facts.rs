//! Facts from job to job, conditions that read them, gates that look at numbers, results taken over.

use ordotaxis_core::engine::{Event, Number, Numbers, Outcome, Refused, Run, State};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, check, plan};
use std::collections::BTreeMap;
use std::sync::Arc;

fn planned(text: &str) -> Plan {
    let borrowed = BorrowedFiles::new();
    let occasion = Occasion::by_hand();
    plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

struct Drive(Run);

impl Drive {
    fn of(text: &str) -> Drive {
        let mut drive = Drive(Run::new(Arc::new(planned(&format!("language = 1\n{text}"))), 0));
        drive.apply(Event::Begun).expect("a run begins");
        drive
    }

    /// Applies an event; from then on the run is what would be stored of it.
    fn apply(&mut self, event: Event) -> Result<(), Refused> {
        let done = self.0.apply(&event, 1).map(drop);
        self.0 = Run::restore(self.0.plan().clone(), self.0.jobs().to_vec(), self.0.state());
        done
    }

    fn job(&self, id: &str) -> usize {
        self.0.plan().jobs.iter().position(|job| job.id.as_str() == id).unwrap_or_else(|| panic!("no job {id}"))
    }

    fn state(&self, id: &str) -> State {
        self.0.jobs()[self.job(id)].state()
    }

    fn why(&self, id: &str) -> String {
        self.0.jobs()[self.job(id)].why().unwrap_or_default().into_owned()
    }

    fn end(&mut self, id: &str, facts: &[(&str, &str)], numbers: &[(&str, Number)], outcome: Outcome) {
        let job = self.job(id);
        let attempt = self.0.jobs()[job].attempt + 1;
        self.apply(Event::Claimed { job, attempt, runner: "quay".into() }).expect("it is queued");
        let facts = facts.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        let numbers = numbers.iter().map(|(name, number)| ((*name).to_owned(), *number)).collect();
        self.apply(Event::Said { job, attempt, facts, numbers }).expect("it runs");
        let why = (outcome != Outcome::Passed).then(|| "it failed".to_owned());
        self.apply(Event::Ended { job, attempt, outcome, exit_code: None, why }).expect("it runs");
    }
}

const SIZED: &str = "order = \"build > ship\"\n[job.build.gauge]\nsteps = [\"make\"]\nfacts = [\"size\", { name = \"speed\", number = true }]\n\
    [job.ship.small]\nsteps = [\"true\"]\nif = 'int(fact.build.gauge.size) < 100'\n[job.ship.after]\nafter = [\"ship.small\"]\nsteps = [\"true\"]\n";

#[test]
fn a_fact_decides_just_before_a_job_would_start() {
    let mut small = Drive::of(SIZED);
    assert_eq!(small.state("ship.small"), State::Waiting);
    small.end("build.gauge", &[("size", "64")], &[], Outcome::Passed);
    assert_eq!(small.state("ship.small"), State::Queued);
    let mut large = Drive::of(SIZED);
    large.end("build.gauge", &[("size", "640")], &[], Outcome::Passed);
    assert_eq!((large.state("ship.small"), large.state("ship.after")), (State::Skipped, State::Queued));
    assert_eq!(large.why("ship.small"), "its condition `int(fact.build.gauge.size) < 100` is false: fact.build.gauge.size is \"640\"");
    large.end("ship.after", &[], &[], Outcome::Passed);
    assert_eq!(large.0.state(), State::Passed);
    let mut silent = Drive::of(SIZED);
    silent.end("build.gauge", &[], &[], Outcome::Passed);
    assert_eq!(silent.state("ship.small"), State::Failed);
    assert!(silent.why("ship.small").contains("cannot be decided: there is no"), "{}", silent.why("ship.small"));
}

#[test]
fn a_fact_decides_which_steps_a_job_has() {
    let text = "order = \"build > ship\"\n[job.build.gauge]\nsteps = [\"make\"]\nfacts = [\"size\"]\n[job.ship.pack]\n\
        steps = [\"pack\", { run = \"strip\", if = 'int(fact.build.gauge.size) > int(each.most)' }, { run = \"never\", if = 'each.most == \"0\"' }]\neach = { most = [100, 200] }\n";
    let steps = |drive: &Drive, id: &str| drive.0.steps(drive.job(id)).into_iter().map(|step| step.run).collect::<Vec<_>>();
    let mut drive = Drive::of(text);
    drive.end("build.gauge", &[("size", "150")], &[], Outcome::Passed);
    assert_eq!((drive.state("ship.pack[100]"), drive.state("ship.pack[200]")), (State::Queued, State::Queued));
    assert_eq!(steps(&drive, "ship.pack[100]"), ["pack", "strip"]);
    assert_eq!(steps(&drive, "ship.pack[200]"), ["pack"]);
    // What cannot be decided is told before any step runs.
    let mut silent = Drive::of(text);
    silent.end("build.gauge", &[("size", "much")], &[], Outcome::Passed);
    assert_eq!(silent.state("ship.pack[100]"), State::Failed);
    assert!(silent.why("ship.pack[100]").contains("cannot be decided"), "{}", silent.why("ship.pack[100]"));
}

#[test]
fn a_long_chain_of_late_conditions_ends() {
    let mut text = String::from("[job.a.first]\nsteps = [\"true\"]\nfacts = [\"go\"]\n");
    for n in 0..300 {
        let before = if n == 0 { "a.first".to_owned() } else { format!("a.n{}", n - 1) };
        text += &format!("[job.a.n{n}]\nsteps = [\"true\"]\nafter = [\"{before}\"]\nif = 'fact.a.first.go == \"yes\"'\n");
    }
    let mut drive = Drive::of(&text);
    drive.end("a.first", &[("go", "no")], &[], Outcome::Passed);
    assert_eq!(drive.0.state(), State::Passed);
    assert!(drive.0.jobs()[1..].iter().all(|job| job.state() == State::Skipped));
}

#[test]
fn of_a_matrix_the_cell_with_the_same_values_counts() {
    let mut drive = Drive::of(
        "[job.build.gauge]\nsteps = [\"make\"]\nfacts = [\"size\"]\neach = { opt = [\"O0\", \"O2\"] }\n\
         [job.test.unit]\nsteps = [\"true\"]\nafter = [\"build.gauge\"]\neach = { opt = [\"O0\", \"O2\"] }\nif = 'fact.build.gauge.size == \"2\"'\n\
         [job.test.all]\nsteps = [\"true\"]\nafter = [\"build.gauge\"]\nif = 'fact.build.gauge.size == \"0\"'\n",
    );
    drive.end("build.gauge[O0]", &[("size", "0")], &[], Outcome::Passed);
    drive.end("build.gauge[O2]", &[("size", "2")], &[], Outcome::Passed);
    assert_eq!((drive.state("test.unit[O0]"), drive.state("test.unit[O2]")), (State::Skipped, State::Queued));
    assert_eq!(drive.state("test.all"), State::Queued);
}

const GATED: &str = "order = \"test > ship > tell\"\n[stage.ship.gate]\ntests.failed = 0\ncoverage.changed = \">= 80\"\n\
    fact.test.unit.size = \"<= 4096\"\n[job.test.unit]\nsteps = [\"true\"]\nfacts = [{ name = \"size\", number = true }]\n\
    [job.test.other]\nsteps = [\"true\"]\n[job.ship.it]\nsteps = [\"true\"]\n[job.tell.all]\nsteps = [\"true\"]\n";

fn numbers(failed: u64, changed: (u64, u64), size: &str) -> [(&'static str, Number); 3] {
    [
        ("tests.failed", Number::count(failed)),
        ("coverage.changed", Number::share(changed.0, changed.1)),
        ("fact.test.unit.size", Number::read(size).expect("a number")),
    ]
}

#[test]
fn a_gate_opens_when_every_number_holds() {
    let mut drive = Drive::of(GATED);
    drive.end("test.unit", &[("size", "4000")], &numbers(0, (8, 10), "4000"), Outcome::Passed);
    assert_eq!(drive.state("ship.it"), State::Waiting);
    drive.end("test.other", &[], &[("tests.failed", Number::count(0)), ("coverage.changed", Number::share(1, 1))], Outcome::Passed);
    assert_eq!(drive.state("ship.it"), State::Queued);
    let all = drive.0.numbers();
    assert_eq!(all["coverage.changed"], Number::share(9, 11));
}

#[test]
fn a_shut_gate_says_how_far_and_the_run_has_failed() {
    let mut drive = Drive::of(GATED);
    drive.end("test.unit", &[], &numbers(2, (1, 2), "4096.5"), Outcome::Passed);
    drive.end("test.other", &[], &[], Outcome::Passed);
    assert_eq!((drive.state("ship.it"), drive.state("tell.all")), (State::Gated, State::Waiting));
    assert_eq!(
        drive.why("ship.it"),
        "the gate of ship is shut: tests.failed is 2, and must be 0; coverage.changed is 50, and must be >= 80, 30 too few; \
         fact.test.unit.size is 4096.5, and must be <= 4096, 0.5 too many"
    );
    assert_eq!(drive.0.state(), State::Failed);
    // Jobs done again bring other numbers, and the gate is asked again.
    let job = drive.job("test.unit");
    drive.apply(Event::Again { jobs: vec![job], by: "Ines".into(), fresh: false }).expect("it has ended");
    assert_eq!((drive.state("ship.it"), drive.0.state()), (State::Waiting, State::Running));
    drive.end("test.unit", &[], &numbers(0, (2, 2), "1"), Outcome::Passed);
    assert_eq!(drive.state("ship.it"), State::Queued);
    drive.end("ship.it", &[], &[], Outcome::Passed);
    drive.end("tell.all", &[], &[], Outcome::Passed);
    assert_eq!(drive.0.state(), State::Passed);
}

#[test]
fn a_number_that_nobody_gave_keeps_a_gate_shut_and_a_gated_job_can_be_stopped() {
    let mut drive =
        Drive::of("order = \"a > b\"\n[stage.b.gate]\ntests.new = 0\n[job.a.a]\nsteps = [\"true\"]\n[job.b.b]\nsteps = [\"true\"]\n");
    drive.end("a.a", &[], &[], Outcome::Passed);
    assert_eq!(drive.why("b.b"), "the gate of b is shut: no job of this run has given tests.new, which must be 0");
    assert_eq!(drive.0.state(), State::Failed);
    drive.apply(Event::StopAsked { job: None, by: "Odd".into() }).expect("a stop");
    assert_eq!((drive.state("b.b"), drive.0.state()), (State::Stopped, State::Stopped));
}

#[test]
fn a_start_by_hand_behind_a_shut_gate_is_refused_until_it_opens() {
    let text = GATED.replace("[job.ship.it]\n", "[job.ship.it]\nby_hand = true\n");
    let mut drive = Drive::of(&text);
    let job = drive.job("ship.it");
    let start = || Event::StartAsked { job, by: "Ines".into(), inputs: BTreeMap::new() };
    drive.end("test.unit", &[], &numbers(1, (1, 1), "4000"), Outcome::Passed);
    drive.end("test.other", &[], &[], Outcome::Passed);
    assert_eq!((drive.state("ship.it"), drive.0.state()), (State::Gated, State::Passed));
    assert_eq!(drive.apply(start()), Err(Refused::Shut));
    assert_eq!(drive.0.gate_before(job).as_deref(), Some("the gate of ship is shut: tests.failed is 1, and must be 0"));
    assert_eq!((drive.state("ship.it"), drive.0.state()), (State::Gated, State::Passed), "a refused start changes nothing");
    // Done again with other numbers, the gate is open, and the start is taken.
    let unit = drive.job("test.unit");
    drive.apply(Event::Again { jobs: vec![unit], by: "Ines".into(), fresh: false }).expect("it has ended");
    drive.end("test.unit", &[], &numbers(0, (1, 1), "4000"), Outcome::Passed);
    assert_eq!(drive.0.gate_before(job), None);
    drive.apply(start()).expect("the gate is open");
    assert_eq!(drive.state("ship.it"), State::Queued);
}

#[test]
fn what_is_taken_over_counts_as_passed() {
    let mut drive = Drive::of(SIZED);
    let job = drive.job("build.gauge");
    let reused = |from: &str| Event::Reused {
        job,
        from: from.into(),
        facts: BTreeMap::from([("size".to_owned(), "64".to_owned())]),
        numbers: Numbers::new(),
    };
    drive.apply(reused("tidegauge/11")).expect("it is queued");
    drive.apply(reused("tidegauge/11")).expect("said twice");
    assert_eq!((drive.state("build.gauge"), drive.state("ship.small")), (State::Reused, State::Queued));
    assert_eq!(drive.why("build.gauge"), "the same as in tidegauge/11");
    assert_eq!(drive.apply(reused("tidegauge/10")), Err(Refused::NotQueued));
    let mut fresh = Drive::of(SIZED);
    fresh.end("build.gauge", &[("size", "1")], &[], Outcome::Passed);
    fresh.end("ship.small", &[], &[], Outcome::Passed);
    fresh.end("ship.after", &[], &[], Outcome::Passed);
    fresh.apply(Event::Again { jobs: vec![job], by: "Ines".into(), fresh: true }).expect("it has ended");
    assert_eq!(fresh.apply(reused("tidegauge/11")), Err(Refused::NotQueued));
}

#[test]
fn gates_and_publications_are_checked() {
    let found = |text: &str| check(&format!("language = 1\n{text}"));
    let said =
        |text: &str| found(text).iter().map(|one| format!("{} {}", one.message, one.hint.clone().unwrap_or_default())).collect::<String>();
    let job = "[job.ship.it]\nsteps = [\"true\"]\n";
    assert!(said(&format!("[stage.ship.gate]\ntests.faild = 0\n{job}")).contains("did you mean `tests.failed`?"));
    assert!(said(&format!("[stage.ship.gate]\ntests.failed = \"few\"\n{job}")).contains("says no limit"));
    assert!(said(&format!("[stage.ship.gate]\nfact.ship.it.size = 3\n{job}")).contains("there is no number"));
    let published =
        "[job.a.b]\nsteps = [\"true\"]\ngives = { fw = [\"x\"] }\npublish = [{ artifact = \"wf\", to = \"oci://127.0.0.1:5000/x:1\" }]\n";
    assert!(said(published).contains("publishes the artifact `wf`, which it does not give"));
    let published = published.replace("\"wf\"", "\"fw\"");
    assert!(found(&published).is_empty(), "{:?}", found(&published));
    for key in ["form = { version = \"{tag}\" }", "file = \"content\"", "digest = \"sum\""] {
        let with = published.replace(" }]", &format!(", {key} }}]"));
        assert!(said(&with).contains("a registry takes no form"), "{}", said(&with));
        let elsewhere = with.replace("oci://127.0.0.1:5000/x:1", "https://packages.example/");
        assert!(found(&elsewhere).is_empty(), "{:?}", found(&elsewhere));
    }
}

/// What a form's fields say is known as everywhere; what only a runner knows stays.
#[test]
fn a_form_is_planned_field_by_field() {
    let text = "language = 1\n[job.a.b]\nsteps = ['true']\nconnections = ['NPM']\ngives = { fw = ['x'] }\neach = { board = ['v1', 'v2'] }\n\
                publish = [{ artifact = 'fw', to = 'https://x.example/', file = 'content', form = { ':action' = 'up', of = '{each.board}-{os}', braces = '{{x' } }]\n";
    let plan = planned(text);
    let extras = plan.jobs[1].extras.as_deref().expect("extras");
    assert_eq!(extras.connections, ["NPM"]);
    let upload = extras.publish[0].upload.as_ref().expect("a form");
    let fields: Vec<(String, String)> = upload.fields.iter().map(|(name, text)| (name.clone(), text.0.value.source())).collect();
    let wanted = [(":action", "up"), ("of", "v2-{os}"), ("braces", "{{x")].map(|(name, text)| (name.to_owned(), text.to_owned()));
    assert_eq!(fields, wanted);
    assert_eq!((upload.file.as_str(), upload.digest.as_deref()), ("content", None));
    let stored = serde_json::to_string(&plan).expect("JSON");
    assert_eq!(serde_json::from_str::<Plan>(&stored).expect("a plan"), plan, "as it is stored");
}
