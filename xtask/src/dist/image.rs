//! The image for containers (OCI Image Format 1.0, as one file): the program, git, ssh and a shell with the libraries they
//! need from this machine, and nothing else. It runs as a user of its own.

use super::archive::Archive;
use super::named::Release;
use super::say::output;
use super::tree::{Tree, gzip};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Programs that the service and its runner start. What git itself starts lies in its own folder.
const PROGRAMS: [&str; 3] = ["git", "sh", "ssh"];
/// The rest of git is the program `git` under other names, or not needed by a service.
const OF_GIT: [&str; 3] = ["git-remote-http", "git-remote-https", "git-http-backend"];
const OWNER: (u64, u64) = (64_000, 64_000);
const CERTIFICATES: &str = "etc/ssl/certs/ca-certificates.crt";

/// `ordotaxis-VERSION-linux-MACHINE.oci.tar`.
pub(super) fn make(tree: &Tree, release: &Release, to: &Path) -> Result<PathBuf, String> {
    let layer = layer(tree, release)?;
    let packed = gzip(&layer)?;
    let config = config(release, &layer).to_string().into_bytes();
    let manifest = json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "config": described("application/vnd.oci.image.config.v1+json", &config),
        "layers": [described("application/vnd.oci.image.layer.v1.tar+gzip", &packed)],
    });
    let manifest = manifest.to_string().into_bytes();
    let mut of_index = described("application/vnd.oci.image.manifest.v1+json", &manifest);
    of_index["annotations"] = json!({ "org.opencontainers.image.ref.name": format!("ordotaxis:{}", release.version) });
    let index = json!({ "schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": [of_index] });
    let mut archive = Archive::new(release.moment);
    archive.text("oci-layout", "{\"imageLayoutVersion\":\"1.0.0\"}")?;
    archive.text("index.json", &index.to_string())?;
    for blob in [&packed, &config, &manifest] {
        archive.blob(&format!("blobs/sha256/{}", hex(blob)), blob)?;
    }
    let path = to.join(format!("ordotaxis-{}-linux-{}.oci.tar", release.version, release.machine));
    std::fs::write(&path, archive.bytes()?).map_err(|error| format!("{}: {error}", path.display()))?;
    Ok(path)
}

fn described(kind: &str, bytes: &[u8]) -> Value {
    json!({ "mediaType": kind, "digest": format!("sha256:{}", hex(bytes)), "size": bytes.len() })
}

fn hex(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

fn config(release: &Release, layer: &[u8]) -> Value {
    json!({
        "architecture": release.architecture, "os": "linux",
        "config": {
            "User": "ordotaxis", "Entrypoint": ["/usr/bin/ordotaxis"], "Cmd": ["serve", "--data", "/data"], "WorkingDir": "/data",
            "Volumes": { "/data": {} }, "Env": ["PATH=/usr/bin", "HOME=/data"], "StopSignal": "SIGTERM",
            "Labels": { "org.opencontainers.image.title": "ordotaxis", "org.opencontainers.image.version": release.version },
        },
        "rootfs": { "type": "layers", "diff_ids": [format!("sha256:{}", hex(layer))] },
    })
}

/// What lies below `/` of the image, uncompressed.
fn layer(tree: &Tree, release: &Release) -> Result<Vec<u8>, String> {
    let mut files: BTreeMap<PathBuf, PathBuf> = BTreeMap::new();
    let own = tree.at("usr/bin/ordotaxis");
    files.insert("usr/bin/ordotaxis".into(), own.clone());
    files.insert("usr/share/doc/ordotaxis/copyright".into(), tree.at("usr/share/doc/ordotaxis/copyright"));
    let mut programs = vec![own];
    for name in PROGRAMS {
        let found = found(name)?;
        files.insert(Path::new("usr/bin").join(name), found.clone());
        programs.push(found);
    }
    let of_git = PathBuf::from(output("git", &["--exec-path"])?.trim());
    for name in OF_GIT {
        files.insert(inside(&of_git.join(name)), of_git.join(name));
        programs.push(of_git.join(name));
    }
    for library in libraries(&programs)? {
        files.insert(library.clone(), Path::new("/").join(&library));
    }
    if Path::new("/").join(CERTIFICATES).exists() {
        files.insert(CERTIFICATES.into(), Path::new("/").join(CERTIFICATES));
    }
    let mut archive = Archive::new(release.moment);
    for folder in folders(files.keys()) {
        archive.folder(&folder)?;
    }
    for (link, target) in [("bin", "usr/bin"), ("lib", "usr/lib"), ("lib64", "usr/lib64")] {
        archive.link(Path::new(link), Path::new(target))?;
    }
    for (to, from) in &files {
        archive.file(from, to)?;
    }
    let (uid, gid) = OWNER;
    archive.text("etc/passwd", &format!("root:x:0:0::/:/usr/bin/sh\nordotaxis:x:{uid}:{gid}::/data:/usr/bin/sh\n"))?;
    archive.text("etc/group", &format!("root:x:0:\nordotaxis:x:{gid}:\n"))?;
    archive.text("etc/nsswitch.conf", "passwd: files\ngroup: files\nhosts: files dns\n")?;
    archive.owned("data", 0o700, OWNER)?;
    archive.owned("tmp", 0o1777, (0, 0))?;
    archive.bytes()
}

/// All folders that lead to these files.
fn folders<'p>(files: impl Iterator<Item = &'p PathBuf>) -> BTreeSet<PathBuf> {
    let above = files.flat_map(|path| path.ancestors().skip(1)).filter(|path| !path.as_os_str().is_empty());
    above.map(Path::to_owned).chain([PathBuf::from("etc"), PathBuf::from("usr/lib64"), PathBuf::from("usr/lib")]).collect()
}

/// A program of this machine.
fn found(name: &str) -> Result<PathBuf, String> {
    let paths = std::env::var_os("PATH").unwrap_or_default();
    let found = std::env::split_paths(&paths).map(|folder| folder.join(name)).find(|path| path.is_file());
    found.ok_or_else(|| format!("`{name}` is not on this machine"))
}

/// The libraries of programs and the loader that starts them, as the loader itself finds them; paths below `/`.
fn libraries(programs: &[PathBuf]) -> Result<BTreeSet<PathBuf>, String> {
    let mut all = BTreeSet::new();
    for program in programs {
        let said = output("ldd", &[&program.display().to_string()])?;
        let paths = said.lines().filter_map(|line| line.split_whitespace().find(|word| word.starts_with('/')));
        all.extend(paths.map(|path| inside(Path::new(path))));
    }
    Ok(all)
}

/// A path of this machine as one below the image's root, where `/lib` is `/usr/lib`.
fn inside(path: &Path) -> PathBuf {
    let below = path.strip_prefix("/").unwrap_or(path);
    if below.starts_with("usr") { below.to_owned() } else { Path::new("usr").join(below) }
}
