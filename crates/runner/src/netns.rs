//! A network that a job has for itself, with nothing but its own loopback: all its processes share it, and the runner can
//! look into it to see whether a helper is ready.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

/// A process that does nothing but hold the network open; ends when dropped.
pub(crate) struct Network {
    _holder: tokio::process::Child,
    /// The process whose network it is.
    pid: i32,
}

impl Network {
    pub(crate) async fn open() -> Result<Network, String> {
        let failed = |why: String| format!("a network of its own could not be made for the job: {why}");
        let mut command = tokio::process::Command::new("bwrap");
        command.args(["--ro-bind", "/", "/", "--dev", "/dev", "--unshare-net", "--die-with-parent", "--info-fd", "1", "--"]);
        command.args(["sleep", "infinity"]).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).kill_on_drop(true);
        let mut holder = command.spawn().map_err(|error| failed(error.to_string()))?;
        let Some(mut said) = holder.stdout.take() else { return Err(failed("bubblewrap says nothing".into())) };
        let mut text = Vec::new();
        let whole = async {
            use tokio::io::AsyncReadExt;
            while !text.contains(&b'}') && said.read_buf(&mut text).await.map_err(|error| error.to_string())? > 0 {}
            Ok::<_, String>(())
        };
        tokio::time::timeout(Duration::from_secs(5), whole)
            .await
            .map_err(|_| failed("bubblewrap did not answer".into()))?
            .map_err(failed)?;
        let said: serde_json::Value = serde_json::from_slice(&text).unwrap_or_default();
        let pid = said["child-pid"].as_i64().and_then(|pid| i32::try_from(pid).ok());
        let pid = pid.ok_or_else(|| failed("bubblewrap did not say which process holds it".into()))?;
        Ok(Network { _holder: holder, pid })
    }

    pub(crate) fn pid(&self) -> i32 {
        self.pid
    }

    /// A command that enters this network and then becomes what follows.
    pub(crate) fn entered(&self) -> Vec<String> {
        vec!["nsenter".into(), format!("--net=/proc/{}/ns/net", self.pid), "--".into()]
    }
}

/// Runs something on a thread that is in the network of this process.
pub(crate) async fn within<T: Send + 'static>(
    pid: i32,
    work: impl FnOnce(&tokio::runtime::Runtime) -> T + Send + 'static,
) -> Result<T, String> {
    let (sender, answer) = tokio::sync::oneshot::channel();
    std::thread::spawn(move || {
        let run = || {
            let path = PathBuf::from(format!("/proc/{pid}/ns/net"));
            let file = std::fs::File::open(path).map_err(|error| error.to_string())?;
            nix::sched::setns(file, nix::sched::CloneFlags::CLONE_NEWNET).map_err(|error| error.to_string())?;
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(|error| error.to_string())?;
            Ok(work(&runtime))
        };
        drop(sender.send(run()));
    });
    answer.await.map_err(|error| error.to_string())?
}
