//! From the station page to the export, as a researcher goes.

use super::site::{Site, StationPage};

#[tokio::test(flavor = "multi_thread")]
async fn from_a_logger_file_to_a_calibrated_reviewed_record() {
    let site = Site::demo().await;
    let browser = &site.browser;

    // The study says what is next; the station page shows section and strips.
    site.open("/studies/1").await;
    browser.wait_text(".answer", "Next: Give Cut coupe a verdict").await.unwrap();
    site.open("/stations/1").await;
    let page = StationPage(&site);
    let first = page.loaded(0).await;
    assert!(page.window().await.ends_with("1 Sep 2026 00:00"));
    assert!(page.value("1/moisture@5").await.starts_with("0."), "calibrated");
    assert!(page.value("1/moisture-raw@60").await.len() > 5, "raw output in mV");
    browser.press("6").await.unwrap();
    let all = page.loaded(first).await;
    browser.wait_text(".window-words", "1 Mar 2024 00:00").await.unwrap();
    browser.press("t").await.unwrap();
    page.loaded(all).await;
    assert_eq!(browser.count(".readout").await.unwrap(), 5, "four depths and the air");

    import(&site).await;
    calibrate(&site).await;
    review(&site).await;

    // What it says, and out again.
    browser.click("nav[aria-label='Rooms'] a[href$='/findings']").await.unwrap();
    browser.wait_text(".answer", "it was wettest at").await.unwrap();
    browser.click("nav a[href$='/export']").await.unwrap();
    browser.wait_text(".answer", "are left out.").await.unwrap();
    let kind = "const a = await fetch('/stations/1/export/package.zip?from=2026-06-01&to=2026-06-03');
                return a.headers.get('content-type') + (await a.arrayBuffer()).byteLength.toString().length;";
    let kind = browser.script(&format!("return (async () => {{ {kind} }})()")).await.unwrap();
    assert!(kind.as_str().unwrap().starts_with("application/zip"), "{kind}");
    site.end().await;
}

async fn import(site: &Site) {
    let browser = &site.browser;
    let mut text = String::from("\"node 03\",\"clock UTC+0\"\n\"time\",\"m05\",\"t05\"\n\"\",\"mV\",\"degC\"\n");
    for i in 0..200 {
        text += &format!(
            "\"2026-05-0{} {:02}:{:02}:00\",{}.2,9.{}\n",
            1 + i / 96,
            i / 4 % 24,
            i % 4 * 15,
            900 + i % 5,
            i % 10
        );
    }
    text += "\"2026-05-03 02:";
    let file = site.file("node03.csv", &text);
    site.open("/stations/1/import").await;
    browser.choose_file("#file", &file).await.unwrap();
    browser.click("form .btn-primary").await.unwrap();
    let answer = browser.wait_text(".answer", "200 records").await.unwrap();
    assert!(answer.contains("1 line or cell could not be read"), "{answer}");
    browser.fill("[name='depth-0']", "8").await.unwrap();
    browser.click("button[value='store']").await.unwrap();
    browser.wait_text(".answer", "200 records are stored.").await.unwrap();
    site.open("/stations/1").await;
    StationPage(site).loaded(0).await;
    browser.wait_text("main", "at 8 cm, 60 cm").await.unwrap();
}

async fn calibrate(site: &Site) {
    let browser = &site.browser;
    site.open("/studies/1/bench").await;
    browser.wait_text("main", "BD-0422 in Bt").await.unwrap();
    browser.click("a[href='/bench/4']").await.unwrap();
    browser.wait_text("[data-live='result'] .answer", "Straight line, ±0.076").await.unwrap();
    browser.wait_text("[data-live='result']", "Sample 4 stands").await.unwrap();
    browser.click("[id='rows.3.out']").await.unwrap();
    browser.fill("[id='rows.3.why']", "its lid was wet").await.unwrap();
    browser.wait_text("[data-live='result'] .answer", "Quadratic, ±0.0").await.unwrap();
    // By key: the page may still move under a pointer while the answer comes in.
    browser.press_in("[data-adopt] .btn-primary", "\u{e007}").await.unwrap();
    browser.wait_text(".said", "Version 1 is adopted").await.unwrap();
    StationPage(site).loaded(0).await;
    assert!(StationPage(site).value("1/moisture@60").await.starts_with("0."));
}

async fn review(site: &Site) {
    let browser = &site.browser;
    site.open("/stations/1/review").await;
    let page = StationPage(site);
    page.loaded(0).await;
    let count = |text: String| text.split(' ').next().and_then(|n| n.parse::<usize>().ok());
    let before = count(browser.text("[data-answer]").await.unwrap()).unwrap();
    let window = page.window().await;
    browser.press("j").await.unwrap();
    browser.wait(".item:nth-child(2).active").await.unwrap();
    assert_ne!(window, page.window().await, "the strips move along");
    browser.press("r").await.unwrap();
    browser.fill(".item.active .reason", "frost, probe held").await.unwrap();
    browser.press_in(".item.active .reason", "\u{e007}").await.unwrap();
    browser.press("a").await.unwrap();
    browser.wait_text("[data-answer]", &format!("{} things", before - 1)).await.unwrap();
    browser.wait_text(".item:nth-child(2) .verdict", "Left out: frost, probe held").await.unwrap();
    browser.press("u").await.unwrap();
    browser.wait_text("[data-answer]", &format!("{before} things")).await.unwrap();
    browser.press("e").await.unwrap();
    browser.wait("svg.trace path.line").await.unwrap();
    assert!(browser.text("h1").await.unwrap().contains(" at "), "the finding that was looked at");
}
