//! What a copy holds: the last thing that is written of it.

use serde::{Deserialize, Serialize};

/// The format of copies whose database goes on with changes that lie beside it: an older version, which would leave them out,
/// must not bring such a copy back.
pub(super) const GOES_ON: u32 = 2;

/// `whole.json` of a copy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Whole {
    pub format: u32,
    /// Counted over all copies of a place: the newest has the highest, whatever clocks and names say.
    pub number: u64,
    /// The copy's name: the moment when it was begun, in UTC.
    pub name: String,
    /// The version that wrote it.
    pub version: String,
    /// When it was whole, in milliseconds since 1970.
    pub made_at: i64,
    /// The newest change of the database's form that it has.
    pub schema: i64,
    pub database_bytes: u64,
    pub database_sha256: String,
    pub packs: u64,
    pub pack_bytes: u64,
    /// Packs are not in the backup: they lie in object storage of their own.
    pub packs_elsewhere: bool,
    pub logs: u64,
    /// Keys are in the backup.
    pub keys: bool,
}

impl Whole {
    /// Whether changes of the database lie beside it.
    pub fn goes_on(&self) -> bool {
        self.format == GOES_ON
    }
}

/// A pack, as a line of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Listed {
    pub(super) name: String,
    pub(super) bytes: u64,
    pub(super) sha256: String,
}

pub(super) fn list(packs: &[Listed]) -> String {
    packs.iter().map(|pack| format!("{} {} {}\n", pack.name, pack.bytes, pack.sha256)).collect()
}

/// None when a line is none of a list's.
pub(super) fn read_list(text: &str) -> Option<Vec<Listed>> {
    let line = |line: &str| {
        let mut words = line.split(' ');
        let (name, bytes, sha256) = (words.next()?, words.next()?.parse().ok()?, words.next()?);
        let hex = |text: &str, length: usize| text.len() == length && text.bytes().all(|byte| byte.is_ascii_hexdigit());
        let fits = hex(name, 32) && hex(sha256, 64) && words.next().is_none();
        fits.then(|| Listed { name: name.to_owned(), bytes, sha256: sha256.to_owned() })
    };
    text.lines().map(line).collect()
}
