//! The Debian package. Its dependencies are read off the program: the oldest C library that has all it calls.

use super::named::Release;
use super::say::output;
use super::tree::{Tree, write};
use crate::setup;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

const SCRIPTS: [&str; 3] = ["postinst", "prerm", "postrm"];

/// `ordotaxis_VERSION_ARCHITECTURE.deb`.
pub(super) fn make(tree: &Tree, release: &Release, to: &Path) -> Result<PathBuf, String> {
    let control = tree.at("DEBIAN");
    write(&control.join("control"), text(tree, release)?.as_bytes())?;
    write(&control.join("conffiles"), b"/etc/ordotaxis/service.toml\n")?;
    for name in SCRIPTS {
        let from = setup::root().join("packaging").join(name);
        let script = std::fs::read(&from).map_err(|error| format!("{}: {error}", from.display()))?;
        write(&control.join(name), &script)?;
        let executable = std::fs::set_permissions(control.join(name), PermissionsExt::from_mode(0o755));
        executable.map_err(|error| format!("{name}: {error}"))?;
    }
    let path = to.join(format!("ordotaxis_{}_{}.deb", release.version, release.architecture));
    let mut command = std::process::Command::new("dpkg-deb");
    command
        .args(["-Zxz", "-z2", "--build", "--root-owner-group"])
        .arg(&tree.root)
        .arg(&path)
        .env("SOURCE_DATE_EPOCH", release.moment.to_string());
    let ran = command.output().map_err(|error| format!("dpkg-deb could not be started: {error}"))?;
    std::fs::remove_dir_all(&control).map_err(|error| format!("{}: {error}", control.display()))?;
    if ran.status.success() { Ok(path) } else { Err(String::from_utf8_lossy(&ran.stderr).into_owned()) }
}

fn text(tree: &Tree, release: &Release) -> Result<String, String> {
    let bytes: u64 = tree.paths()?.iter().filter_map(|path| std::fs::metadata(tree.root.join(path)).ok()).map(|meta| meta.len()).sum();
    Ok(format!(
        "Package: ordotaxis\nVersion: {}\nArchitecture: {}\nMaintainer: The Ordotaxis developers <developers@ordotaxis.example>\n\
         Section: devel\nPriority: optional\nInstalled-Size: {}\nDepends: libc6 (>= {}), libgcc-s1, git, systemd\n\
         Recommends: bubblewrap, slirp4netns, ca-certificates, openssh-client\nSuggests: podman, git-lfs\n\
         Description: runs pipelines, and reports a verdict back to every commit\n \
         A service that runs jobs side by side on its runners, keeps their logs and\n artifacts, and says in one sentence why anything waits, was left out or failed.\n \
         The package has service, runner and client in one program.\n",
        release.version,
        release.architecture,
        bytes.div_ceil(1024),
        c_library(&tree.at("usr/bin/ordotaxis"))?,
    ))
}

/// The newest version of the C library that a program asks for: `2.34`.
fn c_library(program: &Path) -> Result<String, String> {
    let symbols = output("objdump", &["-T", &program.display().to_string()])?;
    let versions = symbols.split("GLIBC_").skip(1).filter_map(|rest| {
        let text: String = rest.chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
        let (major, minor) = text.split_once('.')?;
        Some((major.parse::<u32>().ok()?, minor.split('.').next()?.parse::<u32>().ok()?))
    });
    let (major, minor) = versions.max().ok_or("the program names no C library")?;
    Ok(format!("{major}.{minor}"))
}
