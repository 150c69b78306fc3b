//! What git hands a hook: a line a ref on standard input, the repository by its folder, who pushes by the environment.

use ordotaxis_wire::gate::{Asked, Moved};
use std::path::{Path, PathBuf};

/// `BEFORE COMMIT REF`, a line each. None when it is anything else.
pub(super) fn push(text: &str) -> Option<Asked> {
    let line = |line: &str| {
        let mut words = line.splitn(3, ' ');
        let (before, commit, name) = (words.next()?, words.next()?, words.next()?);
        let is_id = |text: &str| matches!(text.len(), 40 | 64) && text.bytes().all(|byte| byte.is_ascii_hexdigit());
        let fits = is_id(before) && is_id(commit) && name.starts_with("refs/");
        fits.then(|| Moved { name: name.to_owned(), before: before.to_owned(), commit: commit.to_owned() })
    };
    let moved = text.lines().filter(|text| !text.is_empty()).map(line).collect::<Option<Vec<_>>>()?;
    Some(Asked { moved, by: by() })
}

/// Who pushes, as the server's own layer knows them.
fn by() -> Option<String> {
    ["GL_USER", "REMOTE_USER", "LOGNAME", "USER"].iter().find_map(|name| std::env::var(name).ok()).filter(|name| !name.is_empty())
}

/// The repository's folder: git runs hooks in it.
pub(super) fn repository() -> PathBuf {
    let here = || std::env::current_dir().unwrap_or_default();
    match std::env::var_os("GIT_DIR") {
        Some(dir) if Path::new(&dir).is_absolute() => dir.into(),
        Some(dir) => here().join(dir),
        None => here(),
    }
}

/// What the repository is called: `gauge` for `/srv/git/gauge.git`.
pub(super) fn repository_name() -> Option<String> {
    let folder = repository().canonicalize().ok()?;
    let name = folder.file_name()?.to_str()?;
    Some(name.strip_suffix(".git").unwrap_or(name).to_owned()).filter(|name| !name.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_what_git_writes_and_nothing_else() {
        let (a, b) = ("a".repeat(40), "b".repeat(40));
        let read = push(&format!("{a} {b} refs/heads/topic/odd name\n{b} {a} refs/tags/v1\n")).unwrap();
        assert_eq!(read.moved[0], Moved { name: "refs/heads/topic/odd name".into(), before: a.clone(), commit: b.clone() });
        assert_eq!(read.moved.len(), 2);
        for bad in [format!("{a} {b}"), format!("{a} x refs/heads/a"), format!("{a} {b} heads/a"), "GET / HTTP/1.1".into()] {
            assert_eq!(push(&bad), None, "{bad}");
        }
        assert_eq!(push("").map(|asked| asked.moved.len()), Some(0));
    }
}
