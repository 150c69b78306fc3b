//! C and the like: CMake, Meson, and the GNU tools. Each configures, builds and tests in one job: what was built lies in a
//! folder that is only good where it was configured.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    cmake(folder).or_else(|| meson(folder)).or_else(|| autotools(folder))
}

fn kind(says: &str, file: &str, job: Job) -> Option<Kind> {
    Some(Kind { says: says.into(), about: format!("{says} ({file})"), jobs: vec![job], unsure: Vec::new() })
}

fn cmake(folder: &Folder) -> Option<Kind> {
    let text = folder.read("CMakeLists.txt")?.to_lowercase();
    let mut job =
        Job::new("build", "cmake", "Configures and builds in the folder out.", &["cmake -S . -B out", "cmake --build out --parallel"]);
    let called =
        |name: &str| text.lines().any(|line| line.trim_start().strip_prefix(name).is_some_and(|rest| rest.trim_start().starts_with('(')));
    let includes = || text.replace(' ', "").contains("include(ctest)");
    if called("enable_testing") || includes() {
        job.comment = "Configures and builds in the folder out, and runs the tests that CMake knows.".into();
        job.steps.push("cd out && ctest --output-on-failure --output-junit tests.xml".into());
        job = job.reporting("junit", "out/tests.xml");
    }
    kind("a CMake project", "CMakeLists.txt", job)
}

fn meson(folder: &Folder) -> Option<Kind> {
    let text = folder.read("meson.build")?;
    let mut job = Job::new("build", "meson", "Configures and builds in the folder out.", &["meson setup out", "meson compile -C out"]);
    if text.contains("test(")
        || folder.all(|path| path.ends_with("/meson.build")).into_iter().any(|path| folder.texts(&[path]).contains("test("))
    {
        job.comment = "Configures and builds in the folder out, and runs the tests that Meson knows.".into();
        job.steps.push("meson test -C out".into());
        job = job.reporting("junit", "out/meson-logs/testlog.junit.xml");
    }
    kind("a Meson project", "meson.build", job)
}

fn autotools(folder: &Folder) -> Option<Kind> {
    let file = folder.first(&["configure.ac", "configure.in", "configure"])?;
    let mut steps = Vec::new();
    if !folder.has("configure") {
        steps.push(if folder.has("autogen.sh") { "NOCONFIGURE=1 sh autogen.sh" } else { "autoreconf --install" });
    }
    steps.extend([if folder.is_executable("configure") || !folder.has("configure") { "./configure" } else { "sh configure" }, "make"]);
    let made: Vec<&str> = folder.all(|path| path.ends_with("Makefile.am") || path.ends_with("Makefile.in"));
    let tests = made.into_iter().any(|path| {
        folder.texts(&[path]).lines().any(|line| line.starts_with("TESTS") || line.starts_with("check:") || line.starts_with("check_"))
    });
    let mut job = Job::new("build", "all", "Configures and builds.", &steps);
    if tests {
        job.comment = "Configures, builds and runs the tests.".into();
        job.steps.push("make check".into());
    }
    kind("a build with configure and make", file, job)
}
