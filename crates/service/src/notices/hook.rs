//! Webhooks of a project: CloudEvents 1.0, signed after the Standard Webhooks specification, to the address that the rules
//! name and to no other: without redirects, and to this machine or a private network only where the owner allows it.

use crate::app::App;
use crate::clock;
use crate::landing::{RulesError, rules_of};
use crate::settings::Settings;
use crate::unreached::cause;
use ordotaxis_core::notice::{cloud_event, webhook_key, webhook_signature};
use ordotaxis_store::{NoticeRow, Project, StoreError};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

const TIMEOUT: Duration = Duration::from_secs(10);

/// A client that reaches only what it may.
pub(crate) fn client(settings: &Settings) -> Result<reqwest::Client, reqwest::Error> {
    crate::outgoing::client(|with| {
        let with = with.timeout(TIMEOUT);
        if settings.near_notices { with } else { with.no_proxy().dns_resolver(Arc::new(Far)) }
    })
}

/// Resolves names, and leaves out addresses that lie on this machine or in a private network. What was looked at is what is
/// connected to: a name that resolves otherwise the next time gains nothing.
#[derive(Debug)]
struct Far;

impl Resolve for Far {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((name.as_str(), 0)).await?.collect();
            let far: Vec<SocketAddr> = found.into_iter().filter(|address| !is_near(address.ip())).collect();
            if far.is_empty() {
                return Err(format!("{} lies on this machine or in a private network; {ALLOW}", name.as_str()).into());
            }
            Ok(Box::new(far.into_iter()) as Addrs)
        })
    }
}

const ALLOW: &str = "`[notices] near = true` in the service's configuration allows that";

/// Whether an address is this machine's, or one of a network that is nobody else's.
fn is_near(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let [a, b, ..] = v4.octets();
            let shared = a == 100 && (64..128).contains(&b);
            v4.is_loopback() || v4.is_private() || v4.is_link_local() || v4.is_unspecified() || v4.is_broadcast() || a == 0 || shared
        }
        IpAddr::V6(v6) => match v6.to_ipv4() {
            Some(v4) if !v6.is_loopback() => is_near(IpAddr::V4(v4)),
            _ => v6.is_loopback() || v6.is_unspecified() || v6.is_unique_local() || v6.is_unicast_link_local(),
        },
    }
}

/// Sends one notice. Whatever went wrong may be mended: in the rules, in the secrets, at the other side.
pub(super) async fn send(app: &App, project: &Project, row: &NoticeRow) -> Result<Result<(), String>, StoreError> {
    let key = match key(app, project, row).await? {
        Ok(key) => key,
        Err(why) => return Ok(Err(why)),
    };
    let notice = row.notice()?;
    let id = format!("notice-{}", row.id);
    let at = ordotaxis_wire::moment(row.at).to_string();
    let body = cloud_event(&notice, &format!("{}/projects/{}", app.public_url, project.name), &id, &at).to_string();
    Ok(post(app, &row.receiver, &key, &id, body).await)
}

/// The key that the rules name for this address, as they are now.
async fn key(app: &App, project: &Project, row: &NoticeRow) -> Result<Result<Vec<u8>, String>, StoreError> {
    let rules = match rules_of(app, project).await {
        Ok(rules) => rules,
        Err(RulesError::Store(error)) => return Err(error),
        Err(error) => return Ok(Err(error.to_string())),
    };
    let hook = row.name.as_ref().and_then(|name| rules.notices.get(name)).and_then(|rule| rule.hook.clone());
    let Some((_, secret)) = hook.filter(|(url, _)| *url == row.receiver) else {
        return Ok(Err("the rules do not name this address any more".into()));
    };
    let known = app.records.secrets(project.id).await?;
    let Some(sealed) = known.iter().find(|known| known.name == secret && known.environment.is_none()) else {
        let name = &project.name;
        return Ok(Err(format!("the secret {secret} is not set for {name}; `ordotaxis secret set {name} {secret}` sets it")));
    };
    let opened = app.seal.opened(project.id, &secret, &sealed.sealed);
    let key = opened.and_then(|text| webhook_key(&text));
    Ok(key.ok_or_else(|| format!("the secret {secret} is no key of a webhook: `whsec_` and at least 16 bytes in base64")))
}

async fn post(app: &App, url: &str, key: &[u8], id: &str, body: String) -> Result<(), String> {
    let address = reqwest::Url::parse(url).map_err(|error| format!("{url} is no address: {error}"))?;
    let literal = match address.host() {
        Some(url::Host::Ipv4(v4)) => Some(IpAddr::V4(v4)),
        Some(url::Host::Ipv6(v6)) => Some(IpAddr::V6(v6)),
        _ => None,
    };
    // A number is not resolved, so nobody else looks at it.
    if !app.settings.near_notices && literal.is_some_and(is_near) {
        return Err(format!("{url} lies on this machine or in a private network; {ALLOW}"));
    }
    let time = clock::now() / 1000;
    let signature = webhook_signature(key, id, time, body.as_bytes());
    let call = app.notice_http.post(address).header("content-type", "application/cloudevents+json").header("user-agent", "ordotaxis");
    let call =
        call.header("webhook-id", id).header("webhook-timestamp", time.to_string()).header("webhook-signature", signature).body(body);
    let answer = call.send().await.map_err(|error| format!("it could not be reached: {}", cause(&error)))?;
    match answer.status() {
        status if status.is_success() => Ok(()),
        status if status.is_redirection() => Err(format!("it answered {status} and redirects; redirects are not followed")),
        status => Err(format!("it answered {status}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_near_is_told_from_what_is_far() {
        for (address, near) in [
            ("127.0.0.1", true),
            ("10.1.2.3", true),
            ("172.16.0.1", true),
            ("192.168.1.1", true),
            ("169.254.169.254", true),
            ("100.64.0.1", true),
            ("0.0.0.0", true),
            ("::1", true),
            ("::", true),
            ("fe80::1", true),
            ("fd00::1", true),
            ("::ffff:10.0.0.1", true),
            ("::10.0.0.1", true),
            ("192.0.2.7", false),
            ("100.128.0.1", false),
            ("2001:db8::7", false),
        ] {
            assert_eq!(is_near(address.parse().unwrap()), near, "{address}");
        }
    }
}
