//! The machine: its disk, git, what fences jobs in, and whether the service answers.

use super::finding::Finding;
use crate::global::Global;
use ordotaxis_runner::{Isolation, calls_to};
use ordotaxis_service::Settings;
use ordotaxis_wire::words;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

/// Less is wrong, and less of a hundred is to be looked at.
const LEAST_FREE: u64 = 1 << 30;
const LEAST_SHARE: u64 = 10;
/// Merging without a working tree, from a base that is named, came with this one.
const GIT: (u32, u32) = (2, 40);
const PATIENCE: Duration = Duration::from_secs(5);

pub(super) async fn look(settings: &Settings, global: &Global) -> Vec<Finding> {
    let mut findings = Vec::new();
    findings.extend(disk(&settings.data));
    findings.push(git());
    findings.push(isolation());
    findings.push(authorities());
    findings.extend(service(global).await);
    findings
}

fn disk(data: &Path) -> Option<Finding> {
    let found = nix::sys::statvfs::statvfs(data).ok()?;
    let unit = found.fragment_size();
    let (free, size) = (found.blocks_available().saturating_mul(unit), found.blocks().saturating_mul(unit));
    let says = format!("{} of {} free where the data folder lies", words::bytes(free), words::bytes(size));
    let next = "make room; `ordotaxis store sweep` shows what is no longer needed, `[store] limit_mib` sets a limit";
    Some(if free < LEAST_FREE {
        Finding::wrong("disk", says, next)
    } else if free < size / LEAST_SHARE {
        Finding::look("disk", says, next)
    } else {
        Finding::well("disk", says)
    })
}

fn git() -> Finding {
    let next = format!("install git {}.{} or newer", GIT.0, GIT.1);
    let Ok(ran) = Command::new("git").arg("--version").output() else {
        return Finding::wrong("git", "it cannot be started", next);
    };
    let said = String::from_utf8_lossy(&ran.stdout).trim().to_owned();
    match version(&said) {
        Some(found) if found >= GIT => Finding::well("git", said),
        Some(_) => Finding::wrong("git", format!("{said} is too old"), next),
        None => Finding::look("git", format!("its version cannot be read from `{said}`"), next),
    }
}

/// `git version 2.47.3` and the like.
fn version(said: &str) -> Option<(u32, u32)> {
    let mut numbers = said.split_whitespace().nth(2)?.split('.').map(str::parse);
    Some((numbers.next()?.ok()?, numbers.next()?.ok()?))
}

fn isolation() -> Finding {
    let (sandbox, container) = (Isolation::sandbox_works(), Isolation::container_works());
    match (sandbox, container) {
        (true, true) => Finding::well("isolation", "a runner on this machine can make sandboxes and containers"),
        (true, false) => Finding::well("isolation", "a runner on this machine can make sandboxes; no containers"),
        (false, true) => Finding::look("isolation", "a runner on this machine can make containers, but no sandboxes", "install bubblewrap"),
        (false, false) => Finding::look(
            "isolation",
            "a runner on this machine cannot keep jobs apart",
            "install bubblewrap; no matter where runners are elsewhere (docs/service.md)",
        ),
    }
}

/// Whether it can be told here that an address with https is who it says.
fn authorities() -> Finding {
    match reqwest::Client::builder().build() {
        Ok(_) => Finding::well("authorities", "their certificates can be read"),
        Err(_) => Finding::look(
            "authorities",
            "no certificates of authorities can be read: no address that begins with https is reached",
            "install ca-certificates, or name others by SSL_CERT_FILE or SSL_CERT_DIR",
        ),
    }
}

/// Whether the service answers; not asked where no address is known.
async fn service(global: &Global) -> Option<Finding> {
    let url = global.url.as_deref()?.trim_end_matches('/');
    let asked = calls_to(url).timeout(PATIENCE).build().ok()?.get(format!("{url}/readyz")).send().await;
    Some(match asked {
        Ok(answer) if answer.status().is_success() => Finding::well("service", format!("{url} is ready")),
        Ok(answer) => Finding::wrong("service", format!("{url} answers {}", answer.status()), "its log says why"),
        Err(error) if error.is_connect() => {
            Finding::look("service", format!("nothing listens at {url}"), "start it with `ordotaxis serve`")
        }
        Err(_) => Finding::wrong("service", format!("{url} did not answer within {} s", PATIENCE.as_secs()), "its log may say why"),
    })
}

#[cfg(test)]
mod tests {
    use super::version;

    #[test]
    fn versions_of_git_are_read() {
        assert_eq!(version("git version 2.47.3"), Some((2, 47)));
        assert_eq!(version("git version 2.39.5 (Apple Git-154)"), Some((2, 39)));
        assert_eq!(version("git version 2.windows"), None);
        assert_eq!(version(""), None);
    }
}
