//! Import of a file of one million records, beside `sqlite3`'s own `.import` of the same readings.

use crate::{Failed, say};
use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

/// Records of six channels: 6 M readings, about 50 MB.
const RECORDS: i64 = 1_000_000;
const CHANNELS: i64 = 6;

/// A file of very many channels.
const WIDE: (i64, i64) = (2000, 1000);

/// What one import by the command took.
struct Took {
    seconds: f64,
    /// Most memory at any time, MB.
    megabytes: f64,
}

fn run_once(program: &Path, data: &Path, file: &Path) -> Result<Took, Failed> {
    let start = Instant::now();
    let mut command = Command::new(program);
    command.args(["import", "--station", "bench", "--data"]).arg(data).arg(file).stdout(Stdio::null());
    let mut child = command.spawn()?;
    let mut kilobytes = 0.0_f64;
    let status = loop {
        if let Some(status) = child.try_wait()? {
            break status;
        }
        let about = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let most = about.lines().find_map(|l| l.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse::<f64>().ok());
        kilobytes = kilobytes.max(most.unwrap_or(0.0));
        std::thread::sleep(std::time::Duration::from_millis(20));
    };
    if !status.success() {
        return Err(format!("the import ended with {status}").into());
    }
    Ok(Took { seconds: start.elapsed().as_secs_f64(), megabytes: kilobytes / 1024.0 })
}

/// Runs the comparison and says the figures.
pub fn run(root: &Path) -> Result<(), Failed> {
    crate::run("cargo", &["build", "--release", "--package", "ebrel"])?;
    let target = std::env::var("CARGO_TARGET_DIR").map_or_else(|_| root.join("target"), Into::into);
    let program = target.join("release/ebrel");
    let dir = tempfile::tempdir()?;
    let (wide, long) = (dir.path().join("node.csv"), dir.path().join("long.csv"));
    write_files(&wide, &long)?;
    let very_wide = dir.path().join("wide.csv");
    write_wide(&very_wide)?;
    let readings = (RECORDS * CHANNELS) as f64;
    for round in 0..3 {
        let data = dir.path().join(format!("data{round}"));
        make_station(&data)?;
        let ours = run_once(&program, &data, &wide)?;
        let again = run_once(&program, &data, &wide)?;
        let theirs = sqlite_import(&dir.path().join(format!("plain{round}.db")), &long)?;
        say(&format!(
            "round {round}: ebrel import {:.2} M readings/s (whole command with all tests, {:.2} s, {:.0} MB); the same file again \
             {:.2} M/s ({:.2} s, {:.0} MB); sqlite3 .import {:.2} M/s ({theirs:.2} s)",
            readings / ours.seconds / 1e6,
            ours.seconds,
            ours.megabytes,
            readings / again.seconds / 1e6,
            again.seconds,
            again.megabytes,
            readings / theirs / 1e6
        ));
        let data = dir.path().join(format!("wide{round}"));
        make_station(&data)?;
        let took = run_once(&program, &data, &very_wide)?;
        let (columns, records) = WIDE;
        say(&format!("  {columns} columns x {records} records {:.2} s, {:.0} MB", took.seconds, took.megabytes));
    }
    Ok(())
}

/// The same readings as a logger writes them (a record a line) and as `sqlite3` wants them (a reading a line).
fn write_files(wide: &Path, long: &Path) -> Result<(), Failed> {
    let names: Vec<String> = (0..CHANNELS).map(|c| format!("m{:02} [mV]", 5 + c)).collect();
    let mut w = format!("# node 09\ntime,{}\n", names.join(","));
    let mut l = String::new();
    let value = |i: i64, c: i64| 900.0 + c as f64 * 40.0 + ((i * 7919 + c * 104_729) % 1000) as f64 / 10.0;
    for i in 0..RECORDS {
        let t = 1_700_000_100 + i * 60;
        write!(w, "{t}")?;
        for c in 0..CHANNELS {
            write!(w, ",{:.1}", value(i, c))?;
        }
        w.push('\n');
    }
    for c in 0..CHANNELS {
        for i in 0..RECORDS {
            writeln!(l, "{},{},{:.1}", c + 1, 1_700_000_100 + i * 900, value(i, c))?;
        }
    }
    std::fs::write(wide, w)?;
    std::fs::write(long, l)?;
    Ok(())
}

/// Very many columns of few records.
fn write_wide(file: &Path) -> Result<(), Failed> {
    let (columns, records) = WIDE;
    let names: Vec<String> = (0..columns).map(|c| format!("m{c:04} [mV]")).collect();
    let mut w = format!("# node 10\ntime,{}\n", names.join(","));
    for i in 0..records {
        write!(w, "{}", 1_700_000_100 + i * 900)?;
        for c in 0..columns {
            write!(w, ",{:.1}", 900.0 + ((i * 7919 + c * 104_729) % 1000) as f64 / 10.0)?;
        }
        w.push('\n');
    }
    std::fs::write(file, w)?;
    Ok(())
}

/// A data directory with one study and one station, made by the migrations and a line of SQL.
fn make_station(data: &Path) -> Result<(), Failed> {
    std::fs::create_dir_all(data)?;
    let sql = "INSERT INTO study (name) VALUES ('Bench'); INSERT INTO station (study_id, code, name) VALUES (1, 'bench', 'Bench');";
    let file = data.join("ebrel.db");
    let runtime = tokio::runtime::Handle::current();
    let done: Result<(), sqlx::Error> = tokio::task::block_in_place(|| {
        runtime.block_on(async {
            let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).create_if_missing(true);
            let pool = sqlx::SqlitePool::connect_with(options).await?;
            let migrations = crate::root().join("crates/store/migrations");
            sqlx::migrate::Migrator::new(migrations).await?.run(&pool).await?;
            sqlx::raw_sql(sql).execute(&pool).await?;
            pool.close().await;
            Ok(())
        })
    });
    Ok(done?)
}

fn sqlite_import(db: &Path, file: &Path) -> Result<f64, Failed> {
    let table = "CREATE TABLE reading (stream_id INTEGER NOT NULL, t INTEGER NOT NULL, raw REAL NOT NULL, PRIMARY KEY \
                 (stream_id, t)) STRICT, WITHOUT ROWID;";
    let db = db.display().to_string();
    crate::run("sqlite3", &[&db, &format!("PRAGMA journal_mode=WAL; {table}")])?;
    let start = Instant::now();
    run_quietly(
        "sqlite3",
        &[&db, "PRAGMA synchronous=FULL;", ".mode csv", &format!(".import {} reading", file.display())],
    )?;
    Ok(start.elapsed().as_secs_f64())
}

fn run_quietly(program: &str, arguments: &[&str]) -> Result<(), Failed> {
    let done = Command::new(program).args(arguments).output()?;
    if done.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&done.stderr).into_owned().into()) }
}
