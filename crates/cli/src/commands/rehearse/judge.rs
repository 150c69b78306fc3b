//! Whether the jobs would begin: by the runners of the service that the user is signed in to, and on this machine.

use crate::commands::runners_there::There;
use ordotaxis_core::dispatch::{Needs, Offer};
use ordotaxis_core::language::{connection_stem, counted};
use ordotaxis_core::plan::{Occasion, Plan, PlannedJob};
use std::collections::BTreeSet;

/// What was found: jobs that would not begin, and what there is to say beside.
#[derive(Default)]
pub(super) struct Judged {
    pub(super) stuck: Vec<String>,
    pub(super) remarks: Vec<String>,
}

/// Judges every job that the plan does not skip.
pub(super) fn judge(plan: &Plan, occasion: &Occasion, here: &Offer, there: &There) -> Judged {
    let mut judged = Judged::default();
    let mut unsure = BTreeSet::new();
    for job in plan.jobs.iter().filter(|job| job.skipped.is_none()) {
        if let There::Known(known) = there
            && let Some(why) = known.refuses(job, occasion)
        {
            judged.stuck.push(format!("{}: {why}", job.id));
            continue;
        }
        if let Some(why) = lacks(here, job, occasion).or_else(|| without_value(job)) {
            judged.stuck.push(format!("{}: {why}", job.id));
        }
        unsure.extend(job.labels.iter().filter(|label| !is_natural(label)).cloned());
    }
    let unsure: Vec<String> = unsure.into_iter().collect();
    let labels = unsure.join(", ");
    match there {
        There::Known(known) => {
            judged.remarks.push(format!("judged by the {} connected at {}", counted(known.offers.len(), "runner"), known.url));
            if !unsure.is_empty() {
                judged.remarks.push(format!("there are runners with {labels}; here the steps run on this machine all the same"));
            }
        }
        There::NotAsked(why) => judged.remarks.push(format!("whether runners would take these jobs is not known: {why}")),
        There::NotSignedIn if !unsure.is_empty() => judged.remarks.push(format!(
            "whether a runner has {labels} is not known: `ordotaxis sign-in` lets a rehearsal look; the steps run on this machine all the same"
        )),
        There::NotSignedIn => {}
    }
    judged
}

/// Whether every machine of this kind has the label.
fn is_natural(label: &str) -> bool {
    label == std::env::consts::OS || label == std::env::consts::ARCH
}

/// A secret or connection that no variable here has a value for.
fn without_value(job: &PlannedJob) -> Option<String> {
    let extras = job.extras.as_ref()?;
    let is_set = |name: &str| std::env::var_os(name).is_some();
    if let Some(secret) = extras.secrets.iter().find(|name| !is_set(name)) {
        return Some(format!("its secret {secret} has no value here: set the variable {secret}"));
    }
    let missing =
        extras.connections.iter().map(|name| (name, connection_stem(name))).find(|(_, stem)| !is_set(&format!("{stem}_PASSWORD")));
    missing.map(|(name, stem)| format!("its connection {name} has no value here: set {stem}_USER, {stem}_PASSWORD and {stem}_ADDRESS"))
}

/// What the job asks for and this machine has not. Labels are the service's to give: they do not count here.
fn lacks(here: &Offer, job: &PlannedJob, occasion: &Occasion) -> Option<String> {
    let needs = Needs { labels: Vec::new(), project: String::new(), ..Needs::of(job, "", occasion) };
    let alone = |part: Needs| here.fits(&Needs { outside: needs.outside, ..part });
    for (tool, wanted) in &needs.tools {
        if !alone(Needs { tools: vec![(tool.clone(), wanted.clone())], ..Needs::default() }) {
            let has: Vec<&str> = here.tools.iter().filter(|(name, _)| name == tool).map(|(_, version)| version.as_str()).collect();
            let has = if has.is_empty() { "it is not here".to_owned() } else { format!("here is {}", has.join(", ")) };
            return Some(format!("it asks for the tool {tool} {wanted}, and {has}"));
        }
    }
    if !alone(Needs { container: needs.container, ..Needs::default() }) {
        return Some("it runs in an image, and no containers are made here (`--isolation container` needs podman)".into());
    }
    if !alone(Needs { fenced: needs.fenced, ..Needs::default() }) {
        return Some("it says network = false, and `--isolation host` keeps nothing from the network".into());
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::runners_there::Known;
    use ordotaxis_core::plan::{BorrowedFiles, Source, plan};

    fn planned(text: &str) -> (Plan, Occasion) {
        let occasion = Occasion::by_hand();
        let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
        (plan(source, &occasion).expect("a plan").plan, occasion)
    }

    fn here() -> Offer {
        Offer { name: "here".into(), tools: vec![("make".into(), "GNU Make 4.3".into())], fenced: true, ..Offer::default() }
    }

    #[test]
    fn what_is_not_here_is_said_by_job() {
        let text = "language = 1\n[job.a.old]\nsteps = ['x']\ntools = { make = '>=9' }\n[job.a.none]\nsteps = ['x']\ntools = { go = '*' }\n\
                    [job.a.boxed]\nsteps = ['x']\nimage = 'debian:12'\n[job.a.shut]\nsteps = ['x']\nnetwork = false\n[job.a.fine]\nsteps = ['x']\n";
        let (plan, occasion) = planned(text);
        let judged = judge(&plan, &occasion, &here(), &There::NotSignedIn);
        assert_eq!(
            judged.stuck,
            [
                "a.old: it asks for the tool make >=9, and here is GNU Make 4.3",
                "a.none: it asks for the tool go *, and it is not here",
                "a.boxed: it runs in an image, and no containers are made here (`--isolation container` needs podman)",
            ]
        );
        assert!(judged.remarks.is_empty(), "{:?}", judged.remarks);
        let host = Offer { fenced: false, ..here() };
        assert!(judge(&plan, &occasion, &host, &There::NotSignedIn).stuck.iter().any(|line| line.starts_with("a.shut: it says network")));
    }

    #[test]
    fn labels_are_judged_where_there_is_a_service_and_else_said() {
        let (plan, occasion) =
            planned("language = 1\n[job.a.x]\nsteps = ['x']\nwhere = ['windows']\n[job.a.y]\nsteps = ['x']\nwhere = ['usb']\n");
        let judged = judge(&plan, &occasion, &here(), &There::NotSignedIn);
        assert!(
            judged.stuck.is_empty() && judged.remarks[0].starts_with("whether a runner has usb, windows is not known"),
            "{:?}",
            judged.remarks
        );
        let quay = Offer { labels: vec!["usb".into()], slots: 1, projects: Some(vec!["stations".into()]), ..here() };
        let known = |project: Option<&str>| {
            There::Known(Known { url: "http://there".into(), offers: vec![quay.clone()], project: project.map(str::to_owned) })
        };
        let stuck = |there: &There| judge(&plan, &occasion, &here(), there).stuck;
        assert_eq!(stuck(&known(None)), ["a.x: no connected runner has the label windows; there are: usb (at http://there)"]);
        assert_eq!(stuck(&known(Some("stations"))).len(), 1);
        assert_eq!(stuck(&known(Some("tidegauge"))).len(), 2, "that runner takes no jobs of this project");
        assert!(judge(&plan, &occasion, &here(), &There::NotAsked("it is away".into())).stuck.is_empty());
    }
}
