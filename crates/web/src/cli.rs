//! The commands: `ebrel demo`, `serve`, `account`, `import`, `export`, `check`.

use crate::serving;
use crate::shell::figures::read_field;
use crate::state::{Mode, State, wall_clock};
use clap::{Args, Parser, Subcommand};
use ebrel_app::exporting::{self, Selection};
use ebrel_app::importing::{self, Report, SavedRecipe};
use ebrel_app::record::StationRecord;
use ebrel_app::{checking, reviewing};
use ebrel_core::quality::Settings;
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, Quantity, SpanSeconds, UnixSeconds};
use ebrel_formats::{logger, package, wide};
use ebrel_store::imports::Import;
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

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
    },
    /// Start with your own data; the first account needs the code that is printed here.
    Serve(ServeArgs),
    /// Accounts, on the machine itself.
    Account {
        #[command(subcommand)]
        what: AccountCommand,
    },
    /// Import a logger file into a station.
    Import(ImportArgs),
    /// Take a station's record out, as a record package (.zip) or a wide table (.csv).
    Export(ExportArgs),
    /// Run all tests over a record package (a folder or a .zip); no database is needed.
    Check {
        /// The package.
        package: PathBuf,
        /// Where the flags go.
        #[arg(long, default_value = "flags.csv")]
        out: PathBuf,
        /// Other thresholds, as JSON.
        #[arg(long)]
        settings: Option<PathBuf>,
    },
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

/// How to serve.
#[derive(Args)]
pub struct ServeArgs {
    /// Where your data lie.
    #[arg(long)]
    pub data: PathBuf,
    /// Address to listen on; beyond this machine only with --tls-cert and --tls-key, or --https.
    #[arg(long, default_value = "127.0.0.1:8417")]
    pub listen: SocketAddr,
    /// Another name that Ebrel answers to, as it stands in a browser's address (without port); may be given several times.
    #[arg(long)]
    pub host: Vec<String>,
    /// The certificate chain, PEM: Ebrel itself speaks HTTPS.
    #[arg(long, requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// The certificate's key, PEM.
    #[arg(long, requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
    /// A proxy before Ebrel speaks HTTPS: cookies insist on it.
    #[arg(long)]
    pub https: bool,
    /// Address of a proxy whose X-Forwarded-For is believed.
    #[arg(long)]
    pub trusted_proxy: Option<std::net::IpAddr>,
}

#[derive(Args)]
struct ImportArgs {
    /// The file.
    file: PathBuf,
    /// Code or name of the station.
    #[arg(long)]
    station: String,
    /// A saved recipe by name, or a JSON file with one; without it the recipe is guessed.
    #[arg(long)]
    recipe: Option<String>,
    /// Name of the node, where neither file nor recipe tells it.
    #[arg(long)]
    node: Option<String>,
    /// Where the data lie.
    #[arg(long, default_value = "ebrel-data/demo")]
    data: PathBuf,
    /// Show what would be stored, as a recipe that can be edited and given to --recipe.
    #[arg(long)]
    show_recipe: bool,
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
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).init();
    let done = match Cli::parse().command {
        Command::Demo { port, data, fresh } => serving::demo(port, &data, fresh).await,
        Command::Serve(args) => serving::serve(args).await,
        Command::Account { what: AccountCommand::Reset { data, name } } => serving::reset_account(&data, &name).await,
        Command::Import(args) => import(args).await,
        Command::Export(args) => export(args).await,
        Command::Check { package, out, settings } => check(&package, &out, settings.as_deref()),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(sentence) => {
            tell(&format!("ebrel: {sentence}"));
            ExitCode::FAILURE
        }
    }
}

/// A line for the person at the terminal.
pub fn tell(line: &str) {
    use std::io::Write;
    // A closed terminal is no reason to stop.
    let _ = writeln!(std::io::stderr(), "{line}");
}

/// Opens an existing data directory for a command.
pub async fn open(data: &Path) -> Result<State, String> {
    if !data.join("ebrel.db").is_file() {
        return Err(format!("there is no Ebrel data in {}: give its directory with --data", data.display()));
    }
    State::open(data, Mode::Serve { https: false }).await
}

async fn import(args: ImportArgs) -> Result<(), String> {
    let state = open(&args.data).await?;
    let station = state.store.station_called(&args.station).await;
    let station = station.map_err(|_| format!("there is no station “{}” in {}", args.station, args.data.display()))?;
    let study = state.store.study(station.study_id).await.map_err(|e| e.to_string())?;
    let unread = |e: &dyn std::fmt::Display| format!("{}: {e}", args.file.display());
    let text = logger::Text::of_file(&args.file).map_err(|e| unread(&e))?;
    let head = text.head(importing::HEAD_LINES).map_err(|e| unread(&e))?;
    let name = args.file.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let saved = match &args.recipe {
        Some(recipe) => Some(find_recipe(&state, recipe).await?),
        None => None,
    };
    let offset = i32::try_from(study.utc_offset_minutes).unwrap_or(0);
    let recipe = match &saved {
        Some(saved) => saved.recipe.clone(),
        None => logger::guess(&text, offset).map_err(|e| format!("{name}: {e}"))?,
    };
    let latest = state.now(&study) + SpanSeconds::DAY;
    let read = logger::read_until(&text, &recipe, latest).map_err(|e| e.to_string())?;
    let mut mapping = match &saved {
        Some(saved) => importing::fitted(&saved.mapping, &read),
        None => importing::first_mapping(&read, &head, &name),
    };
    if saved.is_none() {
        let streams = state.store.streams(station.id).await.map_err(|e| e.to_string())?;
        importing::find_node(&mut mapping, &head, &streams);
    }
    if let Some(node) = args.node {
        mapping.node = node;
    }
    if args.show_recipe {
        let body = serde_json::to_string_pretty(&SavedRecipe { recipe, mapping }).map_err(|e| e.to_string())?;
        return write_out(body.as_bytes());
    }
    let hindrances = importing::hindrances(&read, &mapping, state.now(&study));
    if !hindrances.is_empty() {
        return Err(format!("{name} was not stored. {}", hindrances.join(" ")));
    }
    let sha256 = importing::keep_file(&state.data, &args.file).map_err(|e| e.to_string())?;
    let text = |value: serde_json::Result<String>| value.map_err(|e| e.to_string());
    let kept = Import {
        id: 0,
        station_id: station.id,
        file_name: name.clone(),
        sha256,
        recipe: text(serde_json::to_string(&recipe))?,
        mapping: text(serde_json::to_string(&mapping))?,
        created_at: state.now(&study),
        created_by: "command line".into(),
        report: None,
    };
    let (_, report) = importing::store(&state.store, &kept, &read, &mapping).await.map_err(|e| e.to_string())?;
    reviewing::run(&state.store, station.id).await.map_err(|e| e.to_string())?;
    state.store.close().await;
    write_out(report_text(&name, &report).as_bytes())
}

async fn find_recipe(state: &State, wanted: &str) -> Result<SavedRecipe, String> {
    let known = state.store.recipes().await.map_err(|e| e.to_string())?;
    let body = match known.into_iter().find(|(name, _)| name == wanted) {
        Some((_, body)) => body,
        None => std::fs::read_to_string(wanted)
            .map_err(|e| format!("“{wanted}” is neither a saved recipe nor a file that can be read ({e})"))?,
    };
    serde_json::from_str(&body).map_err(|e| format!("the recipe “{wanted}” cannot be read: {e}"))
}

fn report_text(name: &str, r: &Report) -> String {
    let mut out = format!(
        "{name}: {} records new, {} already known; {} readings stored, {} known, {} known with another value (kept beside the first)\n",
        r.new_records, r.known_records, r.new_readings, r.known_readings, r.repeated_readings
    );
    for (column, n) in &r.missing {
        out.push_str(&format!("  {column}: {n} cells without a reading\n"));
    }
    if !r.left_out.is_empty() {
        out.push_str(&format!("  columns left out: {}\n", r.left_out.join(", ")));
    }
    let unread = if r.problems.len() == 1 { "line or cell" } else { "lines or cells" };
    out.push_str(&format!("  {} {unread} could not be read\n", r.problems.len()));
    for p in &r.problems {
        out.push_str(&format!("  line {}: {}\n", p.line, p.reason));
    }
    out
}

fn write_out(bytes: &[u8]) -> Result<(), String> {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.write_all(b"\n")).map_err(|e| e.to_string())
}

async fn export(args: ExportArgs) -> Result<(), String> {
    let state = open(&args.data).await?;
    let station = state.store.station_called(&args.station).await;
    let station = station.map_err(|_| format!("there is no station “{}” in {}", args.station, args.data.display()))?;
    let record = StationRecord::load(&state.store, station.id).await.map_err(|e| e.to_string())?;
    let flags = state.store.flags(station.id).await.map_err(|e| e.to_string())?;
    let (first, last) = record.extent().unwrap_or((UnixSeconds(0), wall_clock()));
    let time = |text: &Option<String>, other: UnixSeconds| match text {
        None => Ok(other),
        Some(text) => ebrel_formats::parse_rfc3339(text)
            .or_else(|| read_field(text, record.study.utc_offset_minutes))
            .ok_or_else(|| format!("“{text}” is no date or time: write it like 2026-05-01 or 2026-05-01T06:00Z")),
    };
    let quantity = |code: &String| Quantity::from_code(code).ok_or_else(|| format!("there is no quantity “{code}”"));
    let grade = |code: &String| Grade::from_code(code).ok_or_else(|| format!("there is no grade “{code}”"));
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
        return Err("give --out a name that ends in .zip or .csv".into());
    }
    let wrong = |e: std::io::Error| format!("{}: {e}", args.out.display());
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

fn check(path: &Path, out: &Path, settings: Option<&Path>) -> Result<(), String> {
    let settings = match settings {
        None => Settings::default(),
        Some(file) => {
            let text = std::fs::read_to_string(file).map_err(|e| format!("{}: {e}", file.display()))?;
            serde_json::from_str(&text).map_err(|e| format!("{}: {e}", file.display()))?
        }
    };
    let package = package::read_path(path).map_err(|e| e.to_string())?;
    let rows = checking::check(&package, &settings);
    let bytes = package::flags_csv(&rows).map_err(|e| e.to_string())?;
    std::fs::write(out, bytes).map_err(|e| format!("{}: {e}", out.display()))?;
    tell(&format!("{} flags written to {}", rows.len(), out.display()));
    Ok(())
}
