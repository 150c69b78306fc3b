//! Order lines of any nesting against a reading without cleverness: every pair of groups, taken apart by hand.

use ordotaxis_core::order::{StageGraph, parse};
use proptest::prelude::*;
use std::collections::BTreeSet;

#[derive(Debug, Clone)]
enum Item {
    Stage(usize),
    Line(Vec<Vec<Item>>),
}

fn line() -> impl Strategy<Value = Vec<Vec<Item>>> {
    let stage = (0..6usize).prop_map(Item::Stage);
    let item = stage.prop_recursive(3, 12, 3, |inner| prop::collection::vec(prop::collection::vec(inner, 1..3), 1..3).prop_map(Item::Line));
    prop::collection::vec(prop::collection::vec(item, 1..3), 1..4)
}

fn spoken(line: &[Vec<Item>]) -> String {
    let item = |item: &Item| match item {
        Item::Stage(number) => format!("s{number}"),
        Item::Line(inner) => format!("({})", spoken(inner)),
    };
    let group = |group: &Vec<Item>| group.iter().map(item).collect::<Vec<_>>().join(" , ");
    line.iter().map(group).collect::<Vec<_>>().join(" > ")
}

fn named(line: &[Vec<Item>]) -> BTreeSet<usize> {
    let item = |item: &Item| match item {
        Item::Stage(number) => BTreeSet::from([*number]),
        Item::Line(inner) => named(inner),
    };
    line.iter().flatten().flat_map(item).collect()
}

/// before[later][earlier], said by neighbouring groups at every depth.
fn pairs(line: &[Vec<Item>], before: &mut [[bool; 6]; 6]) {
    for pair in line.windows(2) {
        for earlier in named(std::slice::from_ref(&pair[0])) {
            for later in named(std::slice::from_ref(&pair[1])) {
                before[later][earlier] = true;
            }
        }
    }
    for item in line.iter().flatten() {
        if let Item::Line(inner) = item {
            pairs(inner, before);
        }
    }
}

fn closed(mut before: [[bool; 6]; 6]) -> [[bool; 6]; 6] {
    for middle in 0..6 {
        for later in 0..6 {
            for earlier in 0..6 {
                before[later][earlier] |= before[later][middle] && before[middle][earlier];
            }
        }
    }
    before
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn lines_mean_what_their_groups_say(lines in prop::collection::vec(line(), 1..3)) {
        let parsed: Vec<_> = lines.iter().map(|line| parse(&spoken(line)).expect("a line")).collect();
        let mut before = [[false; 6]; 6];
        for line in &lines {
            pairs(line, &mut before);
        }
        let before = closed(before);
        let circle = (0..6).any(|stage| before[stage][stage]);
        match StageGraph::new(&parsed, &[]) {
            Err(circles) => {
                prop_assert!(circle);
                for circle in circles {
                    for (at, (name, _)) in circle.0.iter().enumerate() {
                        let number = |name: &str| name[1..].parse::<usize>().expect("a number");
                        let next = &circle.0[(at + 1) % circle.0.len()].0;
                        prop_assert!(before[number(name)][number(next)], "{} does not wait for {}", name, next);
                    }
                }
            }
            Ok(graph) => {
                prop_assert!(!circle);
                for (later, name) in graph.names.iter().enumerate() {
                    for (earlier, other) in graph.names.iter().enumerate() {
                        let (l, e): (usize, usize) = (name[1..].parse().expect("a number"), other[1..].parse().expect("a number"));
                        prop_assert_eq!(graph.before[later].contains(earlier), before[l][e], "{} after {}", name, other);
                    }
                }
            }
        }
    }
}
