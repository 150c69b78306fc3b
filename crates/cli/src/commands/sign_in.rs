//! `sign-in`: keeps address and token for later commands; `--link` signs a browser in.

use crate::api::{Api, address};
use crate::failure::{Done, Failure, OK};
use crate::global::Global;
use crate::out;
use crate::profile::{self, Profile};
use crate::written;
use ordotaxis_wire::session::{Me, SignInLink};
use std::io::IsTerminal;

/// `sign-in`
#[derive(clap::Args)]
pub(crate) struct SignInOptions {
    /// Print a link that signs a browser in, once
    #[arg(long)]
    link: bool,
}

pub(super) async fn sign_in(options: SignInOptions, global: &Global) -> Done {
    if options.link {
        let link: SignInLink = Api::new(global)?.post("sign-in-links", &serde_json::json!({})).await?;
        if global.json {
            out::json(&link)
        } else {
            out::print(&link.url)
        }
        return OK;
    }
    let url = address(global);
    let token = match &global.token {
        Some(token) => token.clone(),
        None => ask_for_token(&url)?,
    };
    let me: Me = Api::with(url.clone(), token.clone())?.get("me").await?;
    let kept = profile::save(&Profile { url: Some(url.clone()), token: Some(token) });
    let path = kept.map_err(|error| {
        Failure::new(1, format!("the token could not be kept: {error}"), "set ORDOTAXIS_URL and ORDOTAXIS_TOKEN instead")
    })?;
    out::print(format!("signed in at {url} as {}", me.name));
    out::remark(format!("  kept in {}", path.display()));
    OK
}

fn ask_for_token(url: &str) -> Result<String, Failure> {
    if std::io::stdin().is_terminal() {
        written::aside(&format!("token for {url}: "));
    }
    let mut token = String::new();
    let _ = std::io::stdin().read_line(&mut token);
    let token = token.trim().to_owned();
    if token.is_empty() {
        return Err(Failure::new(2, "no token was given", "type or pipe the token that `ordotaxis serve` printed at its first start"));
    }
    Ok(token)
}
