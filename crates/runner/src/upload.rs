//! Artifacts sent to an address: whole by HTTP PUT, or file by file with the fields of a form, as indexes of packages take
//! them.

use crate::beneath::Beneath;
use crate::outgoing::{Layer, Login, chain, whole};
use ordotaxis_content::digest_text;
use ordotaxis_wire::runner::LeaseUpload;
use reqwest::multipart::{Form, Part};
use reqwest::redirect::{Attempt, Policy};
use reqwest::{Client, RequestBuilder, Response};
use sha2::{Digest, Sha256};
use std::path::{Path, PathBuf};

/// How much of what a server says is passed on.
const SAID: usize = 200;

/// One file as it is; several as an archive (gzip over tar). Gives the digest of what was sent.
pub(crate) async fn by_put(to: &str, root: Beneath, paths: Vec<PathBuf>, login: Login) -> Result<String, String> {
    let body = tokio::task::spawn_blocking(move || match paths.as_slice() {
        [one] => read(&root, one),
        several => Layer::pack(&root, several).map(|layer| layer.bytes),
    });
    let body = body.await.map_err(|error| error.to_string())??;
    let digest = digest_text(&Sha256::digest(&body).into());
    send(client()?.put(to).body(body), login).await?;
    Ok(digest)
}

/// Every file for itself. Gives the digest of the one file, or of the list of all digests and names.
pub(crate) async fn by_form(to: &str, upload: &LeaseUpload, root: &Beneath, paths: Vec<PathBuf>, login: Login) -> Result<String, String> {
    let (client, mut list, mut last) = (client()?, Sha256::new(), String::new());
    let count = paths.len();
    for path in paths {
        let (own, from) = (root.clone(), path.clone());
        let bytes = tokio::task::spawn_blocking(move || read(&own, &from)).await.map_err(|error| error.to_string())??;
        let digest: [u8; 32] = Sha256::digest(&bytes).into();
        let form = form(upload, &path, bytes, &digest);
        send(client.post(to).multipart(form), login.clone()).await.map_err(|why| format!("{}: {why}", path.display()))?;
        last = digest_text(&digest);
        list.update(format!("{last}  {}\n", path.display()));
    }
    Ok(if count == 1 { last } else { digest_text(&list.finalize().into()) })
}

fn form(upload: &LeaseUpload, path: &Path, bytes: Vec<u8>, digest: &[u8; 32]) -> Form {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut form = Form::new();
    for (field, text) in &upload.fields {
        form = form.text(field.clone(), text.clone());
    }
    if let Some(field) = &upload.digest {
        form = form.text(field.clone(), digest.iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    }
    form.part(upload.file.clone(), Part::bytes(bytes).file_name(name))
}

fn read(root: &Beneath, path: &Path) -> Result<Vec<u8>, String> {
    whole(root, path).map_err(|error| format!("{}: {error}", path.display()))
}

/// Follows only where the same is to be sent again, and can be (a form cannot): any other answer of that kind would lead to
/// a page, which says nothing about what was sent.
fn client() -> Result<Client, String> {
    let again = |attempt: Attempt<'_>| match attempt.status().as_u16() {
        307 | 308 if attempt.previous().len() < 5 => attempt.follow(),
        _ => attempt.stop(),
    };
    Client::builder().redirect(Policy::custom(again)).build().map_err(|error| chain(&error))
}

async fn send(mut request: RequestBuilder, login: Login) -> Result<(), String> {
    if let Some((user, password)) = login {
        request = request.basic_auth(user, Some(password));
    }
    let answer = request.send().await.map_err(|error| chain(&error))?;
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    let elsewhere = answer
        .headers()
        .get("location")
        .and_then(|place| place.to_str().ok())
        .map(|place| format!(" and leads to {}", place.chars().take(SAID).collect::<String>()));
    let said = first_words(answer).await;
    Err(format!("it answered {status}{}{said}", elsewhere.unwrap_or_default()))
}

/// The beginning of an answer that people can read.
async fn first_words(mut answer: Response) -> String {
    let plain = answer.headers().get("content-type").and_then(|kind| kind.to_str().ok()).is_some_and(|kind| kind.starts_with("text/plain"));
    match answer.chunk().await {
        Ok(Some(bytes)) if plain => {
            let text: String = String::from_utf8_lossy(&bytes).chars().filter(|c| !c.is_control()).take(SAID).collect();
            format!(": {}", text.trim())
        }
        _ => String::new(),
    }
}
