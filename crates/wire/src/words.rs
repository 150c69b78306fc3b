//! Times and sizes as people read them, the same in statuses, terminal and page.

/// `850 ms`, `41 s`, `1 m 50 s`, `2 h 04 m`.
///
/// ```
/// use ordotaxis_wire::words::duration;
/// assert_eq!([850, 41_000, 110_000, 7_440_000].map(duration), ["850 ms", "41 s", "1 m 50 s", "2 h 04 m"]);
/// ```
pub fn duration(ms: i64) -> String {
    let ms = ms.max(0);
    let seconds = (ms + 500) / 1000;
    match ms {
        0..=999 => format!("{ms} ms"),
        1_000..=9_949 => format!("{}.{} s", ms / 1000, ms % 1000 / 100),
        _ if seconds < 60 => format!("{seconds} s"),
        _ if seconds < 3600 => format!("{} m {:02} s", seconds / 60, seconds % 60),
        _ => format!("{} h {:02} m", seconds / 3600, seconds % 3600 / 60),
    }
}

/// `14 min`, `3 h`, `2 days`: how long something has been so.
///
/// ```
/// use ordotaxis_wire::words::age;
/// assert_eq!([14 * 60_000, 3 * 3_600_000, 50 * 3_600_000].map(age), ["14 min", "3 h", "2 days"]);
/// ```
pub fn age(ms: i64) -> String {
    let minutes = ms.max(0) / 60_000;
    match minutes {
        0 => format!("{} s", ms.max(0) / 1000),
        1..60 => format!("{minutes} min"),
        60..1440 => format!("{} h", minutes / 60),
        1440..2880 => "1 day".into(),
        _ => format!("{} days", minutes / 1440),
    }
}

/// `312 B`, `4.2 KiB`, `1.0 MiB`.
///
/// ```
/// use ordotaxis_wire::words::bytes;
/// assert_eq!([312, 4_301, 1 << 20].map(bytes), ["312 B", "4.2 KiB", "1.0 MiB"]);
/// ```
pub fn bytes(count: u64) -> String {
    let mut whole = count;
    let mut tenths = 0;
    for unit in ["B", "KiB", "MiB", "GiB"] {
        if whole < 1024 || unit == "GiB" {
            return if unit == "B" { format!("{whole} B") } else { format!("{whole}.{tenths} {unit}") };
        }
        tenths = whole % 1024 * 10 / 1024;
        whole /= 1024;
    }
    String::new()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_as_a_person_would_say_it() {
        for (ms, words) in [
            (0, "0 ms"),
            (850, "850 ms"),
            (1_900, "1.9 s"),
            (41_200, "41 s"),
            (59_700, "1 m 00 s"),
            (110_000, "1 m 50 s"),
            (7_440_000, "2 h 04 m"),
        ] {
            assert_eq!(duration(ms), words);
        }
        for (count, words) in [(312, "312 B"), (4_300, "4.1 KiB"), (1_048_576, "1.0 MiB"), (5_000_000_000_000, "4656.6 GiB")] {
            assert_eq!(bytes(count), words);
        }
        assert_eq!(age(14 * 60_000), "14 min");
    }
}
