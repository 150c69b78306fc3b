//! Text → plan for pipelines of many sizes, beside what cannot be done without: the TOML parse and one topological order.

use super::measure::{median, ms, row};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan_any_length};
use petgraph::algo::toposort;
use petgraph::graph::{DiGraph, NodeIndex};
use std::path::Path;
use std::process::Command;
use std::time::Instant;

const BACK: [usize; 3] = [1, 7, 31];

/// A pipeline of `count` jobs, each after up to three earlier ones.
fn wide_pipeline(count: usize) -> String {
    let mut text = String::from("language = 1\n");
    for job in 0..count {
        let after: Vec<String> = BACK.iter().filter(|back| **back <= job).map(|back| format!("\"a.j{}\"", job - back)).collect();
        text += &format!("[job.a.j{job}]\nsteps = [\"true\"]\nafter = [{}]\n", after.join(", "));
    }
    text
}

fn ours(text: &str, count: usize) {
    let borrowed = BorrowedFiles::new();
    let occasion = Occasion::by_hand();
    // Planning checks everything that `check` does.
    let planned = plan_any_length(Source { text, name: "main", borrowed: &borrowed }, &occasion).expect("a plan");
    assert_eq!(planned.plan.jobs.len(), count);
}

fn parse(text: &str) {
    let (table, errors) = toml::de::DeTable::parse_recoverable(text);
    assert!(errors.is_empty() && !table.get_ref().is_empty());
}

fn order(count: usize) {
    let mut graph = DiGraph::<(), (), u32>::with_capacity(count, count * 3);
    let nodes: Vec<NodeIndex> = (0..count).map(|_| graph.add_node(())).collect();
    for job in 0..count {
        for back in BACK.iter().filter(|back| **back <= job) {
            graph.add_edge(nodes[job - back], nodes[job], ());
        }
    }
    assert_eq!(toposort(&graph, None).expect("no circle").len(), count);
}

pub(crate) fn plans() {
    for count in [100, 1_000, 10_000, 100_000] {
        let text = wide_pipeline(count);
        let (mut plan, mut toml, mut sort) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..7 {
            let timed = |work: &dyn Fn()| {
                let begin = Instant::now();
                work();
                ms(begin.elapsed())
            };
            plan.push(timed(&|| ours(&text, count)));
            toml.push(timed(&|| parse(&text)));
            sort.push(timed(&|| order(count)));
        }
        let (plan, toml, sort) = (median(plan), median(toml), median(sort));
        let (own, floor) = (peak_of("plan", count), peak_of("parse", count));
        row(
            &format!("parse, check and plan of {count} jobs with 3 edges each"),
            &format!("{plan:.1} ms, {own} MiB"),
            &format!("TOML parse {toml:.1} ms, {floor} MiB; topological order {sort:.1} ms"),
            &format!("{:.1} times their sum", plan / (toml + sort)),
        );
    }
}

/// The most memory a process of its own needed for one part, in MiB.
fn peak_of(part: &str, count: usize) -> String {
    let own = std::env::current_exe().expect("this program has a path");
    let output = Command::new(own).args([&format!("peak-{part}"), &count.to_string()]).output().expect("this program starts");
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// Does one part and prints by how much the process grew while it did.
pub(crate) fn peak(part: &str, count: usize) {
    let text = wide_pipeline(count);
    let before = high_water();
    match part {
        "plan" => ours(&text, count),
        _ => parse(&text),
    }
    println!("{:.1}", (high_water() - before) as f64 / 1024.0);
}

/// The largest resident size so far, in KiB; from the kernel.
fn high_water() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").expect("Linux");
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).expect("a line");
    line.split_whitespace().nth(1).and_then(|kib| kib.parse().ok()).expect("a number")
}

/// `check` on the demo's files, as a process.
pub(crate) fn check_process(ordotaxis: &Path) {
    for demo in ["demo/tidegauge", "demo/almanac"] {
        let (mut check, mut nothing) = (Vec::new(), Vec::new());
        for _ in 0..21 {
            let timed = |command: &mut Command| {
                let begin = Instant::now();
                assert!(command.output().expect("a process").status.success());
                ms(begin.elapsed())
            };
            check.push(timed(Command::new(ordotaxis).arg("check").current_dir(demo)));
            nothing.push(timed(&mut Command::new("true")));
        }
        row(
            &format!("`check` in {demo}"),
            &format!("{:.1} ms", median(check)),
            &format!("a process that does nothing {:.1} ms", median(nothing)),
            "aim 10 ms",
        );
    }
}
