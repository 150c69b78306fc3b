//! The examples in the guides are pipelines that can be run.

use ordotaxis_core::forge::profile;
use ordotaxis_core::plan::check;
use ordotaxis_core::rules;

/// The examples of a guide.
fn examples(guide: &str) -> Vec<String> {
    let path = format!("{}/../../docs/{guide}", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("a guide");
    let examples = text.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next());
    examples.map(str::to_owned).collect()
}

#[test]
fn the_rules_in_the_guides_are_right() {
    for example in examples("landing.md").into_iter().chain(examples("notices.md")).chain(told()) {
        let (_, told) = rules::read(&example);
        assert_eq!(told, [], "{example}");
    }
    assert!(rules::read(&examples("landing.md")[0]).0.branch("main").queue);
    assert_eq!(rules::read(&examples("notices.md")[0]).0.notices.len(), 2);
}

/// The guide to forges holds a piece of rules, too.
fn told() -> Vec<String> {
    examples("forges.md").into_iter().filter(|example| example.starts_with("rules = 1")).collect()
}

/// The guide's pieces of a profile are one profile.
#[test]
fn the_profile_in_the_guide_is_right() {
    let whole = examples("forges.md").into_iter().filter(|example| !told().contains(example)).collect::<Vec<_>>().join("\n");
    let (read, told) = profile(&whole);
    assert_eq!(told, [], "{whole}");
    assert!(read.is_some_and(|profile| profile.events.len() == 1 && profile.requests.len() == 2));
}

#[test]
fn every_pipeline_in_the_guides_is_right() {
    for guide in ["getting-started.md", "language.md", "running.md", "caching.md", "artifacts.md", "tests.md"] {
        let examples = examples(guide);
        assert!(!examples.is_empty(), "{guide} has no example");
        for example in examples {
            assert_eq!(check(&example), [], "{guide}:\n{example}");
        }
    }
}
