//! Signing in at a provider of OpenID Connect: the authorization code flow with PKCE (RFC 7636), `state` and `nonce`.
//! A sign-in that was begun is kept in memory until its answer comes, which counts once and from the same browser only.

mod begun;

pub(crate) use begun::SignIns;

use crate::app::App;
use crate::causes::causes;
use crate::clock;
use crate::settings::{Newcomers, SignIn};
use begun::Begun;
use openidconnect::core::{CoreAuthenticationFlow, CoreClient, CoreProviderMetadata};
use openidconnect::{
    AsyncHttpClient, AuthorizationCode, ClientId, ClientSecret, CsrfToken, HttpRequest, HttpResponse, IssuerUrl, Nonce, PkceCodeChallenge,
    RedirectUrl, Scope, TokenResponse,
};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_store::{Entry, PersonRow, StoreError};
use std::pin::Pin;

/// The largest answer that is read from a provider.
const ANSWER_LIMIT: usize = 1024 * 1024;

/// Why someone could not be signed in by the provider.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SignInError {
    #[error("no provider is set; `[sign_in]` in the service's configuration names one")]
    NoProvider,
    #[error("the provider could not be asked: {0}")]
    Away(String),
    #[error("this sign-in was not begun here, was answered already, or is older than ten minutes; begin again")]
    Unknown,
    #[error("the provider's answer does not hold: {0}")]
    Refused(String),
    #[error(
        "nobody here is known as {subject} of {issuer}; an owner can say who that is: `ordotaxis person known NAME --issuer {issuer} --subject {subject}`"
    )]
    Stranger { issuer: String, subject: String },
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A call to the provider: bounded in time by the client, and in size here; redirects are not followed.
async fn call(http: &reqwest::Client, request: HttpRequest) -> Result<HttpResponse, std::io::Error> {
    use futures_util::StreamExt;
    let (parts, body) = request.into_parts();
    let sent = http.request(parts.method, parts.uri.to_string()).headers(parts.headers).body(body).send().await;
    let answer = sent.map_err(std::io::Error::other)?;
    let (status, headers) = (answer.status(), answer.headers().clone());
    let (mut stream, mut bytes) = (answer.bytes_stream(), Vec::new());
    while let Some(piece) = stream.next().await {
        bytes.extend_from_slice(&piece.map_err(std::io::Error::other)?);
        if bytes.len() > ANSWER_LIMIT {
            return Err(std::io::Error::other("the answer is too large"));
        }
    }
    let mut response = HttpResponse::new(bytes);
    (*response.status_mut(), *response.headers_mut()) = (status, headers);
    Ok(response)
}

/// How the provider is called.
struct Provider(reqwest::Client);

impl<'c> AsyncHttpClient<'c> for Provider {
    type Error = std::io::Error;
    type Future = Pin<Box<dyn Future<Output = Result<HttpResponse, std::io::Error>> + Send + 'c>>;

    fn call(&'c self, request: HttpRequest) -> Self::Future {
        Box::pin(call(&self.0, request))
    }
}

async fn discovered(app: &App, settings: &SignIn) -> Result<CoreProviderMetadata, SignInError> {
    let issuer = IssuerUrl::new(settings.issuer.clone()).map_err(|error| SignInError::Away(error.to_string()))?;
    let http = Provider(app.provider_http.clone());
    CoreProviderMetadata::discover_async(issuer, &http).await.map_err(|error| SignInError::Away(causes(&error)))
}

/// What a provider's client is made of.
macro_rules! client {
    ($app:expr, $settings:expr) => {{
        let secret = std::fs::read_to_string(&$settings.client_secret_file)
            .map_err(|error| SignInError::Away(format!("{}: {error}", $settings.client_secret_file.display())))?;
        let back = RedirectUrl::new(format!("{}/sign-in", $app.public_url)).map_err(|error| SignInError::Away(error.to_string()))?;
        let (id, secret) = (ClientId::new($settings.client_id.clone()), ClientSecret::new(secret.trim().to_owned()));
        CoreClient::from_provider_metadata(discovered($app, $settings).await?, id, Some(secret)).set_redirect_uri(back)
    }};
}

/// Begins a sign-in: (where to send the browser, the `state` that its answer must carry).
pub(crate) async fn begin(app: &App) -> Result<(String, String), SignInError> {
    let settings = app.settings.sign_in.as_ref().ok_or(SignInError::NoProvider)?;
    let client = client!(app, settings);
    let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
    let (url, state, nonce) = client
        .authorize_url(CoreAuthenticationFlow::AuthorizationCode, CsrfToken::new_random, Nonce::new_random)
        .add_scope(Scope::new("profile".into()))
        .set_pkce_challenge(challenge)
        .url();
    let state = state.secret().clone();
    app.sign_ins.keep(state.clone(), Begun { at: clock::now(), nonce, verifier });
    Ok((url.to_string(), state))
}

/// Reads a provider's answer: who has signed in.
pub(crate) async fn finish(app: &App, code: String, state: &str) -> Result<PersonRow, SignInError> {
    let settings = app.settings.sign_in.as_ref().ok_or(SignInError::NoProvider)?;
    let begun = app.sign_ins.take(state, clock::now()).ok_or(SignInError::Unknown)?;
    let client = client!(app, settings);
    let http = Provider(app.provider_http.clone());
    let exchange = client.exchange_code(AuthorizationCode::new(code)).map_err(|error| SignInError::Refused(causes(&error)))?;
    let answer = exchange.set_pkce_verifier(begun.verifier).request_async(&http).await;
    let answer = answer.map_err(|error| SignInError::Refused(causes(&error)))?;
    let token = answer.id_token().ok_or_else(|| SignInError::Refused("it holds no identity".into()))?;
    let claims = token.claims(&client.id_token_verifier(), &begun.nonce).map_err(|error| SignInError::Refused(causes(&error)))?;
    let (issuer, subject) = (claims.issuer().as_str(), claims.subject().as_str());
    if let Some(person) = app.records.identified(issuer, subject).await? {
        return Ok(person);
    }
    let wanted = claims.preferred_username().map(|name| name.as_str().to_lowercase());
    match (settings.newcomers, wanted) {
        (Newcomers::Add, Some(name)) if crate::http::is_person_name(&name) && app.records.person(&name).await?.is_none() => {
            add(app, &name, issuer, subject).await
        }
        _ => Err(SignInError::Stranger { issuer: issuer.to_owned(), subject: subject.to_owned() }),
    }
}

/// A person for someone whom only the provider knows yet.
async fn add(app: &App, name: &str, issuer: &str, subject: &str) -> Result<PersonRow, SignInError> {
    let now = clock::now();
    let mut tx = app.records.tx(&Actor::rule("newcomers"), now).await?;
    let id = tx.add_person(name, None).await?;
    tx.add_identity(id, issuer, subject).await?;
    tx.note(Entry::new(Action::AddPerson, name).after(serde_json::json!({ "issuer": issuer, "subject": subject })));
    tx.commit().await?;
    Ok(PersonRow { id, name: name.to_owned(), mail: None, added_at: now })
}
