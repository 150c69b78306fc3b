//! Gates: what must hold before a stage starts, over the numbers of all jobs of the run.

use super::numbers::{Numbers, shown, sums};
use super::state::Run;
use crate::language::{Bound, Compare, GateRule};

impl Run {
    /// The numbers of all jobs together: counts and shares are added, of facts the largest counts.
    pub fn numbers(&self) -> Numbers {
        sums(self.jobs.iter().map(|job| job.numbers.clone()))
    }

    /// What keeps the gate shut before a job for which nothing else has to end: its start by hand would be in vain.
    pub fn gate_before(&self, job: usize) -> Option<String> {
        if self.unmet[job] == 0 { self.shut(job) } else { None }
    }

    /// What keeps the gate of a job's stage shut: each number, how far it is off. None when it is open.
    pub(super) fn shut(&self, job: usize) -> Option<String> {
        let stage = &self.plan.stages[self.plan.jobs[job].stage];
        if stage.gate.is_empty() {
            return None;
        }
        let numbers = self.numbers();
        let off: Vec<String> = stage.gate.iter().filter_map(|rule| why_shut(rule, &numbers)).collect();
        (!off.is_empty()).then(|| format!("the gate of {} is shut: {}", stage.name, off.join("; ")))
    }
}

/// Why a rule keeps its gate shut: the number, what it must be, and how far it is from that. None when the rule holds.
pub fn why_shut(rule: &GateRule, numbers: &Numbers) -> Option<String> {
    let bound = Bound::parse(&rule.wants)?;
    let name = &rule.number;
    let Some(value) = numbers.get(name).and_then(|number| number.value()) else {
        return Some(format!("no job of this run has given {name}, which must be {}", wanted(bound)));
    };
    if bound.holds(value) {
        return None;
    }
    let far = shown((value - bound.than).abs());
    let far = match bound.compare {
        Compare::AtLeast | Compare::More => format!(", {far} too few"),
        Compare::AtMost | Compare::Less => format!(", {far} too many"),
        Compare::Equal | Compare::Unequal => String::new(),
    };
    Some(format!("{name} is {}, and must be {}{far}", shown(value), wanted(bound)))
}

fn wanted(bound: Bound) -> String {
    match bound.compare {
        Compare::Equal => shown(bound.than),
        compare => format!("{compare} {}", shown(bound.than)),
    }
}
