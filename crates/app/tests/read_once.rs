//! A file whose first look read all of it is stored from what was read, as if it were read again.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use ebrel_app::importing::{Begun, Job, Progress, Report, begin_to_store, latest, store_read};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::logger::{Reading, Text};
use ebrel_formats::rfc3339;
use ebrel_store::imports::Import;
use std::sync::Arc;

const FROM: i64 = 1_700_000_400;
const NOW: UnixSeconds = UnixSeconds(FROM + 400 * 86_400);

/// Records of a probe, a thermometer, a counter that runs over, and a battery; some cells are missing or no numbers.
fn text(records: i64, step: i64, time: Written) -> String {
    let mut text = String::from("time,m05 [mV],t05 [degC],tips,batt [V]\n");
    for i in 0..records {
        let m = if i % 97 == 3 { "ERR".to_owned() } else { format!("{:.1}", 900.0 + i as f64 / 100.0) };
        text +=
            &format!("{},{m},{:.2},{},3.6\n", time(FROM + i * step), 8.0 + (i % 100) as f64 / 100.0, i * 3 % 65_536);
    }
    text
}

type Written = fn(i64) -> String;

fn epoch(t: i64) -> String {
    t.to_string()
}

/// As most loggers write it, without its offset from UTC.
fn civil(t: i64) -> String {
    rfc3339(UnixSeconds(t)).replace('T', " ").replace('Z', "")
}

fn looked_at(content: &str) -> (Begun, Option<Vec<Reading>>, Text) {
    let text = Text::of_bytes(content.as_bytes()).unwrap();
    let (mut begun, read) = begin_to_store(&text, "x.csv", (None, &[]), 60, &[], NOW).unwrap();
    let tips = &mut begun.mapping.columns[2];
    (tips.quantity, tips.unit, tips.counter, tips.factor) = (Some(Quantity::Rain), "mm".into(), true, 0.2);
    begun.mapping.columns[3].quantity = None;
    (begun, read, text)
}

/// What became of it, and all that stands there then.
async fn stored(begun: &Begun, text: &Text, read: Option<Vec<Reading>>) -> (Report, Vec<(String, Vec<i64>, Vec<f64>)>) {
    let (at, station, _dir) = common::station().await;
    let import = Import::begun(station, "x.csv", NOW, "N. Arvel");
    let Begun { recipe, mapping, survey, .. } = begun.clone();
    let job = Job { text: text.clone(), recipe, mapping, survey, latest: latest(NOW) };
    let (_, report) = store_read(&at, &import, (&job, read), &Arc::new(Progress::default())).await.unwrap();
    let mut all = Vec::new();
    for stream in at.streams(station).await.unwrap() {
        let series = at.series(stream.id).await.unwrap();
        all.push((stream.port, series.times.to_vec(), series.values.clone()));
    }
    (report, all)
}

#[tokio::test]
async fn what_the_first_look_read_is_stored_as_if_the_file_were_read_again() {
    // The last third of the second one lies in the future; the third one's clock is an hour ahead of UTC.
    for (step, time, ahead) in [(900, epoch as Written, 0), (2400, epoch, 0), (900, civil, 3600)] {
        let (begun, read, text) = looked_at(&text(20_000, step, time));
        let read = read.expect("it is one piece");
        let later = (0..20_000).filter(|i| FROM + i * step > latest(NOW).0).count();
        let (report, all) = stored(&begun, &text, Some(read)).await;
        assert_eq!((report.clone(), all.clone()), stored(&begun, &text, None).await, "{step}");
        assert_eq!(all[0].1[0], FROM - ahead);
        assert_eq!(all.len(), 3, "the battery is left out");
        let sent = 3 * (20_000 - later) - (0..20_000 - later).filter(|i| i % 97 == 3).count();
        assert_eq!(report.new_readings, sent - 1, "the first count counts from nowhere");
        assert_eq!(all.iter().map(|of| of.1.len()).sum::<usize>(), sent - 1);
    }
}

#[test]
fn a_file_of_several_pieces_or_of_another_recipe_is_read_again() {
    let of = |records, step| looked_at(&text(records, step, epoch).replace("ERR", "900.0")).1.map(|read| read.len());
    assert_eq!(of(60_000, 60), Some(240_000), "so many are one piece");
    assert_eq!(of(60_001, 60), None, "more are several");
    assert!(of(20_000, 20_000).is_none(), "what lies mostly in the future is read as it stands, and stored otherwise");
}
