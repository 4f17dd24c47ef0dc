//! A day at the hole on a phone, with the network cut; and the phone's judgement held against the office's.

use super::site::Site;
use ebrel_core::field::{Deed, Entry, Limits, Log, Neighbour, judge};
use ebrel_core::units::UnixSeconds;
use serde_json::{Value, json};

/// Clicks the first button that says these words.
async fn press(site: &Site, words: &str) {
    let script = format!(
        "const b = [...document.querySelectorAll('main button, main a.card')].find((b) => b.textContent.includes({}) && b.offsetParent); if (b) b.click(); return Boolean(b);",
        json!(words)
    );
    site.browser.wait_script(&script, |v| v == true).await.unwrap_or_else(|e| panic!("no button “{words}”: {e}"));
}

async fn type_into(site: &Site, id: &str, text: &str) {
    site.browser.wait(&format!("[id='{id}']")).await.unwrap();
    let script = format!(
        "const f = document.getElementById({}); f.value = {}; f.dispatchEvent(new Event('input', {{ bubbles: true }})); return f.value;",
        json!(id),
        json!(text)
    );
    site.browser.script(&script).await.unwrap();
}

async fn entries(site: &Site) -> usize {
    let script = "const m = /Entries \\((\\d+)\\)/.exec(document.querySelector('.entries summary')?.textContent ?? ''); return m ? Number(m[1]) : -1;";
    site.browser.script(script).await.unwrap().as_i64().unwrap_or(-1).try_into().unwrap_or(0)
}

/// Presses a button that keeps an entry, and waits until it is in the list.
async fn keep(site: &Site, words: &str) {
    let before = entries(site).await;
    press(site, words).await;
    for _ in 0..200 {
        if entries(site).await > before {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    panic!("“{words}” kept nothing: {}", site.browser.text("main").await.unwrap_or_default());
}

/// Does what the step at hand asks for.
async fn step(site: &Site, does: &str) {
    let here = |id: &'static str| async move {
        site.browser.script(&format!("return Boolean(document.getElementById('{id}'))")).await.unwrap() == true
    };
    if here("hole-depth").await {
        type_into(site, "hole-depth", "71,5").await;
        keep(site, "Keep the depth").await;
    } else if here("c-tin").await {
        for (tin, depth) in [("T1", "10"), ("T2", "15")] {
            type_into(site, "c-tin", tin).await;
            type_into(site, "c-depth", depth).await;
            keep(site, "Keep this core").await;
        }
    } else if here("p-serial").await {
        if does.starts_with("BD-0432") {
            type_into(site, "p-depth", "17").await;
        }
        keep(site, "It is in").await;
        site.browser.wait("#r-0").await.unwrap();
        let reading = if does.contains("BD-") { "1400" } else { "12" };
        for i in 0..3 {
            type_into(site, &format!("r-{i}"), reading).await;
        }
        site.browser.wait("#verdict .says").await.unwrap();
        keep(site, "Keep the reading").await;
    } else if here("l-kg").await {
        keep(site, "Keep the weight").await;
    } else if here("kit-0").await {
        press(site, "Done").await;
        site.browser.wait_text(".told", "Not counted yet").await.unwrap();
        site.browser.script("document.querySelectorAll(\"[id^='kit-']\").forEach((b) => b.click())").await.unwrap();
        let all = "const [n, all] = document.querySelector('.step .label').textContent.match(/\\d+/g); return n === all && Number(n) > 3;";
        site.browser.wait_script(all, |v| v == true).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_whole_installation_without_a_line_arrives_once() {
    let site = Site::demo().await;
    let browser = &site.browser;
    browser.resize(390, 844).await.unwrap();
    site.open("/field/").await;
    browser.wait_script("return document.documentElement.dataset.offline ?? ''", |v| v == "ready").await.unwrap();
    type_into(&site, "initials", "TQ").await;
    press(&site, "Take along: Ride edge").await;
    browser.wait_text("h1", "Ride edge").await.unwrap();

    browser.cut_off(true).await.unwrap();
    press(&site, "Put probes in").await;
    browser.wait(".does").await.unwrap();
    browser.wait_text("#why", "No line.").await.unwrap();
    let address = browser.address().await.unwrap();
    let (mut done, mut last) = (0, String::new());
    loop {
        let finish =
            "return [...document.querySelectorAll('main button')].some((b) => b.textContent === 'Finish this log')";
        if browser.script(finish).await.unwrap() == true {
            break;
        }
        let does = browser.text(".does").await.unwrap();
        assert_ne!(does, last, "the step before has its answer");
        step(&site, &does).await;
        if does.contains("Conduit") {
            press(&site, "Leave out").await;
            type_into(&site, "why-not", "conduit forgotten at home").await;
            press(&site, "Leave it out").await;
        } else {
            press(&site, "Done").await;
        }
        let moved = format!("return (document.querySelector('.does')?.textContent ?? 'end') !== {}", json!(does));
        browser.wait_script(&moved, |v| v == true).await.unwrap();
        last = does;
        done += 1;
        if done == 4 {
            // A reload, and a closed tab, without a line.
            browser.open(&address).await.unwrap();
            browser.wait(".does").await.unwrap();
            browser.open("about:blank").await.unwrap();
            browser.open(&address).await.unwrap();
            browser.wait(".does").await.unwrap();
        }
    }
    assert!(done > 10, "{done}");
    keep(&site, "Finish this log").await;
    let kept = entries(&site).await;
    browser.wait_text("#kept", &format!("kept here {kept}")).await.unwrap();

    browser.cut_off(false).await.unwrap();
    for _ in 0..2 {
        browser.script("document.getElementById('send').click()").await.unwrap();
        browser.wait_text("#sent", &format!("sent {kept}")).await.unwrap();
    }
    browser.wait_text("#kept", "kept here 0").await.unwrap();
    browser.resize(1280, 800).await.unwrap();
    site.open("/studies/1/field").await;
    let room = browser.text("main").await.unwrap();
    assert!(room.contains("conduit forgotten at home") && room.contains(&format!("TQ {kept} finished")), "{room}");
    site.open("/stations/3/placements").await;
    let places =
        browser.script("return [...document.querySelectorAll('main input')].map((i) => i.value).join(' ')").await;
    let places = places.unwrap().as_str().unwrap().to_owned();
    assert!(places.contains("BD-0433") && places.contains(" 17 "), "the real depth stands: {places}");
    site.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn phone_and_office_judge_ten_thousand_readings_alike() {
    let site = Site::demo().await;
    site.open("/field/").await;
    let mut compared = 0;
    for station in [1, 3] {
        let pack = format!(
            "const p = await (await fetch('/stations/{station}/field/pack.json')).json(); return [...p.probes, ...p.installed].map((q) => q.limits);"
        );
        let tables: Vec<Limits> =
            serde_json::from_value(site.browser.script(&format!("return (async () => {{ {pack} }})()")).await.unwrap())
                .unwrap();
        assert!(tables.len() > 3);
        for (i, table) in tables.iter().enumerate() {
            let mut seed = 7 + i as u64;
            let mut random = || {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                (seed >> 11) as f64 / (1u64 << 53) as f64
            };
            let cases: Vec<(Vec<f64>, Option<Neighbour>)> = (0..800)
                .map(|k| {
                    let raw = -50.0 + 2900.0 * random();
                    let spread = if k % 3 == 0 { 200.0 } else { 3.0 };
                    let repeats = (0..=k % 3).map(|_| raw + spread * random()).collect();
                    let beside = (k % 2 == 0).then(|| Neighbour { place: "15 cm".into(), value: 0.6 * random() });
                    (repeats, beside)
                })
                .collect();
            let ours: Vec<Value> =
                cases.iter().map(|(r, b)| serde_json::to_value(judge(table, r, b.as_ref())).unwrap()).collect();
            let input = json!({"table": table, "cases": cases});
            let script = format!(
                "return (async () => {{ const {{ judge }} = await import('/assets/rooms/field/app/judge.js'); const {{ table, cases }} = {input}; return cases.map(([r, b]) => judge(table, r, b)); }})()"
            );
            let theirs = site.browser.script(&script).await.unwrap();
            for ((case, a), b) in cases.iter().zip(&ours).zip(theirs.as_array().unwrap()) {
                assert_eq!(
                    (&a["verdict"], &a["does"], &a["says"]),
                    (&b["verdict"], &b["does"], &b["says"]),
                    "{case:?}"
                );
                compared += 1;
            }
        }
    }
    assert!(compared >= 10_000, "{compared}");
    site.end().await;
}

/// Entries of one log that correct each other, known ones and unknown, at times that a clock set back gives.
fn tangled(log: u64) -> Vec<Entry> {
    let mut seed = 11 + log;
    let mut random = |below: u64| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % below
    };
    let id = |n: u64| format!("0197bbbb-{log:04}-7000-8000-{n:012}");
    let number = 1 + random(14);
    (0..number)
        .map(|n| {
            let corrects = (random(2) == 0).then(|| random(number + 2)).filter(|of| *of != n).map(id);
            let (log, station, by) = (format!("0197bbbb-log-{log}"), "cut".to_owned(), "TQ".to_owned());
            let (at, deed) = (UnixSeconds(random(40) as i64), Deed::Note { text: n.to_string() });
            Entry { id: id(n), log, station, at, by, corrects, deed }
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn phone_and_office_merge_two_hundred_tangled_logs_alike() {
    let site = Site::demo().await;
    site.open("/field/").await;
    let logs: Vec<Vec<Entry>> = (0..200).map(tangled).filter(|entries| !in_a_ring(entries)).collect();
    assert!(logs.len() > 60, "{}", logs.len());
    let input = serde_json::to_string(&logs).unwrap();
    let script = format!(
        "return (async () => {{
           const keep = await import('/assets/rooms/field/app/keep.js');
           const base = await new Promise((done) => {{ const o = indexedDB.open('ebrel-field'); o.onsuccess = () => done(o.result); }});
           const said = [];
           for (const log of {input}) {{
             const tx = base.transaction('entries', 'readwrite');
             for (const e of log) tx.objectStore('entries').put({{ ...e, state: 'kept', says: '' }});
             await new Promise((done) => {{ tx.oncomplete = done; }});
             said.push((await keep.standing(log[0].log)).map((e) => [e.id, e.at]));
           }}
           return said;
         }})()"
    );
    let theirs = site.browser.script(&script).await.unwrap();
    for (entries, theirs) in logs.iter().zip(theirs.as_array().unwrap()) {
        let ours: Vec<Value> = Log::of(entries).stands.iter().map(|e| json!([e.id, e.at.0])).collect();
        assert_eq!(theirs.as_array().unwrap(), &ours, "{entries:#?}");
    }
    site.end().await;
}

/// A ring has no first entry: any answer is as good, and no phone makes one.
fn in_a_ring(entries: &[Entry]) -> bool {
    entries.iter().any(|start| {
        let mut at = start;
        for _ in 0..entries.len() {
            match at.corrects.as_ref().and_then(|of| entries.iter().find(|e| e.id == *of)) {
                Some(next) => at = next,
                None => return false,
            }
        }
        true
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_whose_clock_was_set_back_says_so_and_its_corrections_stand() {
    let site = Site::demo().await;
    let browser = &site.browser;
    browser.resize(390, 844).await.unwrap();
    site.open("/field/").await;
    type_into(&site, "initials", "TQ").await;
    press(&site, "Take along: Cut coupe").await;
    browser.wait_text("h1", "Cut coupe").await.unwrap();
    browser.cut_off(true).await.unwrap();
    press(&site, "Round with the handheld").await;
    browser.wait("#spot").await.unwrap();
    type_into(&site, "spot", "1400").await;
    keep(&site, "Keep the value").await;
    assert!(!browser.text("main").await.unwrap().contains("was it set back"));
    browser.script("const real = Date.now; Date.now = () => real() - 7200000; return null").await.unwrap();
    type_into(&site, "spot", "1390").await;
    press(&site, "Correct it").await;
    browser.wait_text("main", "was it set back?").await.unwrap();
    let value = browser.script("return document.getElementById('spot').value").await.unwrap();
    assert_eq!(value, "1390", "the correction stands, though it is dated before what it corrects");
    site.end().await;
}

/// What a checker finds on the page at hand, contrasts at the strictest level and targets among it.
async fn barriers(site: &Site) -> Vec<String> {
    site.browser.script(include_str!("../vendor/axe-core/axe.min.js")).await.unwrap();
    site.browser
        .script("window.axeFound = null; axe.run(document, {resultTypes: ['violations'], rules: {'color-contrast-enhanced': {enabled: true}, 'target-size': {enabled: true}}}).then(r => { window.axeFound = r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 140)).join(' | ')); })")
        .await
        .unwrap();
    let found = site.browser.wait_script("return window.axeFound", |v| v.is_array()).await.unwrap();
    let mut found: Vec<String> = found.as_array().unwrap().iter().map(|v| v.as_str().unwrap().to_owned()).collect();
    let small = "return [...document.querySelectorAll('main button, main input:not([type=checkbox]), main summary, main a.card, main a.big')].filter((b) => b.offsetParent && b.getBoundingClientRect().height < 44).map((b) => b.outerHTML.slice(0, 90))";
    let small = site.browser.script(small).await.unwrap();
    found.extend(small.as_array().unwrap().iter().map(|s| format!("under 44 px: {s}")));
    let wide = site
        .browser
        .script("return document.scrollingElement.scrollWidth > innerWidth + 1 ? 'wider than the phone' : ''")
        .await;
    found.extend(wide.unwrap().as_str().filter(|w| !w.is_empty()).map(str::to_owned));
    let fine = "return [...document.querySelectorAll('main *')].filter((e) => e.offsetParent && e.childNodes.length && [...e.childNodes].some((c) => c.nodeType === 3 && c.textContent.trim()) && parseFloat(getComputedStyle(e).fontSize) < 16).map((e) => e.outerHTML.slice(0, 90))";
    let fine = site.browser.script(fine).await.unwrap();
    found.extend(fine.as_array().unwrap().iter().map(|s| format!("under 16 px: {s}")));
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn a_visit_and_a_round_with_gloves_on_and_the_entries_carried_home() {
    let site = Site::demo().await;
    let browser = &site.browser;
    browser.resize(390, 844).await.unwrap();
    site.open("/field/").await;
    type_into(&site, "initials", "NA").await;
    let mut found = barriers(&site).await;
    press(&site, "Take along: Cut coupe").await;
    browser.wait_text("h1", "Cut coupe").await.unwrap();
    found.extend(barriers(&site).await);
    browser.cut_off(true).await.unwrap();

    press(&site, "Visit").await;
    browser.wait("#k-shown").await.unwrap();
    found.extend(barriers(&site).await);
    type_into(&site, "k-shown", "25:00").await;
    type_into(&site, "k-truth", "06:00:00").await;
    press(&site, "Keep the check").await;
    browser.wait_text(".told", "Write both times like 14:05:30").await.unwrap();
    type_into(&site, "k-shown", "09:00:00").await;
    press(&site, "Keep the check").await;
    browser.wait_text(".told", "180 minutes off: is one of the times in another zone?").await.unwrap();
    type_into(&site, "k-shown", "06:00:40").await;
    keep(&site, "Keep the check").await;
    press(&site, "Done").await;
    browser.wait_text(".does", "last record").await.unwrap();

    let station = browser.address().await.unwrap();
    let station = station.split("/visit").next().unwrap().to_owned();
    browser.open(&station).await.unwrap();
    browser.wait_text("main", "Go on: Visit").await.unwrap();
    press(&site, "Round with the handheld").await;
    browser.wait("#spot").await.unwrap();
    type_into(&site, "spot", "90").await;
    browser.wait_text(".told", "Look at the plug").await.unwrap();
    found.extend(barriers(&site).await);
    type_into(&site, "spot", "330").await;
    browser.wait_text(".told", "Within the last year it usually lay between").await.unwrap();
    type_into(&site, "spot", "1400").await;
    browser.wait_text(".told", "stable and plausible").await.unwrap();
    keep(&site, "Keep the value").await;
    press(&site, "Done").await;
    browser.wait_text(".does", "BD-0418").await.unwrap();
    type_into(&site, "spot", "1410").await;
    browser.wait_text(".told", "Beside it today: BD-0417 1400.0 mV").await.unwrap();
    press(&site, "Leave out").await;
    press(&site, "Leave it out").await;
    assert!(browser.text(".does").await.unwrap().contains("BD-0418"), "no leaving out without a reason");
    assert_eq!(found, Vec::<String>::new());

    // The phone never meets the line: its entries go home as a file, and are typed in by nobody.
    let script = "return (async () => { const keep = await import('/assets/rooms/field/app/keep.js'); return JSON.stringify({ format: 'ebrel-field-entries', version: 1, entries: (await keep.entries()).map(keep.plain) }); })()";
    let carried = browser.script(script).await.unwrap().as_str().unwrap().to_owned();
    browser.cut_off(false).await.unwrap();
    let file = site.file("carried.json", &carried);
    browser.resize(1280, 800).await.unwrap();
    site.open("/stations/1/field/carried").await;
    browser.choose_file("#file", &file).await.unwrap();
    browser.click("form[action$='/carried'] button").await.unwrap();
    let said = browser.wait_text(".answer", "entries are kept here").await.unwrap();
    let counts: Vec<usize> = said.split_whitespace().filter_map(|w| w.parse().ok()).collect();
    assert!(counts.len() == 2 && counts[0] == counts[1] && counts[0] >= 5, "{said}");
    site.open("/studies/1/field").await;
    assert!(browser.text("main").await.unwrap().contains("Round goes on since"));
    site.end().await;
}
