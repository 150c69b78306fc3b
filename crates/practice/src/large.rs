//! Files that git-lfs keeps outside of git: its batch interface with basic transfers
//! (`docs/api/batch.md` of git-lfs), the contents in a folder beside the repository.

use axum::body::{Body, Bytes};
use axum::http::{Method, Response, StatusCode, header};
use axum::response::IntoResponse;
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::path::Path;

const MEDIA_TYPE: &str = "application/vnd.git-lfs+json";

#[derive(Deserialize)]
struct Batch {
    operation: String,
    objects: Vec<Object>,
}

#[derive(Deserialize)]
struct Object {
    oid: String,
    size: u64,
}

/// Answers a call below `info/lfs/`. `folder` keeps the contents; `base` is the address of what is below it.
pub(crate) fn answer(folder: &Path, base: &str, method: &Method, rest: &str, body: &Bytes) -> Response<Body> {
    match (method, rest.strip_prefix("objects/")) {
        (&Method::POST, Some("batch")) => match serde_json::from_slice::<Batch>(body) {
            Ok(batch) => {
                let objects: Vec<Value> = batch.objects.iter().map(|object| told(folder, base, &batch.operation, object)).collect();
                ([(header::CONTENT_TYPE, MEDIA_TYPE)], json!({ "transfer": "basic", "objects": objects }).to_string()).into_response()
            }
            Err(_) => StatusCode::UNPROCESSABLE_ENTITY.into_response(),
        },
        (&Method::GET, Some(oid)) if is_oid(oid) => match std::fs::read(folder.join(oid)) {
            Ok(bytes) => bytes.into_response(),
            Err(_) => StatusCode::NOT_FOUND.into_response(),
        },
        (&Method::PUT, Some(oid)) if is_oid(oid) && digest(body) == oid => {
            let kept = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(folder.join(oid), body));
            if kept.is_ok() { StatusCode::OK } else { StatusCode::INTERNAL_SERVER_ERROR }.into_response()
        }
        _ => StatusCode::NOT_FOUND.into_response(),
    }
}

fn told(folder: &Path, base: &str, operation: &str, object: &Object) -> Value {
    let here = is_oid(&object.oid) && folder.join(&object.oid).is_file();
    let mut told = json!({ "oid": object.oid, "size": object.size });
    match (operation, here) {
        ("upload", true) => {}
        ("upload", false) | (_, true) => {
            let word = if operation == "upload" { "upload" } else { "download" };
            told["actions"] = json!({ word: { "href": format!("{base}/objects/{}", object.oid) } });
        }
        (_, false) => told["error"] = json!({ "code": 404, "message": "there is no such file" }),
    }
    told
}

fn is_oid(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

fn digest(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_sent_is_there_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let (text, call) = (b"salt".to_vec(), |method, rest: &str, body: &[u8]| {
            answer(folder.path(), "http://f/x.git/info/lfs", &method, rest, &Bytes::copy_from_slice(body)).status().as_u16()
        });
        let oid = digest(&text);
        assert_eq!(call(Method::GET, &format!("objects/{oid}"), b""), 404);
        assert_eq!(call(Method::PUT, &format!("objects/{oid}"), b"other"), 404, "not what it is called");
        assert_eq!(call(Method::PUT, &format!("objects/{oid}"), &text), 200);
        assert_eq!(call(Method::GET, &format!("objects/{oid}"), b""), 200);
        assert_eq!(call(Method::GET, "objects/../forge.json", b""), 404);
        assert_eq!(call(Method::POST, "objects/batch", b"{"), 422);
        let object = |oid: &str| Object { oid: oid.into(), size: 4 };
        assert!(told(folder.path(), "b", "download", &object(&oid))["actions"]["download"].is_object());
        assert!(told(folder.path(), "b", "download", &object("x"))["error"].is_object());
        assert!(told(folder.path(), "b", "upload", &object(&oid)).get("actions").is_none());
    }
}
