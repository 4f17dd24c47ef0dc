//! Every page of the demo that a link leads to, at a desk's width and a phone's: nothing wider than the window but tables in
//! their own frame, and no barrier that axe-core knows.

use super::site::Site;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

/// The checker, as published; no part of the application.
const AXE: &str = include_str!("../vendor/axe-core/axe.min.js");
/// Pages of one pattern (the same address with other numbers) that are visited.
const OF_A_KIND: usize = 2;

/// The address with its numbers and serials taken out: pages that are made by the same template.
fn pattern(path: &str) -> String {
    let plain = path.split(['?', '#']).next().unwrap();
    let parts = plain.split('/').map(|part| if part.bytes().any(|b| b.is_ascii_digit()) { "N" } else { part });
    parts.collect::<Vec<_>>().join("/")
}

/// Addresses of all pages that links of the application lead to, from the study on.
async fn pages(site: &Site) -> Vec<String> {
    let mut kinds: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut found = Vec::new();
    let mut queue = VecDeque::from([
        "/stations/1/import".to_owned(),
        "/recipes".to_owned(),
        "/studies/1".to_owned(),
        "/account".to_owned(),
        "/studies/new".to_owned(),
    ]);
    while let Some(path) = queue.pop_front() {
        let kind = kinds.entry(pattern(&path)).or_default();
        if kind.contains(&path) || kind.len() >= OF_A_KIND {
            continue;
        }
        kind.insert(path.clone());
        site.open(&path).await;
        let links =
            "return [...document.links].filter(a => a.origin === location.origin && !a.hasAttribute('download'))
            .map(a => a.pathname + a.search)";
        let links = site.browser.script(links).await.unwrap();
        queue.extend(
            links.as_array().unwrap().iter().filter_map(Value::as_str).filter(|l| is_page(l)).map(str::to_owned),
        );
        found.push(path);
    }
    found
}

fn is_page(path: &str) -> bool {
    let file = path.split('?').next().unwrap().rsplit('/').next().unwrap();
    !path.starts_with("/assets/")
        && ![".zip", ".csv", ".json", ".geojson", ".ics"].iter().any(|end| file.ends_with(end))
}

/// What sticks out to the right, if the page is wider than its window.
const WIDE: &str = "const wide = document.scrollingElement, most = wide.clientWidth + 1;
    if (wide.scrollWidth <= most) return '';
    const out = [...document.querySelectorAll('body *')].filter(e => e.getBoundingClientRect().right > most && !e.closest('.frame, .table-responsive, svg *'));
    return wide.scrollWidth + ' px: ' + out.slice(0, 4).map(e => e.tagName.toLowerCase() + '.' + (e.getAttribute('class') ?? '') + ' ' + (e.textContent ?? '').trim().slice(0, 30)).join(' | ')";

async fn look_at_all(width: u32, height: u32) {
    let site = Site::demo().await;
    super::files::leave_imports(&site).await;
    super::review::begin_round(&site).await;
    let pages = pages(&site).await;
    assert!(
        pages.iter().any(|p| p.starts_with("/imports/")) && pages.iter().any(|p| p.starts_with("/recipes/one")),
        "{pages:?}"
    );
    assert!(pages.len() > 30, "{pages:?}");
    site.browser.resize(width, height).await.unwrap();
    let mut found = Vec::new();
    for path in &pages {
        site.open(path).await;
        // Scripts lay out after the page has come, and a busy machine lets one wait: what is too wide stays so.
        let mut wide = String::new();
        for _ in 0..15 {
            wide = site.browser.script(WIDE).await.unwrap().as_str().unwrap_or_default().to_owned();
            if wide.is_empty() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        if !wide.is_empty() {
            found.push(format!("{path} is wider than {width}: {wide}"));
        }
        site.browser.script(AXE).await.unwrap();
        site.browser.script("window.axeFound = null; axe.run(document, {resultTypes: ['violations']}).then(r => { window.axeFound = r.violations.map(v => v.id + ': ' + v.nodes.slice(0, 3).map(n => n.html.slice(0, 140)).join(' | ')); })").await.unwrap();
        let violations = site.browser.wait_script("return window.axeFound", |v| v.is_array()).await.unwrap();
        found.extend(
            violations.as_array().unwrap().iter().map(|v| format!("{path} at {width}: {}", v.as_str().unwrap())),
        );
    }
    site.end().await;
    assert!(found.is_empty(), "{} findings on {} pages:\n{}", found.len(), pages.len(), found.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn at_a_desk() {
    look_at_all(1280, 900).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone() {
    look_at_all(360, 780).await;
}
