//! What the demo's record exports, byte for byte: moving code about changes none of it.

use ebrel_app::demo;
use ebrel_app::exporting::{Origins, Selection, counts, package, wide};
use ebrel_app::record::Flagged;
use ebrel_core::series::Belief;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::write_zip;
use ebrel_formats::wide::wide_csv;
use ebrel_store::Store;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::io::{Cursor, Read};

/// The first eight bytes of each file's SHA-256. A line changes only with a mend that explains it in the change log.
const KNOWN: [(&str, &str); 12] = [
    ("calibrations.csv", "c53924670bd0cba6"),
    ("channels.csv", "e4f6ae35395d9860"),
    ("clock_checks.csv", "9fbca6bb3eee9a64"),
    ("datapackage.json", "4a2ea89e62890b88"),
    ("deliveries.csv", "517eac7e68835ddf"),
    ("events.csv", "0378ebe66fe7e727"),
    ("flags.csv", "99da2cdc5a4f2efc"),
    ("horizons.csv", "b1461d1d78a83489"),
    ("readings.csv", "833d92b965b3de30"),
    ("references.csv", "a2bdd1a0d30d549d"),
    ("stations.csv", "cdae128feed069fb"),
    ("wide.csv", "017ff550460ecf1d"),
];

fn hash(bytes: &[u8]) -> String {
    hex::encode(&Sha256::digest(bytes)[..8])
}

#[tokio::test]
async fn the_demos_exports_are_what_they_were() {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    demo::seed(&store).await.unwrap();
    let parts = [Flagged::load(&store, 1).await.unwrap()];
    let origins = Origins::load(&store, &parts).await.unwrap();
    let [Flagged { record, flags }] = &parts;
    let (from, last) = record.extent().unwrap();
    let to = UnixSeconds(last.0 + 1);
    let selection = Selection { from, to, quantities: Vec::new(), belief: Belief::default() };
    let counts = counts(record, flags, &selection);
    assert!(counts.readings > 900_000 && counts.left_out > 300, "{counts:?}");

    let mut zip = Cursor::new(Vec::new());
    write_zip(package(&parts, &origins, &selection), &mut zip).unwrap();
    let mut zip = zip::ZipArchive::new(zip).unwrap();
    let mut found = BTreeMap::new();
    for i in 0..zip.len() {
        let mut entry = zip.by_index(i).unwrap();
        let mut bytes = Vec::new();
        entry.read_to_end(&mut bytes).unwrap();
        found.insert(entry.name().unwrap().into_owned(), hash(&bytes));
    }
    let mut table = Vec::new();
    wide_csv(wide(record, flags, &selection), record.study.utc_offset_minutes, &mut table).unwrap();
    found.insert("wide.csv".to_owned(), hash(&table));
    let known: BTreeMap<String, String> = KNOWN.iter().map(|(n, h)| ((*n).to_owned(), (*h).to_owned())).collect();
    assert_eq!(found, known);
}
