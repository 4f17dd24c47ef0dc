//! Logger files on the page: a dialect told by the controls alone, two tables in one file, a withdrawn import read anew.

use super::site::Site;

/// Uploads a file to the first station and waits for what was understood.
async fn upload(site: &Site, name: &str, text: &str) {
    let file = site.file(name, text);
    site.open("/stations/1/import").await;
    site.browser.choose_file("#file", &file).await.unwrap();
    site.browser.click("form .btn-primary").await.unwrap();
    site.browser.wait("#plan").await.unwrap();
}

/// Waits until what was typed is shown and nothing hinders storing.
async fn may_be_stored(site: &Site) {
    let ready = "const b = document.querySelector('button[value=store]');
        return Boolean(b) && !b.disabled && !document.querySelector('#plan').hasAttribute('aria-busy')";
    site.browser.wait_script(ready, |v| v == true).await.unwrap();
}

fn quarters(head: &str, line: impl Fn(i64, String) -> String) -> String {
    let lines = (0..300).map(|i| {
        let t = ebrel_formats::rfc3339(ebrel_core::units::UnixSeconds(1_772_323_200 + i * 900));
        line(i, t.replace('T', " ").replace('Z', ""))
    });
    head.to_owned() + &lines.collect::<String>()
}

/// One import that waits and one that is stored, with its recipe, so that their pages can be looked at.
pub async fn leave_imports(site: &Site) {
    let noisy = quarters("time;wc5 [m3/m3];t5 [degC];remark\n", |i, t| {
        let wet = if i % 50 == 7 { "ERR".to_owned() } else { format!("0.{}", 200 + i % 60) };
        format!("{t};{wet};{}.5;cow\n", 8 + i / 4 % 24 / 3)
    });
    upload(site, "a-file-with-a-rather-long-name-from-the-ride-edge-2026-03.csv", &noisy).await;
    upload(site, "stored.csv", &noisy).await;
    site.browser.fill("#save_as", "ride edge").await.unwrap();
    site.browser.press_in("button[value='store']", "\u{e007}").await.unwrap();
    site.browser.wait_text(".answer", "300 records are stored.").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dialect_that_nothing_explains_is_told_by_the_controls_and_each_change_is_shown_at_once() {
    let site = Site::demo().await;
    let browser = &site.browser;
    // The hour behind an x, the day of the month before it, month and year nowhere near.
    let strange =
        |i: i64| format!("x{} ; {} ; {} ; 2026 ; 3 ; {}.5\n", i / 4 % 24, i % 4 * 15, 1 + i / 96, 880 + i % 7);
    upload(&site, "strange.txt", &(0..300).map(strange).collect::<String>()).await;
    browser.wait_text("[data-part='answer']", "Nothing could be guessed").await.unwrap();
    browser.script("document.querySelector('#separator').value = 'semicolon'; document.querySelector('#time_columns').value = '4 5 3 1 2';").await.unwrap();
    browser.fill("#time_pattern", "%Y %m %d x%H %M").await.unwrap();
    browser.press_in("#time_pattern", "\u{e004}").await.unwrap();
    browser.wait_text("[data-part='answer'] .answer", "300 records").await.unwrap();
    browser.wait_text("[data-part='understood']", "1 Mar 2026 00:15").await.unwrap();
    browser.script("const q = document.querySelector('[name=quantity-0]'); q.value = 'raw_output'; document.querySelector('[name=unit-0]').value = 'mV'; q.dispatchEvent(new Event('change', {bubbles: true}));").await.unwrap();
    browser.wait_text("[data-part='answer'] .answer", "1 of 1 column;").await.unwrap();
    may_be_stored(&site).await;
    browser.press_in("button[value='store']", "\u{e007}").await.unwrap();
    browser.wait_text(".answer", "300 records are stored.").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn two_tables_of_one_file_go_in_with_one_import() {
    let site = Site::demo().await;
    let browser = &site.browser;
    let mut text = quarters("*** TABLE QUARTER\ntime;wc5\n", |i, t| format!("{t};0.{}\n", 200 + i % 60));
    text += "\n*** TABLE DAY\nday;rain [mm]\n2026-03-01;1.5\n2026-03-02;0.0\n2026-03-03;4.2\n";
    text += "\n*** TABLE QUARTER\ntime;wc5\n2026-03-05 00:00:00;0.211\n";
    upload(&site, "two.txt", &text).await;
    browser.wait_text("[data-part='columns']", "QUARTER").await.unwrap();
    browser.wait_text("[data-part='columns']", "DAY").await.unwrap();
    let answer = browser.wait_text(".answer", "304 records").await.unwrap();
    assert!(answer.contains("2 of 2 columns; every line could be read"), "{answer}");
    browser.press_in("button[value='store']", "\u{e007}").await.unwrap();
    browser.wait_text(".answer", "304 records are stored.").await.unwrap();
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_with_a_wrong_clock_is_set_aside_and_read_anew() {
    let site = Site::demo().await;
    let browser = &site.browser;
    let text = quarters("time,m05 [mV]\n", |i, t| format!("{t},{}.5\n", 880 + i % 7));
    upload(&site, "node 9.csv", &text).await;
    browser.fill("#node", "node 9").await.unwrap();
    browser.press_in("#node", "\u{e004}").await.unwrap();
    may_be_stored(&site).await;
    browser.press_in("button[value='store']", "\u{e007}").await.unwrap();
    browser.wait_text(".answer", "300 records are stored.").await.unwrap();
    browser.fill("#why", "the logger's clock was an hour ahead").await.unwrap();
    browser.press_in("#why", "\u{e007}").await.unwrap();
    browser.wait_text(".answer", "Set aside: the logger's clock").await.unwrap();
    browser.press_in("form[action$='/anew'] button", "\u{e007}").await.unwrap();
    browser.wait_text("#plan .said", "Read anew instead of").await.unwrap();
    browser.fill("#offset", "+01:00").await.unwrap();
    browser.press_in("#offset", "\u{e004}").await.unwrap();
    browser.wait_text("[data-part='answer'] .answer", "28 Feb").await.unwrap();
    may_be_stored(&site).await;
    browser.press_in("button[value='store']", "\u{e007}").await.unwrap();
    browser.wait_text("main", "What reading anew changed").await.unwrap();
    site.end().await;
}
