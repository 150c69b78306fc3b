//! The client's side of the service's HTTP API.

use crate::failure::Failure;
use crate::global::Global;
use crate::profile;
use crate::reference::RunRef;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::run::RunView;
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::Duration;

#[derive(Clone)]
pub(crate) struct Api {
    pub(crate) url: String,
    token: String,
    http: reqwest::Client,
}

impl Api {
    /// The service named by options, environment or `sign-in`.
    pub(crate) fn new(global: &Global) -> Result<Api, Failure> {
        let kept = profile::load();
        let url = address(global);
        let missing = || Failure::new(2, "no token is known", "run `ordotaxis sign-in`, or give --token or ORDOTAXIS_TOKEN");
        let token = global.token.clone().or(kept.token).ok_or_else(missing)?;
        Api::with(url, token)
    }

    pub(crate) fn with(url: String, token: String) -> Result<Api, Failure> {
        let built = ordotaxis_runner::calls_to(&url)
            .user_agent(concat!("ordotaxis/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(Duration::from_secs(10))
            .build();
        let no_roots = |error| {
            let what = format!("this machine's certificates of authorities could not be read: {error}");
            Failure::new(3, what, "install them (on Debian: `apt-get install ca-certificates`)")
        };
        Ok(Api { url: url.trim_end_matches('/').to_owned(), token, http: built.map_err(no_roots)? })
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/api/v1/{path}", self.url)).bearer_auth(&self.token)
    }

    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let answer = request.send().await.map_err(|error| {
            let why = if error.is_connect() { "nothing listens there" } else { "it does not answer" };
            Failure::new(
                3,
                format!("the service at {} could not be reached: {why}", self.url),
                "start it with `ordotaxis serve`, or name another with --url",
            )
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        if let Some(to) =
            answer.headers().get(reqwest::header::LOCATION).and_then(|to| to.to_str().ok()).filter(|_| status.is_redirection())
        {
            return Err(Failure::new(3, format!("the service at {} sends callers to {to}", self.url), "name that address with --url"));
        }
        let call = answer.headers().get("x-request-id").and_then(|id| id.to_str().ok()).map(str::to_owned);
        let text = answer.text().await.unwrap_or_default();
        let what = serde_json::from_str::<Problem>(&text).map_or_else(|_| format!("it answered {status}"), |problem| problem.detail);
        // What was mistyped needs no word about the service: the message says what to write.
        let mistyped = matches!(status.as_u16(), 400 | 404 | 422);
        if mistyped {
            return Err(Failure::new(2, what, ""));
        }
        // What is the service's own fault stands in its log, under the call's id.
        let call = call.filter(|_| status.is_server_error()).map(|id| format!("; its log names the call {id}")).unwrap_or_default();
        Err(Failure::new(3, what, format!("the service at {} refused ({status}){call}", self.url)))
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.read(self.request(Method::GET, path)).await
    }

    pub(crate) async fn put<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(Method::PUT, path).json(body)).await
    }

    pub(crate) async fn post<A: Serialize, T: DeserializeOwned>(&self, path: &str, ask: &A) -> Result<T, Failure> {
        self.read(self.request(Method::POST, path).json(ask)).await
    }

    pub(crate) async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, Failure> {
        let answer = self.send(request).await?;
        let not_ours = |_| {
            Failure::new(
                3,
                format!("{} does not speak as an Ordotaxis service", self.url),
                "check --url, and that both have the same version",
            )
        };
        answer.json().await.map_err(not_ours)
    }

    pub(crate) async fn run(&self, run: &RunRef) -> Result<RunView, Failure> {
        match run.number {
            Some(number) => self.get(&format!("runs/{}/{number}", run.project)).await,
            None => {
                let request = self.request(Method::GET, &format!("projects/{}/newest-run", run.project));
                self.read(request.query(&run.pipeline.iter().map(|name| ("pipeline", name)).collect::<Vec<_>>())).await
            }
        }
    }
}

pub(crate) fn address(global: &Global) -> String {
    global.url.clone().or(profile::load().url).unwrap_or_else(|| "http://127.0.0.1:7070".into())
}
