//! Clients for calls to the outside.

use crate::causes::causes;
use reqwest::redirect::Policy;
use reqwest::{Client, ClientBuilder};

/// A client with these settings, which follows no redirect. Where this machine knows no authorities it is one that believes
/// nobody: plain HTTP works, and what needs TLS fails when it is called.
pub(crate) fn client(settings: impl Fn(ClientBuilder) -> ClientBuilder) -> Result<Client, reqwest::Error> {
    let builder = || settings(Client::builder().redirect(Policy::none()));
    builder().build().or_else(|error| {
        tracing::warn!(error = causes(&error), "no certificates of authorities can be read: no address that begins with https is reached");
        builder().tls_certs_only([]).build()
    })
}
