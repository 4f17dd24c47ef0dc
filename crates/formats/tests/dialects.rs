//! Further dialects, each small, and packages from elsewhere.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_formats::logger::{Clock, Read, Recipe, Separator, Text, guess, read};
use ebrel_formats::package::{PackageError, read_path, read_zip};
use ebrel_formats::rfc3339;

/// Forty records of a dialect: `line` writes the one at a civil time.
fn forty(head: &str, line: impl Fn(i64, &jiff::civil::DateTime) -> String) -> (Read, Recipe) {
    let mut text = head.to_owned();
    for i in 0..40 {
        let t = jiff::civil::date(2026, 5, 30).at(22, 0, 0, 0) + jiff::SignedDuration::from_mins(30 * i);
        text += &line(i, &t);
        text.push('\n');
    }
    let text = Text::of_bytes(text.as_bytes()).unwrap();
    let recipe = guess(&text, 0).unwrap().recipe;
    (read(&text, &recipe).unwrap(), recipe)
}

fn first(read: &Read) -> String {
    rfc3339(read.survey.extent.unwrap().0)
}

#[track_caller]
fn sound(read: &Read, columns: usize) {
    assert_eq!(
        (read.survey.records, read.survey.columns.len(), read.problems.len()),
        (40, columns, 0),
        "{:?}",
        read.problems
    );
    assert!(read.survey.columns.iter().all(|c| c.valid == 40), "{:?}", read.survey.columns);
    assert_eq!(read.survey.interval_s, Some(1800));
}

#[test]
fn seconds_since_1970() {
    let (got, recipe) = forty("t,m05\n", |i, _| format!("{},{}", 1_780_000_200 + i * 1800, 900 + i));
    sound(&got, 1);
    assert_eq!((recipe.time.forms[0].as_str(), first(&got).as_str()), ("%s", "2026-05-28T20:30:00Z"));
}

#[test]
fn bars_and_the_month_by_name() {
    let (got, recipe) = forty("when|soil|air\n", |i, t| format!("{}|{}.5|{}.25", t.strftime("%d-%b-%Y %H:%M"), i, i));
    sound(&got, 2);
    assert_eq!(recipe.separator(), Some(Separator::Bar));
    assert_eq!(first(&got), "2026-05-30T22:00:00Z");
}

#[test]
fn blanks_of_any_number() {
    let (got, recipe) = forty("", |i, t| format!("{}   {}.5  {}", t.strftime("%Y-%m-%d %H:%M:%S"), i, 900 + i));
    sound(&got, 2);
    assert_eq!(recipe.separator(), Some(Separator::Blanks));
    assert_eq!(got.survey.columns[0].name, "column 3", "a file without names counts its columns");
}

#[test]
fn an_offset_in_every_line_beats_the_clock() {
    let (got, _) = forty("time,v\n", |i, t| format!("{}+02:00,{i}.5", t.strftime("%Y-%m-%dT%H:%M:%S")));
    sound(&got, 1);
    assert_eq!(first(&got), "2026-05-30T20:00:00Z");
}

#[test]
fn fractions_of_seconds() {
    let (got, _) = forty("time;v\n", |i, t| format!("{}.250;{i},5", t.strftime("%Y-%m-%d %H:%M:%S")));
    sound(&got, 1);
}

#[test]
fn a_slash_between_day_month_and_year() {
    let (got, recipe) = forty("time,v\n", |i, t| format!("{},{i}.5", t.strftime("%d/%m/%Y %H:%M")));
    sound(&got, 1);
    assert_eq!(recipe.time.forms[0], "%d/%m/%Y %H:%M");
}

#[test]
fn quoted_names_with_separators_in_them() {
    let (got, _) =
        forty("\"time, UTC\",\"water, 5 cm\"\n", |i, t| format!("\"{}\",\"{i}.5\"", t.strftime("%Y-%m-%d %H:%M")));
    sound(&got, 1);
    assert_eq!(got.survey.columns[0].name, "water, 5 cm");
}

#[test]
fn a_dark_age_of_single_byte_letters() {
    let mut bytes = b"Zeit;Boden [\xb0C]\n".to_vec();
    for i in 0..40 {
        bytes.extend(format!("01.06.2026 {:02}:{:02};1{},5\n", i / 2, i % 2 * 30, i % 10).bytes());
    }
    let text = Text::of_bytes(bytes).unwrap();
    let got = read(&text, &guess(&text, 60).unwrap().recipe).unwrap();
    sound(&got, 1);
    assert_eq!(got.survey.columns[0].name, "Boden [°C]");
    assert_eq!(first(&got), "2026-05-31T23:00:00Z", "the study's offset is taken where the file tells nothing");
}

#[test]
fn sentinels_of_several_kinds_are_missing_readings() {
    let cell = |i: i64| match i {
        3 => "6999".to_owned(),
        7 => "NULL".to_owned(),
        11 => "--".to_owned(),
        15 => "-9999".to_owned(),
        19 => String::new(),
        _ => format!("{}.5", 20 + i % 5),
    };
    let (got, recipe) = forty("time,t05\n", |i, t| format!("{},{}", t.strftime("%Y-%m-%d %H:%M"), cell(i)));
    assert_eq!((got.survey.columns[0].valid, got.survey.columns[0].missing, got.problems.len()), (35, 5, 0));
    assert_eq!(recipe.missing, ["--", "-9999", "6999", "NULL"]);
}

#[test]
fn two_lines_run_together_are_named() {
    let (got, _) = forty("time,a,b\n", |i, t| {
        let line = format!("{},{i}.5,7", t.strftime("%Y-%m-%d %H:%M"));
        if i == 20 { format!("{line}{line}") } else { line }
    });
    assert_eq!(got.problems.len(), 1);
    assert!(got.problems[0].fault.to_string().contains("run together"), "{}", got.problems[0].fault.to_string());
    assert_eq!((got.survey.records, got.problems[0].line), (39, 22));
}

#[test]
fn a_recipe_survives_being_saved() {
    let (_, recipe) = forty("time;v\n", |i, t| format!("{};{i},5", t.strftime("%d.%m.%Y %H:%M")));
    let text = serde_json::to_string(&recipe).unwrap();
    assert_eq!(serde_json::from_str::<Recipe>(&text).unwrap(), recipe);
    let mut unknown = recipe;
    unknown.time.clock = Clock::Zone("Mars/Base".into());
    assert!(read(&Text::of_bytes(*b"x").unwrap(), &unknown).unwrap_err().to_string().contains("Europe/Paris"));
}

const CHANNELS: &str =
    "channel,station,quantity,unit,depth_cm,interval_s,colour\na.m05,a,water_content,m3/m3,5,900,blue\n";

fn folder(files: &[(&str, &str)]) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    for (name, text) in files {
        std::fs::write(dir.path().join(name), text).unwrap();
    }
    dir
}

#[test]
fn a_package_from_elsewhere_may_be_a_bare_folder_with_more_columns() {
    let readings = "time,value,channel,mood\n2026-03-01T00:15:00Z,0.31,a.m05,good\n2026-03-01T00:30:00Z,,a.m05,\n";
    let dir = folder(&[("channels.csv", CHANNELS), ("readings.csv", readings)]);
    let package = read_path(dir.path()).unwrap();
    let (row, readings) = &package.channels[0];
    assert_eq!((row.depth_cm, row.interval_s, readings.len()), (Some(5.0), Some(900), 2));
    assert_eq!((readings.times[0], readings.values[0]), (1_772_324_100, 0.31));
    assert!(readings.values[1].is_nan() && readings.get(1).unwrap().raw.is_none());
}

#[test]
fn what_is_wrong_with_a_package_is_said_by_table_and_line() {
    let message = |files: &[(&str, &str)]| read_path(folder(files).path()).unwrap_err().to_string();
    assert!(message(&[("readings.csv", "channel,time,value\n")]).contains("channels.csv is missing"));
    assert!(message(&[("channels.csv", CHANNELS)]).contains("readings.csv is missing"));
    let with = |rows: &str| message(&[("channels.csv", CHANNELS), ("readings.csv", rows)]);
    assert_eq!(with("channel,time\n"), "readings.csv, line 1: the column “value” is missing");
    let head = "channel,time,value\na.m05,2026-03-01T00:15:00Z,0.3\n";
    assert!(
        with(&format!("{head}a.m05,yesterday,0.3\n")).starts_with("readings.csv, line 3: “yesterday” is no RFC 3339")
    );
    assert!(with(&format!("{head}a.m05,2026-03-01T00:30:00Z,O.3\n")).contains("line 3: “O.3” is no number"));
    assert!(with(&format!("{head}b.m05,2026-03-01T00:30:00Z,0.3\n")).contains("“b.m05” is not in channels.csv"));
    assert!(matches!(read_path(std::path::Path::new("nowhere.zip")), Err(PackageError::Open { .. })));
    assert!(read_zip(b"no zip at all", "x.zip").is_err());
}

#[test]
fn a_file_of_two_records_is_enough() {
    for text in [
        "time,t05 [degC],m05 [mV]\n2026-03-02 00:00,4.1,900\n2026-03-02 00:15,4.2,901\n",
        "time;a\n2026-03-02 00:00;4.1\n",
    ] {
        let text = Text::of_bytes(text.as_bytes()).unwrap();
        let got = read(&text, &guess(&text, 0).unwrap().recipe).unwrap();
        assert_eq!((got.survey.tally.header, got.problems.len()), (1, 0), "{:?}", got.survey.tally);
        assert!(got.survey.columns.iter().all(|c| c.valid == got.survey.records), "{:?}", got.survey.columns);
    }
}

#[test]
fn a_table_whose_times_are_days_is_read_beside_a_line_of_yet_another_form() {
    let quarters: String = (0..200)
        .map(|i| format!("2026-03-{:02} {:02}:{:02}:00;0.2{i:02}\n", 1 + i / 96, i / 4 % 24, i % 4 * 15))
        .collect();
    let text = format!(
        "*** TABLE Q\ntime;wc5\n{quarters}*** TABLE DAY\nday;rain\n2026-03-01;1.5\n2026-03-02;0.0\n*** TABLE Q\ntime;wc5\n2026-03-05 00:00;0.3\n"
    );
    let text = Text::of_bytes(text.into_bytes()).unwrap();
    let got = read(&text, &guess(&text, 0).unwrap().recipe).unwrap();
    let tables: Vec<_> = got.survey.columns.iter().map(|c| (c.table.as_str(), c.valid)).collect();
    assert_eq!(tables, [("Q", 200), ("DAY", 2)], "{:?}", got.survey.groups);
    assert_eq!(got.survey.tally.unreadable, 1, "the line without seconds is told");
}

#[test]
fn every_fault_of_a_package_is_named_and_not_the_first_alone() {
    let channels = "channel,station,quantity,unit,instrument_min,instrument_max\na,s,water_content,m3/m3,0.5,0.1\nb,s,wetness,m3/m3,,\na,s,rain,mm,,\n";
    let readings = "channel,time,value\na,2026-03-01T00:15:00Z,0.31\nnowhere,2026-03-01T00:15:00Z,1\na,yesterday,1\na,2026-03-01T00:30:00Z,wet\n";
    let events = "station,kind,start,end,amount,unit,note\ns,visit,2026-03-02T00:00:00Z,2026-03-01T00:00:00Z,,,\n";
    let dir = folder(&[("channels.csv", channels), ("readings.csv", readings), ("events.csv", events)]);
    let told = read_path(dir.path()).unwrap_err().to_string();
    for part in [
        "channels.csv, line 2: the least that “a” can tell lies over the greatest",
        "channels.csv, line 3: “wetness” is no quantity of a package",
        "channels.csv, line 4: the channel “a” stands there twice",
        "events.csv, line 2: the event “visit” ends before it starts",
        "readings.csv, line 3: channel “nowhere” is not in channels.csv",
        "readings.csv, line 4: “yesterday” is no RFC 3339 time",
        "readings.csv, line 5: “wet” is no number",
    ] {
        assert!(told.contains(part), "{part}\n{told}");
    }
    let many: String = (0..300).map(|i| format!("a,x{i},1\n")).collect();
    let dir = folder(&[("channels.csv", CHANNELS), ("readings.csv", &format!("channel,time,value\n{many}"))]);
    let told = read_path(dir.path()).unwrap_err().to_string();
    assert!(told.lines().count() == 101 && told.ends_with("and 200 more"), "{told}");
}

#[test]
fn a_table_that_stands_twice_in_a_package_is_said() {
    use std::io::Write;
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let readings = "channel,time,value\na.m05,2026-03-01T00:15:00Z,0.31\n";
    for (name, text) in [("one/channels.csv", CHANNELS), ("one/readings.csv", readings), ("two/readings.csv", readings)]
    {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    let bytes = zip.finish().unwrap().into_inner();
    let told = read_zip(&bytes, "x.zip").unwrap_err().to_string();
    assert_eq!(told, "readings.csv stands in the package more than once: keep the one that is meant");
}
