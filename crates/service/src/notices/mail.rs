//! Mail: one message to one address over SMTP, as text and as HTML.

use crate::settings::{MailSettings, MailTls};
use lettre::message::header::{ContentType, Header, HeaderName, HeaderValue};
use lettre::message::{Mailbox, MultiPart, SinglePart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls, TlsParameters};
use lettre::{Address, AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use ordotaxis_core::notice::Letter;
use std::time::Duration;

const TIMEOUT: Duration = Duration::from_secs(20);
/// Answers that speak of how we signed in, and not of the receiver: they may be mended in the configuration.
const OURS: [&str; 5] = ["530", "534", "535", "538", "454"];

/// Why a message was not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum MailError {
    #[error("{0}")]
    Now(String),
    #[error("{0}")]
    Ever(String),
}

/// The way to the mail server.
pub(crate) struct Post {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
    /// What names messages: the part after the `@`.
    host: String,
}

macro_rules! plain_header {
    ($type:ident, $name:literal) => {
        #[derive(Debug, Clone)]
        struct $type(String);

        impl Header for $type {
            fn name() -> HeaderName {
                HeaderName::new_from_ascii_str($name)
            }

            fn parse(text: &str) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
                Ok($type(text.to_owned()))
            }

            fn display(&self) -> HeaderValue {
                HeaderValue::new(Self::name(), self.0.clone())
            }
        }
    };
}

plain_header!(Unsubscribe, "List-Unsubscribe");
plain_header!(UnsubscribePost, "List-Unsubscribe-Post");
plain_header!(AutoSubmitted, "Auto-Submitted");

impl Post {
    /// The way that the configuration says. No connection is made yet.
    pub(crate) fn new(settings: &MailSettings) -> Result<Post, String> {
        let from: Mailbox = settings.from.parse().map_err(|error| format!("`from` of [mail] is no mail address: {error}"))?;
        let parameters = || {
            let mut builder = TlsParameters::builder(settings.host.clone());
            if let Some(path) = &settings.ca_file {
                let pem = std::fs::read(path).map_err(|error| format!("`ca_file` of [mail], {}: {error}", path.display()))?;
                let certificate = Certificate::from_pem(&pem).map_err(|error| format!("`ca_file` of [mail]: {error}"))?;
                builder = builder.add_root_certificate(certificate);
            }
            builder.build_rustls().map_err(|error| format!("[mail]: {error}"))
        };
        let tls = match settings.tls {
            MailTls::None => Tls::None,
            MailTls::Starttls => Tls::Required(parameters()?),
            MailTls::Tls => Tls::Wrapper(parameters()?),
        };
        let mut builder = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(settings.host.clone());
        builder = builder.port(settings.port).tls(tls).timeout(Some(TIMEOUT));
        if let Some(user) = &settings.user {
            builder = builder.credentials(Credentials::new(user.clone(), settings.password.clone().unwrap_or_default()));
        }
        Ok(Post { transport: builder.build(), host: from.email.domain().to_owned(), from })
    }

    /// Sends a message. `id` names it: the same one that goes twice has the same name. Messages of one `thread` are shown
    /// together. `end`: the address that ends such messages (RFC 8058).
    pub(crate) async fn send(&self, to: &str, letter: &Letter, id: &str, thread: Option<&str>, end: Option<&str>) -> Result<(), MailError> {
        let to: Address = to.parse().map_err(|error| MailError::Ever(format!("{to} is no mail address: {error}")))?;
        let form = |error: &dyn std::fmt::Display| MailError::Ever(format!("the message cannot be written: {error}"));
        let mut message = Message::builder()
            .from(self.from.clone())
            .to(Mailbox::new(None, to))
            .subject(letter.subject.clone())
            .message_id(Some(format!("<{id}@{}>", self.host)))
            .header(AutoSubmitted("auto-generated".into()));
        if let Some(thread) = thread {
            let thread = format!("<{}@{}>", word(thread), self.host);
            message = message.in_reply_to(thread.clone()).references(thread);
        }
        if let Some(end) = end {
            message = message.header(Unsubscribe(format!("<{end}>"))).header(UnsubscribePost("List-Unsubscribe=One-Click".into()));
        }
        let text = SinglePart::builder().header(ContentType::TEXT_PLAIN).body(letter.text.clone());
        let html = SinglePart::builder().header(ContentType::TEXT_HTML).body(letter.html.clone());
        let message = message.multipart(MultiPart::alternative().singlepart(text).singlepart(html)).map_err(|error| form(&error))?;
        self.transport.send(message).await.map(drop).map_err(|error| {
            let code = error.status().map(|code| code.to_string());
            let words = format!("the mail server did not take it: {}", sentence(&error));
            let ours = code.as_deref().is_some_and(|code| OURS.contains(&code));
            if error.is_permanent() && !ours { MailError::Ever(words) } else { MailError::Now(words) }
        })
    }
}

/// All that an error says, in one line.
fn sentence(error: &dyn std::error::Error) -> String {
    let (mut words, mut deeper) = (error.to_string(), error.source());
    while let Some(cause) = deeper {
        let text = cause.to_string();
        if !words.contains(&text) {
            words = format!("{words}: {text}");
        }
        deeper = cause.source();
    }
    words.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(300).collect()
}

/// Letters, digits and dots: what a message's name may hold.
fn word(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '.' }).collect()
}
