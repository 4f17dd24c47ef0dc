//! Record packages on the command line: out, in, and checked.

use crate::shell::figures::read_field;
use crate::state::wall_clock;
use crate::terminal::{open, tell};
use anyhow::{anyhow, bail};
use clap::Args;
use ebrel_app::bringing::{self, Report, Target, Whither};
use ebrel_app::exporting::{self, Origins, Selection};
use ebrel_app::record::Flagged;
use ebrel_app::{checking, importing};
use ebrel_core::quality::Settings;
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, Quantity, UnixSeconds};
use ebrel_formats::{package, wide};
use ebrel_store::Store;
use ebrel_store::packages::BroughtPackage;
use ebrel_store::studies::Study;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::{Path, PathBuf};

#[derive(Args)]
pub struct ExportArgs {
    /// Code or name of the station.
    #[arg(long, required_unless_present = "study")]
    station: Option<String>,
    /// Name of a study of which everything is taken out, with nothing left out.
    #[arg(long, conflicts_with_all = ["station", "from", "to", "quantity", "leave_out"])]
    study: Option<String>,
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

#[derive(Args)]
pub struct BringArgs {
    /// The package (a .zip).
    package: PathBuf,
    /// Name of the study that it goes into; one that is not there is begun. Default: the package's own.
    #[arg(long)]
    study: Option<String>,
    /// Another code for a station, as OLD=NEW; may be given several times.
    #[arg(long)]
    code: Vec<String>,
    /// Only say what would become of it.
    #[arg(long)]
    look: bool,
    /// Where the data lie.
    #[arg(long)]
    data: PathBuf,
}

/// Takes a record out.
pub async fn export(args: ExportArgs) -> anyhow::Result<()> {
    let state = open(&args.data).await?;
    let kind = args.out.extension().and_then(|e| e.to_str()).unwrap_or_default();
    let (parts, selection) = match &args.study {
        Some(name) => exporting::whole_study(&state.store, study_called(&state.store, name).await?.id).await?,
        None => selected(&state.store, &args).await?,
    };
    let wrong = |e: std::io::Error| anyhow!("{}: {e}", args.out.display());
    if !["zip", "csv"].contains(&kind) || (kind == "csv" && args.study.is_some()) {
        bail!("give --out a name that ends in .zip{}", if args.study.is_some() { "" } else { " or .csv" });
    }
    let mut out = BufWriter::new(File::create(&args.out).map_err(wrong)?);
    match &parts[..] {
        [Flagged { record, flags }] if kind == "csv" => {
            let columns = exporting::wide(record, flags, &selection);
            let written = wide::wide_csv(columns, record.study.utc_offset_minutes, &mut out);
            written.map_err(|e| wrong(e.into()))?;
        }
        _ => {
            let origins = Origins::load(&state.store, &parts).await?;
            package::write_zip(exporting::package(&parts, &origins, &selection), &mut out).map_err(wrong)?;
        }
    }
    out.flush().map_err(wrong)
}

/// The station and the part of its record that the arguments name.
async fn selected(store: &Store, args: &ExportArgs) -> anyhow::Result<(Vec<Flagged>, Selection)> {
    let called = args.station.as_deref().unwrap_or_default();
    let station = store.station_called(called).await;
    let station = station.map_err(|_| anyhow!("there is no station “{called}” in {}", args.data.display()))?;
    let part = Flagged::load(store, station.id).await?;
    let record = &part.record;
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
    Ok((vec![part], selection))
}

async fn study_called(store: &Store, name: &str) -> anyhow::Result<Study> {
    let found = store.studies().await?.into_iter().find(|s| s.name == name);
    found.ok_or_else(|| anyhow!("there is no study “{name}”"))
}

/// Who acts on the command line.
const COMMAND: &str = "command line";

/// Takes a package in whole, or says what would become of it.
pub async fn bring(args: BringArgs) -> anyhow::Result<()> {
    let state = open(&args.data).await?;
    if args.package.is_dir() {
        bail!("{} is a folder: pack it as a .zip, which is kept as it came", args.package.display());
    }
    let package = package::read_path(&args.package)?;
    let named = args.study.as_deref().unwrap_or(&package.study.name);
    let name = if named.is_empty() { &package.title } else { named };
    if name.is_empty() {
        bail!("the package does not say of which study it is: give --study a name");
    }
    let there = state.store.studies().await?.into_iter().find(|s| s.name == *name);
    let mut codes = BTreeMap::new();
    for pair in &args.code {
        let (old, new) = pair.split_once('=').ok_or_else(|| anyhow!("write --code as OLD=NEW, not “{pair}”"))?;
        codes.insert(old.to_owned(), new.to_owned());
    }
    let target = Target {
        whither: there.map_or_else(|| Whither::New { name: name.to_owned(), owner: None }, |s| Whither::Study(s.id)),
        codes,
        by: COMMAND.into(),
        now: wall_clock(),
    };
    if args.look {
        say(&bringing::look(&state.store, &package, &target).await?, false);
        return Ok(());
    }
    let brought = BroughtPackage {
        id: 0,
        file_name: args.package.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
        sha256: importing::keep_file(&args.data, &args.package)
            .map_err(|e| anyhow!("{}: it could not be kept ({e})", args.package.display()))?,
        received_at: target.now,
        received_by: COMMAND.into(),
        study_id: None,
        report: None,
    };
    let id = state.store.package_brought(&brought).await?;
    let report = bringing::take(&state.store, &package, &target, &BroughtPackage { id, ..brought }).await?;
    say(&report, true);
    Ok(())
}

fn say(report: &Report, taken: bool) {
    let begun = if report.new_study { "begun for it" } else { "there before" };
    tell(&format!("Study “{}”, {begun}{}.", report.study_name, if taken { "" } else { "; nothing is taken yet" }));
    report.remarks.iter().for_each(|r| tell(r));
    for s in &report.stations {
        let r = s.readings;
        let became = if s.new { "new" } else { "merged into the one here" };
        tell(&format!("{} ({}), {became}: {} channels, {} readings.", s.name, s.code_here, s.channels, r.given));
        if taken {
            tell(&format!(
                "  readings: {} new, {} known, {} known with another value (kept beside it), {} without a value",
                r.new, r.known, r.contradicting, r.empty
            ));
        }
        s.others.iter().for_each(|(what, new, known)| tell(&format!("  {what}: {new} new, {known} known")));
        s.remarks.iter().for_each(|remark| tell(&format!("  {remark}")));
        if s.more_remarks > 0 {
            tell(&format!("  and {} more of this kind", s.more_remarks));
        }
    }
}

/// Runs every test over a package.
pub fn check(path: &Path, out: &Path, settings: Option<&Path>) -> anyhow::Result<()> {
    let settings = match settings {
        None => Settings::default(),
        Some(file) => {
            let text = std::fs::read_to_string(file).map_err(|e| anyhow!("{}: {e}", file.display()))?;
            let given: Settings = serde_json::from_str(&text).map_err(|e| anyhow!("{}: {e}", file.display()))?;
            given.checked().map_err(|e| anyhow!("{}: {e}", file.display()))?
        }
    };
    let package = package::read_path(path)?;
    let checked = checking::check(package, &settings);
    let bytes = package::flags_csv(&checked.flags)?;
    std::fs::write(out, bytes).map_err(|e| anyhow!("{}: {e}", out.display()))?;
    tell(&format!("{} flags written to {}", checked.flags.len(), out.display()));
    for (station, cause) in &checked.causes {
        let n = cause.flags.len();
        let flags = if n == 1 { "flag" } else { "flags" };
        tell(&format!("{station}: {} ({n} {flags}). {}", cause.kind.title(), cause.reason));
    }
    let things = if checked.waiting == 1 { "thing" } else { "things" };
    tell(&format!("{} {things} to decide", checked.waiting));
    Ok(())
}
