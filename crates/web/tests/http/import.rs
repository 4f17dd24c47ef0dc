//! Logger files through the browser's forms.

use super::client::Visitor;

fn file(lines: usize) -> String {
    let mut text = String::from("time,m05,t05\n,mV,degC\n");
    for i in 0..lines {
        let (day, quarter) = (1 + i / 96, i % 96);
        text +=
            &format!("2026-03-{day:02} {:02}:{:02}:00,{}.5,4.{}\n", quarter / 4, quarter % 4 * 15, 880 + i % 7, i % 10);
    }
    text
}

async fn begin(v: &Visitor, name: &str, bytes: &[u8]) -> String {
    let answer = v.upload(name, bytes).await;
    assert_eq!(answer.status(), 303, "{}", answer.text().await.unwrap());
    answer.headers()["location"].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_stored_once_however_often_it_is_sent() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", file(300).as_bytes()).await;
    assert!(v.page(&plan).await.contains("300 records"));
    assert!(v.page("/stations/1").await.contains("No readings yet"), "nothing is stored before it is said so");
    let stored = v.send_plan(&plan, &[("do", "store")]).await;
    assert_eq!(stored.status(), 303);
    assert!(v.page(&plan).await.contains("300 records are stored."));

    let again = begin(&v, "again.csv", file(310).as_bytes()).await;
    v.send_plan(&again, &[("do", "store")]).await;
    assert!(v.page(&again).await.contains("10 records are stored; 300 were known already."));
    let third = begin(&v, "again.csv", file(310).as_bytes()).await;
    v.send_plan(&third, &[("do", "store")]).await;
    assert!(v.page(&third).await.contains("Nothing new: all 310 records were known already."));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_keeps_few_readings_and_the_store_all() {
    let v = Visitor::owner().await;
    let lines = (0..12_000).map(|i| format!("{},{}.5\n", 1_700_000_000 + i * 900, 880 + i % 7));
    let text = format!("t,m05 [mV]\n{}", lines.collect::<String>());
    let plan = begin(&v, "long.csv", text.as_bytes()).await;
    assert!(v.page(&plan).await.contains("12\u{202f}000 records"), "all are counted");
    assert_eq!(v.send_plan(&plan, &[("do", "store")]).await.status(), 303);
    let report = v.page(&plan).await;
    assert!(report.contains("12\u{202f}000 records are stored."), "{report}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_correction_of_the_recipe_is_seen_before_it_is_stored() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", file(100).as_bytes()).await;
    let zone = v.send_plan(&plan, &[("clock", "zone"), ("zone", "Mars/Base")]).await.text().await.unwrap();
    assert!(zone.contains("There is no such zone") && zone.contains("value=\"Mars/Base\""));
    let moved = v.send_plan(&plan, &[("offset", "60"), ("do", "preview")]).await.text().await.unwrap();
    assert!(moved.contains("28 Feb 2026 23:00"), "an hour earlier in UTC");
    let depth = v.send_plan(&plan, &[("depth-0", "five")]).await.text().await.unwrap();
    assert!(depth.contains("“five” is no number") && depth.contains("value=\"five\""));
    let unit = v.send_plan(&plan, &[("unit-1", "F")]).await.text().await.unwrap();
    assert!(unit.contains("soil temperature is stored in degC"));
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_none_get_a_sentence_at_the_field() {
    let v = Visitor::owner().await;
    for (name, bytes, sentence) in [
        ("empty.csv", &b""[..], "the file is empty"),
        ("photo.png", &b"\x89PNG\r\n\x1a\n0000"[..], "this is a picture (PNG)"),
    ] {
        let page = v.upload(name, bytes).await.text().await.unwrap();
        assert!(page.contains(sentence) && page.contains("invalid-feedback"), "{name}");
    }
    // What nothing can be guessed of is told by hand, on the form.
    let endless = "1,".repeat(1 << 20);
    for (name, bytes) in [
        ("endless.csv", endless.as_bytes()),
        ("letter.txt", &b"Dear all,\nthe logger is in the hut.\n"[..]),
        ("pairs.csv", &b"a;b\n1234;5.5\n2345;6.5\n"[..]),
    ] {
        let form = v.upload(name, bytes).await.headers()["location"].to_str().unwrap().to_owned();
        let page = v.page(&form).await;
        assert!(
            page.contains("No line could be read with this recipe") && page.contains("time_pattern"),
            "{name}: {page}"
        );
        assert_eq!(page.contains("<option value=\"semicolon\" selected>semicolon"), name == "pairs.csv", "{page}");
    }
    assert!(v.page("/stations/1").await.contains("No readings yet"));
}

#[tokio::test(flavor = "multi_thread")]
async fn utf16_is_read_and_the_future_is_not_stored() {
    let v = Visitor::owner().await;
    let utf16: Vec<u8> = [0xff, 0xfe].into_iter().chain(file(60).encode_utf16().flat_map(u16::to_le_bytes)).collect();
    let plan = begin(&v, "wide.csv", &utf16).await;
    assert!(v.page(&plan).await.contains("60 records"));
    let future = begin(&v, "future.csv", file(60).replace("2026-03", "2199-03").as_bytes()).await;
    let page = v.send_plan(&future, &[("do", "store")]).await.text().await.unwrap();
    assert!(page.contains("lies in the future"));
    assert!(v.page("/stations/1").await.contains("No readings yet"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_port_keeps_its_unit_and_nothing_is_stored_by_halves() {
    let v = Visitor::owner().await;
    let plan = begin(&v, "node.csv", file(50).as_bytes()).await;
    v.send_plan(&plan, &[("do", "store"), ("node", "node 9")]).await;
    let other = begin(&v, "other.csv", file(90).replace(",mV,", ",counts,").as_bytes()).await;
    let page = v.send_plan(&other, &[("do", "store"), ("node", "node 9")]).await.text().await.unwrap();
    assert!(page.contains("in mV so far; this file gives counts"), "{page}");
    let data = v.page("/stations/1/export").await;
    assert!(data.contains("100 readings of 2 channels"), "only the first file is there");
}
