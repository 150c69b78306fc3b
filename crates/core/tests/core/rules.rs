//! The rules of a project: read with every mistake told, made stricter and never easier, and times of the week.

use ordotaxis_core::landing::Manner;
use ordotaxis_core::language::{Code, Severity, has_errors};
use ordotaxis_core::notice::Occasion;
use ordotaxis_core::rules::{Hours, HoursError, How, Rules, opens, read, schema};
use proptest::prelude::*;
use std::str::FromStr;

const WHOLE: &str = "rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"main\", \"soak\"]\n\
    approvals = { of = 1, by = [\"ines\", \"@keepers\"] }\nhow = \"squash\"\nahead = 2\ntogether = 3\nclosed = [\"Fri 16:00 - Mon 06:00 Europe/Oslo\"]\n\
    [branch.\"release/1.x\"]\nland = \"free\"\n";

fn rules(text: &str) -> Rules {
    let (rules, told) = read(text);
    assert!(!has_errors(&told), "{told:?}");
    rules
}

#[test]
fn all_that_can_be_said_is_read() {
    let main = rules(WHOLE).branch("main");
    assert!(main.queue && main.how == How::Squash && main.manner == Manner { ahead: 2, together: 3 });
    assert_eq!(main.wants, ["main", "soak"]);
    assert_eq!((main.approvals[0].of, main.approvals[0].author, main.approvals[0].by.len()), (1, false, 2));
    assert_eq!(main.closed[0].text(), "Fri 16:00 - Mon 06:00 Europe/Oslo");
    assert!(!rules(WHOLE).branch("release/1.x").queue && !rules(WHOLE).branch("never/named").queue);
    let all = rules(
        "rules = 1\n[notice.keepers]\nmail = [\"keepers@saltmarsh.example\"]\n[notice.board]\non = [\"landed\"]\nurl = \"https://board.example/x\"\nsecret = \"KEY\"\n[told]\njobs = [\"test.unit\"]\ncomments = false\n",
    );
    let (keepers, board) = (&all.notices["keepers"], &all.notices["board"]);
    assert_eq!((keepers.on.as_slice(), keepers.mail.len(), &keepers.hook), ([Occasion::Broke, Occasion::Fixed].as_slice(), 1, &None));
    assert_eq!(
        (board.on.as_slice(), &board.hook),
        ([Occasion::Landed].as_slice(), &Some(("https://board.example/x".into(), "KEY".into())))
    );
    assert!(!all.told.comments && all.told.jobs.holds("test.unit[O2]", "test.unit") && !all.told.jobs.holds("test.soak", "test.soak"));
    assert!(rules("rules = 1\n[told]\njobs = true\n").told.jobs.holds("a.b", "a.b") && rules("rules = 1").told.comments);
    let said = rules(WHOLE).sentences().join("\n");
    for words in [
        "proposals for main land one after another, as one commit each, once main and soak passed",
        "main: up to 2 trials at once, each with up to 3 proposals",
        "main: 1 approval of the newest commit by ines or @keepers",
        "main: nothing lands Fri 16:00 - Mon 06:00 Europe/Oslo",
        "release/1.x is free",
    ] {
        assert!(said.contains(words), "{said}");
    }
    assert_eq!(
        all.sentences(),
        [
            "keepers: keepers@saltmarsh.example is told of broke, fixed",
            "board: https://board.example/x is told of landed",
            "these jobs have statuses of their own at the forge: test.unit",
            "proposals get no comment"
        ]
    );
    let schema = schema();
    assert_eq!(schema["properties"]["branch"]["additionalProperties"]["properties"]["how"]["enum"][1], "squash");
}

#[test]
fn mistakes_are_told_where_they_stand() {
    for (text, code, wanted) in [
        ("[branch.main]\n", Code::MissingKey, "rules"),
        ("rules = 2\n", Code::BadValue, "from 1 to 1"),
        ("rules = 1\n[branch.main]\nland = \"quue\"\n", Code::BadValue, "did you mean \"queue\"?"),
        ("rules = 1\n[branch.main]\nlands = \"queue\"\n", Code::UnknownKey, "did you mean `land`?"),
        ("rules = 1\n[branch.main]\nland = \"queue\"\nwants = []\n", Code::BadValue, "tests nothing"),
        ("rules = 1\n[branch.main]\nland = \"queue\"\napprovals = { by = [\"ines\"] }\n", Code::MissingKey, "of"),
        ("rules = 1\n[branch.main]\nland = \"queue\"\nahead = 99\n", Code::BadValue, "from 1 to 16"),
        ("rules = 1\n[branch.main]\nland = \"queue\"\nclosed = [\"weekends\"]\n", Code::BadValue, "no time of the week"),
        (
            "rules = 1\n[branch.main]\nland = \"queue\"\nclosed = [\"Fri 16:00 - Mon 06:00 Europe/Bergen\"]\n",
            Code::BadValue,
            "no time zone",
        ),
        ("rules = 1\n[branch.main]\nwants = [\"main\"]\n", Code::Unused, "this branch has none"),
        ("rules = 1\nbranch = 3\n", Code::WrongType, "must be a table"),
        ("rules = 1\n[notice.a]\non = [\"broke\"]\n", Code::MissingKey, "nobody who is told"),
        ("rules = 1\n[notice.a]\nmail = [\"keepers\"]\n", Code::BadValue, "no mail address"),
        ("rules = 1\n[notice.a]\nmail = [\"a@b.example\\r\\nBcc: c@d\"]\n", Code::BadValue, "no mail address"),
        ("rules = 1\n[notice.a]\nmail = [\"a@b.example\"]\non = [\"brok\"]\n", Code::BadValue, "did you mean \"broke\"?"),
        ("rules = 1\n[notice.a]\nurl = \"ftp://b.example\"\nsecret = \"KEY\"\n", Code::BadValue, "https://"),
        ("rules = 1\n[notice.a]\nurl = \"https://u:p@b.example\"\nsecret = \"KEY\"\n", Code::BadValue, "without a name"),
        ("rules = 1\n[notice.a]\nurl = \"https://b.example\"\n", Code::MissingKey, "BOARD_KEY"),
        ("rules = 1\n[notice.a]\nmail = [\"a@b.example\"]\nsecret = \"KEY\"\n", Code::Unused, "signs what goes to `url`"),
        ("rules = 1\n[told]\njobs = 3\n", Code::WrongType, "true, false or a list"),
    ] {
        let (_, told) = read(text);
        let found = told.iter().find(|found| found.code == code).unwrap_or_else(|| panic!("{text}: {told:?}"));
        let said = format!("{} {}", found.message, found.hint.as_deref().unwrap_or_default());
        assert!(said.contains(wanted), "{said}");
        assert_eq!(found.severity == Severity::Error, code != Code::Unused);
    }
}

/// What an owner adds in the service never makes anything easier.
#[test]
fn stricter_rules_only_add() {
    let own = rules(WHOLE);
    let more = rules(
        "rules = 1\n[branch.main]\nland = \"queue\"\nwants = [\"audit\"]\napprovals = { of = 2 }\n[branch.\"release/1.x\"]\nland = \"queue\"\nhow = \"rebase\"\n",
    );
    let both = own.clone().stricter(&more);
    let main = both.branch("main");
    assert_eq!(main.wants, ["main", "soak", "audit"]);
    assert_eq!(main.approvals.iter().map(|one| one.of).collect::<Vec<_>>(), [1, 2], "both must be there");
    assert!(main.how == How::Squash && main.closed.len() == 1);
    let release = both.branch("release/1.x");
    assert!(release.queue && release.how == How::Rebase);
    let free = rules("rules = 1\n[branch.main]\nland = \"free\"\n");
    assert!(own.stricter(&free).branch("main").queue, "free is no word against a queue");
}

/// Milliseconds of a moment in UTC.
fn at(text: &str) -> i64 {
    chrono::DateTime::parse_from_rfc3339(text).expect("a moment").timestamp_millis()
}

#[test]
fn times_of_the_week_hold_and_end_by_the_zones_own_clock() {
    let ends = |hours: &str, now: &str| Hours::from_str(hours).expect("hours").ends(at(now));
    let weekend = "Fri 16:00 - Mon 06:00 Europe/Oslo";
    assert_eq!(ends(weekend, "2026-11-27T14:59:00Z"), None, "15:59 in Oslo");
    assert_eq!(ends(weekend, "2026-11-27T15:00:00Z"), Some(at("2026-11-30T05:00:00Z")));
    assert_eq!(ends(weekend, "2026-11-30T04:59:59Z"), Some(at("2026-11-30T05:00:00Z")));
    assert_eq!(ends(weekend, "2026-11-30T05:00:00Z"), None);
    // Clocks go back in the night to 2026-10-25: the weekend is an hour longer.
    assert_eq!(ends(weekend, "2026-10-23T14:00:00Z"), Some(at("2026-10-26T05:00:00Z")));
    let work = "Mon-Fri 08:00-16:00 Europe/Oslo";
    assert_eq!(ends(work, "2026-11-26T07:00:00Z"), Some(at("2026-11-26T15:00:00Z")));
    assert_eq!(ends(work, "2026-11-28T10:00:00Z"), None, "a Saturday");
    assert_eq!(ends("22:00-06:00", "2026-11-28T23:30:00Z"), Some(at("2026-11-29T06:00:00Z")));
    assert_eq!(ends("Sun 22:00-06:00", "2026-11-30T01:00:00Z"), Some(at("2026-11-30T06:00:00Z")), "over the week's end");
    assert_eq!(ends("Sat 00:00-24:00 America/Port-au-Prince", "2026-11-28T12:00:00Z"), Some(at("2026-11-29T05:00:00Z")), "a whole day");
}

#[test]
fn what_is_no_time_of_the_week_is_told() {
    for (text, wanted) in [
        ("", HoursError::Form(String::new())),
        ("Fri", HoursError::Form("Fri".into())),
        ("Fri 16:00", HoursError::Form("Fri 16:00".into())),
        ("Fri 25:00 - Mon 06:00", HoursError::Form("Fri 25:00 - Mon 06:00".into())),
        ("Fri 16:60 - Mon 06:00", HoursError::Form("Fri 16:60 - Mon 06:00".into())),
        ("Fri 16:00 - Mon 06:00 Mars", HoursError::Zone("Mars".into())),
        ("Fri 16:00 - Fri 16:00", HoursError::Empty),
    ] {
        assert_eq!(Hours::from_str(text), Err(wanted), "{text}");
    }
}

proptest! {
    /// Against the plain way: minute by minute.
    #[test]
    fn hours_end_at_the_first_minute_in_which_they_do_not_hold(
        from_day in 0usize..7, from in 0i64..24 * 60, to_day in 0usize..7, to in 0i64..24 * 60, now in 0i64..(14 * 24 * 60)
    ) {
        const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
        let time = |minutes: i64| format!("{:02}:{:02}", minutes / 60, minutes % 60);
        let text = format!("{} {} - {} {}", DAYS[from_day], time(from), DAYS[to_day], time(to));
        prop_assume!((from_day, from) != (to_day, to));
        let hours = Hours::from_str(&text).expect("hours");
        // 1970-01-05 was a Monday.
        let monday = 4 * 24 * 60;
        let holds = |minute: i64| hours.ends((monday + minute) * 60_000).is_some();
        let plain = |minute: i64| {
            let (minute, start) = (minute.rem_euclid(7 * 24 * 60), i64::try_from(from_day).expect("small") * 24 * 60 + from);
            let end = i64::try_from(to_day).expect("small") * 24 * 60 + to;
            if start < end { (start..end).contains(&minute) } else { minute >= start || minute < end }
        };
        prop_assert_eq!(holds(now), plain(now), "{}", text);
        if let Some(end) = hours.ends((monday + now) * 60_000) {
            let mut last = now;
            while plain(last) {
                last += 1;
            }
            prop_assert_eq!(end, (monday + last) * 60_000);
            let (open, why) = opens(std::slice::from_ref(&hours), (monday + now) * 60_000).expect("closed");
            prop_assert_eq!((open, why.text()), (end, text.as_str()));
        }
    }

    #[test]
    fn any_text_is_read_or_told(text in "(rules|branch|land|queue|=|\"|\\[|\\]|\\{|\\}|main|1|\n| ){0,40}") {
        let (_, told) = read(&text);
        prop_assert!(!told.is_empty() || text.contains("rules"));
    }
}
