//! Which names the service answers to, and who calls: the connection's address, or what a known proxy says of it.

use axum::http::HeaderMap;
use std::net::{IpAddr, SocketAddr};

/// Which names and proxies are known; made when the service starts.
#[derive(Debug, Clone, Default)]
pub(crate) struct Known {
    /// `HOST` or `HOST:PORT`, in lower case.
    hosts: Vec<String>,
    /// Whose word about the caller's address counts.
    proxies: Vec<IpAddr>,
}

impl Known {
    /// The names that the service is reached by: its public address, where it listens, and what the configuration adds.
    pub(crate) fn new(public_url: &str, listen: SocketAddr, more: &[String], proxies: Vec<IpAddr>) -> Known {
        let port = listen.port();
        let mut hosts: Vec<String> = more.iter().map(|name| name.to_lowercase()).collect();
        hosts.extend(authority(public_url));
        hosts.push(listen.to_string());
        hosts.extend(["localhost", "127.0.0.1", "[::1]"].map(|name| format!("{name}:{port}")));
        Known { hosts, proxies }
    }

    /// Whether the service is reached by this `Host`, with or without its port.
    pub(super) fn has(&self, host: &str) -> bool {
        let host = host.to_lowercase();
        let name =
            host.rsplit_once(':').map_or(host.as_str(), |(name, port)| if port.bytes().all(|b| b.is_ascii_digit()) { name } else { &host });
        self.hosts.iter().any(|known| *known == host || *known == name)
    }
}

/// `http://HOST:PORT/…` → `HOST:PORT`
pub(super) fn authority(url: &str) -> Option<String> {
    let rest = url.split_once("://")?.1;
    Some(rest.split(['/', '?', '#']).next()?.rsplit('@').next()?.to_lowercase())
}

/// The caller's address: the connection's, or what a known proxy says of it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Address(pub(super) IpAddr);

/// The address of whoever calls. A proxy's word is believed only when the proxy is a configured one.
pub(super) fn caller(known: &Known, own: IpAddr, headers: &HeaderMap) -> IpAddr {
    if !known.proxies.contains(&own) {
        return own;
    }
    // The last address that is no proxy: the caller could have invented those before it.
    let lines = headers.get_all("x-forwarded-for").iter().filter_map(|line| line.to_str().ok());
    let named: Vec<IpAddr> = lines.flat_map(|line| line.split(',')).filter_map(|one| one.trim().parse().ok()).collect();
    named.into_iter().rev().find(|address| !known.proxies.contains(address)).unwrap_or(own)
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::http::{HeaderName, HeaderValue};

    fn known() -> Known {
        Known::new("https://ci.saltmarsh.example/x", "127.0.0.1:7070".parse().unwrap(), &["tide".into()], vec!["10.0.0.1".parse().unwrap()])
    }

    fn headers(pairs: &[(&'static str, &str)]) -> HeaderMap {
        pairs.iter().map(|(name, value)| (HeaderName::from_static(name), HeaderValue::from_str(value).unwrap())).collect()
    }

    #[test]
    fn only_known_names_are_answered() {
        for (host, fits) in [
            ("ci.saltmarsh.example", true),
            ("CI.saltmarsh.example", true),
            ("127.0.0.1:7070", true),
            ("localhost:7070", true),
            ("tide:8080", true),
            ("evil.example", false),
            ("127.0.0.1:7071", false),
            ("ci.saltmarsh.example.evil.example", false),
            ("", false),
        ] {
            assert_eq!(known().has(host), fits, "{host}");
        }
    }

    #[test]
    fn only_a_known_proxy_says_who_calls() {
        let (proxy, other): (IpAddr, IpAddr) = ("10.0.0.1".parse().unwrap(), "10.0.0.2".parse().unwrap());
        let said = headers(&[("x-forwarded-for", "1.1.1.1, 203.0.113.9, 10.0.0.1")]);
        assert_eq!(caller(&known(), proxy, &said), "203.0.113.9".parse::<IpAddr>().unwrap());
        assert_eq!(caller(&known(), other, &said), other);
        assert_eq!(caller(&known(), proxy, &headers(&[("x-forwarded-for", "nonsense")])), proxy);
    }
}
