//! Machines that are processes: a program is started as the machine's own, with what was ordered in its environment.

use super::order::{Boot, Console, Order};
use std::path::PathBuf;
use std::pin::Pin;
use std::process::Stdio;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::Command;
use tokio_util::sync::CancellationToken;

/// The names of what a machine may find in its environment.
const NAMES: [&str; 3] = ["ORDOTAXIS_URL", "ORDOTAXIS_MACHINE", "ORDOTAXIS_INVITATION"];

/// Starts `PROGRAM runner join` for each machine, in a folder of its own.
pub struct Processes {
    pub program: PathBuf,
    pub folder: PathBuf,
}

impl Boot for Processes {
    fn boot(&self, order: Order, console: Console, notice: CancellationToken) -> Pin<Box<dyn Future<Output = ()> + Send>> {
        let (program, folder) = (self.program.clone(), self.folder.join(&order.name));
        Box::pin(async move {
            let mut command = Command::new(program);
            command.args(["runner", "join", "--dir"]).arg(folder.join("runner")).env_clear();
            for name in ["PATH", "HOME", "USER", "LANG", "TMPDIR"] {
                command.envs(std::env::var_os(name).map(|value| (name, value)));
            }
            let ordered = order.environment.iter().filter(|(name, _)| NAMES.contains(&name.as_str()));
            command.envs(ordered).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
            command.kill_on_drop(true).process_group(0);
            let mut child = match std::fs::create_dir_all(&folder).and_then(|()| command.spawn()) {
                Ok(child) => child,
                Err(error) => return console.say(&format!("nothing could be started: {error}")),
            };
            let _swept = Swept(folder);
            let (out, errors) = (child.stdout.take(), child.stderr.take());
            let told = async { tokio::join!(lines(out, &console), lines(errors, &console)) };
            let pid = child.id();
            let asked = async {
                notice.cancelled().await;
                // As a machine's own system does it.
                let _ = Command::new("kill").args(["-TERM", &pid.unwrap_or(0).to_string()]).status().await;
                std::future::pending::<()>().await;
            };
            tokio::select! {
                _ = async { tokio::join!(child.wait(), told) } => {}
                () = asked => {}
            }
        })
    }
}

/// A folder that goes with its machine.
struct Swept(PathBuf);

impl Drop for Swept {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

async fn lines(from: Option<impl tokio::io::AsyncRead + Unpin>, console: &Console) {
    let Some(from) = from else { return };
    let mut lines = BufReader::new(from).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        console.say(&line);
    }
}
