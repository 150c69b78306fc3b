//! Node packages and workspaces: one job installs the modules, the others take them.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};
use serde_json::Value;

/// What installs modules exactly as locked, and runs a script.
struct Manager {
    program: &'static str,
    install: &'static str,
    lock: &'static str,
    /// Its own store of packages, where the install command can be told one.
    store: Option<&'static str>,
}

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let package: Value = serde_json::from_str(&folder.read("package.json")?).unwrap_or(Value::Null);
    let manager = manager(folder);
    let mut kind = Kind { says: "a Node package".into(), about: "a Node package (package.json)".into(), ..Kind::default() };
    if !package["workspaces"].is_null() || folder.has("pnpm-workspace.yaml") {
        kind.says = "a Node workspace".into();
        kind.about = "a Node workspace (package.json)".into();
    }
    kind.jobs = scripts(folder, &package, &manager);
    if kind.jobs.is_empty() {
        kind.jobs.push(Job::new(
            "check",
            "syntax",
            "The main file must be readable.",
            &[&format!("node --check {}", main(folder, &package))],
        ));
        kind.unsure.push("package.json has no script that builds or tests something.".into());
    } else if needs_modules(&package) {
        with_modules(&mut kind, &manager);
    }
    if manager.install == "npm install" && needs_modules(&package) {
        kind.unsure.push("There is no lock file in git: each run takes the newest versions that fit.".into());
    }
    if let Some(version) = folder.first(&[".nvmrc", ".node-version"]).and_then(|file| folder.read(file)) {
        let version = version.trim().trim_start_matches('v');
        kind.unsure
            .push(format!("The project wants Node {version}: tools = {{ node = \"{version}\" }} gives jobs to runners that have it."));
    }
    Some(kind)
}

fn manager(folder: &Folder) -> Manager {
    match folder.first(&["package-lock.json", "npm-shrinkwrap.json", "pnpm-lock.yaml", "yarn.lock"]) {
        Some("pnpm-lock.yaml") => {
            Manager { program: "pnpm", install: "pnpm install --frozen-lockfile", lock: "pnpm-lock.yaml", store: None }
        }
        Some("yarn.lock") if folder.read("yarn.lock").is_some_and(|text| text.contains("__metadata")) => {
            Manager { program: "yarn", install: "yarn install --immutable", lock: "yarn.lock", store: None }
        }
        Some("yarn.lock") => Manager { program: "yarn", install: "yarn install --frozen-lockfile", lock: "yarn.lock", store: None },
        Some("npm-shrinkwrap.json") => Manager { program: "npm", install: "npm ci", lock: "npm-shrinkwrap.json", store: Some(".npm") },
        Some(_) => Manager { program: "npm", install: "npm ci", lock: "package-lock.json", store: Some(".npm") },
        None => Manager { program: "npm", install: "npm install", lock: "package.json", store: Some(".npm") },
    }
}

fn needs_modules(package: &Value) -> bool {
    let some = |key: &str| package[key].as_object().is_some_and(|list| !list.is_empty());
    ["dependencies", "devDependencies", "optionalDependencies"].into_iter().any(some) || !package["workspaces"].is_null()
}

fn main(folder: &Folder, package: &Value) -> String {
    let named = package["main"].as_str().filter(|file| folder.has(file));
    let first = || folder.all(|path| [".js", ".mjs", ".cjs"].iter().any(|end| path.ends_with(end))).first().map(|path| (*path).to_owned());
    let file = named.map(str::to_owned).or_else(first).unwrap_or_else(|| "index.js".into());
    crate::first::folder::word(&file)
}

/// A job for each script of a usual name that is there and does something.
fn scripts(folder: &Folder, package: &Value, manager: &Manager) -> Vec<Job> {
    let script = |name: &str| package["scripts"][name].as_str().filter(|text| !text.contains("no test specified"));
    let run = |name: &str| format!("{} run {name}", manager.program);
    let mut jobs = Vec::new();
    for (name, job, comment) in [("lint", "lint", "Looks at the sources."), ("typecheck", "types", "Checks the types.")] {
        if script(name).is_some() {
            jobs.push(Job::new("check", job, comment, &[&run(name)]));
        }
    }
    if script("build").is_some() {
        let mut build = Job::new("build", "package", "Builds what the script `build` builds.", &[&run("build")]);
        let ignored = folder.read(".gitignore").unwrap_or_default();
        let written = ["dist", "build", "out", "lib"]
            .into_iter()
            .find(|name| ignored.lines().any(|line| line.trim_matches(['/', ' ', '*']) == *name));
        build.gives.extend(written.map(|name| (name.to_owned(), vec![format!("{name}/**")])));
        jobs.push(build);
    }
    if let Some(text) = script("test") {
        jobs.push(test(text, manager));
    }
    jobs
}

/// Where it is plain what the script runs, it also writes a report.
fn test(script: &str, manager: &Manager) -> Job {
    let job = Job::new("test", "unit", "Runs the tests.", &[]);
    let more = match script.trim() {
        "node --test" => {
            Some("--test-reporter=spec --test-reporter-destination=stdout --test-reporter=junit --test-reporter-destination=out/tests.xml")
        }
        "vitest run" => Some("--reporter=default --reporter=junit --outputFile.junit=out/tests.xml"),
        "mocha" => Some("--reporter xunit --reporter-option output=out/tests.xml"),
        _ => None,
    };
    match more {
        Some(more) => {
            let dashes = if manager.program == "npm" { "-- " } else { "" };
            let steps = vec!["mkdir -p out".to_owned(), format!("{} run test {dashes}{more}", manager.program)];
            Job { steps, ..job }.reporting("junit", "out/tests.xml")
        }
        None => Job { steps: vec![format!("{} run test", manager.program)], ..job },
    }
}

/// One job: it installs for itself. More: a job before them does, once as long as the lock file stays the same.
fn with_modules(kind: &mut Kind, manager: &Manager) {
    let install = match manager.store {
        Some(store) => format!("{} --cache {store}", manager.install),
        None => manager.install.to_owned(),
    };
    if let [only] = kind.jobs.as_mut_slice() {
        only.steps.insert(0, install);
        if let Some(store) = manager.store {
            let job = std::mem::take(only);
            *only = job.cached("packages", &[store], manager.lock);
        }
        return;
    }
    let mut first = Job::new("prepare", "modules", "Installs the modules once, for all jobs.", &[&install]);
    first.gives.push(("modules".into(), vec!["**/node_modules/**".into()]));
    first.reuse = ["**/package.json", manager.lock].map(str::to_owned).to_vec();
    first.reuse.dedup();
    kind.jobs.iter_mut().for_each(|job| job.takes.push("prepare.modules/modules".into()));
    kind.jobs.insert(0, first);
}
