//! Queued jobs and runners: who may take what, and for the rest in one sentence why nobody does.

use crate::language::nearest;
use std::collections::BTreeSet;

/// A runner as far as dispatch cares.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Offer {
    pub name: String,
    pub labels: Vec<String>,
    /// Slots with nothing to do. Gone runners are not offered at all.
    pub free: usize,
}

/// Whether a runner with these labels may do a job that wants those.
pub fn fits(wanted: &[String], labels: &[String]) -> bool {
    wanted.iter().all(|label| labels.contains(label))
}

/// Why a queued job is not running: a label that nobody has, or all who fit are busy. `ahead` counts queued jobs that
/// come first.
pub fn why_queued(wanted: &[String], offers: &[Offer], ahead: usize) -> String {
    if offers.is_empty() {
        return "no runner is connected".into();
    }
    let fitting: Vec<&Offer> = offers.iter().filter(|offer| fits(wanted, &offer.labels)).collect();
    if fitting.is_empty() {
        return nobody_fits(wanted, offers);
    }
    let queue = match ahead {
        0 => "it is next".into(),
        1 => "1 job is ahead of it".into(),
        ahead => format!("{ahead} jobs are ahead of it"),
    };
    match fitting.as_slice() {
        _ if fitting.iter().any(|offer| offer.free > 0) => format!("a free runner is about to take it; {queue}"),
        [only] => format!("{}, the only runner that fits, is busy; {queue}", only.name),
        all => format!("all {} runners that fit are busy; {queue}", all.len()),
    }
}

fn nobody_fits(wanted: &[String], offers: &[Offer]) -> String {
    let known: BTreeSet<&str> = offers.iter().flat_map(|offer| offer.labels.iter().map(String::as_str)).collect();
    let missing: Vec<&String> = wanted.iter().filter(|label| !known.contains(label.as_str())).collect();
    let Some(first) = missing.first() else {
        return format!("no single runner has all of the labels {}", listed(wanted));
    };
    let has = match nearest(first, known.iter().copied()) {
        Some(near) => {
            let owner = offers.iter().find(|offer| offer.labels.iter().any(|label| label == near));
            format!("the nearest is {near} (runner {})", owner.map_or("?", |offer| offer.name.as_str()))
        }
        None if known.is_empty() => "the connected runners have no labels".into(),
        None => format!("there are: {}", known.into_iter().take(12).collect::<Vec<_>>().join(", ")),
    };
    let missing: Vec<String> = missing.into_iter().cloned().collect();
    let label = if missing.len() == 1 { "label" } else { "labels" };
    format!("no connected runner has the {label} {}; {has}", listed(&missing))
}

fn listed(names: &[String]) -> String {
    names.join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offer(name: &str, labels: &[&str], free: usize) -> Offer {
        Offer { name: name.into(), labels: labels.iter().map(|label| (*label).to_owned()).collect(), free }
    }

    fn why(wanted: &[&str], offers: &[Offer], ahead: usize) -> String {
        let wanted: Vec<String> = wanted.iter().map(|label| (*label).to_owned()).collect();
        why_queued(&wanted, offers, ahead)
    }

    #[test]
    fn every_reason_has_its_sentence() {
        let quay = offer("quay", &["linux", "x86_64"], 0);
        let pier = offer("pier", &["linux", "usb"], 0);
        for (sentence, wanted, offers, ahead) in [
            ("no runner is connected", vec!["linux"], vec![], 0),
            ("no connected runner has the label linx; the nearest is linux (runner quay)", vec!["linx"], vec![quay.clone()], 0),
            ("no connected runner has the label gpu; there are: linux, x86_64", vec!["gpu"], vec![quay.clone()], 0),
            ("no single runner has all of the labels x86_64, usb", vec!["x86_64", "usb"], vec![quay.clone(), pier.clone()], 0),
            ("quay, the only runner that fits, is busy; it is next", vec!["x86_64"], vec![quay.clone(), pier.clone()], 0),
            ("all 2 runners that fit are busy; 3 jobs are ahead of it", vec!["linux"], vec![quay.clone(), pier.clone()], 3),
            ("a free runner is about to take it; it is next", vec![], vec![offer("spar", &[], 1)], 0),
        ] {
            assert_eq!(why(&wanted, &offers, ahead), sentence);
        }
    }
}
