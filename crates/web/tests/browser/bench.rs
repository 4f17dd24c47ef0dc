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
    browser.wait("form#run").await.unwrap();
    paste(&site, "[id='rows.0.raw']", &tins()).await;
    browser
        .wait_text("[data-live='result'] .answer", "Quadratic, ±0.011 m³/m³ (95 %) from 0.05 to 0.39.")
        .await
        .unwrap();
    browser.wait_text("[data-live='result']", "the maker's curve").await.unwrap();
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
    browser.fill("[id='rows.0.tare']", "17.5").await.unwrap();
    browser.wait_text("[data-saved]", "What you typed stays here").await.unwrap();
    browser.script("window.fetch = window.kept;").await.unwrap();
    browser.fill("#density", "1.5").await.unwrap();
    browser.wait("[data-plan][data-shown='1']").await.unwrap();
    site.open("/bench/4").await;
    let value = "return document.getElementById('rows.0.tare').value";
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
    browser.wait_text(".sentence", "44 cm deep").await.unwrap();
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

#[tokio::test(flavor = "multi_thread")]
async fn a_beginner_practises_a_whole_calibration_and_sees_the_truth() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/1/bench").await;
    browser.click("form[action='/studies/1/practice'] button").await.unwrap();
    browser.wait(".standins").await.unwrap();
    // The step that comes next is the one that stands out; a beginner follows it to the end.
    for turn in 0..60 {
        let next = browser.text(".standins .btn-primary").await.unwrap();
        if next == "All tins 24 h in the oven, weigh" {
            // What is typed right before a step must come along with it.
            browser.click("[id='rows.1.out']").await.unwrap();
            browser.fill("[id='rows.1.why']", "its readings ran").await.unwrap();
        }
        let mark = format!("document.querySelector('.standins').dataset.turn = '{turn}'");
        browser.script(&mark).await.unwrap();
        browser.press_in(".standins .btn-primary", "\u{e007}").await.unwrap();
        let gone = "return document.querySelector('.standins')?.dataset.turn ?? 'fresh'";
        browser.wait_script(gone, |v| v.as_str() == Some("fresh")).await.unwrap();
        if next == "Show the truth" {
            break;
        }
    }
    browser.wait_text(".standins .answer", "m³/m³ from the true one").await.unwrap();
    browser.wait_text(".standins", "It is still in your fit").await.unwrap();
    let kept = "return document.querySelector(\"[id='rows.1.why']\")?.value";
    assert_eq!(browser.script(kept).await.unwrap().as_str(), Some("its readings ran"), "what was typed came along");
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_typed_while_an_answer_is_on_its_way_stays() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/1/bench").await;
    browser.click("form[action='/studies/1/bench'] .btn-primary").await.unwrap();
    browser.wait("form#run").await.unwrap();
    // Answers wait until they are let go.
    let hold = "window.real = window.fetch; window.held = [];
        window.fetch = async (...of) => {
          const answer = await window.real(...of);
          const text = await answer.text();
          await new Promise((go) => window.held.push(go));
          return new Response(text, { status: answer.status });
        };";
    let set = |field: &str, value: &str| {
        format!(
            "const f = document.getElementById('{field}'); f.value = '{value}';
             f.dispatchEvent(new Event('input', {{ bubbles: true }})); f.dispatchEvent(new Event('change', {{ bubbles: true }}));"
        )
    };
    let held = async |n: usize| {
        browser.wait_script("return window.held.length", |v| v.as_u64() == Some(n as u64)).await.unwrap();
    };
    browser.script(hold).await.unwrap();
    browser.script(&set("school", "drying")).await.unwrap();
    held(1).await;
    // A pause while one types would be a sending of its own, which the next one must not take for somebody else's.
    browser.script(&set("pot_tare", "8")).await.unwrap();
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    browser.script(&set("pot_tare", "800")).await.unwrap();
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    held(1).await;
    // Somebody else, who sees what was kept so far.
    let other = "const mine = document.getElementById('run'); const body = new URLSearchParams();
        body.set('token', mine.elements.token.value); body.set('revision', Number(mine.elements.revision.value) + 1);
        body.set('density', '1.44'); body.set('live', 'yes'); window.other = 0;
        window.real(location.pathname, { method: 'POST', body }).then((a) => { window.other = a.status; });";
    browser.script(other).await.unwrap();
    browser.wait_script("return window.other", |v| v.as_u64() == Some(200)).await.unwrap();
    browser.script("window.held[0]()").await.unwrap();
    held(2).await;
    // Typed after the second sending went out, and before its answer brings somebody else's changes.
    browser.script(&(set("pot_dry", "6000") + "window.held[1]();")).await.unwrap();
    held(3).await;
    browser.script("window.held[2]()").await.unwrap();
    browser.wait("form#run[data-shown='3']").await.unwrap();
    let fields =
        "return ['school', 'pot_tare', 'pot_dry', 'density'].map((id) => document.getElementById(id).value).join(' ')";
    let all = Some("drying 800 6000 1.44");
    assert_eq!(browser.script(fields).await.unwrap().as_str(), all);
    let here = browser.script("return location.pathname").await.unwrap();
    site.open(here.as_str().unwrap()).await;
    assert_eq!(browser.script(fields).await.unwrap().as_str(), all, "and so it is kept");
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_school_decides_which_columns_stand_and_a_block_is_pasted_into_them() {
    let site = Site::demo().await;
    let browser = &site.browser;
    site.open("/studies/1/bench").await;
    browser.click("form[action='/studies/1/bench'] .btn-primary").await.unwrap();
    browser.wait("form#run").await.unwrap();
    let choose = "const s = document.getElementById('school'); s.value = 'drying'; s.dispatchEvent(new Event('change', { bubbles: true }));";
    browser.script(choose).await.unwrap();
    for (field, text) in [("pot_tare", "800"), ("pot_dry", "6000"), ("pot_volume", "4000")] {
        browser.fill(&format!("#{field}"), text).await.unwrap();
    }
    paste(&site, "[id='rows.0.raw']", "1800\t7600\n1500\t7200\n1200\t6800\n900\t6400").await;
    browser
        .wait_text("[data-live='result'] .answer", "Straight line, ±0.000 m³/m³ (95 %) from 0.10 to 0.40.")
        .await
        .unwrap();
    site.end().await;
}
