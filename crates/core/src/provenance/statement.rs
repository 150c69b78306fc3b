//! What is said of an artifact: an in-toto Statement v1 (<https://in-toto.io/Statement/v1>) whose predicate is SLSA provenance
//! 1.0 (<https://slsa.dev/spec/v1.0/provenance>).

use indexmap::IndexMap;
use serde_json::{Value, json};

/// What every run here is: names the meaning of the parameters. It changes when their meaning does.
const BUILD_TYPE: &str = "urn:ordotaxis:job:1";

/// All that is known of how an artifact was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    /// `pack.bundle/bundle`
    pub artifact: String,
    /// 64 hexadecimal digits.
    pub sha256: String,
    /// The files in it: path and digest.
    pub files: Vec<(String, String)>,
    /// The address of the service.
    pub service: String,
    pub project: String,
    pub source: Source,
    /// `tidegauge/41`
    pub run: String,
    pub pipeline: String,
    /// Of the plan that the run was walked by, 64 hexadecimal digits.
    pub plan_sha256: String,
    pub job: String,
    pub attempt: u32,
    pub inputs: IndexMap<String, String>,
    /// What its job took.
    pub taken: Vec<Taken>,
    /// Who did it, and how that one fences its jobs in.
    pub runner: String,
    pub isolation: String,
    /// RFC 3339.
    pub started: Option<String>,
    pub ended: Option<String>,
}

/// What it was made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// Where git finds it, without user and password.
    pub git: String,
    pub commit: String,
    /// `refs/heads/main`, `refs/tags/v1`; empty for neither.
    pub reference: String,
}

/// An artifact of another job that it was made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    pub name: String,
    pub sha256: String,
}

/// The statement. The artifact is its first subject; the files in it follow.
pub fn statement(made: &Made) -> Value {
    let subject = |name: &str, sha256: &str| json!({ "name": name, "digest": { "sha256": sha256 } });
    let files = made.files.iter().map(|(path, sha256)| subject(path, sha256));
    let subjects: Vec<Value> = std::iter::once(subject(&made.artifact, &made.sha256)).chain(files).collect();
    let Source { git, commit, reference } = &made.source;
    let at = if reference.is_empty() { String::new() } else { format!("@{reference}") };
    // SHA-1 or SHA-256, as the repository has it: in-toto calls both so.
    let repository = json!({ "uri": format!("git+{git}{at}"), "digest": { "gitCommit": commit } });
    let plan = json!({ "name": "plan", "digest": { "sha256": made.plan_sha256 } });
    let taken = made.taken.iter().map(|one| json!({ "name": one.name, "digest": { "sha256": one.sha256 } }));
    let from: Vec<Value> = [repository, plan].into_iter().chain(taken).collect();
    json!({
        "_type": "https://in-toto.io/Statement/v1",
        "subject": subjects,
        "predicateType": "https://slsa.dev/provenance/v1",
        "predicate": {
            "buildDefinition": {
                "buildType": BUILD_TYPE,
                "externalParameters": {
                    "project": made.project, "pipeline": made.pipeline, "job": made.job, "ref": reference, "inputs": made.inputs,
                },
                "internalParameters": { "runner": made.runner, "isolation": made.isolation, "attempt": made.attempt },
                "resolvedDependencies": from,
            },
            "runDetails": {
                "builder": { "id": made.service },
                "metadata": {
                    "invocationId": format!("{}/runs/{}", made.service, made.run),
                    "startedOn": made.started, "finishedOn": made.ended,
                },
            },
        },
    })
}

/// What a statement calls a thing with this digest: the artifact, or a file in it. None: it does not speak of it.
///
/// ```
/// use ordotaxis_core::provenance::named;
/// let statement = serde_json::json!({ "subject": [{ "name": "out/gauge", "digest": { "sha256": "ab" } }] });
/// assert_eq!(named(&statement, "ab").as_deref(), Some("out/gauge"));
/// assert_eq!(named(&statement, "cd"), None);
/// ```
pub fn named(statement: &Value, sha256: &str) -> Option<String> {
    let subjects = statement.get("subject")?.as_array()?;
    let fits = |one: &&Value| one["digest"]["sha256"].as_str().is_some_and(|digest| digest.eq_ignore_ascii_case(sha256));
    Some(subjects.iter().find(fits)?["name"].as_str()?.to_owned())
}
