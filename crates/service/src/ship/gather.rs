//! The next lines of a log that are to be sent. Only whole lines, as long as there may be more; a very long one is cut.

use crate::app::App;
use ordotaxis_store::{LogId, ShipRow};

/// So many lines, and about so many bytes, are read of one log at once.
const LINES: u64 = 2_000;
const BYTES: usize = 512 * 1024;
/// A longer line is cut.
const LONGEST: usize = 64 * 1024;
const CUT: &str = " (the line goes on)";

/// Some lines of one log.
pub(super) struct Part {
    pub(super) row: ShipRow,
    /// When each was printed, and what it says, without its end.
    pub(super) lines: Vec<(i64, String)>,
    /// There will be no more after these.
    pub(super) last: bool,
}

/// The next lines of a log.
pub(super) async fn next(app: &App, row: ShipRow) -> std::io::Result<Part> {
    let logs = app.logs.clone();
    let read = tokio::task::spawn_blocking(move || {
        let job = usize::try_from(row.job).unwrap_or(usize::MAX);
        let id = LogId::new(row.run_id, job, row.attempt);
        let first = u64::try_from(row.lines).unwrap_or(0);
        let read = logs.lines_within(&id, first, LINES, BYTES)?;
        let mut lines = whole(&read.bytes, &read.times);
        let (ended, stopped) = (row.ended_at.is_some(), read.bytes.len() >= BYTES);
        let open = !read.bytes.is_empty() && read.bytes.last() != Some(&b'\n');
        // The last one may still grow, or its end was not read; one that fills all that is read at once is cut.
        if open && if stopped { lines.len() > 1 } else { !ended } {
            lines.pop();
        }
        let last = ended && first + lines.len() as u64 >= read.total;
        Ok(Part { lines, last, row })
    });
    read.await.map_err(std::io::Error::other)?
}

/// The lines of some bytes, each with its time.
fn whole(bytes: &[u8], times: &[i64]) -> Vec<(i64, String)> {
    let lines = bytes.split_inclusive(|byte| *byte == b'\n').zip(times);
    lines.map(|(line, at)| (*at, text(line))).collect()
}

fn text(line: &[u8]) -> String {
    let line = line.strip_suffix(b"\n").unwrap_or(line);
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    if line.len() <= LONGEST {
        return String::from_utf8_lossy(line).into_owned();
    }
    format!("{}{CUT}", String::from_utf8_lossy(&line[..LONGEST]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_lines() {
        assert_eq!(whole(b"a\r\n\nb", &[1, 2, 3]), [(1, "a".to_owned()), (2, String::new()), (3, "b".to_owned())]);
        let long = text(&[b'x'; LONGEST + 5]);
        assert!(long.ends_with(CUT) && long.len() == LONGEST + CUT.len());
        assert_eq!(text(b"\xff\n"), "\u{fffd}");
    }
}
