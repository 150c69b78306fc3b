//! Artifacts sent to an address: whole by HTTP PUT, or file by file with the fields of a form, as indexes of packages take
//! them.

use crate::beneath::Beneath;
use crate::outgoing::{Layer, Login, chain, whole};
use bytes::Bytes;
use ordotaxis_content::digest_text;
use ordotaxis_wire::runner::LeaseUpload;
use reqwest::multipart::{Form, Part};
use reqwest::redirect::{Attempt, Policy};
use reqwest::{Client, RequestBuilder, Response};
use sha2::{Digest, Sha256};
use std::path::{Path, PathBuf};

/// How much of what a server says is passed on.
const SAID: usize = 200;
/// How often a server is asked that breaks off while it is sent something.
const TRIES: u32 = 5;

/// One file as it is; several as an archive (gzip over tar). Gives the digest of what was sent.
pub(crate) async fn by_put(to: &str, root: Beneath, paths: Vec<PathBuf>, login: Login) -> Result<String, String> {
    let body = tokio::task::spawn_blocking(move || match paths.as_slice() {
        [one] => read(&root, one),
        several => Layer::pack(&root, several).map(|layer| layer.bytes),
    });
    let body = body.await.map_err(|error| error.to_string())??;
    let digest = digest_text(&Sha256::digest(&body).into());
    let (client, body) = (client()?, Bytes::from(body));
    send(login, || client.put(to).body(body.clone())).await?;
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
        let bytes = Bytes::from(bytes);
        let asked = || client.post(to).multipart(form(upload, &path, bytes.clone(), &digest));
        send(login.clone(), asked).await.map_err(|why| format!("{}: {why}", path.display()))?;
        last = digest_text(&digest);
        list.update(format!("{last}  {}\n", path.display()));
    }
    Ok(if count == 1 { last } else { digest_text(&list.finalize().into()) })
}

fn form(upload: &LeaseUpload, path: &Path, bytes: Bytes, digest: &[u8; 32]) -> Form {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut form = Form::new();
    for (field, text) in &upload.fields {
        form = form.text(field.clone(), text.clone());
    }
    if let Some(field) = &upload.digest {
        form = form.text(field.clone(), digest.iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    }
    form.part(upload.file.clone(), Part::stream(bytes).file_name(name))
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

/// Sends what `request` makes. A server may refuse as soon as it has read who asks, and close the connection while the file
/// is still on its way: then its answer can be lost. It never had the whole request, so the same can be sent once more.
async fn send(login: Login, mut request: impl FnMut() -> RequestBuilder) -> Result<(), String> {
    let mut left = TRIES;
    loop {
        left -= 1;
        let ready = match &login {
            Some((user, password)) => request().basic_auth(user, Some(password)),
            None => request(),
        };
        match ready.send().await {
            Ok(answer) => return judge(answer).await,
            Err(error) if left > 0 && broke_off(&error) => {}
            Err(error) => return Err(chain(&error)),
        }
    }
}

/// Whether the connection was closed while the request was being written: hyper says so in words only.
fn broke_off(error: &reqwest::Error) -> bool {
    let mut causes = std::iter::successors(Some(error as &dyn std::error::Error), |error| error.source());
    causes.any(|cause| cause.to_string().starts_with("error writing a body to connection"))
}

async fn judge(answer: Response) -> Result<(), String> {
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{BufRead, BufReader, Write};
    use std::net::{Shutdown, TcpListener};
    use std::sync::mpsc;

    /// More than hyper keeps before it writes, less than the system takes at once.
    const FIRST: usize = 512 * 1024;

    /// A server that refuses all as soon as it has read the head, closes, and says that it has.
    fn hasty() -> (String, mpsc::Receiver<()>) {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = format!("http://{}/", listener.local_addr().expect("an address"));
        let (closed, told) = mpsc::channel();
        std::thread::spawn(move || {
            for stream in listener.incoming().take(TRIES as usize) {
                let mut stream = stream.expect("a connection");
                let mut lines = BufReader::with_capacity(1, stream.try_clone().expect("a handle")).lines();
                while lines.next().is_some_and(|line| !line.expect("a line of the head").is_empty()) {}
                stream.write_all(b"HTTP/1.1 403 Forbidden\r\ncontent-length: 0\r\nconnection: close\r\n\r\n").expect("it is written");
                stream.shutdown(Shutdown::Both).expect("it closes");
                drop((lines, stream));
                // Only the first request waits for it.
                let _ = closed.send(());
            }
        });
        (address, told)
    }

    /// A body whose second part comes only when the server has closed: hyper is kept from reading until then, so writing
    /// fails while the answer is there.
    fn held(told: mpsc::Receiver<()>) -> reqwest::Body {
        let parts = (0..2).map(move |part| {
            if part == 1 {
                told.recv().expect("the server closes");
            }
            Ok::<_, std::io::Error>(Bytes::from(vec![b'x'; FIRST]))
        });
        reqwest::Body::wrap_stream(tokio_stream::iter(parts))
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_refusal_that_comes_before_the_file_was_sent_is_still_told() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let (address, told) = hasty();
        let (client, mut told) = (client().expect("a client"), Some(told));
        let said = send(None, || {
            let put = client.put(&address);
            match told.take() {
                Some(told) => put.body(held(told)),
                None => put.body("small"),
            }
        });
        assert_eq!(said.await, Err("it answered 403 Forbidden".to_owned()));
    }
}
