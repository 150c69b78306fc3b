//! Who a job is, said to the outside: a signed token (JWT, RFC 7519, ES256) that lasts as long as the job may take. The
//! service is the issuer: outside systems find its keys by OpenID Connect discovery, so that they can trust a job by its
//! project, pipeline, ref and commit without any secret stored here. And the tokens that jobs ask for with `allows`.

mod keys;
mod names;

pub(crate) use keys::{Issuer, Purpose};
pub(crate) use names::{TOKEN, TOKEN_PREFIX};

use crate::app::App;
use crate::clock;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use keys::{PUBLISHED_MS, ROTATE_MS};
use ordotaxis_core::plan::Plan;
use ordotaxis_store::{JobToken, Secret, StoreError};
use ordotaxis_wire::runner::Lease;
use serde::Serialize;
use serde_json::{Value, json};

/// A clock elsewhere may be behind ours by as much.
const SKEW_S: i64 = 60;
/// The longest that a token is good, whatever its job may take.
const LONGEST_S: i64 = 24 * 60 * 60;

/// What a token says. Claims beside the registered ones (RFC 7519, 4.1) have the names of variables that steps find.
#[derive(Debug, Serialize)]
struct Claims<'a> {
    iss: &'a str,
    /// `project:tidegauge:branch:main`, with what the run is of.
    sub: String,
    aud: &'a str,
    iat: i64,
    nbf: i64,
    exp: i64,
    jti: String,
    project: &'a str,
    pipeline: &'a str,
    run: &'a str,
    job: &'a str,
    attempt: u32,
    event: &'a str,
    commit: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    branch: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    tag: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    environment: Option<&'a str>,
}

/// The discovery document (OpenID Connect Discovery 1.0, section 3).
pub(crate) fn discovery(app: &App) -> Value {
    json!({
        "issuer": app.public_url,
        "jwks_uri": format!("{}/.well-known/jwks.json", app.public_url),
        "response_types_supported": ["id_token"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
        "claims_supported": [
            "iss", "sub", "aud", "iat", "nbf", "exp", "jti",
            "project", "pipeline", "run", "job", "attempt", "event", "commit", "branch", "tag", "environment",
        ],
    })
}

/// The keys with which tokens that may still be good were signed (a JWK set, RFC 7517).
pub(crate) async fn jwks(app: &App) -> Result<Value, StoreError> {
    let now = clock::now();
    app.identity.key(&app.records, &app.seal, now).await?;
    let keys =
        app.records.signing_keys(Purpose::Identity.word()).await?.into_iter().filter(|key| now - key.made_at < ROTATE_MS + PUBLISHED_MS);
    let keys: Vec<Value> = keys.filter_map(|key| serde_json::from_str(&key.public).ok()).collect();
    Ok(json!({ "keys": keys }))
}

/// The keys with which statements of artifacts were ever signed (a JWK set, RFC 7517 and 8037).
pub(crate) async fn statement_keys(app: &App) -> Result<Value, StoreError> {
    app.statements.key(&app.records, &app.seal, clock::now()).await?;
    let keys = app.records.signing_keys(Purpose::Statement.word()).await?;
    let keys: Vec<Value> = keys.iter().filter_map(|key| serde_json::from_str(&key.public).ok()).collect();
    Ok(json!({ "keys": keys }))
}

/// A new token for the attempt of a lease: what its job `allows`, as long as the attempt goes on.
pub(crate) async fn job_token(app: &App, lease: &Lease, allows: &[String]) -> Result<String, StoreError> {
    let secret = Secret::random(TOKEN_PREFIX.trim_end_matches('_'));
    let job = i64::try_from(lease.attempt.job).unwrap_or(i64::MAX);
    let made = JobToken { run_id: lease.attempt.run, job, attempt: lease.attempt.attempt, allows: allows.to_vec() };
    let mut tx = app.records.tx_by_rule("job-token", clock::now()).await?;
    tx.add_job_token(secret.expose(), &made).await?;
    tx.commit().await?;
    Ok(secret.expose().to_owned())
}

/// A signed token that says to `audience` who the job of a lease is; or why there is none.
pub(crate) async fn sign(app: &App, lease: &Lease, plan: &Plan, audience: &str) -> Result<Result<String, String>, StoreError> {
    Ok(match app.identity.opened(&app.records, &app.seal).await? {
        Some((id, private)) => signed(app, lease, plan, &id, &private, audience),
        None => Err("the service has no key to sign with".to_owned()),
    })
}

fn signed(app: &App, lease: &Lease, plan: &Plan, key: &str, private: &[u8], audience: &str) -> Result<String, String> {
    let occasion = &plan.occasion;
    let now = clock::now() / 1000;
    let lasts = lease.timeout_ms.map_or(LONGEST_S, |ms| i64::try_from(ms / 1000).unwrap_or(LONGEST_S)).min(LONGEST_S);
    let job = lease.job.to_string();
    let claims = Claims {
        iss: &app.public_url,
        sub: subject(&lease.project, occasion),
        aud: audience,
        iat: now,
        nbf: now - SKEW_S,
        exp: now + lasts + SKEW_S,
        jti: format!("{}-{}", lease.attempt, URL_SAFE_NO_PAD.encode(rand::random::<[u8; 9]>())),
        project: &lease.project,
        pipeline: &plan.pipeline,
        run: &lease.run,
        job: &job,
        attempt: lease.attempt.attempt,
        event: occasion.event().word(),
        commit: &lease.commit,
        branch: occasion.branch(),
        tag: occasion.tag_name(),
        environment: lease.environment.as_deref(),
    };
    let header = Header { kid: Some(key.to_owned()), ..Header::new(Algorithm::ES256) };
    encode(&header, &claims, &EncodingKey::from_ec_der(private)).map_err(|error| format!("the identity could not be signed: {error}"))
}

/// What outside systems match on.
fn subject(project: &str, occasion: &ordotaxis_core::plan::Occasion) -> String {
    let of = match (occasion.tag_name(), occasion.target(), occasion.branch()) {
        (Some(tag), ..) => format!("tag:{tag}"),
        (None, Some(target), None) => format!("proposal:{target}"),
        (None, _, Some(branch)) => format!("branch:{branch}"),
        (None, None, None) => format!("commit:{}", occasion.commit.as_deref().unwrap_or_default()),
    };
    format!("project:{project}:{of}")
}
