//! One pipe for a step's output and errors, so that their order is kept.

use std::process::Stdio;
use tokio::net::unix::pipe::Receiver;

/// A larger pipe means fewer switches for steps that print much. The system may allow less.
const PIPE_BYTES: i32 = 1024 * 1024;

/// A pipe whose writing ends are a step's two outputs.
pub(crate) struct LogPipe {
    pub(crate) output: Stdio,
    pub(crate) errors: Stdio,
    pub(crate) receiver: Receiver,
}

/// Makes one, with a buffer that holds more than the system's usual.
pub(crate) fn log_pipe() -> std::io::Result<LogPipe> {
    let (reader, writer) = std::io::pipe()?;
    let _ = nix::fcntl::fcntl(&reader, nix::fcntl::FcntlArg::F_SETPIPE_SZ(PIPE_BYTES));
    let errors = writer.try_clone()?;
    let receiver = Receiver::from_owned_fd(reader.into())?;
    Ok(LogPipe { output: writer.into(), errors: errors.into(), receiver })
}
