//! Every key of a profile, table by table, with what its value may look like.

use crate::language::shape::{Format, Key, Names, Shape};

const POINTER: &Shape = &Shape::Text(Format::Pointer);
const FREE: &Shape = &Shape::Text(Format::Free);
const WORD: &Shape = &Shape::Text(Format::Word);
const HEADER: &Shape = &Shape::Text(Format::Header);
const STATUSES: &Shape = &Shape::List(&Shape::Text(Format::Statuses));
const WORDS: &Shape = &Shape::Either(&[FREE, &Shape::List(FREE)], "a word or a list of words");

const fn key(name: &'static str, shape: &'static Shape, says: &'static str) -> Key {
    Key { name, shape, says, required: false }
}

const fn needed(name: &'static str, shape: &'static Shape, says: &'static str) -> Key {
    Key { name, shape, says, required: true }
}

const PLACE: [Key; 3] = [
    key("pointer", POINTER, "a JSON Pointer into the item, or into the body where there is no `each`"),
    key("whole", POINTER, "a JSON Pointer into the whole body, whatever `each` says"),
    key("header", HEADER, "a header of the delivery"),
];

const TESTS: [Key; 5] = [
    key("is", WORDS, "it must be this, or one of these"),
    key("is_not", WORDS, "it must be none of these"),
    key("begins", FREE, "it must begin with this"),
    key("there", &Shape::Flag, "whether it must be there"),
    key("differs", POINTER, "it must be another value than this place's"),
];

macro_rules! keys {
    ($($part:expr),*; $($more:expr),*) => {{
        const PARTS: &[&[Key]] = &[$(&$part),*];
        const MORE: &[Key] = &[$($more),*];
        const COUNT: usize = { let mut sum = MORE.len(); let mut at = 0; while at < PARTS.len() { sum += PARTS[at].len(); at += 1; } sum };
        const ALL: [Key; COUNT] = {
            let mut all = [const { key("", FREE, "") }; COUNT];
            let (mut at, mut part) = (0, 0);
            while part < PARTS.len() {
                let mut one = 0;
                while one < PARTS[part].len() { all[at] = copy(&PARTS[part][one]); at += 1; one += 1; }
                part += 1;
            }
            let mut one = 0;
            while one < MORE.len() { all[at] = copy(&MORE[one]); at += 1; one += 1; }
            all
        };
        &ALL
    }};
}

const fn copy(of: &Key) -> Key {
    Key { name: of.name, shape: of.shape, says: of.says, required: of.required }
}

const CONDITION_KEYS: &[Key] = keys!(PLACE, TESTS;);
const CONDITION: &Shape = &Shape::Table { keys: CONDITION_KEYS, called: "a condition" };
const WHEN: &Shape = &Shape::Either(&[CONDITION, &Shape::List(CONDITION)], "a condition or a list of conditions");

const FIELD_KEYS: &[Key] = keys!(PLACE;
    key("first", &Shape::List(POINTER), "pointers: the first that is there"),
    key("template", FREE, "pointers between braces, joined: \"{/owner}/{/name}\"; `{header.NAME}` for a header"));
const FIELD_WORDS: &str = "a pointer, a list of pointers, or a table such as { header = \"…\" }";
const FIELD: &Shape = &Shape::Either(&[POINTER, &Shape::List(POINTER), &Shape::Table { keys: FIELD_KEYS, called: "a field" }], FIELD_WORDS);
const FLAG: &Shape = &Shape::Either(
    &[POINTER, &Shape::Flag, &Shape::List(POINTER), CONDITION],
    "a pointer to true or false, true or false itself, or a condition such as { pointer = \"/state\", is = \"draft\" }",
);

const WHEN_KEY: Key = needed("when", WHEN, "what must hold for a delivery to be of this kind");
const EACH: Key = key("each", POINTER, "a list in the body: every item of it is an event");
const BY: Key = key("by", FIELD, "who did it");
const NUMBER: Key = needed("number", FIELD, "what the forge calls the proposal");

pub(super) const PUSH: &[Key] = &[
    WHEN_KEY,
    EACH,
    needed("branch", FIELD, "the branch; `refs/heads/` before it is taken off"),
    needed("commit", FIELD, "the commit that it names now; nothing but zeros: it was removed"),
    key("before", FIELD, "the commit that it named before"),
    BY,
];
pub(super) const TAG: &[Key] = &[
    WHEN_KEY,
    EACH,
    needed("tag", FIELD, "the tag; `refs/tags/` before it is taken off"),
    needed("commit", FIELD, "what it names; nothing but zeros: it was removed"),
    BY,
];
const GONE: &[Key] = &[
    WHEN_KEY,
    EACH,
    needed("name", FIELD, "the branch or tag that was removed"),
    key("tag", FLAG, "whether it was a tag; known by itself where the name begins with `refs/heads/` or `refs/tags/`"),
    BY,
];
const CLOSED: &[Key] = &[WHEN_KEY, EACH, NUMBER, BY];
const LANDED: &[Key] = &[WHEN_KEY, EACH, NUMBER, key("commit", FIELD, "the commit that it landed as"), BY];
const COMMENT: &[Key] = &[WHEN_KEY, EACH, NUMBER, needed("text", FIELD, "what was written"), BY];

const OFFER: [Key; 10] = [
    key("number", FIELD, "what the forge calls it"),
    key("title", FIELD, "what it is about"),
    needed("target", FIELD, "the branch that it is aimed at"),
    key("source", FIELD, "the branch that it comes from"),
    needed("commit", FIELD, "the newest commit of what is offered"),
    key("outside", FLAG, "whether it comes from another repository; true where that is not known"),
    key("draft", FLAG, "whether it is not ready yet"),
    key("open", FLAG, "whether it is still offered; true when absent"),
    BY,
    key("link", FIELD, "the address of its page"),
];
const PROPOSAL: &[Key] = keys!(OFFER; WHEN_KEY, EACH);
const OFFER_ITEM: &[Key] = keys!(OFFER;);

const WORDS_ON: [Key; 3] = [
    key("approves", FLAG, "whether it is an approval"),
    key("refuses", FLAG, "whether it is a refusal"),
    key("commit", FIELD, "the commit that was looked at"),
];
const REVIEW: &[Key] = keys!(WORDS_ON; WHEN_KEY, EACH, NUMBER, needed("by", FIELD, "who it is from"));
const REVIEW_ITEM: &[Key] = keys!(WORDS_ON; needed("by", FIELD, "who it is from"));

const SIGNATURE: &[Key] = &[
    needed("way", &Shape::Choice(&["standard-webhooks", "hmac", "token"]), "how a delivery is signed"),
    key("hash", &Shape::Choice(&["sha256", "sha512"]), "the digest of `hmac`; \"sha256\" when absent"),
    key("header", HEADER, "where the signature, or the token, stands"),
    key("prefix", FREE, "what stands before the signature"),
    key("written", &Shape::Choice(&["hex", "base64"]), "how its bytes are written; \"hex\" when absent"),
    key("over", FREE, "what is signed: \"{body}\", or with headers: \"{header.x-when}.{body}\""),
];
const BODY: &[Key] = &[needed("form", WORD, "the field of a form that holds the JSON")];

macro_rules! event {
    ($name:literal, $keys:expr, $says:literal) => {
        key($name, &Shape::Table { keys: $keys, called: concat!("`[hook.", $name, "]`") }, $says)
    };
}

pub(super) const HOOK: &[Key] = &[
    needed(
        "signature",
        &Shape::Either(
            &[&Shape::Choice(&["standard-webhooks"]), &Shape::Table { keys: SIGNATURE, called: "`signature`" }],
            "\"standard-webhooks\" or a table with `way`",
        ),
        "how a delivery is signed",
    ),
    key(
        "body",
        &Shape::Either(
            &[&Shape::Choice(&["json", "form"]), &Shape::Table { keys: BODY, called: "`body`" }],
            "\"json\", \"form\" or a table with `form`",
        ),
        "how a delivery's body is written; \"json\" when absent",
    ),
    key("id", FIELD, "what names a delivery, so that one that comes twice is known"),
    event!("push", PUSH, "a branch names another commit"),
    event!("tag", TAG, "a tag was made or moved"),
    event!("gone", GONE, "a branch or tag was removed"),
    event!("proposal", PROPOSAL, "a proposal was offered or changed"),
    event!("closed", CLOSED, "a proposal was closed"),
    event!("landed", LANDED, "a proposal has landed"),
    event!("comment", COMMENT, "someone wrote a comment on a proposal"),
    event!("review", REVIEW, "someone approved or refused a proposal"),
];

const TEXTS: &Shape = &Shape::Map { names: Names::Any, of: FREE, called: "a field" };
const ADDRESS: &Shape = &Shape::Text(Format::Address);
const METHOD: &Shape = &Shape::Choice(&["GET", "POST", "PUT", "PATCH", "DELETE"]);

const REQUEST: [Key; 8] = [
    needed("method", METHOD, "the HTTP method"),
    needed("url", ADDRESS, "a URI Template (RFC 6570)"),
    key("headers", TEXTS, "headers; their texts may hold names in braces"),
    key(
        "body",
        &Shape::Map { names: Names::Any, of: &Shape::Anything, called: "a field" },
        "a JSON body; \"{=NAME}\" is the value itself, a number as a number",
    ),
    key("form", TEXTS, "a form in place of a JSON body"),
    key("done", STATUSES, "statuses that count as done; [\"2xx\"] when absent"),
    key("gone", STATUSES, "statuses that say it is not there any more; [\"404\", \"410\"] when absent"),
    key("again", STATUSES, "statuses that are worth another try, besides 408, 425, 429 and 5xx"),
];
const PLAIN: &[Key] = keys!(REQUEST;);
const MAKING: &[Key] = keys!(REQUEST; key("id", POINTER, "where the answer says what the made thing is called"));
const ITEMS: Key = key("items", POINTER, "where the list stands; the whole answer when absent");
const NEXT: Key = key("next", WORD, "the next page: a pointer to its address, or \"link\" for the Link header");
const OFFERS: &[Key] =
    keys!(REQUEST; ITEMS, NEXT, needed("item", &Shape::Table { keys: OFFER_ITEM, called: "`item`" }, "how a proposal is read"));
const REVIEWS: &[Key] =
    keys!(REQUEST; ITEMS, NEXT, needed("item", &Shape::Table { keys: REVIEW_ITEM, called: "`item`" }, "how a word on a proposal is read"));

const HOSTED_ITEM: &[Key] =
    &[needed("name", FIELD, "what the forge calls it: `{repository}` of other requests"), needed("git", FIELD, "what `git clone` takes")];
const REPOSITORIES: &[Key] =
    keys!(REQUEST; ITEMS, NEXT, needed("item", &Shape::Table { keys: HOSTED_ITEM, called: "`item`" }, "how a repository is read"));

macro_rules! request {
    ($name:literal, $keys:expr, $says:literal) => {
        key($name, &Shape::Table { keys: $keys, called: concat!("`[request.", $name, "]`") }, $says)
    };
}

const REQUESTS: &[Key] = &[
    request!("status", PLAIN, "sets a status on a commit"),
    request!("comment", MAKING, "writes a comment on a proposal"),
    request!("comment-again", MAKING, "writes such a comment anew, in its place"),
    request!("proposals", OFFERS, "lists what is offered"),
    request!("proposal", OFFERS, "shows one proposal"),
    request!("reviews", REVIEWS, "lists who approved or refused a proposal"),
    request!("repositories", REPOSITORIES, "lists the repositories that a token opens"),
    request!("land", PLAIN, "tells the forge that a proposal has landed"),
    request!("release", PLAIN, "tells the forge of a release, each time that it changed"),
];

/// As profiles were written before there were other requests.
const STATUS_BEFORE: &[Key] = keys!(REQUEST; key("words", TEXTS, "our states, the forge's words"));

pub(super) const FILE: &[Key] = &[
    key("profile", &Shape::Number { least: 1, most: 1 }, "the version of profiles: 1"),
    needed("hook", &Shape::Table { keys: HOOK, called: "`[hook]`" }, "what the forge sends"),
    key("request", &Shape::Table { keys: REQUESTS, called: "`[request]`" }, "what the forge takes"),
    key("status", &Shape::Table { keys: STATUS_BEFORE, called: "`[status]`" }, "[request.status], as it was written before"),
    key("words", TEXTS, "our states, the forge's words"),
];
