//! Logs against the plainest model: all bytes in a row, split at line ends.

#![expect(clippy::cast_possible_truncation, reason = "the texts of the tests are short")]

use super::*;
use crate::blobs::{BlobKey, Place};
use crate::records::Records;
use proptest::prelude::*;
use regex::bytes::Regex;

/// Logs with a store; dropping the runtime ends what asks it.
struct Kept {
    folder: tempfile::TempDir,
    runtime: tokio::runtime::Runtime,
    logs: Logs,
}

impl Kept {
    fn new() -> Kept {
        Kept::with(None)
    }

    fn with(key: Option<BlobKey>) -> Kept {
        let folder = tempfile::tempdir().unwrap();
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let logs = runtime.block_on(open(folder.path(), key));
        let project =
            "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (1, 'tidegauge', '', 'main', '', 0)";
        let run = "INSERT INTO runs (id, project_id, number, pipeline, state, commit_id, commit_title, commit_author, commit_time, event, created_at)
                     VALUES (3, 1, 7, 'main', 'passed', 'c', '', '', 0, 'push', 0)";
        for sql in [project, run] {
            runtime.block_on(sqlx::query(sql).execute(logs.shelf.blobs.records().writer())).unwrap();
        }
        Kept { folder, runtime, logs }
    }

    /// As after the service went down and up again.
    fn again(&mut self) {
        self.logs = self.runtime.block_on(open(self.folder.path(), None));
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join("logs").join(name)
    }

    fn move_closed(&self) -> usize {
        self.runtime.block_on(self.logs.move_closed(5)).unwrap()
    }
}

impl std::ops::Deref for Kept {
    type Target = Logs;

    fn deref(&self) -> &Logs {
        &self.logs
    }
}

async fn open(folder: &Path, key: Option<BlobKey>) -> Logs {
    let records = Records::open(folder).await.unwrap();
    let blobs = Blobs::open(&Place::Local(folder.join("blobs")), key, records).await.unwrap();
    Logs::open(folder.join("logs"), blobs).unwrap()
}

#[test]
fn repeats_and_gaps_heal() {
    let logs = Kept::new();
    let id = LogId::new(1, 2, 1);
    assert_eq!(logs.append(&id, 0, 5, b"high ").unwrap(), 5);
    assert_eq!(logs.append(&id, 0, 5, b"high ").unwrap(), 5, "a repeat adds nothing");
    assert_eq!(logs.append(&id, 9, 5, b"late").unwrap(), 5, "a gap is not written");
    assert_eq!(logs.append(&id, 3, 6, b"h water").unwrap(), 10, "what overlaps is written once");
    assert_eq!(logs.read(&id, 0, 100).unwrap(), (b"high water".to_vec(), 10));
    assert_eq!(logs.read(&id, 5, 3).unwrap(), (b"wat".to_vec(), 10));
    assert_eq!(logs.read(&LogId::new(1, 2, 9), 0, 3).unwrap(), (Vec::new(), 0));
}

/// Most programs print "error" in red: what is looked for is what a person reads.
#[test]
fn words_are_found_whatever_their_colours() {
    let logs = Kept::new();
    let id = LogId::new(3, 0, 1);
    logs.append(&id, 0, 5, b"fine\n\x1b[1;31merror\x1b[0m: levels differ\n\x1b]8;;x\x1b\\er\x1b[31mror\x1b[0m two\n\x1b[3").unwrap();
    let found = |pattern: &str| {
        let found = logs.search(&id, &Regex::new(pattern).unwrap(), 0, 9).unwrap().found;
        found.into_iter().map(|found| found.line).collect::<Vec<_>>()
    };
    assert_eq!(found(r"\berror\b"), [1, 2]);
    assert_eq!(found("error: levels"), [1]);
    assert_eq!(found("31m"), Vec::<u64>::new(), "what nobody sees is not found");
}

#[test]
fn helpers_have_logs_of_their_own_and_no_name_leads_out() {
    let logs = Kept::new();
    let main = LogId::new(1, 2, 1);
    let helper = main.clone().beside("gauge").unwrap();
    logs.append(&main, 0, 1, b"step\n").unwrap();
    logs.append(&helper, 0, 1, b"serving\n").unwrap();
    assert_eq!(logs.read(&helper, 0, 100).unwrap().0, b"serving\n");
    for bad in ["", "../x", "a/b", "A", "a.b", "0\0"] {
        assert!(main.clone().beside(bad).is_none(), "{bad:?}");
    }
    logs.close(1, 2, 1);
    assert_eq!(logs.read(&main, 0, 100).unwrap().0, b"step\n");
}

#[test]
fn what_a_crash_cut_off_is_cut_away() {
    let mut logs = Kept::new();
    let id = LogId::new(1, 0, 1);
    logs.append(&id, 0, 5, b"whole\n").unwrap();
    let path = logs.path("1/0-1.0");
    let whole = std::fs::read(&path).unwrap();
    for cut in [0, 10, 24, 30, whole.len() - 1] {
        std::fs::write(&path, &whole[..cut]).unwrap();
        logs.again();
        assert_eq!(logs.read(&id, 0, 100).unwrap(), (Vec::new(), 0), "cut at {cut}");
        assert_eq!(logs.append(&id, 0, 5, b"again\n").unwrap(), 6);
        assert_eq!(logs.read(&id, 0, 100).unwrap().0, b"again\n");
    }
    // A torn piece after a whole one.
    std::fs::write(&path, [&whole[..], b"\x20\0\0\0\x01\0\0\0torn"].concat()).unwrap();
    logs.again();
    assert_eq!(logs.append(&id, 6, 7, b"more\n").unwrap(), 11);
    assert_eq!(logs.lines(&id, 0, 9).unwrap().bytes, b"whole\nmore\n");
}

/// A file as versions before wrote it: 40 pieces of 400 lines each.
const PACKED: &[u8] = include_bytes!("packed-log.zst");

fn text_of_packed() -> String {
    let line = |n: u64, k: u64| format!("reading {k} of hour {n}: {} mm\n", (k * 37 + n * 11) % 4000);
    (0..40).flat_map(|n| (0..400).map(move |k| line(n, k))).collect()
}

#[test]
fn a_damaged_file_is_an_error_and_no_panic() {
    let mut logs = Kept::new();
    let id = LogId::new(3, 1, 1);
    let path = logs.path("3/1-1.0.zst");
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    for place in (0..PACKED.len()).step_by(97).chain(PACKED.len() - 400..PACKED.len()) {
        let mut broken = PACKED.to_vec();
        broken[place] ^= 0x55;
        for bytes in [&broken[..], &PACKED[..place]] {
            std::fs::write(&path, bytes).unwrap();
            logs.known().clear();
            let _ = logs.read(&id, 0, 1 << 20);
            let _ = logs.lines(&id, 500, 10);
        }
    }
    // What cannot be read is not moved and not deleted.
    std::fs::write(&path, &PACKED[..900]).unwrap();
    logs.again();
    logs.runtime.block_on(logs.look_for_closed()).unwrap();
    assert_eq!(logs.move_closed(), 0);
    assert!(path.exists());
}

#[test]
fn files_of_versions_before_are_read_and_moved_into_the_store() {
    let mut logs = Kept::new();
    let id = LogId::new(3, 1, 1);
    let path = logs.path("3/1-1.0.zst");
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(&path, PACKED).unwrap();
    let text = text_of_packed();
    for round in 0..3 {
        assert_eq!(logs.read(&id, 0, u64::MAX).unwrap().0, text.as_bytes(), "round {round}");
        let lines = logs.lines(&id, 8_123, 2).unwrap();
        let plain: Vec<&str> = text.split_inclusive('\n').skip(8_123).take(2).collect();
        assert_eq!((lines.bytes, lines.times, lines.total), (plain.concat().into_bytes(), vec![200, 200], 16_000));
        logs.again();
        logs.runtime.block_on(logs.look_for_closed()).unwrap();
        assert_eq!(logs.move_closed(), usize::from(round == 0));
        assert!(!path.exists());
    }
}

#[test]
fn what_a_crash_left_beside_the_store_is_moved_or_deleted_and_what_goes_on_stays() {
    let mut logs = Kept::new();
    let (ended, open, lost) = (LogId::new(3, 0, 1), LogId::new(3, 1, 1), LogId::new(99, 0, 1));
    let attempt =
        "INSERT INTO attempts (run_id, job, number, runner, session, slot, state, started_at) VALUES (3, 1, 1, '', '', 0, 'running', 0)";
    logs.runtime.block_on(sqlx::query(attempt).execute(logs.shelf.blobs.records().writer())).unwrap();
    for id in [&ended, &open, &lost] {
        logs.append(id, 0, 5, b"high water\n").unwrap();
    }
    logs.again();
    logs.runtime.block_on(logs.look_for_closed()).unwrap();
    assert_eq!(logs.move_closed(), 1);
    assert!(!logs.path("3/0-1.0").exists());
    assert!(logs.path("3/1-1.0").exists(), "its attempt goes on");
    assert!(logs.path("99/0-1.0").exists(), "no run tells that it has ended");
    // Down after the records were written and before the file was deleted.
    std::fs::write(logs.path("3/0-1.0"), std::fs::read(logs.path("3/1-1.0")).unwrap()).unwrap();
    logs.again();
    assert_eq!(logs.read(&ended, 0, 100).unwrap().0, b"high water\n");
    logs.runtime.block_on(logs.look_for_closed()).unwrap();
    assert_eq!(logs.move_closed(), 0);
    assert!(!logs.path("3/0-1.0").exists());
    assert_eq!(logs.read(&ended, 0, 100).unwrap().0, b"high water\n");
}

#[test]
fn the_same_text_is_stored_once_and_sealed_where_the_store_is() {
    let key = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(key.path(), [7; 32]).unwrap();
    let logs = Kept::with(Some(BlobKey::read(key.path()).unwrap()));
    let text = b"the tide at lock-gate is 2131 mm\n".repeat(900);
    for job in 0..20 {
        logs.append(&LogId::new(3, job, 1), 0, 5, &text).unwrap();
        logs.close(3, job, 1);
    }
    assert_eq!(logs.move_closed(), 20);
    let (packs, chunks, _) = logs.shelf.blobs.sums();
    assert_eq!((packs, chunks), (1, 1));
    for job in 0..20 {
        assert_eq!(logs.read(&LogId::new(3, job, 1), 0, u64::MAX).unwrap().0, text);
    }
    assert!(std::fs::read_dir(logs.path("")).unwrap().next().is_none(), "no file is left");
    let mut open = vec![logs.folder.path().to_owned()];
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(std::fs::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else {
            assert!(memchr::memmem::find(&std::fs::read(&path).unwrap(), b"lock-gate").is_none(), "{}", path.display());
        }
    }
}

#[test]
fn a_store_that_refuses_leaves_logs_where_they_are() {
    let logs = Kept::new();
    let id = LogId::new(3, 0, 1);
    logs.append(&id, 0, 5, b"high water\n").unwrap();
    logs.close(3, 0, 1);
    let packs = logs.folder.path().join("blobs/packs");
    std::fs::write(&packs, "in the way").unwrap();
    assert!(logs.runtime.block_on(logs.logs.move_closed(5)).is_err());
    assert_eq!(logs.append(&id, 11, 6, b"low water\n").unwrap(), 21);
    assert_eq!(logs.read(&id, 0, 100).unwrap().0, b"high water\nlow water\n");
    std::fs::remove_file(&packs).unwrap();
    assert_eq!(logs.move_closed(), 2);
    assert_eq!(logs.read(&id, 0, 100).unwrap().0, b"high water\nlow water\n");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]

    /// However a log is written, closed and opened again, its bytes, lines, times and finds are those of the plain text.
    #[test]
    fn all_reads_agree_with_the_plain_text(
        pieces in prop::collection::vec(("[abc\n]{0,30}", 1..3000usize), 1..12), closed in 0..4, more in "[ab\n]{0,10}",
        first in 0..60u64, count in 0..20u64, offset in 0..500u64, limit in 0..200u64
    ) {
        let mut logs = Kept::new();
        let id = LogId::new(3, 1, 1);
        let mut plain: Vec<u8> = Vec::new();
        let mut at_of: Vec<i64> = Vec::new();
        let mut write = |logs: &Logs, text: &str, times: usize, at: i64| {
            let bytes = text.repeat(times).into_bytes();
            logs.append(&id, plain.len() as u64, at, &bytes).unwrap();
            at_of.extend(vec![at; bytes.len()]);
            plain.extend(bytes);
        };
        for (at, (text, times)) in pieces.iter().enumerate() {
            write(&logs, text, *times, at as i64 * 10);
        }
        if closed > 0 {
            logs.close(3, 1, 1);
        }
        if closed > 1 {
            logs.move_closed();
        }
        if closed > 2 {
            logs.again();
        }
        write(&logs, &more, 1, 1_000);

        let slice = |from: u64, count: u64| { let from = (from as usize).min(plain.len()); plain[from..(from + count as usize).min(plain.len())].to_vec() };
        prop_assert_eq!(logs.read(&id, offset, limit).unwrap(), (slice(offset, limit), plain.len() as u64));
        prop_assert_eq!(logs.read(&id, 0, u64::MAX).unwrap().0, plain.clone());
        let lines: Vec<&[u8]> = plain.split_inclusive(|byte| *byte == b'\n').collect();
        let starts: Vec<usize> = lines.iter().scan(0, |at, line| { let start = *at; *at += line.len(); Some(start) }).collect();
        for first in [first, 0, lines.len().saturating_sub(2) as u64, lines.len() as u64 / 2] {
            let got = logs.lines(&id, first, count).unwrap();
            let (from, to) = ((first as usize).min(lines.len()), (first as usize + count as usize).min(lines.len()));
            prop_assert_eq!(got.total, lines.len() as u64);
            prop_assert_eq!(got.bytes, lines[from..to].concat());
            let times: Vec<i64> = starts[from..to].iter().map(|&start| at_of[start]).collect();
            prop_assert_eq!(got.times, times);
            if from < to {
                prop_assert_eq!(got.offset, starts[from] as u64);
                prop_assert_eq!(logs.line_of(&id, got.offset).unwrap(), from as u64);
            }
        }
        let pattern = Regex::new("ab.?c").unwrap();
        let hits: Vec<u64> = lines.iter().enumerate().filter(|(number, line)| *number as u64 >= first && pattern.is_match(line)).map(|(number, _)| number as u64).collect();
        let found = logs.search(&id, &pattern, first, 5).unwrap();
        prop_assert_eq!(found.found.iter().map(|found| found.line).collect::<Vec<_>>(), hits.iter().copied().take(5).collect::<Vec<_>>());
        prop_assert_eq!(found.more_from, hits.get(5).copied());
        for hit in &found.found {
            prop_assert_eq!(hit.offset, starts[hit.line as usize] as u64);
        }
    }
}
