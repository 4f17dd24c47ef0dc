//! Accounts, tokens, headers, and what strangers try.

use super::client::{OWNER, Visitor};

#[tokio::test(flavor = "multi_thread")]
async fn a_new_server_leads_to_the_owner_and_then_to_the_first_study() {
    let v = Visitor::stranger().await;
    assert_eq!(v.get("/").await.headers()["location"], "/first");
    let short = v.post("/first", &[("name", "N. Arvel"), ("password", "short")]).await.text().await.unwrap();
    assert!(short.contains("Take at least 10 characters") && short.contains("value=\"N. Arvel\""));
    let made = v.post("/first", &[("name", OWNER.0), ("password", OWNER.1)]).await;
    assert_eq!(made.headers()["location"], "/");
    assert_eq!(v.get("/").await.headers()["location"], "/studies/new");
    let second = v.get("/first").await;
    assert_eq!(second.headers()["location"], "/sign-in", "a second owner cannot be made");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_in_without_the_password_and_guessing_is_slow() {
    let v = Visitor::owner().await;
    v.post("/sign-out", &[]).await;
    assert_eq!(v.get("/stations/1").await.headers()["location"], "/sign-in");
    assert_eq!(v.get("/stations/1/export/package.zip").await.status(), 303);
    let mut last = 0;
    for _ in 0..8 {
        let answer = v.post("/sign-in", &[("name", OWNER.0), ("password", "wrong wrong wrong")]).await;
        last = answer.status().as_u16();
        if last == 200 {
            assert!(answer.text().await.unwrap().contains("do not belong together"));
        }
    }
    assert_eq!(last, 429);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_form_without_its_token_or_from_another_site_is_refused() {
    let v = Visitor::owner().await;
    let bare = v.client.post(format!("{}/studies/new", v.base)).form(&[("name", "X")]).send().await.unwrap();
    assert_eq!(bare.status(), 403);
    let token = v.token().await;
    for (header, value) in [("origin", "http://elsewhere.example"), ("sec-fetch-site", "cross-site")] {
        let form = [("name", "X"), ("token", token.as_str())];
        let request = v.client.post(format!("{}/studies/new", v.base)).header(header, value).form(&form);
        assert_eq!(request.send().await.unwrap().status(), 403, "{header}");
    }
    assert!(!v.page("/studies/1").await.contains(">X<"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_forbids_what_is_not_its_own() {
    let v = Visitor::owner().await;
    for path in ["/studies/1", "/nowhere", "/assets/shell/shell.css"] {
        let answer = v.get(path).await;
        let policy = answer.headers()["content-security-policy"].to_str().unwrap().to_owned();
        assert!(policy.contains("script-src 'self'") && !policy.contains("unsafe"), "{path}: {policy}");
    }
    for path in ["/studies/1", "/stations/1", "/stations/1/import", "/studies/1/bench", "/stations/1/export"] {
        let page = v.page(path).await;
        assert!(!page.contains("<style") && !page.contains(" style=") && !page.contains(" onclick="), "{path}");
        let inline = page.split("<script").skip(1).any(|s| !s.starts_with(" type=\"module\" src=\"/assets/"));
        assert!(!inline, "{path} has an inline script");
    }
    let cookie = v.get("/sign-in").await.headers().get("set-cookie").map(|c| c.to_str().unwrap().to_owned());
    let cookie = cookie.unwrap_or_default();
    assert!(cookie.is_empty() || (cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax")), "{cookie}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_answers_to_this_machine_alone() {
    let v = Visitor::of_demo().await;
    let foreign = v.client.get(format!("{}/studies/1", v.base)).header("host", "rebound.example").send().await.unwrap();
    assert_eq!(foreign.status(), 403);
    assert!(v.page("/studies/1").await.contains("Ostrelle Wood"));
}

#[tokio::test(flavor = "multi_thread")]
async fn long_and_hostile_names_are_kept_in_check() {
    let v = Visitor::owner().await;
    let long = "x".repeat(300);
    let page =
        v.post("/studies/new", &[("name", &long), ("question", "why?"), ("offset", "60")]).await.text().await.unwrap();
    assert!(page.contains("it has 300") && page.contains(&long) && page.contains(">why?<"), "the form stands as typed");
    v.post("/studies/new", &[("name", "<script>alert(1)</script>"), ("question", ""), ("offset", "")]).await;
    let page = v.page("/studies/2").await;
    assert!(!page.contains("<script>alert") && page.contains("alert(1)"));
    let twice = v.post("/studies/1/stations/new", &[("name", "Tub 1"), ("code", "tub1")]).await.text().await.unwrap();
    assert!(twice.contains("choose another"));
}
