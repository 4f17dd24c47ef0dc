//! A logger file into a station: guess, mapping, preview, storing, report.

use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds, ranges};
use ebrel_formats::logger::{self, Problem, Read, Recipe};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::imports::Import;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::streams::Stream;
use ebrel_store::{Store, StoreError, Unit};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};

/// Which column goes to which channel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Mapping {
    /// The node that wrote the file.
    pub node: String,
    /// One plan per column of the file, in its order.
    pub columns: Vec<ColumnPlan>,
}

/// What becomes of one column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ColumnPlan {
    /// The column's name in the file.
    pub column: String,
    /// The quantity; `None`: the column is left out.
    pub quantity: Option<Quantity>,
    /// Port at the node.
    pub port: String,
    /// Unit as reported.
    pub unit: String,
    /// Depth of a new placement, cm.
    pub depth_cm: Option<f64>,
    /// Serial of the probe of a new placement; empty: named after node and port.
    pub serial: String,
}

/// A recipe as it is saved: how the file is written, and what its columns are.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SavedRecipe {
    /// How the file is written.
    pub recipe: Recipe,
    /// What its columns are.
    pub mapping: Mapping,
}

/// What became of an import.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
pub struct Report {
    /// Lines read as records.
    pub lines: usize,
    /// Distinct times among them at which something new was stored.
    pub new_records: usize,
    /// Distinct times at which everything was known.
    pub known_records: usize,
    /// Readings that were not known and are stored now.
    pub new_readings: usize,
    /// Readings known with the same value.
    pub known_readings: usize,
    /// Readings known with another value: kept beside the first.
    pub repeated_readings: usize,
    /// Missing cells by column.
    pub missing: Vec<(String, usize)>,
    /// Columns that were left out.
    pub left_out: Vec<String>,
    /// Header lines that stood again.
    pub headers_again: usize,
    /// Lines that could not be read.
    pub problems: Vec<Problem>,
    /// First and last time stored or known.
    pub extent: Option<(i64, i64)>,
}

/// Where an uploaded file is kept: under its hash, as it came.
#[must_use]
pub fn kept_at(data: &Path, sha256: &str) -> PathBuf {
    data.join("files").join(sha256)
}

/// Keeps a file as it came, under its SHA-256, and returns that. It is copied piece by piece, whatever its size.
///
/// # Errors
/// If it cannot be read or written.
pub fn keep_file(data: &Path, file: &Path) -> std::io::Result<String> {
    let folder = data.join("files");
    let mut partial = tempfile::Builder::new().prefix(PARTIAL).tempfile_in(&folder)?;
    let mut source = std::fs::File::open(file)?;
    let (mut hasher, mut piece) = (Sha256::new(), vec![0; 64 * 1024]);
    loop {
        let count = source.read(&mut piece)?;
        if count == 0 {
            break;
        }
        hasher.update(&piece[..count]);
        partial.write_all(&piece[..count])?;
    }
    let hash = hex::encode(hasher.finalize());
    let path = kept_at(data, &hash);
    if !path.is_file() {
        partial.as_file().sync_all()?;
        partial.persist(&path)?;
        // The name is on the disk only once its folder is.
        std::fs::File::open(folder)?.sync_all()?;
    }
    Ok(hash)
}

/// How a file is called while it is being written; what a kill leaves of it is removed at the next start.
pub const PARTIAL: &str = ".part-";

/// Lines at the head of a file by which it is recognised.
pub const HEAD_LINES: usize = 200;

/// A first mapping: quantities by names and units, the node by the head of the file or its name.
#[must_use]
pub fn first_mapping(read: &Read, head: &[String], file_name: &str) -> Mapping {
    let columns = read
        .columns
        .iter()
        .map(|c| {
            let suggestion = logger::suggest(&c.name, &c.unit);
            let readable = c.valid > 0 && c.words <= c.valid + c.missing;
            ColumnPlan {
                column: c.name.clone(),
                quantity: suggestion.quantity.filter(|_| readable),
                port: port_name(&c.name),
                unit: suggestion.unit,
                depth_cm: suggestion.depth_cm,
                serial: String::new(),
            }
        })
        .collect();
    let named = node_in_head(head);
    Mapping { node: named.unwrap_or_else(|| node_of_file(file_name)), columns }
}

/// "node 03", if the head of the file names it.
fn node_in_head(head: &[String]) -> Option<String> {
    head.iter().take(5).find_map(|line| {
        let lower = line.to_lowercase();
        let at = lower.find("node ")?;
        let digits: String = lower[at + 5..].chars().take_while(char::is_ascii_alphanumeric).collect();
        digits.chars().any(|c| c.is_ascii_digit()).then(|| format!("node {digits}"))
    })
}

/// The file's name without its ending, for want of a better name.
fn node_of_file(file_name: &str) -> String {
    let stem = Path::new(file_name).file_stem().map(|s| s.to_string_lossy().replace('_', " "));
    stem.filter(|s| !s.is_empty()).unwrap_or_else(|| "node".to_owned())
}

/// Where the file itself names no node: the one node of the station that has all its ports, so that the next file of
/// a logger finds its way whatever it is called.
pub fn find_node(mapping: &mut Mapping, head: &[String], streams: &[Stream]) {
    if node_in_head(head).is_some() {
        return;
    }
    let taken: Vec<_> = mapping.columns.iter().filter_map(|c| Some((c.port.as_str(), c.quantity?))).collect();
    let has = |node: &str| {
        taken.iter().all(|(p, q)| streams.iter().any(|s| s.node == node && s.port == *p && s.quantity == *q))
    };
    let mut nodes: Vec<&str> = streams.iter().map(|s| s.node.as_str()).collect();
    nodes.dedup();
    nodes.retain(|n| has(n));
    if let ([one], false) = (&nodes[..], taken.is_empty()) {
        mapping.node = (*one).to_owned();
    }
}

/// A column's name without its unit, as a port.
fn port_name(column: &str) -> String {
    let plain = column.split(['[', '(']).next().unwrap_or(column).trim();
    if plain.is_empty() { column.to_owned() } else { plain.to_owned() }
}

/// Fits a saved mapping to the columns of a file: by name; columns it does not know are left out.
#[must_use]
pub fn fitted(saved: &Mapping, read: &Read) -> Mapping {
    let columns = read.columns.iter().map(|c| {
        saved.columns.iter().find(|p| p.column == c.name).cloned().unwrap_or_else(|| ColumnPlan {
            column: c.name.clone(),
            quantity: None,
            port: port_name(&c.name),
            unit: c.unit.clone(),
            depth_cm: None,
            serial: String::new(),
        })
    });
    Mapping { node: saved.node.clone(), columns: columns.collect() }
}

/// What hinders storing, as sentences; empty: it can be stored.
#[must_use]
pub fn hindrances(read: &Read, mapping: &Mapping, now: UnixSeconds) -> Vec<String> {
    let mut out = Vec::new();
    let taken: Vec<&ColumnPlan> = mapping.columns.iter().filter(|c| c.quantity.is_some()).collect();
    if read.lines == 0 {
        out.push("No line could be read with this recipe: look at the reasons below and correct it.".to_owned());
    }
    if taken.is_empty() {
        out.push("No column is chosen: give at least one its quantity.".to_owned());
    }
    if mapping.node.trim().is_empty() {
        out.push("Name the node that wrote the file.".to_owned());
    }
    for (i, a) in taken.iter().enumerate() {
        if taken[..i].iter().any(|b| b.port == a.port && b.quantity == a.quantity) {
            out.push(format!(
                "Two columns go to port “{}” with the same quantity: name one of them otherwise.",
                a.port
            ));
        }
        if a.port.trim().is_empty() {
            out.push(format!("Name the port of column “{}”.", a.column));
        }
        if let Some(depth) = a.depth_cm
            && let Err(e) = ranges::DEPTH_CM.check(depth)
        {
            out.push(format!("Column “{}”: {e}.", a.column));
        }
    }
    if let Some((_, last)) = read.extent.filter(|e| e.1.0 > now.0 + 86_400) {
        out.push(format!(
            "The last record lies in the future ({}): is the order of day and month right, and the logger's clock?",
            ebrel_formats::rfc3339(last)
        ));
    }
    out
}

/// Stores what a mapping takes of a file: streams and placements that are new, then the readings and the import's report: one
/// action, all or none. An import with the number 0 is begun with it. Returns the import's number.
///
/// # Errors
/// [`StoreError`] if the database refuses, or a port speaks another unit than before.
pub async fn store(
    store: &Store,
    import: &Import,
    read: &Read,
    mapping: &Mapping,
) -> Result<(i64, Report), StoreError> {
    let mut unit = store.unit().await?;
    let node = unit.ensure_node(import.station_id, mapping.node.trim()).await?;
    let mut streams: Vec<Option<i64>> = Vec::with_capacity(mapping.columns.len());
    let start = read.extent.map_or(UnixSeconds(0), |e| e.0);
    for plan in &mapping.columns {
        let Some(quantity) = plan.quantity else {
            streams.push(None);
            continue;
        };
        let port = plan.port.trim();
        streams.push(Some(unit.ensure_stream(node, port, quantity, plan.unit.trim(), read.interval_s).await?));
        ensure_placement(&mut unit, import.station_id, (node, mapping.node.trim()), plan, quantity, start).await?;
    }
    let readings: Vec<Reading> = read
        .readings
        .iter()
        .filter_map(|r| {
            let stream = streams.get(r.column).copied().flatten()?;
            Some(Reading { stream, t: r.time.0, raw: r.value })
        })
        .collect();
    let id = if import.id == 0 { unit.begin_import(import).await? } else { import.id };
    let origin = Origin { source: Source::File, import: Some(id), received_at: import.created_at };
    let added = unit.add_readings(&origin, readings).await?;
    let chosen = |i: &usize| mapping.columns[*i].quantity.is_some();
    let missing = (0..read.columns.len()).filter(chosen).filter(|i| read.columns[*i].missing > 0);
    let report = Report {
        lines: read.lines,
        new_records: added.new_records,
        known_records: added.known_records,
        new_readings: added.new,
        known_readings: added.known,
        repeated_readings: added.repeated,
        missing: missing.map(|i| (read.columns[i].name.clone(), read.columns[i].missing)).collect(),
        left_out: (0..read.columns.len()).filter(|i| !chosen(i)).map(|i| read.columns[i].name.clone()).collect(),
        headers_again: read.headers_again,
        problems: read.problems.clone(),
        extent: read.extent.map(|(a, b)| (a.0, b.0)),
    };
    let told = Import { report: Some(serde_json::to_string(&report)?), ..import.clone() };
    unit.keep_import(&Import { id, ..told }).await?;
    unit.commit().await?;
    Ok((id, report))
}

/// The note by which a placement that an import made is known again: a later import of older files may extend it.
const MADE_BY_IMPORT: &str = "made by an import; depth and dates as given there";

async fn ensure_placement(
    unit: &mut Unit,
    station: i64,
    (node, node_name): (i64, &str),
    plan: &ColumnPlan,
    quantity: Quantity,
    start: UnixSeconds,
) -> Result<(), StoreError> {
    let port = plan.port.trim();
    if let Some((id, note, starts)) = unit.first_placement(node, port).await? {
        if note == MADE_BY_IMPORT && start < starts {
            unit.begin_placement_at(id, start).await?;
        }
        return Ok(());
    }
    let principle = match quantity {
        Quantity::RawOutput | Quantity::WaterContent | Quantity::ElectricalConductivity => Principle::Dielectric,
        Quantity::WaterTension => Principle::GranularMatrix,
        Quantity::SoilTemperature | Quantity::AirTemperature | Quantity::BareAirTemperature => Principle::Thermometer,
        Quantity::Rain => Principle::RainGauge,
        Quantity::RelativeHumidity
        | Quantity::Irrigation
        | Quantity::BatteryVoltage
        | Quantity::EnclosureHumidity
        | Quantity::PanelTemperature
        | Quantity::SignalStrength => Principle::Node,
    };
    let serial = match plan.serial.trim() {
        "" => format!("{node_name} {port} (station {station})"),
        given => given.to_owned(),
    };
    let probe = Probe {
        id: 0,
        serial,
        model: String::new(),
        principle,
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    let placement = NewPlacement {
        node_id: node,
        port: port.to_owned(),
        probe_id: unit.ensure_probe(&probe).await?,
        depth_cm: plan.depth_cm.and_then(|d| DepthCm::new(d).ok()),
        orientation: String::new(),
        starts: start,
        ends: None,
        note: MADE_BY_IMPORT.to_owned(),
    };
    unit.place(&placement).await.map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &str =
        "# node 07\ntime,m05 [mV],t05 [degC],by\n2026-03-01 00:00,880.1,4.2,A\n2026-03-01 00:15,880.4,4.3,B\n";

    fn read_file() -> (Read, Vec<String>) {
        let text = logger::Text::of_bytes(FILE.as_bytes()).unwrap();
        let read = logger::read(&text, &logger::guess(&text, 0).unwrap()).unwrap();
        (read, text.head(HEAD_LINES).unwrap())
    }

    #[test]
    fn a_first_mapping_names_node_ports_and_depths() {
        let (read, head) = read_file();
        let mapping = first_mapping(&read, &head, "x.csv");
        assert_eq!(mapping.node, "node 07");
        let got: Vec<_> = mapping.columns.iter().map(|c| (c.port.as_str(), c.quantity, c.depth_cm)).collect();
        let moist = ("m05", Some(Quantity::RawOutput), Some(5.0));
        assert_eq!(got, [moist, ("t05", Some(Quantity::SoilTemperature), Some(5.0)), ("by", None, None)]);
        assert_eq!(node_of_file("ride_edge_export.txt"), "ride edge export");
    }

    #[test]
    fn what_hinders_is_said_before_anything_is_stored() {
        let (read, head) = read_file();
        let mut mapping = first_mapping(&read, &head, "x.csv");
        assert!(hindrances(&read, &mapping, UnixSeconds(1_800_000_000)).is_empty());
        assert!(hindrances(&read, &mapping, UnixSeconds(0))[0].contains("lies in the future"));
        mapping.columns[1] = ColumnPlan { column: "t05".into(), ..mapping.columns[0].clone() };
        mapping.node = " ".into();
        let all = hindrances(&read, &mapping, UnixSeconds(1_800_000_000)).join(" ");
        assert!(all.contains("Two columns go to port “m05”") && all.contains("Name the node"), "{all}");
    }
}
