//! The runner protocol from the runner's side. Calls that must arrive are made again until they do, with growing,
//! jittered pauses; a plain "no" from the service is an answer, not a reason to try again.

pub use crate::call_error::CallError;
use crate::calls::calls_to;
use crate::direct::Direct;
use crate::identity::Identity;
use crate::incoming::{Incoming, Pieces};
use ordotaxis_content::ChunkId;
use ordotaxis_wire::problem::Problem;
use ordotaxis_wire::runner::{
    AskFiles, AskLarge, AskPack, AskPut, AttemptId, AttemptReports, Beat, Beaten, Claim, Claimed, Enrol, Enrolled, FilesAbout, FindCache,
    Finish, FoundCache, GiveBack, LetGo, LogAnswer, MachineTerms, PackPiece, Phases, PutPlace, ReadPlaces, ReportsTaken, SaveCache,
    SavedCache, SignOff, SignOn, SignedOn, TakenAway,
};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// How long and how often a service is asked that does not answer, or cannot.
const ENROL: Duration = Duration::from_secs(60);
const ENROL_TRIES: u32 = 8;

/// Trades a one-use token for an identity of its own.
pub async fn enrol(url: &str, token: &str, name: &str) -> Result<Identity, CallError> {
    Ok(join(url, token, name).await?.0)
}

/// The same for a pool's machine, which is told besides what it is to do.
pub async fn join(url: &str, token: &str, name: &str) -> Result<(Identity, Option<MachineTerms>), CallError> {
    let client = Client::new(Identity { url: url.trim_end_matches('/').to_owned(), name: name.to_owned(), credential: String::new() })?;
    let ask = Enrol { token: token.to_owned(), name: name.to_owned() };
    let patience = CancellationToken::new();
    let asked = insist_for(ENROL_TRIES, &patience, || client.post("enrol", &ask));
    let enrolled: Enrolled = tokio::time::timeout(ENROL, asked).await.unwrap_or(Err(CallError::Leaving))?;
    Ok((Identity { url: client.identity.url, name: enrolled.name, credential: enrolled.credential }, enrolled.machine))
}

/// Calls to the service, with the runner's credential.
#[derive(Clone)]
pub(crate) struct Client {
    identity: Identity,
    http: reqwest::Client,
    direct: Direct,
}

impl Client {
    pub(crate) fn new(identity: Identity) -> Result<Client, CallError> {
        let http = calls_to(&identity.url).tcp_nodelay(true).connect_timeout(Duration::from_secs(10)).read_timeout(Duration::from_secs(60));
        let http = http.build().map_err(CallError::NoCertificates)?;
        Ok(Client { identity, http, direct: Direct::default() })
    }

    /// The same runner's calls over connections of their own, for use on another runtime.
    pub(crate) fn with_own_connections(&self) -> Result<Client, CallError> {
        Client::new(self.identity.clone())
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/runner/v1/{path}", self.identity.url)).bearer_auth(&self.identity.credential)
    }

    /// Sends a call once and reads a refusal. Who calls decides whether to try again.
    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, CallError> {
        let unreachable = |source| CallError::Unreachable { url: self.identity.url.clone(), source };
        let answer = request.send().await.map_err(unreachable)?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        if status == StatusCode::CONFLICT {
            let problem: Option<Problem> = answer.json().await.ok();
            return Err(match problem {
                Some(problem) if problem.kind != "/problems/given-up" => CallError::Refused { status: 409, detail: problem.detail },
                _ => CallError::GivenUp,
            });
        }
        let problem: Result<Problem, _> = answer.json().await;
        let detail = problem.map_or_else(|_| format!("the service answered {status}"), |problem| problem.detail);
        Err(CallError::Refused { status: status.as_u16(), detail })
    }

    async fn post<A: Serialize, T: DeserializeOwned>(&self, path: &str, ask: &A) -> Result<T, CallError> {
        let answer = self.send(self.request(Method::POST, path).json(ask)).await?;
        answer.json().await.map_err(|source| CallError::Unreachable { url: self.identity.url.clone(), source })
    }

    async fn post_only<A: Serialize>(&self, path: &str, ask: &A) -> Result<(), CallError> {
        self.send(self.request(Method::POST, path).json(ask)).await.map(drop)
    }

    pub(crate) async fn sign_on(&self, ask: &SignOn) -> Result<SignedOn, CallError> {
        self.post("sign-on", ask).await
    }

    pub(crate) async fn sign_off(&self, session: &str) -> Result<(), CallError> {
        self.post_only("sign-off", &SignOff { session: session.to_owned() }).await
    }

    pub(crate) fn name(&self) -> &str {
        &self.identity.name
    }

    pub(crate) async fn taken_away(&self, session: &str) -> Result<(), CallError> {
        self.post_only("taken-away", &TakenAway { session: session.to_owned() }).await
    }

    /// An attempt that this runner cannot go on with.
    pub(crate) async fn let_go(&self, attempt: AttemptId, ask: &LetGo) -> Result<(), CallError> {
        self.post_only(&format!("attempts/{attempt}/let-go"), ask).await
    }

    pub(crate) async fn claim(&self, session: &str, slot: u32) -> Result<Claimed, CallError> {
        self.post("claim", &Claim { session: session.to_owned(), slot }).await
    }

    pub(crate) async fn beat(&self, beat: &Beat) -> Result<Beaten, CallError> {
        self.post("beat", beat).await
    }

    /// Bytes of a log that are at `offset` and were read at `at`.
    pub(crate) async fn log(
        &self,
        attempt: AttemptId,
        stream: Option<&str>,
        offset: u64,
        at: i64,
        bytes: Vec<u8>,
    ) -> Result<LogAnswer, CallError> {
        let stream = stream.map(|name| format!("&beside={name}")).unwrap_or_default();
        let request = self.request(Method::POST, &format!("attempts/{attempt}/log?offset={offset}&at={at}{stream}")).body(bytes);
        let answer = self.send(request).await?;
        answer.json().await.map_err(|source| CallError::Unreachable { url: self.identity.url.clone(), source })
    }

    pub(crate) async fn phases(&self, attempt: AttemptId, phases: Phases) -> Result<(), CallError> {
        self.post_only(&format!("attempts/{attempt}/phases"), &phases).await
    }

    pub(crate) async fn finish(&self, attempt: AttemptId, finish: &Finish) -> Result<Claimed, CallError> {
        self.post(&format!("attempts/{attempt}/finish"), finish).await
    }

    /// Gives back what a slot was leased ahead of time.
    pub(crate) async fn give_back(&self, attempt: AttemptId, ask: &GiveBack) -> Result<(), CallError> {
        self.post_only(&format!("attempts/{attempt}/give-back"), ask).await
    }

    /// For each named chunk (32 bytes) whether the store lacks it.
    pub(crate) async fn missing(&self, names: Vec<u8>) -> Result<Vec<bool>, CallError> {
        let answer = self.send(self.request(Method::POST, "chunks/missing").body(names)).await?;
        let said = answer.bytes().await.map_err(|source| CallError::Unreachable { url: self.identity.url.clone(), source })?;
        Ok(said.iter().map(|byte| *byte != 0).collect())
    }

    /// Stores a pack of chunks. A repeat stores it again, which a sweep finds.
    pub(crate) async fn put_pack(&self, pack: bytes::Bytes) -> Result<(), CallError> {
        if self.put_directly(&pack).await? {
            return Ok(());
        }
        self.send(self.request(Method::POST, "packs").body(pack)).await.map(drop)
    }

    /// Puts a pack into storage without the service, where there is such a way. False: it is to be sent to the service.
    async fn put_directly(&self, pack: &bytes::Bytes) -> Result<bool, CallError> {
        if !self.direct.is_open() {
            return Ok(false);
        }
        let asked = self.post("packs/places", &AskPut { bytes: pack.len() as u64 }).await;
        let Some(PutPlace { open, put }) = self.unless_refused(asked)? else { return Ok(false) };
        if !open {
            self.direct.rest("its storage is the service's alone");
        }
        let Some(at) = put else { return Ok(false) };
        if let Err(error) = self.direct.put(&at, pack.clone()).await {
            self.direct.rest(&error.to_string());
            return Ok(false);
        }
        match self.send(self.request(Method::POST, &format!("packs/places/{}", at.name))).await {
            Ok(_) => Ok(true),
            // A service that was started meanwhile does not know the place any more. The way is still open.
            Err(CallError::Refused { .. }) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// The blocks that hold the named chunks of a tree, as a pack that is read as it comes.
    pub(crate) async fn chunks(&self, attempt: AttemptId, tree: &ChunkId, names: Vec<u8>) -> Result<Incoming, CallError> {
        let names = bytes::Bytes::from(names);
        if let Some(pieces) = self.read_places(attempt, tree, names.clone()).await? {
            return Ok(Incoming::Storage(Pieces::new(self.direct.clone(), pieces)));
        }
        let ask = self.request(Method::POST, &format!("attempts/{attempt}/trees/{tree}/chunks")).body(names);
        Ok(Incoming::Service(self.send(ask).await?))
    }

    /// Where chunks can be read without the service.
    async fn read_places(&self, attempt: AttemptId, tree: &ChunkId, names: bytes::Bytes) -> Result<Option<Vec<PackPiece>>, CallError> {
        if !self.direct.is_open() {
            return Ok(None);
        }
        let ask = self.request(Method::POST, &format!("attempts/{attempt}/trees/{tree}/places")).body(names);
        let Some(answer) = self.unless_refused(self.send(ask).await)? else { return Ok(None) };
        let ReadPlaces { open, pieces } = answer.json().await.map_err(CallError::broke_off)?;
        if !open {
            self.direct.rest("its storage is the service's alone");
        }
        Ok(pieces)
    }

    /// None for a refusal: an older service knows no such call, and another reason is told again by the call that every
    /// service knows.
    fn unless_refused<T>(&self, answer: Result<T, CallError>) -> Result<Option<T>, CallError> {
        match answer {
            Ok(answer) => Ok(Some(answer)),
            Err(CallError::Refused { status: 404 | 405, .. }) => {
                self.direct.rest("the service gives no addresses for it");
                Ok(None)
            }
            Err(CallError::Refused { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// What there is of an attempt's commit.
    pub(crate) async fn files_about(&self, attempt: AttemptId, ask: &AskFiles) -> Result<FilesAbout, CallError> {
        self.post(&format!("attempts/{attempt}/files/about"), ask).await
    }

    /// A pack of git's objects, read as it comes.
    pub(crate) async fn files_pack(&self, attempt: AttemptId, ask: &AskPack) -> Result<Response, CallError> {
        self.send(self.request(Method::POST, &format!("attempts/{attempt}/files/pack")).json(ask)).await
    }

    /// A large file, read as it comes.
    pub(crate) async fn files_large(&self, attempt: AttemptId, ask: &AskLarge) -> Result<Response, CallError> {
        self.send(self.request(Method::POST, &format!("attempts/{attempt}/files/large")).json(ask)).await
    }

    pub(crate) async fn left(&self, attempt: AttemptId, left: &AttemptReports) -> Result<ReportsTaken, CallError> {
        self.post(&format!("attempts/{attempt}/left"), left).await
    }

    pub(crate) async fn find_cache(&self, attempt: AttemptId, ask: &FindCache) -> Result<FoundCache, CallError> {
        self.post(&format!("attempts/{attempt}/caches/find"), ask).await
    }

    pub(crate) async fn keep_entry(&self, attempt: AttemptId, ask: &SaveCache) -> Result<SavedCache, CallError> {
        self.post(&format!("attempts/{attempt}/caches/save"), ask).await
    }
}

/// Pauses between tries: doubling from 100 ms to 5 s, each between half and one and a half of that.
pub(crate) struct Pauses {
    next: Duration,
}

impl Pauses {
    const FIRST: Duration = Duration::from_millis(100);
    const LONGEST: Duration = Duration::from_secs(5);

    pub(crate) fn new() -> Pauses {
        Pauses { next: Pauses::FIRST }
    }

    /// Waits, each time about twice as long, by a factor that differs between runners: they do not come back all at once.
    pub(crate) async fn pause(&mut self) {
        let pause = self.next.mul_f64(0.5 + rand::random::<f64>());
        self.next = (self.next * 2).min(Pauses::LONGEST);
        tokio::time::sleep(pause).await;
    }
}

/// Makes a call again until it succeeds or is refused for good; a service that says it cannot do it is asked so often only.
pub(crate) async fn insist_for<T, F>(tries: u32, leave: &CancellationToken, mut call: impl FnMut() -> F) -> Result<T, CallError>
where
    F: Future<Output = Result<T, CallError>>,
{
    let mut pauses = Pauses::new();
    let mut refused = 0;
    loop {
        let answer = insist_unless_refused(leave, &mut call).await;
        match answer {
            Err(CallError::Refused { status: 500.., .. }) if refused + 1 < tries => refused += 1,
            other => return other,
        }
        tokio::select! {
            () = pauses.pause() => {}
            () = leave.cancelled() => return Err(CallError::Leaving),
        }
    }
}

/// Waits for a service that is away; any answer will do.
async fn insist_unless_refused<T, F>(leave: &CancellationToken, call: &mut impl FnMut() -> F) -> Result<T, CallError>
where
    F: Future<Output = Result<T, CallError>>,
{
    let answer = insist(leave, || {
        let call = call();
        async move {
            match call.await {
                Err(CallError::Refused { status, detail }) => Ok(Err(CallError::Refused { status, detail })),
                other => other.map(Ok),
            }
        }
    });
    answer.await?
}

/// Makes a call again and again until it succeeds, is refused for good, or `leave` is cancelled.
pub(crate) async fn insist<T, F>(leave: &CancellationToken, mut call: impl FnMut() -> F) -> Result<T, CallError>
where
    F: Future<Output = Result<T, CallError>>,
{
    let mut pauses = Pauses::new();
    loop {
        let answer = tokio::select! {
            answer = call() => answer,
            () = leave.cancelled() => return Err(CallError::Leaving),
        };
        match answer {
            Err(error) if error.is_passing() => {
                tracing::warn!(%error, "trying again");
                tokio::select! {
                    () = pauses.pause() => {}
                    () = leave.cancelled() => return Err(CallError::Leaving),
                }
            }
            other => return other,
        }
    }
}
