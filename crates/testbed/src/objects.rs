//! S3-compatible storage on this machine, by a package for tests; and a second way to it, for who has signed addresses alone.

use crate::gate::Gate;
use crate::port::free_port;
use crate::process::Process;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The bucket in it, its key and its secret.
const BUCKET: &str = "saltmarsh";
const KEY: &str = "S3RVER";
/// A file that is no object.
const STAYS: &str = "stays";

/// Storage that runs until it is dropped, or taken away.
pub struct ObjectStorage {
    folder: PathBuf,
    port: u16,
    server: Option<Process>,
    gate: Gate,
    gate_url: String,
}

impl ObjectStorage {
    /// Starts it on a free port, with what it holds in `folder`, which is made.
    pub fn start(folder: &Path) -> ObjectStorage {
        std::fs::create_dir_all(folder).expect("a folder");
        std::fs::write(folder.join("secret"), format!("{KEY}\n")).expect("a file");
        let port = free_port();
        let (gate, gate_url) = Gate::open(format!("http://127.0.0.1:{port}"), KEY);
        let mut storage = ObjectStorage { folder: folder.to_owned(), port, server: None, gate, gate_url };
        storage.come_back();
        storage
    }

    /// What a service's `[store]` has to say of it.
    pub fn settings(&self) -> String {
        let secret = self.folder.join("secret");
        format!("endpoint = \"{}\"\nbucket = \"{BUCKET}\"\nkey_id = \"{KEY}\"\nsecret_file = {secret:?}\n", self.url())
    }

    fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Where signed addresses lead: nothing else is let through there.
    pub fn gate_url(&self) -> &str {
        &self.gate_url
    }

    /// How many requests had no signature that fits.
    pub fn refused(&self) -> u64 {
        self.gate.refused()
    }

    /// How many files what lies below a folder of the bucket is kept in: a few for each object.
    pub fn kept(&self, folder: &str) -> usize {
        let found = walkdir::WalkDir::new(self.objects().join(folder)).into_iter().filter_map(Result::ok);
        found.filter(|entry| entry.file_type().is_file() && entry.file_name() != STAYS).count()
    }

    fn objects(&self) -> PathBuf {
        self.folder.join("objects").join(BUCKET)
    }

    pub fn go_away(&mut self) {
        self.server = None;
    }

    /// The package deletes a folder with the last object in it, and dies when one is stored there just then: with a file in it
    /// that is no object, it stays.
    fn keep_folders(&self) {
        let packs = (0..=u8::MAX).map(|first| format!("packs/{first:02x}"));
        for folder in packs.chain(["arrived".to_owned()]) {
            let folder = self.objects().join(folder);
            std::fs::create_dir_all(&folder).expect("a folder");
            std::fs::write(folder.join(STAYS), "").expect("a file");
        }
    }

    pub fn come_back(&mut self) {
        let program = format!("{}/stand-ins/node_modules/s3rver/bin/s3rver.js", env!("CARGO_MANIFEST_DIR"));
        self.keep_folders();
        let mut command = Command::new("node");
        command.arg(program).args(["-a", "127.0.0.1", "-p", &self.port.to_string(), "--configure-bucket", BUCKET, "-d"]);
        command.arg(self.folder.join("objects")).env("NODE_NO_WARNINGS", "1");
        self.server = Some(Process::start(&mut command, &self.folder, "objects", "listening on"));
    }
}
