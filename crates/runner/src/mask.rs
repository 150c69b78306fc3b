//! Keeps secrets out of logs: whole, base64, URL-encoded, in pieces over several writes and broken over lines.
//!
//! What was read is looked through without its line ends, so that a secret wrapped at 76 columns is still found. A tail
//! that could be the beginning of one is held back until the next bytes say; [`Mask::rest`] gives it out.

use aho_corasick::{AhoCorasick, MatchKind};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use std::collections::BTreeSet;

const STARS: &[u8] = b"***";
/// A shorter line of a secret (a brace, an empty line) is no secret by itself.
const SHORTEST_LINE: usize = 8;
/// The characters that URLs need not escape (RFC 3986, unreserved).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Replaces secrets in a stream, also where one is spread over two pieces or several lines.
pub(crate) struct Mask {
    search: AhoCorasick,
    /// Without line ends, longest first.
    patterns: Vec<Vec<u8>>,
    longest: usize,
    held: Vec<u8>,
}

impl Mask {
    /// None when there is nothing to hide.
    pub(crate) fn new<'s>(secrets: impl Iterator<Item = &'s str>) -> Option<Mask> {
        let mut patterns: BTreeSet<Vec<u8>> =
            secrets.filter(|secret| secret.len() >= 4).flat_map(forms).map(|form| unbroken(form.as_bytes())).collect();
        patterns.retain(|pattern| pattern.len() >= 4);
        let mut patterns: Vec<Vec<u8>> = patterns.into_iter().collect();
        patterns.sort_by_key(|pattern| std::cmp::Reverse(pattern.len()));
        let longest = patterns.first()?.len();
        let search = AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(&patterns).ok()?;
        Some(Mask { search, patterns, longest, held: Vec::new() })
    }

    /// What may be shown of these bytes and what was held back before.
    pub(crate) fn push(&mut self, bytes: &[u8]) -> Vec<u8> {
        self.held.extend_from_slice(bytes);
        let keep = self.could_begin();
        self.show(self.held.len() - keep)
    }

    /// What was held back: no more follows.
    pub(crate) fn rest(&mut self) -> Vec<u8> {
        self.show(self.held.len())
    }

    /// A text by itself, masked.
    pub(crate) fn whole(&self, text: &[u8]) -> Vec<u8> {
        let Mask { search, patterns, longest, .. } = self;
        Mask { search: search.clone(), patterns: patterns.clone(), longest: *longest, held: text.to_vec() }.rest()
    }

    /// Masks and gives out the first bytes held; a secret that reaches over the edge is given out whole.
    fn show(&mut self, count: usize) -> Vec<u8> {
        let (text, places) = flat(&self.held);
        let mut shown = Vec::with_capacity(self.held.len());
        let mut from = 0;
        for found in self.search.find_iter(&text) {
            let (start, end) = (places[found.start()], places[found.end() - 1] + 1);
            if start >= count {
                break;
            }
            shown.extend_from_slice(&self.held[from..start]);
            shown.extend_from_slice(STARS);
            // Lines stay as many as they were.
            shown.extend(self.held[start..end].iter().filter(|&&byte| byte == b'\n'));
            from = end;
        }
        let upto = count.max(from);
        shown.extend_from_slice(&self.held[from..upto]);
        self.held.drain(..upto);
        shown
    }

    /// How many of the last bytes could be the beginning of a secret.
    fn could_begin(&self) -> usize {
        // Line ends do not count, so the tail is at most as many more bytes as there are of them; those are few.
        let (text, places) = flat(&self.held);
        let start = text.len().saturating_sub(self.longest - 1);
        let begins = |at: usize| {
            let tail = &text[at..];
            self.patterns.iter().any(|pattern| pattern.len() > tail.len() && pattern.starts_with(tail))
        };
        (start..text.len()).find(|&at| begins(at)).map_or(0, |at| self.held.len() - places[at])
    }
}

/// Bytes without line ends, and where each stood.
fn flat(bytes: &[u8]) -> (Vec<u8>, Vec<usize>) {
    bytes.iter().enumerate().filter(|(_, byte)| !matches!(byte, b'\n' | b'\r')).map(|(at, &byte)| (byte, at)).unzip()
}

fn unbroken(bytes: &[u8]) -> Vec<u8> {
    bytes.iter().copied().filter(|byte| !matches!(byte, b'\n' | b'\r')).collect()
}

/// Every form in which a value must not be seen.
fn forms(secret: &str) -> Vec<String> {
    let mut forms = vec![secret.to_owned(), secret.trim().to_owned()];
    forms.extend(secret.lines().map(str::trim).filter(|line| line.len() >= SHORTEST_LINE).map(str::to_owned));
    for whole in [secret, secret.trim()] {
        let url = utf8_percent_encode(whole, RESERVED).to_string();
        forms.push(url.replace("%20", "+"));
        forms.push(lower_escapes(&url));
        forms.push(url);
    }
    for engine in [&STANDARD, &URL_SAFE] {
        // With a line end after it, as `echo` writes, and at each of the three places it can have within other bytes.
        forms.push(engine.encode(format!("{}\n", secret.trim_end())));
        for before in 0..3 {
            let coded = engine.encode([&vec![0; before], secret.as_bytes()].concat());
            // The first characters hold bits of what stands before, the last of what comes after.
            let start = [0, 2, 3][before];
            let whole = (before + secret.len()) * 8 / 6;
            forms.push(coded.get(start..whole).unwrap_or_default().to_owned());
            if before == 0 {
                forms.push(coded);
            }
        }
    }
    forms
}

fn lower_escapes(url: &str) -> String {
    let mut left = 0;
    let lower = |c: char| {
        if c == '%' {
            left = 2;
            return c;
        }
        if left > 0 {
            left -= 1;
            return c.to_ascii_lowercase();
        }
        c
    };
    url.chars().map(lower).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn masked(secrets: &[&str], pieces: &[&[u8]]) -> String {
        let mut mask = Mask::new(secrets.iter().copied()).expect("secrets");
        let mut shown: Vec<u8> = pieces.iter().flat_map(|piece| mask.push(piece)).collect();
        shown.extend(mask.rest());
        String::from_utf8_lossy(&shown).into_owned()
    }

    #[test]
    fn every_form_is_hidden() {
        let secret = "tide&salt 42/x+";
        let base64 = STANDARD.encode(secret);
        let within = STANDARD.encode(format!("user:{secret}"));
        for (text, wanted) in [
            (format!("key is {secret}."), "key is ***."),
            (format!("key is {base64}."), "key is ***."),
            (format!("key is {}.", STANDARD.encode(format!("{secret}\n"))), "key is ***."),
            ("a?k=tide%26salt%2042%2Fx%2B&b".to_owned(), "a?k=***&b"),
            ("a?k=tide%26salt+42%2fx%2b&b".to_owned(), "a?k=tide%26salt+42%2fx%2b&b"),
            ("a?k=tide%26salt%2042%2fx%2b&b".to_owned(), "a?k=***&b"),
            ("a?k=tide%26salt+42%2Fx%2B&b".to_owned(), "a?k=***&b"),
            ("tide&sa\nlt 42\r\n/x+!".to_owned(), "***\n\n!"),
            ("nothing to hide".to_owned(), "nothing to hide"),
        ] {
            assert_eq!(masked(&[secret], &[text.as_bytes()]), wanted, "{text}");
        }
        let shown = masked(&[secret], &[within.as_bytes()]);
        assert!(shown.contains("***") && shown.len() < within.len() - 10, "{shown}");
    }

    #[test]
    fn lines_of_a_longer_secret_are_hidden_too() {
        let key = "-----BEGIN KEY-----\nc2FsdCBhbmQgbXVk\nbW9yZSBzYWx0\n}\n-----END KEY-----\n";
        assert_eq!(masked(&[key], &[b"first c2FsdCBhbmQgbXVk then }"]), "first *** then }");
        assert_eq!(masked(&[key], &[key.as_bytes()]), "***\n\n\n\n\n");
        let wrapped: String =
            STANDARD.encode(key).as_bytes().chunks(20).map(|line| format!("{}\n", String::from_utf8_lossy(line))).collect();
        assert!(masked(&[key], &[wrapped.as_bytes()]).starts_with("***"), "{wrapped}");
    }

    #[test]
    fn what_cannot_be_a_secret_is_shown_at_once() {
        let mut mask = Mask::new(["saltmarsh"].into_iter()).expect("a secret");
        assert_eq!(mask.push(b"high water\n"), b"high water\n");
        assert_eq!(mask.push(b"now salt"), b"now ");
        assert_eq!(mask.push(b"y air"), b"salty air");
        assert_eq!(mask.push(b" sal"), b" ");
        assert_eq!(mask.rest(), b"sal");
        assert!(Mask::new(["", "abc"].into_iter()).is_none());
    }

    proptest! {
        /// Wherever the output is cut into writes, the same is shown and no secret is.
        #[test]
        fn cuts_change_nothing(text in "[ab\n]{0,60}", secret in "[ab]{4,9}", cuts in prop::collection::vec(0..60usize, 0..6)) {
            let whole = masked(&[&secret], &[text.as_bytes()]);
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(text.len())).collect();
            cuts.extend([0, text.len()]);
            cuts.sort_unstable();
            let pieces: Vec<&[u8]> = cuts.windows(2).map(|pair| &text.as_bytes()[pair[0]..pair[1]]).collect();
            let shown = masked(&[&secret], &pieces);
            prop_assert!(!shown.replace('\n', "").contains(&secret));
            prop_assert!(!whole.replace('\n', "").contains(&secret));
            prop_assert_eq!(shown.matches('\n').count(), text.matches('\n').count());
        }
    }
}
