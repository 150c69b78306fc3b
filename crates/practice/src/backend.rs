//! git's own smart HTTP: `git http-backend` as a CGI program (RFC 3875).

use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, Method, Response, StatusCode, header};
use std::path::Path;
use std::process::Stdio;
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

pub(crate) struct Call {
    pub(crate) method: Method,
    /// Below the folder of repositories, beginning with `/`.
    pub(crate) path: String,
    pub(crate) query: String,
    pub(crate) headers: HeaderMap,
    pub(crate) body: Bytes,
}

pub(crate) async fn run(repositories: &Path, call: Call) -> std::io::Result<Response<Body>> {
    let header = |name: &str| call.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned();
    let mut child = Command::new("git")
        .arg("http-backend")
        .env("GIT_PROJECT_ROOT", repositories)
        .env("GIT_HTTP_EXPORT_ALL", "1")
        .env("REQUEST_METHOD", call.method.as_str())
        .env("PATH_INFO", &call.path)
        .env("QUERY_STRING", &call.query)
        .env("CONTENT_TYPE", header("content-type"))
        .env("CONTENT_LENGTH", call.body.len().to_string())
        .env("HTTP_CONTENT_ENCODING", header("content-encoding"))
        .env("GIT_PROTOCOL", header("git-protocol"))
        .env("REMOTE_USER", "practice")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()?;
    let mut stdin = child.stdin.take();
    let body = call.body;
    let feed = tokio::spawn(async move {
        if let Some(stdin) = stdin.as_mut() {
            let _ = stdin.write_all(&body).await;
        }
    });
    let output = child.wait_with_output().await?;
    let _ = feed.await;
    Ok(parse(output.stdout))
}

/// Headers, an empty line, the body. `Status:` stands for the status line.
fn parse(output: Vec<u8>) -> Response<Body> {
    let end = output.windows(4).position(|window| window == b"\r\n\r\n");
    let Some(end) = end else {
        let mut response = Response::new(Body::from("git http-backend gave no answer\n"));
        *response.status_mut() = StatusCode::INTERNAL_SERVER_ERROR;
        return response;
    };
    let head = String::from_utf8_lossy(&output[..end]).into_owned();
    let mut response = Response::builder().header(header::CACHE_CONTROL, "no-cache");
    for (name, value) in head.lines().filter_map(|line| line.split_once(": ")) {
        response = match name {
            "Status" => response.status(value.split(' ').next().and_then(|code| code.parse::<u16>().ok()).unwrap_or(500)),
            _ => response.header(name, value),
        };
    }
    response.body(Body::from(output[end + 4..].to_vec())).unwrap_or_default()
}
