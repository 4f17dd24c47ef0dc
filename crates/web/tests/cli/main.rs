//! The command line: the built binary, each test with its own data directory.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod find;
mod killed;
mod safety;

use ebrel_core::soil::Horizon;
use ebrel_core::units::Quantity;
use ebrel_formats::package::read_path;
use ebrel_store::Store;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use std::path::Path;
use std::process::{Command, Output};

fn ebrel(arguments: &[&str], data: &Path) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_ebrel"));
    command.args(arguments);
    if !["check", "tests"].contains(&arguments[0]) {
        command.arg("--data").arg(data);
    }
    command.current_dir(data).output().unwrap()
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

/// A data directory with one station, code "cut", and a messy file in it.
async fn rig() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let text = String::new;
    let study =
        Study { id: 0, name: "S".into(), question: text(), utc_offset_minutes: 0, fixed_now: Some(1_790_000_000) };
    let station = Station {
        id: 0,
        study_id: store.add_study(&study, None).await.unwrap(),
        code: "cut".into(),
        name: "Cut coupe".into(),
        latitude: None,
        longitude: None,
        elevation_m: None,
        treatment: text(),
        cover: text(),
        known_bias: text(),
    };
    let soil = Horizon {
        top_cm: 0.0,
        bottom_cm: 40.0,
        name: "A".into(),
        texture: "silt loam".into(),
        sand_pct: None,
        clay_pct: None,
        organic_matter_pct: None,
        bulk_density_g_cm3: Some(1.2),
    };
    store.add_station(&station, &[soil]).await.unwrap();
    store.close().await;
    std::fs::write(dir.path().join("node03.csv"), file(600)).unwrap();
    dir
}

/// Water content at 5 cm with one spike, and soil temperature; three header lines that stand again.
fn file(records: usize) -> String {
    let head = "\"node 03\",\"clock UTC+0\"\n\"time\",\"w05\",\"t05\"\n\"\",\"m3/m3\",\"degC\"\n";
    let mut text = head.to_owned();
    for i in 0..records {
        let spike = if i == 400 { 0.2 } else { 0.0 };
        let water = 0.31 - 2e-5 * i as f64 + 0.0004 * ((i * 7919 % 13) as f64 / 13.0) + spike;
        let time = ebrel_formats::rfc3339(ebrel_core::units::UnixSeconds(1_772_323_200 + i as i64 * 900));
        let time = time.replace('T', " ").replace('Z', "");
        text += &format!("\"{time}\",{water:.4},{:.2}\n", 8.0 + (i as f64 / 15.3).sin() + 0.05 * (i % 3) as f64);
        if i == 200 {
            text += head;
        }
    }
    text
}

#[tokio::test(flavor = "multi_thread")]
async fn import_export_and_check_go_round() {
    let dir = rig().await;
    let first = ebrel(&["import", "node03.csv", "--station", "cut"], dir.path());
    assert!(first.status.success(), "{}", said(&first));
    assert!(
        said(&first).contains("node03.csv: 600 records new, 0 already known; 1200 readings stored"),
        "{}",
        said(&first)
    );
    let again = ebrel(&["import", "node03.csv", "--station", "Cut coupe"], dir.path());
    assert!(said(&again).contains("0 records new, 600 already known"), "{}", said(&again));

    for out in ["one.zip", "two.zip"] {
        let done = ebrel(&["export", "--station", "cut", "--out", out, "--leave-out", "none"], dir.path());
        assert!(done.status.success(), "{}", said(&done));
    }
    let bytes = |name: &str| std::fs::read(dir.path().join(name)).unwrap();
    assert_eq!(bytes("one.zip"), bytes("two.zip"));
    let package = read_path(&dir.path().join("one.zip")).unwrap();
    assert_eq!(package.channels.iter().map(|c| c.1.len()).collect::<Vec<_>>(), [600, 600]);
    assert!(
        package.channels.iter().any(|c| c.0.quantity == Quantity::WaterContent.code() && c.0.depth_cm == Some(5.0))
    );

    let check = ebrel(&["check", "one.zip", "--out", "flags.csv"], dir.path());
    assert!(check.status.success(), "{}", said(&check));
    let flags = String::from_utf8(bytes("flags.csv")).unwrap();
    let spike = flags.lines().find(|l| l.contains(",spike,")).unwrap();
    assert!(spike.contains("2026-03-05T04:00:00Z,2026-03-05T04:00:00Z,spike,wrong,,"), "{spike}");
    assert!(package.flags.iter().any(|f| f.test == "spike"), "the station was checked after its import");
}

#[tokio::test(flavor = "multi_thread")]
async fn selections_on_the_command_line() {
    let dir = rig().await;
    ebrel(&["import", "node03.csv", "--station", "cut"], dir.path());
    let window = ["--from", "2026-03-05T00:00:00Z", "--to", "2026-03-05T06:00:00Z"];
    let base = ["export", "--station", "cut", "--out", "part.csv", "--quantity", "water_content"];
    let done = ebrel(&[&base[..], &window[..]].concat(), dir.path());
    assert!(done.status.success(), "{}", said(&done));
    let csv = std::fs::read_to_string(dir.path().join("part.csv")).unwrap();
    assert_eq!(csv.lines().count(), 1 + 24 - 1, "the spike is left out as wrong");
    assert!(!csv.contains("soil temperature"));
    let refused = ebrel(&["export", "--station", "cut", "--out", "part.txt"], dir.path());
    assert!(!refused.status.success() && said(&refused).contains(".zip or .csv"));
    let refused = ebrel(&["export", "--station", "cut", "--out", "p.zip", "--quantity", "moisture"], dir.path());
    assert!(said(&refused).contains("there is no quantity “moisture”"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recipe_can_be_shown_edited_and_used() {
    let dir = rig().await;
    let shown = ebrel(&["import", "node03.csv", "--station", "cut", "--show-recipe"], dir.path());
    let recipe = String::from_utf8(shown.stdout).unwrap();
    assert!(recipe.contains("\"fixed\": 0") && recipe.contains("\"node\": \"node 03\""), "{recipe}");
    std::fs::write(dir.path().join("recipe.json"), recipe.replace("\"fixed\": 0", "\"fixed\": 60")).unwrap();
    let done = ebrel(&["import", "node03.csv", "--station", "cut", "--recipe", "recipe.json"], dir.path());
    assert!(done.status.success(), "{}", said(&done));
    ebrel(&["export", "--station", "cut", "--out", "p.zip"], dir.path());
    let package = read_path(&dir.path().join("p.zip")).unwrap();
    let first = ebrel_core::units::UnixSeconds(package.channels[0].1.times[0]);
    assert_eq!(ebrel_formats::rfc3339(first), "2026-02-28T23:00:00Z", "the clock was an hour ahead of UTC");
    let wrong = ebrel(&["import", "node03.csv", "--station", "cut", "--recipe", "nowhere.json"], dir.path());
    assert!(said(&wrong).contains("neither a saved recipe nor a file"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_done_is_said_in_a_sentence() {
    let dir = rig().await;
    std::fs::write(dir.path().join("empty.csv"), "").unwrap();
    std::fs::write(dir.path().join("letter.txt"), "Dear all,\nyours\n").unwrap();
    std::fs::write(dir.path().join("future.csv"), file(50).replace("2026-03", "2126-03")).unwrap();
    for (arguments, sentence) in [
        (vec!["import", "empty.csv", "--station", "cut"], "the file is empty"),
        (vec!["import", "letter.txt", "--station", "cut"], "no line of this file looks like a record"),
        (vec!["import", "future.csv", "--station", "cut"], "lies in the future"),
        (vec!["import", "nowhere.csv", "--station", "cut"], "nowhere.csv"),
        (vec!["import", "node03.csv", "--station", "elsewhere"], "there is no station “elsewhere”"),
        (vec!["check", "letter.txt"], "letter.txt"),
    ] {
        let output = ebrel(&arguments, dir.path());
        assert!(!output.status.success() && said(&output).contains(sentence), "{arguments:?}: {}", said(&output));
    }
    let empty = tempfile::tempdir().unwrap();
    let output = ebrel(&["export", "--station", "cut", "--out", "x.zip"], empty.path());
    assert!(said(&output).contains("there is no Ebrel data in"), "{}", said(&output));
}

#[tokio::test(flavor = "multi_thread")]
async fn thresholds_come_from_a_file_and_a_slip_in_it_is_named() {
    let dir = rig().await;
    ebrel(&["import", "node03.csv", "--station", "cut"], dir.path());
    ebrel(&["export", "--station", "cut", "--out", "p.zip", "--leave-out", "none"], dir.path());
    std::fs::write(dir.path().join("calm.json"), "{\"spike\": {\"sigmas\": 5000}}").unwrap();
    std::fs::write(dir.path().join("slip.json"), "{\"spike\": {\"sigma\": 5}}").unwrap();
    let calm = ebrel(&["check", "p.zip", "--out", "calm.csv", "--settings", "calm.json"], dir.path());
    assert!(calm.status.success());
    assert!(!std::fs::read_to_string(dir.path().join("calm.csv")).unwrap().contains(",spike,"));
    let slip = ebrel(&["check", "p.zip", "--settings", "slip.json"], dir.path());
    assert!(!slip.status.success() && said(&slip).contains("unknown field `sigma`"), "{}", said(&slip));
    std::fs::write(dir.path().join("far.json"), "{\"spike\": {\"sigmas\": 500000}}").unwrap();
    let far = ebrel(&["check", "p.zip", "--settings", "far.json"], dir.path());
    assert!(said(&far).contains("sigmas must lie between 3 and 100000 σ; 500000 does not"), "{}", said(&far));
    let listed = ebrel(&["tests"], dir.path());
    let listed = String::from_utf8(listed.stdout).unwrap();
    for test in ebrel_core::quality::Test::ALL {
        assert!(listed.contains(&format!("{} (", test.code())) && listed.contains(test.definition().finds), "{listed}");
    }
}

/// A started server; killed when dropped.
struct Child(std::process::Child);

impl Drop for Child {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Starts a server and waits until it is ready; what it said until then.
fn started(arguments: &[&str]) -> (Child, String) {
    use std::io::BufRead;
    let mut command = Command::new(env!("CARGO_BIN_EXE_ebrel"));
    command.args(arguments).stderr(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    let lines = std::io::BufReader::new(child.stderr.take().unwrap()).lines();
    let mut text = String::new();
    for line in lines.map_while(Result::ok) {
        text += &(line.clone() + "\n");
        if line.contains("asks for this code") {
            break;
        }
    }
    (Child(child), text)
}

fn free_address() -> String {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_demo_leaves_a_directory_alone_that_is_not_its_own() {
    let dir = rig().await;
    std::fs::write(dir.path().join("thesis.odt"), "precious").unwrap();
    let before = std::fs::read(dir.path().join("ebrel.db")).unwrap();
    for arguments in [&["demo"][..], &["demo", "--fresh"]] {
        let refused = ebrel(arguments, dir.path());
        assert!(!refused.status.success() && said(&refused).contains("nothing was touched"), "{}", said(&refused));
    }
    assert_eq!(std::fs::read(dir.path().join("ebrel.db")).unwrap(), before);
    assert!(dir.path().join("thesis.odt").is_file());
}

#[tokio::test(flavor = "multi_thread")]
async fn one_server_at_a_time_and_the_first_account_needs_the_terminals_code() {
    let dir = rig().await;
    let data = dir.path().to_str().unwrap().to_owned();
    let address = free_address();
    let (_server, text) = started(&["serve", "--data", &data, "--listen", &address]);
    let code = text.split("asks for this code: ").nth(1).unwrap().trim();
    assert_eq!(code.len(), 14, "{text}");
    let second = ebrel(&["serve", "--listen", &free_address()], dir.path());
    assert!(!second.status.success() && said(&second).contains("another Ebrel serves the data"), "{}", said(&second));
    let beyond = ebrel(&["serve", "--listen", "0.0.0.0:0"], dir.path());
    assert!(!beyond.status.success() && said(&beyond).contains("--tls-cert"), "{}", said(&beyond));
    // Commands go on beside a running server.
    let import = ebrel(&["import", "node03.csv", "--station", "cut"], dir.path());
    assert!(import.status.success(), "{}", said(&import));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_is_mended_on_the_machine_itself() {
    let dir = rig().await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    store.add_owner("N. Arvel", "a hash that was lost").await.unwrap();
    let missing = ebrel(&["account", "reset", "--name", "mallory"], dir.path());
    assert!(!missing.status.success() && said(&missing).contains("no account “mallory”"));
    let done = ebrel(&["account", "reset", "--name", "N. Arvel"], dir.path());
    assert!(done.status.success() && said(&done).contains("signs in with this password"), "{}", said(&done));
    let hash = store.account("N. Arvel").await.unwrap().unwrap().password_hash;
    assert!(hash.starts_with("$argon2"), "{hash}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_range_is_given_by_dates_too() {
    let dir = rig().await;
    ebrel(&["import", "node03.csv", "--station", "cut"], dir.path());
    let lines = |from: &str, to: &str| {
        let out = ["export", "--station", "cut", "--out", "cut.csv", "--leave-out", "none", "--from", from, "--to", to];
        let done = ebrel(&out, dir.path());
        assert!(done.status.success(), "{}", said(&done));
        std::fs::read_to_string(dir.path().join("cut.csv")).unwrap().lines().count()
    };
    assert_eq!(lines("2026-03-02", "2026-03-03"), lines("2026-03-02T00:00:00Z", "2026-03-03T00:00:00Z"));
    let wrong = ebrel(&["export", "--station", "cut", "--out", "cut.csv", "--from", "May"], dir.path());
    assert!(said(&wrong).contains("write it like 2026-05-01"), "{}", said(&wrong));
}

#[tokio::test]
async fn the_list_of_tests_is_the_form_of_a_settings_file() {
    let dir = tempfile::tempdir().unwrap();
    let listed = ebrel(&["tests"], dir.path());
    assert!(listed.status.success());
    let text = said(&listed);
    for test in ebrel_core::quality::Test::ALL.iter().copied() {
        assert!(text.contains(test.code()), "{}: {text}", test.code());
        for setting in test.definition().settings {
            assert!(text.contains(setting.key) && text.contains(setting.meaning), "{} of {}", setting.key, test.code());
        }
    }
}

#[tokio::test]
async fn an_import_of_the_same_file_by_two_processes_at_once_is_stored_once() {
    let dir = rig().await;
    let file = dir.path().join("node03.csv");
    let start = || {
        let mut command = Command::new(env!("CARGO_BIN_EXE_ebrel"));
        command
            .args(["import", file.to_str().unwrap(), "--station", "cut", "--node", "node 03", "--data"])
            .arg(dir.path());
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap()
    };
    let runs = [start(), start()].map(|c| c.wait_with_output().unwrap());
    assert!(runs.iter().any(|o| o.status.success()), "{}", said(&runs[0]) + &said(&runs[1]));
    let again = ebrel(&["import", "node03.csv", "--station", "cut", "--node", "node 03"], dir.path());
    assert!(again.status.success(), "{}", said(&again));
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let station = store.station_called("cut").await.unwrap();
    let streams = store.streams(station.id).await.unwrap();
    assert!(!streams.is_empty());
    for stream in streams {
        let series = store.series(stream.id).await.unwrap();
        assert!(series.times.windows(2).all(|w| w[0] < w[1]), "each time once");
        assert!(store.repeats(stream.id).await.unwrap().is_empty());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_ends_with_a_number_that_says_how_it_went() {
    let dir = rig().await;
    let whole = ebrel(&["import", "node03.csv", "--station", "cut", "--json"], dir.path());
    assert_eq!(whole.status.code(), Some(0), "{}", said(&whole));
    let told: serde_json::Value = serde_json::from_slice(&whole.stdout).unwrap();
    let tally = &told[0]["report"]["tally"];
    let sum: u64 = tally.as_object().unwrap().values().filter_map(serde_json::Value::as_u64).sum();
    assert_eq!(sum, file(600).lines().count() as u64, "every line of the file: {tally}");

    std::fs::write(dir.path().join("torn.csv"), file(50) + "\"2026-03-02 0").unwrap();
    let torn = ebrel(&["import", "torn.csv", "--station", "cut"], dir.path());
    assert_eq!(torn.status.code(), Some(3), "{}", said(&torn));
    assert!(said(&torn).contains("1 line, line 54: a quote is left open"), "{}", said(&torn));

    std::fs::write(dir.path().join("letter.txt"), "Dear all,\nyours\n").unwrap();
    let nothing = ebrel(&["import", "letter.txt", "--station", "cut"], dir.path());
    assert_eq!(nothing.status.code(), Some(1));
    let shown = ebrel(&["import", "letter.txt", "--station", "cut", "--show-recipe"], dir.path());
    assert!(said(&shown).contains("\"version\": 2") && shown.status.code() == Some(1), "{}", said(&shown));
    let both = ebrel(&["import", "node03.csv", "letter.txt", "--station", "cut"], dir.path());
    assert_eq!(both.status.code(), Some(3), "one of two");
    assert!(said(&both).contains("1 of 2 files stored"), "{}", said(&both));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_taken_at_once_and_what_grows_in_it_again() {
    let dir = rig().await;
    let season = dir.path().join("season");
    std::fs::create_dir(&season).unwrap();
    std::fs::write(season.join("a.csv"), file(100)).unwrap();
    let first = ebrel(&["watch", "season", "--station", "cut", "--once"], dir.path());
    assert!(first.status.success() && said(&first).contains("100 records new"), "{}", said(&first));
    std::fs::write(season.join("a.csv"), file(150)).unwrap();
    std::fs::write(season.join(".a.csv.part"), "half a copy").unwrap();
    let grown = ebrel(&["watch", "season", "--station", "cut", "--once"], dir.path());
    assert!(
        said(&grown).contains("50 records new, 100 already known") && !said(&grown).contains("part"),
        "{}",
        said(&grown)
    );
    let folder = ebrel(&["import", "season", "--station", "cut"], dir.path());
    assert!(said(&folder).contains("season/a.csv: 0 records new, 150 already known"), "{}", said(&folder));
}

/// A file of several pieces, so that its storing can be cut off between two of them.
fn long_file() -> String {
    let line = |i: i64| format!("{},{}.5,{}.25\n", 1_700_000_100 + i * 60, 880 + i % 7, i % 20);
    format!("ts,m05 [mV],t05 [degC]\n{}", (0..400_000).map(line).collect::<String>())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_import_that_was_killed_is_gone_on_with_by_the_next_server() {
    let dir = rig().await;
    std::fs::write(dir.path().join("long.csv"), long_file()).unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_ebrel"));
    command.args(["import", "long.csv", "--station", "cut", "--node", "node 1", "--data"]).arg(dir.path());
    let mut child = command.current_dir(dir.path()).spawn().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    while store.imports_cut_off().await.unwrap().is_empty() {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it could be killed");
        tokio::task::yield_now().await;
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let cut_off = store.imports_cut_off().await.unwrap().remove(0);
    assert!(cut_off.report.is_none() && cut_off.progress.is_some());

    let data = dir.path().display().to_string();
    let (_server, _) = started(&["serve", "--data", &data, "--listen", &free_address()]);
    let report = loop {
        if let Some(report) = store.import(cut_off.id).await.unwrap().report {
            break ebrel_app::importing::Report::of_json(&report).unwrap();
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    };
    assert_eq!(
        (report.tally.records, report.new_readings, report.known_readings),
        (400_000, 800_000, 0),
        "counted once"
    );
    let streams = store.streams(1).await.unwrap();
    for stream in &streams {
        assert_eq!(store.series(stream.id).await.unwrap().len(), 400_000, "{}", stream.port);
    }
    assert_eq!(streams.len(), 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slip_in_a_recipe_is_said_by_its_name_and_a_later_one_by_its_number() {
    let dir = rig().await;
    let shown = ebrel(&["import", "node03.csv", "--station", "cut", "--show-recipe"], dir.path());
    let recipe = String::from_utf8(shown.stdout).unwrap();
    for (good, bad, sentence) in [
        ("\"newest_first\"", "\"newst_first\"", "unknown field `newst_first`"),
        ("\"version\": 2", "\"version\": 3", "a recipe of version 3 was written by a later Ebrel"),
        ("\"comma\"", "\"colon\"", "unknown variant `colon`"),
        ("%Y-%m-%d", "%q", "“%q” stands for no part of a time"),
    ] {
        assert!(recipe.contains(good), "{good}: {recipe}");
        std::fs::write(dir.path().join("recipe.json"), recipe.replace(good, bad)).unwrap();
        let refused = ebrel(&["import", "node03.csv", "--station", "cut", "--recipe", "recipe.json"], dir.path());
        assert!(
            refused.status.code() == Some(1) && said(&refused).contains(sentence),
            "{sentence}: {}",
            said(&refused)
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_text_is_named_and_the_others_of_a_folder_go_in() {
    let dir = rig().await;
    let season = dir.path().join("θ “season”");
    std::fs::create_dir(&season).unwrap();
    std::fs::write(season.join("a.csv"), file(100)).unwrap();
    std::fs::write(season.join("photo.png"), b"\x89PNG\r\n\x1a\n0000").unwrap();
    std::fs::write(season.join("torn.zip"), b"PK\x03\x04 and nothing more").unwrap();
    let done = ebrel(&["import", "θ “season”", "--station", "cut"], dir.path());
    let told = said(&done);
    assert!(told.contains("θ “season”/torn.zip was not stored. the archive cannot be opened"), "{told}");
    assert_eq!(done.status.code(), Some(3), "{told}");
    assert!(
        told.contains("100 records new")
            && told.contains("this is a picture (PNG)")
            && told.contains("1 of 3 files stored"),
        "{told}"
    );
}
