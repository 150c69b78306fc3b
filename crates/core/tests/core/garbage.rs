//! Broken files of every kind: no panic, and every span lies within the text.

use super::model::sketch;
use ordotaxis_core::language::Lines;
use ordotaxis_core::plan::check;
use proptest::prelude::*;

fn inspect(text: &str) {
    let lines = Lines::new(text);
    for diagnostic in check(text) {
        assert!(diagnostic.span.start <= diagnostic.span.end && diagnostic.span.end <= text.len(), "{diagnostic:?}");
        assert!(text.is_char_boundary(diagnostic.span.start) && text.is_char_boundary(diagnostic.span.end), "{diagnostic:?}");
        assert!(!diagnostic.message.is_empty());
        lines.position(diagnostic.span.start);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn a_file_with_bytes_changed_is_only_wrong(sketch in sketch(), at in 0..4000usize, gone in 0..40usize, put in "[\\PC\\n]{0,6}") {
        let text = sketch.text();
        let place = |mut at: usize| { while !text.is_char_boundary(at) { at -= 1 } at };
        let from = place(at % (text.len() + 1));
        let to = place((from + gone).min(text.len()));
        inspect(&format!("{}{put}{}", &text[..from], &text[to..]));
    }

    #[test]
    fn any_text_at_all_is_only_wrong(text in "\\PC{0,200}") {
        inspect(&text);
    }
}

#[test]
fn hostile_files_are_told_in_time() {
    inspect(&"[".repeat(100_000));
    inspect(&format!("language = 1\norder = \"{}\"", "a,".repeat(200_000)));
    let names: Vec<String> = (0..50_000).map(|n| format!("s{n}")).collect();
    inspect(&format!("language = 1\norder = \"{} > {}\"\n[job.a.b]\nsteps=['x']", names.join(","), names.join(",")));
    inspect(&"x".repeat(2_000_000));
    let circles: String = (0..10_000).map(|n| format!("[job.s.j{n}]\nsteps=['x']\nafter=['s.j{n}']\n")).collect();
    inspect(&format!("language = 1\n{circles}"));
}
