//! The examples in the guides are pipelines that can be run.

use ordotaxis_core::plan::check;

#[test]
fn every_pipeline_in_the_guides_is_right() {
    for guide in ["getting-started.md", "language.md", "running.md", "caching.md", "artifacts.md", "tests.md"] {
        let path = format!("{}/../../docs/{guide}", env!("CARGO_MANIFEST_DIR"));
        let text = std::fs::read_to_string(&path).expect("a guide");
        let examples: Vec<&str> = text.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next()).collect();
        assert!(!examples.is_empty(), "{guide} has no example");
        for example in examples {
            assert_eq!(check(example), [], "{guide}:\n{example}");
        }
    }
}
