//! Ports for what is started, and started again after it was killed. They lie below those that the system gives to
//! outgoing connections (Linux: from 32768), so that no connection can take one between a kill and a restart; and no
//! two worlds of a process get the same.

use std::net::TcpListener;
use std::sync::atomic::{AtomicU32, Ordering};

const FIRST: u32 = 15_000;
const COUNT: u32 = 16_000;

/// A port of loopback that nobody listens on now; each call gives another.
pub fn free_port() -> u16 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    // Test binaries that run at the same time begin at different places.
    let start = std::process::id().wrapping_mul(131);
    for _ in 0..COUNT {
        let step = start.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed));
        let port = u16::try_from(FIRST + step % COUNT).unwrap_or(u16::MAX);
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
    panic!("no port is free")
}
