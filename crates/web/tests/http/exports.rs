//! What is taken out of a station: the counts that are told, the files, and who goes away meanwhile.

use super::client::Visitor;
use ebrel_formats::package::{Package, read_zip};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

const STATION: &str = "/stations/1/export";

async fn package(v: &Visitor, query: &str) -> Package {
    let answer = v.get(&format!("{STATION}/package.zip?{query}")).await;
    assert_eq!(answer.headers()["content-disposition"], "attachment; filename=\"cut.zip\"");
    read_zip(&answer.bytes().await.unwrap(), "cut.zip").unwrap()
}

/// The numbers of "12 readings of 3 channels; 4 are left out."
async fn told(v: &Visitor, query: &str) -> [usize; 3] {
    let page = v.page(&format!("{STATION}?{query}")).await;
    let text = scraper::Html::parse_document(&page).root_element().text().collect::<String>();
    let end = text.find(" are left out.").unwrap();
    let sentence = text[..end].rsplit(['\n', '>']).next().unwrap().replace('\u{202f}', "");
    let numbers: Vec<usize> = sentence.split(|c: char| !c.is_ascii_digit()).filter_map(|n| n.parse().ok()).collect();
    numbers.try_into().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_told_before_is_what_comes_out() {
    let v = Visitor::of_demo().await;
    let whole = "chosen=1&from=2024-09-01+00:00&to=2024-10-01+00:00";
    let selections = [
        String::new(),
        "&leave_out=wrong".into(),
        "&leave_out=wrong&leave_out=doubtful&leave_out=condition".into(),
        "&quantity=soil_temperature&leave_out=wrong".into(),
        "&quantity=rain".into(),
    ];
    for more in selections {
        let query = format!("{whole}{more}");
        let [readings, channels, left_out] = told(&v, &query).await;
        let kept = package(&v, &query).await;
        let count = |p: &Package| p.channels.iter().map(|c| c.1.len()).sum::<usize>();
        assert_eq!((count(&kept), kept.channels.len()), (readings, channels), "{query}");
        let quantities = more.split('&').filter(|p| p.starts_with("quantity=")).collect::<Vec<_>>().join("&");
        let all = package(&v, &format!("{whole}&{quantities}")).await;
        assert_eq!(count(&all), readings + left_out, "{query}: in and out agree");
        let wide = v.get(&format!("{STATION}/wide.csv?{query}")).await.text().await.unwrap();
        let mut rows = csv::Reader::from_reader(wide.as_bytes());
        let cells: usize = rows
            .records()
            .map(|r| r.unwrap())
            .map(|r| r.iter().skip(1).take(channels).filter(|c| !c.is_empty()).count())
            .sum();
        let finite = kept.channels.iter().flat_map(|c| c.1.iter()).filter(|r| r.value.is_finite()).count();
        assert_eq!(cells, finite, "{query}: the wide table has them too");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flag_that_stays_in_is_a_remark_on_each_of_its_rows() {
    let v = Visitor::of_demo().await;
    let query = "chosen=1&from=2024-09-01+00:00&to=2024-10-01+00:00";
    let package = package(&v, query).await;
    let wide = v.get(&format!("{STATION}/wide.csv?{query}")).await.text().await.unwrap();
    let mut reader = csv::Reader::from_reader(wide.as_bytes());
    let remarks: BTreeMap<String, String> =
        reader.records().map(|r| r.unwrap()).map(|r| (r[0].to_owned(), r[r.len() - 1].to_owned())).collect();
    let mut expected: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for flag in &package.flags {
        let (_, readings) = package.channels.iter().find(|c| c.0.channel == flag.channel).unwrap();
        for reading in readings.iter().filter(|r| (flag.start..=flag.end).contains(&r.time)) {
            let stamp = ebrel_formats::rfc3339(reading.time).replace('T', " ").replace('Z', "");
            expected.entry(stamp).or_default().insert(flag.test.clone());
        }
    }
    assert!(expected.len() > 200, "the pulled plug and more: {}", expected.len());
    for (stamp, remark) in &remarks {
        let tests: BTreeSet<String> =
            remark.split("; ").filter_map(|r| r.rsplit_once(": ")).map(|r| r.1.to_owned()).collect();
        assert_eq!(tests, expected.get(stamp).cloned().unwrap_or_default(), "{stamp}: {remark}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_goes_away_from_an_export_stops_nobody() {
    let v = Visitor::of_demo().await;
    for _ in 0..6 {
        let address = format!("{}{STATION}/wide.csv?chosen=1", v.base);
        let hasty = v.client.get(address).timeout(Duration::from_millis(30)).send().await;
        drop(hasty);
    }
    assert_eq!(v.get(&format!("{STATION}/wide.csv?from=2024-09-10&to=2024-09-11")).await.status(), 200);
    assert_eq!(v.get("/stations/1").await.status(), 200);
}
