//! Clients for HTTP. Whoever speaks TLS needs the certificates of this machine's authorities, which takes some 20 ms to read; who
//! speaks plain HTTP does not, and may stand on a machine that has none.

/// Settings for calls to one address, which follow no redirect: elsewhere there may be other needs.
pub fn calls_to(url: &str) -> reqwest::ClientBuilder {
    let builder = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
    let is_plain = url.get(..7).is_some_and(|scheme| scheme.eq_ignore_ascii_case("http://"));
    if is_plain { builder.tls_certs_only([]) } else { builder }
}
