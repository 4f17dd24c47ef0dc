//! Findings: the profile moved by keys, water asked anew, stations compared, a threshold from a pasted table; wide and on a phone.

use super::site::Site;

const ENTER: &str = "\u{e007}";
const RIGHT: &str = "\u{e014}";

/// Whether something on the canvas has a colour of its own.
const PAINTED: &str = "const c = document.querySelector('canvas.section-canvas'); \
    const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; const seen = new Set(); \
    for (let i = 0; i < d.length; i += 4096) seen.add(`${d[i]} ${d[i + 1]} ${d[i + 2]}`); return seen.size;";
/// Whether the page is wider than its window.
const TOO_WIDE: &str = "return document.documentElement.scrollWidth > document.documentElement.clientWidth + 1;";

#[tokio::test(flavor = "multi_thread")]
async fn the_profile_is_drawn_and_read_by_keys() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/findings").await;
    browser.wait_script(PAINTED, |v| v.as_u64() > Some(6)).await.unwrap();
    browser.press_in("canvas.section-canvas", RIGHT).await.unwrap();
    browser.wait_text("[data-values]", "15 cm: 0.").await.unwrap();
    assert!(browser.text("[data-values]").await.unwrap().contains("±"));
    let wide = browser.text("[data-window-words]").await.unwrap();
    browser.press_in("canvas.section-canvas", "+").await.unwrap();
    let window = "return document.querySelector('[data-window-words]').textContent;";
    browser.wait_script(window, |v| v.as_str() != Some(&wide)).await.unwrap();
    let link = browser.script("return document.querySelector('a[data-readings]').href;").await.unwrap();
    assert!(link.as_str().unwrap().contains("show=moisture"));
    browser.script("document.querySelector('a[data-readings]').click(); return 1").await.unwrap();
    browser.wait("[data-strips] canvas").await.unwrap();
    site.open("/stations/1/findings?what=temperature").await;
    browser.wait_script(PAINTED, |v| v.as_u64() > Some(6)).await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn water_is_asked_anew_and_leads_into_the_strips() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/findings/water").await;
    browser.fill("#bottom", "15").await.unwrap();
    browser.press_in("#bottom", ENTER).await.unwrap();
    browser.wait_text(".answer", "Down to 15").await.unwrap();
    browser.fill("#bottom", "very deep").await.unwrap();
    browser.press_in("#bottom", ENTER).await.unwrap();
    browser.wait_text("[role='alert']", "is no number").await.unwrap();
    browser.script("document.querySelector('tbody a').click(); return 1").await.unwrap();
    browser.wait("[data-strips] canvas").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_response_is_pasted_with_a_slip_first_and_every_page_fits_a_phone() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/2/findings/thresholds").await;
    browser.wait_text(".answer", "breaks at a water content of 0.1").await.unwrap();
    browser.fill("#name", "sap flow").await.unwrap();
    browser.fill("#rows", "2026-05-04 09:00; FT-01; much").await.unwrap();
    browser.script("document.querySelector('form.sheet .btn-primary').click(); return 1").await.unwrap();
    browser.wait_text("[role='alert']", "Line 1").await.unwrap();
    let typed = browser.script("return document.querySelector('#rows').value").await.unwrap();
    assert_eq!(typed.as_str(), Some("2026-05-04 09:00; FT-01; much"), "what was typed stays");
    let file = site.file("sap.csv", "time,tub,flow\n2026-05-04 09:00,FT-01,4\n");
    browser.choose_file("#rows-file", &file).await.unwrap();
    let rows = "return document.querySelector('#rows').value";
    browser.wait_script(rows, |v| v.as_str().is_some_and(|t| t.contains("09:00,FT-01,4"))).await.unwrap();
    browser.script("document.querySelector('form.sheet .btn-primary').click(); return 1").await.unwrap();
    browser.wait_text(".said", "1 values were kept").await.unwrap();
    browser.resize(390, 844).await.unwrap();
    for page in [
        "/stations/1/findings",
        "/stations/1/findings/water",
        "/stations/1/findings/heat",
        "/stations/1/findings/air",
        "/studies/1/findings/treatments",
        "/studies/2/findings/thresholds",
        "/studies/1",
    ] {
        site.open(page).await;
        browser.wait("h1").await.unwrap();
        assert_eq!(browser.script(TOO_WIDE).await.unwrap().as_bool(), Some(false), "{page} is wider than a phone");
    }
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn another_quantity_is_shown_of_the_same_time_and_a_silent_server_is_told() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/findings?from=1782000000&to=1784600000").await;
    let window = "return document.querySelector('[data-window-words]').textContent;";
    browser.wait_script(window, |v| v.as_str().is_some_and(|t| t.contains("Jul 2026"))).await.unwrap();
    let words = browser.text("[data-window-words]").await.unwrap();
    browser.click("a[data-what][href*='temperature']").await.unwrap();
    browser.wait_text(".answer", "warmest at").await.unwrap();
    browser.wait_script(window, |v| v.as_str() == Some(&words)).await.unwrap();
    assert!(browser.address().await.unwrap().contains("from=1782000000"), "what was looked at stays");
    browser
        .wait_script("return document.querySelector('[data-profile]').dataset.loaded", |v| !v.is_null())
        .await
        .unwrap();
    browser.cut_off(true).await.unwrap();
    browser.press_in("canvas.section-canvas", "-").await.unwrap();
    browser.wait_text("[data-values]", "Ebrel does not answer").await.unwrap();
    browser.cut_off(false).await.unwrap();
    browser.press_in("canvas.section-canvas", "+").await.unwrap();
    let silent = "return document.querySelector('[data-values]').textContent;";
    browser.wait_script(silent, |v| v.as_str() == Some("")).await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn heat_and_air_lead_on_and_are_asked_by_keys() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/stations/1/findings/heat").await;
    browser.wait_text(".answer", "falls to a third over").await.unwrap();
    assert!(browser.count("tbody tr").await.unwrap() > 40);
    browser.click("tbody td a").await.unwrap();
    browser.wait("[data-strips] canvas").await.unwrap();
    assert!(browser.address().await.unwrap().contains("show=temperature"));
    site.open("/stations/1/findings/air").await;
    browser.fill("#base", "warm").await.unwrap();
    browser.press_in("#base", ENTER).await.unwrap();
    browser.wait_text("[role='alert']", "is no number").await.unwrap();
    browser.fill("#base", "10").await.unwrap();
    browser.fill("#dry", "0,2").await.unwrap();
    browser.press_in("#dry", ENTER).await.unwrap();
    browser.wait_text("thead", "below 0.2 at 5").await.unwrap();
    browser.wait_text(".how", "10.0").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_page_leads_from_a_day_into_the_strips() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/1").await;
    browser.wait(".glance .stored path").await.unwrap();
    let state =
        browser.script("return document.querySelector('.glance svg').getAttribute('aria-label')").await.unwrap();
    assert!(state.as_str().unwrap().starts_with("Cut coupe by depth: 5\u{a0}cm 0."), "{state}");
    let follow =
        "const a = document.querySelector('.cover a[href*=\"from=\"]'); location.href = a.href.baseVal; return 1";
    browser.script(follow).await.unwrap();
    browser.wait("[data-strips] canvas").await.unwrap();
    site.open("/studies/1").await;
    browser.script("document.querySelector('details summary').click(); return 1").await.unwrap();
    browser.wait_text("details li", "at").await.unwrap();
    site.end().await;
}
