//! What people say of a repository, checked: a user and password for a server, the name of a branch.

use crate::http::error::ApiError;
use crate::seal::GitLogin;
use ordotaxis_git::Address;
use ordotaxis_wire::project::NewLogin;

/// A login as it is kept; its server is the repository's own where none is named.
pub(super) fn login(git_url: &str, ask: NewLogin) -> Result<GitLogin, ApiError> {
    let own = || git_url.parse::<Address>().ok()?.origin();
    let origin = match &ask.origin {
        Some(text) => text.parse::<Address>().ok().and_then(|address| address.origin()),
        None => own(),
    };
    let origin = origin.ok_or_else(|| {
        let detail = match &ask.origin {
            Some(text) => format!("`{text}` is no server that is reached by HTTP; write https://HOST or https://HOST:PORT"),
            None => "the repository is not reached by HTTP; by SSH it is read with a key: `ordotaxis project key` makes one".into(),
        };
        ApiError::field("/origin", detail)
    })?;
    if ask.user.is_empty() || ask.user.contains(':') || ask.user.len() > 256 || ask.user.chars().any(char::is_control) {
        return Err(ApiError::field("/user", "a user's name is 1 to 256 characters, without a colon"));
    }
    if ask.password.is_empty() || ask.password.len() > 8 * 1024 || ask.password.contains(['\n', '\r', '\0']) {
        return Err(ApiError::field("/password", "a password is one line of 1 to 8192 bytes"));
    }
    Ok(GitLogin { origin, user: ask.user, password: ask.password })
}

/// What git lets a branch be called (git-check-ref-format), as far as it could be taken for something else.
pub(super) fn is_branch(name: &str) -> bool {
    let plain = |c: char| !c.is_control() && !" ~^:?*[\\".contains(c);
    !name.is_empty() && name.len() <= 256 && !name.starts_with(['-', '/', '.']) && !name.contains("..") && name.chars().all(plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_belongs_to_one_server() {
        let ask = |origin: Option<&str>, user: &str, password: &str| NewLogin {
            origin: origin.map(str::to_owned),
            user: user.into(),
            password: password.into(),
        };
        let url = "https://odd@forge.saltmarsh.example/tide/gauge.git";
        assert_eq!(login(url, ask(None, "odd", "salt")).unwrap().origin, "https://forge.saltmarsh.example");
        assert_eq!(login(url, ask(Some("http://Other.example:81/x"), "odd", "salt")).unwrap().origin, "http://other.example:81");
        for (url, wrong) in [
            ("git@forge.saltmarsh.example:x", ask(None, "odd", "salt")),
            (url, ask(Some("git@other.example:x"), "odd", "salt")),
            (url, ask(None, "", "salt")),
            (url, ask(None, "a:b", "salt")),
            (url, ask(None, "odd", "")),
            (url, ask(None, "odd", "two\nlines")),
        ] {
            assert!(login(url, wrong.clone()).is_err(), "{url} {wrong:?}");
        }
        assert!(is_branch("release/next") && !is_branch("-x") && !is_branch("a..b") && !is_branch(""));
    }
}
