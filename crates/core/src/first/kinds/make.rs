//! A Makefile by itself. Only a target that plainly builds is built: the first one of many a Makefile cleans, installs or
//! prints a help.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let name = folder.first(&["GNUmakefile", "Makefile", "makefile"])?;
    let text = folder.read(name)?;
    let (targets, phony) = (targets(&text), phony(&text));
    let has = |wanted: &str| targets.iter().any(|target| target == wanted);
    // A first target that is a file is what is built.
    let plain = ["all", "build"].into_iter().find(|target| has(target));
    let build = match (plain, targets.first()) {
        (Some(target), _) => Some(format!("make {target}")),
        (None, Some(first)) if !phony.contains(first) && !is_errand(first) => Some("make".to_owned()),
        _ => None,
    };
    let mut kind = Kind { says: "a Makefile".into(), about: format!("a build with make ({name})"), ..Kind::default() };
    match build {
        Some(line) => kind.jobs.push(Job::new("build", "make", "Builds what the Makefile builds.", &[&line])),
        None => kind.unsure.push(format!("No target of {name} plainly builds something; it has: {}.", targets.join(", "))),
    }
    if let Some(test) = ["check", "test", "tests"].into_iter().find(|name| has(name)) {
        kind.says = "a Makefile with tests".into();
        kind.jobs.push(Job::new("test", "unit", "Runs the Makefile's tests.", &[&format!("make {test}")]));
    }
    Some(kind)
}

/// What a Makefile says it can do, in order; without rules for whole kinds of files.
fn targets(text: &str) -> Vec<String> {
    let rules = text.lines().filter(|line| !line.starts_with(['\t', ' ', '#', '.'])).filter_map(|line| line.split_once(':'));
    let names = rules.filter(|(names, rest)| !rest.starts_with('=') && !rest.starts_with(":=") && !names.contains(['%', '=']));
    names.flat_map(|(names, _)| names.split_whitespace().map(str::to_owned)).take(50).collect()
}

/// Targets that are no files.
fn phony(text: &str) -> Vec<String> {
    text.lines().filter_map(|line| line.strip_prefix(".PHONY:")).flat_map(str::split_whitespace).map(str::to_owned).collect()
}

fn is_errand(target: &str) -> bool {
    [
        "help", "usage", "clean", "install", "deploy", "run", "start", "up", "release", "publish", "push", "docs", "fmt", "lint", "setup",
        "init",
    ]
    .contains(&target)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_are_names_of_rules() {
        let text = "CC := gcc\nBIN = gauge\nURL=http://x\n.PHONY: help clean\nhelp: ## shows this\n\t@echo a: b\n%.o: %.c\n\tcc $<\ngauge gauge.d: a.o\n\tcc\nclean:\n";
        assert_eq!(targets(text), ["help", "gauge", "gauge.d", "clean"]);
        assert_eq!(phony(text), ["help", "clean"]);
    }
}
