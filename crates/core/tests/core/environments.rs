//! The rules of environments: read with every mistake told, two files together, and when what is open at times opens next.

use ordotaxis_core::language::{Code, has_errors};
use ordotaxis_core::rules::{Asks, Hours, OnFailure, Rules, all_open, read};
use proptest::prelude::*;

const MINUTE: i64 = 60_000;
const DAY: i64 = 24 * 60 * MINUTE;

fn rules(text: &str) -> Rules {
    let (rules, told) = read(&format!("rules = 1\n{text}"));
    assert!(!has_errors(&told), "{told:?}");
    rules
}

#[test]
fn all_that_can_be_said_is_read() {
    let all = rules(
        "[environment.trial]\nurl = \"http://127.0.0.1:8301/now\"\non_failure = \"roll-back\"\n\
         check = { url = \"http://127.0.0.1:8301/now\", says = \"{version}\", within = \"20s\", for = \"5s\" }\n\
         [environment.\"station-*\"]\nafter = [\"trial\"]\nfrom = [\"main\", \"tag:v*\"]\n\
         approve = { of = 2, by = [\"ines\", \"@keepers\"], within = \"24h\" }\n\
         hours = [\"Mon-Fri 08:00-16:00 Europe/Oslo\", \"Sat 10:00-12:00 Europe/Oslo\"]\nstill = \"10m\"\nsecrets = [\"STATION_KEY\"]\n\
         promote = \"auto\"\nemergency = [\"@keepers\"]\ncheck = { run = \"./tools/ask.sh\" }\n\
         [environment.\"preview-*\"]\npreview = true\nlasts = \"3d\"\noutside = true\n",
    );
    let trial = all.environment("trial").expect("rules");
    let check = trial.check.expect("a check");
    assert!(matches!(check.asks, Asks::Url { says: Some(says), .. } if says == "{version}"));
    assert_eq!((check.within, check.lasts, trial.on_failure), (20_000, 5_000, OnFailure::RollBack));
    let station = all.environment("station-north").expect("rules");
    assert_eq!((station.after, station.still, station.promote), (vec!["trial".into()], 10 * MINUTE, true));
    assert_eq!((station.approvals[0].wanted.of, station.approvals[0].within), (2, Some(DAY)));
    assert_eq!((station.hours[0].len(), station.secrets, station.emergency), (2, vec!["STATION_KEY".into()], vec!["@keepers".into()]));
    assert!(station.check.is_some_and(|check| matches!(check.asks, Asks::Run(_)) && check.within == 30_000 && check.lasts == 0));
    let preview = all.environment("preview-12").expect("rules");
    assert_eq!((preview.preview, preview.lasts, preview.outside), (true, Some(3 * DAY), true));
    assert!(all.environment("anything").is_none());
    assert_eq!(
        all.sentences(),
        [
            "trial: it is well when http://127.0.0.1:8301/now says {version} within 20s, and then for 5s",
            "trial: what fails there is rolled back within its run",
            "station-*: the same artifacts must have been well in trial for 10m",
            "station-*: only runs of main, tag:v* go in",
            "station-*: 2 approvals of what goes in by ines or @keepers, each counts for 1day",
            "station-*: open Mon-Fri 08:00-16:00 Europe/Oslo and Sat 10:00-12:00 Europe/Oslo",
            "station-*: it is well when `./tools/ask.sh` ends well within 30s",
            "station-*: what may go in goes in by itself",
            "station-*: STATION_KEY for jobs that deploy there only",
            "station-*: in an emergency @keepers may go past these rules",
            "preview-*: a preview: closed with its proposal, at the latest after 3days",
            "preview-*: proposals from outside may go in, without secrets",
        ]
    );
}

#[test]
fn mistakes_are_told() {
    for (text, code, words) in [
        ("[environment.a]\nurll = \"x\"", Code::UnknownKey, "did you mean `url`?"),
        ("[environment.a]\nhours = \"weekends\"", Code::BadValue, "no time of the week"),
        ("[environment.a]\nstill = \"soon\"", Code::BadValue, "soon"),
        ("[environment.a]\nstill = \"5m\"", Code::Unused, "`still` is for what was somewhere else before"),
        ("[environment.a]\npromote = \"auto\"", Code::Unused, "`promote` is for"),
        ("[environment.a]\nlasts = \"5m\"", Code::Unused, "`lasts` is for previews"),
        ("[environment.a]\nafter = [\"a\"]", Code::BadValue, "a cannot come after itself"),
        ("[environment.a]\nafter = [\"b-*\"]", Code::BadValue, "`b-*` is no environment's name"),
        ("[environment.a]\napprove = { of = 3, by = [\"ines\", \"lars\"] }", Code::BadValue, "3 of 2 persons can never approve"),
        ("[environment.a]\napprove = { by = [\"ines\"] }", Code::MissingKey, "of"),
        ("[environment.a]\ncheck = { within = \"5s\" }", Code::MissingKey, "a check asks one thing"),
        ("[environment.a]\ncheck = { url = \"x\", run = \"y\" }", Code::MissingKey, "a check asks one thing"),
        (
            "[environment.a]\nafter = [\"b\"]\n[environment.b]\nafter = [\"c\"]\n[environment.\"c*\"]\nafter = [\"a\"]",
            Code::BadValue,
            "comes after the next: a, b, c*, a",
        ),
    ] {
        let (_, told) = read(&format!("rules = 1\n{text}\n"));
        let found = told
            .iter()
            .any(|one| one.code == code && format!("{} {}", one.message, one.hint.as_deref().unwrap_or_default()).contains(words));
        assert!(found, "{text}: {told:?}");
    }
    let (of_group, told) = read("rules = 1\n[environment.a]\napprove = { of = 3, by = [\"@keepers\"] }\n");
    assert!(told.is_empty() && of_group.circle().is_none(), "a group may hold any number");
    // One by one, though all carry one pattern.
    assert!(rules("[environment.pier-a]\n[environment.\"pier-*\"]\nafter = [\"pier-a\"]\n").circle().is_none());
}

#[test]
fn what_the_service_keeps_only_adds() {
    let own = rules("[environment.pier-north]\nfrom = [\"main\", \"topic\"]\nafter = [\"trial\"]\n");
    let kept = rules("[environment.\"pier-*\"]\nfrom = [\"main\"]\napprove = { of = 1 }\nstill = \"5m\"\nafter = [\"quay\"]\n");
    let both = own.clone().stricter(&kept);
    let north = both.environment("pier-north").expect("rules");
    assert_eq!((north.from.len(), north.approvals.len(), north.still, north.after.len()), (2, 1, 5 * MINUTE, 2));
    assert_eq!(both.environment("pier-south").expect("rules").approvals.len(), 1);
    let back = rules("[environment.trial]\nafter = [\"pier-north\"]\n");
    assert_eq!(own.stricter(&back).circle().map(|way| way.join(" ")), Some("pier-north trial pier-north".into()));
}

fn hours() -> impl Strategy<Value = Hours> {
    let days = prop::sample::select(vec!["", "Mon ", "Mon-Fri ", "Sat-Sun ", "Fri-Mon "]);
    let zones = prop::sample::select(vec!["", " Europe/Oslo", " America/New_York", " Asia/Kolkata"]);
    (days, 0..24u32, 0..4u32, 1..20u32, zones).prop_map(|(days, hour, quarter, length, zone)| {
        let from = hour * 60 + quarter * 15;
        let to = (from + length * 30) % (24 * 60);
        format!("{days}{:02}:{:02}-{:02}:{:02}{zone}", from / 60, from % 60, to / 60, to % 60).parse().expect("hours")
    })
}

/// In Oslo the clocks show two to three twice that night: what opens then opens twice, and is shut in between.
#[test]
fn an_hour_that_clocks_show_twice_opens_twice() {
    let at = |text: &str| text.parse::<chrono::DateTime<chrono::Utc>>().expect("a moment").timestamp_millis();
    let hours: Hours = "Sat-Sun 02:00-02:30 Europe/Oslo".parse().expect("hours");
    let [first, second] = ["2026-10-25T00:00:00Z", "2026-10-25T01:00:00Z"].map(at);
    assert_eq!(hours.begins(at("2026-10-24T23:00:00Z")), Some(first));
    assert_eq!(hours.ends(first), Some(first + 30 * MINUTE));
    assert_eq!(hours.begins(first + 30 * MINUTE), Some(second));
    assert_eq!(hours.ends(second), Some(second + 30 * MINUTE));
    assert_eq!(hours.begins(second + 30 * MINUTE), Some(at("2026-10-31T01:00:00Z")), "a week on, in winter time");
}

/// In Oslo there is no two to three that night: what would open then opens at three, where it goes on after that.
#[test]
fn an_hour_that_clocks_skip_is_left_out() {
    let at = |text: &str| text.parse::<chrono::DateTime<chrono::Utc>>().expect("a moment").timestamp_millis();
    let [evening, three] = ["2026-03-28T23:00:00Z", "2026-03-29T01:00:00Z"].map(at);
    let hours = |text: &str| -> Hours { text.parse().expect("hours") };
    assert_eq!(hours("02:15-03:15 Europe/Oslo").begins(evening), Some(three));
    assert_eq!(hours("02:15-03:15 Europe/Oslo").ends(three), Some(three + 15 * MINUTE));
    assert_eq!(hours("02:15-02:45 Europe/Oslo").begins(evening), Some(at("2026-03-30T00:15:00Z")), "of that night nothing is left");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Against looking at every quarter of an hour; near the changes of clock of 2026, too.
    #[test]
    fn what_is_shut_opens_at_the_first_quarter_of_an_hour_at_which_all_hold(
        lists in prop::collection::vec(prop::collection::vec(hours(), 1..3), 0..3),
        near in prop::sample::select(vec!["2026-03-28", "2026-10-24", "2026-03-07", "2026-07-01"]), quarter in 0i64..300
    ) {
        let day = format!("{near}T00:00:00Z").parse::<chrono::DateTime<chrono::Utc>>().expect("a day").timestamp_millis();
        let now = day + quarter * 15 * MINUTE;
        let open = |at: i64| lists.iter().all(|list| list.iter().any(|hours| hours.ends(at).is_some()));
        let first = (0..9 * 24 * 4).map(|quarter| now + quarter * 15 * MINUTE).find(|at| open(*at));
        let said = all_open(&lists, now);
        match first {
            Some(first) => prop_assert_eq!(said, Some(first)),
            None => prop_assert!(said.is_none_or(|at| at > now + 8 * DAY && open(at)), "{:?}", said),
        }
    }
}
