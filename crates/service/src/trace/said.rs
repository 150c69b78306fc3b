//! What is said of one artifact: the statement, and the service's signature under it.

use crate::app::App;
use crate::causes::causes;
use ordotaxis_content::{ChunkId, Kind, Tree, hex};
use ordotaxis_core::plan::{Occasion, Plan};
use ordotaxis_core::provenance::{Envelope, Made, PAYLOAD, Source, Taken, statement as to_say, to_sign};
use ordotaxis_store::{AttemptRow, RunRow, StatementRow, StoreError, StoredArtifact, TracedFile};
use ordotaxis_wire::moment;
use ring::signature::Ed25519KeyPair;
use sha2::{Digest, Sha256};

/// A statement names the files of an artifact up to so many; of a larger one it names the whole.
const FILES: usize = 20_000;

/// All of a run that its artifacts' statements need, read once.
pub(super) struct OfRun {
    pub(super) row: RunRow,
    pub(super) plan: std::sync::Arc<Plan>,
    plan_sha256: String,
    git: String,
    pub(super) artifacts: Vec<StoredArtifact>,
    attempts: Vec<AttemptRow>,
}

impl OfRun {
    /// None: the run is gone, or nothing was planned.
    pub(super) async fn of(app: &App, run: i64) -> Result<Option<OfRun>, StoreError> {
        let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { return Ok(None) };
        let (Some(stored), Some(plan)) = (app.records.stored_run(run).await?, app.plan_of(run).await?) else { return Ok(None) };
        let Some(project) = app.records.project_by_id(stored.project_id).await? else { return Ok(None) };
        Ok(Some(OfRun {
            row,
            plan,
            plan_sha256: hex(&Sha256::digest(&stored.plan)),
            git: project.git_url,
            artifacts: app.records.artifacts(run).await?,
            attempts: app.records.attempts(run).await?,
        }))
    }

    /// All that is known of how an artifact was made. None: its job is not in the plan, or was never done in this run.
    async fn made(&self, app: &App, artifact: &StoredArtifact, files: &[TracedFile]) -> Result<Option<Made>, StoreError> {
        let Some(job) = usize::try_from(artifact.job).ok().and_then(|job| self.plan.jobs.get(job)) else { return Ok(None) };
        let Some(attempt) = self.attempts.iter().rfind(|attempt| attempt.job == artifact.job) else { return Ok(None) };
        let runner = app.records.runner(&attempt.runner).await?;
        let taken = job.takes.iter().flat_map(|take| (take.job..take.job + take.cells).map(move |from| (from, &take.artifact)));
        let taken = taken.filter_map(|(from, name)| {
            let given = self.artifacts.iter().find(|one| usize::try_from(one.job).ok() == Some(from) && one.name == *name)?;
            Some(Taken { name: format!("{}/{name}", self.plan.jobs.get(from)?.id), sha256: bare(&given.digest).to_owned() })
        });
        Ok(Some(Made {
            artifact: format!("{}/{}", job.id, artifact.name),
            sha256: bare(&artifact.digest).to_owned(),
            files: files.iter().map(|file| (file.path.clone(), hex(&file.sha256))).collect(),
            service: app.public_url.clone(),
            project: self.row.project.clone(),
            source: Source { git: self.git.clone(), commit: self.row.commit_id.clone(), reference: reference(&self.plan.occasion) },
            run: format!("{}/{}", self.row.project, self.row.number),
            pipeline: self.plan.pipeline.clone(),
            plan_sha256: self.plan_sha256.clone(),
            job: job.id.to_string(),
            attempt: attempt.number,
            inputs: self.plan.occasion.inputs.clone(),
            taken: taken.collect(),
            runner: attempt.runner.clone(),
            isolation: runner.map(|runner| runner.isolation).unwrap_or_default(),
            started: Some(moment(attempt.started_at).to_string()),
            ended: attempt.ended_at.map(|at| moment(at).to_string()),
        }))
    }

    /// Makes the statement of an artifact, signs it and keeps it. None where there is nothing to say, or no key.
    pub(super) async fn say(&self, app: &App, artifact: &StoredArtifact) -> Result<Option<StatementRow>, StoreError> {
        let files = files(app, artifact).await;
        let Some(made) = self.made(app, artifact, &files).await? else { return Ok(None) };
        let payload = serde_json::to_vec(&to_say(&made)).unwrap_or_default();
        let Some((key_id, signature)) = signed(app, &payload).await? else { return Ok(None) };
        let StoredArtifact { run_id, job, name, digest, .. } = artifact.clone();
        let row = StatementRow { run_id, job, name, digest, payload, key_id, signature };
        let mut tx = app.records.tx_by_rule("trace", crate::clock::now()).await?;
        tx.set_statement(&row, &files).await?;
        tx.commit().await?;
        Ok(Some(row))
    }
}

/// What is said of an artifact, signed.
pub(crate) async fn envelope(app: &App, artifact: &StoredArtifact) -> Result<Option<Envelope>, StoreError> {
    let row = statement(app, artifact).await?;
    Ok(row.map(|row| Envelope::new(&row.payload, &row.key_id, &row.signature)))
}

/// The statement of an artifact. One that was taken over from an earlier run has that run's.
pub(crate) async fn statement(app: &App, artifact: &StoredArtifact) -> Result<Option<StatementRow>, StoreError> {
    let known = app.records.statement(artifact.run_id, artifact.job, &artifact.name).await?;
    let row = match known.filter(|row| row.digest == artifact.digest) {
        Some(row) => Some(row),
        None => match OfRun::of(app, artifact.run_id).await? {
            Some(run) => run.say(app, artifact).await?,
            None => None,
        },
    };
    match row {
        Some(row) => Ok(Some(row)),
        None => earlier(app, artifact).await,
    }
}

/// What was said of the same artifact where it was made.
async fn earlier(app: &App, artifact: &StoredArtifact) -> Result<Option<StatementRow>, StoreError> {
    let all = app.records.made_by_digest(std::slice::from_ref(&artifact.digest), 1_000).await?;
    let Some(first) = all.into_iter().rfind(|row| row.signed) else { return Ok(None) };
    app.records.statement(first.run_id, first.job, &first.name).await
}

async fn signed(app: &App, payload: &[u8]) -> Result<Option<(String, Vec<u8>)>, StoreError> {
    let opened = app.statements.opened(&app.records, &app.seal).await?;
    Ok(opened.and_then(|(id, private)| {
        let pair = Ed25519KeyPair::from_pkcs8(&private).ok()?;
        Some((id, pair.sign(&to_sign(PAYLOAD, payload)).as_ref().to_vec()))
    }))
}

/// The files of an artifact by their digests; none where it has more than a statement names, or cannot be read.
async fn files(app: &App, artifact: &StoredArtifact) -> Vec<TracedFile> {
    let id: Option<ChunkId> = artifact.tree.as_deref().and_then(|tree| tree.parse().ok());
    let Some(id) = id.filter(|_| usize::try_from(artifact.files).is_ok_and(|count| count <= FILES)) else { return Vec::new() };
    match app.blobs.tree(&id).await {
        Ok(tree) => of_tree(&tree),
        Err(error) => {
            tracing::warn!(
                error = causes(&error),
                artifact = artifact.name,
                run = artifact.run_id,
                "an artifact's files could not be read to be noted"
            );
            Vec::new()
        }
    }
}

fn of_tree(tree: &Tree) -> Vec<TracedFile> {
    let file = |entry: &ordotaxis_content::Entry| match entry.kind {
        Kind::File { sha256: Some(sha256), .. } => Some(TracedFile { sha256, path: entry.name() }),
        _ => None,
    };
    tree.entries().iter().filter_map(file).collect()
}

/// As git names it; of what is in no branch or tag the proposal, or nothing.
fn reference(occasion: &Occasion) -> String {
    match (occasion.tag_name(), occasion.branch(), occasion.proposal_number()) {
        (Some(tag), ..) => format!("refs/tags/{tag}"),
        (None, Some(branch), _) => format!("refs/heads/{branch}"),
        (None, None, Some(number)) => format!("proposal {number}"),
        (None, None, None) => String::new(),
    }
}

fn bare(digest: &str) -> &str {
    digest.strip_prefix("sha256:").unwrap_or(digest)
}
