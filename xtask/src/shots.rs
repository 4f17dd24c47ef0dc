//! One current picture per main view, made from the demo.

use crate::{Failed, run};
use ebrel_browser::Browser;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command};

/// Stops the demo when it goes.
struct Demo(Child);

impl Drop for Demo {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A view: file name, address, and a script that brings it into the state to be shown.
const VIEWS: [(&str, &str, &str); 13] = [
    ("study", "/studies/1", ""),
    ("station", "/stations/1", ""),
    ("calibration", "/bench/4", ""),
    ("review", "/stations/1/review", "document.querySelectorAll('.item')[1].click()"),
    ("plan-depths", "/stations/1/plan/depths", ""),
    ("plan-hole", "/stations/3/plan/hole", ""),
    ("field", "/studies/1/field", ""),
    ("network", "/studies/1/network", ""),
    (
        "profile",
        "/stations/2/findings?from=1772323200&to=1788220800",
        "const c = document.querySelector('canvas.section-canvas'); \
        c.dispatchEvent(new PointerEvent('pointermove', { clientX: c.getBoundingClientRect().left + 742, clientY: 300 }))",
    ),
    ("water", "/stations/2/findings/water?sort=mm", ""),
    ("beside", "/studies/1/findings/treatments?first=1&second=2", ""),
    ("thresholds", "/studies/2/findings/thresholds", ""),
    ("way-back", "/stations/1/values/3?at=1782118800", ""),
];

/// Takes every picture anew.
pub async fn take(root: &Path) -> Result<(), Failed> {
    run("cargo", &["build", "--release", "--package", "ebrel"])?;
    let data = tempfile::tempdir()?;
    let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let target = std::env::var("CARGO_TARGET_DIR").map_or_else(|_| root.join("target"), Into::into);
    let demo = Command::new(target.join("release/ebrel"))
        .args(["demo", "--port", &port.to_string(), "--data"])
        .arg(data.path().join("demo"))
        .spawn()?;
    let _demo = Demo(demo);
    let base = format!("http://127.0.0.1:{port}");
    let browser = Browser::start(1280, 940).await?;
    for _ in 0..100 {
        if browser.open(&base).await.is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    // What is made in the background belongs to the pictures.
    for _ in 0..300 {
        browser.open(&base).await?;
        if !browser.text("main").await?.contains("still making") {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(200)).await;
    }
    let height = browser.script("return window.outerHeight - window.innerHeight").await?.as_u64().unwrap_or(0);
    let out = root.join("docs/screenshots");
    std::fs::create_dir_all(&out)?;
    browser.resize(390, 844 + u32::try_from(height)?).await?;
    at_the_hole(&browser, &base, &out).await?;
    browser.resize(1280, 800 + u32::try_from(height)?).await?;
    for (name, address, script) in VIEWS {
        browser.open(&format!("{base}{address}")).await?;
        settled(&browser).await?;
        if !script.is_empty() {
            browser.script(script).await?;
            settled(&browser).await?;
        }
        std::fs::write(out.join(format!("{name}.png")), browser.picture().await?)?;
    }
    compare(&browser, &base, &out).await?;
    import(&browser, &base, &out, data.path()).await?;
    review(&browser, &base, &out).await?;
    practice(&browser, &base, &out).await?;
    browser.close().await?;
    Ok(())
}

/// A probe read at the hole, with air beside its prongs.
async fn at_the_hole(browser: &Browser, base: &str, out: &Path) -> Result<(), Failed> {
    let press = |words: &str| {
        format!(
            "const b = [...document.querySelectorAll('main button')].find((b) => b.textContent.includes('{words}') && b.offsetParent); b?.click(); return Boolean(b)"
        )
    };
    let done = |v: &serde_json::Value| v.as_bool() == Some(true);
    browser.open(&format!("{base}/field/")).await?;
    browser.wait("#initials").await?;
    browser.fill("#initials", "TQ").await?;
    browser.wait_script(&press("Take along: Cut coupe"), done).await?;
    browser.wait_script(&press("Round with the handheld"), done).await?;
    browser.wait("#spot").await?;
    browser.fill("#spot", "455").await?;
    browser.wait(".told .says").await?;
    settled(browser).await?;
    std::fs::write(out.join("field-phone.png"), browser.picture().await?)?;
    Ok(())
}

/// What a calibration would change in the record, before it is adopted.
async fn compare(browser: &Browser, base: &str, out: &Path) -> Result<(), Failed> {
    browser.open(&format!("{base}/bench/5")).await?;
    browser.fill("#valid_from", "2025-09-01").await?;
    browser.press_in("[formaction$='/compare']", "\u{e007}").await?;
    browser.wait(".changed").await?;
    settled(browser).await?;
    std::fs::write(out.join("compare.png"), browser.picture().await?)?;
    Ok(())
}

/// A cause with its mend, and what was decided.
async fn review(browser: &Browser, base: &str, out: &Path) -> Result<(), Failed> {
    browser.open(&format!("{base}/stations/1/review")).await?;
    settled(browser).await?;
    for (reason, verdict) in [("the board logger was restarted then", "a"), ("", "s")] {
        browser.press("r").await?;
        browser.fill(".item.active .reason", reason).await?;
        browser.press_in(".item.active .reason", "\u{e007}").await?;
        browser.press(verdict).await?;
        settled(browser).await?;
    }
    browser.script("document.querySelector('.mend-it a').click()").await?;
    browser.wait(".mend #why").await?;
    settled(browser).await?;
    std::fs::write(out.join("mend.png"), browser.picture().await?)?;
    browser.fill("#why", "the coupe's brash was moved that day, and the probe with it").await?;
    browser.press_in("#why", "\u{e007}").await?;
    browser.wait(".said").await?;
    browser.open(&format!("{base}/stations/1/review/decided")).await?;
    settled(browser).await?;
    std::fs::write(out.join("decided.png"), browser.picture().await?)?;
    Ok(())
}

/// A round of practice whose truth is shown.
async fn practice(browser: &Browser, base: &str, out: &Path) -> Result<(), Failed> {
    browser.open(&format!("{base}/training?level=middling&seed=11")).await?;
    browser.press_in("#seed", "\u{e007}").await?;
    browser.wait("[data-mark]").await?;
    settled(browser).await?;
    browser.press("6").await?;
    settled(browser).await?;
    let fill = "const f = document.querySelector('[data-mark]').elements; const c = [...f.channel.options];
        f.channel.value = c.find((o) => o.text.startsWith('20') && o.text.includes('water')).value;
        f.start.value = '2016-07-30 12:00'; f.end.value = '2016-08-04 15:00'; f.test.value = 'impossible'; return 1";
    browser.script(fill).await?;
    browser.press_in("[data-mark] .btn-primary", "\u{e007}").await?;
    browser.wait_text(".answer", "1 mark").await?;
    let window = browser.address().await?;
    browser.press_in("form[action$='/end'] button", "\u{e007}").await?;
    browser.wait_text("aside h2", "The truth").await?;
    browser.open(&window).await?;
    settled(browser).await?;
    std::fs::write(out.join("practice.png"), browser.picture().await?)?;
    Ok(())
}

/// Waits until fonts are there and the strips, if the page has any, show what was asked last.
async fn settled(browser: &Browser) -> Result<(), Failed> {
    let script = "const s = document.querySelector('[data-strips]');
        const p = document.querySelector('[data-profile]');
        return document.fonts.status === 'loaded' && (!p || p.dataset.loaded) && (!s || (s.dataset.loaded && document.querySelector('.busy').hidden))";
    browser.wait_script(script, |v| v.as_bool() == Some(true)).await?;
    // The strips ask 60 ms after the hand rests; this is a picture, not a test.
    tokio::time::sleep(std::time::Duration::from_millis(400)).await;
    Ok(())
}

/// A messy file, as it is understood before it is stored.
async fn import(browser: &Browser, base: &str, out: &Path, dir: &Path) -> Result<(), Failed> {
    let mut text = String::from(
        "# node 05, ride edge, clock is UTC+1 all year\r\nZeit;Feuchte 5 cm [mV];Feuchte 15 cm [mV];Boden 5 cm [°C];by\r\n",
    );
    for i in 0..1920u32 {
        let (day, half) = (1 + i / 48, i % 48);
        let (day, month) = if day > 30 { (day - 30, 7) } else { (day, 6) };
        let moist = if i % 300 == 77 { "---".to_owned() } else { format!("{},{}", 870 + i % 23, i % 10) };
        let soil = if i == 1200 { "1O,4".to_owned() } else { format!("{},{:02}", 12 + half / 8, i % 100) };
        text += &format!(
            "{day}.{month}.2026 {:02}:{:02};{moist};{},2;{soil};Quill\r\n",
            half / 2,
            half % 2 * 30,
            890 + i % 11
        );
    }
    text += "11.7.2026 00:";
    let file = dir.join("ride_edge_export.txt");
    std::fs::write(&file, text)?;
    browser.open(&format!("{base}/stations/1/import")).await?;
    browser.choose_file("#file", &file).await?;
    browser.click("form .btn-primary").await?;
    browser.wait_text(".answer", "records").await?;
    settled(browser).await?;
    std::fs::write(out.join("import.png"), browser.picture().await?)?;
    Ok(())
}
