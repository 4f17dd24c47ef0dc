//! From an empty study to the printed sheets of a three-depth station, with the keyboard alone.

use super::site::Site;

const TAB: &str = "\u{e004}";
const ENTER: &str = "\u{e007}";
const ALT_RIGHT: &str = "\u{e00a}\u{e014}\u{e000}";

/// Moves on with Tab until the element of this id has the focus.
async fn tab_to(site: &Site, id: &str) {
    for _ in 0..120 {
        let here = site.browser.script("return document.activeElement?.id ?? ''").await.unwrap();
        if here.as_str() == Some(id) {
            return;
        }
        site.browser.type_keys(TAB).await.unwrap();
    }
    panic!("{id} cannot be reached with Tab");
}

/// Waits until an edit was answered, `before` being how many were.
async fn answered(site: &Site, before: u64) -> u64 {
    let script = "return document.querySelector('[data-plan]')?.dataset.shown ?? '0'";
    let number = |v: &serde_json::Value| v.as_str().and_then(|s| s.parse::<u64>().ok()).unwrap_or(0);
    let value = site.browser.wait_script(script, |v| number(v) > before).await.unwrap();
    number(&value)
}

async fn on(site: &Site, step: &str) {
    site.browser.wait_text(".steps [aria-current]", step).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn from_an_empty_study_to_a_printed_sheet_by_keyboard() {
    let site = Site::empty().await;
    let browser = &site.browser;
    site.open("/").await;
    tab_to(&site, "name").await;
    browser.type_keys(&format!("Orchard strip{ENTER}")).await.unwrap();
    browser.wait_text("h1", "Question and design").await.unwrap();
    tab_to(&site, "question").await;
    browser.type_keys("Does mulch keep the subsoil wet?").await.unwrap();
    answered(&site, 0).await;
    browser.type_keys(ALT_RIGHT).await.unwrap();
    browser.wait_text("h1", "New station").await.unwrap();
    tab_to(&site, "name").await;
    browser.type_keys(&format!("Strip 1{ENTER}")).await.unwrap();

    on(&site, "Site").await;
    browser.type_keys(ALT_RIGHT).await.unwrap();
    on(&site, "Depths").await;
    tab_to(&site, "figures.roots_cm").await;
    browser.type_keys("60").await.unwrap();
    answered(&site, 0).await;
    browser.wait_text(".offers", "15, 45, 70 (sentinel) cm").await.unwrap();
    tab_to(&site, "take-rooting").await;
    browser.type_keys(ENTER).await.unwrap();
    browser.wait_text(".sentence", "3 probes at 15, 45, 70 cm").await.unwrap();
    // A probe is moved in the drawing with the arrow keys, and its field follows.
    tab_to(&site, "drag-probes.0.depth_cm").await;
    browser.type_keys("\u{e015}\u{e015}").await.unwrap();
    browser.wait_text(".sentence", "3 probes at 17, 45, 70 cm").await.unwrap();
    browser.type_keys(ALT_RIGHT).await.unwrap();

    on(&site, "Hole").await;
    browser.wait_text(".answer", "preferred here: side wall of a narrow borehole").await.unwrap();
    for step in ["Wiring", "Program", "Budgets", "Kit and dates"] {
        browser.type_keys(ALT_RIGHT).await.unwrap();
        on(&site, step).await;
    }
    tab_to(&site, "install").await;
    browser.type_keys("2027-03-14").await.unwrap();
    browser.wait_text("[data-live='days']", "Strip 1: declare the official start").await.unwrap();
    browser.type_keys(ALT_RIGHT).await.unwrap();
    browser.wait_text(".paper h1", "Strip 1").await.unwrap();
    let paper = browser.text(".paper").await.unwrap();
    assert!(paper.contains("3 probes at 17, 45, 70 cm, pit or trench wall, 78 cm deep."), "{paper}");
    assert!(paper.contains("probe 3 to 70") && !paper.contains("Not ready to be dug"), "{paper}");
    assert_eq!(browser.count("svg.dig .sensed").await.unwrap(), 3);
    site.end().await;
}
