//! What a step finds in its environment beside what the lease says.

use crate::job::Job;
use crate::processes::MARK;
use crate::reports::FACTS;
use crate::tools::folders_for;
use crate::workspace::Workspace;
use std::path::PathBuf;

/// Where the durations for `ordotaxis share` lie, below the job's `/tmp`.
pub(crate) const SHARE_FILE: &str = ".share.json";

impl Job<'_> {
    /// Everything but secrets.
    pub(crate) fn environment(&self, workspace: &Workspace) -> Vec<(String, String)> {
        let inherited = |name: &str| std::env::var(name).ok();
        let (host, container) = (self.fence().is_host(), self.fence().is_container());
        let tmp = if host { workspace.folders.tmp.display().to_string() } else { "/tmp".to_owned() };
        // On the host tools find what is installed for the runner's user; a sandbox cannot write there.
        let home = if host { inherited("HOME").unwrap_or_else(|| tmp.clone()) } else { tmp.clone() };
        let mut env = vec![("HOME".to_owned(), home), ("TMPDIR".to_owned(), tmp.clone()), (MARK.to_owned(), self.mark.clone())];
        if !container {
            env.push(("PATH".to_owned(), self.path()));
            env.push(("LANG".to_owned(), "C.UTF-8".to_owned()));
            env.extend(tool_homes());
        }
        env.push(("ORDOTAXIS_FACTS".to_owned(), format!("{tmp}/{FACTS}")));
        if self.lease.share.is_some() {
            env.push(("ORDOTAXIS_SHARE_TIMES".to_owned(), format!("{tmp}/{SHARE_FILE}")));
        }
        env.extend(self.lease.env.iter().map(|(name, value)| (name.clone(), value.clone())));
        env
    }

    /// The chosen tools first, then what the runner has, then its own binary.
    fn path(&self) -> String {
        let own = std::env::var_os("PATH").unwrap_or_else(|| "/usr/bin:/bin".into());
        let binary = std::env::current_exe().ok().and_then(|path| path.parent().map(PathBuf::from));
        let chosen = folders_for(&self.shared.tools, self.lease.tools.iter());
        let all = chosen.into_iter().chain(std::env::split_paths(&own)).chain(binary);
        std::env::join_paths(all).map_or_else(|_| own.to_string_lossy().into_owned(), |path| path.to_string_lossy().into_owned())
    }
}

/// Where installed tool chains are kept, as the runner's own environment or home says: a step finds them though its home
/// is another.
fn tool_homes() -> Vec<(String, String)> {
    let set = |name: &str| std::env::var(name).ok().map(|value| (name.to_owned(), value));
    let mut homes: Vec<(String, String)> =
        ["RUSTUP_HOME", "JAVA_HOME", "GOROOT", "PYENV_ROOT", "NVM_DIR"].into_iter().filter_map(set).collect();
    if std::env::var_os("RUSTUP_HOME").is_none()
        && let Some(home) = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".rustup")).filter(|home| home.is_dir())
    {
        homes.push(("RUSTUP_HOME".to_owned(), home.display().to_string()));
    }
    homes
}
