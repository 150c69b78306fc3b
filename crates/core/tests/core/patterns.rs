//! What a job ends up as: its own words over its pattern's, its stage's, the defaults'; and what is borrowed.

use ordotaxis_core::language::{Checkout, Code, Severity};
use ordotaxis_core::plan::{BorrowedFile, BorrowedFiles, Occasion, Plan, PlannedJob, Source, check_borrowing, plan};

fn borrowed(text: &str) -> BorrowedFiles {
    BorrowedFiles::from([("shared".to_owned(), Ok(BorrowedFile { commit: "c0ffee".into(), text: text.to_owned() }))])
}

fn planned_with(text: &str, borrowed: &BorrowedFiles) -> Plan {
    let occasion = Occasion { project: Some("tidegauge".into()), ..Occasion::push("main") };
    plan(Source { text, name: "main", borrowed }, &occasion).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

fn job(text: &str, id: &str) -> PlannedJob {
    let plan = planned_with(text, &BorrowedFiles::new());
    plan.jobs.iter().find(|job| job.id.as_str() == id).unwrap_or_else(|| panic!("no {id}")).clone()
}

fn commands(job: &PlannedJob) -> Vec<&str> {
    job.steps.iter().map(|step| step.run.as_str()).collect()
}

#[test]
fn variables_are_joined_and_the_nearest_wins() {
    let text = r#"language = 1
[env]
A = "file"
B = "file"
C = "file"
D = "file"
E = "file"
[defaults]
env = { B = "defaults", C = "defaults", D = "defaults", E = "defaults" }
[stage.ship]
env = { C = "stage", D = "stage", E = "stage" }
[pattern.send]
env = { D = "pattern", E = "pattern", F = "pattern" }
steps = ["x"]
[job.ship.it]
follows = "send"
env = { E = "job" }
"#;
    let job = job(text, "ship.it");
    let wanted = [("A", "file"), ("B", "defaults"), ("C", "stage"), ("D", "pattern"), ("E", "job"), ("F", "pattern")];
    for (name, value) in wanted {
        assert_eq!(job.env.get(name).map(String::as_str), Some(value), "{name}");
    }
}

#[test]
fn everything_else_is_taken_whole_from_whoever_says_it_first() {
    let text = |own: &str, pattern: &str, stage: &str, defaults: &str| {
        format!(
            "language = 1\n[defaults]\n{defaults}\n[stage.a]\n{stage}\n[pattern.p]\nsteps = [\"pattern\"]\n{pattern}\n[job.a.b]\nfollows = \"p\"\n{own}\n"
        )
    };
    let labels = |own: &str, pattern: &str, stage: &str| job(&text(own, pattern, stage, "where = [\"defaults\"]"), "a.b").labels;
    assert_eq!(labels("", "", ""), ["defaults"]);
    assert_eq!(labels("", "", "where = [\"stage\"]"), ["stage"]);
    assert_eq!(labels("", "where = [\"pattern\"]", "where = [\"stage\"]"), ["pattern"]);
    assert_eq!(labels("where = []", "where = [\"pattern\"]", "where = [\"stage\"]"), [""; 0], "an empty list is said, too");
    let prepared = |own: &str, pattern: &str| {
        let job = job(&text(own, pattern, "", "prepare = [\"defaults first\"]"), "a.b");
        commands(&job).iter().map(|run| (*run).to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(prepared("", ""), ["defaults first", "pattern"]);
    assert_eq!(prepared("", "prepare = [\"pattern first\"]"), ["pattern first", "pattern"]);
    assert_eq!(prepared("prepare = [\"own first\"]\nsteps = [\"own\"]", "prepare = [\"pattern first\"]"), ["own first", "own"]);
    let timeout = |own: &str, pattern: &str| job(&text(own, pattern, "", "timeout = \"3m\""), "a.b").timeout_ms;
    assert_eq!(timeout("", ""), Some(180_000));
    assert_eq!(timeout("", "timeout = \"2m\""), Some(120_000));
    assert_eq!(timeout("timeout = \"1m\"", "timeout = \"2m\""), Some(60_000));
    let may_fail = |own: &str| job(&text(own, "may_fail = true", "", ""), "a.b").may_fail;
    assert!(may_fail(""));
    assert!(!may_fail("may_fail = false"));
    assert_eq!(job(&text("", "checkout = false", "", ""), "a.b").checkout, Checkout::None);
    assert_eq!(job(&text("checkout = true", "checkout = false", "", ""), "a.b").checkout, Checkout::default());
}

#[test]
fn what_asks_the_runner_is_joined_key_by_key() {
    let text = r#"language = 1
[defaults]
tools = { make = ">=4" }
retry = { times = 3 }
[pattern.p]
steps = ["x"]
turn = "{each.s}-{given.channel}-{branch}"
inputs.channel = { default = "trial" }
retry = { times = 2, on = ["lost"] }
[job.a.b]
follows = "p"
each = { s = ["pier"] }
deploys = "{each.s}"
"#;
    let job = job(text, "a.b[pier]");
    let extras = job.extras.expect("there are some");
    assert_eq!(extras.tools.get("make").map(|wanted| wanted.0.value.source()).as_deref(), Some(">=4"));
    assert_eq!(extras.retry.map(|retry| (retry.times, retry.on)), Some((2, vec!["lost".to_owned()])));
    let plain = |placed: Option<ordotaxis_core::language::Placed>| placed.and_then(|placed| placed.0.value.plain());
    assert_eq!(plain(extras.turn).as_deref(), Some("pier-trial-main"));
    assert_eq!(plain(extras.deploys).as_deref(), Some("pier"));
}

#[test]
fn a_chain_of_patterns_shares_its_inputs() {
    let text = r#"language = 1
[pattern.base]
inputs.where-to = { choices = ["pier", "lock"] }
inputs.how = { default = "slowly" }
steps = ["go $GIVEN_WHERE_TO $GIVEN_HOW"]
[pattern.quick]
follows = "base"
given = { how = "quickly" }
[job.a.one]
follows = "quick"
given = { where-to = "pier" }
[job.a.two]
follows = "quick"
given = { where-to = "lock", how = "not at all" }
"#;
    let given = |id: &str| {
        let job = job(text, id);
        (job.env["GIVEN_WHERE_TO"].clone(), job.env["GIVEN_HOW"].clone())
    };
    assert_eq!(given("a.one"), ("pier".into(), "quickly".into()));
    assert_eq!(given("a.two"), ("lock".into(), "not at all".into()));
}

#[test]
fn twenty_patterns_deep_and_no_deeper() {
    let chain = |depth: usize| {
        let mut text = String::from("language = 1\n[pattern.p0]\nsteps = [\"x\"]\n");
        for at in 1..depth {
            text += &format!("[pattern.p{at}]\nfollows = \"p{}\"\n", at - 1);
        }
        text + &format!("[job.a.b]\nfollows = \"p{}\"\n", depth - 1)
    };
    let borrowed = BorrowedFiles::new();
    let limit = |text: &str| check_borrowing(text, &borrowed).iter().any(|found| found.code == Code::Limit);
    assert!(!limit(&chain(20)));
    assert!(limit(&chain(21)));
}

const SHARED: &str = "language = 1\n[pattern.base]\nsteps = [\"base\"]\n[pattern.greet]\nfollows = \"base\"\ninputs.who = { choices = [\"tide\", \"moon\"] }\nenv = { WHO = \"{given.who}\" }\n";

fn borrower(given: &str) -> String {
    format!(
        "language = 1\n[borrow.shared]\ngit = \"http://forge/patterns.git\"\nat = \"v1\"\nfile = \"patterns.toml\"\n[pattern.base]\nsteps = [\"own base\"]\n[job.a.own]\nfollows = \"base\"\n[job.a.b]\nfollows = \"shared:greet\"\n{given}\n"
    )
}

#[test]
fn a_borrowed_pattern_follows_those_of_its_own_file() {
    let plan = planned_with(&borrower("given = { who = \"tide\" }"), &borrowed(SHARED));
    let borrowed = plan.jobs.iter().find(|job| job.name == "b").expect("it is there");
    assert_eq!(commands(borrowed), ["base"], "not the borrower's pattern of the same name");
    assert_eq!(borrowed.env["WHO"], "tide");
    assert_eq!((plan.borrowed[0].at.as_str(), plan.borrowed[0].commit.as_str()), ("v1", "c0ffee"));
}

#[test]
fn mistakes_with_what_is_borrowed_point_at_the_borrower() {
    let told = |text: &str, borrowed: &BorrowedFiles| -> Vec<(Code, Severity, String)> {
        let found = check_borrowing(text, borrowed);
        for one in &found {
            assert!(text.is_char_boundary(one.span.start) && one.span.end <= text.len(), "{one:?} points into another file");
        }
        found.into_iter().map(|one| (one.code, one.severity, one.message)).collect()
    };
    let text = borrower("given = { who = \"tied\" }");
    assert_eq!(told(&text, &borrowed(SHARED))[0].0, Code::Given);
    let text = borrower("given = { who = \"tide\" }");
    assert_eq!(told(&text, &borrowed("language = 1\n[pattern.grete]\nsteps = [\"x\"]\n"))[0].0, Code::UnknownPattern);
    let broken = told(&text, &borrowed("language = 1\n[pattern.greet]\nstpes = [\"x\"]\n"));
    assert_eq!(broken[0].2, "`patterns.toml` has a mistake at the borrowed commit, in line 3: pattern greet has no key `stpes`");
    let away = BorrowedFiles::from([("shared".to_owned(), Err("the forge is away".to_owned()))]);
    assert_eq!(told(&text, &away)[0].2, "nothing can be borrowed as `shared`: the forge is away");
    let unfetched = told(&text, &BorrowedFiles::new());
    assert_eq!(unfetched.iter().map(|one| one.1).collect::<Vec<_>>(), [Severity::Note], "without it the rest is checked all the same");
}
