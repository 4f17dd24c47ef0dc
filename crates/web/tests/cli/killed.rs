//! Server and gateway are killed in turn at random moments under load: each reading is there exactly once.

use ebrel_core::units::UnixSeconds;
use ebrel_simulator::network::NodeBox;
use ebrel_store::Store;
use ebrel_store::keys::NewKey;
use rand::{RngExt, SeedableRng};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Ports of a stand-in node.
const PORTS: usize = 12;
/// Days of record: some thousand readings a node.
const DAYS: i64 = 8;

struct Rig {
    data: tempfile::TempDir,
    field: tempfile::TempDir,
    port: u16,
    nodes: Vec<i64>,
    seed: u64,
    /// Seconds that a day takes: load as long as somebody kills.
    day_seconds: f64,
}

impl Rig {
    async fn new(seed: u64, day_seconds: f64) -> Self {
        let data = super::rig().await;
        let store = Store::open(&data.path().join("ebrel.db")).await.unwrap();
        let mut nodes = Vec::new();
        for name in ["node θ", "node 2", "node 3"] {
            nodes.push(store.ensure_node(1, name).await.unwrap());
        }
        let at = UnixSeconds(1);
        let hash = hex::encode(Sha256::digest(b"secret"));
        let key = NewKey { name: "gateway".into(), hash, nodes: nodes.clone(), at, by: "N. Arvel".into() };
        store.add_key(1, &key).await.unwrap();
        // Readings up to now: this study's clock is the machine's.
        store.fix_now(1, None).await.unwrap();
        store.close().await;
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        Self { data, field: tempfile::tempdir().unwrap(), port, nodes, seed, day_seconds }
    }

    fn start(&self, arguments: &[&str]) -> Child {
        let mut command = Command::new(env!("CARGO_BIN_EXE_ebrel"));
        command.args(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    fn serve(&self) -> Child {
        let data = self.data.path().to_str().unwrap();
        self.start(&["serve", "--data", data, "--listen", &format!("127.0.0.1:{}", self.port)])
    }

    fn simulate(&self) -> Child {
        let (to, seed) = (format!("http://127.0.0.1:{}", self.port), self.seed.to_string());
        let pace = self.day_seconds.to_string();
        let (dir, days) = (self.field.path().to_str().unwrap(), DAYS.to_string());
        let nodes: Vec<String> = self.nodes.iter().flat_map(|n| ["--node".to_owned(), n.to_string()]).collect();
        let mut all = vec!["simulate", "--to", &to, "--key", "secret", "--dir", dir, "--days", &days, "--seed", &seed];
        all.extend([
            "--every",
            "2",
            "--twice",
            "0.1",
            "--overtaking",
            "0.3",
            "--outage",
            "0.1",
            "--day-seconds",
            &pace,
        ]);
        all.extend(nodes.iter().map(String::as_str));
        self.start(&all)
    }
}

/// What nodes measured, and what is stored, each by node, port and time.
async fn both(
    data: &Path,
    field: &Path,
    nodes: &[i64],
) -> (BTreeMap<(i64, i64), Vec<f64>>, BTreeMap<(i64, i64), Vec<f64>>) {
    let mut measured = BTreeMap::new();
    for node in nodes {
        for kept in NodeBox::all_kept(&field.join("nodes"), *node, PORTS).unwrap() {
            assert_eq!(measured.insert((*node, kept.shown), kept.values), None, "measured once");
        }
    }
    let store = Store::open(&data.join("ebrel.db")).await.unwrap();
    let mut stored: BTreeMap<(i64, i64), Vec<f64>> = BTreeMap::new();
    let streams = store.streams(1).await.unwrap();
    assert_eq!(streams.len(), PORTS * nodes.len());
    // Streams are made in the order in which a message names its ports.
    for stream in streams {
        let series = store.series(stream.id).await.unwrap();
        for (t, value) in series.times.iter().zip(&series.values) {
            stored.entry((stream.node_id, *t)).or_default().push(*value);
        }
    }
    assert!(store.repeats_at(1).await.unwrap().is_empty(), "nothing contradicts itself");
    (measured, stored)
}

/// Kills server and gateway in turn so many times.
async fn survives(kills: usize, seed: u64) {
    let rig = Rig::new(seed, 0.7 * kills as f64 / DAYS as f64).await;
    let mut chance = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let (mut server, mut gateway) = (rig.serve(), rig.simulate());
    for n in 0..kills {
        std::thread::sleep(Duration::from_millis(chance.random_range(150..900)));
        let (victim, again): (_, &dyn Fn() -> Child) =
            if n % 2 == 0 { (&mut server, &|| rig.serve()) } else { (&mut gateway, &|| rig.simulate()) };
        victim.kill().unwrap();
        victim.wait().unwrap();
        *victim = again();
    }
    assert!(gateway.wait().unwrap().success(), "all is confirmed at the end");
    server.kill().unwrap();
    server.wait().unwrap();
    let (measured, stored) = both(rig.data.path(), rig.field.path(), &rig.nodes).await;
    assert_eq!(measured.len() as i64, DAYS * 96 * 3);
    assert_eq!(stored.len(), measured.len());
    for (key, values) in &measured {
        let mut expected = values.clone();
        let mut found = stored[key].clone();
        expected.sort_by(f64::total_cmp);
        found.sort_by(f64::total_cmp);
        assert_eq!(found, expected, "{key:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_reading_is_there_once_though_server_and_gateway_are_killed() {
    // `cargo xtask soak` asks for more, with other seeds.
    let asked = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    survives(asked("EBREL_KILLS").unwrap_or(8) as usize, asked("EBREL_SEED").unwrap_or(417)).await;
}

/// Sends one message of twelve ports until it is acknowledged; a server that is away or busy is asked again.
async fn acknowledged(client: &reqwest::Client, address: &str, t: i64) {
    let lines: String = (0..PORTS).map(|p| format!("{t},m{p:02},raw_output,{}.5,mV\n", t % 1000 + p as i64)).collect();
    let body = format!("time,port,quantity,value,unit\n{lines}");
    loop {
        let request = client.post(address).bearer_auth("secret").header("content-type", "text/csv");
        match request.body(body.clone()).send().await {
            Ok(answer) if answer.status() == 200 => {
                let receipt: serde_json::Value = answer.json().await.unwrap();
                let [new, known] = ["new", "known"].map(|n| receipt[n].as_u64().unwrap());
                assert_eq!((new + known, &receipt["contradicting"]), (PORTS as u64, &0.into()), "{receipt}");
                return;
            }
            Ok(answer) => assert_eq!(answer.status(), 503, "{}", answer.text().await.unwrap()),
            Err(_) => {}
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Many at once go by the inbox, of which a kill leaves a part that nobody sorted in.
#[tokio::test(flavor = "multi_thread")]
async fn what_many_senders_were_answered_is_there_once_though_the_server_is_killed_before_it_was_sorted_in() {
    const SENDERS: i64 = 16;
    const EACH: i64 = 60;
    let rig = Rig::new(3, 1.0).await;
    let mut server = rig.serve();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() as i64;
    let first = now - 40_000;
    let senders = (0..SENDERS).map(|s| {
        let address = format!("http://127.0.0.1:{}/api/v1/nodes/{}/readings", rig.port, rig.nodes[s as usize % 3]);
        tokio::spawn(async move {
            let client = reqwest::Client::new();
            for i in 0..EACH {
                acknowledged(&client, &address, first + s * EACH + i).await;
            }
        })
    });
    let senders: Vec<_> = senders.collect();
    for _ in 0..3 {
        tokio::time::sleep(Duration::from_millis(700)).await;
        server.kill().unwrap();
        server.wait().unwrap();
        server = rig.serve();
    }
    for sender in senders {
        sender.await.unwrap();
    }
    // Killed once more, in the moment of the last answer.
    server.kill().unwrap();
    server.wait().unwrap();
    let store = Store::open(&rig.data.path().join("ebrel.db")).await.unwrap();
    let mut stored = 0;
    for stream in store.streams(1).await.unwrap() {
        let port: i64 = stream.port[1..].parse().unwrap();
        let series = store.series(stream.id).await.unwrap();
        assert!(series.times.iter().zip(&series.values).all(|(t, v)| *v == (t % 1000 + port) as f64 + 0.5));
        let told = store.deliveries_at(1).await.unwrap().remove(&stream.id).unwrap_or_default();
        assert_eq!(told.iter().map(|d| d.readings).sum::<usize>(), series.len(), "each is told of one delivery");
        stored += series.len();
    }
    assert_eq!(stored as i64, SENDERS * EACH * PORTS as i64);
    assert!(store.repeats_at(1).await.unwrap().is_empty());
}
