//! Messages through a broker: Debian's mosquitto, with Ebrel and it going away in turn.

use super::nodes::{Rig, ago};
use actix_web::web::Data;
use ebrel::broker::{Broker, BrokerArgs};
use ebrel::state::broker::{BrokerState, Link};
use ebrel::state::{Mode, State, wall_clock};
use ebrel_core::units::Quantity;
use ebrel_store::Store;
use flate2::Compression;
use flate2::write::GzEncoder;
use rumqttc::{AsyncClient, Event, Incoming, MqttOptions, QoS};
use std::io::Write;
use std::net::TcpListener;
use std::path::Path;
use std::time::Duration;
use tokio::process::{Child, Command};
use tokio::sync::watch;

/// A broker on a port of its own that keeps what it was given when it is stopped.
struct Mosquitto {
    port: u16,
    dir: tempfile::TempDir,
    running: Option<Child>,
}

impl Mosquitto {
    async fn start() -> Self {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let mut broker = Self { port, dir: tempfile::tempdir().unwrap(), running: None };
        broker.run().await;
        broker
    }

    async fn run(&mut self) {
        let config = self.dir.path().join("mosquitto.conf");
        let dir = self.dir.path().display();
        let own = std::env::var("USER").unwrap_or_else(|_| "root".into());
        let text = format!(
            "listener {} 127.0.0.1\nallow_anonymous true\npersistence true\npersistence_location {dir}/\nuser {own}\n",
            self.port
        );
        std::fs::write(&config, text).unwrap();
        // Debian puts it where only root's path leads.
        let program = ["/usr/sbin/mosquitto", "mosquitto"].into_iter().find(|p| Path::new(p).exists());
        let mut command = Command::new(program.unwrap_or("mosquitto"));
        self.running = Some(command.arg("-c").arg(config).kill_on_drop(true).spawn().unwrap());
        until("the broker listens", async || tokio::net::TcpStream::connect(("127.0.0.1", self.port)).await.is_ok())
            .await;
    }

    /// Stops it as an operator does: it writes down what it holds.
    async fn stop(&mut self) {
        let mut child = self.running.take().unwrap();
        let pid = child.id().unwrap().to_string();
        assert!(Command::new("kill").arg(pid).status().await.unwrap().success());
        child.wait().await.unwrap();
    }

    /// Publishes, and returns when the broker has each.
    async fn publish(&self, messages: &[(&str, Vec<u8>)]) {
        let mut options = MqttOptions::new("node", "127.0.0.1", self.port);
        options.set_keep_alive(Duration::from_secs(5));
        let (client, mut events) = AsyncClient::new(options, 100);
        for (topic, payload) in messages {
            client.publish(*topic, QoS::AtLeastOnce, false, payload.clone()).await.unwrap();
        }
        let mut left = messages.len();
        while left > 0 {
            if let Event::Incoming(Incoming::PubAck(_)) = events.poll().await.unwrap() {
                left -= 1;
            }
        }
    }
}

/// Waits until a condition holds; the condition's words say which one never did.
async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    for _ in 0..400 {
        if holds().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("it never came true that {what}");
}

/// Ebrel on a data directory, listening to a broker until it is dropped.
struct Ebrel {
    store: Store,
    told: watch::Receiver<BrokerState>,
    listening: tokio::task::JoinHandle<()>,
}

impl Drop for Ebrel {
    fn drop(&mut self) {
        self.listening.abort();
    }
}

impl Ebrel {
    async fn start(data: &Path, port: u16) -> Self {
        let state = State::open(data, Mode::Serve { https: false }).await.unwrap();
        let args = BrokerArgs {
            mqtt: Some(format!("mqtt://127.0.0.1:{port}")),
            mqtt_topic: Some("fields/nodes/+/readings".into()),
        };
        let broker = Broker::read(&args, &state.cookie_name()).unwrap().unwrap();
        let (store, told) = (state.store.clone(), broker.state());
        let listening = tokio::spawn(broker.listen(Data::new(state)));
        let ebrel = Self { store, told, listening };
        ebrel.until_connected().await;
        ebrel
    }

    fn link(&self) -> Link {
        self.told.borrow().link.clone()
    }

    async fn until_connected(&self) {
        until("Ebrel listens", async || matches!(self.link(), Link::Connected { .. })).await;
    }

    async fn stored(&self) -> Vec<f64> {
        let Some(stream) = self.store.streams(1).await.unwrap().into_iter().next() else { return Vec::new() };
        self.store.series(stream.id).await.unwrap().values.clone()
    }

    async fn until_stored(&self, n: usize) {
        until(&format!("{n} readings are stored"), async || self.stored().await.len() == n).await;
    }
}

const OWN: &str = "fields/nodes/1/readings";

/// A message of one reading, `n` minutes ago.
fn reading(n: i64) -> (&'static str, Vec<u8>) {
    let t = ago(n * 60);
    let text = format!(r#"[{{"n":"A1/{}","u":"mV","v":{n},"t":{t}}}]"#, Quantity::RawOutput.code());
    (OWN, text.into_bytes())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_published_is_stored_once_though_ebrel_and_the_broker_go_away() {
    let rig = Rig::new().await;
    let data = rig.owner.data();
    let mut broker = Mosquitto::start().await;
    let ebrel = Ebrel::start(data, broker.port).await;
    broker.publish(&[reading(1), reading(2), reading(1), reading(3)]).await;
    ebrel.until_stored(3).await;
    // Ebrel is away: the broker keeps what comes.
    drop(ebrel);
    let many: Vec<_> = (10..60).map(reading).collect();
    broker.publish(&many).await;
    let ebrel = Ebrel::start(data, broker.port).await;
    ebrel.until_stored(53).await;
    // The broker is away: that is told, and mended by itself.
    broker.stop().await;
    until("the loss is told", async || matches!(ebrel.link(), Link::Lost { .. })).await;
    broker.run().await;
    ebrel.until_connected().await;
    broker.publish(&[reading(4), reading(5)]).await;
    ebrel.until_stored(55).await;
    assert_eq!(ebrel.told.borrow().set_aside, 0);
    // Nothing waits at the broker: all was acknowledged.
    drop(ebrel);
    let ebrel = Ebrel::start(data, broker.port).await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(ebrel.told.borrow().messages, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_message_that_cannot_be_taken_whole_is_kept_with_its_reason_and_stops_nobody() {
    let rig = Rig::new().await;
    let data = rig.owner.data();
    let broker = Mosquitto::start().await;
    let ebrel = Ebrel::start(data, broker.port).await;
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    packed.write_all(&reading(7).1).unwrap();
    let packed = packed.finish().unwrap();
    let half = packed[..packed.len() / 2].to_vec();
    let mixed = format!(
        "time,port,quantity,value,unit\n{},A1,raw_output,8,mV\n1970-01-01T00:00:00Z,A1,raw_output,1,mV\n",
        ebrel_formats::rfc3339(wall_clock())
    );
    let mut cbor = Vec::new();
    ciborium::into_writer(&serde_json::from_slice::<serde_json::Value>(&reading(9).1).unwrap(), &mut cbor).unwrap();
    let sent = [
        (OWN, half.clone()),
        (OWN, half),
        ("fields/nodes/4711/readings", reading(1).1),
        ("fields/nodes/θ/readings", reading(1).1),
        (OWN, Vec::new()),
        (OWN, mixed.into_bytes()),
        (OWN, packed),
        (OWN, cbor),
    ];
    broker.publish(&sent).await;
    ebrel.until_stored(3).await;
    until("all were taken", async || ebrel.told.borrow().messages == 8).await;
    let (asides, all) = ebrel.store.asides(10).await.unwrap();
    let told: Vec<_> = asides.iter().map(|a| (a.reason.as_str(), a.times)).collect();
    let has = |part: &str, times| told.iter().any(|(reason, n)| reason.contains(part) && *n == times);
    assert_eq!(all, 5, "{told:?}");
    assert!(has("gzip ends before its end", 2) && has("no node of the number 4711", 1), "{told:?}");
    assert!(has("names no node by number", 1) && has("holds no record", 1), "{told:?}");
    assert!(has("1 of 2 records refused. The first, record 2: ", 1), "{told:?}");
}
