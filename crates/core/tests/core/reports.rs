//! Reports in the forms that common tools write. Each file of the corpus is read into lines that a person can check.

use ordotaxis_core::report::{
    Case, CaseEnd, Coverage, Finding, Level, ReportError, cobertura_lines, junit_cases, lcov_lines, sarif_findings, tap_cases, test_times,
};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn file(name: &str) -> Vec<u8> {
    std::fs::read(format!("{}/tests/reports/{name}", env!("CARGO_MANIFEST_DIR"))).expect("a file of the corpus")
}

fn line(case: &Case) -> String {
    let took = case.ms.map(|ms| format!(" {ms}")).unwrap_or_default();
    let wavered = if case.wavered { " wavered" } else { "" };
    let first = case.message.as_deref().and_then(|message| message.lines().next()).map(|line| format!(" | {line}")).unwrap_or_default();
    format!("{} {} > {}{took}{wavered}{first}", case.end.word(), case.suite, case.name)
}

#[test]
fn junit_of_many_test_runners() {
    for (name, wanted) in [
        (
            "pytest.xml",
            &[
                "passed tests.test_tide > test_high 1",
                "failed tests.test_tide > test_low[north-pier] 2 | assert 12 == 13",
                "skipped tests.test_drift > test_off 0 | /w/tests/test_drift.py:3: no gauge here",
                "failed tests.test_drift > test_setup 10 | failed on setup with \"OSError\"",
            ][..],
        ),
        (
            "surefire.xml",
            &[
                "passed org.saltmarsh.TideTest > high 12",
                "failed org.saltmarsh.TideTest > low 1234500 | java.lang.AssertionError: expected:<13> but was:<12>",
                "passed org.saltmarsh.TideTest > drift 20 wavered | timed out",
            ],
        ),
        (
            "gtest.xml",
            &[
                "passed GaugeTest > Datum 3",
                "failed GaugeTest > Drift 4 | tests/gauge_test.cc:22",
                "skipped GaugeTest > DISABLED_Old 0",
                "skipped GaugeTest > Skipped 0 | tests/gauge_test.cc:34",
            ],
        ),
        (
            "jest.xml",
            &[
                "passed tide table draws a day > tide table draws a day 3",
                "failed tide table marks the spring tide > tide table marks the spring tide 5 | Error: expect(received).toBe(expected) // Object.is equality",
            ],
        ),
        (
            "nextest.xml",
            &[
                "passed gauge > tests::datum 6",
                "failed gauge > tests::drift 7 | thread 'tests::drift' panicked at src/lib.rs:9:5:",
                "passed gauge > tests::port 100 wavered | test failure",
            ],
        ),
        (
            "gojunit.xml",
            &[
                "passed saltmarsh.invalid/tide > TestHigh 0",
                "failed saltmarsh.invalid/tide > TestLow/outer-buoy 3 | Failed",
                "skipped saltmarsh.invalid/tide > TestSpring 0 | needs a moon",
            ],
        ),
        ("ctest.xml", &["passed gauge.datum > gauge.datum 2", "failed gauge.drift > gauge.drift 4", "skipped gauge.port > gauge.port 0"]),
        (
            "phpunit.xml",
            &[
                "passed TableTest > testDay 4",
                "failed TableTest > testMark with data set \"spring\" 5 | PHPUnit\\Framework\\ExpectationFailedException",
            ],
        ),
        ("mocha.xml", &["passed tide > rises 1", "failed tide > falls 2 | expected 1 to equal 2"]),
        ("bats.xml", &["passed table.bats > a day has two highs 10", "failed table.bats > a neap tide is marked 12 | failure"]),
    ] {
        let cases = junit_cases(&file(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(cases.iter().map(line).collect::<Vec<_>>(), wanted, "{name}");
    }
    let cases = junit_cases(&file("gtest.xml")).expect("it is read");
    assert_eq!((cases[1].file.as_deref(), cases[1].line), (Some("tests/gauge_test.cc"), Some(20)));
    // Suites in suites name a case that has no class of its own.
    let nested = junit_cases(
        b"<testsuites name='all'><testsuite name='a'><testsuite name='b'><testcase name='c'/></testsuite></testsuite></testsuites>",
    );
    assert_eq!(nested.expect("it is read")[0].suite, "a > b");
}

#[test]
fn times_by_file_are_added() {
    let text = br#"<?xml version="1.0"?><testsuites time="9"><testsuite name="tides" file="t/tides.c">
        <testcase name="a" time="0.5"/><testcase name="b" time="1,000.25"><failure message="x">no</failure></testcase>
        <testcase name="c" file="t/other &amp; more.c" time="0.001"/><testcase name="d"/><testcase name="e" time="soon"/></testsuite>
        <testsuite name="drift"><testsuite><testcase time="2"/></testsuite></testsuite></testsuites>"#;
    let times = test_times(&junit_cases(text).expect("it is well-formed"));
    let wanted = [("drift", 2_000), ("t/other & more.c", 1), ("t/tides.c", 1_000_750)];
    assert_eq!(times, wanted.map(|(file, ms)| (file.to_owned(), ms)).into());
}

#[test]
fn broken_and_hostile_reports_are_refused() {
    assert!(matches!(junit_cases(b"<testsuite><testcase></testsuite>"), Err(ReportError::Form(_))));
    assert!(matches!(junit_cases(b"<testsuite><testcase name='a'>"), Err(ReportError::Form(_))));
    assert_eq!(junit_cases(b"<!DOCTYPE x [<!ENTITY a 'b'>]><testsuite/>"), Err(ReportError::DocumentType));
    assert_eq!(junit_cases("<a>".repeat(200).as_bytes()), Err(ReportError::TooDeep));
    let unknown = b"<testsuite><testcase name='a'><failure>&lol9;</failure></testcase></testsuite>";
    assert!(matches!(junit_cases(unknown), Err(ReportError::Entity(_))));
    for wrong in [&b"no report"[..], b"<html><body/></html>", b"{}"] {
        assert!(junit_cases(wrong).is_err());
    }
    assert!(cobertura_lines(b"<testsuite/>").is_err());
    assert!(lcov_lines(b"DA:1,1\n").is_err() && lcov_lines(b"SF:a\nDA:x,1\n").is_err() && lcov_lines(b"hello").is_err());
    for wrong in ["", "[]", "{}", "{\"runs\":[]}", "{\"version\":\"2.1.0\"}", "{\"version\":\"2.1.0\",\"runs\":7}"] {
        assert!(sarif_findings(wrong.as_bytes()).is_err(), "{wrong}");
    }
    assert!(sarif_findings(format!("{{\"version\":\"2.1.0\",\"runs\":{}", "[".repeat(10_000)).as_bytes()).is_err());
    assert!(tap_cases(b"nothing of the kind").is_err() && tap_cases(&[0xff; 9]).is_err());
    assert!(tap_cases(format!("{}ok 1\n", "    ".repeat(90)).as_bytes()).is_err());
    // What is much too long is cut, not kept.
    let long = format!("<testsuite><testcase name='a'><failure>{}</failure></testcase></testsuite>", "x".repeat(1 << 20));
    let cases = junit_cases(long.as_bytes()).expect("it is well-formed");
    assert!(cases[0].message.as_ref().is_some_and(|message| message.len() < 5_000));
}

#[test]
fn tap_of_both_versions() {
    let lines = |name: &str| tap_cases(&file(name)).expect("it is read").iter().map(line).collect::<Vec<_>>();
    assert_eq!(
        lines("tap13.tap"),
        [
            "passed  > tide rises",
            "failed  > tide falls |   message: 'wanted 13'",
            "skipped  > spring | SKIP needs a moon",
            "skipped  > neap | TODO not marked yet",
            "passed  > test 5",
        ]
    );
    assert_eq!(
        lines("tap14.tap"),
        ["passed gauge > datum", "failed gauge > drift > is taken off once |           got: 2", "passed  > buoy"]
    );
    let ends = |text: &str| tap_cases(text.as_bytes()).expect("it is read").iter().map(line).collect::<Vec<_>>();
    assert_eq!(ends("1..3\nok 1 - a\n"), ["passed  > a", "failed  > the plan | 3 tests were planned, 1 were run"]);
    assert_eq!(
        ends("ok 1 - a\nBail out! the gauge is gone\nok 2\n"),
        ["passed  > a", "failed  > Bail out! | bailed out: the gauge is gone"]
    );
}

#[test]
fn coverage_of_both_kinds() {
    let lcov = lcov_lines(&file("cover.info")).expect("it is read");
    assert_eq!(lcov.lines(), (3, 5));
    let changed = BTreeMap::from([("src/gauge.c".to_owned(), vec![4, 5, 6]), ("docs/x".to_owned(), vec![1])]);
    assert_eq!(lcov.of_lines(&changed), (1, 2));
    let mut both = cobertura_lines(&file("cobertura.xml")).expect("it is read");
    assert_eq!(both.0["src/gauge.c"], BTreeMap::from([(3, 7), (4, 1), (5, 0)]));
    both.join(lcov);
    assert_eq!(both.0["src/gauge.c"], BTreeMap::from([(3, 11), (4, 5), (5, 0), (9, 0)]));
    assert_eq!(Coverage::default().lines(), (0, 0));
}

#[test]
fn findings_have_their_level_and_a_key_that_stays() {
    let found = sarif_findings(&file("found.sarif")).expect("it is read");
    let short = |finding: &Finding| (finding.level, finding.rule.clone(), finding.line);
    let wanted = [(Level::Error, "S1", Some(12)), (Level::Error, "S1", Some(40)), (Level::Note, "S2", None), (Level::Warning, "S2", None)];
    assert_eq!(found.iter().map(short).collect::<Vec<_>>(), wanted.map(|(level, rule, line)| (level, rule.to_owned(), line)));
    let keys: std::collections::BTreeSet<&str> = found.iter().map(|finding| finding.key.as_str()).collect();
    assert_eq!(keys.len(), found.len());
    let moved = String::from_utf8(file("found.sarif")).expect("text").replace("\"startLine\":12", "\"startLine\":13");
    let again = sarif_findings(moved.as_bytes()).expect("it is read");
    assert_eq!(again.iter().map(|finding| &finding.key).collect::<Vec<_>>(), found.iter().map(|finding| &finding.key).collect::<Vec<_>>());
}

fn case() -> impl Strategy<Value = Case> {
    let end = prop_oneof![Just(CaseEnd::Passed), Just(CaseEnd::Failed), Just(CaseEnd::Skipped)];
    ("[ -~äø<&>'\"]{0,12}", "[ -~äø<&>'\"]{1,12}", end, prop::option::of(0..100_000i64)).prop_map(|(suite, name, end, ms)| Case {
        suite,
        name,
        end,
        wavered: false,
        ms,
        file: None,
        line: None,
        message: None,
    })
}

proptest! {
    /// What a plain writer writes is what is read.
    #[test]
    fn what_is_written_is_read(cases in prop::collection::vec(case(), 0..20)) {
        let escape = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;");
        let mut text = String::from("<testsuite>");
        for case in &cases {
            let time = case.ms.map(|ms| format!(" time=\"{}\"", ms as f64 / 1000.0)).unwrap_or_default();
            let inner = match case.end { CaseEnd::Passed => "", CaseEnd::Failed => "<failure/>", CaseEnd::Skipped => "<skipped/>" };
            text += &format!("<testcase classname=\"{}\" name=\"{}\"{time}>{inner}</testcase>", escape(&case.suite), escape(&case.name));
        }
        text += "</testsuite>";
        prop_assert_eq!(junit_cases(text.as_bytes()).expect("it is well-formed"), cases);
    }

    /// No bytes make a reader panic or hang.
    #[test]
    fn no_report_is_too_wrong(at in any::<prop::sample::Index>(), with: u8, which in 0..14usize) {
        let names = ["pytest.xml", "surefire.xml", "gtest.xml", "jest.xml", "nextest.xml", "gojunit.xml", "ctest.xml", "phpunit.xml",
            "mocha.xml", "bats.xml", "tap14.tap", "cover.info", "cobertura.xml", "found.sarif"];
        let mut bytes = file(names[which]);
        let at = at.index(bytes.len());
        bytes[at] = with;
        let _ = (junit_cases(&bytes), tap_cases(&bytes), lcov_lines(&bytes), cobertura_lines(&bytes), sarif_findings(&bytes));
        bytes.truncate(at);
        let _ = (junit_cases(&bytes), tap_cases(&bytes), lcov_lines(&bytes), cobertura_lines(&bytes), sarif_findings(&bytes));
    }
}
