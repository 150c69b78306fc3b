//! What a folder holds: build files, tests, lock files. One function a kind of project; to add one, write it in a file of
//! its own and name it in [`look`].

mod go;
mod jvm;
mod make;
mod native;
mod node;
mod python;
mod rust;
mod shell;

use super::folder::Folder;
use super::job::Kind;
use std::collections::BTreeSet;

/// Everything found, the main kind first.
pub(super) fn look(folder: &Folder) -> Vec<Kind> {
    let mut found: Vec<Kind> =
        [rust::look, go::look, jvm::look, node::look, python::look, native::look].into_iter().filter_map(|look| look(folder)).collect();
    // A Makefile beside another build is most often a list of short cuts, and scripts beside a build are its own affair.
    if found.is_empty() {
        found.extend(make::look(folder));
    }
    if found.is_empty() {
        found.extend(shell::look(folder));
    }
    distinct(&mut found);
    found
}

/// Jobs of two kinds must not have one name: the later gets a number.
fn distinct(kinds: &mut [Kind]) {
    let mut seen = BTreeSet::new();
    for job in kinds.iter_mut().flat_map(|kind| &mut kind.jobs) {
        let (name, mut count) = (job.name.clone(), 2);
        while !seen.insert((job.stage, job.name.clone())) {
            job.name = format!("{name}-{count}");
            count += 1;
        }
    }
}

/// Folders below the top that have a build file of their own, where the top has none.
pub(super) fn below(folder: &Folder) -> BTreeSet<&str> {
    const FILES: [&str; 9] =
        ["Cargo.toml", "go.mod", "pom.xml", "build.gradle", "package.json", "pyproject.toml", "setup.py", "CMakeLists.txt", "configure.ac"];
    let of = |path: &'_ str| path.rsplit_once('/').is_some_and(|(_, name)| FILES.contains(&name));
    folder.all(of).into_iter().filter_map(|path| Some(path.rsplit_once('/')?.0)).take(20).collect()
}
