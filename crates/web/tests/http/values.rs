//! Readings as a table, and how one value came about: by a file, by a message, through a clock and a calibration.

use super::client::Visitor;
use super::nodes::{Rig, ago};
use ebrel_core::units::{DepthCm, Principle, UnixSeconds};
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use serde_json::{Value, json};

/// Address of the first value of a column of the table, from a page.
fn first_link(page: &str, nth: usize) -> String {
    page.split("href=\"/stations/1/values/")
        .nth(nth)
        .unwrap_or_else(|| panic!("{page}"))
        .split('"')
        .next()
        .unwrap()
        .to_owned()
}

async fn way(v: &Visitor, link: &str) -> (String, Value) {
    let page = v.page(&format!("/stations/1/values/{link}")).await;
    let (stream, at) = link.split_once('?').unwrap();
    let json = v.page(&format!("/stations/1/values/{stream}/way.json?{at}")).await;
    // Whatever the way names can be gone to.
    let main = page.split("<main").nth(1).unwrap();
    for link in
        main.split("href=\"").skip(1).map(|l| l.split('"').next().unwrap().replace("&amp;", "&").replace("&#38;", "&"))
    {
        assert_eq!(v.get(&link).await.status(), 200, "{link}");
    }
    (page, serde_json::from_str(&json).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_of_the_demo_is_led_back_through_its_calibration_to_what_the_node_said() {
    let visitor = Visitor::of_demo().await;
    let table = visitor.page("/stations/1/readings?from=2026-08-30&show=moisture").await;
    assert!(table.contains("96 records of 4 channels, 30 Aug 2026 00:00 to 30 Aug 2026 23:45."), "{table}");
    let (page, json) = way(&visitor, &first_link(&table, 1)).await;
    assert!(page.contains("certificate and samples") && page.contains("made up for the demo"), "{page}");
    let part = |name: &str| json["uncertainty"][name].as_f64().unwrap();
    let sum = ["tin", "curve", "resolution"].map(|p| part(p).powi(2)).iter().sum::<f64>().sqrt();
    assert!((sum - part("all")).abs() < 1e-9 && part("tin") > part("resolution"), "{json}");
    let (theta, raw) = (json["value"].as_f64().unwrap(), json["raw"]["value"].as_f64().unwrap());
    assert!(
        (0.05..0.5).contains(&theta) && raw > 300.0 && json["unit"] == "m3/m3" && json["raw"]["unit"] == "mV",
        "{json}"
    );
    assert_eq!((&json["placement"]["serial"], &json["placement"]["depth_cm"]), (&"BD-0417".into(), &5.0.into()));
    // Left out of findings, and said why.
    let flagged = visitor.page("/stations/1/readings?from=2026-06-22%2009:00&show=moisture").await;
    let link = flagged.split("class=\"flagged\"").next().unwrap().rsplit("href=\"/stations/1/values/").next().unwrap();
    let (page, json) = way(&visitor, link.split('"').next().unwrap()).await;
    assert!(page.contains("No verdict yet.") && json["flags"][0]["test"] == "stuck", "{json}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_message_brought_and_came_again_is_told_and_the_table_is_text_for_a_spreadsheet() {
    let rig = Rig::new().await;
    let t = ago(7200);
    let line = |i: i64, v: f64| format!("{},A1,soil_temperature,{v},degC\n", t + i * 900);
    rig.csv(&(0..5).map(|i| line(i, 12.25 + i as f64)).collect::<String>()).await;
    rig.csv(&line(2, 99.0)).await;
    let probe = Probe {
        id: 0,
        serial: "TH-1".into(),
        model: "thermistor".into(),
        principle: Principle::Thermometer,
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    let probe_id = rig.store.ensure_probe(&probe).await.unwrap();
    let placed = NewPlacement {
        node_id: rig.node,
        port: "A1".into(),
        probe_id,
        depth_cm: DepthCm::new(5.0).ok(),
        orientation: String::new(),
        starts: UnixSeconds(t),
        ends: None,
        note: String::new(),
    };
    rig.store.place(&placed).await.unwrap();
    let table = rig.owner.page("/stations/1/readings?show=temperature").await;
    assert!(table.contains("5 records of 1 channel"), "{table}");
    let (page, json) = way(&rig.owner, &first_link(&table, 3)).await;
    assert!(page.contains("a message of the node, received") && page.contains("it came again as"), "{page}");
    assert_eq!(
        (&json["came"]["by"], &json["contradicting"]),
        (&"message".into(), &json!([{"first": 14.25, "later": 99.0, "stands": "first", "decided": ""}]))
    );
    // Somebody chooses, sees it stand, and takes it back.
    let address = "/stations/1/contradictions";
    let page = rig.owner.page(address).await;
    assert!(
        page.contains("1 reading in 1 span waits") && page.contains("received") && page.contains("84.75\u{a0}°C apart"),
        "{page}"
    );
    let hidden = |page: &str, name: &str| {
        page.split(&format!("name=\"{name}\" value=\"")).nth(1).unwrap().split('"').next().unwrap().to_owned()
    };
    let fields: Vec<(&str, String)> =
        ["stream", "batch", "from", "to"].into_iter().map(|name| (name, hidden(&page, name))).collect();
    let choose = async |take: &str, reason: &str| {
        let mut form: Vec<(&str, &str)> = fields.iter().map(|(k, v)| (*k, v.as_str())).collect();
        form.extend([("take", take), ("reason", reason)]);
        let answer = rig.owner.post(address, &form).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let long = "θ".repeat(401);
    let (status, page) = choose("later", &long).await;
    assert!(status == 200 && page.contains(&long) && page.contains("role=\"alert\""), "what was typed stays");
    assert_eq!(choose("both", "").await.0, 200);
    assert_eq!(choose("later", "a kettle stood on it").await.0, 303);
    let page = rig.owner.page(address).await;
    assert!(page.contains("Nothing waits") && page.contains("the later values stand, chosen by N. Arvel"), "{page}");
    let (page, way_now) = way(&rig.owner, &first_link(&table, 3)).await;
    assert!(page.contains("a kettle stood on it") && way_now["value"] == 99.0, "{way_now}");
    assert!(!rig.owner.page("/stations/1").await.contains("came twice"));
    let choice = hidden(&rig.owner.page(address).await, "choice");
    let undo = [("take", "undo"), ("choice", choice.as_str())];
    assert_eq!(rig.owner.post(address, &undo).await.status(), 303);
    assert_eq!(rig.owner.post(address, &undo).await.status(), 200, "from another tab: told, not done twice");
    assert_eq!(way(&rig.owner, &first_link(&table, 3)).await.1["value"], 14.25);
    let text = rig.owner.page(&format!("/stations/1/readings.tsv?show=temperature&at={t}")).await;
    let lines: Vec<Vec<&str>> = text.lines().map(|l| l.split('\t').collect()).collect();
    assert!(lines.iter().all(|l| l.len() == 3) && lines.len() == 6, "{text}");
    assert_eq!(lines[1][1], "12.25");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_from_a_file_names_its_line() {
    let owner = Visitor::owner().await;
    let mut file = String::from("time,t05 [degC],t15 [degC]\n");
    for i in 0..60 {
        file.push_str(&format!("2026-03-{:02}T{:02}:00:00Z,{}.5,8.25\n", 1 + i / 24, i % 24, i % 24));
    }
    let shown = owner.upload("node θ.csv", file.as_bytes()).await;
    let leads = shown.headers()["location"].to_str().unwrap().to_owned();
    let stored = owner.send_plan(&leads, &[("do", "store")]).await;
    assert_eq!(stored.status(), 303, "{}", stored.text().await.unwrap());
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    for _ in 0..100 {
        if store.extent(1).await.unwrap().is_some_and(|e| e.1.0 == 1_772_323_200 + 59 * 3600) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let table = owner.page("/stations/1/readings?show=temperature&from=2026-03-02").await;
    let (page, json) = way(&owner, &first_link(&table, 1)).await;
    assert_eq!((&json["came"]["file"]["line"], &json["raw"]["value"]), (&26.into(), &0.5.into()), "{json}");
    assert!(page.contains("line 26 of node θ.csv"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_windows_and_values_that_are_not_there_are_answered() {
    let owner = Visitor::owner().await;
    assert!(owner.page("/stations/1/readings").await.contains("No channel of Tub 1 tells of this."));
    let year = owner.page("/stations/1/readings?from=2026").await;
    assert!(year.contains("“2026” is no date and time"), "a year alone is no moment of 1970: {year}");
    let page = owner.page("/stations/1/readings?from=yesterday&show=%22%3E").await;
    assert!(page.contains("value=\"yesterday\"") && page.contains("invalid-feedback"), "{page}");
    for (path, status) in [
        ("/stations/1/values/1?at=0", 404),
        ("/stations/1/values/1", 422),
        ("/stations/1/values/1/way.json?at=99999999999999", 404),
        ("/stations/1/readings.tsv?from=x", 422),
    ] {
        assert_eq!(owner.get(path).await.status(), status, "{path}");
    }
    assert_eq!(owner.get("/stations/1/readings?at=-9223372036854775808").await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_notebook_is_pasted_once_and_a_slip_stores_nothing() {
    let owner = Visitor::owner().await;
    let address = "/stations/1/by-hand";
    let paste = async |port: &str, quantity: &str, table: &str| {
        let answer =
            owner.post(address, &[("port", port), ("quantity", quantity), ("unit", ""), ("table", table)]).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    let store = ebrel_store::Store::open(&owner.data().join("ebrel.db")).await.unwrap();
    for (port, quantity, table, says) in [
        ("gauge θ", "rain", "2026-05-01 07:00\t12.4\nyesterday\t3\n", "Line 2: “yesterday” is no date and time"),
        ("gauge θ", "rain", "", "Paste at least one line"),
        ("", "rain", "2026-05-01 07:00 1", "Give what it was read from"),
        ("gauge θ", "sunshine", "2026-05-01 07:00 1", "Choose what was read."),
        ("gauge θ", "raw_output", "2026-05-01 07:00 1", "Give the unit of the raw output"),
        ("gauge θ", "rain", "2096-05-01 07:00 1", "is still to come"),
        ("gauge θ", "rain", &"2026-05-01 07:00\t1\n".repeat(5_001), "There are more than 5000 lines"),
    ] {
        let (status, page) = paste(port, quantity, table).await;
        assert!(
            status == 200 && page.contains(says) && page.contains(table.lines().next().unwrap_or("")),
            "{says}: {page}"
        );
    }
    assert!(store.streams(1).await.unwrap().is_empty(), "nothing is stored");
    let table = "day\train\n2026-05-01 07:00\t12,4\n2026-05-02 07:00\t0\n";
    for (new, known) in [(2, 0), (0, 2)] {
        assert_eq!(paste("gauge θ", "rain", table).await.0, 303);
        let page = owner.page("/stations/1/placements").await;
        let says = format!(
            "3 lines: {new} readings new, {known} known, 0 with another value than is known, 1 without a reading."
        );
        assert!(page.contains(&says), "{says}: {page}");
    }
    // Nobody expects a notebook to send: it is never silent.
    assert!(!owner.page("/studies/1").await.contains("silent"));
}
