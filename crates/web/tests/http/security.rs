//! Accounts, tokens, headers, and what strangers try.

use super::client::{OWNER, Visitor};

#[tokio::test(flavor = "multi_thread")]
async fn a_new_server_leads_to_the_owner_and_then_to_the_first_study() {
    let v = Visitor::stranger().await;
    assert_eq!(v.get("/").await.headers()["location"], "/first");
    let short = [("name", "N. Arvel"), ("password", "short"), ("code", v.code.as_str())];
    let short = v.post("/first", &short).await.text().await.unwrap();
    assert!(short.contains("Take at least 10 characters") && short.contains("value=\"N. Arvel\""));
    let without = v.post("/first", &[("name", OWNER.0), ("password", OWNER.1), ("code", "abcd-abcd-abcd")]).await;
    let without = without.text().await.unwrap();
    assert!(without.contains("not the code that stands at the terminal") && without.contains("abcd-abcd-abcd"));
    let made = v.make_owner().await;
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
    assert!(foreign.headers().contains_key("content-security-policy"), "refusals carry the headers too");
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

#[tokio::test(flavor = "multi_thread")]
async fn a_new_server_answers_to_no_foreign_name_either() {
    let v = Visitor::stranger().await;
    let foreign = v.client.get(format!("{}/first", v.base)).header("host", "rebound.example").send().await.unwrap();
    assert_eq!(foreign.status(), 403);
    assert!(foreign.text().await.unwrap().contains("does not answer to this name"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cookie_kept_from_before_signing_out_is_nobodys() {
    let v = Visitor::owner().await;
    let answer = v.post("/sign-in", &[("name", OWNER.0), ("password", OWNER.1)]).await;
    let kept = answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    assert!(kept.starts_with("ebrel-"), "each data directory has a cookie of its own name: {kept}");
    let with_it = |path: &str| {
        reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .build()
            .unwrap()
            .get(format!("{}{path}", v.base))
            .header("cookie", kept.clone())
    };
    let page = with_it("/studies/1").send().await.unwrap();
    assert_eq!(page.status(), 200);
    assert_eq!(page.headers()["cache-control"], "no-store");
    v.post("/sign-out", &[]).await;
    assert_eq!(with_it("/studies/1").send().await.unwrap().headers()["location"], "/sign-in");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_password_ends_the_other_sessions_and_forms_from_before_are_of_no_use() {
    let v = Visitor::owner().await;
    let other = v.another();
    other.post("/sign-in", &[("name", OWNER.0), ("password", OWNER.1)]).await;
    assert_eq!(other.get("/studies/1").await.status(), 200);
    let before = v.token().await;
    let change = |old: &'static str, new: &'static str| [("old", old), ("new", new)];
    let wrong = v.post("/account", &change("not mine at all", "stool shoot standard")).await.text().await.unwrap();
    assert!(wrong.contains("This is not your password"));
    let common = v.post("/account", &change(OWNER.1, "password123")).await.text().await.unwrap();
    assert!(common.contains("tried first"), "{common}");
    assert_eq!(v.post("/account", &change(OWNER.1, "stool shoot standard")).await.status(), 303);
    assert_eq!(v.get("/studies/1").await.status(), 200, "the session that changed it goes on");
    assert_eq!(other.get("/studies/1").await.headers()["location"], "/sign-in");
    let stale = v.client.post(format!("{}/studies/new", v.base)).form(&[("name", "X"), ("token", before.as_str())]);
    assert_eq!(stale.send().await.unwrap().status(), 403, "the token was renewed");
    v.post("/sign-out-everywhere", &[]).await;
    assert_eq!(v.get("/studies/1").await.headers()["location"], "/sign-in");
    assert_eq!(other.post("/sign-in", &[("name", OWNER.0), ("password", "stool shoot standard")]).await.status(), 303);
}

#[tokio::test(flavor = "multi_thread")]
async fn before_signing_in_only_small_forms_are_read() {
    let v = Visitor::owner().await;
    let stranger = v.another();
    let large = "x".repeat(40_000);
    for path in ["/sign-in", "/first", "/stations/1/import"] {
        let answer = stranger.client.post(format!("{}{path}", v.base)).body(large.clone()).send().await.unwrap();
        assert_eq!(answer.status(), 413, "{path}");
        assert!(answer.headers().contains_key("content-security-policy"));
    }
    let answer = stranger.client.post(format!("{}/studies/new", v.base)).body("name=X").send().await.unwrap();
    assert_eq!(answer.status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bad_number_or_body_gets_a_page_and_not_a_librarys_words() {
    let v = Visitor::owner().await;
    for path in ["/stations/x", "/stations/99999999999999999999", "/bench/-", "/imports/%00"] {
        let answer = v.get(path).await;
        assert_eq!(answer.status(), 404, "{path}");
        let page = answer.text().await.unwrap();
        assert!(page.contains("<main") && page.contains("There is nothing at this address"), "{path}: {page}");
    }
    v.post("/studies/1/bench", &[("probe", "")]).await;
    let token = v.token().await;
    let send = |body: &'static str| {
        let request =
            v.client.post(format!("{}/stations/1/review/verdict", v.base)).header("x-ebrel-token", token.clone());
        request.header("content-type", "application/json").body(body).send()
    };
    let page = send("{\"title\": ").await.unwrap();
    assert_eq!(page.status(), 422);
    assert!(page.text().await.unwrap().contains("could not be read"));
}
