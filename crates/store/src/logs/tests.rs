//! Logs against the plainest model: all bytes in a row, split at line ends.

#![expect(clippy::cast_possible_truncation, reason = "the texts of the tests are short")]

use super::*;
use proptest::prelude::*;
use regex::bytes::Regex;

fn logs() -> (tempfile::TempDir, Logs) {
    let folder = tempfile::tempdir().unwrap();
    let logs = Logs::open(folder.path().join("logs")).unwrap();
    (folder, logs)
}

#[test]
fn repeats_and_gaps_heal() {
    let (_folder, logs) = logs();
    let id = LogId::new(1, 2, 1);
    assert_eq!(logs.append(&id, 0, 5, b"high ").unwrap(), 5);
    assert_eq!(logs.append(&id, 0, 5, b"high ").unwrap(), 5, "a repeat adds nothing");
    assert_eq!(logs.append(&id, 9, 5, b"late").unwrap(), 5, "a gap is not written");
    assert_eq!(logs.append(&id, 3, 6, b"h water").unwrap(), 10, "what overlaps is written once");
    assert_eq!(logs.read(&id, 0, 100).unwrap(), (b"high water".to_vec(), 10));
    assert_eq!(logs.read(&id, 5, 3).unwrap(), (b"wat".to_vec(), 10));
    assert_eq!(logs.read(&LogId::new(1, 2, 9), 0, 3).unwrap(), (Vec::new(), 0));
}

#[test]
fn helpers_have_logs_of_their_own_and_no_name_leads_out() {
    let (_folder, logs) = logs();
    let main = LogId::new(1, 2, 1);
    let helper = main.clone().beside("gauge").unwrap();
    logs.append(&main, 0, 1, b"step\n").unwrap();
    logs.append(&helper, 0, 1, b"serving\n").unwrap();
    assert_eq!(logs.read(&helper, 0, 100).unwrap().0, b"serving\n");
    for bad in ["", "../x", "a/b", "A", "a.b", "0\0"] {
        assert!(main.clone().beside(bad).is_none(), "{bad:?}");
    }
    logs.close(1, 2, 1).unwrap();
    assert_eq!(logs.read(&main, 0, 100).unwrap().0, b"step\n");
}

#[test]
fn what_a_crash_cut_off_is_cut_away() {
    let (folder, logs) = logs();
    let id = LogId::new(1, 0, 1);
    logs.append(&id, 0, 5, b"whole\n").unwrap();
    let path = folder.path().join("logs/1/0-1.0");
    let whole = std::fs::read(&path).unwrap();
    for cut in [0, 10, 24, 30, whole.len() - 1] {
        std::fs::write(&path, &whole[..cut]).unwrap();
        let again = Logs::open(folder.path().join("logs")).unwrap();
        assert_eq!(again.read(&id, 0, 100).unwrap(), (Vec::new(), 0), "cut at {cut}");
        assert_eq!(again.append(&id, 0, 5, b"again\n").unwrap(), 6);
        assert_eq!(again.read(&id, 0, 100).unwrap().0, b"again\n");
    }
    // A torn piece after a whole one.
    std::fs::write(&path, [&whole[..], b"\x20\0\0\0\x01\0\0\0torn"].concat()).unwrap();
    let again = Logs::open(folder.path().join("logs")).unwrap();
    assert_eq!(again.append(&id, 6, 7, b"more\n").unwrap(), 11);
    assert_eq!(again.lines(&id, 0, 9).unwrap().bytes, b"whole\nmore\n");
}

#[test]
fn a_damaged_file_is_an_error_and_no_panic() {
    let (folder, logs) = logs();
    let id = LogId::new(1, 0, 1);
    logs.append(&id, 0, 5, &b"a line of the tide\n".repeat(1000)).unwrap();
    logs.close(1, 0, 1).unwrap();
    let path = folder.path().join("logs/1/0-1.0.zst");
    let whole = std::fs::read(&path).unwrap();
    for place in 0..whole.len() {
        let mut broken = whole.clone();
        broken[place] ^= 0x55;
        std::fs::write(&path, &broken).unwrap();
        let again = Logs::open(folder.path().join("logs")).unwrap();
        let _ = again.read(&id, 0, 1 << 20);
        let _ = again.lines(&id, 500, 10);
        std::fs::write(&path, &whole[..place]).unwrap();
        let _ = Logs::open(folder.path().join("logs")).unwrap().read(&id, 0, 1 << 20);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// However a log is written, closed and opened again, its bytes, lines, times and finds are those of the plain text.
    #[test]
    fn all_reads_agree_with_the_plain_text(
        pieces in prop::collection::vec(("[abc\n]{0,30}", 1..400usize), 1..12), close in any::<bool>(), more in "[ab\n]{0,10}",
        first in 0..60u64, count in 0..20u64, offset in 0..500u64, limit in 0..200u64
    ) {
        let (folder, logs) = logs();
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
        if close {
            logs.close(3, 1, 1).unwrap();
        }
        let logs = if close { Logs::open(folder.path().join("logs")).unwrap() } else { logs };
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
