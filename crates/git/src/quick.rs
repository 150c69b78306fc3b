//! The short way to a commit that was just pushed, over HTTP: git's own messages (gitprotocol-http, gitprotocol-v2) on a
//! connection that is open already, where `git fetch` starts five processes and asks three times, one after the other.
//!
//! The service knows the commit from the webhook, so the commit and the list of refs are asked for at the same time. Whatever
//! is not as expected, and every other kind of repository, is left to git itself: this way only ever saves time.

use crate::address::Address;
use crate::command::{GitError, checked, git, is_id};
use crate::mirror::Mirror;
use crate::packet::{self, PACK_WORDS, Packet, request};
use crate::receive::{Taking, receive, write};
use base64::Engine;
use reqwest::header::{AUTHORIZATION, CONTENT_TYPE, HeaderMap, HeaderValue};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::OnceLock;
use std::time::Duration;
use tokio::io::{AsyncRead, BufReader};
use tokio_stream::StreamExt;
use tokio_util::io::StreamReader;

/// A push brings less; what is larger is fetched by git itself.
const LARGEST: u64 = 64 << 20;
/// A list of refs is read up to so many bytes: some hundred thousand of them.
const LONGEST_LIST: usize = 32 << 20;
/// How many commits are said to be here.
const HAVES: usize = 64;
/// How long all of it may take before git itself is asked.
const PATIENCE: Duration = Duration::from_secs(20);

/// A ref as the other side has it.
#[derive(Debug, PartialEq, Eq)]
struct Ref {
    id: String,
    name: String,
}

impl Mirror {
    /// Fetches a commit that a branch was just pushed to, and the tags that name it. False where that is not possible this way.
    pub(crate) async fn fetch_quickly(&self, commit: &str, branch: &str) -> bool {
        let Ok(Address::Http(_)) = self.url.parse() else { return false };
        let elsewhere = self.url.starts_with("https") && own_authorities();
        if elsewhere || !is_id(commit) || !self.dir().join("HEAD").exists() {
            return false;
        }
        matches!(tokio::time::timeout(PATIENCE, self.quickly(commit, branch)).await, Ok(Some(())))
    }

    async fn quickly(&self, commit: &str, branch: &str) -> Option<()> {
        if !self.speaks_new().await? {
            return None;
        }
        let haves = self.heads().await.ok()?;
        if haves.is_empty() {
            return None;
        }
        let (pack, refs) = tokio::join!(self.ask_pack(commit, &haves), self.ask_refs(branch));
        let (mut pack, refs) = (pack?, refs?);
        receive(self.dir(), &mut pack, &mut BTreeSet::new(), Taking { limit: LARGEST, lasts: true }).await.ok()?;
        if !self.has(commit).await.ok()? {
            return None;
        }
        self.take_refs(&refs).await.ok()
    }

    /// Whether the other side speaks version 2 of the protocol; asked once.
    async fn speaks_new(&self) -> Option<bool> {
        let mut known = self.speaks_new.lock().await;
        if let Some(known) = *known {
            return Some(known);
        }
        let url = format!("{}/info/refs?service=git-upload-pack", self.url.trim_end_matches('/'));
        let answer = client()?.get(url).headers(self.headers()?).send().await.ok()?;
        // A refusal may pass: who may read it is changed by people.
        let text = answer.error_for_status().ok()?.text().await.ok()?;
        let new = text.contains("version 2\n") && text.contains("fetch=") && !text.contains("object-format=sha256");
        *known = Some(new);
        Some(new)
    }

    /// Commits that are here, those of branches.
    async fn heads(&self) -> Result<Vec<String>, GitError> {
        let mut known = self.heads.lock().await;
        if let Some(known) = &*known {
            return Ok(known.clone());
        }
        let most = format!("--count={HAVES}");
        let out = git(self.dir(), &["for-each-ref", "--sort=-committerdate", &most, "--format=%(objectname)", "refs/heads"]).await?;
        let heads: Vec<String> = String::from_utf8_lossy(&out).lines().map(str::to_owned).collect();
        *known = Some(heads.clone());
        Ok(heads)
    }

    async fn ask_pack(&self, commit: &str, haves: &[String]) -> Option<impl AsyncRead + Unpin + use<>> {
        let words = PACK_WORDS.map(str::to_owned);
        let haves = haves.iter().filter(|id| is_id(id)).map(|id| format!("have {id}"));
        let said = words.into_iter().chain(haves).chain([format!("want {commit}"), "done".to_owned()]);
        let body = request("fetch", said);
        let answer = self.post(body).await?;
        let stream = answer.bytes_stream().map(|piece| piece.map_err(std::io::Error::other));
        Some(BufReader::with_capacity(1 << 16, StreamReader::new(stream)))
    }

    async fn ask_refs(&self, branch: &str) -> Option<Vec<Ref>> {
        let mut refs = self.list_refs(&[&format!("refs/heads/{}", checked(branch).ok()?), "refs/tags/"]).await?;
        let whole = format!("refs/heads/{branch}");
        refs.retain(|one| one.name.starts_with("refs/tags/") || one.name == whole);
        Some(refs)
    }

    /// All branches and tags, asked for on a connection that is open already. None where git itself must be asked.
    pub(crate) async fn look_quickly(&self) -> Option<BTreeMap<String, String>> {
        let Ok(Address::Http(_)) = self.url.parse() else { return None };
        if self.url.starts_with("https") && own_authorities() || !self.speaks_new().await? {
            return None;
        }
        let refs = tokio::time::timeout(PATIENCE, self.list_refs(&["refs/heads/", "refs/tags/"])).await.ok()??;
        Some(refs.into_iter().map(|one| (one.name, one.id)).collect())
    }

    /// What the refs that begin so name now.
    async fn list_refs(&self, prefixes: &[&str]) -> Option<Vec<Ref>> {
        let body = request("ls-refs", prefixes.iter().map(|prefix| format!("ref-prefix {prefix}")));
        let mut answer = self.post(body).await?;
        let mut bytes = Vec::new();
        while let Some(piece) = answer.chunk().await.ok()? {
            bytes.extend_from_slice(&piece);
            if bytes.len() > LONGEST_LIST {
                return None;
            }
        }
        let mut from = &bytes[..];
        let mut refs = Vec::new();
        while let Packet::Line(line) = packet::read(&mut from).await.ok()? {
            refs.extend(parse(&line));
        }
        Some(refs)
    }

    async fn post(&self, body: Vec<u8>) -> Option<reqwest::Response> {
        let url = format!("{}/git-upload-pack", self.url.trim_end_matches('/'));
        let request = client()?.post(url).headers(self.headers()?).body(body);
        let request = request.header(CONTENT_TYPE, "application/x-git-upload-pack-request");
        request.send().await.ok()?.error_for_status().ok()
    }

    /// What every call says, the password for this server included.
    fn headers(&self) -> Option<HeaderMap> {
        let mut headers = HeaderMap::new();
        headers.insert("git-protocol", HeaderValue::from_static("version=2"));
        let origin = self.url.parse::<Address>().ok()?.origin()?;
        if let Some(login) = self.access.logins.iter().find(|login| login.origin == origin) {
            let both = base64::engine::general_purpose::STANDARD.encode(format!("{}:{}", login.user, login.password));
            let mut value = HeaderValue::from_str(&format!("Basic {both}")).ok()?;
            value.set_sensitive(true);
            headers.insert(AUTHORIZATION, value);
        }
        Some(headers)
    }

    /// Writes down what the refs name now, as far as that is here.
    async fn take_refs(&self, refs: &[Ref]) -> Result<(), GitError> {
        let known = self.tags().await?;
        let mut new_tag = false;
        for one in refs {
            let tag = one.name.strip_prefix("refs/tags/");
            if tag.is_some_and(|name| known.iter().any(|known| known.name == name && known.id == one.id)) {
                continue;
            }
            if self.id(&one.id).await?.is_none() {
                continue;
            }
            new_tag |= tag.is_some();
            // A name that is a folder of others already, or the other way round: git knows what to do.
            if write(&self.dir().join(&one.name), &format!("{}\n", one.id)).is_err() {
                git(self.dir(), &["update-ref", &one.name, &one.id]).await?;
            }
        }
        if new_tag {
            self.tags.lock().await.take();
        }
        let mut heads = self.heads.lock().await;
        if let Some(heads) = heads.as_mut() {
            heads.splice(0..0, refs.iter().filter(|one| one.name.starts_with("refs/heads/")).map(|one| one.id.clone()));
            heads.truncate(HAVES);
        }
        Ok(())
    }
}

/// `ID NAME`, and for a tag ` peeled:ID`, which is not needed here.
fn parse(line: &[u8]) -> Option<Ref> {
    let text = std::str::from_utf8(line).ok()?;
    let mut words = text.trim_end_matches('\n').split(' ');
    let (id, name) = (words.next()?, words.next()?);
    let plain =
        checked(name).is_ok() && name.starts_with("refs/") && name.split('/').all(|part| !part.is_empty() && !part.starts_with('.'));
    (is_id(id) && plain && !name.ends_with(".lock")).then(|| Ref { id: id.to_owned(), name: name.to_owned() })
}

/// Whether the machine's owner has git trust authorities of their own: then git is the one to ask.
fn own_authorities() -> bool {
    ["GIT_SSL_CAINFO", "GIT_SSL_CAPATH"].iter().any(|name| std::env::var_os(name).is_some())
}

/// One for all mirrors: connections stay open between pushes.
fn client() -> Option<&'static reqwest::Client> {
    static CLIENT: OnceLock<Option<reqwest::Client>> = OnceLock::new();
    let built = || {
        let builder = reqwest::Client::builder().tcp_nodelay(true).redirect(reqwest::redirect::Policy::none());
        builder.connect_timeout(Duration::from_secs(5)).read_timeout(PATIENCE).build().ok()
    };
    CLIENT.get_or_init(built).as_ref()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refs_are_read_and_nothing_that_is_none() {
        let id = "0123456789012345678901234567890123456789";
        let read = |text: String| parse(text.as_bytes()).map(|one| one.name);
        assert_eq!(read(format!("{id} refs/heads/main\n")).as_deref(), Some("refs/heads/main"));
        assert_eq!(read(format!("{id} refs/tags/v1 peeled:{id}\n")).as_deref(), Some("refs/tags/v1"));
        for bad in ["HEAD", "refs/heads/../../config", "refs//x", "refs/heads/.x", "refs/heads/x.lock", "objects/x", "refs/heads/a b^"] {
            let read = read(format!("{id} {bad}\n"));
            assert!(read.is_none() || bad.contains(' '), "{bad}: {read:?}");
        }
        assert_eq!(read("short refs/heads/main\n".into()), None);
    }
}
