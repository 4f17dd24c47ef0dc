//! What a developer runs.
//!
//! * `cargo xtask test`: everything that CI checks: format, lints, arrows between crates, all tests.
//! * `cargo xtask prepare-sql`: renews `.sqlx`, the checked queries, from the migrations.
//! * `cargo xtask shots`: makes the pictures in `docs/screenshots` anew from the demo.
//! * `cargo xtask load`: what sixteen clients at once wait for, and what the server takes of memory.
//! * `cargo xtask bench`: makes the 1 M-reading file and compares its import with `sqlite3`'s own.

mod bench;
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
        "prepare-sql" => prepare_sql().await,
        "shots" => shots::take(&root()).await,
        "bench" => bench::run(&root()),
        "load" => load::take(&root()).await,
        _ => Err("usage: cargo xtask test | prepare-sql | shots | bench | load".into()),
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
    install_browser()?;
    run("cargo", &["fmt", "--all", "--check"])?;
    arrows()?;
    run("cargo", &["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    all_tests()
}

/// Runs every test, passes their output on, and closes with the sum over all test programs.
fn all_tests() -> Result<(), Failed> {
    use std::io::BufRead;
    let mut cargo = Command::new("cargo")
        .args(["test", "--workspace", "--no-fail-fast"])
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

/// Installs Debian's Chromium and its driver where they are missing.
fn install_browser() -> Result<(), Failed> {
    let there = |name: &str| Command::new(name).arg("--version").output().is_ok_and(|o| o.status.success());
    if there("chromium") && there("chromedriver") {
        return Ok(());
    }
    run("apt-get", &["update", "-qq"])?;
    run("apt-get", &["install", "-y", "-qq", "chromium", "chromium-driver"])
}

/// Which crates may lean on which: `core` <- `formats`, `simulator`, `store` <- `app` <- `web`.
const ARROWS: [(&str, &[&str]); 6] = [
    ("ebrel-core", &[]),
    ("ebrel-formats", &["ebrel-core"]),
    ("ebrel-simulator", &["ebrel-core"]),
    ("ebrel-store", &["ebrel-core"]),
    ("ebrel-app", &["ebrel-core", "ebrel-formats", "ebrel-simulator", "ebrel-store"]),
    ("ebrel", &["ebrel-app", "ebrel-core", "ebrel-formats", "ebrel-simulator", "ebrel-store"]),
];

/// Proves the arrows by `cargo tree`. Since the list must match exactly, a misspelt name fails too.
fn arrows() -> Result<(), Failed> {
    for (name, wanted) in ARROWS {
        let tree = Command::new("cargo")
            .args(["tree", "--package", name, "--edges", "normal", "--prefix", "none", "--format", "{p}"])
            .current_dir(root())
            .output()?;
        if !tree.status.success() {
            return Err(format!("cargo tree knows no package {name}").into());
        }
        let text = String::from_utf8(tree.stdout)?;
        let mut found: Vec<&str> = text.lines().filter_map(|l| l.split(' ').next()).collect();
        found.retain(|p| p.starts_with("ebrel") && *p != name);
        found.sort_unstable();
        found.dedup();
        if found != wanted {
            return Err(format!("{name} leans on {found:?}; it may lean on {wanted:?}").into());
        }
        let forbidden = ["sqlx", "actix-web", "tokio", "askama", "jiff", "rand"];
        let leak = forbidden.iter().find(|f| text.lines().any(|l| l.split(' ').next() == Some(*f)));
        if let (Some(leak), "ebrel-core") = (leak, name) {
            return Err(
                format!("{leak} has come into ebrel-core, which knows no database, page, clock or chance").into()
            );
        }
    }
    say("arrows between crates: as drawn");
    rooms()
}

/// The rooms of the web crate; none leans on another, in code, templates or scripts.
const ROOMS: [&str; 6] = ["bench", "field", "findings", "plan", "record", "review"];

/// Proves that. Each room must be found to name itself, so that a scan that sees nothing fails too.
fn rooms() -> Result<(), Failed> {
    let folder = root().join("crates/web/src/rooms");
    for room in ROOMS {
        let mut named = Vec::new();
        for file in files_below(&folder.join(room))? {
            let text = std::fs::read_to_string(&file)?;
            let leans = |other: &str| {
                let ways = [format!("rooms::{other}::"), format!("rooms::{other};"), format!("rooms/{other}/")];
                ways.iter().any(|way| text.contains(way))
            };
            named.extend(ROOMS.into_iter().filter(|other| leans(other)).map(|other| (other, file.clone())));
        }
        if let Some((other, file)) = named.iter().find(|(other, _)| *other != room) {
            return Err(format!(
                "{} leans on the room {other}: share it through components, shell or the crate ebrel-app",
                file.display()
            )
            .into());
        }
        if named.is_empty() {
            return Err(format!("nothing was found in the room {room}").into());
        }
    }
    say("rooms: none leans on another");
    Ok(())
}

/// All files of a folder and those within.
fn files_below(folder: &Path) -> Result<Vec<PathBuf>, Failed> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() { files.extend(files_below(&path)?) } else { files.push(path) }
    }
    Ok(files)
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
