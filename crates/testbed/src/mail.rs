//! A real SMTP server, from Debian, whose mail can be read; it refuses some addresses.

use crate::port::free_port;
use crate::process::Process;
use mailparse::{MailHeaderMap, ParsedMail};
use std::path::{Path, PathBuf};
use std::process::Command;

/// Takes mail, but none to `refused…` (for ever) and to `later…` (now).
const SINK: &str = r#"
from aiosmtpd.handlers import Mailbox

class Sink(Mailbox):
    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("refused"):
            return "550 5.1.1 nobody here is called so"
        if address.startswith("later"):
            return "450 4.2.0 not now"
        envelope.rcpt_tos.append(address)
        return "250 OK"
"#;

/// The server; it ends with this.
pub struct MailServer {
    pub port: u16,
    folder: PathBuf,
    _process: Process,
}

/// A message that arrived.
#[derive(Debug, Clone)]
pub struct Mail {
    pub to: String,
    pub subject: String,
    pub text: String,
    pub html: String,
    /// All headers, as they came.
    pub headers: Vec<(String, String)>,
}

impl Mail {
    /// A header's value; empty where it is not there.
    pub fn header(&self, name: &str) -> &str {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map_or("", |(_, value)| value)
    }
}

impl MailServer {
    /// Starts it. With a certificate and its key it wants STARTTLS first.
    pub fn start(folder: &Path, certificate: Option<(&Path, &Path)>) -> MailServer {
        let (port, mail) = (free_port(), folder.join("mail"));
        std::fs::write(folder.join("sink.py"), SINK).expect("written");
        let mut command = Command::new("/usr/bin/python3");
        command.args(["-u", "-m", "aiosmtpd", "-n", "-d", "-l", &format!("127.0.0.1:{port}"), "-c", "sink.Sink"]);
        if let Some((certificate, key)) = certificate {
            command.arg("--tlscert").arg(certificate).arg("--tlskey").arg(key);
        }
        command.arg(&mail).env("PYTHONPATH", folder);
        let process = Process::start(&mut command, folder, "mail-server", "Server is listening");
        // It says so just before it does.
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        MailServer { port, folder: mail, _process: process }
    }

    /// What has arrived, oldest first.
    pub fn mails(&self) -> Vec<Mail> {
        let mut files: Vec<PathBuf> =
            std::fs::read_dir(self.folder.join("new")).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        files.sort_by_key(|path| std::fs::metadata(path).and_then(|about| about.modified()).ok());
        files.iter().map(|path| read(&std::fs::read(path).expect("a message"))).collect()
    }
}

fn read(bytes: &[u8]) -> Mail {
    let mail = mailparse::parse_mail(bytes).expect("a message");
    let part = |kind: &str| find(&mail, kind).and_then(|part| part.get_body().ok()).unwrap_or_default();
    let header = |name: &str| mail.headers.get_first_value(name).unwrap_or_default();
    Mail {
        to: header("to"),
        subject: header("subject"),
        text: part("text/plain").replace("\r\n", "\n"),
        html: part("text/html"),
        headers: mail.headers.iter().map(|one| (one.get_key(), one.get_value())).collect(),
    }
}

fn find<'m, 'b>(mail: &'m ParsedMail<'b>, kind: &str) -> Option<&'m ParsedMail<'b>> {
    if mail.ctype.mimetype == kind { Some(mail) } else { mail.subparts.iter().find_map(|part| find(part, kind)) }
}
