//! Conditions that no start rule can make true are told; those that some can are not.

use ordotaxis_core::language::Code;
use ordotaxis_core::plan::check;

const STARTS: &str = "[starts]\npush = [\"main\", \"release/*\", \"!release/old\"]\nproposal = [\"main\"]\ntag = [\"v*\"]\nby_hand = false\n\
    [starts.inputs.station]\nchoices = [\"north-pier\", \"lock-gate\"]\ndefault = \"lock-gate\"\n";

fn never(condition: &str) -> bool {
    let text = format!("language = 1\n{STARTS}[job.a.b]\nsteps = [\"true\"]\nif = '{condition}'\n");
    let found = check(&text);
    assert!(found.iter().all(|one| one.code != Code::Expression), "{condition}: {found:?}");
    found.iter().any(|one| one.code == Code::NeverTrue)
}

#[test]
fn what_some_start_can_make_true_is_left_alone() {
    for condition in [
        "ref.branch == \"main\"",
        "ref.branch == \"release/7\"",
        "ref.branch.startsWith(\"release/\")",
        "ref.tag.endsWith(\"-rc\")",
        "ref.tag.contains(\"beta\")",
        "ref.tag == \"v1.0\"",
        "ref.tag.matches(\"^v[0-9]+$\")",
        "event == \"proposal\" && ref.target == \"main\"",
        "event != \"push\" || touches(\"src/**\")",
        "!touches(\"src/**\")",
        "commit.message.contains(\"[ship]\")",
        "changed.size() > 3",
        "event in [\"push\", \"tag\"]",
        "!(ref.branch == \"main\")",
    ] {
        assert!(!never(condition), "{condition}");
    }
}

#[test]
fn what_none_can_is_told() {
    for condition in [
        "ref.branch == \"mian\"",
        "ref.branch == \"release/old\"",
        "ref.branch == \"release/7/fix\"",
        "event == \"schedule\"",
        "event == \"by_hand\"",
        "ref.tag.startsWith(\"release\")",
        "ref.branch == \"main\" && ref.tag != \"\"",
        "event == \"proposal\" && ref.branch == \"main\"",
        "ref.target == \"release/7\"",
        "false",
    ] {
        assert!(never(condition), "{condition}");
    }
}

#[test]
fn a_secret_is_told_unless_proposals_are_kept_out() {
    let told = |rest: &str| {
        let text = format!("language = 1\n{STARTS}{rest}");
        check(&text).iter().any(|one| one.code == Code::OpenSecret)
    };
    let job = |more: &str| format!("[job.ship.it]\nsteps = [\"true\"]\nsecrets = [\"STATION_KEY\"]\n{more}");
    assert!(told(&job("")));
    assert!(told(&job("if = 'commit.author == \"Ines\"'")), "who proposes may call himself anything");
    assert!(!told(&job("if = 'event != \"proposal\"'")));
    assert!(!told(&job("if = 'ref.branch == \"main\" || ref.tag != \"\"'")), "a proposal has no branch of its own");
    assert!(!told(&format!("[stage.ship]\nif = 'ref.tag != \"\"'\n{}", job(""))));
}
