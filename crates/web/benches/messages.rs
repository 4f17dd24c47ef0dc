//! Messages under load: each durable before it is answered, beside a bare loop that appends and syncs; and a hundred nodes that catch
//! up nine days at once while somebody looks at pages.

use actix_web::web::Data;
use ebrel::server::server;
use ebrel::state::{Mode, State, wall_clock};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::message::{self, Form};
use ebrel_store::keys::NewKey;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use reqwest::Client;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::net::TcpListener;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

type Failed = Box<dyn std::error::Error + Send + Sync>;

/// Messages of the small kind, each of twelve readings.
const MESSAGES: usize = 4000;
const PORTS: usize = 12;
/// Nodes that catch up, by ten at a station.
const NODES: usize = 100;
const DAYS: i64 = 9;
/// What people look at meanwhile.
const PAGES: [&str; 4] = ["/studies/1", "/stations/3/nodes", "/stations/5", "/studies/1/network"];

#[tokio::main]
async fn main() -> Result<(), Failed> {
    let dir = tempfile::tempdir()?;
    let bare = bare(dir.path())?;
    tell(&format!("bare append and sync of 1 kB: {bare:.0} a second"));
    let (state, base, nodes) = start(dir.path()).await?;
    let now = wall_clock().0 / 900 * 900;
    for (round, senders) in [(0, 1), (1, 64)] {
        let each = alone(&state, &nodes, senders, first_of(now, round)).await?;
        tell(&format!(
            "the writer alone, {senders} waiting: {each:.0} messages a second ({:.0} % of bare)",
            each / bare * 100.0
        ));
    }
    for (round, senders) in [(2, 1), (3, 16), (4, 64)] {
        let begin = Instant::now();
        let tasks = (0..senders).map(|s| {
            let (base, node) = (base.clone(), nodes[s % 10]);
            tokio::spawn(async move {
                let client = Client::new();
                for i in 0..MESSAGES / senders {
                    let t = first_of(now, round) + (s * MESSAGES / senders + i) as i64;
                    send(&client, &base, node, &records(t, 1)).await?;
                }
                Ok::<_, Failed>(())
            })
        });
        for task in tasks.collect::<Vec<_>>() {
            task.await??;
        }
        let each = (MESSAGES / senders * senders) as f64 / begin.elapsed().as_secs_f64();
        tell(&format!(
            "{senders} senders, 12 readings a message: {each:.0} messages a second ({:.0} % of bare)",
            each / bare * 100.0
        ));
    }
    catch_up(&base, &nodes, now).await?;
    let status = std::fs::read_to_string("/proc/self/status")?;
    for line in status.lines().filter(|l| l.starts_with("VmRSS") || l.starts_with("VmHWM")) {
        tell(&format!("memory of server and senders together: {line}"));
    }
    Ok(())
}

/// The first time of a round: times of their own, so that nothing is known already, and in time, as of nodes that just measured.
fn first_of(now: i64, round: i64) -> i64 {
    now - 80_000 + round * MESSAGES as i64
}

fn tell(line: &str) {
    // A closed terminal is no reason to stop.
    let _ = writeln!(std::io::stderr(), "{line}");
}

/// Appends to a file and syncs it, one after the other: what a disk can do at most for one writer.
fn bare(dir: &Path) -> Result<f64, Failed> {
    let mut file = std::fs::File::create(dir.join("bare"))?;
    let begin = Instant::now();
    for _ in 0..MESSAGES {
        file.write_all(&[7; 1024])?;
        file.sync_data()?;
    }
    Ok(MESSAGES as f64 / begin.elapsed().as_secs_f64())
}

/// A server in this process with its nodes, and a key for all of them.
async fn start(dir: &Path) -> Result<(Data<State>, String, Vec<i64>), Failed> {
    let state = State::open(&dir.join("data"), Mode::Demo).await?;
    let (name, question) = ("Catching up".to_owned(), String::new());
    let study = Study { id: 0, name, question, utc_offset_minutes: 0, fixed_now: None };
    let study_id = state.store.add_study(&study, None).await?;
    let mut nodes = Vec::new();
    for n in 0..NODES / 10 {
        let text = String::new;
        let (code, name) = (format!("s{n}"), format!("Station {n}"));
        let (latitude, longitude, elevation_m) = (None, None, None);
        let (treatment, cover, known_bias) = (text(), text(), text());
        let station =
            Station { id: 0, study_id, code, name, latitude, longitude, elevation_m, treatment, cover, known_bias };
        let station = state.store.add_station(&station, &[]).await?;
        for k in 0..10 {
            nodes.push(state.store.ensure_node(station, &format!("node {k}")).await?);
        }
    }
    let hash = hex::encode(Sha256::digest(b"secret"));
    let key = NewKey { name: "gateway".into(), hash, nodes: nodes.clone(), at: UnixSeconds(0), by: "bench".into() };
    state.store.add_key(study_id, &key).await?;
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let base = format!("http://{}", listener.local_addr()?);
    let state = Data::new(state);
    tokio::spawn(server(state.clone(), listener, None)?);
    Ok((state, base, nodes))
}

/// Messages a second that the writer makes durable when they reach it read: without HTTP, whose two ends share these cores here.
async fn alone(state: &Data<State>, nodes: &[i64], senders: usize, first: i64) -> Result<f64, Failed> {
    let now = wall_clock();
    let begin = Instant::now();
    let tasks = (0..senders).map(|s| {
        let (state, node) = (state.clone(), nodes[10 + s % 80]);
        tokio::spawn(async move {
            for i in 0..MESSAGES / senders {
                let t = first + (s * MESSAGES / senders + i) as i64;
                let read = message::read(Form::Csv, records(t, 1).as_bytes(), now)?;
                state.intake.receive(node, read, now).await?;
            }
            Ok::<_, Failed>(())
        })
    });
    for task in tasks.collect::<Vec<_>>() {
        task.await??;
    }
    Ok((MESSAGES / senders * senders) as f64 / begin.elapsed().as_secs_f64())
}

/// Records of twelve ports from a time on.
fn records(from: i64, records: i64) -> String {
    let mut text = String::from("time,port,quantity,value,unit\n");
    for i in 0..records {
        let t = from + i * 900;
        for port in 0..PORTS {
            let value = 800.0 + ((t / 900 * 7919 + port as i64 * 104_729) % 1000) as f64 / 10.0;
            text.push_str(&format!("{t},m{port:02},raw_output,{value},mV\n"));
        }
    }
    text
}

/// Sends until it is taken: what is too much at once from one address is sent again, as the answer asks.
async fn send(client: &Client, base: &str, node: i64, message: &str) -> Result<(), Failed> {
    loop {
        let request = client.post(format!("{base}/api/v1/nodes/{node}/readings")).bearer_auth("secret");
        let answer = request.header("content-type", "text/csv").body(message.to_owned()).send().await?;
        match answer.status().as_u16() {
            200 => return Ok(()),
            503 => tokio::time::sleep(asked_to_wait(&answer)).await,
            _ => return Err(answer.text().await?.into()),
        }
    }
}

/// How long an answer asks to wait before it is tried again.
fn asked_to_wait(answer: &reqwest::Response) -> Duration {
    let seconds = answer.headers().get("retry-after").and_then(|s| s.to_str().ok()?.parse().ok());
    Duration::from_secs(seconds.unwrap_or(1))
}

/// Every node sends its nine days at once, a day a message, while two people look at pages.
async fn catch_up(base: &str, nodes: &[i64], now: i64) -> Result<(), Failed> {
    let (done, sent) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let lookers = PAGES.map(|path| {
        let (address, done) = (format!("{base}{path}"), Arc::clone(&done));
        tokio::spawn(async move {
            let (client, mut times) = (Client::new(), Vec::new());
            while !done.load(Ordering::Relaxed) {
                let begin = Instant::now();
                let answer = client.get(&address).send().await?;
                let good = answer.status().is_success();
                answer.bytes().await?;
                times.push(if good { begin.elapsed().as_secs_f64() * 1000.0 } else { f64::INFINITY });
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
            Ok::<_, reqwest::Error>((path, times))
        })
    });
    let begin = Instant::now();
    let tasks: Vec<_> = nodes
        .iter()
        .map(|node| {
            let (base, node, sent) = (base.to_owned(), *node, Arc::clone(&sent));
            tokio::spawn(async move {
                let client = Client::new();
                for day in 0..DAYS {
                    send(&client, &base, node, &records(now - (DAYS - day) * 86_400, 96)).await?;
                    sent.fetch_add(96 * PORTS, Ordering::Relaxed);
                }
                Ok::<_, Failed>(())
            })
        })
        .collect();
    for task in tasks {
        task.await??;
    }
    let (took, readings) = (begin.elapsed().as_secs_f64(), sent.load(Ordering::Relaxed));
    done.store(true, Ordering::Relaxed);
    tell(&format!(
        "{NODES} nodes catch up {DAYS} days: {readings} readings in {took:.1} s, {:.0} a second",
        readings as f64 / took
    ));
    for looker in lookers {
        let (path, mut times) = looker.await??;
        times.sort_by(f64::total_cmp);
        let at = |p: f64| times[((times.len() - 1) as f64 * p).round() as usize];
        let (median, late, worst) = (at(0.5), at(0.95), at(1.0));
        tell(&format!(
            "{path} meanwhile: {} times, median {median:.0} ms, p95 {late:.0} ms, worst {worst:.0} ms",
            times.len()
        ));
    }
    for path in PAGES {
        let begin = Instant::now();
        Client::new().get(format!("{base}{path}")).send().await?.bytes().await?;
        tell(&format!("{path} afterwards: {:.0} ms", begin.elapsed().as_secs_f64() * 1000.0));
    }
    Ok(())
}
