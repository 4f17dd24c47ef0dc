//! A server of its own, and a visitor with a session.

use ebrel::server::server;
use ebrel::state::{Mode, State};
use ebrel_core::bench::{RunDraft, SampleRow};
use reqwest::redirect::Policy;
use reqwest::{Client, Response, multipart};
use std::net::TcpListener;

/// A running server with one visitor.
pub struct Visitor {
    pub base: String,
    pub client: Client,
    /// The code that the first account needs.
    pub code: String,
    server: std::sync::Arc<Running>,
}

/// The server with its data; it stops when its last visitor goes.
struct Running {
    data: tempfile::TempDir,
    handle: actix_web::dev::ServerHandle,
}

impl Drop for Running {
    fn drop(&mut self) {
        drop(self.handle.stop(false));
    }
}

fn client() -> Client {
    Client::builder().cookie_store(true).redirect(Policy::none()).build().unwrap()
}

pub const OWNER: (&str, &str) = ("N. Arvel", "coppice hazel coupe");

async fn start(mode: Mode) -> Visitor {
    let data = tempfile::tempdir().unwrap();
    if mode == Mode::Demo {
        crate::demo::copy_into(data.path()).await;
    }
    let app = State::open(data.path(), mode).await.unwrap();
    let code = app.first_code.clone();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    let server = server(actix_web::web::Data::new(app), listener, None).unwrap();
    let handle = server.handle();
    tokio::spawn(server);
    Visitor { base, client: client(), code, server: std::sync::Arc::new(Running { data, handle }) }
}

impl Visitor {
    /// A visitor of the demo.
    pub async fn of_demo() -> Self {
        start(Mode::Demo).await
    }

    /// A visitor of an empty server, nobody signed in.
    pub async fn stranger() -> Self {
        start(Mode::Serve { https: false }).await
    }

    /// The owner of an empty server with one study and one station (number 1).
    pub async fn owner() -> Self {
        let v = Self::stranger().await;
        v.make_owner().await;
        v.post("/studies/new", &[("name", "Fern tubs"), ("question", "When does growth stop?"), ("offset", "0")]).await;
        let soil = [("h-name-0", "A"), ("h-texture-0", "silt loam"), ("h-bottom-0", "30"), ("h-density-0", "1.30")];
        let form: Vec<_> = [("name", "Tub 1"), ("code", "tub1")].into_iter().chain(soil).collect();
        let answer = v.post("/studies/1/stations/new", &form).await;
        assert_eq!(answer.headers()["location"], "/stations/1/plan/site");
        v
    }

    /// Another visitor of the same server, with a session of its own.
    pub fn another(&self) -> Self {
        Self { base: self.base.clone(), client: client(), code: self.code.clone(), server: self.server.clone() }
    }

    /// The same visitor in another tab: the same session.
    pub fn another_tab(&self) -> Self {
        let (base, client, code) = (self.base.clone(), self.client.clone(), self.code.clone());
        Self { base, client, code, server: self.server.clone() }
    }

    /// The server's data directory, as another process finds it.
    pub fn data(&self) -> &std::path::Path {
        self.server.data.path()
    }

    /// Makes the owner's account, with the code from the terminal.
    pub async fn make_owner(&self) -> Response {
        self.post("/first", &[("name", OWNER.0), ("password", OWNER.1), ("code", self.code.as_str())]).await
    }

    pub async fn get(&self, path: &str) -> Response {
        self.client.get(format!("{}{path}", self.base)).send().await.unwrap()
    }

    pub async fn page(&self, path: &str) -> String {
        let answer = self.get(path).await;
        assert_eq!(answer.status(), 200, "{path}");
        answer.text().await.unwrap()
    }

    /// The token of this session's forms.
    pub async fn token(&self) -> String {
        let page = self.get("/sign-in").await;
        let page = if page.status() == 200 { page.text().await.unwrap() } else { self.page("/studies/new").await };
        let page = if page.contains("ebrel-token") { page } else { self.page("/first").await };
        page.split("ebrel-token\" content=\"").nth(1).unwrap().split('"').next().unwrap().to_owned()
    }

    pub async fn post(&self, path: &str, form: &[(&str, &str)]) -> Response {
        let token = self.token_anywhere().await;
        let form: Vec<_> = form.iter().copied().chain([("token", token.as_str())]).collect();
        self.client.post(format!("{}{path}", self.base)).form(&form).send().await.unwrap()
    }

    async fn token_anywhere(&self) -> String {
        for path in ["/first", "/sign-in", "/studies/new"] {
            let answer = self.get(path).await;
            if answer.status() == 200 {
                let page = answer.text().await.unwrap();
                return page.split("ebrel-token\" content=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
            }
        }
        panic!("no page with a form can be reached");
    }

    pub async fn post_json(&self, path: &str, body: &serde_json::Value) -> Response {
        let token = self.token_anywhere().await;
        let request = self.client.post(format!("{}{path}", self.base)).header("x-ebrel-token", token);
        request.json(body).send().await.unwrap()
    }

    /// Types a calibration run as its page's form sends it while one types; what its page then shows.
    pub async fn type_run(&self, path: &str, typed: &serde_json::Value) -> serde_json::Value {
        let form = run_form(typed);
        let fields: Vec<_> = form.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        let answer = self.post(path, &fields).await;
        assert_eq!(answer.status(), 200, "{path}");
        worked(&answer.text().await.unwrap())
    }

    /// Uploads a file to station 1; where it leads, or the page with the error.
    pub async fn upload(&self, name: &str, bytes: &[u8]) -> Response {
        self.upload_to("/stations/1/import", name, bytes).await
    }

    /// Uploads a file to an address.
    pub async fn upload_to(&self, path: &str, name: &str, bytes: &[u8]) -> Response {
        let file = multipart::Part::bytes(bytes.to_vec()).file_name(name.to_owned());
        let form = multipart::Form::new().text("token", self.token_anywhere().await).part("file", file);
        self.client.post(format!("{}{path}", self.base)).multipart(form).send().await.unwrap()
    }

    /// The fields of a plan page as its form would send them, changed as told.
    pub async fn send_plan(&self, path: &str, changes: &[(&str, &str)]) -> Response {
        let page = self.page(path).await;
        let mut fields = form_fields(&page);
        for (name, value) in changes {
            fields.retain(|f| f.0 != *name);
            fields.push(((*name).to_owned(), (*value).to_owned()));
        }
        let fields: Vec<_> = fields.iter().filter(|f| f.0 != "token").map(|f| (f.0.as_str(), f.1.as_str())).collect();
        self.post(path, &fields).await
    }
}

/// A run as JSON in all fields of its form; what is not given is as on a new run.
fn run_form(typed: &serde_json::Value) -> Vec<(String, String)> {
    let text = |v: &serde_json::Value| match v {
        serde_json::Value::Null | serde_json::Value::Bool(false) => String::new(),
        serde_json::Value::Bool(true) => "yes".to_owned(),
        serde_json::Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let mut form = vec![("live".to_owned(), "yes".to_owned())];
    for name in ["title", "probe", "revision"] {
        form.extend(typed.get(name).map(|v| (name.to_owned(), text(v))));
    }
    let mut draft: RunDraft = serde_json::from_value(typed["draft"].clone()).unwrap();
    draft.rows.resize(draft.rows.len().max(12), SampleRow::default());
    for (name, value) in serde_json::to_value(&draft).unwrap().as_object().unwrap() {
        match value.as_array() {
            None => form.push((name.clone(), text(value))),
            Some(rows) => {
                for (i, row) in rows.iter().enumerate() {
                    let fields = row.as_object().unwrap().iter();
                    form.extend(fields.map(|(field, v)| (format!("rows.{i}.{field}"), text(v))));
                }
            }
        }
    }
    form
}

/// What the page of a run shows: the figures of each row, the result, and what was merged.
fn worked(page: &str) -> serde_json::Value {
    let live = |name: &str| {
        let part = page.split(&format!("data-live=\"{name}\"")).nth(1)?.split_once('>')?.1;
        Some(part.split("</td>").next()?.split("</small>").next()?.to_owned())
    };
    let plain = |text: String| {
        let mut out = String::new();
        for part in text.split('<') {
            out.push_str(part.split_once('>').map_or(part, |p| p.1));
        }
        unescaped(&out)
    };
    let fields: std::collections::HashMap<String, String> = form_fields(page).into_iter().collect();
    let mut figures = Vec::new();
    let mut rows = Vec::new();
    for i in 0.. {
        let Some(says) = live(&format!("rows.{i}.says")) else { break };
        let of = |name: &str| live(&format!("rows.{i}.{name}")).unwrap();
        let field = says.split(&format!("data-at=\"rows.{i}.")).nth(1).map(|f| f.split('"').next().unwrap().to_owned());
        let recorded = page.split(&format!("id=\"rows.{i}.raw\"")).nth(1).unwrap().split('>').next().unwrap();
        let recorded = recorded.split("placeholder=\"").nth(1).map(|p| unescaped(p.split('"').next().unwrap()));
        figures.push(serde_json::json!({
            "w": of("w"), "density": of("gravity"), "theta": of("theta"), "mean": of("mean"), "last": of("last"),
            "recorded": recorded, "field": field.unwrap_or_default(),
            "waits": says.contains("class=\"mb-0 soft\""), "message": plain(says),
        }));
        let names = ["tin", "at", "raw", "tare", "wet", "dry", "volume", "why"];
        let typed = names.map(|n| (n.to_owned(), fields[&format!("rows.{i}.{n}")].clone().into()));
        rows.push(serde_json::Value::Object(typed.into_iter().collect()));
    }
    let result = page.split("data-live=\"result\"").nth(1).unwrap().split("</section>").next().unwrap();
    let conflicts =
        page.split("<p class=\"said\" role=\"status\">").nth(1).map(|p| unescaped(p.split('<').next().unwrap()));
    serde_json::json!({
        "figures": figures, "result": result, "rows": rows, "conflicts": conflicts,
        "revision": fields["revision"].parse::<i64>().unwrap(),
        "defended": !page.contains("<button class=\"btn btn-primary\" disabled>Adopt"),
    })
}

/// Values of inputs and chosen options of a page, as a browser would send them.
fn form_fields(page: &str) -> Vec<(String, String)> {
    let attribute = |tag: &str, name: &str| {
        let at = tag.find(&format!(" {name}=\""))? + name.len() + 3;
        Some(unescaped(tag[at..].split('"').next()?))
    };
    let mut fields = Vec::new();
    for part in page.split("<input").skip(1) {
        let tag = part.split('>').next().unwrap();
        let choice = tag.contains("type=\"radio\"") || tag.contains("type=\"checkbox\"");
        if let (Some(name), false) = (attribute(tag, "name"), choice && !tag.contains(" checked")) {
            fields.push((name, attribute(tag, "value").unwrap_or_default()));
        }
    }
    for part in page.split("<select").skip(1) {
        let body = part.split("</select>").next().unwrap();
        let chosen = body.split("<option").find(|o| o.split('>').next().is_some_and(|t| t.contains(" selected")));
        let value =
            chosen.map(|o| attribute(o, "value").unwrap_or_else(|| o.split(['>', '<']).nth(1).unwrap().to_owned()));
        fields.push((attribute(body, "name").unwrap(), value.unwrap_or_default()));
    }
    fields
}

fn unescaped(text: &str) -> String {
    text.replace("&#37;", "%").replace("&#34;", "\"").replace("&quot;", "\"").replace("&lt;", "<").replace("&amp;", "&")
}
