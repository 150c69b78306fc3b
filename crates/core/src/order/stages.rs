//! Order lines joined: for each stage all stages that must end before it starts.

use super::parse::{Item, Line};
use crate::graph;
use crate::language::Span;
use fixedbitset::FixedBitSet;
use std::collections::HashMap;

/// Stages by number, in the order they are first named (those that no line names come last).
#[derive(Debug, Clone)]
pub struct StageGraph {
    pub names: Vec<String>,
    /// For each stage, the stages that the order puts right before it, and the line that says so.
    pub direct: Vec<Vec<(usize, Span)>>,
    /// For each stage, every stage before it.
    pub before: Vec<FixedBitSet>,
}

/// Stages that wait for each other: each for the next, the last for the first, with the line that says so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StageCircle(pub Vec<(String, Span)>);

impl StageGraph {
    /// Joins the lines. `known` are the stages that have jobs, in file order.
    pub fn new(lines: &[Line], known: &[String]) -> Result<StageGraph, Vec<StageCircle>> {
        let mut names: Vec<String> = Vec::new();
        let mut numbers: HashMap<String, usize> = HashMap::new();
        let named = lines.iter().flat_map(Line::stages).map(|(name, _)| name.to_owned());
        for name in named.chain(known.iter().cloned()) {
            numbers.entry(name.clone()).or_insert_with(|| {
                names.push(name);
                names.len() - 1
            });
        }
        let mut direct: Vec<Vec<(usize, Span)>> = vec![Vec::new(); names.len()];
        for line in lines {
            join(line, &line.span, &numbers, &mut direct);
        }
        for edges in &mut direct {
            edges.sort_by_key(|(stage, _)| *stage);
            edges.dedup_by_key(|(stage, _)| *stage);
        }
        let waits: Vec<Vec<usize>> = direct.iter().map(|edges| edges.iter().map(|(stage, _)| *stage).collect()).collect();
        let sorted = graph::topological(names.len(), &waits).map_err(|circles| spoken(&circles, &names, &direct))?;
        let mut before = vec![FixedBitSet::with_capacity(names.len()); names.len()];
        for stage in sorted {
            let mut all = FixedBitSet::with_capacity(names.len());
            for &earlier in &waits[stage] {
                all.insert(earlier);
                all.union_with(&before[earlier]);
            }
            before[stage] = all;
        }
        Ok(StageGraph { names, direct, before })
    }
}

/// Puts every stage of a group before every stage of the next one; gives back all stages of the line.
fn join(line: &Line, outer: &Span, numbers: &HashMap<String, usize>, direct: &mut [Vec<(usize, Span)>]) -> Vec<usize> {
    let mut all = Vec::new();
    let mut earlier: Vec<usize> = Vec::new();
    for group in &line.groups {
        let mut stages = Vec::new();
        for item in group {
            match item {
                Item::Stage { name, .. } => stages.push(numbers[name]),
                Item::Line(inner) => stages.extend(join(inner, outer, numbers, direct)),
            }
        }
        stages.sort_unstable();
        stages.dedup();
        for &stage in &stages {
            direct[stage].extend(earlier.iter().map(|&before| (before, outer.clone())));
        }
        all.extend(&stages);
        earlier = stages;
    }
    all
}

fn spoken(circles: &[Vec<usize>], names: &[String], direct: &[Vec<(usize, Span)>]) -> Vec<StageCircle> {
    let edge = |from: usize, to: usize| {
        let span = direct[from].iter().find(|(stage, _)| *stage == to).map_or(0..0, |(_, span)| span.clone());
        (names[from].clone(), span)
    };
    let all = |circle: &Vec<usize>| {
        let next = |at: usize| circle[(at + 1) % circle.len()];
        StageCircle((0..circle.len()).map(|at| edge(circle[at], next(at))).collect())
    };
    circles.iter().map(all).collect()
}

#[cfg(test)]
mod tests {
    use super::super::parse;
    use super::*;

    fn graph(lines: &[&str]) -> Result<StageGraph, Vec<StageCircle>> {
        let lines: Vec<Line> = lines.iter().map(|line| parse(line).unwrap()).collect();
        StageGraph::new(&lines, &[])
    }

    fn before(graph: &StageGraph, stage: &str) -> Vec<String> {
        let at = graph.names.iter().position(|name| name == stage).unwrap();
        graph.before[at].ones().map(|earlier| graph.names[earlier].clone()).collect()
    }

    #[test]
    fn order_is_transitive_and_lines_are_joined() {
        let graph = graph(&["check, build > test", "test > pack > ship"]).unwrap();
        assert_eq!(before(&graph, "test"), ["check", "build"]);
        assert_eq!(before(&graph, "ship"), ["check", "build", "test", "pack"]);
        assert!(before(&graph, "build").is_empty());
    }

    #[test]
    fn a_line_in_parentheses_is_before_as_a_whole() {
        let graph = graph(&["(a > b), c > d"]).unwrap();
        assert_eq!(before(&graph, "d"), ["a", "b", "c"]);
        assert_eq!(before(&graph, "b"), ["a"]);
        assert!(before(&graph, "c").is_empty());
    }

    #[test]
    fn a_circle_names_its_stages() {
        let circles = graph(&["a > b > c", "c > a"]).unwrap_err();
        let names: Vec<&str> = circles[0].0.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names.len(), 3, "{names:?}");
    }

    #[test]
    fn a_stage_cannot_come_before_itself() {
        assert!(graph(&["a > a"]).is_err());
    }
}
