//! Who may do what: every route of the table, asked by nobody and by each role.

use super::client::Visitor;
use actix_web::App;
use actix_web::http::Method;
use ebrel::server::{Entry, Least, Scope};
use ebrel_core::roles::Role;

const PASSWORD: &str = "a soil that is wet";

/// Lets somebody into the first study by a link.
pub async fn member(owner: &Visitor, name: &str, role: Role) -> Visitor {
    let page = owner.post("/studies/1/people", &[("do", "invite"), ("role", role.code())]).await.text().await.unwrap();
    let link = page.split("id=\"link\">").nth(1).unwrap().split('<').next().unwrap().to_owned();
    let path = link.strip_prefix(&owner.base).unwrap().to_owned();
    let v = owner.another();
    assert!(v.page(&path).await.contains(role.title()));
    let answer = v.post(&path, &[("name", name), ("password", PASSWORD), ("do", "new")]).await;
    assert_eq!(answer.status(), 303, "{}", answer.text().await.unwrap());
    let again = owner.another().get(&path).await;
    assert_eq!(again.status(), 422, "a link lets one person in");
    v
}

fn address(entry: &Entry) -> String {
    let parts = [
        ("{id}", "1"),
        ("{step}", "depths"),
        ("{version}", "1"),
        ("{placement}", "1"),
        ("{round}", "1"),
        ("{mark}", "1"),
        ("{reference}", "1"),
        ("{secret}", "none"),
        ("{serial}", "BD-1"),
        ("{path:.*}", "shell/shell.css"),
        ("{sha256}", "00"),
        ("{landmark}", "1"),
        ("{key}", "1"),
        ("{snapshot}", "1"),
        ("{log}", "none"),
        ("{node}", "1"),
        ("{stream}", "1"),
        ("{message}", "1"),
        ("{package}", "1"),
        ("{cause}", "999999"),
        ("{repair}", "999999"),
        ("{flag}", "999999"),
        ("{table}", "999999"),
    ];
    let address = parts.iter().fold(entry.pattern.clone(), |text, (name, value)| text.replace(name, value));
    assert!(!address.contains('{'), "{address}");
    address
}

async fn ask(v: &Visitor, entry: &Entry) -> (u16, String) {
    let url = format!("{}{}", v.base, address(entry));
    let request = if entry.method == Method::GET {
        v.client.get(url)
    } else {
        let token = v.token().await;
        v.client.post(url).header("x-ebrel-token", &token).form(&[("token", &token)])
    };
    let answer = request.send().await.unwrap();
    let status = answer.status().as_u16();
    let leads = answer.headers().get("location").map(|l| l.to_str().unwrap().to_owned()).unwrap_or_default();
    // A line that stays open has no end to be read to.
    let stays = answer.headers().get("content-type").is_some_and(|t| t == "text/event-stream");
    let says = if leads.is_empty() && !stays { answer.text().await.unwrap_or_default() } else { leads };
    (status, says)
}

/// A member of the first study with this role asks.
fn allowed(entry: &Entry, role: Role) -> bool {
    match entry.least {
        Least::Anyone | Least::SignedIn => true,
        Least::Member(least) | Least::Somewhere(least) => role >= least,
        Least::Founder => role == Role::Owner,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_asks_for_its_role() {
    let owner = Visitor::owner().await;
    owner.post("/studies/1/bench", &[("probe", "")]).await;
    for sheet in ["batch", "acceptance"] {
        assert_eq!(owner.post(&format!("/studies/1/{sheet}"), &[]).await.status(), 303, "{sheet}");
    }
    let package = super::packages::package("reed", 1);
    assert_eq!(owner.upload_to("/studies/1/packages/new", "reed.zip", &package).await.status(), 303);
    assert_eq!(owner.upload("a.csv", b"time,m05\n2026-03-01 00:00,900\n2026-03-01 00:15,901\n").await.status(), 303);
    let mut table = Vec::new();
    let _ = App::new().configure(|config| table = ebrel::server::table(config));
    assert!(table.len() > 60, "{}", table.len());
    assert!(table.iter().all(|e| e.method == Method::GET || e.least != Least::Anyone || !e.pattern.contains("{id}")));

    // Machines have keys: a test of theirs asks with all kinds of them.
    table.retain(|e| e.scope == Scope::Pages);
    let nobody = owner.another();
    for entry in table.iter().filter(|e| e.least != Least::Anyone) {
        let (status, text) = ask(&nobody, entry).await;
        match entry.method {
            Method::GET => assert_eq!((status, text.as_str()), (303, "/sign-in"), "{entry:?}"),
            _ => assert_eq!(status, 401, "{entry:?}"),
        }
    }
    let mut members = Vec::new();
    for role in [Role::Guest, Role::Field, Role::Researcher] {
        members.push((role, member(&owner, role.title(), role).await));
    }
    members.push((Role::Owner, owner.another_tab()));
    // What ends a session or would change who may what is tried by nobody alone.
    let ends = ["/sign-out", "/sign-out-everywhere"];
    for entry in table.iter().filter(|e| !ends.contains(&e.pattern.as_str())) {
        for (role, v) in &members {
            let (status, text) = ask(v, entry).await;
            let refused = status == 403 && text.contains("Ask the study");
            assert_eq!(refused, !allowed(entry, *role), "{role:?} {status} {entry:?}");
            assert!(status != 401 && status != 500 && (refused || status != 403), "{role:?} {status} {entry:?}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_study_that_is_none_of_ones_business_is_not_there() {
    let owner = Visitor::owner().await;
    owner.post("/studies/new", &[("name", "Reed bed"), ("question", ""), ("offset", "0")]).await;
    let guest = member(&owner, "T. Quill", Role::Guest).await;
    assert!(guest.page("/studies/1").await.contains("You are here as a guest"));
    assert_eq!(guest.get("/studies/2").await.status(), 404);
    assert_eq!(guest.get("/studies/99").await.status(), 404);
    assert_eq!(guest.get("/").await.headers()["location"], "/studies/1", "one's own study alone");
    assert!(!guest.page("/find?q=reed").await.contains("Reed bed"));

    // The owner makes the guest a researcher, and takes them out: both hold at the next click.
    let account = "2";
    owner.post("/studies/1/people", &[("do", "role"), ("account", account), ("role", "researcher")]).await;
    assert_eq!(guest.get("/studies/1/stations/new").await.status(), 200);
    owner.post("/studies/1/people", &[("do", "remove"), ("account", account)]).await;
    assert_eq!(guest.get("/studies/1").await.status(), 404);
    assert_eq!(guest.get("/").await.status(), 403);
    let alone = owner.post("/studies/1/people", &[("do", "remove"), ("account", "1")]).await;
    assert!(alone.text().await.unwrap().contains("needs an owner"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_takes_an_account_that_is_there_and_nothing_wrong() {
    let owner = Visitor::owner().await;
    let quill = member(&owner, "T. Quill", Role::Guest).await;
    let page = owner.post("/studies/1/people", &[("do", "invite"), ("role", "field")]).await.text().await.unwrap();
    assert!(page.contains("Links that still hold"));
    let path = page.split("id=\"link\">").nth(1).unwrap().split('<').next().unwrap().replace(&owner.base, "");
    let other = owner.another();
    for (name, password, how, says) in [
        ("T. Quill", "wrong wrong", "known", "do not belong together"),
        ("T. Quill", PASSWORD, "new", "This name is taken"),
        ("", PASSWORD, "new", "your name"),
        ("M. Reed", "short", "new", "at least 10 characters"),
    ] {
        let answer = other.post(&path, &[("name", name), ("password", password), ("do", how)]).await;
        let text = answer.text().await.unwrap();
        assert!(text.contains(says), "{says}: {text}");
    }
    // Signed in, one comes in as who one is.
    assert!(quill.page(&path).await.contains("You are signed in as T. Quill"));
    assert_eq!(quill.post(&path, &[]).await.headers()["location"], "/studies/1");
    assert_eq!(quill.get("/stations/1/import").await.status(), 200, "a field worker now");
    assert_eq!(owner.another().get("/join/0123").await.status(), 422);
}
