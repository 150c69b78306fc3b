//! A network name space in which nothing can be reached but one service, at the same address as outside. For root.

use std::io::{BufRead, BufReader};
use std::net::{SocketAddr, TcpListener};
use std::process::{Child, Command, Stdio};

/// Holds the name space until it is dropped.
pub struct Alone {
    holder: Child,
}

impl Alone {
    /// Makes one for the service at `url`, `http://127.0.0.1:PORT`.
    pub fn with(url: &str) -> Alone {
        let script = "ip link set lo up && echo up && exec sleep 3600";
        let mut command = Command::new("unshare");
        command.args(["--net", "--", "sh", "-c", script]).stdin(Stdio::null()).stdout(Stdio::piped());
        let mut holder = command.spawn().expect("unshare starts");
        let mut line = String::new();
        BufReader::new(holder.stdout.take().expect("its output")).read_line(&mut line).expect("a line");
        assert_eq!(line.trim(), "up");
        let target: SocketAddr = url.trim_start_matches("http://").parse().expect("an address");
        let listener = within(holder.id(), target);
        listener.set_nonblocking(true).expect("a listener");
        tokio::spawn(async move {
            let listener = tokio::net::TcpListener::from_std(listener).expect("a listener");
            while let Ok((mut inner, _)) = listener.accept().await {
                tokio::spawn(async move {
                    if let Ok(mut outer) = tokio::net::TcpStream::connect(target).await {
                        let _ = tokio::io::copy_bidirectional(&mut inner, &mut outer).await;
                    }
                });
            }
        });
        Alone { holder }
    }

    /// What goes before a command that is to run within.
    pub fn entered(&self) -> Vec<String> {
        vec!["nsenter".into(), format!("--net=/proc/{}/ns/net", self.holder.id()), "--".into()]
    }
}

/// A socket belongs to the name space in which it was made.
fn within(pid: u32, at: SocketAddr) -> TcpListener {
    let made = std::thread::spawn(move || {
        let space = std::fs::File::open(format!("/proc/{pid}/ns/net")).expect("the name space");
        nix::sched::setns(space, nix::sched::CloneFlags::CLONE_NEWNET).expect("entered");
        TcpListener::bind(at).expect("a port")
    });
    made.join().expect("a listener")
}

impl Drop for Alone {
    fn drop(&mut self) {
        let _ = self.holder.kill();
        let _ = self.holder.wait();
    }
}
