//! Why a queued job is not running, in one sentence.

use super::{Needs, Offer};
use crate::language::nearest;
use std::collections::BTreeSet;

/// What else a queued job waits for beside a runner.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Waited {
    /// How many queued jobs come first.
    pub ahead: usize,
    /// A guess from past durations, spelt out for a person.
    pub guess: Option<String>,
    /// The name of its turn, who holds it and since when, and how many asked before it.
    pub turn: Option<(String, Option<String>, usize)>,
    /// When it is tried again.
    pub pause_until: Option<String>,
    /// What it waits for in a pool of machines.
    pub pool: Option<String>,
}

/// The sentence, most lasting reason first: a runner that nobody has, a pause, a turn, a place in the queue.
pub fn why_queued(needs: &Needs, offers: &[Offer], waited: &Waited) -> String {
    if offers.is_empty() {
        return waited.pool.clone().unwrap_or_else(|| "no runner is connected".into());
    }
    let fitting: Vec<&Offer> = offers.iter().filter(|offer| offer.fits(needs)).collect();
    if fitting.is_empty() {
        return waited.pool.clone().unwrap_or_else(|| nobody_fits(needs, offers));
    }
    if let Some(moment) = &waited.pause_until {
        return format!("it is tried again at {moment}");
    }
    if let Some(sentence) = waited.turn.as_ref().and_then(turn) {
        return sentence;
    }
    let queue = match waited.ahead {
        0 => "it is next".into(),
        1 => "1 job is ahead of it".into(),
        ahead => format!("{ahead} jobs are ahead of it"),
    };
    let pool = waited.pool.as_ref().map(|pool| format!("; {pool}")).unwrap_or_default();
    let guess = waited.guess.as_ref().map(|guess| format!(", likely to start in {guess}")).unwrap_or_default();
    let working: Vec<&&Offer> = fitting.iter().filter(|offer| !offer.draining).collect();
    match working.as_slice() {
        [] if waited.pool.is_some() => waited.pool.clone().unwrap_or_default(),
        [] => match fitting.as_slice() {
            [only] => format!("{}, the only runner that fits, is draining and takes nothing more", only.name),
            all => format!("all {} runners that fit are draining and take nothing more", all.len()),
        },
        _ if working.iter().any(|offer| offer.free > 0 && offer.has_room(needs)) => format!("a free runner is about to take it; {queue}"),
        [only] if only.free > 0 => {
            format!("{}, the only runner that fits, has not {} left; {queue}{guess}{pool}", only.name, needs.capacity.words())
        }
        all if all.iter().any(|offer| offer.free > 0) => {
            format!("none of {} runners that fit has {} left; {queue}{guess}{pool}", all.len(), needs.capacity.words())
        }
        [only] => format!("{}, the only runner that fits, is busy; {queue}{guess}{pool}", only.name),
        all => format!("all {} runners that fit are busy; {queue}{guess}{pool}", all.len()),
    }
}

/// Who has the turn that a job asks for, and how many asked before it.
fn turn((name, holder, before): &(String, Option<String>, usize)) -> Option<String> {
    let queue = match before {
        0 => "it is the next to have it".to_owned(),
        1 => "1 job asked for it before".to_owned(),
        more => format!("{more} jobs asked for it before"),
    };
    match (holder, before) {
        (Some(holder), _) => Some(format!("its turn {name} is held by {holder}; {queue}")),
        (None, 0) => None,
        (None, _) => Some(format!("its turn {name} goes in the order asked; {queue}")),
    }
}

/// What every connected runner lacks, and what would help.
fn nobody_fits(needs: &Needs, offers: &[Offer]) -> String {
    let ours: Vec<&Offer> =
        offers.iter().filter(|offer| offer.projects.as_ref().is_none_or(|projects| projects.contains(&needs.project))).collect();
    if ours.is_empty() {
        return format!("no connected runner takes jobs of {}; `ordotaxis runner set NAME --project {0}` lets one", needs.project);
    }
    if !ours.iter().any(|offer| offer.outside.takes(needs.outside)) {
        return match needs.outside {
            true => {
                "it comes from outside, and no connected runner takes proposals from outside (`ordotaxis runner set NAME --outside yes`)"
                    .into()
            }
            false => "every connected runner takes nothing but proposals from outside".into(),
        };
    }
    let known: BTreeSet<&str> = offers.iter().flat_map(|offer| offer.labels.iter().map(String::as_str)).collect();
    let missing: Vec<&String> = needs.labels.iter().filter(|label| !known.contains(label.as_str())).collect();
    if let Some(first) = missing.first() {
        return missing_labels(first, &missing, &known, offers);
    }
    if let Some(sentence) = needs.tools.iter().find_map(|(tool, wanted)| missing_tool(tool, wanted, offers)) {
        return sentence;
    }
    if needs.container && !offers.iter().any(|offer| offer.container) {
        return "it runs in an image, and no connected runner makes containers (`--isolation container`)".into();
    }
    if needs.fenced && !offers.iter().any(|offer| offer.fenced || offer.container) {
        return "it says network = false, and no connected runner can keep a job from the network (sandbox or container)".into();
    }
    if !needs.capacity.is_none() && !ours.iter().any(|offer| needs.capacity.fits_in(offer.capacity)) {
        return too_small(needs, &ours);
    }
    let tools = needs.tools.iter().map(|(tool, wanted)| format!("{tool} {wanted}"));
    let mut all: Vec<String> = needs.labels.iter().cloned().chain(tools).collect();
    all.extend(needs.container.then(|| "containers".to_owned()));
    all.extend(needs.fenced.then(|| "a closed network".to_owned()));
    all.extend((!needs.capacity.is_none()).then(|| needs.capacity.words()));
    format!("no single connected runner has all of: {}", all.join(", "))
}

/// No machine is as large as the job asks for.
fn too_small(needs: &Needs, offers: &[&Offer]) -> String {
    let largest = offers.iter().max_by_key(|offer| (offer.capacity.gpus.min(needs.capacity.gpus), offer.capacity));
    let there = largest
        .filter(|offer| !offer.capacity.is_none())
        .map_or("none says what it has".to_owned(), |offer| format!("the largest is {} with {}", offer.name, offer.capacity.words()));
    format!("it asks for {}, and no connected runner has so much; {there}", needs.capacity.words())
}

fn missing_labels(first: &str, missing: &[&String], known: &BTreeSet<&str>, offers: &[Offer]) -> String {
    let has = match nearest(first, known.iter().copied()) {
        Some(near) => {
            let owner = offers.iter().find(|offer| offer.labels.iter().any(|label| label == near));
            format!("the nearest is {near} (runner {})", owner.map_or("?", |offer| offer.name.as_str()))
        }
        None if known.is_empty() => "the connected runners have no labels".into(),
        None => format!("there are: {}", known.iter().take(12).copied().collect::<Vec<_>>().join(", ")),
    };
    let word = if missing.len() == 1 { "label" } else { "labels" };
    let missing: Vec<&str> = missing.iter().map(|label| label.as_str()).collect();
    format!("no connected runner has the {word} {}; {has}", missing.join(", "))
}

/// None when some runner has it.
fn missing_tool(tool: &str, wanted: &str, offers: &[Offer]) -> Option<String> {
    if offers.iter().any(|offer| offer.has_tool(tool, wanted)) {
        return None;
    }
    let found = |name: &str| -> Vec<String> {
        let with = |offer: &Offer| {
            let versions = offer.tools.iter().filter(|(known, _)| known == name);
            versions.map(|(_, version)| format!("{name} {version} (runner {})", offer.name)).collect::<Vec<_>>()
        };
        offers.iter().flat_map(with).collect()
    };
    let others = found(tool);
    if !others.is_empty() {
        return Some(format!("no connected runner offers {tool} {wanted}; there is {}", others.join(", ")));
    }
    let known: BTreeSet<&str> = offers.iter().flat_map(|offer| offer.tools.iter().map(|(name, _)| name.as_str())).collect();
    let near = nearest(tool, known.iter().copied()).and_then(|near| found(near).into_iter().next());
    let has = match near {
        Some(near) => format!("the nearest is {near}"),
        None if known.is_empty() => "the connected runners found no tools".into(),
        None => format!("there are: {}", known.into_iter().take(12).collect::<Vec<_>>().join(", ")),
    };
    Some(format!("no connected runner offers the tool {tool} ({wanted}); {has}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offer(name: &str, labels: &[&str], tools: &[(&str, &str)]) -> Offer {
        Offer {
            name: name.into(),
            labels: labels.iter().map(|label| (*label).to_owned()).collect(),
            tools: tools.iter().map(|(name, version)| ((*name).to_owned(), (*version).to_owned())).collect(),
            slots: 1,
            ..Offer::default()
        }
    }

    fn needs(labels: &[&str], tools: &[(&str, &str)]) -> Needs {
        let made = offer("", labels, tools);
        Needs { labels: made.labels, tools: made.tools, ..Needs::default() }
    }

    fn queued(ahead: usize) -> Waited {
        Waited { ahead, ..Waited::default() }
    }

    /// One case for each reason that a queued job can have.
    #[test]
    fn every_reason_has_its_sentence() {
        let quay = offer("quay", &["linux", "x86_64"], &[("make", "4.3"), ("gcc", "12.2.0")]);
        let pier = offer("pier", &["linux", "usb"], &[]);
        let both = vec![quay.clone(), pier.clone()];
        let free = Offer { free: 1, ..quay.clone() };
        let drained = Offer { draining: true, free: 1, ..quay.clone() };
        let (image, closed) = (Needs { container: true, ..needs(&[], &[]) }, Needs { fenced: true, ..needs(&[], &[]) });
        let turn = |holder: Option<&str>, before| Waited { turn: Some(("ship-x".into(), holder.map(str::to_owned), before)), ..queued(3) };
        let held = Some("stations/3 ship.x since 12:00");
        for (sentence, needs, offers, waited) in [
            ("no runner is connected", needs(&["linux"], &[]), vec![], queued(0)),
            (
                "no connected runner has the label linx; the nearest is linux (runner quay)",
                needs(&["linx"], &[]),
                vec![quay.clone()],
                queued(0),
            ),
            ("no connected runner has the label gpu; there are: linux, x86_64", needs(&["gpu"], &[]), vec![quay.clone()], queued(0)),
            (
                "no connected runner has the labels gpu, riscv; there are: linux, usb, x86_64",
                needs(&["gpu", "riscv"], &[]),
                both.clone(),
                queued(0),
            ),
            ("no single connected runner has all of: x86_64, usb", needs(&["x86_64", "usb"], &[]), both.clone(), queued(0)),
            ("no single connected runner has all of: usb, make >=4", needs(&["usb"], &[("make", ">=4")]), both.clone(), queued(0)),
            (
                "no connected runner offers make >=5; there is make 4.3 (runner quay)",
                needs(&[], &[("make", ">=5")]),
                both.clone(),
                queued(0),
            ),
            (
                "no connected runner offers the tool mak (*); the nearest is make 4.3 (runner quay)",
                needs(&[], &[("mak", "*")]),
                both.clone(),
                queued(0),
            ),
            ("no connected runner offers the tool go (*); there are: gcc, make", needs(&[], &[("go", "*")]), both.clone(), queued(0)),
            (
                "no connected runner offers the tool go (*); the connected runners found no tools",
                needs(&[], &[("go", "*")]),
                vec![pier.clone()],
                queued(0),
            ),
            ("it runs in an image, and no connected runner makes containers (`--isolation container`)", image, both.clone(), queued(0)),
            (
                "it says network = false, and no connected runner can keep a job from the network (sandbox or container)",
                closed,
                both.clone(),
                queued(0),
            ),
            ("it is tried again at 12:00:05", needs(&[], &[]), both.clone(), Waited { pause_until: Some("12:00:05".into()), ..queued(0) }),
            (
                "its turn ship-x is held by stations/3 ship.x since 12:00; it is the next to have it",
                needs(&[], &[]),
                both.clone(),
                turn(held, 0),
            ),
            (
                "its turn ship-x is held by stations/3 ship.x since 12:00; 1 job asked for it before",
                needs(&[], &[]),
                both.clone(),
                turn(held, 1),
            ),
            ("its turn ship-x goes in the order asked; 2 jobs asked for it before", needs(&[], &[]), both.clone(), turn(None, 2)),
            (
                "quay, the only runner that fits, is draining and takes nothing more",
                needs(&["x86_64"], &[]),
                vec![drained.clone(), pier.clone()],
                queued(0),
            ),
            (
                "all 2 runners that fit are draining and take nothing more",
                needs(&[], &[]),
                vec![drained.clone(), drained.clone()],
                queued(0),
            ),
            ("quay, the only runner that fits, is busy; it is next", needs(&["x86_64"], &[]), both.clone(), queued(0)),
            ("quay, the only runner that fits, is busy; 1 job is ahead of it", needs(&["x86_64"], &[]), both.clone(), queued(1)),
            ("all 2 runners that fit are busy; 3 jobs are ahead of it", needs(&["linux"], &[]), both.clone(), queued(3)),
            (
                "all 2 runners that fit are busy; 3 jobs are ahead of it, likely to start in about 2 m",
                needs(&["linux"], &[]),
                both,
                Waited { guess: Some("about 2 m".into()), ..queued(3) },
            ),
            ("a free runner is about to take it; it is next", needs(&[], &[]), vec![free], queued(0)),
            (
                "a free runner is about to take it; it is next",
                needs(&[], &[]),
                vec![drained, Offer { free: 1, ..pier }],
                turn(None, 0).next(),
            ),
        ] {
            assert_eq!(why_queued(&needs, &offers, &waited), sentence);
        }
    }

    impl Waited {
        fn next(self) -> Waited {
            Waited { ahead: 0, ..self }
        }
    }
}
