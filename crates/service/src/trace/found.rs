//! From a thing to the chains that it stands in: commit, run, job, artifact, releases, environments.

use crate::app::App;
use ordotaxis_core::engine::State;
use ordotaxis_store::{MadeRow, Project, RunRow, StayRow, StoreError};
use ordotaxis_wire::moment;
use ordotaxis_wire::trace::{ThingKind, TraceChain, TraceView, TracedRelease, TracedStay};
use std::collections::HashMap;

/// A page shows so many chains.
const CHAINS: usize = 200;
/// The shortest beginning of a commit that names one.
const SHORTEST: usize = 7;

/// Why there is nothing to tell.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotFound {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    No(String),
}

fn no<T>(why: impl Into<String>) -> Result<T, NotFound> {
    Err(NotFound::No(why.into()))
}

/// What a text may name.
enum Thing<'a> {
    Digest(String, [u8; 32]),
    Commit(String),
    /// Of a project.
    Named(&'a str, &'a str),
}

fn thing(text: &str) -> Result<Thing<'_>, NotFound> {
    let hex = text.strip_prefix("sha256:").unwrap_or(text);
    let digits = !hex.is_empty() && hex.chars().all(|c| c.is_ascii_hexdigit());
    if let Some(sha256) = bytes(hex).filter(|_| digits) {
        return Ok(Thing::Digest(hex.to_ascii_lowercase(), sha256));
    }
    if digits && hex.len() == text.len() && (SHORTEST..=40).contains(&hex.len()) {
        return Ok(Thing::Commit(hex.to_ascii_lowercase()));
    }
    match text.split_once('/') {
        Some((project, name)) if !project.is_empty() && !name.is_empty() => Ok(Thing::Named(project, name)),
        _ => no(format!(
            "`{text}` names nothing: give a commit (at least {SHORTEST} digits), a digest (sha256:…), or PROJECT/ and a run's number, an environment \
             or a version"
        )),
    }
}

fn bytes(hex: &str) -> Option<[u8; 32]> {
    let pairs: Option<Vec<u8>> = (0..hex.len() / 2).map(|at| u8::from_str_radix(hex.get(at * 2..at * 2 + 2)?, 16).ok()).collect();
    pairs?.try_into().ok().filter(|_| hex.len() == 64)
}

/// Things that were made, and what they are called together.
struct Found {
    kind: ThingKind,
    sentence: String,
    made: Vec<MadeRow>,
    /// Runs that count even where they made nothing.
    runs: Vec<i64>,
}

/// Follows a thing both ways, in the projects that `sees` lets through.
pub(crate) async fn find(app: &App, text: &str, sees: impl Fn(&Project) -> bool) -> Result<TraceView, NotFound> {
    let seen: Vec<Project> = app.records.projects().await?.into_iter().filter(sees).collect();
    let limit = i64::try_from(CHAINS + 1).unwrap_or(i64::MAX);
    let found = match thing(text)? {
        Thing::Digest(hex, sha256) => digest(app, &hex, &sha256, limit).await?,
        Thing::Commit(commit) => {
            let runs = app.records.runs_of_commit(&commit, limit).await?;
            Found { kind: ThingKind::Commit, sentence: String::new(), made: app.records.made_by_runs(&runs, limit).await?, runs }
        }
        Thing::Named(project, name) => match seen.iter().find(|one| one.name == project) {
            Some(project) => named(app, project, name, limit).await?,
            None => return no(format!("there is no project {project}")),
        },
    };
    let mut view = told(app, text, found, &seen).await?;
    if view.chains.is_empty() {
        return no(match view.kind {
            ThingKind::Environment => view.sentence,
            _ => format!("nothing here comes from {text}, or has that digest; files of artifacts are known once their run has ended"),
        });
    }
    view.more = view.chains.len() > CHAINS;
    view.chains.truncate(CHAINS);
    Ok(view)
}

async fn digest(app: &App, hex: &str, sha256: &[u8; 32], limit: i64) -> Result<Found, StoreError> {
    let digest = format!("sha256:{hex}");
    let made = app.records.made_by_digest(std::slice::from_ref(&digest), limit).await?;
    if !made.is_empty() {
        return Ok(Found { kind: ThingKind::Artifact, sentence: String::new(), made, runs: Vec::new() });
    }
    let made = app.records.made_with_file(sha256, limit).await?;
    if !made.is_empty() {
        return Ok(Found { kind: ThingKind::File, sentence: String::new(), made, runs: Vec::new() });
    }
    let published = app.records.published_as(&digest).await?;
    let names: Vec<(i64, i64, String)> = published.into_iter().map(|(run, job, name, _)| (run, job, name)).collect();
    let made = app.records.made_as(&names).await?;
    Ok(Found { kind: ThingKind::Published, sentence: String::new(), made, runs: Vec::new() })
}

/// A run, an environment or a release of a project.
async fn named(app: &App, project: &Project, name: &str, limit: i64) -> Result<Found, NotFound> {
    if let Ok(number) = name.parse::<i64>() {
        let Some(run) = app.records.run(&project.name, number).await? else {
            return no(format!("there is no run {}/{number}", project.name));
        };
        let made = app.records.made_by_runs(&[run.id], limit).await?;
        return Ok(Found { kind: ThingKind::Run, sentence: String::new(), made, runs: vec![run.id] });
    }
    if let Some((_, present)) = app.records.held(project.id, Some(name)).await?.pop() {
        let Some(there) = present else { return no(format!("nothing was put into {name} of {} yet", project.name)) };
        let digests: Vec<String> = serde_json::from_str(&there.artifacts).unwrap_or_default();
        let mut made = app.records.made_by_digest(&digests, limit).await?;
        // The very same may have been made before, too: what is there comes from the run that put it there, or that it was
        // carried over from.
        if let Some(from) = made.iter().map(|row| row.run_id).filter(|id| *id <= there.run_id).max() {
            made.retain(|row| row.run_id == from);
        }
        let runs = if made.is_empty() { app.records.runs_of_commit(&there.commit_id, 1).await? } else { Vec::new() };
        let sentence =
            format!("{} holds what {} put there since {}", name, there.run, crate::clock::words(there.ended_at.unwrap_or_default()));
        return Ok(Found { kind: ThingKind::Environment, sentence, made, runs });
    }
    if let Some(release) = app.records.release(project.id, name).await? {
        let assets = app.records.release_assets(release.id).await?;
        let names: Vec<(i64, i64, String)> = assets.into_iter().map(|asset| (release.run_id, asset.job, asset.name)).collect();
        let made = app.records.made_as(&names).await?;
        let sentence = format!("release {name} ({}) of commit {}", release.state, release.commit_id.get(..8).unwrap_or_default());
        return Ok(Found { kind: ThingKind::Release, sentence, made, runs: vec![release.run_id] });
    }
    no(format!("{} has no run, environment or release {name}", project.name))
}

/// Puts everything together that belongs to what was found.
async fn told(app: &App, text: &str, found: Found, seen: &[Project]) -> Result<TraceView, StoreError> {
    let mut ids: Vec<i64> = found.made.iter().map(|row| row.run_id).chain(found.runs.iter().copied()).collect();
    ids.sort_unstable();
    ids.dedup();
    let rows = app.records.runs_by_id(&ids).await?.into_iter().filter(|row| seen.iter().any(|project| project.name == row.project));
    let runs: HashMap<i64, RunRow> = rows.map(|row| (row.id, row)).collect();
    let digests = found.made.iter().map(|row| row.digest.clone()).chain(runs.values().map(|row| row.commit_id.clone()));
    let stays = app.records.stays_of(&digests.collect::<std::collections::BTreeSet<_>>().into_iter().collect::<Vec<_>>()).await?;
    let stays: Vec<StayRow> = stays.into_iter().filter(|stay| seen.iter().any(|project| project.name == stay.project)).collect();
    let held: Vec<String> = found.made.iter().map(|row| row.digest.clone()).collect();
    let holding = app.records.releases_with(&held).await?;
    let published = app.records.published_by(&ids).await?;
    let mut chains = Vec::new();
    for row in &found.made {
        let Some(run) = runs.get(&row.run_id) else { continue };
        let mut chain = of_run(run);
        let plan = app.plan_of(run.id).await?;
        chain.job = plan.and_then(|plan| Some(plan.jobs.get(usize::try_from(row.job).ok()?)?.id.to_string()));
        (chain.artifact, chain.digest, chain.path) = (Some(row.name.clone()), Some(row.digest.clone()), row.path.clone());
        (chain.kept, chain.signed) = (row.kept, row.signed);
        let own = published.iter().filter(|(run, job, name, ..)| (*run, *job, name) == (row.run_id, row.job, &row.name));
        chain.published = own.map(|(.., address, digest)| format!("{address} as {digest}")).collect();
        let in_it = holding.iter().filter(|(digest, project, ..)| *digest == row.digest && *project == run.project);
        chain.releases = in_it.map(|(.., version, state)| TracedRelease { version: version.clone(), state: state.clone() }).collect();
        chain.stays = stays.iter().filter(|stay| stay.digest == row.digest && stay.project == run.project).map(stay).collect();
        chains.push(chain);
    }
    for run in found.runs.iter().filter(|id| !found.made.iter().any(|row| row.run_id == **id)).filter_map(|id| runs.get(id)) {
        let mut chain = of_run(run);
        let here = stays.iter().filter(|stay| stay.digest == run.commit_id && stay.project == run.project);
        chain.stays = here.map(stay).collect();
        chains.push(chain);
    }
    let sentence = if found.sentence.is_empty() { sentence(found.kind, &chains) } else { found.sentence };
    Ok(TraceView { thing: text.to_owned(), kind: found.kind, sentence, chains, more: false })
}

fn of_run(run: &RunRow) -> TraceChain {
    let reference = match (&run.tag, &run.branch, &run.proposal) {
        (Some(tag), ..) => format!("tag:{tag}"),
        (None, Some(branch), _) => branch.clone(),
        (None, None, Some(number)) => format!("proposal:{number}"),
        _ => String::new(),
    };
    TraceChain {
        project: run.project.clone(),
        commit: run.commit_id.clone(),
        title: run.commit_title.clone(),
        author: run.commit_author.clone(),
        reference,
        run: format!("{}/{}", run.project, run.number),
        pipeline: run.pipeline.clone(),
        state: State::from_word(&run.state).unwrap_or(State::Failed),
        at: moment(run.ended_at.unwrap_or(run.created_at)),
        job: None,
        artifact: None,
        digest: None,
        path: None,
        kept: false,
        signed: false,
        published: Vec::new(),
        releases: Vec::new(),
        stays: Vec::new(),
    }
}

fn stay(row: &StayRow) -> TracedStay {
    TracedStay {
        project: row.project.clone(),
        environment: row.environment.clone(),
        number: row.number,
        run: row.run.clone(),
        job: row.job_id.clone(),
        since: moment(row.since),
        until: row.until.map(moment),
    }
}

fn sentence(kind: ThingKind, chains: &[TraceChain]) -> String {
    let mut there: Vec<String> =
        chains.iter().flat_map(|chain| &chain.stays).filter(|stay| stay.until.is_none()).map(|stay| stay.environment.clone()).collect();
    there.sort();
    there.dedup();
    let place = if there.is_empty() { "it is in no environment now".to_owned() } else { format!("it is in {} now", there.join(", ")) };
    let Some(first) = chains.first() else { return String::new() };
    let commit = first.commit.get(..8).unwrap_or(&first.commit);
    let name = || format!("{}/{}", first.job.as_deref().unwrap_or_default(), first.artifact.as_deref().unwrap_or_default());
    match kind {
        ThingKind::Commit => format!("commit {commit} “{}” by {}; {place}", first.title, first.author),
        ThingKind::Run => format!("{} of commit {commit}; {place}", first.run),
        ThingKind::Artifact => format!("artifact {} of {}; {place}", name(), first.run),
        ThingKind::File => format!("file {} in {} of {}; {place}", first.path.as_deref().unwrap_or_default(), name(), first.run),
        ThingKind::Published => format!("published from {} of {}; {place}", name(), first.run),
        ThingKind::Environment | ThingKind::Release => place,
    }
}
