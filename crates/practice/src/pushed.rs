//! What a push asks for, as `git receive-pack` reads it (gitprotocol-pack): packet lines `OLD NEW REF`, up to `0000`.

use std::collections::BTreeSet;

/// The branches and tags that a push names.
pub(crate) fn named(mut body: &[u8]) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    while let Some((line, rest)) = packet(body) {
        // What the client can do stands behind a zero byte in the first line.
        let line = line.split(|&byte| byte == 0).next().unwrap_or_default();
        let name = std::str::from_utf8(line).ok().and_then(|line| line.trim_end().splitn(3, ' ').nth(2));
        names.extend(name.filter(|name| name.starts_with("refs/heads/") || name.starts_with("refs/tags/")).map(str::to_owned));
        body = rest;
    }
    names
}

/// The first packet line, and what follows it; none at the end.
fn packet(body: &[u8]) -> Option<(&[u8], &[u8])> {
    let length = usize::from_str_radix(std::str::from_utf8(body.get(..4)?).ok()?, 16).ok()?;
    Some((body.get(4..length)?, body.get(length..)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(text: &str) -> String {
        format!("{:04x}{text}", text.len() + 4)
    }

    #[test]
    fn a_push_names_what_it_moves() {
        let (old, new) = ("0".repeat(40), "a".repeat(40));
        let first = line(&format!("{old} {new} refs/heads/main\0 report-status atomic"));
        let more = line(&format!("{new} {old} refs/tags/v1\n")) + &line(&format!("{old} {new} refs/notes/ordotaxis"));
        let body = format!("{first}{more}0000PACK0008 not a line");
        assert_eq!(named(body.as_bytes()), BTreeSet::from(["refs/heads/main".to_owned(), "refs/tags/v1".to_owned()]));
        for none in ["", "0000", "00", "zzzz", "0003", "ffff and no more", "0009\0\0\0\0\0"] {
            assert_eq!(named(none.as_bytes()), BTreeSet::new(), "{none:?}");
        }
    }
}
