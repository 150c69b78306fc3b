//! Builds with Gradle or Maven. Both build and test in one go.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    match folder.first(&["build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts"]) {
        Some(file) => Some(gradle(folder, file)),
        None => folder.has("pom.xml").then(|| maven(folder)),
    }
}

/// The wrapper that comes with the project, else the program of the machine.
fn program(folder: &Folder, wrapper: &str, otherwise: &str) -> String {
    match (folder.has(wrapper), folder.is_executable(wrapper)) {
        (true, true) => format!("./{wrapper}"),
        (true, false) => format!("sh {wrapper}"),
        _ => otherwise.to_owned(),
    }
}

fn gradle(folder: &Folder, file: &str) -> Kind {
    let line = format!("{} --gradle-user-home .gradle-home build", program(folder, "gradlew", "gradle"));
    let job = Job::new("test", "all", "Compiles everything and runs the tests.", &[&line]);
    let job = job.reporting("junit", "**/build/test-results/**/*.xml").cached("gradle", &[".gradle-home/caches"], file);
    let unsure = if folder.has("gradlew") {
        vec!["The wrapper fetches Gradle itself: runners need the network for that.".into()]
    } else {
        Vec::new()
    };
    Kind { says: "a Gradle build".into(), about: format!("a Gradle build ({file})"), jobs: vec![job], unsure }
}

fn maven(folder: &Folder) -> Kind {
    let line = format!("{} -B -Dmaven.repo.local=.m2 verify", program(folder, "mvnw", "mvn"));
    let job = Job::new("test", "all", "Compiles everything and runs the tests.", &[&line]);
    let job = job.reporting("junit", "**/target/surefire-reports/*.xml").cached("maven", &[".m2"], "pom.xml");
    Kind { says: "a Maven build".into(), about: "a Maven build (pom.xml)".into(), jobs: vec![job], unsure: Vec::new() }
}
