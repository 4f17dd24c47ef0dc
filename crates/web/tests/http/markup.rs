//! Every page as a parser sees it.

use super::client::Visitor;
use scraper::{Html, Selector};
use std::collections::{BTreeMap, BTreeSet, HashSet, VecDeque};
use std::path::{Path, PathBuf};

fn all<'h>(page: &'h Html, css: &str) -> Vec<scraper::ElementRef<'h>> {
    page.select(&Selector::parse(css).unwrap()).collect()
}

/// What is wrong with a page's markup.
fn faults(text: &str) -> Vec<String> {
    let page = Html::parse_document(text);
    let mut found: Vec<String> = page.errors.iter().map(ToString::to_string).collect();
    let mut ids = HashSet::new();
    for element in all(&page, "[id]") {
        let id = element.attr("id").unwrap();
        if id.is_empty() || id.contains(char::is_whitespace) || !ids.insert(id) {
            found.push(format!("id “{id}” has a blank in it or stands twice"));
        }
    }
    for element in all(&page, "[aria-describedby]") {
        let missing = element.attr("aria-describedby").unwrap().split_whitespace().find(|id| !ids.contains(id));
        found.extend(missing.map(|id| format!("aria-describedby {id} leads nowhere")));
    }
    found.extend(
        all(&page, "label[for]")
            .iter()
            .filter(|l| !ids.contains(l.attr("for").unwrap()))
            .map(|l| format!("label for {} leads nowhere", l.attr("for").unwrap())),
    );
    found.extend(all(&page, "th:not([scope])").iter().map(|th| format!("a th without a scope: {}", th.html())));
    if all(&page, "h1").len() != 1 {
        found.push(format!("{} h1", all(&page, "h1").len()));
    }
    let words = page.root_element().text().collect::<String>();
    found.extend(
        ["NaN", "inf ", "Infinity", "undefined"].iter().filter(|w| words.contains(**w)).map(|w| format!("says {w}")),
    );
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_of_the_demo_is_sound_markup() {
    let v = Visitor::of_demo().await;
    // Imports that wait, are stored and are set aside, and a recipe, so that their pages are among those that are walked.
    let text =
        "time,m05 [mV],t05 [degC],by\n2026-03-01 00:00,880.1,ERR,A\n2026-03-01 00:15,880.4,4.3,B\n2026-03-01 00:30,8";
    for (at, name) in ["waits.csv", "θ “quoted” <b>.csv", "aside.csv"].into_iter().enumerate() {
        let plan = v.upload(name, text.as_bytes()).await.headers()["location"].to_str().unwrap().to_owned();
        if at > 0 {
            v.send_plan(&plan, &[("do", "store"), ("save_as", name), ("node", name)]).await;
        }
        if at > 1 {
            v.post(&format!("{plan}/withdraw"), &[("why", "a “wrong” <clock>")]).await;
        }
    }
    let mut kinds: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut queue: VecDeque<String> =
        ["/studies/1", "/account", "/studies/new", "/stations/1/import", "/recipes"].map(str::to_owned).into();
    let (mut count, mut found) = (0, Vec::new());
    while let Some(path) = queue.pop_front() {
        let kind: Vec<&str> =
            path.split('/').map(|p| if p.bytes().any(|b| b.is_ascii_digit()) { "N" } else { p }).collect();
        let kind = kinds.entry(kind.join("/")).or_default();
        if kind.len() >= 3 || !kind.insert(path.clone()) {
            continue;
        }
        let answer = v.get(&path).await;
        let is_page =
            answer.headers().get("content-type").is_some_and(|t| t.to_str().unwrap().starts_with("text/html"));
        if answer.status() != 200 || !is_page {
            continue;
        }
        let text = answer.text().await.unwrap();
        count += 1;
        found.extend(faults(&text).into_iter().take(6).map(|f| format!("{path}: {f}")));
        let page = Html::parse_document(&text);
        let links: Vec<String> = all(&page, "a[href^='/']")
            .iter()
            .map(|a| a.attr("href").unwrap().split('#').next().unwrap().to_owned())
            .collect();
        queue.extend(links);
    }
    assert!(count > 40, "{count} pages");
    assert!(found.is_empty(), "{} faults on {count} pages:\n{}", found.len(), found.join("\n"));
}

/// Every template of the application.
fn templates(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.extension() {
            _ if path.is_dir() => templates(&path, found),
            Some(end) if end == "html" => found.push(path),
            _ => {}
        }
    }
}

#[test]
fn no_line_of_a_template_is_longer_than_160_characters() {
    let mut found = Vec::new();
    templates(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"), &mut found);
    assert!(found.len() > 60, "{} templates", found.len());
    let mut long = Vec::new();
    for path in found {
        let text = std::fs::read_to_string(&path).unwrap();
        let lines = (1..).zip(text.lines()).filter(|(_, line)| line.chars().count() > 160);
        long.extend(lines.map(|(n, line)| format!("{}:{n} has {}", path.display(), line.chars().count())));
    }
    assert!(long.is_empty(), "{}", long.join("\n"));
}

#[test]
fn faults_are_seen() {
    let bad = "<!doctype html><html><body><h1>A</h1><table><tr><th>x</th></tr></table><p id='a b'>NaN</p><label for='no'></label></body></html>";
    let found = faults(bad).join(" ");
    assert!(
        found.contains("scope") && found.contains("blank") && found.contains("NaN") && found.contains("leads nowhere"),
        "{found}"
    );
    assert!(!faults("<p>no doctype").is_empty());
}
