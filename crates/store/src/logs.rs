//! Logs: one growing file an attempt. Bytes are appended at an offset, so a repeat or a gap heals: what is already
//! there is skipped, what would leave a hole is not written, and the answer says how much there is.

use std::io::{ErrorKind, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use tokio::sync::watch;

/// Appends to the same log must not overlap; locks are shared among logs by hash to keep them few.
const LOCKS: usize = 64;

#[derive(Clone)]
pub struct Logs {
    folder: PathBuf,
    locks: Arc<[Mutex<()>; LOCKS]>,
    grown: Arc<watch::Sender<u64>>,
}

impl Logs {
    pub fn open(folder: PathBuf) -> std::io::Result<Logs> {
        std::fs::create_dir_all(&folder)?;
        Ok(Logs { folder, locks: Arc::new(std::array::from_fn(|_| Mutex::default())), grown: Arc::new(watch::channel(0).0) })
    }

    fn path(&self, run: i64, job: usize, attempt: u32) -> PathBuf {
        self.folder.join(run.to_string()).join(format!("{job}-{attempt}.log"))
    }

    /// Appends bytes that stand at `offset` in the log and gives the log's length. Blocking: for a blocking thread.
    pub fn append(&self, run: i64, job: usize, attempt: u32, offset: u64, bytes: &[u8]) -> std::io::Result<u64> {
        let _one_at_a_time = self.locks[job % LOCKS].lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let path = self.path(run, job, attempt);
        let open = || std::fs::OpenOptions::new().create(true).append(true).open(&path);
        let mut file = match open() {
            Err(error) if error.kind() == ErrorKind::NotFound => {
                std::fs::create_dir_all(self.folder.join(run.to_string()))?;
                open()?
            }
            other => other?,
        };
        let length = file.metadata()?.len();
        let known = length.saturating_sub(offset);
        if offset > length || known >= bytes.len() as u64 {
            return Ok(length);
        }
        let new = &bytes[usize::try_from(known).unwrap_or(bytes.len())..];
        file.write_all(new)?;
        self.grown.send_modify(|count| *count += 1);
        Ok(length + new.len() as u64)
    }

    /// Up to `limit` bytes from `offset`, and the log's length. A log that does not exist yet is empty.
    pub fn read(&self, run: i64, job: usize, attempt: u32, offset: u64, limit: u64) -> std::io::Result<(Vec<u8>, u64)> {
        let mut file = match std::fs::File::open(self.path(run, job, attempt)) {
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok((Vec::new(), 0)),
            other => other?,
        };
        let length = file.metadata()?.len();
        let mut bytes = Vec::new();
        file.seek(SeekFrom::Start(offset.min(length)))?;
        file.take(limit).read_to_end(&mut bytes)?;
        Ok((bytes, length))
    }

    /// Changes whenever some log grows; a follower waits on it and then reads again.
    pub fn grown(&self) -> watch::Receiver<u64> {
        self.grown.subscribe()
    }

    /// Wakes followers although nothing grew: an attempt has ended.
    pub fn wake(&self) {
        self.grown.send_modify(|count| *count += 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeats_and_gaps_heal() {
        let folder = tempfile::tempdir().unwrap();
        let logs = Logs::open(folder.path().join("logs")).unwrap();
        assert_eq!(logs.append(1, 2, 1, 0, b"high ").unwrap(), 5);
        assert_eq!(logs.append(1, 2, 1, 0, b"high ").unwrap(), 5, "a repeat adds nothing");
        assert_eq!(logs.append(1, 2, 1, 9, b"late").unwrap(), 5, "a gap is not written");
        assert_eq!(logs.append(1, 2, 1, 3, b"h water").unwrap(), 10, "what overlaps is written once");
        assert_eq!(logs.read(1, 2, 1, 0, 100).unwrap(), (b"high water".to_vec(), 10));
        assert_eq!(logs.read(1, 2, 1, 5, 3).unwrap(), (b"wat".to_vec(), 10));
        assert_eq!(logs.read(1, 2, 9, 0, 3).unwrap(), (Vec::new(), 0));
    }
}
