//! The two values that a failed test compared, as test programs of several kinds write them.

use ordotaxis_core::report::{Difference, difference};
use proptest::prelude::*;

fn found(message: &str) -> Option<([String; 2], [String; 2])> {
    difference(message).map(|Difference { names, values }| (names, values))
}

fn is(names: [&str; 2], values: [&str; 2]) -> Option<([String; 2], [String; 2])> {
    Some((names.map(str::to_owned), values.map(str::to_owned)))
}

#[test]
fn messages_of_many_test_programs_are_read() {
    let expected = ["expected", "actual"];
    let cases = [
        ("expected: <412> but was: <415>", is(["expected", "was"], ["412", "415"])),
        ("org.example.Failed: expected:<a> but was:<b>", is(["expected", "was"], ["a", "b"])),
        ("Expected 412, got 415", is(["expected", "got"], ["412", "415"])),
        ("expected 412 but got 415", is(["expected", "got"], ["412", "415"])),
        ("drift is taken off once: got -10.000, wanted 0.000", is(["wanted", "got"], ["0.000", "-10.000"])),
        ("wanted 3 but got 4", is(["wanted", "got"], ["3", "4"])),
        ("it was forgotten, wanted or not", None),
        ("assertion `left == right` failed\n  left: 1\n right: 2", is(["left", "right"], ["1", "2"])),
        ("Error Trace: gauge_test.c:12\n\texpected: 1\n\tactual  : 2\n", is(expected, ["1", "2"])),
        ("Expected: high\nReceived: low\n", is(["expected", "received"], ["high", "low"])),
        ("want = 3\ngot = 4", is(["want", "got"], ["3", "4"])),
        ("AssertionError: 3 != 4", is(["first", "second"], ["3", "4"])),
        // The value that came stands first: expected is told first all the same.
        ("actual: 2\nexpected: 1", is(expected, ["1", "2"])),
        (
            "expected:\n  line one\n  line two\nactual:\n  line one\n  line 2\n",
            is(expected, ["  line one\n  line two", "  line one\n  line 2"]),
        ),
        ("expected: 1\nactual: 1", None),
        ("expected nothing of the kind", None),
        ("left == right", None),
        ("unexpected: 4", None),
        ("", None),
    ];
    for (message, wanted) in cases {
        assert_eq!(found(message), wanted, "{message}");
    }
}

#[test]
fn of_what_is_long_only_the_beginning_is_kept() {
    let long = format!("expected: {}\nactual: b", "ø".repeat(20_000));
    let found = difference(&long).expect("a difference");
    assert!(found.values[0].len() <= 16 * 1024 && found.values[0].starts_with('ø'));
    let buried = format!("{}\nexpected: 1\nactual: 2", "x".repeat(300_000));
    assert_eq!(difference(&buried), None, "what stands far below is not read");
}

proptest! {
    /// Whatever a job sends, reading it ends and fits; and what was written in a known form comes back.
    #[test]
    fn any_message_is_read(message in "[a-z<>:=! ,\n\tøé]{0,200}") {
        if let Some(found) = difference(&message) {
            prop_assert!(found.values.iter().all(|value| message.len() >= value.len()));
            prop_assert_ne!(&found.values[0], &found.values[1]);
        }
    }

    #[test]
    fn labelled_values_come_back(one in "[a-z0-9]{1,12}", other in "[A-Z0-9]{1,12}", pad in " {0,4}") {
        prop_assume!(one != other);
        let read = found(&format!("it differs\n{pad}expected:{pad}{one}\n{pad}actual:{pad}{other}\n"));
        prop_assert_eq!(read, is(["expected", "actual"], [&one, &other]));
    }
}
