//! What a developer runs.
//!
//! * `cargo xtask test`: everything that CI checks: format, lints, arrows between crates, all tests.
//! * `cargo xtask explore 50`: looks further than CI does: tests of properties of core and formats, fifty times with other seeds.
//! * `cargo xtask arrows`: proves who leans on whom, in a second.
//! * `cargo xtask prepare-sql`: renews `.sqlx`, the checked queries, from the migrations.
//! * `cargo xtask shots`: makes the pictures in `docs/screenshots` anew from the demo.
//! * `cargo xtask judge findings`: holds findings against soils, pairs and responses of known truth, and writes its part of the same;
//! * `cargo xtask judge quality`: makes years with known faults, runs the tests of quality over them, and writes `docs/judgement.md`;
//!   with `tune`, on other seeds and to the terminal alone, with what was missed and what was false.
//! * `cargo xtask load`: what sixteen clients at once wait for, and what the server takes of memory.
//! * `cargo xtask bench`: makes a file of 1 M records and compares its import with `sqlite3`'s own.
//! * `cargo xtask soak 10`: kills server and gateway in turn under load for ten minutes, each round with another seed; each reading must
//!   be there exactly once.
//! * `cargo xtask fuzz files 10`: damages the corpus of logger files at random for ten minutes and counts what the reader tells.

mod arrows;
mod bench;
mod judge;
mod load;
mod shots;

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

/// What went wrong, in words.
type Failed = Box<dyn std::error::Error + Send + Sync>;

#[tokio::main]
async fn main() -> ExitCode {
    let task = std::env::args().nth(1).unwrap_or_default();
    let done = match task.as_str() {
        "test" => test(),
        "explore" => explore(std::env::args().nth(2).and_then(|n| n.parse().ok()).unwrap_or(20)),
        "arrows" => arrows::prove(),
        "prepare-sql" => prepare_sql().await,
        "shots" => shots::take(&root()).await,
        "bench" => bench::run(&root()),
        "load" => load::take(&root()).await,
        "judge" => {
            let tune = std::env::args().nth(3).is_some_and(|word| word == "tune");
            match std::env::args().nth(2).as_deref() {
                Some("findings") => judge::findings(&root(), tune),
                _ => judge::quality(&root(), tune),
            }
        }
        "fuzz" => fuzz(std::env::args().nth(3).and_then(|n| n.parse().ok()).unwrap_or(5)),
        "soak" => soak(std::env::args().nth(2).and_then(|n| n.parse().ok()).unwrap_or(10)),
        _ => Err("usage: cargo xtask test | explore [rounds] | arrows | prepare-sql | shots | bench | load | judge quality|findings [tune] | soak [minutes] | fuzz files [minutes]".into()),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            say(&format!("xtask: {error}"));
            ExitCode::FAILURE
        }
    }
}

/// A line for the person at the terminal.
fn say(line: &str) {
    use std::io::Write;
    // A closed terminal is no reason to stop.
    let _ = writeln!(std::io::stderr(), "{line}");
}

/// The root of the repository.
fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().map(Path::to_owned).unwrap_or_default()
}

/// Runs a command in the root and fails if it does.
fn run(program: &str, arguments: &[&str]) -> Result<(), Failed> {
    say(&format!("$ {program} {}", arguments.join(" ")));
    let status = Command::new(program).args(arguments).current_dir(root()).status()?;
    if status.success() { Ok(()) } else { Err(format!("{program} {} failed", arguments.join(" ")).into()) }
}

/// Everything that CI checks.
fn test() -> Result<(), Failed> {
    install_driven()?;
    run("cargo", &["fmt", "--all", "--check"])?;
    arrows::prove()?;
    run("cargo", &["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    all_tests()
}

/// The variable from which the tests of properties take their seed.
const SEED: &str = "PROPTEST_RNG_SEED";

/// Runs the tests of crates without a server many times, each time with another seed.
fn explore(rounds: u64) -> Result<(), Failed> {
    let from = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
    for seed in from..from + rounds {
        say(&format!("seed {seed}"));
        let crates = ["-p", "ebrel-core", "-p", "ebrel-formats", "-p", "ebrel-simulator"];
        let mut cargo = Command::new("cargo");
        cargo.args(["test", "-q", "--no-fail-fast", "--lib", "--tests"]).args(crates);
        let out = cargo.env(SEED, seed.to_string()).current_dir(root()).output()?;
        if !out.status.success() {
            print_line(&String::from_utf8_lossy(&out.stdout));
            return Err(format!("seed {seed} found something: {SEED}={seed} cargo test repeats it").into());
        }
    }
    Ok(())
}

/// Damages the corpus of logger files at random, with another seed each round, until the time is up or a line is not told of.
fn fuzz(minutes: u64) -> Result<(), Failed> {
    let until = std::time::Instant::now() + std::time::Duration::from_secs(minutes * 60);
    let mut seed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
    let mut rounds = 0;
    while std::time::Instant::now() < until {
        let mut cargo = Command::new("cargo");
        cargo.args(["test", "-q", "-p", "ebrel-formats", "--test", "corpus", "--test", "counts"]);
        cargo.env("PROPTEST_CASES", CASES_A_ROUND).env(SEED, seed.to_string());
        let out = cargo.current_dir(root()).output()?;
        if !out.status.success() {
            print_line(&String::from_utf8_lossy(&out.stdout));
            return Err(format!(
                "seed {seed} found something: PROPTEST_CASES={CASES_A_ROUND} {SEED}={seed} cargo test repeats it"
            )
            .into());
        }
        (seed, rounds) = (seed + 1, rounds + 1);
        say(&format!("{rounds} rounds of {CASES_A_ROUND} damaged files, nothing lost unseen"));
    }
    Ok(())
}

/// Kills server and gateway in turn under load, fifty times a round, until the time is up or a reading is missing or there twice.
fn soak(minutes: u64) -> Result<(), Failed> {
    let until = std::time::Instant::now() + std::time::Duration::from_secs(minutes * 60);
    let mut seed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs();
    while std::time::Instant::now() < until {
        let mut cargo = Command::new("cargo");
        cargo.args(["test", "-q", "-p", "ebrel", "--test", "cli", "killed"]);
        cargo.env("EBREL_KILLS", "50").env("EBREL_SEED", seed.to_string());
        let out = cargo.current_dir(root()).output()?;
        if !out.status.success() {
            print_line(&String::from_utf8_lossy(&out.stdout));
            return Err(
                format!("seed {seed} found something: EBREL_KILLS=50 EBREL_SEED={seed} cargo test repeats it").into()
            );
        }
        say(&format!("seed {seed}: 50 kills, each reading once"));
        seed += 1;
    }
    Ok(())
}

/// Damaged files of each property in a round of [`fuzz`].
const CASES_A_ROUND: &str = "1500";

/// Runs every test, passes their output on, and closes with the sum over all test programs.
fn all_tests() -> Result<(), Failed> {
    use std::io::BufRead;
    let mut cargo = Command::new("cargo")
        .args(["test", "--workspace", "--no-fail-fast"])
        // What a commit is judged by is the same at each run; `explore` looks further.
        .env(SEED, std::env::var(SEED).unwrap_or_else(|_| "417".into()))
        .current_dir(root())
        .stdout(std::process::Stdio::piped())
        .spawn()?;
    let out = cargo.stdout.take().ok_or("cargo test has no output")?;
    let (mut passed, mut failed) = (0, 0);
    for line in std::io::BufReader::new(out).lines() {
        let line = line?;
        let number = |before: &str| -> usize {
            line.split(before).next().and_then(|l| l.rsplit(' ').next()).and_then(|n| n.parse().ok()).unwrap_or(0)
        };
        if line.starts_with("test result:") {
            passed += number(" passed;");
            failed += number(" failed;");
        }
        print_line(&line);
    }
    let status = cargo.wait()?;
    print_line(&format!("{passed} passed, {failed} failed"));
    if status.success() && passed > 0 { Ok(()) } else { Err("the tests failed".into()) }
}

/// A line on standard output.
fn print_line(line: &str) {
    use std::io::Write;
    // A closed pipe is no reason to stop.
    let _ = writeln!(std::io::stdout(), "{line}");
}

/// What tests drive, and the package of Debian's that has it: the browser, a broker, and what the examples for nodes are written in.
const DRIVEN: [(&str, &str); 6] = [
    ("chromium", "chromium"),
    ("chromedriver", "chromium-driver"),
    ("curl", "curl"),
    ("python3", "python3"),
    ("node", "nodejs"),
    ("mosquitto", "mosquitto"),
];

/// Installs what tests drive, where it is missing.
fn install_driven() -> Result<(), Failed> {
    let there = |name: &str| Command::new(name).arg("--version").output().is_ok();
    let missing: Vec<&str> = DRIVEN.iter().filter(|d| !there(d.0)).map(|d| d.1).collect();
    if missing.is_empty() {
        return Ok(());
    }
    run("apt-get", &["update", "-qq"])?;
    run("apt-get", &[&["install", "-y", "-qq"][..], &missing[..]].concat())
}

/// Renews `.sqlx`: makes a database from the migrations, and lets the compiler describe every query against it.
async fn prepare_sql() -> Result<(), Failed> {
    let dir = tempfile::tempdir()?;
    let file = dir.path().join("ebrel.db");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).create_if_missing(true);
    let pool = sqlx::SqlitePool::connect_with(options).await?;
    sqlx::migrate::Migrator::new(root().join("crates/store/migrations")).await?.run(&pool).await?;
    pool.close().await;
    let cache = root().join(".sqlx");
    std::fs::remove_dir_all(&cache).or_else(|e| if cache.exists() { Err(e) } else { Ok(()) })?;
    std::fs::create_dir_all(&cache)?;
    run("touch", &["crates/store/src/lib.rs"])?;
    let status = Command::new("cargo")
        .args(["check", "--package", "ebrel-store", "--all-targets"])
        .env("SQLX_OFFLINE", "false")
        .env("SQLX_OFFLINE_DIR", &cache)
        .env("DATABASE_URL", format!("sqlite://{}", file.display()))
        .current_dir(root())
        .status()?;
    if status.success() { Ok(()) } else { Err("the queries do not fit the migrations".into()) }
}
