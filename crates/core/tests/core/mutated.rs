//! The corpus of wrong files, and right ones, with pieces changed at random: whatever comes, it is only wrong. How many
//! cases is said by ORDOTAXIS_CASES; `cargo xtask fuzz` asks for a million.

use ordotaxis_core::language::read;
use ordotaxis_core::order;
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, check, plan, svg};
use ordotaxis_core::template::Template;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use std::cell::Cell;
use std::time::{Duration, Instant};

/// No case may take longer; where a test shares its machine with others, it may wait for them.
const LONGEST: Duration = Duration::from_millis(if cfg!(debug_assertions) { 3_000 } else { 100 });

const PIECES: &[&str] = &[
    "[job.a.b]\n",
    "steps = [\"x\"]\n",
    "each = { n = [1, 2, 3] }\n",
    "takes = [\"a.b/c\"]\n",
    "if = 'touches(\"src/**\")'\n",
    "order = \"a > b\"\n",
    "follows = \"p\"\n",
    "[pattern.p]\n",
    "[stage.a]\n",
    "{each.n}",
    "{hash:**}",
    "{",
    "}}",
    "'",
    "\"",
    "[[",
    "]",
    "=",
    "\n",
    ",",
    "[starts]\n",
    "schedule = [\"* * * * *\"]\n",
    "\u{feff}",
    "é",
    "\0",
    "at_once = 1\n",
    "except = [{ n = 1 }]\n",
    "(((",
    ")",
    "&&",
    "!",
    ".all(x, x)",
    "1+",
    "upon = [\"failed\"]\n",
];

fn corpus() -> Vec<String> {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/wrong");
    let mut texts: Vec<String> = std::fs::read_dir(folder)
        .expect("a value")
        .flatten()
        .filter(|file| file.path().extension().is_some_and(|ext| ext == "toml"))
        .map(|file| std::fs::read_to_string(file.path()).expect("a value"))
        .filter(|text| text.len() < 2_000) // not the matrix that is too large: cut a little, it is 100,000 jobs
        .collect();
    texts.sort();
    for demo in ["tidegauge", "almanac", "stations", "patterns"] {
        texts.push(std::fs::read_to_string(format!("{}/../../demo/{demo}/ordotaxis.toml", env!("CARGO_MANIFEST_DIR"))).expect("a value"));
    }
    texts
}

#[derive(Debug, Clone)]
enum Cut {
    Remove(usize, usize),
    Insert(usize, usize),
    Copy(usize, usize, usize),
    Byte(usize, u8),
}

fn cut() -> impl Strategy<Value = Cut> {
    prop_oneof![
        (any::<usize>(), 1..40usize).prop_map(|(at, length)| Cut::Remove(at, length)),
        (any::<usize>(), 0..PIECES.len()).prop_map(|(at, piece)| Cut::Insert(at, piece)),
        (any::<usize>(), 1..80usize, any::<usize>()).prop_map(|(from, length, to)| Cut::Copy(from, length, to)),
        (any::<usize>(), any::<u8>()).prop_map(|(at, byte)| Cut::Byte(at, byte)),
    ]
}

fn mutated(text: &str, cuts: &[Cut]) -> String {
    let mut bytes = text.as_bytes().to_vec();
    for cut in cuts {
        let length = bytes.len().max(1);
        let within = |at: usize, many: usize, bytes: &[u8]| at % length..(at % length + many).min(bytes.len());
        match *cut {
            Cut::Remove(at, many) => drop(bytes.drain(within(at, many, &bytes))),
            Cut::Insert(at, piece) => drop(bytes.splice(at % length..at % length, PIECES[piece].bytes()).collect::<Vec<_>>()),
            Cut::Copy(from, many, to) => {
                let part = bytes[within(from, many, &bytes)].to_vec();
                drop(bytes.splice(to % length..to % length, part).collect::<Vec<_>>());
            }
            Cut::Byte(at, byte) => {
                if let Some(place) = bytes.get_mut(at % length) {
                    *place = byte;
                }
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// How long something takes. What took long is tried again: other processes may have had the cores.
fn quickest(work: impl Fn()) -> Duration {
    let timed = || {
        let begin = Instant::now();
        work();
        begin.elapsed()
    };
    let first = timed();
    if first < LONGEST { first } else { (0..9).map(|_| timed()).fold(first, Duration::min) }
}

fn all_of_it(text: &str) {
    let _ = check(text);
    let borrowed = BorrowedFiles::new();
    for blank in [Occasion::push("main"), Occasion::tag("v1")] {
        let occasion = Occasion { changed: Some(vec!["src/a.c".into()]), ..blank };
        if let Ok(planned) = plan(Source { text, name: "main", borrowed: &borrowed }, &occasion) {
            let _ = svg(&planned.plan);
            let stored = serde_json::to_string(&planned.plan).expect("a value");
            assert_eq!(serde_json::from_str::<ordotaxis_core::plan::Plan>(&stored).expect("a value"), planned.plan);
        }
    }
    for line in text.lines() {
        let _ = order::parse(line);
        let _ = Template::parse(line);
    }
}

#[test]
fn whatever_is_done_to_a_file_it_is_only_wrong() {
    let cases = std::env::var("ORDOTAXIS_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(2_000);
    let corpus = corpus();
    let longest = Cell::new(Duration::ZERO);
    let mut runner = TestRunner::new(Config { cases, failure_persistence: None, ..Config::default() });
    let many = (0..corpus.len(), prop::collection::vec(cut(), 1..6));
    let done = runner.run(&many, |(at, cuts)| {
        let text = mutated(&corpus[at], &cuts);
        let took = quickest(|| all_of_it(&text));
        longest.set(longest.get().max(took));
        prop_assert!(took < LONGEST, "{took:?} for\n{text}");
        Ok(())
    });
    println!("{cases} cases, the longest {:?}", longest.get());
    done.expect("a value");
}

/// Lines of an order, expressions and placeholders alone, made of their own signs.
#[test]
fn lines_expressions_and_placeholders_of_any_signs_are_only_wrong() {
    let cases = std::env::var("ORDOTAXIS_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(1_000);
    let mut runner = TestRunner::new(Config { cases, failure_persistence: None, ..Config::default() });
    let signs = "([(){}<>,.+*/%!=&|?:'\" a-c0-9\\[\\]-]|ref\\.branch|touches|==|&&|\\.exists\\(x, |each\\.n|\\{branch\\}|\\{hash:){0,60}";
    let done = runner.run(&signs, |text| {
        let quoted = text.replace('\\', "").replace("'''", "");
        let file =
            format!("language = 1\norder = '''{quoted}'''\n[env]\nA = '''{quoted}'''\n[job.a.b]\nsteps = ['x']\nif = '''{quoted}'''\n");
        let took = quickest(|| drop(check(&file)));
        prop_assert!(took < LONGEST, "{took:?} for {text}");
        let _ = read(&file);
        Ok(())
    });
    done.expect("a value");
}
