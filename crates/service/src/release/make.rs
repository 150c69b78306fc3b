//! Makes a release of what a job's run made: its notes, what it rests on, its tag. Whatever breaks off is done again and comes
//! to the same; what cannot be made is said where people look for releases.

use super::evidence::evidence;
use super::notes::{landed, of_commit};
use super::ready::{began_with_its_tag, in_the_way};
use super::tell::tell;
use super::wanted::ReleaseWork;
use crate::app::App;
use crate::clock;
use crate::keeper::RunCommand;
use crate::work::Outcome;
use ordotaxis_core::access::Action;
use ordotaxis_core::plan::Plan;
use ordotaxis_core::release::{NotesFrom, Wanted, wanted};
use ordotaxis_git::Tagged;
use ordotaxis_store::{DueWork, Entry, JobRow, NewRelease, Project, ReleaseAsset, RunRow, StoreError};
use std::collections::BTreeMap;

/// After so many tries, about three days, it is given up.
const MOST_TRIES: u32 = 900;

/// Does one piece of work.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    match serde_json::from_str::<ReleaseWork>(&due.body) {
        Ok(ReleaseWork::Make { run, job }) => Making::of(app, &project, run, job).await,
        Ok(ReleaseWork::Tell { version }) => tell(app, &project, &version).await,
        Err(_) => Ok(Outcome::Hopeless("the work cannot be read".into())),
    }
}

/// A release on its way.
struct Making<'a> {
    app: &'a App,
    project: &'a Project,
    row: RunRow,
    plan: std::sync::Arc<Plan>,
    jobs: Vec<JobRow>,
    job: usize,
}

impl Making<'_> {
    async fn of(app: &App, project: &Project, run: i64, job: usize) -> Result<Outcome, StoreError> {
        let Some(row) = app.records.runs_by_id(&[run]).await?.pop() else { return Ok(Outcome::Done(None)) };
        let Some(plan) = app.plan_of(run).await? else { return Ok(Outcome::Done(None)) };
        let making = Making { app, project, row, plan, jobs: app.records.jobs(run).await?, job };
        let facts = making.facts();
        let fact = |job: &str, name: &str| facts.get(&format!("{job}.{name}")).cloned();
        match wanted(&making.plan, job, fact) {
            Some(Ok(wanted)) => making.make(&wanted).await,
            Some(Err(why)) => making.not_made(why).await,
            None => Ok(Outcome::Done(None)),
        }
    }

    fn number(&self) -> i64 {
        i64::try_from(self.job).unwrap_or(i64::MAX)
    }

    /// What all jobs left: `STAGE.JOB.NAME` → value.
    fn facts(&self) -> BTreeMap<String, String> {
        let mut all = BTreeMap::new();
        for row in &self.jobs {
            let Some(planned) = usize::try_from(row.number).ok().and_then(|at| self.plan.jobs.get(at)) else { continue };
            let own: BTreeMap<String, String> = row.facts.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
            all.extend(own.into_iter().map(|(name, value)| (format!("{}.{name}", planned.id.without_cell()), value)));
        }
        all
    }

    async fn make(&self, wanted: &Wanted) -> Result<Outcome, StoreError> {
        let (commit, by) = (&self.row.commit_id, (self.row.id, self.number()));
        if let Some(known) = self.app.records.release(self.project.id, &wanted.version).await?
            && ((known.run_id, known.job) == by || began_with_its_tag(&known, wanted, commit))
        {
            return Ok(Outcome::Done(Some(format!("{} is there already", wanted.version))));
        }
        if let Some(why) = in_the_way(self.app, self.project, wanted, commit, by).await? {
            return self.not_made(why).await;
        }
        let assets = match self.assets(wanted).await? {
            Ok(assets) => assets,
            Err(why) => return self.not_made(why).await,
        };
        if wanted.makes_tag {
            let message = format!("{}\n\nMade by {}/{} {}", wanted.title, self.row.project, self.row.number, self.plan.jobs[self.job].id);
            let time = self.jobs.get(self.job).and_then(|job| job.ended_at).unwrap_or(self.row.created_at) / 1_000;
            match self.app.mirror(self.project).make_tag(&wanted.tag, commit, &message, time).await {
                Ok(Tagged::Done) => {}
                Ok(Tagged::Names(other)) => return self.not_made(format!("tag {} names commit {other}", wanted.tag)).await,
                Ok(Tagged::Refused(said)) => {
                    return self.not_made(format!("the repository does not take tag {}: {said}", wanted.tag)).await;
                }
                Err(error) => return Ok(Outcome::Failed { why: error.to_string(), tries: MOST_TRIES, after: None }),
            }
        }
        self.write(wanted, &assets).await
    }

    /// What is fetched of it: artifacts of this run, as they are in the store.
    async fn assets(&self, wanted: &Wanted) -> Result<Result<Vec<ReleaseAsset>, String>, StoreError> {
        let all = self.app.records.artifacts(self.row.id).await?;
        let mut assets = Vec::new();
        for (job, name) in &wanted.assets {
            let before = assets.len();
            let of = |number: i64| usize::try_from(number).ok().and_then(|at| self.plan.jobs.get(at)).map(|planned| &planned.id);
            let given = all.iter().filter(|one| one.name == *name && of(one.job).is_some_and(|id| id.without_cell() == job));
            assets.extend(given.map(|one| ReleaseAsset {
                job: one.job,
                job_id: of(one.job).map(ToString::to_string).unwrap_or_default(),
                name: one.name.clone(),
                digest: one.digest.clone(),
                bytes: one.raw_bytes,
                files: one.files,
            }));
            if assets.len() == before {
                return Ok(Err(format!("artifact {job}/{name} is not there: its job gave nothing, or it was swept away")));
            }
        }
        Ok(Ok(assets))
    }

    async fn write(&self, wanted: &Wanted, assets: &[ReleaseAsset]) -> Result<Outcome, StoreError> {
        let (app, project) = (self.app, self.project);
        let notes = match &wanted.notes {
            NotesFrom::Collected => landed(app, project, self.row.branch.as_deref().unwrap_or(&project.main_branch)).await?,
            from => match of_commit(app, project, from, &self.row.commit_id).await {
                Ok(notes) => notes,
                Err(why) => return self.not_made(why).await,
            },
        };
        let evidence = evidence(app, project, &self.row, &self.plan, &self.jobs, wanted, assets).await?.to_string();
        let (run, job_id) = (format!("{}/{}", self.row.project, self.row.number), self.plan.jobs[self.job].id.to_string());
        let new = NewRelease {
            project_id: project.id,
            version: &wanted.version,
            title: &wanted.title,
            draft: wanted.draft,
            commit_id: &self.row.commit_id,
            tag: &wanted.tag,
            run_id: self.row.id,
            run: &run,
            job: self.number(),
            job_id: &job_id,
            notes: &notes,
            evidence: &evidence,
            assets,
        };
        let mut tx = app.records.tx_by_rule("release", clock::now()).await?;
        if tx.add_release(&new).await?.is_some() {
            let state = if wanted.draft { "draft" } else { "published" };
            let after = serde_json::json!({ "state": state, "commit": self.row.commit_id, "tag": wanted.tag, "run": run, "job": job_id });
            tx.note(Entry::new(Action::MakeRelease, format!("release {}", wanted.version)).of(&project.name).after(after));
            if !wanted.draft {
                tx.add_work(&ReleaseWork::Tell { version: wanted.version.clone() }.row(project.id)).await?;
            }
        }
        tx.commit().await?;
        for asset in assets {
            let (run, job, name) = (self.row.id, asset.job, asset.name.clone());
            // Read anew it is known as well: a service that is ending may miss it.
            let _ = app.keeper.ask(|reply| RunCommand::Pinned { run, job, name, pinned: true, reply }).await;
        }
        Ok(Outcome::Done(Some(format!("{} is released", wanted.version))))
    }

    /// It cannot be made, whatever one waits for: said where people look for releases, and in the work that was given up.
    async fn not_made(&self, why: String) -> Result<Outcome, StoreError> {
        let mut tx = self.app.records.tx_by_rule("release", clock::now()).await?;
        tx.set_unreleased(self.row.id, self.number(), &why).await?;
        tx.commit().await?;
        Ok(Outcome::Hopeless(format!("{}/{} {} made no release: {why}", self.row.project, self.row.number, self.plan.jobs[self.job].id)))
    }
}
