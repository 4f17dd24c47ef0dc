//! One edit of a calibration run with forty samples: sent, kept, worked out and answered over HTTP.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel::server::server;
use ebrel::state::{Mode, State};
use serde_json::{Value, json};
use std::net::TcpListener;
use tokio::runtime::Runtime;

/// Forty tins of a bent curve; the last one is typed over and over.
fn body(turn: usize) -> Value {
    let row = |i: usize| {
        let raw = 850.0 + 25.0 * i as f64;
        let theta = -0.1 + 1.2e-4 * raw + 8e-8 * raw * raw + [0.003, -0.002, 0.001][(i + turn) % 3];
        json!({"tin": i.to_string(), "raw": format!("{raw:.1}"), "tare": "20", "wet": format!("{:.2}", 150.0 + theta * 100.0),
               "dry": "150", "volume": "100"})
    };
    json!({"title": "Forty tins", "probe": null, "draft": {"unit": "mV", "density": "1.3", "rows": (0..40).map(row).collect::<Vec<_>>()}})
}

fn edit(c: &mut Criterion) {
    let runtime = Runtime::new().expect("a runtime");
    let dir = tempfile::tempdir().expect("a directory");
    let (base, client, token) = runtime.block_on(async {
        let app = State::open(dir.path(), Mode::Demo).await.expect("an application");
        ebrel_app::demo::seed(&app.store).await.expect("the demo");
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let base = format!("http://{}", listener.local_addr().expect("an address"));
        tokio::spawn(server(actix_web::web::Data::new(app), listener, None).expect("a server"));
        let client = reqwest::Client::builder().cookie_store(true).build().expect("a client");
        let page = client.get(format!("{base}/bench/4")).send().await.expect("a page").text().await.expect("its text");
        let token = page.split("ebrel-token\" content=\"").nth(1).and_then(|p| p.split('"').next()).expect("a token");
        (base, client, token.to_owned())
    });
    let mut turn = 0;
    let mut group = c.benchmark_group("run");
    group.sample_size(30);
    group.bench_function("an edit of a run with 40 samples, over HTTP", |b| {
        b.iter(|| {
            turn += 1;
            let sent =
                client.post(format!("{base}/bench/4/draft")).header("x-ebrel-token", &token).json(&body(turn)).send();
            let answer: Value =
                runtime.block_on(async { sent.await.expect("an answer").json().await.expect("its JSON") });
            assert_eq!(answer["figures"].as_array().map(Vec::len), Some(40));
        });
    });
    group.finish();
}

criterion_group!(benches, edit);
criterion_main!(benches);
