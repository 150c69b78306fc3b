//! Which occasions begin a pipeline, what inputs they bring, and plans of a part.

use ordotaxis_core::language::Code;
use ordotaxis_core::plan::{BorrowedFiles, Carry, Cause, Event, Occasion, Plan, Ref, Source, plan, starts};

const RULES: &str = r#"language = 1
[starts]
push = ["main", "topic/**", "!topic/wip/**"]
proposal = ["main", "release/*"]
tag = ["v*", "!v0*"]
schedule = ["0 4 * * *"]
pipeline = ["nightly", "stations/main"]
by_hand = false
[job.a.b]
steps = ["true"]
"#;

fn begins(occasion: Occasion) -> bool {
    let borrowed = BorrowedFiles::new();
    let planned = plan(Source { text: RULES, name: "main", borrowed: &borrowed }, &occasion).expect("a plan");
    starts(&planned.starts, &occasion)
}

fn of(event: Event, name: &str) -> Occasion {
    let (name, main) = (name.to_owned(), || Some(Ref::Branch("main".into())));
    let cause = match event {
        Event::Push => Cause::Push { branch: name, before: None },
        Event::Tag => Cause::Tag { tag: name },
        Event::Proposal => Cause::Proposal { target: name, source: None, outside: false, number: None, merges: None },
        Event::Schedule => Cause::Schedule { line: Some(name), branch: Some("main".into()) },
        Event::Pipeline => Cause::Passed { pipeline: Some(name), on: main() },
        Event::ByHand => Cause::ByHand { on: main() },
        Event::Promotion | Event::RollBack | Event::Closing => {
            let way = match event {
                Event::Promotion => Carry::On,
                Event::RollBack => Carry::Back,
                _ => Carry::Away,
            };
            Cause::Carried { way, outside: false, of: name, environment: "pier".into(), on: main() }
        }
        Event::Landing => Cause::Landing { target: name, trial: 1, outside: false, base: "b".into() },
    };
    Occasion { project: Some("tidegauge".into()), ..Occasion::new(cause) }
}

#[test]
fn each_rule_begins_what_it_names() {
    for (event, name, wanted) in [
        (Event::Push, "main", true),
        (Event::Push, "topic/a/b", true),
        (Event::Push, "topic/wip/a", false),
        (Event::Push, "release/1", false),
        (Event::Proposal, "release/1", true),
        (Event::Proposal, "release/1/fix", false),
        (Event::Proposal, "topic/a", false),
        (Event::Tag, "v1.0", true),
        (Event::Tag, "v0.9", false),
        (Event::Tag, "main", false),
        (Event::Schedule, "0 4 * * *", true),
        (Event::Schedule, "0 5 * * *", false),
        (Event::Pipeline, "tidegauge/nightly", true),
        (Event::Pipeline, "almanac/nightly", false),
        (Event::Pipeline, "stations/main", true),
        (Event::ByHand, "main", false),
        (Event::Landing, "main", true),
        (Event::Promotion, "tidegauge/4", false),
        (Event::RollBack, "tidegauge/4", false),
    ] {
        assert_eq!(begins(of(event, name)), wanted, "{event:?} {name}");
    }
}

#[test]
fn a_proposal_is_not_a_push_to_its_source() {
    let cause = Cause::Proposal { target: "topic/a".into(), source: Some("main".into()), outside: false, number: None, merges: None };
    let proposal = Occasion::new(cause);
    assert!(!begins(proposal));
}

const INPUTS: &str = "language = 1\n[starts]\n[starts.inputs.station]\nchoices = [\"pier\", \"lock\"]\n[starts.inputs.note]\ndefault = \"none\"\n[job.a.b]\nif = 'input.station == \"pier\"'\nenv = { NOTE = \"{input.note}\" }\nsteps = [\"true\"]\n";

fn with(event: Event, inputs: &[(&str, &str)]) -> Result<Plan, Vec<Code>> {
    let borrowed = BorrowedFiles::new();
    let inputs = inputs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    let occasion = Occasion { inputs, ..of(event, "main") };
    let planned = plan(Source { text: INPUTS, name: "main", borrowed: &borrowed }, &occasion);
    planned.map(|planned| planned.plan).map_err(|found| {
        found.into_iter().filter(|one| one.severity == ordotaxis_core::language::Severity::Error).map(|one| one.code).collect()
    })
}

#[test]
fn inputs_are_asked_for_by_hand_and_empty_otherwise() {
    let plan = with(Event::ByHand, &[("station", "pier"), ("note", "x")]).expect("a plan");
    assert_eq!((plan.jobs[0].skipped.is_none(), plan.jobs[0].env["NOTE"].as_str()), (true, "x"));
    let plan = with(Event::ByHand, &[("station", "lock")]).expect("a plan");
    assert_eq!(plan.jobs[0].skipped.as_deref(), Some("its condition `input.station == \"pier\"` is false: input.station is \"lock\""));
    assert_eq!(plan.jobs[0].env["NOTE"], "none");
    assert_eq!(with(Event::ByHand, &[]), Err(vec![Code::Given]));
    assert_eq!(with(Event::ByHand, &[("station", "tower")]), Err(vec![Code::Given]));
    assert_eq!(with(Event::ByHand, &[("station", "pier"), ("noet", "x")]), Err(vec![Code::UnknownInput]));
    let plan = with(Event::Push, &[]).expect("a plan");
    assert_eq!(plan.occasion.inputs["station"], "", "nobody was asked");
}

#[test]
fn a_part_of_a_plan_is_the_jobs_asked_for_and_what_they_take() {
    let text = "language = 1\norder = \"build > test > pack\"\n[job.build.gauge]\nsteps = [\"x\"]\ngives = { fw = [\"fw\"] }\n[job.build.docs]\nsteps = [\"x\"]\n\
        [job.test.unit]\neach = { n = [1, 2] }\ntakes = [\"build.gauge/fw\"]\nsteps = [\"x\"]\n[job.pack.all]\nsteps = [\"x\"]\n";
    let borrowed = BorrowedFiles::new();
    let kept = |only: &[&str]| -> Result<Vec<String>, Code> {
        let only = only.iter().map(|name| (*name).to_owned()).collect();
        let occasion = Occasion { only, ..Occasion::by_hand() };
        let planned = plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).map_err(|found| found[0].code)?;
        Ok(planned.plan.jobs.iter().filter(|job| job.skipped.is_none()).map(|job| job.id.to_string()).collect())
    };
    assert_eq!(kept(&["test.unit"]).expect("a plan"), ["build.gauge", "test.unit[1]", "test.unit[2]"]);
    assert_eq!(kept(&["test.unit[2]"]).expect("a plan"), ["build.gauge", "test.unit[2]"]);
    assert_eq!(kept(&["build"]).expect("a plan"), ["build.gauge", "build.docs"]);
    assert_eq!(kept(&["pack.all", "build.docs"]).expect("a plan"), ["build.docs", "pack.all"]);
    assert_eq!(kept(&[]).map(|all| all.len()), Ok(5));
    assert_eq!(kept(&["test.unti"]), Err(Code::UnknownJob));
}
