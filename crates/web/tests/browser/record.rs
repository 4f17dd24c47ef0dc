//! A record's journeys: events told over the strips, a package out and in, a backup made and restored.

use super::site::{Site, StationPage};
use ebrel_app::safety;
use ebrel_core::units::UnixSeconds;

#[tokio::test(flavor = "multi_thread")]
async fn an_event_is_told_over_the_strips_and_corrected_where_it_is_drawn() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1?from=1782864000&to=1785542400").await;
    StationPage(&site).loaded(0).await;
    // The cursor stands at three quarters of July.
    browser.press("e").await.unwrap();
    browser.wait("dialog[data-event-dialog][open]").await.unwrap();
    browser.fill("#event-amount", "12.5").await.unwrap();
    browser.fill("#event-note", "two cans").await.unwrap();
    browser.press_in("#event-note", "\u{e007}").await.unwrap();
    browser.wait_text(".said", "The event is kept.").await.unwrap();
    StationPage(&site).loaded(0).await;
    let drawn = "return [...document.querySelectorAll('[data-event-words]')].map(p => p.textContent).join()";
    let words = browser.wait_script(drawn, |w| w.as_str().is_some_and(|w| w.contains("12.5 mm"))).await.unwrap();
    assert!(words.as_str().unwrap().starts_with("W 24 Jul 2026"), "{words}");

    // From a day earlier the next event is this one.
    browser.press("2").await.unwrap();
    let far = "return document.querySelector('.window-words').textContent";
    browser.wait_script(far, |w| w.as_str().is_some_and(|w| w.starts_with("20 Jul 2026"))).await.unwrap();
    browser.press(",,,,,,,,,,,,,,,,,,,,,,,,,,,,,,").await.unwrap();
    browser.wait_script(drawn, |w| w == "").await.unwrap();
    browser.press("n").await.unwrap();
    browser.wait_script(drawn, |w| w.as_str().is_some_and(|w| w.contains("12.5 mm"))).await.unwrap();
    site.open("/stations/1?from=1782864000&to=1785542400").await;
    StationPage(&site).loaded(0).await;

    // A click on its letter opens it where it lies.
    let click = "const c = document.querySelector('.record canvas'), r = c.getBoundingClientRect();
        const x = r.left + r.width * 0.75, y = r.top + 44 + 8;
        for (const kind of ['pointerdown', 'pointerup']) c.dispatchEvent(new PointerEvent(kind, {clientX: x, clientY: y, pointerId: 1, bubbles: true}));
        return document.querySelector('dialog[data-event-dialog]').open";
    browser.script("HTMLCanvasElement.prototype.setPointerCapture = () => {}").await.unwrap();
    assert_eq!(browser.script(click).await.unwrap(), true);
    browser.fill("#event-amount", "21").await.unwrap();
    browser.press_in("#event-amount", "\u{e007}").await.unwrap();
    browser.wait_text(".said", "The event is corrected").await.unwrap();
    site.open("/stations/1/events").await;
    let page = browser.text("main").await.unwrap();
    assert!(
        page.contains("an irrigation, 21 mm: two cans") && page.contains("an irrigation, 12.5 mm: two cans"),
        "{page}"
    );
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_package_goes_out_of_one_study_and_becomes_another() {
    let site = Site::demo().await;
    let browser = &site.browser;
    let zip = reqwest::get(format!("{}/stations/1/export/package.zip?chosen=1&from=2026-06-01+00:00", site.base)).await;
    let file = site.data.path().join("θ out.zip");
    std::fs::write(&file, zip.unwrap().bytes().await.unwrap()).unwrap();
    site.open("/studies/new").await;
    browser.click("a[href='/packages/new']").await.unwrap();
    browser.wait("#file").await.unwrap();
    browser.choose_file("#file", &file).await.unwrap();
    browser.press_in("form .btn-primary", "\u{e007}").await.unwrap();
    browser.wait_text("#slips", "the station “cut” is there").await.unwrap();
    browser.fill("#study", "A copy").await.unwrap();
    browser.fill("[name='code.cut']", "cut-copy").await.unwrap();
    browser.press_in("form .btn-primary", "\u{e007}").await.unwrap();
    browser.wait_text(".answer", "Nothing is taken yet.").await.unwrap();
    assert_eq!(browser.count("#slips").await.unwrap(), 0);
    browser.press_in("form .btn-primary", "\u{e007}").await.unwrap();
    let answer = browser.wait_text(".answer", "are new in A copy.").await.unwrap();
    let numbers: Vec<&str> = answer.split(" of ").take(2).map(|n| n.split(" readings").next().unwrap()).collect();
    assert_eq!(numbers[0], numbers[1], "all of it is new: {answer}");
    browser.click("td a b").await.unwrap();
    StationPage(&site).loaded(0).await;
    assert!(browser.text("h1").await.unwrap().contains("Cut coupe"));
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_is_told_of_and_what_is_restored_from_it_is_the_study() {
    let data = tempfile::tempdir().unwrap();
    crate::demo::copy_into(data.path()).await;
    let site = Site::own(data).await;
    site.open("/first").await;
    let fields = [("name", "N. Arvel"), ("password", "coppice hazel coupe")];
    for (name, value) in fields.iter().chain(&[("code", site.code.as_str())]) {
        site.browser.fill(&format!("[name={name}]"), value).await.unwrap();
    }
    site.browser.press_in("[name=code]", "\u{e007}").await.unwrap();
    site.browser.wait(".navbar, header").await.unwrap();
    site.open("/studies/1").await;
    site.browser.wait_text("main", "There is no backup yet").await.unwrap();
    let elsewhere = tempfile::tempdir().unwrap();
    let file = elsewhere.path().join("wood.db");
    let store = ebrel_store::Store::open(&site.data.path().join("ebrel.db")).await.unwrap();
    let now = UnixSeconds(jiff::Timestamp::now().as_second());
    safety::backup(&store, site.data.path(), &file, now).await.unwrap();
    store.close().await;
    site.open("/studies/1").await;
    site.browser.wait_text("main", "The last backup is").await.unwrap();
    site.end().await;

    let restored = tempfile::tempdir().unwrap();
    safety::restore(&file, restored.path()).await.unwrap();
    let again = Site::own(restored).await;
    again.open("/sign-in").await;
    for (name, value) in &fields {
        again.browser.fill(&format!("[name={name}]"), value).await.unwrap();
    }
    again.browser.press_in("[name=password]", "\u{e007}").await.unwrap();
    again.browser.wait("main").await.unwrap();
    again.open("/stations/1").await;
    StationPage(&again).loaded(0).await;
    assert!(again.browser.text("h1").await.unwrap().contains("Cut coupe"));
    again.end().await;
}
