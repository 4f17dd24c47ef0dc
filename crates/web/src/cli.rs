//! The commands: `ebrel demo`, `serve`, `account`, `simulate`, `import`, `watch`, `export`, `backup`,
//! `restore`, `doctor`, `check`, `tests`.

use crate::files::{self, ImportArgs, WatchArgs};
use crate::safekeeping;
use crate::serving::{self, ServeArgs};
use crate::shell::figures::read_field;
use crate::standins::simulate::{self, SimulateArgs};
use crate::state::wall_clock;
use crate::terminal::{open, tell};
use anyhow::{anyhow, bail};
use clap::{Args, Parser, Subcommand};
use ebrel_app::checking;
use ebrel_app::exporting::{self, Selection};
use ebrel_app::record::StationRecord;
use ebrel_core::quality::{Settings, Test};
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, Quantity, UnixSeconds, format_plain};
use ebrel_formats::{package, wide};
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use tracing_subscriber::fmt::format::FmtSpan;

/// Soil moisture and temperature records, from the probe to the finding.
#[derive(Parser)]
#[command(name = "ebrel", version, about)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Start with the made-up demo study, on this machine only; nobody signs in.
    Demo {
        /// Port to listen on.
        #[arg(long, default_value_t = 8417)]
        port: u16,
        /// Where the demo's data lie.
        #[arg(long, default_value = "ebrel-data/demo")]
        data: PathBuf,
        /// Throw the demo's data away and begin anew.
        #[arg(long)]
        fresh: bool,
        /// Let its nodes go on: stand-ins measure and send beside the server, time passing faster.
        #[arg(long)]
        live: bool,
        /// Seconds in which a day of the live demo passes.
        #[arg(long, default_value_t = 60, requires = "live", value_parser = clap::value_parser!(u32).range(2..=86_400))]
        day_seconds: u32,
    },
    /// Start with your own data; the first account needs the code that is printed here.
    Serve(ServeArgs),
    /// Accounts, on the machine itself.
    Account {
        #[command(subcommand)]
        what: AccountCommand,
    },
    /// Import logger files into a station: files, archives, workbooks, folders. Ends with 0 if all was read, 3 if some lines or cells
    /// were lost (it says which), 1 if nothing was stored.
    Import(ImportArgs),
    /// Stand-ins for nodes and a gateway on simulated soil, which send to a running Ebrel or a broker.
    Simulate(SimulateArgs),
    /// Import what comes into a folder, and what grows in it, until stopped.
    Watch(WatchArgs),
    /// Take a station's record out, as a record package (.zip) or a wide table (.csv).
    Export(ExportArgs),
    /// Make a backup, also while a server runs: FILE, and beside it FILE.files with what was uploaded. It is read back before it counts.
    Backup {
        /// Where the data lie.
        #[arg(long)]
        data: PathBuf,
        /// The backup; an older one of this name is replaced once the new one holds.
        #[arg(long)]
        to: PathBuf,
    },
    /// Put a backup into an empty directory.
    Restore {
        /// The backup, as `ebrel backup` made it.
        #[arg(long)]
        from: PathBuf,
        /// Where the data are to lie.
        #[arg(long)]
        data: PathBuf,
    },
    /// Look a data directory through, one line for each thing; ends with 1 if something is wrong.
    Doctor {
        /// Where the data lie.
        #[arg(long)]
        data: PathBuf,
    },
    /// Run all tests over a record package (a folder or a .zip); no database is needed.
    Check {
        /// The package.
        package: PathBuf,
        /// Where the flags go.
        #[arg(long, default_value = "flags.csv")]
        out: PathBuf,
        /// Other settings of the tests, as JSON; `ebrel tests` says which there are.
        #[arg(long)]
        settings: Option<PathBuf>,
    },
    /// Say what each test looks for, and what it can be set to.
    Tests,
}

#[derive(Subcommand)]
enum AccountCommand {
    /// Give an account a new password, printed here once, and end its sessions.
    Reset {
        /// Where the data lie.
        #[arg(long)]
        data: PathBuf,
        /// The name to sign in with.
        #[arg(long)]
        name: String,
    },
}

#[derive(Args)]
struct ExportArgs {
    /// Code or name of the station.
    #[arg(long)]
    station: String,
    /// The file to write; its ending (.zip or .csv) chooses the form.
    #[arg(long)]
    out: PathBuf,
    /// First moment: a date, or a date and time (in the study's offset unless it ends in Z or an offset); default: the first
    /// reading.
    #[arg(long)]
    from: Option<String>,
    /// First moment after, in the same forms; a date alone is its midnight; default: after the last reading.
    #[arg(long)]
    to: Option<String>,
    /// A quantity by its code; may be given several times; default: all.
    #[arg(long)]
    quantity: Vec<String>,
    /// Grades whose readings are left out: wrong, doubtful, condition, none.
    #[arg(long, default_values = ["wrong"])]
    leave_out: Vec<String>,
    /// Where the data lie.
    #[arg(long, default_value = "ebrel-data/demo")]
    data: PathBuf,
}

/// Runs the command line; failures end with a sentence on standard error and code 1.
pub async fn run() -> ExitCode {
    let filter = tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "warn".into());
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    // A request is told when it is answered, with its time: RUST_LOG=info shows them.
    log.with_span_events(FmtSpan::CLOSE).init();
    let done = match Cli::parse().command {
        Command::Demo { port, data, fresh, live, day_seconds } => {
            serving::demo(port, &data, fresh, live.then_some(f64::from(day_seconds))).await
        }
        Command::Serve(args) => serving::serve(args).await,
        Command::Account { what: AccountCommand::Reset { data, name } } => serving::reset_account(&data, &name).await,
        Command::Import(args) => return files::ended(files::import(args).await),
        Command::Watch(args) => files::watch(args).await,
        Command::Simulate(args) => simulate::run(args).await,
        Command::Export(args) => export(args).await,
        Command::Backup { data, to } => safekeeping::backup(&data, &to).await,
        Command::Restore { from, data } => safekeeping::restore(&from, &data).await,
        Command::Doctor { data } => safekeeping::doctor(&data).await,
        Command::Check { package, out, settings } => check(&package, &out, settings.as_deref()),
        Command::Tests => list_tests(),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(sentence) => {
            tell(&format!("ebrel: {sentence:#}"));
            ExitCode::FAILURE
        }
    }
}

async fn export(args: ExportArgs) -> anyhow::Result<()> {
    let state = open(&args.data).await?;
    let station = state.store.station_called(&args.station).await;
    let station = station.map_err(|_| anyhow!("there is no station “{}” in {}", args.station, args.data.display()))?;
    let record = StationRecord::load(&state.store, station.id).await?;
    let flags = state.store.flags(station.id).await?;
    let (first, last) = record.extent().unwrap_or((UnixSeconds(0), wall_clock()));
    let time = |text: &Option<String>, other: UnixSeconds| match text {
        None => Ok(other),
        Some(text) => ebrel_formats::parse_rfc3339(text)
            .or_else(|| read_field(text, record.study.utc_offset_minutes))
            .ok_or_else(|| anyhow!("“{text}” is no date or time: write it like 2026-05-01 or 2026-05-01T06:00Z")),
    };
    let quantity = |code: &String| Quantity::from_code(code).ok_or_else(|| anyhow!("there is no quantity “{code}”"));
    let grade = |code: &String| Grade::from_code(code).ok_or_else(|| anyhow!("there is no grade “{code}”"));
    let selection = Selection {
        from: time(&args.from, first)?,
        to: time(&args.to, UnixSeconds(last.0 + 60 - last.0.rem_euclid(60)))?,
        quantities: args.quantity.iter().map(quantity).collect::<Result<_, _>>()?,
        belief: Belief {
            leave_out: args.leave_out.iter().filter(|g| *g != "none").map(grade).collect::<Result<_, _>>()?,
        },
    };
    let kind = args.out.extension().and_then(|e| e.to_str()).unwrap_or_default();
    if !["zip", "csv"].contains(&kind) {
        bail!("give --out a name that ends in .zip or .csv");
    }
    let wrong = |e: std::io::Error| anyhow!("{}: {e}", args.out.display());
    let mut out = BufWriter::new(File::create(&args.out).map_err(wrong)?);
    if kind == "zip" {
        package::write_zip(exporting::package(&record, &flags, &selection), &mut out).map_err(wrong)?;
    } else {
        let columns = exporting::wide(&record, &flags, &selection);
        let written = wide::wide_csv(columns, record.study.utc_offset_minutes, &mut out);
        written.map_err(|e| wrong(e.into()))?;
    }
    out.flush().map_err(wrong)
}

/// The tests as their definitions have them, in the form of a settings file's keys.
fn list_tests() -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    let mut write = |line: String| writeln!(out, "{line}");
    for test in Test::ALL {
        let d = test.definition();
        write(format!("{} ({}, {}): {}", test.code(), d.mark, d.grade.code(), d.finds))?;
        for s in d.settings {
            let [usual, min, max] = [s.default, s.range.min, s.range.max].map(format_plain);
            write(format!("    {} {usual} {} ({min} to {max}): {}", s.key, s.range.unit, s.meaning))?;
        }
    }
    Ok(())
}

fn check(path: &Path, out: &Path, settings: Option<&Path>) -> anyhow::Result<()> {
    let settings = match settings {
        None => Settings::default(),
        Some(file) => {
            let text = std::fs::read_to_string(file).map_err(|e| anyhow!("{}: {e}", file.display()))?;
            let given: Settings = serde_json::from_str(&text).map_err(|e| anyhow!("{}: {e}", file.display()))?;
            given.checked().map_err(|e| anyhow!("{}: {e}", file.display()))?
        }
    };
    let package = package::read_path(path)?;
    let rows = checking::check(package, &settings);
    let bytes = package::flags_csv(&rows)?;
    std::fs::write(out, bytes).map_err(|e| anyhow!("{}: {e}", out.display()))?;
    tell(&format!("{} flags written to {}", rows.len(), out.display()));
    Ok(())
}
