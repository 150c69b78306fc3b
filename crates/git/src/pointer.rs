//! What stands in a commit for a file that git-lfs keeps: a few lines that name the content
//! (`docs/spec.md` of git-lfs).

/// What every pointer begins with.
pub(crate) const FIRST: &str = "version https://git-lfs.github.com/spec/v1";

/// What a pointer names.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Pointer {
    /// SHA-256 of the content, in hexadecimal digits.
    pub oid: String,
    pub bytes: u64,
}

impl Pointer {
    /// Reads a pointer; none where the file is something else.
    pub fn parse(file: &[u8]) -> Option<Pointer> {
        let text = std::str::from_utf8(file).ok()?;
        let mut lines = text.lines();
        if lines.next()? != FIRST {
            return None;
        }
        let (mut oid, mut bytes) = (None, None);
        for line in lines {
            match line.split_once(' ')? {
                ("oid", value) => oid = value.strip_prefix("sha256:").filter(|oid| is_oid(oid)).map(str::to_owned),
                ("size", value) => bytes = value.parse().ok(),
                _ => {}
            }
        }
        Some(Pointer { oid: oid?, bytes: bytes? })
    }
}

/// What a content can be named by.
pub(crate) fn is_oid(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_pointers_are_pointers() {
        let oid = "0f".repeat(32);
        let good = format!("{FIRST}\noid sha256:{oid}\nsize 7\n");
        assert_eq!(Pointer::parse(good.as_bytes()), Some(Pointer { oid: oid.clone(), bytes: 7 }));
        for bad in [
            good.replace("v1", "v9"),
            good.replace(&oid, "../../etc/passwd"),
            good.replace(&oid, &oid.to_uppercase()),
            good.replace("size 7", "size x"),
            format!("{FIRST}\n"),
            String::new(),
        ] {
            assert_eq!(Pointer::parse(bad.as_bytes()), None, "{bad}");
        }
    }
}
