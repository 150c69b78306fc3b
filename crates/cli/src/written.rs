//! What goes to standard output and standard error. Whoever reads may have seen enough and close the pipe; a disk may be full. The
//! first such moment on standard output is kept here: it ends the command, and `main` says what is to be said of it.

use std::io::{Error, ErrorKind, Write};
use std::sync::OnceLock;
use tokio::sync::Notify;

static TROUBLE: OnceLock<Error> = OnceLock::new();
static STIRRED: Notify = Notify::const_new();

/// Writes bytes as they are. False when they cannot be.
pub(crate) fn bytes(bytes: &[u8]) -> bool {
    put(&mut std::io::stdout().lock(), bytes)
}

/// Writes text whose colours only a terminal gets. False when it cannot be.
pub(crate) fn text(text: &str) -> bool {
    put(&mut anstream::stdout().lock(), text.as_bytes())
}

/// Writes to standard error. Where that is shut, too, there is nobody to tell.
pub(crate) fn aside(text: &str) {
    let _ = anstream::stderr().lock().write_all(text.as_bytes());
}

fn put(out: &mut impl Write, bytes: &[u8]) -> bool {
    if TROUBLE.get().is_some() {
        return false;
    }
    // Flushed here: what is flushed at a program's end fails unheard.
    match out.write_all(bytes).and_then(|()| out.flush()) {
        Ok(()) => true,
        Err(error) => {
            let _ = TROUBLE.set(error);
            STIRRED.notify_one();
            false
        }
    }
}

/// Waits until something could not be written: what else the command would do nobody sees. One waits at a time.
pub(crate) async fn broken() {
    STIRRED.notified().await;
}

/// Why something that is wanted could not be written.
pub(crate) fn trouble() -> Option<&'static Error> {
    TROUBLE.get().filter(|error| error.kind() != ErrorKind::BrokenPipe)
}
