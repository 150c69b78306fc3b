//! Releases: made once, edited with what was before kept, published and withdrawn; what they hold is kept for good.

use super::{a_plan, begin, end, new_run, project, records};
use ordotaxis_core::engine::State;
use ordotaxis_store::{NewRelease, Project, Records, ReleaseAsset, StepRows, StoredArtifact};

fn asset(name: &str, digest: &str) -> ReleaseAsset {
    ReleaseAsset { job: 0, job_id: "a.x".into(), name: name.into(), digest: digest.into(), bytes: 7, files: 1 }
}

fn new<'a>(project: &Project, run_id: i64, version: &'a str, assets: &'a [ReleaseAsset]) -> NewRelease<'a> {
    NewRelease {
        project_id: project.id,
        version,
        title: "First",
        draft: true,
        commit_id: "c1",
        tag: "v1",
        run_id,
        run: "tidegauge/1",
        job: 1,
        job_id: "b.y",
        notes: "- a gauge",
        evidence: "{\"evidence\":1}",
        assets,
    }
}

/// A run that has ended and gave one artifact, whose time is over.
async fn run(records: &Records, project: &Project) -> i64 {
    let id = begin(records, &new_run(project, "c1", "push", Some(&a_plan())), 1).await.expect("a run").id;
    let artifact = StoredArtifact {
        run_id: id,
        job: 0,
        name: "bundle".into(),
        digest: "sha256:a".into(),
        bytes: 7,
        files: 1,
        tree: Some("t1".into()),
        raw_bytes: 7,
        content: "k".into(),
        kept_until: Some(20),
        pinned_by: None,
    };
    change!(records, 2, write_step(&StepRows { artifacts: vec![artifact], ..StepRows::default() })).expect("a step");
    end(records, id, State::Passed, 15).await;
    id
}

#[tokio::test]
async fn a_version_is_released_once_and_what_it_holds_is_kept() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let id = run(&records, &project).await;
    assert_eq!(records.due_artifacts(30).await.expect("an answer").len(), 1, "it may be swept away");
    change!(records, 9, set_unreleased(id, 1, "the tag was in the way")).expect("said");
    assert_eq!(records.unreleased(project.id).await.expect("an answer").len(), 1);
    let assets = [asset("bundle", "sha256:a")];
    let made = change!(records, 10, add_release(&new(&project, id, "1.0", &assets))).expect("an answer");
    assert!(made.is_some());
    assert_eq!(change!(records, 11, add_release(&new(&project, id, "1.0", &[]))).expect("an answer"), None, "there is one");
    let row = records.release(project.id, "1.0").await.expect("an answer").expect("a release");
    assert_eq!((row.state.as_str(), row.published_at, row.notes.as_str()), ("draft", None, "- a gauge"));
    assert_eq!(records.release_assets(row.id).await.expect("an answer"), assets);
    assert_eq!(records.due_artifacts(30).await.expect("an answer"), [], "it is kept for good");
    assert_eq!(records.release_of_artifact(id, 0, "bundle").await.expect("an answer").as_deref(), Some("1.0"));
    assert_eq!(records.release_of_artifact(id, 0, "other").await.expect("an answer"), None);
    assert_eq!(records.unreleased(project.id).await.expect("an answer"), [], "that is over");
    let holding = records.releases_with(&["sha256:a".to_owned(), "sha256:b".to_owned()]).await.expect("an answer");
    assert_eq!(holding, [("sha256:a".to_owned(), "tidegauge".to_owned(), "1.0".to_owned(), "draft".to_owned())]);
}

#[tokio::test]
async fn every_edit_is_kept_and_a_release_goes_to_and_fro() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let id = run(&records, &project).await;
    let release = change!(records, 10, add_release(&new(&project, id, "1.0", &[]))).expect("an answer").expect("made");
    change!(records, 20, edit_release(release, "First", "- a better gauge", "ines")).expect("edited");
    change!(records, 30, edit_release(release, "The first", "- a better gauge", "mara")).expect("edited");
    let edits = records.release_edits(release).await.expect("an answer");
    let told: Vec<(i64, &str, Option<&str>, i64)> =
        edits.iter().map(|edit| (edit.number, edit.notes.as_str(), edit.by.as_deref(), edit.at)).collect();
    assert_eq!(told, [(3, "- a better gauge", Some("mara"), 30), (2, "- a better gauge", Some("ines"), 20), (1, "- a gauge", None, 10)]);
    let now = async || records.release(project.id, "1.0").await.expect("an answer").expect("a release");
    for (state, first) in [("published", true), ("published", false), ("withdrawn", true), ("withdrawn", false), ("published", true)] {
        let done = match state {
            "published" => change!(records, 40, publish_release(release, "ines")),
            _ => change!(records, 50, withdraw_release(release, "mara", "it drifts")),
        };
        assert_eq!((done.expect("an answer"), now().await.state.as_str()), (first, state));
    }
    let row = now().await;
    assert_eq!((row.published_by.as_deref(), row.reason, row.withdrawn_by), (Some("ines"), None, None), "it is published anew");
    change!(records, 60, set_release_told(release, "the forge knows of it")).expect("told");
    assert_eq!(now().await.told.as_deref(), Some("the forge knows of it"));
}
