//! `ebrel import` and `ebrel watch`: logger files into a station from the command line.

use crate::state::State;
use crate::terminal::{open, tell};
use anyhow::{anyhow, bail};
use clap::Args;
use ebrel_app::importing::{self, Begun, Job, Progress, Report, SavedRecipe};
use ebrel_app::reviewing;
use ebrel_formats::logger::{self, Text};
use ebrel_store::imports::Import;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use serde::Serialize;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// What `ebrel import` takes.
#[derive(Args)]
pub struct ImportArgs {
    /// Files, archives (.zip, .gz), workbooks (.xlsx, .ods) or folders.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    #[command(flatten)]
    into: Destination,
    /// Show what would be stored, as a recipe that can be edited and given to --recipe; nothing is stored.
    #[arg(long)]
    show_recipe: bool,
    /// Print the reports as JSON.
    #[arg(long)]
    json: bool,
}

/// What `ebrel watch` takes.
#[derive(Args)]
pub struct WatchArgs {
    /// The folder that is looked at; folders in it are not.
    folder: PathBuf,
    #[command(flatten)]
    into: Destination,
    /// Seconds between two looks. A file is taken when it did not change between them.
    #[arg(long, default_value_t = 10)]
    every: u64,
    /// Take what is there now, and end.
    #[arg(long)]
    once: bool,
}

#[derive(Args)]
struct Destination {
    /// Code or name of the station.
    #[arg(long)]
    station: String,
    /// A saved recipe by name, or a JSON file with one; without it one is taken whose files begin alike, or guessed.
    #[arg(long)]
    recipe: Option<String>,
    /// Name of the node, where neither file nor recipe tells it.
    #[arg(long)]
    node: Option<String>,
    /// Where the data lie.
    #[arg(long, default_value = "ebrel-data/demo")]
    data: PathBuf,
}

/// What became of one file.
#[derive(Serialize)]
struct Outcome {
    file: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    import: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    report: Option<Report>,
    /// Why nothing was stored.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    hindrances: Vec<String>,
    /// What the guess says of itself.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    remarks: Vec<String>,
}

impl Outcome {
    fn refused(file: &str, hindrance: String) -> Self {
        Self { file: file.to_owned(), import: None, report: None, hindrances: vec![hindrance], remarks: Vec::new() }
    }
}

/// The code with which an import ends.
pub fn ended(done: anyhow::Result<ExitCode>) -> ExitCode {
    done.unwrap_or_else(|sentence| {
        tell(&format!("ebrel: {sentence:#}"));
        ExitCode::FAILURE
    })
}

/// Where files go, and how they are read.
struct Way {
    state: State,
    station: Station,
    study: Study,
    saved: Option<SavedRecipe>,
    node: Option<String>,
}

impl Way {
    async fn of(into: Destination) -> anyhow::Result<Self> {
        let state = open(&into.data).await?;
        let station = state.store.station_called(&into.station).await;
        let station =
            station.map_err(|_| anyhow!("there is no station “{}” in {}", into.station, into.data.display()))?;
        let study = state.store.study(station.study_id).await?;
        let saved = match &into.recipe {
            Some(recipe) => Some(find_recipe(&state, recipe).await?),
            None => None,
        };
        Ok(Self { state, station, study, saved, node: into.node })
    }

    async fn begin(&self, text: &Text, name: &str) -> anyhow::Result<(Begun, Option<Vec<logger::Reading>>)> {
        let streams = self.state.store.streams(self.station.id).await?;
        let known = self.state.store.recipes().await?;
        let offset = i32::try_from(self.study.utc_offset_minutes).unwrap_or(0);
        let now = self.state.now(&self.study);
        let recipes = (self.saved.clone(), &known[..]);
        let (mut begun, read) = importing::begin_to_store(text, name, recipes, offset, &streams, now)?;
        if let Some(node) = &self.node {
            begun.mapping.node.clone_from(node);
        }
        Ok((begun, read))
    }

    async fn store(&self, member: &logger::Member, archive: Option<&Path>) -> anyhow::Result<Outcome> {
        let name = &member.name;
        let text = match Text::of_file(&member.path) {
            Ok(text) => text,
            Err(e) => return Ok(Outcome::refused(name, format!("{e}."))),
        };
        let (begun, read) = self.begin(&text, name).await?;
        let remarks = begun.remarks.iter().map(|r| r.0.clone()).collect();
        let now = self.state.now(&self.study);
        let streams = self.state.store.streams(self.station.id).await?;
        let hindrances = importing::hindrances(&begun.survey, &begun.mapping, &streams, now);
        if !hindrances.is_empty() {
            return Ok(Outcome { file: name.clone(), import: None, report: None, hindrances, remarks });
        }
        let kept = Import {
            sha256: importing::keep_file(&self.state.data, &member.path)?,
            archive: archive.map(|a| importing::keep_file(&self.state.data, a)).transpose()?.unwrap_or_default(),
            recipe: serde_json::to_string(&begun.recipe)?,
            mapping: serde_json::to_string(&begun.mapping)?,
            ..Import::begun(self.station.id, name, now, "command line")
        };
        let Begun { recipe, mapping, survey, .. } = begun;
        let job = Job { text, recipe, mapping, survey, latest: importing::latest(now) };
        let progress = Arc::new(Progress::default());
        let stored = importing::store_read(&self.state.store, &kept, (&job, read), &progress).await;
        match stored {
            Ok((id, report)) => Ok(Outcome {
                file: name.clone(),
                import: Some(id),
                report: Some(report),
                hindrances: Vec::new(),
                remarks,
            }),
            Err(ebrel_store::StoreError::Rule(sentence)) => Ok(Outcome::refused(name, sentence)),
            Err(e) => Err(e.into()),
        }
    }

    /// Everything in a path, a file at a time.
    async fn store_all(&self, path: &Path) -> anyhow::Result<Vec<Outcome>> {
        let unpacked = tempfile::tempdir()?;
        let found = logger::unpack(path, &name_of(path), unpacked.path());
        let refused = found.refused.iter().map(|(name, why)| Outcome::refused(name, format!("{why}.")));
        let mut out: Vec<Outcome> = refused.collect();
        if out.is_empty() && found.members.is_empty() {
            out.push(Outcome::refused(&path.display().to_string(), "there is no file in it.".to_owned()));
        }
        for member in &found.members {
            let archive = member.path.starts_with(unpacked.path()).then_some(path).filter(|p| p.is_file());
            out.push(self.store(member, archive).await?);
        }
        Ok(out)
    }
}

/// Imports files, archives, workbooks and all files of folders.
///
/// # Errors
/// A sentence if there is no such station or recipe, or the data cannot be used.
pub async fn import(args: ImportArgs) -> anyhow::Result<ExitCode> {
    let way = Way::of(args.into).await?;
    if args.show_recipe {
        return show_recipes(&way, &args.files).await;
    }
    let mut all = Vec::new();
    for path in &args.files {
        if !path.exists() {
            all.push(Outcome::refused(&path.display().to_string(), "there is no such file.".to_owned()));
            continue;
        }
        all.extend(way.store_all(path).await?);
    }
    if all.iter().any(|o| o.report.is_some()) {
        reviewing::run_due(&way.state.store).await?;
    }
    way.state.store.close().await;
    if args.json {
        write_out(serde_json::to_string_pretty(&all)?.as_bytes())?;
    } else {
        write_out(all.iter().map(outcome_text).collect::<Vec<_>>().join("").trim_end().as_bytes())?;
        all.iter().filter(|o| o.report.is_none()).for_each(|o| {
            tell(&format!("ebrel: {} was not stored. {}", o.file, o.hindrances.join(" ")));
            o.remarks.iter().for_each(|r| tell(&format!("  {r}")));
        });
        if all.len() > 1 {
            let stored = all.iter().filter(|o| o.report.is_some()).count();
            tell(&format!("{stored} of {} files stored", all.len()));
        }
    }
    let losses = |o: &Outcome| o.report.as_ref().is_none_or(|r| r.losses() > 0);
    Ok(match all.iter().filter(|o| o.report.is_some()).count() {
        0 => ExitCode::FAILURE,
        _ if all.iter().any(losses) => ExitCode::from(3),
        _ => ExitCode::SUCCESS,
    })
}

/// Prints the recipe of each file, a guess that failed included, and what is unsure on standard error.
async fn show_recipes(way: &Way, files: &[PathBuf]) -> anyhow::Result<ExitCode> {
    let mut good = true;
    for path in files {
        let unpacked = tempfile::tempdir()?;
        let found = logger::unpack(path, &name_of(path), unpacked.path());
        found.refused.iter().for_each(|(name, why)| tell(&format!("{name}: {why}")));
        good &= found.refused.is_empty();
        for member in found.members {
            let text = Text::of_file(&member.path).map_err(|e| anyhow!("{}: {e}", member.name))?;
            let (begun, _) = way.begin(&text, &member.name).await?;
            begun.remarks.iter().for_each(|(sentence, _)| tell(&format!("{}: {sentence}", member.name)));
            begun
                .survey
                .groups
                .iter()
                .take(10)
                .for_each(|g| tell(&format!("{}: {}: {}", member.name, g.whereabouts(), g.reason)));
            good &= !begun.by_hand;
            let body = SavedRecipe { recipe: begun.recipe, mapping: begun.mapping };
            write_out(serde_json::to_string_pretty(&body)?.as_bytes())?;
        }
    }
    Ok(if good { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Imports what comes into a folder.
///
/// # Errors
/// A sentence if there is no such folder or station, or the data cannot be used.
pub async fn watch(args: WatchArgs) -> anyhow::Result<()> {
    if !args.folder.is_dir() {
        bail!("there is no folder {}", args.folder.display());
    }
    let way = Way::of(args.into).await?;
    let mut taken: HashMap<PathBuf, (u64, SystemTime)> = HashMap::new();
    let mut seen: HashMap<PathBuf, (u64, SystemTime)> = HashMap::new();
    loop {
        let mut stored = false;
        for (path, looks) in look(&args.folder)? {
            // One that still grows is taken at the next look.
            let rests = args.once || seen.get(&path) == Some(&looks);
            if rests && taken.get(&path) != Some(&looks) {
                for outcome in way.store_all(&path).await? {
                    stored |= outcome.report.is_some();
                    tell(outcome_text(&outcome).trim_end());
                    outcome.hindrances.iter().for_each(|h| tell(&format!("{} was not stored. {h}", outcome.file)));
                }
                taken.insert(path.clone(), looks);
            }
            seen.insert(path, looks);
        }
        if stored {
            reviewing::run_due(&way.state.store).await?;
        }
        if args.once {
            break;
        }
        tokio::select! {
            () = tokio::time::sleep(Duration::from_secs(args.every.max(1))) => {}
            _ = tokio::signal::ctrl_c() => break,
        }
    }
    way.state.store.close().await;
    Ok(())
}

/// The files of a folder, each with its size and the time of its last change.
fn look(folder: &Path) -> anyhow::Result<Vec<(PathBuf, (u64, SystemTime))>> {
    let mut out = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let about = entry.metadata()?;
        let hidden = entry.file_name().to_string_lossy().starts_with('.');
        if about.is_file() && !hidden {
            out.push((entry.path(), (about.len(), about.modified()?)));
        }
    }
    out.sort();
    Ok(out)
}

/// The name by which a path is told.
fn name_of(path: &Path) -> String {
    path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned())
}

async fn find_recipe(state: &State, wanted: &str) -> anyhow::Result<SavedRecipe> {
    let body = match state.store.recipe(wanted).await? {
        Some(saved) => saved.body,
        None => std::fs::read_to_string(wanted)
            .map_err(|e| anyhow!("“{wanted}” is neither a saved recipe nor a file that can be read ({e})"))?,
    };
    serde_json::from_str(&body).map_err(|e| anyhow!("the recipe “{wanted}” cannot be read: {e}"))
}

fn outcome_text(o: &Outcome) -> String {
    let Some(r) = &o.report else { return String::new() };
    let mut out = format!(
        "{}: {} records new, {} already known; {} readings stored, {} known, {} known with another value (kept beside the first)\n",
        o.file, r.new_records, r.known_records, r.new_readings, r.known_readings, r.repeated_readings
    );
    let kinds = r.tally.kinds().into_iter().map(|(what, n)| format!("{n} {what}"));
    out.push_str(&format!("  {} lines: {}\n", r.tally.sum(), kinds.collect::<Vec<_>>().join(", ")));
    for remark in &o.remarks {
        out.push_str(&format!("  {remark}\n"));
    }
    for (column, n) in &r.missing {
        out.push_str(&format!("  {column}: {n} cells without a reading\n"));
    }
    for (column, n) in &r.noted {
        out.push_str(&format!("  {column}: {n} readings with a mark behind the number\n"));
    }
    if r.first_counts > 0 {
        out.push_str(&format!("  {} first counts of counters, with nothing to count from\n", r.first_counts));
    }
    if !r.left_out.is_empty() {
        out.push_str(&format!("  columns left out: {}\n", r.left_out.join(", ")));
    }
    out.push_str(&format!("  {} could not be read\n", importing::lines_or_cells(r.losses())));
    for g in &r.groups {
        out.push_str(&format!("  {}: {}\n", g.whereabouts(), g.reason));
    }
    out
}

fn write_out(bytes: &[u8]) -> anyhow::Result<()> {
    use std::io::Write;
    let mut out = std::io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.write_all(b"\n")).map_err(Into::into)
}
