//! No file needs another that needs it: what two files need has a file of its own below both. Read from `use` lines,
//! from paths written out (`crate::…`, `super::…`, `child::…`), and from the console's imports; tests are left out.
//!
//! A re-export (`pub use`) is no need of its own: whoever uses it needs the file where the thing is.

use petgraph::Directed;
use petgraph::algo::tarjan_scc;
use petgraph::graphmap::GraphMap;
use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Who needs whom, and one thing that is taken.
type Needs = BTreeMap<(PathBuf, PathBuf), String>;

/// A module's path: the crate, then its names.
type Module = Vec<String>;

struct Source {
    file: PathBuf,
    /// Paths that it uses, each from the crate's root on.
    used: BTreeSet<Module>,
    /// Names that it re-exports → where they are.
    exported: BTreeMap<String, Module>,
}

pub(crate) fn check(root: &Path) -> Result<(), String> {
    let mut needs = rust(root)?;
    needs.extend(console(root)?);
    let files: Vec<&PathBuf> = needs.keys().flat_map(|(from, to)| [from, to]).collect::<BTreeSet<_>>().into_iter().collect();
    let place = |file: &PathBuf| files.binary_search(&file).unwrap_or_default();
    let graph: GraphMap<usize, (), Directed, std::hash::RandomState> = needs.keys().map(|(from, to)| (place(from), place(to))).collect();
    let circles: Vec<String> = tarjan_scc(&graph)
        .into_iter()
        .filter(|circle| circle.len() > 1)
        .map(|circle| {
            let within = |file: &PathBuf| circle.contains(&place(file));
            let name = |file: &PathBuf| file.strip_prefix(root).unwrap_or(file).display().to_string();
            let edges = needs.iter().filter(|((from, to), _)| within(from) && within(to));
            let lines = edges.map(|((from, to), what)| format!("{} takes {what} from {}", name(from), name(to)));
            lines.collect::<Vec<_>>().join("\n  ")
        })
        .collect();
    if circles.is_empty() {
        return Ok(());
    }
    Err(format!("files need each other; put what both need into a file of its own:\n  {}", circles.join("\n\n  ")))
}

fn files(folder: &Path, endings: &[&str], found: &mut Vec<PathBuf>) -> Result<(), String> {
    let entries = std::fs::read_dir(folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    for entry in entries.flatten() {
        let path = entry.path();
        if path.is_dir() {
            files(&path, endings, found)?;
        } else if path.extension().and_then(|ending| ending.to_str()).is_some_and(|ending| endings.contains(&ending)) {
            found.push(path);
        }
    }
    Ok(())
}

fn read(path: &Path) -> Result<String, String> {
    std::fs::read_to_string(path).map_err(|error| format!("{}: {error}", path.display()))
}

fn pattern(text: &str) -> Regex {
    Regex::new(text).unwrap_or_else(|error| panic!("{text}: {error}"))
}

fn rust(root: &Path) -> Result<Needs, String> {
    let mut sources: BTreeMap<Module, Source> = BTreeMap::new();
    let mut tests = BTreeSet::new();
    let crates = std::fs::read_dir(root.join("crates")).map_err(|error| error.to_string())?;
    for folder in crates.flatten().map(|entry| entry.path()).chain([root.join("xtask")]) {
        let mut found = Vec::new();
        files(&folder.join("src"), &["rs"], &mut found)?;
        let name = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        for file in found {
            let module = module(&name, &folder.join("src"), &file);
            let text = read(&file)?;
            for test in pattern(r"#\[cfg\(test\)\]\s*mod (\w+);").captures_iter(&text) {
                tests.insert([module.clone(), vec![test[1].to_owned()]].concat());
            }
            let source = source(file, &module, text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default());
            sources.insert(module, source);
        }
    }
    sources.retain(|module, _| !tests.contains(module));
    let mut needs = Needs::new();
    for source in sources.values() {
        for used in &source.used {
            if let Some(file) = resolved(&sources, used, 0).filter(|file| *file != source.file) {
                needs.insert((source.file.clone(), file), used.last().cloned().unwrap_or_default());
            }
        }
    }
    Ok(needs)
}

/// `crates/store/src/records/runs.rs` → store, records, runs.
fn module(name: &str, folder: &Path, file: &Path) -> Module {
    let inner = file.strip_prefix(folder).unwrap_or(file).with_extension("");
    let names = inner.iter().map(|part| part.to_string_lossy().into_owned());
    let own: Module = [name.to_owned()].into_iter().chain(names.filter(|part| !["mod", "lib", "main"].contains(&part.as_str()))).collect();
    own
}

fn source(file: PathBuf, module: &Module, text: &str) -> Source {
    let (mut used, mut exported) = (BTreeSet::new(), BTreeMap::new());
    let comments = pattern(r"(?m)//.*$");
    let text = comments.replace_all(text, "");
    let children: BTreeSet<String> =
        pattern(r"(?m)^\s*(?:pub(?:\([a-z]+\))? )?mod (\w+);").captures_iter(&text).map(|found| found[1].to_owned()).collect();
    let lines = pattern(r"(?ms)^\s*(pub(?:\([a-z]+\))? )?use ([^;]+);");
    for line in lines.captures_iter(&text) {
        for path in leaves(&line[2]) {
            let Some(path) = from_root(module, &children, &path) else { continue };
            match (line.get(1), path.last()) {
                (Some(_), Some(name)) => drop(exported.insert(name.clone(), path)),
                _ => drop(used.insert(path)),
            }
        }
    }
    let code = lines.replace_all(&text, "");
    for path in pattern(r"\b(?:crate|super|self)(?:::\w+)+").find_iter(&code) {
        used.extend(from_root(module, &children, &segments(path.as_str())));
    }
    for path in pattern(r"(?:^|[^:\w.])(\w+)((?:::\w+)+)").captures_iter(&code) {
        if children.contains(&path[1]) {
            used.extend(from_root(module, &children, &segments(&format!("{}{}", &path[1], &path[2]))));
        }
    }
    Source { file, used, exported }
}

fn segments(path: &str) -> Module {
    path.split("::").map(|part| part.trim().to_owned()).collect()
}

/// `a::{b, c::{d, e as f}}` → a::b, a::c::d, a::c::e.
fn leaves(tree: &str) -> Vec<Module> {
    let tree = tree.trim();
    let Some(open) = tree.find('{') else {
        let path = tree.split(" as ").next().unwrap_or_default();
        let mut path = segments(path);
        if path.last().is_some_and(|last| last == "self") {
            path.pop();
        }
        return vec![path];
    };
    let before = segments(tree[..open].trim_end_matches("::"));
    let inner = &tree[open + 1..tree.rfind('}').unwrap_or(tree.len())];
    let (mut parts, mut depth) = (vec![String::new()], 0);
    for c in inner.chars() {
        depth += i32::from(c == '{') - i32::from(c == '}');
        match (c, depth) {
            (',', 0) => parts.push(String::new()),
            (c, _) => parts.last_mut().into_iter().for_each(|part| part.push(c)),
        }
    }
    let inner = parts.iter().filter(|part| !part.trim().is_empty()).flat_map(|part| leaves(part));
    inner.map(|path| before.iter().cloned().chain(path).filter(|part| !part.is_empty()).collect()).collect()
}

/// A path as it is written in a module, from the crate's root on; none where it leads to another crate.
fn from_root(module: &Module, children: &BTreeSet<String>, path: &[String]) -> Option<Module> {
    let (mut at, mut rest) = (module.clone(), path);
    match path.first()?.as_str() {
        "crate" => {
            at.truncate(1);
            rest = &path[1..];
        }
        "self" => rest = &path[1..],
        "super" => {
            while let Some(("super", after)) = rest.split_first().map(|(first, after)| (first.as_str(), after)) {
                at.pop();
                rest = after;
            }
        }
        child if children.contains(child) => {}
        _ => return None,
    }
    Some(at.into_iter().chain(rest.iter().cloned()).collect())
}

/// The file where a path leads: of the innermost module on its way, or of what that re-exports.
fn resolved(sources: &BTreeMap<Module, Source>, path: &Module, depth: usize) -> Option<PathBuf> {
    let known = (1..=path.len()).rev().find(|length| sources.contains_key(&path[..*length]))?;
    let source = &sources[&path[..known]];
    let exported = path.get(known).and_then(|name| source.exported.get(name)).filter(|_| depth < 8);
    match exported {
        Some(target) => resolved(sources, target, depth + 1),
        None => Some(source.file.clone()),
    }
}

fn console(root: &Path) -> Result<Needs, String> {
    let mut found = Vec::new();
    files(&root.join("console/src"), &["ts", "tsx"], &mut found)?;
    let import = pattern(r"(?:from|import)\s*\(?\s*'(\.{1,2}/[^']+)'");
    let mut needs = Needs::new();
    for file in &found {
        for target in import.captures_iter(&read(file)?) {
            let path = file.parent().unwrap_or(root).join(&target[1]);
            let tried = ["ts", "tsx"].map(|ending| normal(&path.with_extension(ending)));
            needs.extend(tried.into_iter().filter(|path| found.contains(path)).map(|path| ((file.clone(), path), target[1].to_owned())));
        }
    }
    Ok(needs)
}

/// Without `..` in it.
fn normal(path: &Path) -> PathBuf {
    let mut out = PathBuf::new();
    for part in path.components() {
        match part {
            std::path::Component::ParentDir => drop(out.pop()),
            std::path::Component::CurDir => {}
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(folder: &Path, files: &[(&str, &str)]) {
        for (path, text) in files {
            let path = folder.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
    }

    #[test]
    fn circles_are_found_and_reexports_are_none() {
        let folder = std::env::temp_dir().join(format!("circles-{}", std::process::id()));
        let sound = [
            ("crates/a/src/lib.rs", "mod x;\nmod y;\npub use x::X;\nuse y::Y;\n"),
            ("crates/a/src/x.rs", "pub struct X;\n"),
            ("crates/a/src/y.rs", "use super::X;\n#[cfg(test)]\nmod tests {\n    use crate::main;\n}\n"),
            ("console/src/a.ts", "import { b } from './b';\n"),
            ("console/src/b.ts", "export const b = 1;\n"),
            ("xtask/src/main.rs", ""),
        ];
        write(&folder, &sound);
        assert_eq!(check(&folder), Ok(()));
        for (path, text, found) in [
            ("crates/a/src/x.rs", "use crate::{y::Y as Z};\npub struct X;\n", "crates/a/src/x.rs takes Y from crates/a/src/y.rs"),
            ("crates/a/src/x.rs", "pub struct X(super::y::Y);\n", "crates/a/src/x.rs takes Y from crates/a/src/y.rs"),
            ("crates/a/src/y.rs", "use crate::main;\n", "crates/a/src/y.rs takes main from crates/a/src/lib.rs"),
            ("console/src/b.ts", "import a from './a';\n", "console/src/b.ts takes ./a from console/src/a.ts"),
        ] {
            write(&folder, &sound);
            write(&folder, &[(path, text)]);
            let refused = check(&folder).unwrap_err();
            assert!(refused.contains(found), "{path}: {refused}");
        }
        std::fs::remove_dir_all(&folder).unwrap();
    }
}
