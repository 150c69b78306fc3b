//! Every configuration of the service that a guide shows is one that the service takes, and the packaged one, too.

use ordotaxis_service::{Ages, Settings};
use std::path::{Path, PathBuf};

fn project(path: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)
}

/// Takes a configuration, with files that stand for those it names.
fn taken(text: &str) -> Result<Settings, String> {
    let folder = tempfile::tempdir().expect("a folder");
    let stand_in = folder.path().join("secret");
    std::fs::write(&stand_in, "salt and mud").expect("a file");
    let text: Vec<String> =
        text.split('"')
            .map(|part| {
                if part.starts_with("/etc/ordotaxis/") && !part.ends_with("programs") {
                    stand_in.display().to_string()
                } else {
                    part.into()
                }
            })
            .collect();
    let path = folder.path().join("service.toml");
    std::fs::write(&path, text.join("\"")).expect("a file");
    Settings::new(folder.path().join("data")).with_file(path).map_err(|error| error.to_string())
}

#[test]
fn what_guides_show_is_taken() {
    let mut shown = 0;
    for entry in std::fs::read_dir(project("docs")).expect("the guides").flatten() {
        let text = std::fs::read_to_string(entry.path()).unwrap_or_default();
        let blocks = text.split("```toml").skip(1).filter_map(|rest| rest.split("```").next());
        let of_the_service = |block: &&str| block.starts_with(" service\n") || block.contains("\n[pool.");
        for block in blocks.filter(of_the_service) {
            let block = block.trim_start_matches(" service");
            taken(block).unwrap_or_else(|error| panic!("{}: {error}\n{block}", entry.path().display()));
            shown += 1;
        }
    }
    assert!(shown >= 12, "{shown} configurations are shown");
}

/// The ages that the guide calls the defaults are.
#[test]
fn the_ages_of_the_guide_are_the_defaults() {
    let text = std::fs::read_to_string(project("docs/operations.md")).expect("a guide");
    let block = text.split("```toml service\n").find(|block| block.starts_with("[ages]")).and_then(|block| block.split("```").next());
    let said = taken(block.expect("the ages")).expect("they are taken").ages;
    assert!(said.runs.is_some() && said.logs.is_some());
    assert_eq!(Ages { runs: None, logs: None, ..said }, Ages::default());
}

#[test]
fn what_is_packaged_is_taken_also_with_what_it_only_shows() {
    let text = std::fs::read_to_string(project("packaging/service.toml")).expect("the configuration");
    taken(&text).expect("as it is");
    // What it only shows is a key or a table behind a `#`.
    let is_shown = |line: &&str| line.starts_with('[') || line.split_once('=').is_some_and(|(key, _)| !key.trim().contains(' '));
    let whole: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("# ")).filter(is_shown).collect();
    assert!(whole.len() >= 5, "{whole:?}");
    taken(&whole.join("\n")).expect("with all that it shows");
}

#[test]
fn ages_that_are_none_are_refused_with_their_key() {
    for (wrong, said) in [
        ("[ages]\nruns = \"0s\"", "`[ages]` in the configuration: `runs` is not a length of time: `0s`"),
        ("[ages]\nlogs = \"soon\"", "`logs` is not a length of time: `soon`; write one such as \"30d\""),
        ("[ages]\njournal = \"1d\"", "unknown field `journal`"),
    ] {
        let error = taken(wrong).expect_err("it is refused");
        assert!(error.contains(said), "{error}");
    }
}
