//! What machines cost, shared among those who used them: each machine by the time that each took of it, to the last millionth.

use crate::engine::Millis;
use std::collections::BTreeMap;

/// How long a project's jobs ran on a machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Used {
    pub machine: String,
    pub project: String,
    pub took: Millis,
}

/// What falls to one project, or with none to nobody: of machines that did nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Share {
    pub project: Option<String>,
    /// In millionths.
    pub cost: u64,
}

/// What each pays of these machines' costs. The shares' sum is the sum of the costs.
pub fn shares(used: &[Used], paid: &[(String, u64)]) -> Vec<Share> {
    let mut by_machine: BTreeMap<&str, BTreeMap<&str, u128>> = BTreeMap::new();
    for one in used.iter().filter(|one| one.took > 0) {
        let time = by_machine.entry(&one.machine).or_default().entry(&one.project).or_default();
        *time += u128::from(one.took.unsigned_abs());
    }
    let mut shares: BTreeMap<Option<&str>, u64> = BTreeMap::new();
    for (machine, cost) in paid {
        let Some(users) = by_machine.get(machine.as_str()) else {
            *shares.entry(None).or_default() += cost;
            continue;
        };
        let whole: u128 = users.values().sum();
        let (mut time, mut given) = (0u128, 0u64);
        for (project, took) in users {
            time += took;
            // What all up to here pay, less what those before pay: nothing is lost in rounding.
            let up_to_here = u64::try_from(u128::from(*cost) * time / whole).unwrap_or(*cost);
            *shares.entry(Some(project)).or_default() += up_to_here - given;
            given = up_to_here;
        }
    }
    shares.into_iter().map(|(project, cost)| Share { project: project.map(str::to_owned), cost }).collect()
}
