//! A delivery: verified over its raw body, read by the profile, kept as it came, and made into work, in one transaction.
//! What is refused is kept too, with the reason: whoever set the hook up wrongly sees it in the project.

use super::occasion::occasion;
use super::offered::follow;
use super::profiles::PLAIN;
use super::signed::{self, NotSigned};
use crate::app::App;
use crate::clock;
use crate::landing::{told_moved, told_of_proposal, told_of_review};
use crate::talk::{comment_anew, take_spoken};
use ordotaxis_core::access::{Action, Actor, Way, Who};
use ordotaxis_core::forge::{Delivery, Event, NoBody, Profile, Reading, spoken};
use ordotaxis_store::{DeliveryRow, Entry, Given, NewDelivery, NewWork, Project, StoreError, Tx, WorkKind};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// Of what is refused so much of the body is kept, and so many of them: anybody can send them.
const REFUSED_BODY: usize = 64 * 1024;
const REFUSED: i64 = 50;
/// Of a header so many characters are kept, and of a delivery so many headers.
const HEADER_CHARS: usize = 500;
const HEADERS: usize = 60;

/// A delivery as it came in.
pub(crate) struct Came<'a> {
    /// By lower-case name.
    pub(crate) headers: BTreeMap<String, String>,
    pub(crate) body: &'a [u8],
    pub(crate) address: String,
}

/// What became of it.
#[derive(Debug)]
pub(crate) enum Taken {
    /// What was read, in words.
    New(Vec<String>),
    /// It came before.
    Known,
    /// Of a kind that the profile does not know.
    Nothing,
    /// It was recognised, and something is missing in it.
    Unread(Reading),
    /// Its body is not what the profile expects.
    NoBody(NoBody),
    Refused(NotSigned),
    /// The project names a profile that is not there.
    NoProfile(String),
}

impl Taken {
    pub(crate) fn state(&self) -> &'static str {
        match self {
            Taken::New(_) | Taken::Known => "taken",
            Taken::Nothing => "nothing",
            Taken::Unread(_) | Taken::NoBody(_) => "unread",
            Taken::Refused(_) | Taken::NoProfile(_) => "refused",
        }
    }

    fn of(reading: Reading) -> Taken {
        match (reading.events.is_empty(), reading.misses.is_empty()) {
            (true, true) => Taken::Nothing,
            (true, false) => Taken::Unread(reading),
            (false, _) => Taken::New(reading.events.iter().map(Event::sentence).collect()),
        }
    }

    /// Why nothing came of it.
    pub(crate) fn why(&self) -> Option<String> {
        match self {
            Taken::New(_) => None,
            Taken::Known => Some("this delivery came before".into()),
            Taken::Nothing => Some("no table of the profile's [hook] fits it: not an event that starts anything".into()),
            Taken::Unread(reading) => Some(misses(reading)),
            Taken::NoBody(why) => Some(why.to_string()),
            Taken::Refused(why) => Some(why.to_string()),
            Taken::NoProfile(name) => Some(format!("there is no forge profile `{name}`")),
        }
    }
}

fn misses(reading: &Reading) -> String {
    reading.misses.iter().take(5).map(ToString::to_string).collect::<Vec<_>>().join("; ")
}

/// Whether a call is signed as hooks of a plain git server sign, with the project's hook secret.
pub(crate) fn is_signed(app: &App, project: &Project, headers: &BTreeMap<String, String>, body: &[u8]) -> bool {
    let Some(profile) = app.profiles.get(PLAIN) else { return false };
    signed::verify(profile, &Delivery { headers, body }, &app.hook_secret(project), clock::now() / 1000).is_ok()
}

/// Reads a delivery and keeps nothing of it: what would be read, signed as the profile says with this secret.
pub(crate) fn read(app: &App, profile: Option<&str>, secret: &str, came: &Came<'_>) -> Taken {
    let name = profile.unwrap_or(PLAIN);
    let Some(profile) = app.profiles.get(name) else { return Taken::NoProfile(name.to_owned()) };
    let delivery = Delivery { headers: &came.headers, body: came.body };
    if let Err(why) = signed::verify(profile, &delivery, secret, clock::now() / 1000) {
        return Taken::Refused(why);
    }
    match profile.body(&delivery) {
        Ok(body) => Taken::of(profile.events(&came.headers, &body)),
        Err(why) => Taken::NoBody(why),
    }
}

/// Takes a delivery that comes now.
pub(crate) async fn take(app: &App, project: &Project, came: &Came<'_>) -> Result<Taken, StoreError> {
    let now = clock::now();
    let profile = app.profiles.of(project);
    let delivery = Delivery { headers: &came.headers, body: came.body };
    let Some(profile) = profile else {
        let name = project.forge.as_ref().map(|forge| forge.profile.clone()).unwrap_or_default();
        return refused(app, project, None, came, Taken::NoProfile(name)).await;
    };
    let id = match signed::verify(profile, &delivery, &app.hook_secret(project), now / 1000) {
        Ok(id) => id,
        Err(why) => return refused(app, project, Some(profile), came, Taken::Refused(why)).await,
    };
    let body = profile.body(&delivery);
    let given = id.or_else(|| profile.delivery_id(&came.headers, body.as_ref().ok()?)).unwrap_or_else(|| digest(came.body));
    if let Some(known) = app.records.delivery_taken(project.id, &given).await? {
        return came_again(app, project, came, known, now).await;
    }
    let reading = body.map(|body| profile.events(&came.headers, &body));
    let mut tx = app.records.tx(&actor(came), now).await?;
    let done = act(&mut tx, project, reading, &given, true).await?;
    let headers = headers_of(Some(profile), &came.headers);
    let new = done.row(project.id, &given, &headers, &came.address, came.body);
    tx.add_delivery(&new.as_new()).await?;
    tx.commit().await?;
    Ok(done.taken)
}

/// It came before: nothing is done twice, but what was given up of it is tried again.
async fn came_again(app: &App, project: &Project, came: &Came<'_>, known: i64, now: i64) -> Result<Taken, StoreError> {
    let row = app.records.delivery(project.id, known).await?;
    let work: Vec<i64> = row.and_then(|row| serde_json::from_str(&row.work).ok()).unwrap_or_default();
    let given_up: Vec<i64> =
        app.records.work_said(&work).await?.into_iter().filter(|(_, state, _)| state == "given up").map(|(id, ..)| id).collect();
    let mut tx = app.records.tx(&actor(came), now).await?;
    tx.delivery_came_again(known).await?;
    for id in given_up {
        tx.work_again(id).await?;
    }
    tx.commit().await?;
    Ok(Taken::Known)
}

/// Reads a delivery that is kept once more, as the profile is now, and acts on it as if it came now.
pub(crate) async fn again(app: &App, actor: &Actor, project: &Project, row: &DeliveryRow) -> Result<Taken, StoreError> {
    let Some(profile) = app.profiles.of(project) else {
        return Ok(Taken::NoProfile(project.forge.as_ref().map(|forge| forge.profile.clone()).unwrap_or_default()));
    };
    let (headers, body): (BTreeMap<String, String>, Vec<u8>) = (
        serde_json::from_str(&row.headers).map_err(|_| StoreError::Value("deliveries.headers"))?,
        app.records.delivery_body(row.id).await?,
    );
    let now = clock::now();
    let reading = profile.body(&Delivery { headers: &headers, body: &body }).map(|body| profile.events(&headers, &body));
    let mut tx = app.records.tx(actor, now).await?;
    let once = format!("delivery {} again {now}", row.id);
    // What was taken before was believed then; by now things may be otherwise.
    let done = act(&mut tx, project, reading, &once, row.state != "taken").await?;
    let new = done.row(project.id, row.given.as_deref().unwrap_or_default(), &row.headers, "", &[]);
    tx.delivery_read_again(row.id, &new.as_new()).await?;
    tx.note(Entry::new(Action::DeliveryAgain, format!("delivery {}", row.id)).of(&project.name));
    tx.commit().await?;
    Ok(done.taken)
}

fn actor(came: &Came<'_>) -> Actor {
    Actor { who: Who::Nobody, way: Way::Hook, address: Some(came.address.clone()) }
}

fn digest(body: &[u8]) -> String {
    let digest: [u8; 32] = Sha256::digest(body).into();
    digest.iter().fold("sha256:".to_owned(), |text, byte| format!("{text}{byte:02x}"))
}

/// What is kept of a delivery's headers, as JSON.
fn headers_of(profile: Option<&Profile>, headers: &BTreeMap<String, String>) -> String {
    let kept = headers.iter().filter(|(name, _)| !signed::is_secret_header(profile, name)).take(HEADERS);
    let kept: BTreeMap<&String, String> = kept.map(|(name, value)| (name, value.chars().take(HEADER_CHARS).collect())).collect();
    serde_json::to_string(&kept).unwrap_or_default()
}

async fn refused(app: &App, project: &Project, profile: Option<&Profile>, came: &Came<'_>, taken: Taken) -> Result<Taken, StoreError> {
    let mut tx = app.records.tx(&actor(came), clock::now()).await?;
    let (headers, why) = (headers_of(profile, &came.headers), taken.why());
    let new = NewDelivery {
        project_id: project.id,
        given: None,
        state: taken.state(),
        said: why.as_deref(),
        events: "[]",
        work: "[]",
        address: Some(&came.address),
        headers: &headers,
        body: &came.body[..came.body.len().min(REFUSED_BODY)],
    };
    tx.add_delivery(&new).await?;
    tx.drop_refused_deliveries(project.id, REFUSED).await?;
    tx.commit().await?;
    Ok(taken)
}

/// What a delivery led to.
struct Done {
    taken: Taken,
    said: Option<String>,
    events: Vec<String>,
    work: Vec<i64>,
}

/// A row's texts, while it is written.
struct Row<'a> {
    project_id: i64,
    given: &'a str,
    state: &'static str,
    said: Option<&'a str>,
    events: String,
    work: String,
    address: &'a str,
    headers: &'a str,
    body: &'a [u8],
}

impl Done {
    fn row<'a>(&'a self, project_id: i64, given: &'a str, headers: &'a str, address: &'a str, body: &'a [u8]) -> Row<'a> {
        Row {
            project_id,
            given,
            state: self.taken.state(),
            said: self.said.as_deref(),
            events: serde_json::to_string(&self.events).unwrap_or_default(),
            work: serde_json::to_string(&self.work).unwrap_or_default(),
            address,
            headers,
            body,
        }
    }
}

impl Row<'_> {
    fn as_new(&self) -> NewDelivery<'_> {
        NewDelivery {
            project_id: self.project_id,
            given: Some(self.given).filter(|given| !given.is_empty()),
            state: self.state,
            said: self.said,
            events: &self.events,
            work: &self.work,
            address: Some(self.address),
            headers: self.headers,
            body: self.body,
        }
    }
}

/// Acts on what was read. `once` names it: the same work is not added twice. `news`: it tells how things are now, and not
/// how they were once.
async fn act(tx: &mut Tx, project: &Project, reading: Result<Reading, NoBody>, once: &str, news: bool) -> Result<Done, StoreError> {
    let reading = match reading {
        Ok(reading) => reading,
        Err(why) => return Ok(Done { said: Some(why.to_string()), taken: Taken::NoBody(why), events: Vec::new(), work: Vec::new() }),
    };
    let mut work = Vec::new();
    for (at, event) in reading.events.iter().enumerate() {
        let once = if at == 0 { once.to_owned() } else { format!("{once} {at}") };
        if news {
            believe(tx, project, event).await?;
        }
        work.extend(begin(tx, project.id, event, once.clone()).await?);
        if news {
            work.extend(talk(tx, project.id, event, once).await?);
        }
    }
    let events: Vec<String> = reading.events.iter().map(Event::sentence).collect();
    let said = (!reading.misses.is_empty()).then(|| misses(&reading));
    let taken = Taken::of(reading);
    Ok(Done { said: said.or_else(|| taken.why()), taken, events, work })
}

/// Writes down what an event tells of branches and proposals.
async fn believe(tx: &mut Tx, project: &Project, event: &Event) -> Result<(), StoreError> {
    let id = project.id;
    match event {
        Event::Push { branch, commit, .. } => {
            tx.set_ref_seen(id, &format!("refs/heads/{branch}"), Some(commit)).await?;
            told_moved(tx, id, branch, commit).await?;
            follow(tx, project, branch, Some(commit)).await?;
        }
        Event::Tag { tag, commit, .. } => tx.set_ref_seen(id, &format!("refs/tags/{tag}"), Some(commit)).await?,
        Event::Gone { name, tag: Some(true), .. } => tx.set_ref_seen(id, &format!("refs/tags/{name}"), None).await?,
        Event::Gone { name, tag: Some(false), .. } => {
            tx.set_ref_seen(id, &format!("refs/heads/{name}"), None).await?;
            follow(tx, project, name, None).await?;
        }
        // Which of the two it was, the next look at the repository tells.
        Event::Gone { tag: None, .. } => {}
        Event::Proposal(offer) => {
            if let Some(number) = &offer.number {
                // Whether that is its newest commit, and so whether it leaves a queue, is known when the commit is looked at.
                tx.set_proposal(id, number, offer).await?;
            }
        }
        Event::Closed { proposal, by } => {
            tx.end_proposal(id, proposal, "closed", None).await?;
            let why = by.as_ref().map_or_else(|| "it was closed".to_owned(), |by| format!("it was closed by {by}"));
            told_of_proposal(tx, id, proposal, None, &why).await?;
        }
        Event::Landed { proposal, commit, .. } => {
            tx.end_proposal(id, proposal, "landed", commit.as_deref()).await?;
            told_of_proposal(tx, id, proposal, None, "it has landed past the queue").await?;
        }
        Event::Review(review) => {
            tx.set_review(id, &review.proposal, (&review.by, Given::Forge), review.approves, review.commit.as_deref()).await?;
            told_of_review(tx, id, &review.proposal).await?;
        }
        Event::Comment { .. } => {}
    }
    Ok(())
}

/// What an event changes in a proposal's comment, and what someone asks for in one of theirs.
async fn talk(tx: &mut Tx, project_id: i64, event: &Event, once: String) -> Result<Option<i64>, StoreError> {
    let proposal = match event {
        Event::Comment { proposal, text, by: Some(by) } if !spoken(text).is_empty() => {
            return take_spoken(tx, project_id, proposal, by, text, once).await;
        }
        Event::Review(review) => &review.proposal,
        Event::Closed { proposal, .. } | Event::Landed { proposal, .. } => proposal,
        _ => return Ok(None),
    };
    tx.add_work(&comment_anew(project_id, proposal)).await?;
    Ok(None)
}

/// The work that an event leads to, where it starts pipelines: its number.
async fn begin(tx: &mut Tx, project_id: i64, event: &Event, once: String) -> Result<Option<i64>, StoreError> {
    let Some(occasion) = occasion(event) else { return Ok(None) };
    let body = serde_json::to_string(&occasion).unwrap_or_default();
    tx.add_work(&NewWork { kind: WorkKind::Occasion, project_id, lane: String::new(), once: Some(once), body }).await
}
