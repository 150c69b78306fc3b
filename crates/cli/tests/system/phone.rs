//! The console at 400 pixels: what broke, its log, one's word on what waits; and nothing sticks out to the side.

use super::console::accessible;
use super::delivery::Delivery;
use ordotaxis_testbed::Browser;

const FITS: &str = "document.documentElement.scrollWidth <= 400 && document.querySelector('main').scrollWidth <= 400";

#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone_one_sees_what_broke_reads_its_log_and_approves() {
    let delivery = Delivery::new("rules = 1\n[environment.pier-north]\napprove = { of = 1, by = [\"owner\"] }\n").await;
    let world = &delivery.world;
    let gauge = world.project("tidegauge").await;
    let first = delivery.push("1");
    delivery.waits("pier-north", "1 approval by owner is missing").await;
    let broken = gauge.push_pipeline("language = 1\n[job.test.unit]\nsteps = [\"echo error: drift is applied twice; exit 1\"]\n");
    assert_eq!(world.verdict("tidegauge", &broken).await["state"], "failed");

    let phone = Browser::phone().await;
    let link = world.json(&["sign-in", "--link"]).await["url"].as_str().unwrap_or_default().to_owned();
    phone.client.goto(&link).await.expect("the page");
    phone.see("1 of 2 main branches is broken").await;
    phone.holds("the board to fit", FITS).await;
    accessible(&phone).await;
    // What waits is approved from the board.
    phone.press("Approve stations/1 ship.pier[north]").await;
    phone.see("It goes into pier-north as soon as nothing else keeps it out").await;
    phone.holds("the question to fit", FITS).await;
    accessible(&phone).await;
    phone.click("dialog.ask button[type=submit]").await;
    phone.see("You approved stations/1 ship.pier[north].").await;
    delivery.holds("pier-north", &first).await;
    // What broke: one press to why, one more to its log.
    phone.press("test.unit").await;
    phone.see("drift is applied twice").await;
    phone.holds("the failure to fit", FITS).await;
    accessible(&phone).await;
    phone.press("Log").await;
    phone.holds("the log's line", "[...document.querySelectorAll('.log [data-line], .log-line, .log')].some((one) => one.innerText.includes('drift is applied twice'))").await;
    phone.holds("the log to fit", FITS).await;
    phone.end().await;
}
