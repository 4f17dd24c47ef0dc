//! Review by hand and keys: a cause mended and taken back, numbers tried before they hold, a span of one's own, a round of practice.

use super::site::{Site, StationPage};

const ENTER: &str = "\u{e007}";

#[tokio::test(flavor = "multi_thread")]
async fn a_cause_is_mended_and_taken_back_and_a_span_is_drawn_by_hand() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/review").await;
    StationPage(&site).loaded(0).await;
    let waits = browser.text("[data-answer]").await.unwrap();
    let script = "const l = document.querySelector('.mend-it a'); l.click(); return l.href;";
    browser.script(script).await.unwrap();
    browser.wait_text("h1", "Probe moved").await.unwrap();
    assert_eq!(browser.count(".two svg.trace").await.unwrap(), 2, "before and after, side by side");
    browser.press_in(".btn-primary", ENTER).await.unwrap();
    browser.wait_text("[role='alert']", "Say why").await.unwrap();
    browser.fill("#why", "dug out and set again, “θ”").await.unwrap();
    browser.press_in("#why", ENTER).await.unwrap();
    browser.wait_text(".said", "Mended").await.unwrap();
    site.open("/stations/1/review/decided").await;
    browser.wait_text("tbody", "dug out and set again, “θ”").await.unwrap();
    browser.press_in("td form button", ENTER).await.unwrap();
    browser.wait_text("tbody", "taken back by").await.unwrap();
    site.open("/stations/1/review").await;
    let loaded = StationPage(&site).loaded(0).await;
    assert_eq!(browser.text("[data-answer]").await.unwrap(), waits, "it waits again");

    // A span by keys: begun at the cursor, ended further on.
    browser.press("1").await.unwrap();
    StationPage(&site).loaded(loaded).await;
    browser.press("h").await.unwrap();
    browser.press(&".".repeat(60)).await.unwrap();
    browser.press("h").await.unwrap();
    browser.wait_text("h1", "What you see and no test saw").await.unwrap();
    browser.wait("svg.trace path.line").await.unwrap();
    browser.script("document.querySelector('#mark-test').value = 'noise'; return 1").await.unwrap();
    browser.press_in("#mark-reason", ENTER).await.unwrap();
    browser.wait_text(".invalid-feedback", "Give a reason").await.unwrap();
    assert_eq!(
        browser.script("return document.querySelector('#mark-test').value").await.unwrap().as_str(),
        Some("noise"),
        "what was chosen stays"
    );
    browser.fill("#mark-reason", "a beetle in the plug").await.unwrap();
    browser.press_in("#mark-reason", ENTER).await.unwrap();
    browser.wait_text(".said", "Marked: Noise").await.unwrap();
    browser.wait_text(".item.active", "Seen by").await.unwrap();
    browser.wait_text(".item.active", "a beetle in the plug").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn numbers_of_a_test_are_tried_before_they_hold() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/review/tests").await;
    browser.fill("[id='spike.sigmas']", "-3").await.unwrap();
    browser.press_in("button[name='again']", ENTER).await.unwrap();
    browser.wait_text("[role='alert']", "1 number to put right").await.unwrap();
    browser.fill("[id='spike.sigmas']", "100000").await.unwrap();
    browser.press_in("button[name='again']", ENTER).await.unwrap();
    browser.wait_text("#would", "What these numbers would change").await.unwrap();
    assert!(browser.text(".preview").await.unwrap().contains("Spike"), "the findings that would go are named");
    assert_eq!(browser.count("h2 + table").await.unwrap(), 0, "nothing was kept yet");
    browser.press_in(".preview .btn-primary", ENTER).await.unwrap();
    browser.wait_text(".said", "tests").await.unwrap();
    site.open("/stations/1/review/tests").await;
    browser.wait_text("main", "What was set before").await.unwrap();
    site.end().await;
}

/// Begins a round of practice and returns its address.
pub async fn begin_round(site: &Site) -> String {
    let browser = &site.browser;
    site.open("/training").await;
    browser.fill("#seed", "11").await.unwrap();
    browser.press_in("#seed", ENTER).await.unwrap();
    browser.wait_text("h1", "Practice: easy, any kind, number 11").await.unwrap();
    browser.address().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_round_of_practice_by_keys() {
    let site = Site::empty().await;
    let browser = &site.browser;
    begin_round(&site).await;
    let first = StationPage(&site).loaded(0).await;
    browser.press("6").await.unwrap();
    StationPage(&site).loaded(first).await;
    browser.press("h").await.unwrap();
    browser.press(&",".repeat(80)).await.unwrap();
    browser.press("h").await.unwrap();
    let focused = "return document.activeElement.id + ' ' + document.querySelector('#mark-start').value.length";
    browser.wait_script(focused, |v| v.as_str() == Some("mark-test 16")).await.unwrap();
    browser.type_keys("Stuck").await.unwrap();
    browser.type_keys(ENTER).await.unwrap();
    browser.wait_text(".answer", "1 mark, 0 hints").await.unwrap();
    assert!(browser.address().await.unwrap().contains("show="), "the window that was looked at comes back");
    browser.press_in("form[action$='/hint'] button", ENTER).await.unwrap();
    browser.wait_text(".answer", "1 mark, 1 hint").await.unwrap();
    browser.wait_text("aside .said", "Something is wrong with").await.unwrap();
    browser.press_in("form[action$='/end'] button", ENTER).await.unwrap();
    browser.wait_text("aside h2", "The truth").await.unwrap();
    browser.wait_text(".answer", "Ebrel’s tests have").await.unwrap();
    browser.press("j").await.unwrap();
    browser.wait(".item.active").await.unwrap();
    site.open("/training").await;
    browser.wait_text("h2", "What you find, and what you miss").await.unwrap();
    site.end().await;
}
