//! What a folder holds: build files, tests, lock files. One function a kind of project; to add one, write it and name it
//! in [`look`].

use serde_json::Value;
use std::path::Path;

/// One kind of project that was found, as jobs.
pub(super) struct Kind {
    /// For the person: `a Cargo package with tests`.
    pub(super) says: String,
    /// For the file's comments.
    pub(super) about: String,
    pub(super) jobs: Vec<Job>,
}

#[derive(Default)]
pub(super) struct Job {
    pub(super) stage: &'static str,
    pub(super) name: String,
    pub(super) comment: String,
    pub(super) steps: Vec<String>,
    /// Name and globs.
    pub(super) gives: Vec<(String, Vec<String>)>,
    /// Folders to keep, and the files whose contents name the entry.
    pub(super) cache: Option<(Vec<String>, String)>,
}

impl Job {
    fn new(stage: &'static str, name: &str, comment: &str, steps: &[&str]) -> Job {
        Job {
            stage,
            name: name.into(),
            comment: comment.into(),
            steps: steps.iter().map(|step| (*step).to_owned()).collect(),
            ..Job::default()
        }
    }

    fn cached(mut self, paths: &[&str], files: &str) -> Job {
        self.cache = Some((paths.iter().map(|path| (*path).to_owned()).collect(), files.to_owned()));
        self
    }
}

/// Everything found, the main kind first.
pub(super) fn look(folder: &Path) -> Vec<Kind> {
    let kinds = [cargo, go, jvm, node, python, cmake, make, shell];
    let mut found = Vec::new();
    for kind in kinds {
        // Scripts beside a build are its own affair, and a Makefile beside CMake is made by it.
        let is_rest = found.iter().any(|_: &Kind| true) && std::ptr::fn_addr_eq(kind, shell as fn(&Path) -> Option<Kind>);
        if !is_rest && let Some(kind) = kind(folder) {
            found.push(kind);
        }
    }
    distinct(&mut found);
    found
}

/// Jobs of two kinds must not have one name: the later gets its kind's word behind it.
fn distinct(kinds: &mut [Kind]) {
    let mut seen = std::collections::BTreeSet::new();
    for kind in kinds {
        for job in &mut kind.jobs {
            let name = job.name.clone();
            let mut count = 2;
            while !seen.insert((job.stage, job.name.clone())) {
                job.name = format!("{name}-{count}");
                count += 1;
            }
        }
    }
}

fn has(folder: &Path, name: &str) -> bool {
    folder.join(name).exists()
}

fn read(folder: &Path, name: &str) -> Option<String> {
    std::fs::read_to_string(folder.join(name)).ok()
}

/// Files right in a folder whose names fit.
fn files(folder: &Path, fits: impl Fn(&str) -> bool) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries
        .filter(|entry| entry.path().is_file())
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .filter(|name| fits(name))
        .collect();
    names.sort();
    names
}

/// How a file's value names a cache: by the lock file where there is one.
fn lock<'a>(folder: &Path, locks: &[&'a str], otherwise: &'a str) -> &'a str {
    locks.iter().find(|lock| has(folder, lock)).copied().unwrap_or(otherwise)
}

fn cargo(folder: &Path) -> Option<Kind> {
    let manifest = read(folder, "Cargo.toml")?;
    let locked = if has(folder, "Cargo.lock") { " --locked" } else { "" };
    let whole = if manifest.contains("[workspace]") { " --workspace" } else { "" };
    let (build, test) = (format!("cargo build{whole}{locked}"), format!("cargo test{whole}{locked}"));
    let key = lock(folder, &["Cargo.lock"], "**/Cargo.toml");
    let jobs = vec![
        Job::new("build", "debug", "Builds everything.", &[&build]).cached(&["target"], key),
        Job::new("test", "unit", "Builds and runs the tests.", &[&test]).cached(&["target"], key),
    ];
    let what = if whole.is_empty() { "a Cargo package" } else { "a Cargo workspace" };
    Some(Kind { says: what.into(), about: format!("{what} (Cargo.toml)"), jobs })
}

fn make(folder: &Path) -> Option<Kind> {
    if has(folder, "CMakeLists.txt") {
        return None;
    }
    let name = ["GNUmakefile", "Makefile", "makefile"].into_iter().find(|name| has(folder, name))?;
    let text = read(folder, name)?;
    let target = |wanted: &str| {
        text.lines().any(|line| {
            line.split_once(':').is_some_and(|(names, rest)| {
                !rest.starts_with('=') && !names.starts_with(['\t', '#', '.']) && names.split_whitespace().any(|name| name == wanted)
            })
        })
    };
    let build = if target("all") { "make all" } else { "make" };
    let mut jobs = vec![Job::new("build", "make", "Builds what the Makefile builds first.", &[build])];
    let test = ["test", "check", "tests"].into_iter().find(|name| target(name));
    if let Some(test) = test {
        jobs.push(Job::new("test", "unit", "Runs the Makefile's tests.", &[&format!("make {test}")]));
    }
    let tests = if test.is_some() { " with tests" } else { "" };
    Some(Kind { says: format!("a Makefile{tests}"), about: format!("a build with make ({name}){tests}"), jobs })
}

fn cmake(folder: &Path) -> Option<Kind> {
    let text = read(folder, "CMakeLists.txt")?;
    let configure = "cmake -S . -B out";
    let mut jobs = vec![Job::new("build", "cmake", "Configures and builds in the folder out.", &[configure, "cmake --build out"])];
    let tests = text.contains("enable_testing") || text.contains("include(CTest)");
    if tests {
        jobs.push(Job::new(
            "test",
            "unit",
            "Runs the tests that CMake knows.",
            &[configure, "cmake --build out", "cd out && ctest --output-on-failure"],
        ));
    }
    Some(Kind { says: "a CMake project".into(), about: "a CMake project (CMakeLists.txt)".into(), jobs })
}

fn python(folder: &Path) -> Option<Kind> {
    let sources = files(folder, |name| name.ends_with(".py"));
    let declared = ["pyproject.toml", "setup.py", "setup.cfg", "requirements.txt"].into_iter().find(|name| has(folder, name));
    if declared.is_none() && sources.is_empty() {
        return None;
    }
    let uses = |word: &str| {
        ["pyproject.toml", "requirements.txt", "requirements-dev.txt", "setup.cfg", "tox.ini"]
            .iter()
            .any(|name| read(folder, name).is_some_and(|text| text.contains(word)))
    };
    let mut prepare: Vec<&str> = Vec::new();
    let key = lock(folder, &["poetry.lock", "uv.lock", "requirements.txt", "pyproject.toml"], "**/*.py");
    let needs = read(folder, "requirements.txt")
        .is_some_and(|text| text.lines().any(|line| !line.trim().is_empty() && !line.trim_start().starts_with('#')));
    if needs || uses("pytest") {
        prepare.push("python3 -m venv .venv");
    }
    if needs {
        prepare.push(".venv/bin/pip install --quiet -r requirements.txt");
    }
    let python = if prepare.is_empty() { "python3" } else { ".venv/bin/python" };
    let syntax = Job::new("check", "syntax", "Every source must be readable.", &["python3 -m compileall -q ."]);
    let mut jobs = vec![syntax];
    let in_root = sources.iter().any(|name| name.starts_with("test_"));
    let folder_name = ["tests", "test"].into_iter().find(|name| folder.join(name).is_dir());
    if in_root || folder_name.is_some() {
        let mut steps: Vec<String> = prepare.iter().map(|step| (*step).to_owned()).collect();
        if uses("pytest") {
            steps.push(format!("{python} -m pip install --quiet pytest"));
            steps.push(format!("{python} -m pytest --junitxml=out/tests.xml"));
        } else {
            let start = folder_name.filter(|_| !in_root).map(|name| format!(" -s {name} -t .")).unwrap_or_default();
            steps.push(format!("{python} -m unittest discover{start}"));
        }
        let mut job = Job { stage: "test", name: "unit".into(), comment: "Runs the tests.".into(), steps, ..Job::default() };
        if !prepare.is_empty() {
            job = job.cached(&[".venv"], key);
        }
        jobs.push(job);
    }
    Some(Kind {
        says: "a Python project".into(),
        about: format!("a Python project{}", declared.map(|name| format!(" ({name})")).unwrap_or_default()),
        jobs,
    })
}

fn node(folder: &Path) -> Option<Kind> {
    let package: Value = serde_json::from_str(&read(folder, "package.json")?).unwrap_or(Value::Null);
    let script = |name: &str| package["scripts"][name].as_str().is_some_and(|text| !text.contains("no test specified"));
    let needs = ["dependencies", "devDependencies"].iter().any(|key| package[key].as_object().is_some_and(|list| !list.is_empty()));
    let (install, key) = match () {
        () if has(folder, "package-lock.json") => ("npm ci", "package-lock.json"),
        () if has(folder, "pnpm-lock.yaml") => ("pnpm install --frozen-lockfile", "pnpm-lock.yaml"),
        () if has(folder, "yarn.lock") => ("yarn install --immutable", "yarn.lock"),
        () => ("npm install", "package.json"),
    };
    let job = |stage: &'static str, name: &str, comment: &str, run: &str| {
        let steps: Vec<&str> = [install].into_iter().filter(|_| needs).chain([run]).collect();
        let job = Job::new(stage, name, comment, &steps);
        if needs { job.cached(&["node_modules"], key) } else { job }
    };
    let mut jobs = Vec::new();
    if script("lint") {
        jobs.push(job("check", "lint", "Looks at the sources.", "npm run lint"));
    }
    if script("build") {
        let mut build = job("build", "package", "Builds what `npm run build` builds.", "npm run build");
        build.gives = ["dist", "build"]
            .iter()
            .filter(|name| read(folder, ".gitignore").is_some_and(|text| text.contains(*name)))
            .take(1)
            .map(|name| ((*name).to_owned(), vec![format!("{name}/**")]))
            .collect();
        jobs.push(build);
    }
    if script("test") {
        jobs.push(job("test", "unit", "Runs the tests.", "npm test"));
    }
    if jobs.is_empty() {
        let main = package["main"].as_str().unwrap_or("index.js").to_owned();
        jobs.push(Job::new("check", "syntax", "The main file must be readable.", &[&format!("node --check {main}")]));
    }
    Some(Kind { says: "a Node package".into(), about: "a Node package (package.json)".into(), jobs })
}

fn go(folder: &Path) -> Option<Kind> {
    if !has(folder, "go.mod") {
        return None;
    }
    let jobs = vec![
        Job::new("check", "vet", "Looks at the sources.", &["go vet ./..."]),
        Job::new("build", "all", "Builds everything.", &["go build ./..."]),
        Job::new("test", "unit", "Runs the tests.", &["go test ./..."]),
    ];
    Some(Kind { says: "a Go module".into(), about: "a Go module (go.mod)".into(), jobs })
}

fn jvm(folder: &Path) -> Option<Kind> {
    let gradle = ["build.gradle", "build.gradle.kts"].into_iter().find(|name| has(folder, name));
    let (command, goal, says, key, kept) = match gradle {
        Some(name) => {
            (if has(folder, "gradlew") { "./gradlew" } else { "gradle" }, ("assemble", "check"), "a Gradle build", name, ".gradle")
        }
        None if has(folder, "pom.xml") => {
            (if has(folder, "mvnw") { "./mvnw -B" } else { "mvn -B" }, ("compile", "verify"), "a Maven build", "pom.xml", ".m2")
        }
        None => return None,
    };
    let home = if gradle.is_some() { " --gradle-user-home .gradle" } else { " -Dmaven.repo.local=.m2" };
    let jobs = vec![
        Job::new("build", "classes", "Compiles everything.", &[&format!("{command}{home} {}", goal.0)]).cached(&[kept], key),
        Job::new("test", "unit", "Runs the tests.", &[&format!("{command}{home} {}", goal.1)]).cached(&[kept], key),
    ];
    Some(Kind { says: says.into(), about: format!("{says} ({key})"), jobs })
}

fn shell(folder: &Path) -> Option<Kind> {
    let mut scripts: Vec<(String, bool)> = Vec::new();
    for place in ["", "tools", "scripts", "bin", "tests", "test"] {
        let path = if place.is_empty() { folder.to_owned() } else { folder.join(place) };
        let prefix = if place.is_empty() { String::new() } else { format!("{place}/") };
        for name in files(&path, |name| name.ends_with(".sh")) {
            let is_test = name.starts_with("test") || place.starts_with("test");
            scripts.push((format!("{prefix}{name}"), is_test));
        }
    }
    if scripts.is_empty() {
        return None;
    }
    let syntax: Vec<String> = scripts
        .iter()
        .map(|(name, _)| {
            let bash = read(folder, name).is_some_and(|text| text.lines().next().is_some_and(|line| line.contains("bash")));
            format!("{} -n {name}", if bash { "bash" } else { "sh" })
        })
        .collect();
    let mut jobs = vec![Job {
        stage: "check",
        name: "syntax".into(),
        comment: "Every script must be readable.".into(),
        steps: syntax,
        ..Job::default()
    }];
    let tests: Vec<String> = scripts
        .iter()
        .filter(|(_, is_test)| *is_test)
        .map(|(name, _)| {
            let bash = read(folder, name).is_some_and(|text| text.lines().next().is_some_and(|line| line.contains("bash")));
            format!("{} {name}", if bash { "bash" } else { "sh" })
        })
        .collect();
    if !tests.is_empty() {
        jobs.push(Job {
            stage: "test",
            name: "scripts".into(),
            comment: "Runs the scripts that are tests.".into(),
            steps: tests,
            ..Job::default()
        });
    }
    Some(Kind { says: "shell scripts".into(), about: "shell scripts".into(), jobs })
}
