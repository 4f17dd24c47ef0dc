//! From a pasted column to an adopted calibration, as a newcomer goes; and what a dropped connection leaves.

use super::site::Site;

/// Pastes text into a field, as from a spreadsheet.
async fn paste(site: &Site, css: &str, text: &str) {
    let script = format!(
        "const data = new DataTransfer(); data.setData('text/plain', {});
         document.querySelector({}).dispatchEvent(new ClipboardEvent('paste', {{ clipboardData: data, bubbles: true, cancelable: true }}));",
        serde_json::to_string(text).unwrap(),
        serde_json::to_string(css).unwrap()
    );
    site.browser.script(&script).await.unwrap();
}

/// Seven tins, a bent curve, with decimal commas and tabs.
fn tins() -> String {
    let raw = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
    let theta = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];
    let line =
        |(raw, theta): (&f64, &f64)| format!("{raw:.1}\t20\t{:.2}\t150\t100", 150.0 + theta * 100.0).replace('.', ",");
    raw.iter().zip(&theta).map(line).collect::<Vec<_>>().join("\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_pasted_block_to_an_adopted_calibration() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/1/bench").await;
    browser.click("form[action='/studies/1/bench'] .btn-primary").await.unwrap();
    browser.wait("[data-run]").await.unwrap();
    paste(&site, "[data-row] [data-field='raw']", &tins()).await;
    browser.wait_text("[data-result] .answer", "Quadratic, ±0.004 m³/m³ from 0.05 to 0.39.").await.unwrap();
    browser.wait_text("[data-result]", "the maker's curve").await.unwrap();
    browser.wait_text("[data-saved]", "Saved.").await.unwrap();
    browser.press_in("[data-adopt] .btn-primary", "\u{e007}").await.unwrap();
    browser.wait_text(".said", "is adopted. The record shows water content from it").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_while_the_server_is_silent_stays_and_goes_out_with_the_next_change() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/bench/4").await;
    browser
        .script("window.kept = window.fetch; window.fetch = () => Promise.reject(new Error('no signal'));")
        .await
        .unwrap();
    browser.fill("[data-row] [data-field='tare']", "17.5").await.unwrap();
    browser.wait_text("[data-saved]", "What you typed stays here").await.unwrap();
    browser.script("window.fetch = window.kept;").await.unwrap();
    browser.fill("#density", "1.5").await.unwrap();
    browser.wait_text("[data-saved]", "Saved.").await.unwrap();
    site.open("/bench/4").await;
    let value = "return document.querySelector(\"[data-row] [data-field='tare']\").value";
    assert_eq!(browser.script(value).await.unwrap().as_str(), Some("17.5"));

    // The same on a sheet that is kept by the plan's script.
    site.open("/stations/3/plan/hole").await;
    browser
        .script("window.kept = window.fetch; window.fetch = () => Promise.reject(new Error('no signal'));")
        .await
        .unwrap();
    browser.fill("[id='figures.hole_diameter_cm']", "8").await.unwrap();
    browser.wait_text("[data-saved]", "Not kept (no signal). What you typed stays here").await.unwrap();
    browser.script("window.fetch = window.kept;").await.unwrap();
    browser.fill("[id='figures.room_below_cm']", "14").await.unwrap();
    browser.wait_text(".sentence", "74 cm deep").await.unwrap();
    site.open("/stations/3/plan/hole").await;
    let value = "return document.getElementById('figures.hole_diameter_cm').value";
    assert_eq!(browser.script(value).await.unwrap().as_str(), Some("8"));
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_serial_is_found_from_any_page_by_one_key() {
    let site = Site::demo().await;
    site.open("/stations/1/plan/budgets").await;
    site.browser.press("/").await.unwrap();
    site.browser.type_keys("dt-0208\u{e007}").await.unwrap();
    site.browser.wait_text("h1", "DT-0208").await.unwrap();
    site.browser.wait_text(".answer", "Can be trusted; it lies at Cut coupe").await.unwrap();
    site.end().await;
}
