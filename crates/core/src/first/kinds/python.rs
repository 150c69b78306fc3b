//! Python projects: what they install for their tests, and how the tests are run.
//!
//! A virtual environment is called as `.venv/bin/python -m …` only: unlike its scripts that works wherever the job's folder
//! lies, so that it can be kept. What is in it is brought up to date each time.

use crate::first::folder::{Folder, word};
use crate::first::job::{Job, Kind};
use toml::{Table, Value};

/// What people call the things that tests need, most fitting first.
const NAMES: [&str; 6] = ["test", "tests", "testing", "dev", "develop", "all"];
const VENV: &str = "[ -x .venv/bin/python ] || python3 -m venv .venv";
/// Files that say what the project needs, where it is looked whether a tool is used.
const SAYING: [&str; 12] = [
    "pyproject.toml",
    "setup.cfg",
    "setup.py",
    "tox.ini",
    "pytest.ini",
    "requirements.txt",
    "requirements-dev.txt",
    "requirements-test.txt",
    "dev-requirements.txt",
    "test-requirements.txt",
    "requirements_dev.txt",
    "requirements/test.txt",
];

struct Project<'a> {
    folder: &'a Folder,
    pyproject: Table,
    said: String,
    /// Folders or files that hold tests, as the tools are told.
    tests: Vec<&'a str>,
    unsure: Vec<String>,
}

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let declared = folder.first(&["pyproject.toml", "setup.py", "setup.cfg", "requirements.txt"]);
    let sources = folder.all(|path| path.ends_with(".py"));
    let is_python = declared.is_some_and(|file| file != "pyproject.toml") || !sources.is_empty();
    if !is_python {
        return None;
    }
    let tests = folder.all(|path| path.rsplit('/').next().is_some_and(is_test_file));
    let pyproject = folder.toml("pyproject.toml").unwrap_or_default();
    let mut project = Project { folder, pyproject, said: folder.texts(&SAYING), tests, unsure: Vec::new() };
    let job = project.job(&sources);
    let unsure = project.unsure;
    let about = format!("a Python project{}", declared.map(|name| format!(" ({name})")).unwrap_or_default());
    Some(Kind { says: "a Python project".into(), about, jobs: vec![job], unsure })
}

fn is_test_file(name: &str) -> bool {
    name.ends_with(".py") && (name.starts_with("test_") || name.ends_with("_test.py") || name == "tests.py")
}

impl Project<'_> {
    fn job(&mut self, sources: &[&str]) -> Job {
        if let Some(job) = self.tox().or_else(|| self.nox()) {
            return job;
        }
        if self.tests.is_empty() {
            let compile = format!("python3 -m compileall -q {}", tops(sources).join(" "));
            self.unsure.push("No tests were found: the sources are only read.".into());
            return Job::new("check", "syntax", "Every source must be readable.", &[&compile]);
        }
        let mut steps = self.installs();
        let pytest = self.uses_pytest();
        let python = if steps.is_empty() && !pytest { "python3" } else { ".venv/bin/python" };
        if python != "python3" {
            steps.insert(0, VENV.to_owned());
        }
        let mut reports = Vec::new();
        if pytest {
            if !self.brings("pytest") {
                steps.push(".venv/bin/python -m pip install --quiet pytest".into());
            }
            reports.push(("junit", "out/tests.xml".to_owned()));
            let coverage = self.brings("pytest-cov").then(|| {
                reports.push(("cobertura", "out/coverage.xml".to_owned()));
                " --cov --cov-report=xml:out/coverage.xml"
            });
            steps.push(format!("{python} -m pytest --junitxml=out/tests.xml{}", coverage.unwrap_or_default()));
        } else {
            steps.push(format!("{python} -m unittest discover{}", self.unittest_place()));
        }
        let mut job = Job { steps, reports, ..Job::new("test", "unit", "Runs the tests.", &[]) };
        if python != "python3" {
            job = job.cached("venv", &[".venv"], self.key());
        }
        job
    }

    /// The steps that install what the tests need, in `.venv`.
    fn installs(&mut self) -> Vec<String> {
        let pip = |what: &str| format!(".venv/bin/python -m pip install --quiet {what}");
        let mut steps = Vec::new();
        if self.folder.has("uv.lock") {
            return vec![pip("uv"), ".venv/bin/python -m uv sync --frozen --all-extras".into()];
        }
        if self.folder.has("poetry.lock") {
            self.unsure.push("poetry installs all its groups that are not optional.".into());
            return vec![pip("poetry"), "VIRTUAL_ENV=$PWD/.venv .venv/bin/python -m poetry install --no-interaction".into()];
        }
        let files = self.requirements();
        if !files.is_empty() {
            steps.push(pip(&files.iter().map(|file| format!("-r {}", word(file))).collect::<Vec<_>>().join(" ")));
        }
        if self.is_package() {
            let extra = self.extra();
            steps.push(pip(&extra.map_or_else(|| "-e .".to_owned(), |extra| format!("-e '.[{extra}]'"))));
        }
        if let Some(group) = self.group() {
            steps.push(pip("'pip>=25.1'"));
            steps.push(pip(&format!("--group {}", word(&group))));
        }
        steps
    }

    /// Whether there is something to install, as the tools say it.
    fn is_package(&self) -> bool {
        let built = self.pyproject.contains_key("build-system") || self.pyproject.contains_key("project");
        built || self.folder.has("setup.py") || self.folder.read("setup.cfg").is_some_and(|text| text.contains("[metadata]"))
    }

    /// The optional dependencies of tests: PEP 621, or setuptools' own form.
    fn extra(&self) -> Option<String> {
        let optional = self.pyproject.get("project").and_then(|project| project.get("optional-dependencies"));
        let known = |name: &str| optional.and_then(Value::as_table).is_some_and(|table| table.contains_key(name)) || self.old_extra(name);
        NAMES.into_iter().find(|name| known(name)).map(str::to_owned)
    }

    fn old_extra(&self, name: &str) -> bool {
        let cfg = self.folder.read("setup.cfg").unwrap_or_default();
        let section = cfg.split("[options.extras_require]").nth(1).and_then(|rest| rest.split("\n[").next()).unwrap_or_default();
        let in_cfg = section.lines().any(|line| line.split_once('=').is_some_and(|(key, _)| key == name || key == format!("{name} ")));
        let setup = self.folder.read("setup.py").unwrap_or_default();
        let quoted = [format!("'{name}':"), format!("\"{name}\":")];
        in_cfg || setup.contains("extras_require") && quoted.iter().any(|key| setup.contains(key))
    }

    /// A group of dependencies: PEP 735.
    fn group(&self) -> Option<String> {
        let groups = self.pyproject.get("dependency-groups")?.as_table()?;
        NAMES.into_iter().find(|name| groups.contains_key(*name)).map(str::to_owned)
    }

    /// Files of requirements: the project's own where it is no package, and those for its tests.
    fn requirements(&self) -> Vec<&str> {
        let own = self.folder.first(&["requirements.txt", "requirements/base.txt"]).filter(|_| !self.is_package());
        let for_tests = |path: &str| {
            let stem = path.strip_suffix(".txt").unwrap_or_default();
            let (folder, name) = stem.rsplit_once('/').unwrap_or(("", stem));
            let words: Vec<&str> = name.split(['-', '_']).collect();
            let named = words.iter().any(|word| NAMES[..4].contains(word));
            named && (words.contains(&"requirements") || folder == "requirements")
                || matches!(path, "tests/requirements.txt" | "test/requirements.txt")
        };
        let tests = self.folder.all(for_tests);
        // One for tests is enough: a file for developers most often names it.
        let test = tests.iter().find(|path| path.contains("test")).or(tests.first());
        own.into_iter().chain(test.copied()).collect()
    }

    fn uses_pytest(&self) -> bool {
        let written = || {
            self.tests
                .iter()
                .take(50)
                .any(|path| self.folder.read(path).is_some_and(|text| text.contains("import pytest") || text.contains("from pytest")))
        };
        let bare = || !self.tests.iter().take(50).any(|path| self.folder.read(path).is_some_and(|text| text.contains("unittest")));
        self.brings("pytest")
            || self.said.contains("[pytest]")
            || !self.folder.all(|path| path.ends_with("conftest.py")).is_empty()
            || written()
            || bare()
    }

    /// Whether what is installed for the tests brings a tool.
    fn brings(&self, tool: &str) -> bool {
        let is_part = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        self.installed().split(|c: char| !is_part(c)).any(|word| word == tool)
    }

    /// What `installs` asks for, as it is written.
    fn installed(&self) -> String {
        if self.folder.has("uv.lock") || self.folder.has("poetry.lock") {
            return self.folder.read("pyproject.toml").unwrap_or_default();
        }
        let mut asked = self.folder.texts(&self.requirements());
        let project = self.pyproject.get("project");
        let own = project.and_then(|project| project.get("dependencies"));
        let extra = self.extra();
        let optional = project.and_then(|project| project.get("optional-dependencies"));
        let extra_of = extra.as_ref().and_then(|name| optional?.get(name));
        let group = self.group().and_then(|name| self.pyproject.get("dependency-groups")?.get(&name));
        for list in [own, extra_of, group].into_iter().flatten() {
            asked += &format!("\n{list}");
        }
        if extra_of.is_none() && extra.is_some() {
            asked += &self.folder.texts(&["setup.cfg", "setup.py"]);
        }
        asked.lines().filter(|line| !line.trim_start().starts_with('#')).collect::<Vec<_>>().join("\n")
    }

    /// Where `unittest` looks.
    fn unittest_place(&self) -> String {
        match self.tests.iter().filter_map(|path| path.split_once('/')).map(|(top, _)| top).next() {
            Some(top) if self.tests.iter().all(|path| path.contains('/')) => format!(" -s {} -t .", word(top)),
            _ => String::new(),
        }
    }

    fn key(&self) -> &'static str {
        let files = ["uv.lock", "poetry.lock", "requirements.txt", "pyproject.toml", "setup.cfg", "setup.py"];
        self.folder.first(&files).map_or("**/*.py", |found| files.into_iter().find(|file| *file == found).unwrap_or("**/*.py"))
    }

    fn tox(&mut self) -> Option<Job> {
        let in_pyproject = self.pyproject.get("tool").and_then(|tool| tool.get("tox")).is_some();
        let file = self.folder.first(&["tox.ini", "tox.toml"]).or(in_pyproject.then_some("pyproject.toml"))?;
        let text = self.folder.read(file).unwrap_or_default();
        let mut run = ".venv/bin/python -m tox run".to_owned();
        if text.contains("[testenv]") || text.contains("env_run_base") {
            run += " -e py";
            self.unsure.push(format!("Of the environments in {file} only `py` is run, with the runner's own Python; cells with tools = {{ python3 = … }} run more."));
        }
        let mut job = Job::new("test", "tox", "Runs the tests as tox does.", &[VENV, ".venv/bin/python -m pip install --quiet tox"]);
        if text.contains("posargs") && text.contains("pytest") {
            run += " -- --junitxml=out/tests.xml";
            job = job.reporting("junit", "out/tests.xml");
        }
        job.steps.push(run);
        Some(job.cached("tox", &[".venv", ".tox"], file))
    }

    fn nox(&mut self) -> Option<Job> {
        let text = self.folder.read("noxfile.py")?;
        let session = ["tests", "test", "unit"].into_iter().find(|name| text.contains(&format!("def {name}(")));
        if session.is_none() {
            self.unsure.push("Which session of noxfile.py runs the tests: all are run.".into());
        }
        let run = format!(".venv/bin/python -m nox{}", session.map(|name| format!(" --session {name}")).unwrap_or_default());
        let steps = [VENV, ".venv/bin/python -m pip install --quiet nox", &run];
        // Its own environments are not kept: their scripts name the folder that they were made in.
        Some(Job::new("test", "nox", "Runs the tests as nox does.", &steps).cached("nox", &[".venv"], "noxfile.py"))
    }
}

/// The folders and files at the top that hold these sources.
fn tops(sources: &[&str]) -> Vec<String> {
    let mut tops: Vec<&str> = sources.iter().map(|path| path.split_once('/').map_or(*path, |(top, _)| top)).collect();
    tops.dedup();
    tops.into_iter().map(word).collect()
}
