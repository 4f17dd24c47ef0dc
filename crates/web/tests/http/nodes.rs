//! Nodes that send: every form of a message, every key that does not serve, and the page with both.

use super::client::Visitor;
use ebrel_core::units::Principle;
use ebrel_store::Store;
use ebrel_store::probes::Probe;
use flate2::Compression;
use flate2::write::GzEncoder;
use serde_json::{Value, json};
use std::io::Write;
use std::sync::LazyLock;
use std::time::{Duration, SystemTime};

/// A node of the first study's station that may send.
pub struct Rig {
    pub owner: Visitor,
    pub store: Store,
    pub node: i64,
    key: String,
}

impl Rig {
    pub async fn new() -> Self {
        let owner = Visitor::owner().await;
        let store = Store::open(&owner.data().join("ebrel.db")).await.unwrap();
        let node = store.ensure_node(1, "node θ").await.unwrap();
        let key = key(&owner, node, "node").await;
        Self { owner, store, node, key }
    }

    fn address(&self, node: i64) -> String {
        format!("{}/api/v1/nodes/{node}/readings", self.owner.base)
    }

    /// Sends as a machine does: without a session.
    async fn send(&self, form: &str, body: impl Into<Vec<u8>>) -> (u16, Value) {
        told(
            reqwest::Client::new()
                .post(self.address(self.node))
                .bearer_auth(&self.key)
                .header("content-type", form)
                .body(body.into()),
        )
        .await
    }

    pub async fn csv(&self, lines: &str) -> Value {
        let (status, receipt) = self.send("text/csv", format!("time,port,quantity,value,unit\n{lines}")).await;
        assert_eq!(status, 200, "{receipt}");
        receipt
    }

    /// Readings of the first stream, as they are stored.
    async fn stored(&self) -> Vec<(i64, f64)> {
        let Some(stream) = self.store.streams(1).await.unwrap().into_iter().next() else { return Vec::new() };
        let series = self.store.series(stream.id).await.unwrap();
        series.times.iter().copied().zip(series.values.iter().copied()).collect()
    }
}

async fn told(request: reqwest::RequestBuilder) -> (u16, Value) {
    let answer = request.send().await.unwrap();
    let kind = answer.headers()["content-type"].to_str().unwrap().to_owned();
    let status = answer.status().as_u16();
    assert_eq!(kind.contains("problem+json"), status != 200, "{status} {kind}");
    let body: Value = answer.json().await.unwrap();
    assert!(
        status == 200 || body["status"] == status && body["detail"].as_str().is_some_and(|d| d.ends_with('.')),
        "{body}"
    );
    (status, body)
}

/// Makes a key on the page; it is shown once.
async fn key(owner: &Visitor, node: i64, serves: &str) -> String {
    let node = node.to_string();
    let form = [("node", node.as_str()), ("name", "gateway “θ”"), ("serves", serves)];
    let key = shown(owner.post("/stations/1/nodes/keys", &form).await).await;
    assert!(!owner.page("/stations/1/nodes").await.contains(&key), "and not again");
    key
}

/// The key that an answer shows.
async fn shown(answer: reqwest::Response) -> String {
    let page = answer.text().await.unwrap();
    page.split("id=\"key\">").nth(1).unwrap_or_else(|| panic!("{page}")).split('<').next().unwrap().to_owned()
}

/// The minute in which the tests began: one reading asked for twice has one time, whatever minute has begun since.
static BEGUN: LazyLock<i64> = LazyLock::new(|| {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs() as i64;
    now / 60 * 60
});

/// So many seconds ago, rounded to a minute.
pub fn ago(seconds: i64) -> i64 {
    *BEGUN - (seconds + 59) / 60 * 60
}

fn counts(receipt: &Value) -> [u64; 5] {
    let all = ["records", "new", "known", "contradicting", "refused"].map(|n| receipt[n].as_u64().unwrap());
    assert_eq!(all[0], all[1..].iter().sum::<u64>(), "count in, count out: {receipt}");
    all
}

fn packed(bytes: &[u8]) -> Vec<u8> {
    let mut out = GzEncoder::new(Vec::new(), Compression::best());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_form_of_a_message_is_kept_once_and_a_contradiction_beside_the_first() {
    let rig = Rig::new().await;
    let t = ago(7200);
    let line = |i: i64, v: f64| format!("{},A1,raw_output,{v},mV\n", t + i * 60);
    assert_eq!(counts(&rig.csv(&(line(0, 810.0) + &line(1, 811.0))).await), [2, 2, 0, 0, 0]);
    assert_eq!(counts(&rig.csv(&(line(0, 810.0) + &line(1, 811.0))).await), [2, 0, 2, 0, 0], "again");

    let senml = json!([{"bn": "urn:dev:mac:0024befffe804ff1:", "bt": t}, {"n": "A1/raw_output", "u": "mV", "v": 812, "t": 120}, {"n": "A1/raw_output", "u": "V", "v": 0.813, "t": 180}]);
    let (_, receipt) = rig.send("application/senml+json", senml.to_string()).await;
    assert_eq!(counts(&receipt), [2, 1, 0, 0, 1], "a port keeps its unit: {receipt}");
    assert!(receipt["reasons"][0]["reason"].as_str().unwrap().contains("in mV so far, and this is in V"), "{receipt}");

    let cbor = ciborium::Value::serialized(&json!([{"n": "A1/raw_output", "u": "mV", "v": 899.5, "t": t}, {"n": "B.2/soil_temperature", "u": "K", "v": 285.15, "t": t}])).unwrap();
    let mut bytes = Vec::new();
    ciborium::into_writer(&cbor, &mut bytes).unwrap();
    let (_, receipt) = rig.send("application/senml+cbor", bytes).await;
    assert_eq!(counts(&receipt), [2, 1, 0, 1, 0], "{receipt}");
    assert_eq!(rig.stored().await, [(t, 810.0), (t + 60, 811.0), (t + 120, 812.0)], "the first stands");
    let repeats = rig.store.repeats_at(1).await.unwrap();
    assert_eq!(repeats.into_values().flatten().map(|r| (r.first, r.later)).collect::<Vec<_>>(), [(810.0, 899.5)]);

    let packing = reqwest::Client::new().post(rig.address(rig.node)).bearer_auth(&rig.key);
    let packing = packing.header("content-type", "text/csv; charset=utf-8").header("content-encoding", "gzip");
    let text = format!("time,port,quantity,value,unit\n{}", line(4, 814.0));
    let (status, receipt) = told(packing.body(packed(text.as_bytes()))).await;
    assert_eq!((status, counts(&receipt)), (200, [1, 1, 0, 0, 0]));

    // The page tells what came, and that nobody said yet what it is; the tests ran by themselves.
    let page = rig.owner.page("/stations/1/nodes").await;
    assert!(
        page.contains("1 node; 2 ports have no probe placed at it.") && page.contains("soil temperature"),
        "{page}"
    );
    for _ in 0..100 {
        if rig.store.stations_to_test().await.unwrap().is_empty() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("the tests never ran");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_port_that_sends_gets_its_probe_once_and_slips_are_told_at_it() {
    let rig = Rig::new().await;
    let t = ago(7200);
    let line = |i: i64, port: &str| format!("{},{port},raw_output,{},mV\n", t + i * 60, 800 + i);
    rig.csv(&(0..40).flat_map(|i| [line(i, "A θ"), line(i, "A2")]).collect::<String>()).await;
    let probe = Probe {
        id: 0,
        serial: "BD-7".into(),
        model: "blade".into(),
        principle: Principle::Dielectric,
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    rig.store.ensure_probe(&probe).await.unwrap();
    let address = "/stations/1/placements";
    let page = rig.owner.page(address).await;
    assert!(page.contains("2 ports send, and nobody said yet which probes they are."), "{page}");
    let node = rig.node.to_string();
    let from = page.split("name=\"starts\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let put = async |port: &str, serial: &str, depth: &str, starts: &str| {
        let form = [
            ("node", node.as_str()),
            ("port", port),
            ("serial", serial),
            ("depth", depth),
            ("orientation", "level"),
            ("starts", starts),
            ("ends", ""),
        ];
        let answer = rig.owner.post(address, &form).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    for (port, serial, depth, starts, says) in [
        ("A θ", "BD-8", "5", from.as_str(), "No probe has the serial “BD-8”"),
        ("A θ", "BD-7", "deep", from.as_str(), "is no number"),
        ("A θ", "BD-7", "5000", from.as_str(), "cm"),
        ("A θ", "BD-7", "5", "yesterday", "write it like"),
        ("nowhere", "BD-7", "5", from.as_str(), "Port “nowhere” waits for no probe"),
    ] {
        let (status, page) = put(port, serial, depth, starts).await;
        assert!(status == 200 && page.contains(says), "{says}: {page}");
        assert!(port == "nowhere" || page.contains(&format!("value=\"{depth}\"")), "what was typed stays");
    }
    assert!(rig.store.placements(1).await.unwrap().is_empty());
    assert_eq!(put("A θ", "BD-7", "5", &from).await.0, 303);
    let (_, twice) = put("A θ", "BD-7", "5", &from).await;
    assert!(twice.contains("waits for no probe") && twice.contains("1 port sends"), "{twice}");
    let placed = rig.store.placements(1).await.unwrap();
    assert_eq!((placed.len(), placed[0].starts.0, placed[0].depth_cm), (1, t, Some(5.0)));
    assert!(rig.owner.page("/stations/1").await.contains("40 readings"), "the record has it");
    assert!(rig.owner.page("/stations/1/nodes").await.contains("1 node; 1 port has no probe placed at it."));
}

#[tokio::test(flavor = "multi_thread")]
async fn sixteen_senders_of_the_same_readings_leave_each_once() {
    let rig = Rig::new().await;
    let t = ago(90_000);
    let text: String = (0..500).map(|i| format!("{},A1,raw_output,{},mV\n", t + i * 60, 800 + i % 7)).collect();
    let text = &format!("time,port,quantity,value,unit\n{text}");
    let all = futures_util::future::join_all((0..16).map(|_| rig.send("text/csv", text.clone()))).await;
    let sums = all.iter().map(|(status, r)| (*status, counts(r))).fold([0; 2], |[new, known], (status, c)| {
        assert_eq!(status, 200);
        [new + c[1], known + c[2]]
    });
    assert_eq!(sums, [500, 15 * 500]);
    assert_eq!(rig.stored().await.len(), 500);
    assert_eq!(
        rig.store.deliveries_at(1).await.unwrap().into_values().flatten().count(),
        1,
        "known ones are no delivery"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_network_that_only_sends_begins_with_a_name() {
    let owner = Visitor::owner().await;
    let make = async |new_node: &str| {
        let form = [("node", ""), ("new_node", new_node), ("name", "hut"), ("serves", "node")];
        owner.post("/stations/1/nodes/keys", &form).await
    };
    assert!(owner.page("/stations/1/nodes").await.contains("name one below that sends"));
    assert!(make(" ").await.text().await.unwrap().contains("the new node a name"), "a slip makes no node");
    assert!(!owner.page("/stations/1/nodes").await.contains("number 1"));
    let key = shown(make("node θ").await).await;
    let message = "time,port,quantity,value,unit\n2026-03-01T00:00:00Z,m05,raw_output,900.5,mV\n";
    let request = reqwest::Client::new().post(format!("{}/api/v1/nodes/1/readings", owner.base)).bearer_auth(&key);
    let (status, receipt) = told(request.header("content-type", "text/csv").body(message)).await;
    assert_eq!((status, receipt["new"].as_u64()), (200, Some(1)), "{receipt}");
    assert!(owner.page("/stations/1/nodes").await.contains("node θ"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_that_does_not_serve_is_told_why() {
    let rig = Rig::new().await;
    let other = rig.store.ensure_node(1, "another").await.unwrap();
    let ask = async |node: i64, key: Option<&str>| {
        let request = reqwest::Client::new().post(rig.address(node)).header("content-type", "text/csv");
        let request = key.map_or(request.try_clone().unwrap(), |k| request.bearer_auth(k));
        let line = format!("time,port,quantity,value,unit\n{},A1,raw_output,1,mV\n", ago(60));
        let (status, body) = told(request.body(line)).await;
        (status, body["type"].as_str().unwrap_or_default().rsplit('/').next().unwrap().to_owned())
    };
    assert_eq!(ask(rig.node, None).await, (401, "key-needed".into()));
    assert_eq!(ask(other, Some(&rig.key)).await, (403, "another-nodes-key".into()));
    assert_eq!(ask(999, Some(&rig.key)).await, (404, "not-found".into()));
    // A gateway's serves for all nodes there are.
    let gateway = key(&rig.owner, other, "study").await;
    assert_eq!((ask(rig.node, Some(&gateway)).await.0, ask(other, Some(&gateway)).await.0), (200, 200));

    // Renewed: both serve. Ended: it does not, from that moment on.
    let page = rig.owner.page("/stations/1/nodes").await;
    let ids: Vec<&str> =
        page.split("/nodes/keys/").skip(1).map(|p| p.split('"').next().unwrap()).filter(|id| !id.is_empty()).collect();
    let first = ids.iter().min().unwrap();
    let (address, node) = (format!("/stations/1/nodes/keys/{first}"), rig.node.to_string());
    let renewed = shown(rig.owner.post(&address, &[("do", "renew"), ("node", &node)]).await).await;
    let twice = rig.owner.another_tab().post(&address, &[("do", "renew"), ("node", &node)]).await;
    assert!(twice.text().await.unwrap().contains("This key ends already"));
    assert!(rig.owner.page("/stations/1/nodes").await.contains("serves until"));
    assert_eq!((ask(rig.node, Some(&rig.key)).await.0, ask(rig.node, Some(&renewed)).await.0), (200, 200));
    rig.owner.post(&address, &[("do", "end"), ("node", &node)]).await;
    assert_eq!(ask(rig.node, Some(&rig.key)).await, (401, "ended-key".into()));
    assert_eq!(ask(rig.node, Some(&renewed)).await.0, 200);
    assert_eq!(rig.owner.post(&address, &[("do", "end"), ("node", "999")]).await.status(), 404);
    assert_eq!(rig.owner.post("/stations/1/nodes/keys/999", &[("do", "renew"), ("node", &node)]).await.status(), 422);
    for (name, node, says) in
        [("", node.as_str(), "Give the key a name"), ("θ", "999", "Choose a node of this station")]
    {
        let form = [("node", node), ("name", name), ("serves", "node")];
        assert!(rig.owner.post("/stations/1/nodes/keys", &form).await.text().await.unwrap().contains(says));
    }

    // Guessing is slowed down, with the seconds to wait; a key that serves passes from elsewhere.
    for _ in 0..8 {
        let (status, kind) = ask(rig.node, Some("guessed")).await;
        assert!([(401, "unknown-key"), (429, "too-many-tries")].contains(&(status, kind.as_str())), "{status} {kind}");
    }
    let last = reqwest::Client::new().post(rig.address(rig.node)).bearer_auth("guessed").send().await.unwrap();
    assert_eq!(last.status(), 429);
    assert!(last.headers()["retry-after"].to_str().unwrap().parse::<u64>().unwrap() > 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_taken_is_told_and_leaves_no_trace() {
    let rig = Rig::new().await;
    let head = "time,port,quantity,value,unit\n";
    let lines = |n: usize| format!("{head}{}", format!("{},A1,raw_output,1,mV\n", ago(60)).repeat(n));
    let kind = |(status, body): (u16, Value)| {
        (status, body["type"].as_str().unwrap_or_default().rsplit('/').next().unwrap().to_owned())
    };
    let with = async |form: &str, packing: Option<&str>, body: Vec<u8>| {
        let request =
            reqwest::Client::new().post(rig.address(rig.node)).bearer_auth(&rig.key).header("content-type", form);
        let request = packing.map_or(request.try_clone().unwrap(), |p| request.header("content-encoding", p));
        kind(told(request.body(body)).await)
    };
    let gzip = packed(lines(3).as_bytes());
    let bomb = packed(&vec![b' '; 50_000_000]);
    assert!(bomb.len() < 60_000, "{}", bomb.len());
    let huge = [&[0x9b][..], &(1_u64 << 63).to_be_bytes()].concat();
    for (form, packing, body, status, told) in [
        ("text/plain", None, b"x".to_vec(), 415, "unknown-form"),
        ("text/csv", Some("br"), b"x".to_vec(), 415, "unknown-packing"),
        ("text/csv", Some("gzip"), gzip[..gzip.len() / 2].to_vec(), 400, "unreadable"),
        ("text/csv", Some("gzip"), bomb, 413, "too-large"),
        ("text/csv", None, vec![b'x'; 3_000_000], 413, "too-large"),
        ("text/csv", None, lines(10_001).into_bytes(), 413, "too-many-records"),
        ("text/csv", None, Vec::new(), 400, "unreadable"),
        ("application/senml+json", None, b"[{\"n\":".to_vec(), 400, "unreadable"),
        ("application/senml+cbor", None, huge, 400, "unreadable"),
    ] {
        assert_eq!(with(form, packing, body).await, (status, told.to_owned()), "{form} {packing:?}");
    }
    assert!(rig.store.streams(1).await.unwrap().is_empty(), "nothing was stored");
    let receipt = rig.csv(&lines(10_000).split_off(head.len())).await;
    assert_eq!(counts(&receipt), [10_000, 1, 9_999, 0, 0], "as many as may be");
    let wrong = format!("{},A1,raw_output,1,mV\n", ago(-200_000)).repeat(300);
    let receipt = rig.csv(&wrong).await;
    assert_eq!((counts(&receipt)[4], receipt["reasons"].as_array().unwrap().len()), (300, 100), "the first are named");
    // A node that makes names up is stopped.
    let names: String = (0..1200).map(|i| format!("{},P{i},raw_output,1,mV\n", ago(120))).collect();
    assert_eq!(counts(&rig.csv(&names).await), [1200, 999, 0, 0, 201]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_examples_of_three_languages_send() {
    let rig = Rig::new().await;
    for (program, file, new) in [("sh", "send.sh", 1), ("python3", "send.py", 2), ("node", "send.mjs", 1)] {
        let mut command = tokio::process::Command::new(program);
        command.arg(format!("{}/src/rooms/record/nodes/examples/{file}", env!("CARGO_MANIFEST_DIR")));
        command.envs([("EBREL", rig.owner.base.as_str()), ("KEY", rig.key.as_str())]).env("NODE", rig.node.to_string());
        let done = command.output().await.unwrap_or_else(|e| panic!("{program}: {e}; cargo xtask test installs it"));
        let said = String::from_utf8_lossy(&done.stdout);
        assert!(done.status.success(), "{file}: {said} {}", String::from_utf8_lossy(&done.stderr));
        assert_eq!(counts(&serde_json::from_str(&said).unwrap())[1], new, "{file}");
    }
    assert_eq!(rig.store.streams(1).await.unwrap().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_description_is_served_to_anybody_and_names_what_there_is() {
    let v = Visitor::stranger().await;
    let described: Value = v.get("/api/v1/openapi.json").await.json().await.unwrap();
    assert!(described["openapi"].as_str().unwrap().starts_with("3."));
    let post = &described["paths"]["/api/v1/nodes/{node}/readings"]["post"];
    for status in ["200", "400", "401", "403", "404", "413", "415", "429", "503"] {
        assert!(post["responses"][status].is_object(), "{status}");
    }
    assert!(described["components"]["schemas"]["Receipt"]["properties"]["contradicting"].is_object());
    let says = described["info"]["description"].as_str().unwrap();
    assert!(["```sh", "```python", "```javascript"].iter().all(|l| says.contains(l)), "{says}");
    for nowhere in ["/api/v1/nothing", "/api/v1/nodes/1/readings"] {
        let (status, problem) = told(reqwest::Client::new().get(format!("{}{nowhere}", v.base))).await;
        assert_eq!((status, problem["title"].as_str()), (404, Some("not found")), "{nowhere}");
    }
    let (status, _) = told(reqwest::Client::new().post(format!("{}/api/v1/nodes/θ/readings", v.base))).await;
    assert_eq!(status, 404);
}
