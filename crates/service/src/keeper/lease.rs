//! What a runner gets to know about a job: all it needs, and nothing it could use for another job.

use super::artifact::Given;
use super::info::RunInfo;
use crate::identity::TOKEN;
use crate::seal::sealed_as_connection;
use indexmap::IndexMap;
use ordotaxis_core::engine::{Back, Run};
use ordotaxis_core::language::{Cache, Extras, Placed, Publish};
use ordotaxis_core::plan::{Plan, PlannedTake};
use ordotaxis_core::template::{Slot, Template};
use ordotaxis_wire::runner::{AttemptId, Lease, LeaseCache, LeaseConnection, LeasePublish, LeaseSecret, LeaseTake, LeaseUpload, Share};

/// All that a runner needs to do a job, but the values of secrets: they are added when the lease is sent.
pub(crate) fn lease(info: &RunInfo, run: &Run, given: &Given, job: usize, public_url: &str) -> Lease {
    let planned = &run.plan().jobs[job];
    let attempt = run.jobs()[job].attempt;
    let extras = planned.extras.as_deref().cloned().unwrap_or_default();
    let secrets = named_secrets(&extras).map(|name| LeaseSecret { name, value: None, why: None }).collect();
    let takes =
        planned.takes.iter().flat_map(|take| (take.job..take.job + take.cells).map(move |from| take_of(run.plan(), given, take, from)));
    Lease {
        attempt: AttemptId { run: info.id, job, attempt },
        taken_at: 0,
        project: info.project.clone(),
        commit: info.commit.clone(),
        tags_mark: String::new(),
        run: format!("{}/{}", info.project, info.number),
        job: planned.id.clone(),
        steps: run.steps(job),
        env: environment(info, run, job, public_url),
        takes: takes.collect(),
        gives: planned.gives.clone(),
        checkout: planned.checkout.clone(),
        timeout_ms: planned.timeout_ms,
        late: planned.late,
        tools: extras.tools.into_iter().map(|(tool, wanted)| (tool, wanted.0.value.source())).collect(),
        image: extras.image.map(|image| image.0.value.source()),
        network: extras.network.unwrap_or(true),
        beside: extras.beside,
        afterwards: extras.afterwards,
        secrets,
        share: share(info, run, job),
        caches: extras.cache.into_iter().map(|cache| cache_of(info, &cache)).collect(),
        fresh: run.jobs()[job].fresh,
        reports: extras.reports,
        facts: extras.facts,
        known_facts: run.facts_for(job).into_iter().map(|((stage, job, name), value)| (format!("{stage}.{job}.{name}"), value)).collect(),
        publish: extras.publish.iter().map(|publish| publish_of(info, publish)).collect(),
        log_limit: ordotaxis_wire::runner::log_limit(),
        // What is let in alone must be alone: without a lease it ends at once.
        holds_turn: extras.turn.is_some() || run.plan().deploys(job),
        environment: run.environment(job).and_then(Result::ok),
        back: matches!(run.jobs()[job].back, Back::Goes { .. }),
        releases: extras.releases.is_some(),
        forbidden: None,
        check: None,
        watch: None,
        switch: Vec::new(),
        capacity: extras.capacity,
        checkpoint: extras.checkpoint,
        parent: None,
    }
}

/// Secrets, then the job's own token and identities: they reach steps in the same way, and are masked alike.
fn named_secrets(extras: &Extras) -> impl Iterator<Item = String> + use<> {
    let token = (!extras.allows.is_empty()).then(|| TOKEN.to_owned());
    // A connection is named as its password is sealed; where that is put in it becomes several variables.
    let connections = extras.connections.iter().map(|name| sealed_as_connection(name));
    let named = extras.secrets.iter().cloned().chain(connections);
    let names: Vec<String> = named.chain(token).chain(extras.identity.keys().cloned()).collect();
    names.into_iter()
}

/// A text with what is known of the run filled in. What only a runner knows stays as it is written.
pub(super) fn filled(info: &RunInfo, text: &Placed) -> String {
    let filled = known(info, text);
    filled.plain().unwrap_or_else(|| filled.source())
}

fn publish_of(info: &RunInfo, publish: &Publish) -> LeasePublish {
    LeasePublish {
        artifact: publish.artifact.clone(),
        to: known(info, &publish.to).source(),
        form: publish.form.clone(),
        fact: publish.fact.clone(),
        upload: publish.upload.as_ref().map(|upload| LeaseUpload {
            fields: upload.fields.iter().map(|(name, text)| (name.clone(), known(info, text).source())).collect(),
            file: upload.file.clone(),
            digest: upload.digest.clone(),
        }),
        with: publish.with.clone().map(|name| LeaseConnection { name, user: String::new(), password: None, why: None }),
    }
}

fn known(info: &RunInfo, text: &Placed) -> Template {
    text.0.value.fill(|slot| match slot {
        Slot::Project => Some(info.project.clone()),
        Slot::Commit => Some(info.commit.clone()),
        _ => None,
    })
}

/// A cache with what is known of the run filled in.
fn cache_of(info: &RunInfo, cache: &Cache) -> LeaseCache {
    // Written as in a file: the rest is the runner's to fill.
    let one = |text: &Placed| known(info, text).source();
    let all = |texts: &[Placed]| texts.iter().map(one).collect();
    LeaseCache { paths: all(&cache.paths), key: one(&cache.key), otherwise: all(&cache.otherwise), save: cache.save.clone() }
}

/// Which copy of a `split` a job is.
fn share(info: &RunInfo, run: &Run, job: usize) -> Option<Share> {
    let planned = &run.plan().jobs[job];
    let split = planned.extras.as_ref()?.split.as_ref()?;
    let index = planned.cell.get("share")?.split('-').next()?.parse().ok()?;
    let usual = info.shared.get(planned.id.without_cell()).cloned().unwrap_or_default();
    Some(Share { index, count: split.into, by_time: split.by == "time", usual })
}

/// One artifact of one job or cell. Those of several cells lie apart, each in a folder named by its cell.
fn take_of(plan: &Plan, given: &Given, take: &PlannedTake, from: usize) -> LeaseTake {
    let giver = &plan.jobs[from];
    let folder = giver.cell.values().map(String::as_str).collect::<Vec<_>>().join(",");
    let to = match (&take.to, take.apart) {
        (to, false) => to.clone(),
        (None, true) => Some(folder),
        (Some(to), true) => Some(format!("{}/{folder}", to.trim_end_matches('/'))),
    };
    LeaseTake {
        name: format!("{}/{}", giver.id, take.artifact),
        tree: given.get(&(from, take.artifact.clone())).map(|artifact| artifact.tree.clone()),
        to,
    }
}

/// What a step finds in its environment, as the language guide lists it; the job's own variables come last.
fn environment(info: &RunInfo, run: &Run, job: usize, public_url: &str) -> IndexMap<String, String> {
    let (plan, planned) = (run.plan(), &run.plan().jobs[job]);
    let mut env = IndexMap::new();
    let mut set = |name: &str, value: String| env.insert(name.to_owned(), value);
    set("CI", "true".into());
    set("ORDOTAXIS", "1".into());
    set("ORDOTAXIS_PROJECT", info.project.clone());
    set("ORDOTAXIS_PIPELINE", plan.pipeline.clone());
    set("ORDOTAXIS_RUN", format!("{}/{}", info.project, info.number));
    set("ORDOTAXIS_JOB", planned.id.to_string());
    set("ORDOTAXIS_ATTEMPT", run.jobs()[job].attempt.to_string());
    set("ORDOTAXIS_EVENT", plan.occasion.event().word().into());
    set("ORDOTAXIS_BRANCH", info.branch.clone().unwrap_or_default());
    let occasion = &plan.occasion;
    set("ORDOTAXIS_TAG", occasion.tag_name().unwrap_or_default().to_owned());
    set("ORDOTAXIS_TARGET", occasion.target().unwrap_or_default().to_owned());
    set("ORDOTAXIS_COMMIT", info.commit.clone());
    set("ORDOTAXIS_COMMIT_TIME", ordotaxis_wire::moment(info.commit_time.saturating_mul(1000)).to_string());
    set("ORDOTAXIS_RUN_URL", format!("{public_url}/runs/{}/{}", info.project, info.number));
    if planned.extras.as_ref().is_some_and(|extras| !extras.allows.is_empty()) {
        // With the job's token, the client finds the service as anywhere.
        set("ORDOTAXIS_URL", public_url.to_owned());
    }
    if let Some(Ok(environment)) = run.environment(job) {
        set("ORDOTAXIS_ENVIRONMENT", environment);
    }
    let capacity = planned.extras.as_ref().map(|extras| extras.capacity).unwrap_or_default();
    for (name, number) in [("CORES", capacity.cores), ("MEMORY_MIB", capacity.memory_mib), ("GPUS", capacity.gpus)] {
        if number > 0 {
            set(&format!("ORDOTAXIS_{name}"), number.to_string());
        }
    }
    set("SOURCE_DATE_EPOCH", info.commit_time.to_string());
    if let Some(share) = share(info, run, job) {
        set("ORDOTAXIS_SHARE_INDEX", share.index.to_string());
        set("ORDOTAXIS_SHARE_COUNT", share.count.to_string());
    }
    for (name, value) in occasion.inputs.iter().chain(&run.jobs()[job].inputs) {
        env.insert(format!("ORDOTAXIS_INPUT_{}", name.to_uppercase().replace('-', "_")), value.clone());
    }
    if planned.late {
        // All of the environment is then written as in a file.
        env.values_mut().for_each(|value| *value = value.replace('{', "{{"));
    }
    env.extend(planned.env.clone());
    env
}
