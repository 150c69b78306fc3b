//! Versions and notes of releases.

use ordotaxis_core::release::{Landed, collected, compare, is_version, section};
use proptest::prelude::*;
use std::cmp::Ordering;

fn version() -> impl Strategy<Value = String> {
    let number = || 0u32..30;
    let plain = (number(), number(), number()).prop_map(|(a, b, c)| format!("{a}.{b}.{c}"));
    let before =
        ((number(), number(), number()), "(alpha|beta|rc)", number()).prop_map(|((a, b, c), word, n)| format!("{a}.{b}.{c}-{word}.{n}"));
    let dated = (2020u32..2030, 1u32..13).prop_map(|(year, month)| format!("{year}-{month}"));
    prop_oneof![plain, before, dated, "[0-9a-z]{1,3}([._-][0-9a-z]{1,3}){0,3}", "v[0-9]{1,2}\\.[0-9]{1,2}"]
}

proptest! {
    /// Which of two is newer does not depend on who is asked first, and a list has one order.
    #[test]
    fn versions_have_one_order(all in proptest::collection::vec(version(), 3)) {
        let [a, b, c] = all.as_slice() else { unreachable!() };
        prop_assert_eq!(compare(a, a), Ordering::Equal);
        prop_assert_eq!(compare(a, b), compare(b, a).reverse());
        if semver(a) == semver(b) && semver(b) == semver(c) && compare(a, b) != Ordering::Greater && compare(b, c) != Ordering::Greater {
            prop_assert_ne!(compare(a, c), Ordering::Greater, "{} {} {}", a, b, c);
        }
    }

    /// The reference: three numbers compare as three numbers do.
    #[test]
    fn numbers_count(a in proptest::array::uniform3(0u64..200), b in proptest::array::uniform3(0u64..200)) {
        let text = |[x, y, z]: [u64; 3]| format!("{x}.{y}.{z}");
        prop_assert_eq!(compare(&text(a), &text(b)), a.cmp(&b));
        prop_assert_eq!(compare(&format!("v{}", text(a)), &text(b)), a.cmp(&b));
        prop_assert_eq!(compare(&text(a)[..], &format!("{}-rc.1", text(a))), Ordering::Greater, "before its release");
        let short = |[x, y, _]: [u64; 3]| format!("{x}.{y}");
        prop_assert_eq!(compare(&short(a), &short(b)), a[..2].cmp(&b[..2]));
    }

    /// A section is what was written under its heading, whatever stands around it.
    #[test]
    fn a_section_is_what_stands_below_its_heading(lines in proptest::collection::vec("[a-z -]{0,20}", 0..5), before in 0usize..4, level in 1usize..4) {
        let body = lines.join("\n").trim().to_owned();
        prop_assume!(!body.contains("```") && !body.contains("~~~"));
        let mark = "#".repeat(level);
        let other: String = (0..before).map(|n| format!("{mark} 0.{n}.0\n\nolder {n}\n\n")).collect();
        let text = format!("Changes\n\n{other}{mark} 1.0.0 (today)\n\n{body}\n\n{mark} 0.9.9\n\nolder\n");
        prop_assert_eq!(section(&text, "1.0.0"), Some(body));
        prop_assert_eq!(section(&text, "1.0.1"), None);
    }

    /// No text makes it panic, and no version gets outside of an address or a tag.
    #[test]
    fn nonsense_is_borne(text in any::<String>(), version in any::<String>()) {
        let _ = (section(&text, &version), compare(&text, &version));
        if is_version(&text) {
            prop_assert!(!text.contains(['/', ' ', '~', '^', ':', '?', '*', '[', '\\']) && !text.contains("..") && !text.starts_with(['-', '.']));
        }
    }
}

fn semver(text: &str) -> bool {
    semver::Version::parse(text.strip_prefix('v').unwrap_or(text)).is_ok()
}

#[test]
fn headings_in_code_are_none() {
    let text = "## 1.0.0\n\n```\n## 1.1.0\nnot this\n```\n\nthis\n\n## 0.9.0\n";
    assert_eq!(section(text, "1.1.0"), None);
    assert_eq!(section(text, "1.0.0").as_deref(), Some("```\n## 1.1.0\nnot this\n```\n\nthis"));
    assert_eq!(section("####### 1.0.0\nx\n", "1.0.0"), None, "seven marks are no heading");
    assert_eq!(section("#1.0.0\nx\n", "1.0.0"), None, "nor is one without a space");
    assert_eq!(section("# 1.0.0", "1.0.0").as_deref(), Some(""), "it is there, and says nothing");
}

#[test]
fn what_landed_is_listed_and_no_title_breaks_the_list() {
    let one = |number: &str, title: &str, author: Option<&str>| Landed {
        number: number.into(),
        title: title.into(),
        author: author.map(Into::into),
    };
    let all = [one("7", "A tide\n# table", Some("mara")), one("8", "", None)];
    assert_eq!(collected(&all), "- A tide # table (7, mara)\n- Without a title (8)");
}
