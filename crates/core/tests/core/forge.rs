//! Forge profiles: what is read from deliveries and answers, what is asked, and what a mistake in a profile is told as.

use ordotaxis_core::forge::{Answer, Call, Delivery, Event, Kind, NoBody, Outcome, Payload, Profile, next_by_link, profile, schema};
use ordotaxis_core::language::{Code, Lines};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Says all that a profile can say at least once.
const WHOLE: &str = r#"
profile = 1
[hook]
signature = { way = "hmac", hash = "sha512", header = "X-Seal", prefix = "v1=", written = "base64", over = "{header.X-When}.{body}" }
body = { form = "letter" }
id = { header = "X-Letter" }
[hook.push]
each = "/moves"
when = [{ pointer = "/name", begins = "refs/heads/" }, { header = "X-Kind", is = ["push", "force"] }]
branch = "/name"
commit = ["/to", "/now"]
before = "/from"
by = { whole = "/who" }
[hook.proposal]
when = { pointer = "/offer", there = true }
number = "/offer/no"
target = "/offer/into"
commit = "/offer/tip"
outside = { pointer = "/offer/home", differs = "/home" }
draft = { pointer = "/offer/state", is_not = "ready" }
link = { template = "{/site}/{/offer/no}?{header.X-Kind}" }
[request.status]
method = "POST"
url = "{+url}/c/{commit}{?context}"
headers = { Authorization = "Basic {basic}" }
body = { no = "{=commit}", list = ["{word}", 3, true], in = { text = "{{{sentence}" } }
done = ["2xx", "409"]
gone = ["410"]
[request.proposals]
method = "GET"
url = "{+url}/offers"
items = "/list"
next = "/more"
[request.proposals.item]
number = "/no"
target = "/into"
commit = "/tip"
open = { pointer = "/state", is = "open" }
[words]
passed = "good"
"#;

fn whole() -> Profile {
    let (read, told) = profile(WHOLE);
    assert_eq!(told, []);
    read.expect("a profile")
}

fn headers(list: &[(&str, &str)]) -> BTreeMap<String, String> {
    list.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
}

#[test]
fn one_delivery_may_hold_many_events_and_each_is_read_where_the_profile_points() {
    let headers = headers(&[("x-kind", "push"), ("x-letter", "9")]);
    let commit = |c: &str| c.repeat(40);
    let body = json!({ "who": "Ines", "moves": [
        { "name": "refs/heads/main", "from": commit("a"), "to": commit("b") },
        { "name": "refs/tags/v1", "to": commit("b") },
        { "name": "refs/heads/old", "now": commit("0") },
        { "name": "refs/heads/bad" },
    ]});
    let reading = whole().events(&headers, &body);
    assert_eq!(
        reading.events,
        [
            Event::Push { branch: "main".into(), commit: commit("b"), before: Some(commit("a")), by: Some("Ines".into()) },
            Event::Gone { name: "old".into(), tag: Some(false), by: Some("Ines".into()) },
        ]
    );
    let misses: Vec<String> = reading.misses.iter().map(ToString::to_string).collect();
    assert_eq!(misses, ["`commit` of [hook.push] is not at /to or /now (line 11 of the profile)"]);
    assert_eq!(whole().delivery_id(&headers, &body).as_deref(), Some("9"));
    assert_eq!(whole().events(&BTreeMap::new(), &body).events, [], "the header is missing");
}

/// A branch and a tag may be called the same: which of them is gone is said, or not known.
#[test]
fn what_is_gone_is_a_branch_or_a_tag_where_that_is_known() {
    let text = "[hook]\nsignature = \"standard-webhooks\"\n[hook.gone]\nwhen = { pointer = \"/gone\", there = true }\nname = \"/gone\"\n";
    let gone = |text: &str, body: Value| {
        let (read, told) = profile(text);
        let events = read.unwrap_or_else(|| panic!("{told:?}")).events(&BTreeMap::new(), &body).events;
        let [Event::Gone { name, tag, .. }] = &events[..] else { panic!("{events:?}") };
        (name.clone(), *tag, events[0].sentence())
    };
    let said = |name: &str, tag, sentence: &str| (name.to_owned(), tag, sentence.to_owned());
    assert_eq!(gone(text, json!({ "gone": "refs/heads/v1" })), said("v1", Some(false), "the branch v1 was removed"));
    assert_eq!(gone(text, json!({ "gone": "refs/tags/v1" })), said("v1", Some(true), "the tag v1 was removed"));
    assert_eq!(gone(text, json!({ "gone": "v1" })), said("v1", None, "v1 was removed"));
    let told = format!("{text}tag = {{ pointer = \"/kind\", is = \"tag\" }}\n");
    assert_eq!(gone(&told, json!({ "gone": "v1", "kind": "tag" })).1, Some(true));
    assert_eq!(gone(&told, json!({ "gone": "v1", "kind": "branch" })).1, Some(false));
    assert_eq!(gone(&told, json!({ "gone": "refs/heads/v1", "kind": "tag" })).1, Some(false), "its name says it better");
}

/// What is no commit is told as a miss, wherever one is looked for; only what git could call one is taken.
#[test]
fn what_is_no_commit_is_told() {
    let text = "[hook]\nsignature = \"standard-webhooks\"\n[hook.landed]\nwhen = { pointer = \"/landed\", there = true }\nnumber = \"/landed\"\ncommit = \"/commit\"\n\
        [hook.review]\nwhen = { pointer = \"/by\", there = true }\nnumber = \"/no\"\nby = \"/by\"\napproves = \"/yes\"\ncommit = \"/commit\"\n";
    let profile = profile(text).0.expect("a profile");
    let read = |body: Value| profile.events(&BTreeMap::new(), &body);
    for about in [json!({ "landed": 3 }), json!({ "by": "odd", "no": 3, "yes": true })] {
        let with = |commit: Value| {
            let mut body = about.clone();
            body["commit"] = commit;
            read(body)
        };
        assert_eq!(read(about.clone()).events.len(), 1, "it need not be named");
        for good in ["a".repeat(40), "0123456789abcdefABCDEF".into(), "f".repeat(64)] {
            assert_eq!(with(json!(good)).events.len(), 1);
        }
        for odd in ["main", "høyvann", "--all", "a b", &"a".repeat(65)] {
            let reading = with(json!(odd));
            assert_eq!(reading.events, [], "{odd}");
            assert!(
                reading.misses[0].odd && reading.misses[0].to_string().contains("at /commit is no commit (line "),
                "{:?}",
                reading.misses
            );
        }
    }
}

/// Of what nobody knows where it comes from, nobody may say that it comes from inside.
#[test]
fn a_proposal_is_from_outside_unless_it_is_known_not_to_be() {
    for (home, theirs, outside) in
        [(json!(7), json!(7), false), (json!(7), json!(8), true), (Value::Null, Value::Null, true), (json!(7), Value::Null, true)]
    {
        let body = json!({ "home": home, "site": "https://f.example", "offer": { "no": 3, "into": "refs/heads/main", "tip": "c", "home": theirs, "state": "ready" } });
        let reading = whole().events(&headers(&[("x-kind", "k")]), &body);
        let [Event::Proposal(offer)] = &reading.events[..] else { panic!("{reading:?}") };
        assert_eq!((offer.outside, offer.draft, offer.open), (outside, false, true), "{body}");
        assert_eq!((offer.target.as_str(), offer.number.as_deref()), ("main", Some("3")));
        assert_eq!(offer.link.as_deref(), Some("https://f.example/3?k"));
    }
}

#[test]
fn a_body_of_the_wrong_kind_says_which_line_of_the_profile_would_fit() {
    let body = |profile: &Profile, kind: &str, bytes: &[u8]| {
        profile.body(&Delivery { headers: &headers(&[("content-type", kind)]), body: bytes }).map_err(|error| error.to_string())
    };
    let json_wanted = profile("[hook]\nsignature = \"standard-webhooks\"\n").0.expect("a profile");
    let form = "application/x-www-form-urlencoded";
    assert_eq!(body(&whole(), form, b"letter=%7B%22a%22%3A1%7D"), Ok(json!({ "a": 1 })));
    let told = body(&json_wanted, form, b"letter=%7B%22a%22%3A1%7D").expect_err("a form");
    assert!(told.contains("the profile expects JSON: set `body = { form = \"letter\" }`"), "{told}");
    let told = body(&whole(), "application/json", b"{\"a\":1}").expect_err("JSON");
    assert!(told.contains("take `body` below [hook] away"), "{told}");
    assert_eq!(body(&whole(), form, b"other=1"), Err(NoBody::NoField("letter".into()).to_string()));
    assert!(body(&json_wanted, "application/json", b"{\"a\":").expect_err("half").starts_with("the body is not JSON: EOF"));
}

#[test]
fn a_call_holds_the_values_and_their_kinds() {
    let values: BTreeMap<&str, String> = [
        ("url", "https://f.example/x"),
        ("commit", "12"),
        ("context", "ordotaxis/main all"),
        ("word", "good"),
        ("sentence", "{token} \"quoted\""),
        ("basic", "YTpi"),
        ("token", "a:b"),
    ]
    .map(|(name, value)| (name, value.to_owned()))
    .into();
    let request = &whole().requests[&Kind::Status];
    let Call { method, url, headers, payload } = request.call(Kind::Status, &values).expect("a call");
    assert_eq!((method.as_str(), url.as_str()), ("POST", "https://f.example/x/c/12?context=ordotaxis%2Fmain%20all"));
    assert_eq!(headers, [("authorization".to_owned(), "Basic YTpi".to_owned())]);
    let wanted = json!({ "no": 12, "list": ["good", 3, true], "in": { "text": "{{token} \"quoted\"" } });
    assert_eq!(payload, Payload::Json(wanted), "what is filled in is not filled again");
    let mut fewer = values.clone();
    fewer.remove("commit");
    let told = request.call(Kind::Status, &fewer).expect_err("no commit").to_string();
    assert_eq!(told, "the request [request.status] asks for {commit}, which is not known here");
}

#[test]
fn what_an_answer_means() {
    let request = &whole().requests[&Kind::Status];
    let outcome = |status: u16, kind: &str, body: &str| {
        let headers = headers(&[("content-type", kind), ("location", "https://elsewhere.example/sign-in")]);
        request.outcome(&Answer { status, headers: &headers, body: body.as_bytes() })
    };
    assert_eq!(outcome(201, "application/json", "{}"), Outcome::Done);
    assert_eq!(outcome(409, "application/json", "{}"), Outcome::Done, "the profile says so");
    let page = outcome(200, "text/html; charset=utf-8", "<html>Sign in</html>");
    assert!(matches!(&page, Outcome::Again(why) if why.contains("a page for people")), "{page:?}");
    assert!(matches!(outcome(200, "", "  <!DOCTYPE html><p>"), Outcome::Again(_)));
    assert!(matches!(outcome(410, "", ""), Outcome::Gone(_)));
    assert!(matches!(outcome(404, "", ""), Outcome::Refused(_)), "`gone` names only 410");
    for status in [408, 425, 429, 500, 502, 503, 599] {
        assert!(matches!(outcome(status, "", "busy"), Outcome::Again(_)), "{status}");
    }
    let Outcome::Refused(moved) = outcome(302, "", "") else { panic!("a redirect is no success") };
    assert!(moved.contains("redirects to https://elsewhere.example/sign-in; redirects are not followed"), "{moved}");
    let Outcome::Refused(long) = outcome(400, "", &"no ".repeat(9_000)) else { panic!("refused") };
    assert!(long.len() < 300, "{long}");
}

#[test]
fn lists_are_read_page_by_page() {
    let request = &whole().requests[&Kind::Proposals];
    let body = json!({ "list": [
        { "no": 1, "into": "main", "tip": "c1", "state": "open" },
        { "no": 2, "into": "main", "tip": "c2", "state": "shut" },
        { "no": 3, "into": "main" },
    ], "more": "https://f.example/offers?page=2" });
    let offers = request.offers(&body).expect("a list");
    let open: Vec<Option<bool>> = offers.iter().map(|offer| offer.as_ref().ok().map(|offer| offer.open)).collect();
    assert_eq!(open, [Some(true), Some(false), None]);
    assert_eq!(request.next(&BTreeMap::new(), &body).as_deref(), Some("https://f.example/offers?page=2"));
    assert_eq!(request.offers(&json!({ "error": "no" })), None, "no list is not an empty list");
}

/// (what is written, code, a part of the message or hint)
const MISTAKES: &[(&str, Code, &str)] = &[
    ("[hook]\nsignature = \"hmac\"\n", Code::BadValue, "cannot be `hmac`"),
    ("[hook]\nsignature = { way = \"token\" }\n", Code::BadValue, "names no header"),
    ("[hook]\nsignature = { way = \"hmac\", header = \"a\", over = \"{header.x}\" }\n", Code::BadValue, "the body is not part"),
    ("[hook]\nsignature = { way = \"hmac\", header = \"a\", over = \"{body}{time}\" }\n", Code::BadValue, "{time} cannot be signed"),
    ("[hook]\n", Code::MissingKey, "signature"),
    ("[hook]\nsignature = \"standard-webhooks\"\n[hook.pusj]\n", Code::UnknownKey, "did you mean `push`?"),
    ("HOOK[hook.push]\nwhen = { pointer = \"event\", is = \"x\" }\nbranch = \"/b\"\ncommit = \"/c\"\n", Code::BadValue, "begin with `/`"),
    ("HOOK[hook.push]\nwhen = { pointer = \"/e\" }\nbranch = \"/b\"\ncommit = \"/c\"\n", Code::BadValue, "a condition has one test"),
    ("HOOK[hook.push]\nwhen = { is = \"x\" }\nbranch = \"/b\"\ncommit = \"/c\"\n", Code::BadValue, "a condition looks at one place"),
    ("HOOK[hook.push]\nwhen = []\nbranch = \"/b\"\n", Code::MissingKey, "commit"),
    ("HOOK[hook.push]\nwhen = []\nbranch = { template = \"{/a\" }\ncommit = \"/c\"\n", Code::BadValue, "a brace is not closed"),
    ("HOOK[hook.push]\nwhen = []\nbranch = { pointer = \"/a\", header = \"b\" }\ncommit = \"/c\"\n", Code::BadValue, "one place"),
    ("HOOK[request.status]\nmethod = \"SEND\"\nurl = \"{+url}\"\n", Code::BadValue, "cannot be `SEND`"),
    ("HOOK[request.status]\nmethod = \"POST\"\nurl = \"{+url}?t={token}\"\n", Code::BadValue, "must not stand in an address"),
    ("HOOK[request.status]\nmethod = \"POST\"\nurl = \"{+url}/{proposal}\"\n", Code::Placeholder, "has no value {proposal}"),
    ("HOOK[request.status]\nmethod = \"POST\"\nurl = \"{+url}\"\nbody = { a = [\"{x}\"] }\n", Code::Placeholder, "it has {url}"),
    ("HOOK[request.status]\nmethod = \"POST\"\nurl = \"{+url}\"\nbody = {}\nform = {}\n", Code::BadValue, "a JSON body or a form"),
    ("HOOK[request.status]\nmethod = \"POST\"\nurl = \"{+url}\"\ndone = [\"6xx\"]\n", Code::BadValue, "no HTTP status"),
    ("HOOK[request.proposals]\nmethod = \"GET\"\nurl = \"{+url}\"\nnext = \"more\"\n", Code::BadValue, "`next` cannot be `more`"),
    ("HOOK[words]\npased = \"good\"\n", Code::UnknownKey, "did you mean `passed`?"),
    ("profile = 2\nHOOK", Code::BadValue, "from 1 to 1"),
];

#[test]
fn every_mistake_in_a_profile_is_told_with_its_place() {
    for (text, code, wanted) in MISTAKES {
        let text = text.replace("HOOK", "[hook]\nsignature = \"standard-webhooks\"\n");
        let (read, told) = profile(&text);
        let found = told.iter().find(|found| found.code == *code).unwrap_or_else(|| panic!("{text}\n{told:?}"));
        let said = format!("{} {}", found.message, found.hint.as_deref().unwrap_or_default());
        assert!(said.contains(wanted), "{said}");
        assert!(read.is_none(), "a profile with mistakes is not used: {text}");
        assert!(Lines::new(&text).position(found.span.start).0 <= text.lines().count());
    }
}

/// As profiles were written before version 1 had a name.
#[test]
fn profiles_of_before_are_read() {
    let text = "[hook]\nsignature = \"standard-webhooks\"\n[hook.push]\nwhen = { pointer = \"/event\", is = \"push\" }\nbranch = \"/b\"\n\
        commit = \"/c\"\n[status]\nmethod = \"POST\"\nurl = \"{+url}/{commit}\"\n[status.headers]\nauthorization = \"Bearer {token}\"\n\
        [status.body]\nstate = \"{word}\"\n[status.words]\npassed = \"success\"\n";
    let (read, told) = profile(text);
    assert_eq!(told, []);
    let read = read.expect("a profile");
    assert_eq!((read.word("passed"), read.word("failed")), ("success".into(), "failed".into()));
    assert!(read.requests.contains_key(&Kind::Status));
}

#[test]
fn the_schema_knows_every_table() {
    let schema = schema();
    for kind in Kind::ALL {
        assert!(schema["properties"]["request"]["properties"][kind.word()].is_object(), "{}", kind.word());
    }
    for event in ["push", "tag", "gone", "proposal", "closed", "landed", "comment", "review"] {
        assert!(schema["properties"]["hook"]["properties"][event]["required"].is_array(), "{event}");
    }
}

fn any_json() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i32>().prop_map(Value::from),
        "[a-z/~ ]{0,6}".prop_map(Value::from)
    ];
    leaf.prop_recursive(4, 40, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
            prop::collection::btree_map("(moves|offer|no|into|tip|name|to|who|[a-z]{1,3})", inner, 0..5)
                .prop_map(|map| Value::Object(map.into_iter().collect())),
        ]
    })
}

proptest! {
    /// Whatever a forge sends, reading it ends, and every event has what it must have.
    #[test]
    fn whatever_is_sent_is_read_without_harm(body in any_json(), kind in "(push|force|x)") {
        let reading = whole().events(&headers(&[("x-kind", &kind)]), &body);
        for event in reading.events {
            match event {
                Event::Push { branch, commit, .. } => prop_assert!(!branch.is_empty() && !commit.is_empty()),
                Event::Proposal(offer) => prop_assert!(!offer.target.is_empty() && !offer.commit.is_empty()),
                Event::Gone { name, .. } => prop_assert!(!name.is_empty()),
                other => prop_assert!(false, "the profile knows no {other:?}"),
            }
        }
    }

    #[test]
    fn any_text_is_read_as_a_profile_or_told_why_not(text in "(\\[hook\\]|signature|when|=|\"|\\{|\\}|\\[|\\]|push|/a|\n| ){0,40}") {
        let (read, told) = profile(&text);
        prop_assert!(read.is_some() || !told.is_empty());
    }

    /// The next page is found whatever links stand around it.
    #[test]
    fn the_next_page_is_found_among_links(before in 0usize..3, after in 0usize..3, quoted in any::<bool>(), page in 1u32..99) {
        let other = |n: usize| format!("<https://f.example/?p={n}>; rel=\"last\"");
        let rel = if quoted { "rel=\"prev next\"" } else { "rel=next" };
        let links: Vec<String> = (0..before).map(other).chain([format!("<https://f.example/?page={page},1>; title=\"a\"; {rel}")]).chain((0..after).map(other)).collect();
        let found = next_by_link(&links.join(", "));
        prop_assert_eq!(found, Some(format!("https://f.example/?page={page},1")));
        prop_assert_eq!(next_by_link(&other(1)), None);
    }
}
