//! The commands: `ebrel demo`, `serve`, `account`, `simulate`, `import`, `watch`, `export`, `bring`, `backup`,
//! `restore`, `doctor`, `check`, `find`, `tests`.

use crate::files::{self, ImportArgs, WatchArgs};
use crate::finding::{self, FindArgs};
use crate::packages::{self, BringArgs, ExportArgs};
use crate::safekeeping;
use crate::serving::{self, ServeArgs};
use crate::standins::simulate::{self, SimulateArgs};
use crate::terminal::tell;
use clap::{Parser, Subcommand};
use ebrel_core::quality::Test;
use ebrel_core::units::format_plain;
use std::io::Write as _;
use std::path::PathBuf;
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
    /// Take a station's record out, as a record package (.zip) or a wide table (.csv); or a whole study, as a package.
    Export(ExportArgs),
    /// Take a record package in whole: its stations become stations of a study, or are merged into those of the same code.
    Bring(BringArgs),
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
    /// Say what the record answers: storage, diffusivity, treatments, thresholds.
    Find(FindArgs),
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
        Command::Export(args) => packages::export(args).await,
        Command::Bring(args) => packages::bring(args).await,
        Command::Backup { data, to } => safekeeping::backup(&data, &to).await,
        Command::Restore { from, data } => safekeeping::restore(&from, &data).await,
        Command::Doctor { data } => safekeeping::doctor(&data).await,
        Command::Check { package, out, settings } => packages::check(&package, &out, settings.as_deref()),
        Command::Find(args) => finding::find(args).await,
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
