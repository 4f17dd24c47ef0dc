//! The living side: a demo that goes on, its gateway cut and mended; a value led back to its origin; a contradiction decided.

use super::site::{Site, StationPage};
use ebrel_store::Store;

/// The key as WebDriver writes it.
const ENTER: &str = "\u{e007}";

/// Opens a page again and again until it says something, or says it no more.
async fn until(site: &Site, path: &str, words: &str, said: bool) {
    for _ in 0..200 {
        site.open(path).await;
        if site.browser.text("main").await.unwrap().contains(words) == said {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    panic!("{path}: “{words}” never {}", if said { "came" } else { "went" });
}

#[tokio::test(flavor = "multi_thread")]
async fn a_live_record_grows_without_loading_and_a_cut_is_told_and_made_up_for() {
    let site = Site::live().await;
    let browser = &site.browser;
    site.open("/stations/1").await;
    StationPage(&site).loaded(0).await;
    let last = "return Number(document.querySelector('[data-strips]').dataset.last)";
    let at_first = browser.script(last).await.unwrap().as_i64().unwrap();
    browser.script("window.stayed = true").await.unwrap();
    browser.wait_script(last, |v| v.as_i64().unwrap() >= at_first + 3 * 3600).await.unwrap();
    assert_eq!(browser.script("return window.stayed").await.unwrap(), true, "nobody loaded the page again");
    let shown = StationPage(&site).window().await;
    assert!(shown.contains("Sep 2026"), "the window goes along: {shown}");

    site.open("/stand-ins").await;
    browser.press_in("button[value=cut]", ENTER).await.unwrap();
    browser.wait_text(".said", "The gateway's line is cut").await.unwrap();
    until(&site, "/studies/1", "node 01 of Cut coupe has been silent for", true).await;
    until(&site, "/studies/1/network", "silent: node 01", true).await;
    site.open("/stand-ins").await;
    browser.press_in("button[value=mend]", ENTER).await.unwrap();
    until(&site, "/studies/1", "has been silent for", false).await;
    // Nothing is missing: what was kept has come, each once.
    let store = Store::open(&site.data.path().join("ebrel.db")).await.unwrap();
    let stream = store.streams(1).await.unwrap()[0].id;
    let times = store.series(stream).await.unwrap().times.clone();
    let since = times.partition_point(|t| *t < at_first - 86_400);
    assert!(times[since..].windows(2).all(|w| w[1] - w[0] == 900), "a record each quarter of an hour");

    // Odd presses are told.
    site.open("/stand-ins").await;
    browser
        .script("document.querySelector('[name=other]').value = document.querySelector('[name=port]').value")
        .await
        .unwrap();
    browser.press_in("button[value=swap]", ENTER).await.unwrap();
    browser.wait_text(".said", "choose two different ones").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_of_the_strips_is_led_back_and_what_came_twice_is_chosen() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1?from=1782000000&to=1782600000&show=moisture").await;
    StationPage(&site).loaded(0).await;
    browser.press_in(".record", "v").await.unwrap();
    browser.wait_text(".answer", "96 records of 4 channels").await.unwrap();
    browser.press_in(".readings td a", ENTER).await.unwrap();
    browser.wait_text("h1", "How this value came about").await.unwrap();
    let way = browser.text(".way").await.unwrap();
    assert!(way.contains("at port m05 of node 01") && way.contains("the scatter of one tin"), "{way}");

    site.open("/stations/1").await;
    browser.press_in("a[href='/stations/1/contradictions']", ENTER).await.unwrap();
    let answer = browser.wait_text(".answer", "came twice with different values").await.unwrap();
    assert!(answer.contains("wait"), "{answer}");
    let spans = browser.count("button[value=later].btn-outline:not(.btn-sm)").await.unwrap();
    assert!(spans > 0);
    browser.fill("[name=reason]", "the card of the node says so").await.unwrap();
    // By key: a page whose letters are just arriving moves under a pointer.
    browser.press_in("button[value=later]:not(.btn-sm)", ENTER).await.unwrap();
    browser.wait_text(".said", "the later values stand").await.unwrap();
    assert_eq!(browser.count("button[value=later]:not(.btn-sm)").await.unwrap(), spans - 1);
    browser.press_in("button[value=undo]", ENTER).await.unwrap();
    browser.wait_text(".said", "Taken back").await.unwrap();
    assert_eq!(browser.count("button[value=later]:not(.btn-sm)").await.unwrap(), spans);
    site.end().await;
}
