//! What every page owes its reader: found by walking all links of the demo from its first page.

use super::client::Visitor;
use std::collections::{BTreeMap, BTreeSet};

/// All values of an attribute, in order.
fn attributes<'p>(page: &'p str, name: &str) -> Vec<&'p str> {
    let start = format!(" {name}=\"");
    page.split(start.as_str()).skip(1).filter_map(|rest| rest.split('"').next()).collect()
}

/// Opening tags of a name, each with its attributes.
fn tags<'p>(page: &'p str, name: &str) -> Vec<&'p str> {
    let start = format!("<{name}");
    let inside = |rest: &'p str| rest.starts_with([' ', '>', '\n']).then(|| rest.split('>').next().unwrap_or(""));
    page.split(start.as_str()).skip(1).filter_map(inside).collect()
}

/// Follows every link from the first page; pages by address, and links that lead nowhere with where they stand.
async fn walk(v: &Visitor) -> (BTreeMap<String, String>, Vec<(String, String)>) {
    let mut waiting = vec![("/".to_owned(), "the start".to_owned())];
    let (mut seen, mut pages, mut broken) = (BTreeSet::new(), BTreeMap::new(), Vec::new());
    while let Some((address, from)) = waiting.pop() {
        let address = address.split('#').next().unwrap_or("").replace("&amp;", "&").replace("&#38;", "&");
        if !address.starts_with('/') || address.starts_with("/assets/") || !seen.insert(address.clone()) {
            continue;
        }
        let answer = v.get(&address).await;
        match answer.status().as_u16() {
            200 => {}
            303 => {
                let next = answer.headers()["location"].to_str().unwrap().to_owned();
                waiting.push((next, address));
                continue;
            }
            status => {
                broken.push((format!("{address}: {status}"), from));
                continue;
            }
        }
        let html = answer.headers()["content-type"].to_str().unwrap().starts_with("text/html");
        let text = if html { answer.text().await.unwrap() } else { continue };
        waiting.extend(attributes(&text, "href").into_iter().map(|h| (h.to_owned(), address.clone())));
        pages.insert(address, text);
    }
    (pages, broken)
}

#[tokio::test(flavor = "multi_thread")]
async fn no_link_of_the_demo_leads_nowhere_and_every_page_is_whole() {
    let v = Visitor::of_demo().await;
    v.post("/studies/1/tension", &[]).await;
    // What the demo's making left due would run in the midst of a slow walk, and number the findings anew.
    for station in 1..=5 {
        assert_eq!(v.post(&format!("/stations/{station}/review/run"), &[]).await.status(), 303);
    }
    let (pages, broken) = walk(&v).await;
    assert_eq!(broken, []);
    assert!(pages.len() > 60, "only {} pages were reached", pages.len());
    for room in [
        "/studies/1",
        "/studies/1/design",
        "/stations/4/plan/hole",
        "/bench/1/certificate",
        "/bench/batch/2",
        "/probes/BD-0417",
        "/catalogue",
        "/stations/1/review",
        "/stations/1/sun-test",
    ] {
        assert!(pages.contains_key(room), "{room} is linked from nowhere");
    }
    for (address, page) in &pages {
        whole(address, page);
        labelled(address, page);
        quiet(address, page);
    }
}

/// One heading of the first rank, a title, a language, the token of its session, and no id twice.
fn whole(address: &str, page: &str) {
    assert!(page.matches("<h1").count() <= 1, "{address} has several first headings");
    assert!(page.contains("<html lang=\"en\">") && page.contains(" · Ebrel</title>"), "{address}");
    let ids = attributes(page, "id");
    let unique: BTreeSet<&str> = ids.iter().copied().collect();
    let twice: Vec<&&str> = unique.iter().filter(|id| ids.iter().filter(|i| i == id).count() > 1).collect();
    assert!(twice.is_empty(), "{address}: {twice:?} stand there twice");
    for form in page.split("<form").skip(1) {
        let form = form.split("</form>").next().unwrap_or("");
        let posts = form.split('>').next().unwrap_or("").contains("method=\"post\"");
        assert!(!posts || form.contains("name=\"token\""), "{address}: a form without its token");
    }
    for word in ["NaN", "Infinity", "{{", "{%", "Some(", "None)", "−0.0 "] {
        let shown = page.split("<textarea").next().unwrap_or(page);
        assert!(!shown.contains(word), "{address} shows {word}");
    }
}

/// Every field that one sees has a name for those who do not see it.
fn labelled(address: &str, page: &str) {
    let labels: BTreeSet<&str> = attributes(page, "for").into_iter().collect();
    for kind in ["input", "select", "textarea"] {
        for tag in tags(page, kind) {
            let tag = format!("{tag} ");
            let own = |name: &str| attributes(&tag, name).first().copied();
            let hidden = own("type") == Some("hidden") || tag.contains(" hidden");
            let named = own("aria-label").is_some() || own("id").is_some_and(|id| labels.contains(id));
            // A box that stands within its label is named by it.
            let within = page
                .split(tag.trim_end())
                .next()
                .is_some_and(|before| before.rfind("<label") > before.rfind("</label"));
            assert!(hidden || named || within, "{address}: <{kind}{tag}> has no label");
        }
    }
    for svg in tags(page, "svg") {
        assert!(
            svg.contains("aria-label") || svg.contains("aria-hidden") || svg.contains("xmlns"),
            "{address}: a drawing without words: {svg}"
        );
    }
    for image in tags(page, "img") {
        assert!(image.contains("alt="), "{address}: a picture without words");
    }
}

/// Nothing inline that the content policy would stop, and nothing from elsewhere.
fn quiet(address: &str, page: &str) {
    for tag in tags(page, "script") {
        assert!(tag.contains("src=\"/assets/") || tag.contains("application/json"), "{address}: an inline script");
    }
    assert!(tags(page, "style").is_empty(), "{address}: an inline style");
    for tag in page.split('<').skip(1).filter_map(|t| t.split('>').next()) {
        for handler in [" onclick=", " onchange=", " onsubmit=", " oninput=", " style=\""] {
            assert!(!tag.contains(handler), "{address}: <{tag}>");
        }
        for outside in ["src=\"http", "href=\"http"] {
            assert!(!tag.contains(outside), "{address}: <{tag}>");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_style_and_script_that_a_page_asks_for_is_shipped() {
    let v = Visitor::of_demo().await;
    let mut assets = BTreeSet::new();
    for path in [
        "/studies/1",
        "/stations/1",
        "/stations/1/review",
        "/stations/1/plan/depths",
        "/stations/1/plan/sheet",
        "/bench/4",
        "/bench/temperature/1",
        "/stations/1/import",
    ] {
        let page = v.page(path).await;
        let all = attributes(&page, "src").into_iter().chain(attributes(&page, "href"));
        assets.extend(all.filter(|a| a.starts_with("/assets/")).map(str::to_owned));
    }
    assert!(assets.len() > 12, "{assets:?}");
    for asset in &assets {
        let answer = v.get(asset).await;
        assert_eq!(answer.status(), 200, "{asset}");
        let text = answer.text().await.unwrap();
        // Modules and fonts that an asset asks for in turn.
        let mut deeper: Vec<String> = text
            .split("from \"./")
            .skip(1)
            .filter_map(|r| r.split('"').next())
            .map(|f| format!("{}/{f}", asset.rsplit_once('/').map_or("", |a| a.0)))
            .collect();
        deeper.extend(text.split("url(/").skip(1).filter_map(|r| r.split(')').next()).map(|f| format!("/{f}")));
        for next in deeper {
            assert_eq!(v.get(&next).await.status(), 200, "{asset} asks for {next}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_study_has_whole_pages_too() {
    let v = Visitor::owner().await;
    for kind in ["batch", "tension", "temperature"] {
        v.post(&format!("/studies/1/{kind}"), &[("serial", "")]).await;
    }
    v.post("/studies/1/bench", &[("probe", "")]).await;
    let (pages, broken) = walk(&v).await;
    // The calendar waits for its day, and says so.
    let unexpected: Vec<_> = broken.iter().filter(|b| !b.0.ends_with("calendar.ics: 422")).collect();
    assert!(unexpected.is_empty(), "{unexpected:?}");
    assert!(pages.len() > 25, "only {} pages were reached", pages.len());
    for (address, page) in &pages {
        whole(address, page);
        labelled(address, page);
        quiet(address, page);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn names_with_html_in_them_are_text_on_every_page() {
    let v = Visitor::owner().await;
    let evil = "<img src=x onerror=alert(1)>";
    v.post("/studies/1/design", &[("question", evil), ("do", "add")]).await;
    v.post("/studies/1/design", &[("treatments.0.name", evil)]).await;
    v.post("/stations/1/plan/site", &[("purpose", evil), ("treatment", evil), ("do", "add.biases")]).await;
    v.post(
        "/stations/1/plan/site",
        &[("biases.0.what", evil), ("biases.0.mitigation", evil), ("do", "add.candidates")],
    )
    .await;
    v.post("/stations/1/plan/site", &[("candidates.0.name", evil), ("chosen", "0")]).await;
    v.post("/stations/1/plan/depths", &[("do", "take.rooting")]).await;
    v.post(
        "/stations/1/plan/depths",
        &[("probes.0.serial", evil), ("probes.0.purpose", evil), ("horizons.0.name", evil)],
    )
    .await;
    v.post("/stations/1/plan/kit", &[("currency", evil), ("install", evil)]).await;
    v.post("/studies/1/batch", &[]).await;
    v.post("/bench/batch/1", &[("medium", evil), ("list", evil), ("title", evil)]).await;
    let (pages, _) = walk(&v).await;
    let mut shown = 0;
    for (address, page) in &pages {
        assert!(!page.contains("<img src=x"), "{address}");
        shown += usize::from(page.contains("&#60;img src=x"));
    }
    assert!(shown > 10, "the name is shown, as text, on {shown} pages");
}
