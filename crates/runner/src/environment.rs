//! What a step finds in its environment beside what the lease says.

use crate::folders::{FACTS, SHARE_FILE};
use crate::job::Job;
use crate::paths::{paths, tool_homes};
use crate::processes::MARK;
use crate::sandbox::{BINARY, visible};
use crate::tools::folders_for;
use crate::workspace::Workspace;
use std::path::{Path, PathBuf};

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
            if self.fence().stage().is_some() {
                // Its home is read-only here: it says what to install, instead of failing to write.
                env.push(("RUSTUP_AUTO_INSTALL".to_owned(), "0".to_owned()));
            }
        }
        env.push(("ORDOTAXIS_FACTS".to_owned(), format!("{tmp}/{FACTS}")));
        if self.lease.share.is_some() {
            env.push(("ORDOTAXIS_SHARE_TIMES".to_owned(), format!("{tmp}/{SHARE_FILE}")));
        }
        env.extend(self.lease.env.iter().map(|(name, value)| (name.clone(), value.clone())));
        env
    }

    /// The chosen tools first, then what the runner has and the job can see, then the runner's own binary.
    fn path(&self) -> String {
        let chosen = folders_for(&self.shared.tools, self.lease.tools.iter());
        let stage = self.fence().stage();
        let seen = |folder: &PathBuf| stage.is_none_or(|stage| visible(stage, folder));
        let binary = match stage {
            Some(_) => Path::new(BINARY).parent().map(PathBuf::from),
            None => std::env::current_exe().ok().and_then(|path| path.parent().map(PathBuf::from)),
        };
        let all = chosen.into_iter().chain(paths()).filter(seen).chain(binary);
        std::env::join_paths(all).map_or_else(|_| "/usr/bin:/bin".to_owned(), |path| path.to_string_lossy().into_owned())
    }
}
