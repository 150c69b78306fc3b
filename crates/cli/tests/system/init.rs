//! `init` on small trees shaped as real projects are: what it writes passes `check`, and passes when it is rehearsed.

use super::here::{folder, git, here};
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

/// Packages that `cargo xtask test` fetches, in place of an index.
const WHEELS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/tools/wheels");

type Files = Vec<(&'static str, String)>;

fn files(list: &[(&'static str, &str)]) -> Files {
    list.iter().map(|(name, text)| (*name, (*text).to_owned())).collect()
}

const C_MAIN: &str = "#include <stdio.h>\nint main(void) { puts(\"ebb\"); return 0; }\n";
const TIDE: &str = "LEVEL = 2\n";
const UNITTEST: &str = "import unittest\n\nimport tide\n\nclass Tide(unittest.TestCase):\n    def test_rises(self):\n        self.assertEqual(tide.LEVEL, 2)\n";
const PYTEST: &str = "import tide\n\ndef test_rises():\n    assert tide.LEVEL == 2\n";
const BUILT: &str = "[build-system]\nrequires = [\"setuptools\"]\nbuild-backend = \"setuptools.build_meta\"\n\n[project]\nname = \"tide\"\nversion = \"1\"\n";
const SRC: &str = "\n[tool.setuptools.packages.find]\nwhere = [\"src\"]\n";

/// The tree whose environment is kept.
const KEPT: &str = "optional dependencies";

/// A tree: its name, its files, what `init` says it found, and what has to stand in the file.
struct Tree {
    name: &'static str,
    files: Files,
    found: &'static str,
    written: &'static [&'static str],
    /// The environment that its steps need: Python packages come from a folder.
    python: bool,
}

fn tree(name: &'static str, list: &[(&'static str, &str)], found: &'static str, written: &'static [&'static str]) -> Tree {
    Tree { name, files: files(list), found, written, python: false }
}

fn python(name: &'static str, list: &[(&'static str, &str)], written: &'static [&'static str]) -> Tree {
    Tree { python: true, ..tree(name, list, "a Python project", written) }
}

fn cargo_trees() -> Vec<Tree> {
    let package = |name: &str| format!("[package]\nname = \"{name}\"\nversion = \"0.1.0\"\nedition = \"2021\"\n");
    let lock = "version = 4\n\n[[package]]\nname = \"gauge\"\nversion = \"0.1.0\"\n";
    let test = "#[test]\nfn rises() {}\n";
    let mut trees = vec![
        tree(
            "a package with a lock file",
            &[("Cargo.toml", &package("gauge")), ("Cargo.lock", lock), ("src/lib.rs", test)],
            "a Cargo package",
            &["cargo build --locked", "key   = \"cargo-{hash:Cargo.lock}\""],
        ),
        tree(
            "a workspace whose lock file git ignores",
            &[
                ("Cargo.toml", "[workspace]\nmembers = [\"gauge\", \"board\"]\nresolver = \"2\"\n"),
                ("gauge/Cargo.toml", &package("gauge")),
                ("gauge/src/lib.rs", test),
                ("board/Cargo.toml", &(package("board") + "[dependencies]\ngauge = { path = \"../gauge\" }\n")),
                ("board/src/main.rs", "fn main() {}\n"),
                (".gitignore", "/target\nCargo.lock\n"),
                ("Cargo.lock", "this one is not in git"),
            ],
            "a Cargo workspace",
            &["cargo test --workspace\"", "# Not sure: There is no Cargo.lock in git"],
        ),
    ];
    let active = Command::new("rustup").args(["show", "active-toolchain"]).output();
    if let Some(name) = active.ok().and_then(|out| String::from_utf8_lossy(&out.stdout).split_whitespace().next().map(str::to_owned)) {
        let pinned = format!("[toolchain]\nchannel = \"{name}\"\n");
        trees.push(tree(
            "a package with a toolchain",
            &[("Cargo.toml", &package("gauge")), ("Cargo.lock", lock), ("src/lib.rs", test), ("rust-toolchain.toml", &pinned)],
            "not sure: rust-toolchain.toml names a toolchain",
            &["# Not sure: rust-toolchain.toml names a toolchain"],
        ));
    }
    trees
}

fn native_trees() -> Vec<Tree> {
    let makefile = "CC ?= cc\nall: gauge\n\ngauge: gauge.c\n\t$(CC) -o $@ gauge.c\n\ntest: all\n\t./gauge | grep -q ebb\n";
    vec![
        tree("make", &[("Makefile", makefile), ("gauge.c", C_MAIN)], "a Makefile with tests", &["\"make all\"", "\"make test\""]),
        tree(
            "a Makefile that first says what it can do",
            &[("Makefile", ".PHONY: help clean\nhelp:\n\t@echo see below\nclean:\n\trm -rf out\ncheck:\n\ttest -f Makefile\n")],
            "not sure: No target of Makefile plainly builds something; it has: help, clean, check.",
            &["\"make check\"", "# Not sure: No target of Makefile"],
        ),
        tree(
            "autotools",
            &[
                (
                    "configure.ac",
                    "AC_INIT([gauge], [1])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAC_CONFIG_FILES([Makefile])\nAC_OUTPUT\n",
                ),
                ("Makefile.am", "bin_PROGRAMS = gauge\ngauge_SOURCES = gauge.c\nTESTS = try.sh\nEXTRA_DIST = try.sh\n"),
                ("gauge.c", C_MAIN),
                ("try.sh", "#!/bin/sh\n./gauge | grep -q ebb\n"),
            ],
            "a build with configure and make",
            &["\"autoreconf --install\"", "\"./configure\"", "\"make check\""],
        ),
        tree(
            "a configure script that came along",
            &[
                ("configure", "#!/bin/sh\nprintf 'all:\\n\\tcc -o gauge gauge.c\\n' > Makefile\n"),
                ("Makefile.in", "all:\n"),
                ("gauge.c", C_MAIN),
            ],
            "a build with configure and make",
            &["\"sh configure\"", "\"make\""],
        ),
        tree(
            "cmake",
            &[
                (
                    "CMakeLists.txt",
                    "cmake_minimum_required(VERSION 3.10)\nproject(gauge C)\nenable_testing()\nadd_executable(gauge gauge.c)\nadd_test(NAME says COMMAND gauge)\n",
                ),
                ("gauge.c", C_MAIN),
                ("Makefile", "all:\n\tfalse\n"),
            ],
            "a CMake project",
            &["cmake --build out --parallel", "junit = [\"out/tests.xml\"]"],
        ),
        tree(
            "meson",
            &[("meson.build", "project('gauge', 'c')\nexe = executable('gauge', 'gauge.c')\ntest('says', exe)\n"), ("gauge.c", C_MAIN)],
            "a Meson project",
            &["meson setup out", "meson test -C out"],
        ),
    ]
}

fn python_trees() -> Vec<Tree> {
    let pytest_ini = "[tool.pytest.ini_options]\naddopts = \"-q\"\n";
    let extras = format!("{BUILT}\n[project.optional-dependencies]\ndocs = []\ntest = [\"pytest\", \"pytest-cov\"]\n{SRC}");
    let groups = format!("{BUILT}\n[dependency-groups]\ntest = [\"pytest\"]\n{SRC}");
    let tox = "[tox]\nenvlist = py38,py311,lint\n[testenv]\ndeps = pytest\ncommands = pytest {posargs}\n";
    vec![
        tree(
            "python without anything to install",
            &[("tests/__init__.py", ""), ("tests/test_tide.py", UNITTEST), ("tide.py", TIDE)],
            "a Python project",
            &["python3 -m unittest discover -s tests -t ."],
        ),
        tree(
            "python without tests",
            &[("tide.py", TIDE), ("setup.py", "")],
            "not sure: No tests were found",
            &["compileall -q setup.py tide.py"],
        ),
        python(
            KEPT,
            &[("pyproject.toml", &extras), ("src/tide/__init__.py", TIDE), ("tests/test_tide.py", PYTEST)],
            &[
                "-e '.[test]'",
                "--cov-report=xml:out/coverage.xml",
                "cobertura = [\"out/coverage.xml\"]",
                "junit = [\"out/tests.xml\"]",
                "venv-{hash:pyproject.toml}",
            ],
        ),
        python(
            "dependency groups",
            &[("pyproject.toml", &groups), ("src/tide/__init__.py", TIDE), ("tests/test_tide.py", PYTEST)],
            &["--group test", "-m pytest"],
        ),
        python(
            "requirements",
            &[
                ("requirements.txt", "colorama\n"),
                ("requirements-dev.txt", "-r requirements.txt\npytest\n"),
                ("tide.py", TIDE),
                ("tests/test_tide.py", PYTEST),
                ("pyproject.toml", pytest_ini),
            ],
            &["-r requirements.txt -r requirements-dev.txt", "-m pytest"],
        ),
        python(
            "tox",
            &[
                ("tox.ini", tox),
                ("pyproject.toml", &(BUILT.to_owned() + SRC)),
                ("src/tide/__init__.py", TIDE),
                ("tests/test_tide.py", PYTEST),
            ],
            &["-m tox run -e py -- --junitxml=out/tests.xml", "# Not sure: Of the environments in tox.ini only `py` is run"],
        ),
    ]
}

fn node_trees() -> Vec<Tree> {
    let test = "require('node:test')('rises', () => { require('gauge-units'); });\n";
    let lock = "{\"name\":\"site\",\"version\":\"1.0.0\",\"lockfileVersion\":3,\"requires\":true,\"packages\":{\
        \"\":{\"name\":\"site\",\"version\":\"1.0.0\",\"dependencies\":{\"gauge-units\":\"file:units\"}},\
        \"node_modules/gauge-units\":{\"resolved\":\"units\",\"link\":true},\"units\":{\"name\":\"gauge-units\",\"version\":\"1.0.0\"}}}\n";
    let units = "{\"name\":\"gauge-units\",\"version\":\"1.0.0\",\"main\":\"units.js\"}";
    let site = |scripts: &str| {
        format!("{{\"name\":\"site\",\"version\":\"1.0.0\",\"scripts\":{{{scripts}}},\"dependencies\":{{\"gauge-units\":\"file:units\"}}}}")
    };
    let whole =
        site("\"lint\":\"node --check site.js\",\"build\":\"mkdir -p dist && node site.js > dist/index.html\",\"test\":\"node --test\"");
    let workspace_lock = "{\"name\":\"all\",\"version\":\"1.0.0\",\"lockfileVersion\":3,\"requires\":true,\"packages\":{\"\":{\"name\":\"all\",\"version\":\"1.0.0\",\"workspaces\":[\"units\"]},\
        \"node_modules/gauge-units\":{\"resolved\":\"units\",\"link\":true},\"units\":{\"name\":\"gauge-units\",\"version\":\"1.0.0\"}}}\n";
    let workspace = "{\"name\":\"all\",\"version\":\"1.0.0\",\"private\":true,\"workspaces\":[\"units\"],\"scripts\":{\"build\":\"node units/units.js\",\"test\":\"npm test --workspaces\"}}";
    vec![
        tree(
            "a package without dependencies",
            &[
                ("package.json", "{\"name\":\"gauge\",\"scripts\":{\"test\":\"node --test\"}}"),
                ("gauge.test.js", "require('node:test')('rises', () => {});\n"),
            ],
            "a Node package",
            &["--test-reporter-destination=out/tests.xml", "junit = [\"out/tests.xml\"]"],
        ),
        tree(
            "a package with three scripts",
            &[
                ("package.json", &whole),
                ("package-lock.json", lock),
                ("units/package.json", units),
                ("units/units.js", "module.exports = 'mm';\n"),
                ("site.js", "console.log(require('gauge-units'));\n"),
                ("site.test.js", test),
                (".gitignore", "node_modules\n/dist\n"),
            ],
            "a Node package",
            &[
                "[job.prepare.modules]",
                "takes = [\"prepare.modules/modules\"]",
                "reuse = { inputs = [\"**/package.json\", \"package-lock.json\"] }",
                "gives = { dist = [\"dist/**\"] }",
                "order = \"prepare > check, build > test\"",
            ],
        ),
        tree(
            "a package with one script",
            &[
                ("package.json", &site("\"test\":\"node site.test.js\"")),
                ("package-lock.json", lock),
                ("units/package.json", units),
                ("units/units.js", ""),
                ("site.test.js", test),
                (".gitignore", "node_modules\n"),
            ],
            "a Node package",
            &["\"npm ci --cache .npm\"", "packages-{hash:package-lock.json}"],
        ),
        tree(
            "a workspace",
            &[
                ("package.json", workspace),
                ("package-lock.json", workspace_lock),
                (
                    "units/package.json",
                    "{\"name\":\"gauge-units\",\"version\":\"1.0.0\",\"main\":\"units.js\",\"scripts\":{\"test\":\"node units.js\"}}",
                ),
                ("units/units.js", ""),
                (".gitignore", "node_modules\n"),
            ],
            "a Node workspace",
            &["npm run build", "npm run test"],
        ),
    ]
}

fn other_trees() -> Vec<Tree> {
    vec![
        tree(
            "shell",
            &[
                ("tools/table.sh", "#!/bin/sh\necho 1\n"),
                ("tests/test-table.sh", "sh tools/table.sh | grep -q 1\n"),
                ("tools/a name.sh", "#!/bin/bash\ntrue\n"),
            ],
            "shell scripts",
            &["sh -n tools/table.sh", "bash -n 'tools/a name.sh'"],
        ),
        tree(
            "bats",
            &[("table.sh", "#!/bin/sh\necho 1\n"), ("test/table.bats", "@test \"one\" {\n  run sh table.sh\n  [ \"$output\" = 1 ]\n}\n")],
            "shell scripts with bats",
            &["bats --recursive", "junit = [\"out/report.xml\"]"],
        ),
        tree("nothing", &[("README", "x\n")], "nothing to build", &["steps = [\"ls\"]"]),
        tree(
            "folders with builds of their own",
            &[("board/package.json", "{}"), ("gauge/Cargo.toml", "")],
            "nothing to build",
            &["# Not sure: these folders have builds of their own: board, gauge."],
        ),
    ]
}

/// Variables that lead pip to the folder of packages, put into a file that `init` wrote.
fn with_index(written: &str) -> String {
    let index = format!("[env]\nPIP_NO_INDEX = \"1\"\nPIP_FIND_LINKS = \"{WHEELS}\"\nPIP_NO_COMPILE = \"1\"\n\n[defaults]");
    written.replace("[defaults]", &index)
}

/// Writes a tree as a repository with one commit.
fn laid(tree: &Tree) -> TempDir {
    let list: Vec<(&str, &str)> = tree.files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let folder = folder(&list);
    git(folder.path(), &["init", "--quiet", "--initial-branch=main"]);
    if folder.path().join("try.sh").exists() {
        set_executable(&folder.path().join("try.sh"));
    }
    git(folder.path(), &["add", "--all"]);
    git(folder.path(), &["commit", "--quiet", "-m", "One"]);
    folder
}

fn set_executable(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).expect("a mode");
}

fn try_all(trees: Vec<Tree>) {
    for tree in trees {
        let (name, folder) = (tree.name, laid(&tree));
        let file = folder.path().join("ordotaxis.toml");
        let (code, printed, _) = here(folder.path(), &["init", "--print"]);
        assert!(code == 0 && !file.exists(), "{name}");
        let (code, out, err) = here(folder.path(), &["init"]);
        assert_eq!(code, 0, "{name}: {out}{err}");
        assert!(format!("{out}{err}").contains(tree.found), "{name}: {out}{err}");
        let written = std::fs::read_to_string(&file).expect("a file");
        assert_eq!(written, printed, "{name}");
        tree.written.iter().for_each(|words| assert!(written.contains(words), "{name}: {words} is missing in\n{written}"));
        let (code, out, err) = here(folder.path(), &["check"]);
        assert_eq!((code, err.trim()), (0, "ordotaxis.toml: nothing wrong"), "{name}: {out}\n{written}");
        if tree.python {
            std::fs::write(&file, with_index(&written)).expect("a file");
        }
        // The folder of packages is not seen from within a sandbox.
        let isolation: &[&str] = if tree.python { &["rehearse", "--isolation", "host"] } else { &["rehearse"] };
        let (code, out, err) = here(folder.path(), isolation);
        assert_eq!(code, 0, "{name}:\n{written}\n{out}{err}");
        let (code, _, err) = here(folder.path(), &["init"]);
        assert!(code == 2 && err.contains("there is an ordotaxis.toml already"), "{name}: {err}");
    }
}

#[test]
fn cargo_projects() {
    try_all(cargo_trees());
}

#[test]
fn c_projects() {
    try_all(native_trees());
}

#[test]
fn python_projects() {
    // That of the next test is rehearsed there.
    try_all(python_trees().into_iter().filter(|tree| tree.name != KEPT).collect());
}

#[test]
fn node_projects() {
    try_all(node_trees());
}

#[test]
fn shell_and_nothing() {
    try_all(other_trees());
}

/// Kept environments of Python are used again, also in another folder, and bring what changed.
#[test]
fn a_kept_environment_works_the_next_time() {
    let tree = python_trees().into_iter().find(|tree| tree.name == KEPT).expect("the tree");
    let folder = laid(&tree);
    assert_eq!(here(folder.path(), &["init"]).0, 0);
    assert_eq!(here(folder.path(), &["check"]).0, 0);
    let file = folder.path().join("ordotaxis.toml");
    let written = std::fs::read_to_string(&file).expect("a file");
    tree.written.iter().for_each(|words| assert!(written.contains(words), "{words} is missing in\n{written}"));
    std::fs::write(&file, with_index(&written)).expect("a file");
    let (code, out, err) = here(folder.path(), &["rehearse", "--isolation", "host", "--fresh"]);
    assert_eq!(code, 0, "{out}{err}");
    std::fs::write(folder.path().join("src/tide/__init__.py"), "LEVEL = 3\n").expect("a file");
    let keep = tempfile::tempdir().expect("a folder");
    let (code, out, _) = here(folder.path(), &["rehearse", "--isolation", "host", "--keep", &keep.path().display().to_string()]);
    assert_eq!(code, 1, "the changed source is the one that is tested: {out}");
    let log = std::fs::read_to_string(keep.path().join("logs/test.unit.log")).expect("a log");
    assert!(log.contains("restored from") && log.contains("assert 3 == 2"), "{log}");
}

#[test]
fn what_cannot_be_run_here_passes_check() {
    for (files, words) in [
        (vec![("go.mod", "module gauge\n\ngo 1.24\n")], vec!["go build ./...", "go test ./...", "tools = { go = \">=1.24\" }"]),
        (vec![("pom.xml", "<project/>")], vec!["mvn -B", "verify", "junit = [\"**/target/surefire-reports/*.xml\"]"]),
        (vec![("build.gradle", ""), ("gradlew", "")], vec!["sh gradlew", "build", "**/build/test-results/**/*.xml"]),
        (
            vec![
                ("package.json", "{\"scripts\":{\"test\":\"vitest run\",\"build\":\"y\"},\"devDependencies\":{\"a\":\"1\"}}"),
                ("pnpm-lock.yaml", ""),
                (".nvmrc", "v22\n"),
            ],
            vec!["pnpm install --frozen-lockfile", "--outputFile.junit=out/tests.xml", "tools = { node = \"22\" }"],
        ),
        (
            vec![("package.json", "{\"scripts\":{\"test\":\"x\"},\"dependencies\":{\"a\":\"1\"}}"), ("yarn.lock", "__metadata:\n")],
            vec!["yarn install --immutable"],
        ),
        (vec![("package.json", "no JSON {"), ("index.js", "")], vec!["node --check index.js"]),
        (
            vec![("pyproject.toml", "[tool.poetry]\nname='a'\n"), ("poetry.lock", ""), ("tests/test_a.py", "import pytest\n")],
            vec!["-m poetry install"],
        ),
        (
            vec![
                ("setup.cfg", "[metadata]\nname = tide\n[options.extras_require]\ndocs = sphinx\ntests = pytest\n"),
                ("setup.py", "from setuptools import setup\nsetup()\n"),
                ("tests/test_tide.py", PYTEST),
            ],
            vec!["-e '.[tests]'", "venv-{hash:setup.cfg}"],
        ),
        (
            vec![
                ("setup.cfg", "[tool:pytest]\nminversion = 2\npytest = it is only named\n"),
                ("setup.py", ""),
                ("test_a.py", "import pytest\n"),
            ],
            vec!["-m pip install --quiet pytest\"", "-m pytest"],
        ),
        (vec![("noxfile.py", "def tests(session):\n"), ("tests/test_tide.py", PYTEST)], vec!["-m nox --session tests"]),
        (vec![("noxfile.py", "def everything(session):\n"), ("a.py", "")], vec!["-m nox\"", "# Not sure: Which session of noxfile.py"]),
        (vec![("pyproject.toml", "no TOML ["), ("uv.lock", ""), ("test_a.py", "")], vec!["-m uv sync --frozen"]),
        (vec![("Cargo.toml", "[package]\nname='a'\n[dependencies]\nb='1'\n")], vec!["CARGO_HOME=$PWD/.cargo-home cargo build"]),
    ] {
        let folder = folder(&files);
        let (code, text, _) = here(folder.path(), &["init", "--print"]);
        assert_eq!(code, 0);
        words.iter().for_each(|word| assert!(text.contains(word), "{word} is missing in\n{text}"));
        std::fs::write(folder.path().join("ordotaxis.toml"), &text).expect("a file");
        let (code, out, err) = here(folder.path(), &["check"]);
        assert_eq!((code, err.trim()), (0, "ordotaxis.toml: nothing wrong"), "{out}\n{text}");
    }
}

/// A toolchain that is not there cannot be installed from within a sandbox: that is said, with what to do.
#[test]
fn a_missing_toolchain_is_named() {
    if !Command::new("rustup").arg("--version").output().is_ok_and(|output| output.status.success()) {
        return;
    }
    let place = folder(&[
        ("rust-toolchain.toml", "[toolchain]\nchannel = \"1.70.0\"\n"),
        ("ordotaxis.toml", "language = 1\n[job.build.it]\nsteps = [\"cargo --version\"]\n"),
    ]);
    let (code, out, _) = here(place.path(), &["rehearse", "--isolation", "sandbox"]);
    assert!(code == 1 && out.contains("1.70.0") && out.contains("run `rustup toolchain install`"), "{out}");
}
