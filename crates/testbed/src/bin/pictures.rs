//! Takes the console's pictures for `docs/screenshots` from a running demo:
//! `cargo run -p ordotaxis-testbed --bin ordotaxis-pictures -- FOLDER SIGN-IN-LINK [NAME=PATH[|ACT…] …]`.

use ordotaxis_testbed::Browser;
use std::time::Duration;

#[tokio::main]
async fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, link, pages @ ..] = arguments.as_slice() else {
        eprintln!("usage: ordotaxis-pictures FOLDER SIGN-IN-LINK NAME=PATH …");
        std::process::exit(2);
    };
    let (base, _) = link.split_once("/sign-in").unwrap_or((link, ""));
    let browser = Browser::start(1280, 800).await;
    browser.client.set_window_size(1280, 800 + browser_chrome(&browser).await).await.expect("a window");
    browser.client.goto(link).await.expect("the page");
    browser.see("board").await;
    for page in pages {
        let (name, path) = page.split_once('=').unwrap_or((page, ""));
        let dark = name.ends_with("-dark");
        browser.script(&format!("localStorage.setItem('theme', '{}')", if dark { "dark" } else { "light" })).await;
        let (path, acts) = path.split_once('|').unwrap_or((path, ""));
        browser.client.goto(&format!("{base}{path}")).await.expect("the page");
        for act in acts.split('|').filter(|act| !act.is_empty()) {
            tokio::time::sleep(Duration::from_millis(700)).await;
            done(&browser, act).await;
        }
        // A picture is looked at by a person: here a moment for fonts and the last request is fair.
        tokio::time::sleep(Duration::from_millis(1500)).await;
        std::fs::write(format!("{folder}/{name}.png"), browser.picture().await).expect("a file");
    }
    browser.end().await;
}

/// What is done before the picture is taken: `press=WORDS`, `keys=CHARACTERS`, `size=400x800`, `type=FROM→TO` in a draft.
async fn done(browser: &Browser, act: &str) {
    match act.split_once('=') {
        Some(("press", words)) => browser.press(words).await,
        Some(("keys", keys)) => browser.keys(keys).await,
        Some(("size", size)) => {
            let (width, height) = size.split_once('x').expect("WIDTHxHEIGHT");
            let (width, height) = (width.parse().expect("a width"), height.parse::<u32>().expect("a height"));
            browser.client.set_window_size(width, height + browser_chrome(browser).await).await.expect("a window");
        }
        Some(("type", change)) => {
            let (from, to) = change.split_once('→').expect("FROM→TO");
            browser.text(".cm-content").await;
            browser.script(&typed(from, to)).await;
        }
        _ => panic!("what is `{act}`?"),
    }
}

fn typed(from: &str, to: &str) -> String {
    format!(
        "const content = document.querySelector('.cm-content'); const view = content.cmTile?.view ?? content.cmView.view;
         const at = view.state.doc.toString().indexOf({from:?});
         view.dispatch({{ changes: {{ from: at, to: at + {length}, insert: {to:?} }}, selection: {{ anchor: at }} }});",
        length = from.len()
    )
}

/// How much higher the window is than the page.
async fn browser_chrome(browser: &Browser) -> u32 {
    let value = browser.script("return window.outerHeight - window.innerHeight").await;
    u32::try_from(value.as_i64().unwrap_or(0)).unwrap_or(0)
}
