//! The network's page and a node's: what is silent, late, empty or wet is said, and ends by itself.

use super::client::Visitor;
use super::nodes::{Rig, ago};
use ebrel_core::units::UnixSeconds;

#[tokio::test(flavor = "multi_thread")]
async fn a_silence_stands_on_the_first_page_and_ends_with_the_next_reading() {
    let rig = Rig::new().await;
    let node = rig.node;
    let empty = rig.owner.page("/studies/1/network").await;
    assert!(empty.contains("1 node; never heard: node θ."), "{empty}");
    let line = |t: i64| {
        format!("{t},A1,raw_output,812.5,mV\n{t},batt,battery_voltage,3.61,V\n{t},box,enclosure_humidity,88,%\n")
    };
    rig.csv(&line(ago(3 * 86_400))).await;
    let first = rig.owner.page("/studies/1").await;
    assert!(first.contains("node θ of Tub 1 has been silent for 3 days: 18 sendings missed."), "{first}");
    assert!(first.contains(&format!("href=\"/stations/1/nodes/{node}\"")), "{first}");
    let page = rig.owner.page("/studies/1/network").await;
    assert!(page.contains("1 node; silent: node θ; wet box: node θ."), "{page}");
    let own = rig.owner.page(&format!("/stations/1/nodes/{node}?days=30")).await;
    assert!(own.contains("18 sendings missed, one each 4 h (assumed)") && own.contains("wet above 60"), "{own}");
    assert!(own.contains("too few days tell a trend"), "{own}");
    rig.csv(&line(ago(600))).await;
    assert!(!rig.owner.page("/studies/1").await.contains("silent"));
    assert!(rig.owner.page("/studies/1/network").await.contains("1 node; wet box: node θ."));
    // Only the port in the soil wants a probe: battery and box are the node's own.
    assert!(rig.owner.page("/stations/1/nodes").await.contains("1 node; 1 port has no probe placed at it."));
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_addresses_are_answered_and_nobody_else_looks_in() {
    let rig = Rig::new().await;
    for (path, status) in [
        ("/stations/1/nodes/4711", 404),
        ("/stations/1/nodes/x", 404),
        ("/studies/9/network", 404),
        ("/asides/7", 404),
        ("/studies/1/network?days=x", 422),
    ] {
        assert_eq!(rig.owner.get(path).await.status(), status, "{path}");
    }
    assert!(
        rig.owner.page("/studies/1/network?days=77").await.contains("aria-current"),
        "another span is the usual one"
    );
    let stranger = rig.owner.another();
    assert_eq!(stranger.get("/studies/1/network").await.status(), 303);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_shows_an_outage_that_was_made_up_for() {
    let visitor = Visitor::of_demo().await;
    let page = visitor.page("/studies/1/network").await;
    let late = page.split("class=\"late\" d=\"").nth(1).unwrap().split('"').next().unwrap();
    assert_eq!(late.matches('M').count(), 9, "nine days came late: {late}");
    let store = ebrel_store::Store::open(&visitor.data().join("ebrel.db")).await.unwrap();
    let streams = store.streams(1).await.unwrap();
    let heard = ebrel_app::network::heard(&store, &streams, UnixSeconds(1_788_242_400)).await.unwrap();
    assert!(!heard.is_empty() && heard.values().all(|h| !h.is_silent()), "{heard:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn while_readings_stream_in_pages_show_some_seconds_ago_and_then_what_is() {
    let rig = Rig::new().await;
    let line = |t: i64| format!("{t},batt,battery_voltage,3.61,V\n");
    rig.csv(&line(ago(3 * 86_400))).await;
    let silent = "1 node; silent: node θ.";
    assert!(rig.owner.page("/studies/1/network").await.contains(silent));
    rig.owner.page("/studies/1").await;
    // A single message changes what the page says at once; a stream of them does not wait for each other's pages.
    let stream: Vec<_> = (0..40).map(|n| line(ago(600) + n)).collect();
    futures_util::future::join_all(stream.iter().map(|l| rig.csv(l))).await;
    assert!(rig.owner.page("/studies/1/network").await.contains(silent), "as it was before the stream");
    assert!(rig.owner.page("/studies/1").await.contains("Tub 1"));
    tokio::time::sleep(std::time::Duration::from_millis(2200)).await;
    assert!(!rig.owner.page("/studies/1/network").await.contains("silent"), "the stream has ended");
}
