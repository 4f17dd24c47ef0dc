//! One edit of a calibration run with forty samples: sent, kept, worked out and answered over HTTP.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel::server::server;
use ebrel::state::{Mode, State};
use std::net::TcpListener;
use tokio::runtime::Runtime;

/// Forty tins of a bent curve; the last one is typed over and over.
fn body(turn: usize, token: &str) -> Vec<(String, String)> {
    let row = |i: usize| {
        let raw = 850.0 + 25.0 * i as f64;
        let theta = -0.1 + 1.2e-4 * raw + 8e-8 * raw * raw + [0.003, -0.002, 0.001][(i + turn) % 3];
        let cells = [
            ("tin", i.to_string()),
            ("raw", format!("{raw:.1}")),
            ("tare", "20".to_owned()),
            ("wet", format!("{:.2}", 150.0 + theta * 100.0)),
            ("dry", "150".to_owned()),
            ("volume", "100".to_owned()),
        ];
        cells.map(|(name, text)| (format!("rows.{i}.{name}"), text))
    };
    let head = [("title", "Forty tins"), ("density", "1.3"), ("live", "yes"), ("token", token)];
    let head = head.map(|(name, text)| (name.to_owned(), text.to_owned()));
    head.into_iter().chain((0..40).flat_map(row)).collect()
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
            let sent = client.post(format!("{base}/bench/4")).form(&body(turn, &token)).send();
            let page = runtime.block_on(async { sent.await.expect("an answer").text().await.expect("its page") });
            assert!(page.contains("data-live=\"rows.39.theta\">0."), "the last sample is worked out");
        });
    });
    group.finish();
}

criterion_group!(benches, edit);
criterion_main!(benches);
