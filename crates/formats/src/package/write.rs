//! Writing a package: the same content gives the same bytes.

use super::origin::StudyPart;
use super::tables::{ChannelRow, FlagRow, Package, ReadingRow};
use crate::formula::harmless;
use serde::Serialize;
use std::io::{BufWriter, Seek, Write};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// A table's name, and its columns with their Table Schema types.
type Schema = (&'static str, &'static [(&'static str, &'static str)]);

/// Left out where no clock was checked.
const CLOCK_CHECKS: Schema = (
    "clock_checks",
    &[
        ("node", "string"),
        ("node_time", "datetime"),
        ("true_time", "datetime"),
        ("uncertainty_s", "number"),
        ("note", "string"),
    ],
);

/// Left out where nothing was measured by hand.
const REFERENCES: Schema = (
    "references",
    &[
        ("channel", "string"),
        ("time", "datetime"),
        ("value", "number"),
        ("uncertainty", "number"),
        ("kind", "string"),
        ("note", "string"),
        ("by", "string"),
    ],
);

/// Left out where nobody decided anything.
const VERDICTS: Schema = (
    "verdicts",
    &[
        ("channel", "string"),
        ("start", "datetime"),
        ("end", "datetime"),
        ("test", "string"),
        ("verdict", "string"),
        ("reason", "string"),
        ("by", "string"),
        ("at", "datetime"),
        ("mark", "string"),
        ("readings", "integer"),
    ],
);

/// Left out where no reading says what brought it.
const DELIVERIES: Schema = (
    "deliveries",
    &[
        ("delivery", "integer"),
        ("received", "datetime"),
        ("source", "string"),
        ("file", "string"),
        ("sha256", "string"),
        ("by", "string"),
    ],
);

/// The tables of the descriptor, in its order.
const SCHEMAS: [Schema; 11] = [
    (
        "stations",
        &[
            ("station", "string"),
            ("name", "string"),
            ("latitude", "number"),
            ("longitude", "number"),
            ("elevation_m", "number"),
            ("utc_offset_minutes", "integer"),
            ("treatment", "string"),
            ("slope_pct", "number"),
            ("aspect_deg", "number"),
            ("cover", "string"),
            ("known_bias", "string"),
        ],
    ),
    (
        "horizons",
        &[
            ("station", "string"),
            ("top_cm", "number"),
            ("bottom_cm", "number"),
            ("name", "string"),
            ("texture", "string"),
            ("sand_pct", "number"),
            ("clay_pct", "number"),
            ("organic_matter_pct", "number"),
            ("bulk_density_g_cm3", "number"),
        ],
    ),
    (
        "channels",
        &[
            ("channel", "string"),
            ("station", "string"),
            ("node", "string"),
            ("port", "string"),
            ("quantity", "string"),
            ("unit", "string"),
            ("depth_cm", "number"),
            ("orientation", "string"),
            ("principle", "string"),
            ("probe_model", "string"),
            ("serial", "string"),
            ("start", "datetime"),
            ("end", "datetime"),
            ("interval_s", "integer"),
            ("instrument_min", "number"),
            ("instrument_max", "number"),
            ("resolution", "number"),
            ("twin_of", "string"),
            ("raw_unit", "string"),
            ("note", "string"),
        ],
    ),
    (
        "readings",
        &[
            ("channel", "string"),
            ("time", "datetime"),
            ("value", "number"),
            ("raw", "number"),
            ("uncertainty", "number"),
            ("node_time", "datetime"),
            ("delivery", "integer"),
        ],
    ),
    (
        "events",
        &[
            ("station", "string"),
            ("kind", "string"),
            ("start", "datetime"),
            ("end", "datetime"),
            ("amount", "number"),
            ("unit", "string"),
            ("note", "string"),
            ("by", "string"),
        ],
    ),
    CLOCK_CHECKS,
    REFERENCES,
    (
        "calibrations",
        &[
            ("channel", "string"),
            ("valid_from", "datetime"),
            ("form", "string"),
            ("coefficients", "array"),
            ("x_min", "number"),
            ("x_max", "number"),
            ("standard_error", "number"),
            ("source", "string"),
            ("particulars", "object"),
        ],
    ),
    (
        "flags",
        &[
            ("channel", "string"),
            ("start", "datetime"),
            ("end", "datetime"),
            ("test", "string"),
            ("grade", "string"),
            ("verdict", "string"),
            ("reason", "string"),
            ("evidence", "object"),
        ],
    ),
    VERDICTS,
    DELIVERIES,
];

fn header(table: &str) -> String {
    let columns = SCHEMAS.iter().find(|(name, _)| *name == table).map_or(&[][..], |(_, columns)| columns);
    let mut line = columns.iter().map(|(name, _)| *name).collect::<Vec<_>>().join(",");
    line.push('\n');
    line
}

fn csv_table<R: Serialize>(table: &str, rows: &[R]) -> Result<Vec<u8>, csv::Error> {
    let mut plain = csv::WriterBuilder::new().has_headers(false).from_writer(Vec::new());
    for row in rows {
        plain.serialize(row)?;
    }
    let plain = plain.into_inner().map_err(csv::IntoInnerError::into_error)?;
    let columns = SCHEMAS.iter().find(|(name, _)| *name == table).map_or(&[][..], |(_, columns)| columns);
    let mut writer = csv::WriterBuilder::new().from_writer(header(table).into_bytes());
    for row in csv::ReaderBuilder::new().has_headers(false).from_reader(&plain[..]).records() {
        let cells = row?;
        writer.write_record(cells.iter().enumerate().map(|(i, cell)| match columns.get(i) {
            Some((_, "string")) => harmless(cell),
            _ => cell.to_owned(),
        }))?;
    }
    writer.into_inner().map_err(|e| e.into_error().into())
}

/// `flags.csv`, sorted by channel, start and test.
///
/// # Errors
/// If a row cannot be written as CSV.
pub fn flags_csv(flags: &[FlagRow]) -> Result<Vec<u8>, csv::Error> {
    let mut sorted: Vec<&FlagRow> = flags.iter().collect();
    sorted.sort_by(|a, b| (&a.channel, a.start, &a.test, a.end).cmp(&(&b.channel, b.start, &b.test, b.end)));
    csv_table("flags", &sorted)
}

fn write_readings(
    channel: &ChannelRow,
    readings: impl IntoIterator<Item = ReadingRow>,
    out: &mut impl Write,
) -> std::io::Result<()> {
    let name = quoted(&harmless(&channel.channel));
    for r in readings {
        write!(out, "{name},{},", crate::rfc3339(r.time))?;
        if r.value.is_finite() {
            write!(out, "{}", r.value)?;
        }
        out.write_all(b",")?;
        if let Some(raw) = r.raw {
            write!(out, "{raw}")?;
        }
        out.write_all(b",")?;
        if let Some(u) = r.uncertainty {
            write!(out, "{u}")?;
        }
        out.write_all(b",")?;
        if let Some(shown) = r.node_time {
            out.write_all(crate::rfc3339(shown).as_bytes())?;
        }
        out.write_all(b",")?;
        if let Some(delivery) = r.delivery {
            write!(out, "{delivery}")?;
        }
        out.write_all(b"\n")?;
    }
    Ok(())
}

/// The text as one CSV field.
fn quoted(text: &str) -> String {
    if text.contains([',', '"', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text.to_owned() }
}

fn descriptor<R>(package: &Package<R>) -> String {
    let resources: Vec<serde_json::Value> = SCHEMAS
        .iter()
        .filter(|(name, _)| match *name {
            "clock_checks" => !package.clock_checks.is_empty(),
            "references" => !package.references.is_empty(),
            "verdicts" => !package.verdicts.is_empty(),
            "deliveries" => !package.deliveries.is_empty(),
            _ => true,
        })
        .map(|(name, columns)| {
            let fields: Vec<_> = columns.iter().map(|(n, t)| serde_json::json!({"name": n, "type": t})).collect();
            serde_json::json!({
                "name": name, "path": format!("{name}.csv"), "profile": "tabular-data-resource", "encoding": "utf-8",
                "schema": {"fields": fields, "missingValues": [""]},
            })
        })
        .collect();
    let mut whole = serde_json::json!({
        "profile": "data-package", "name": "ebrel-record", "title": package.title, "description": package.description,
        "resources": resources,
    });
    if package.study != StudyPart::default() {
        whole["study"] = serde_json::json!(package.study);
    }
    if !package.tests.is_empty() {
        whole["tests"] = serde_json::json!(package.tests);
    }
    serde_json::to_string_pretty(&whole).unwrap_or_default() + "\n"
}

/// Writes the package as a zip. Entries carry no clock time, so that the same content gives the same bytes.
///
/// # Errors
/// If a table cannot be written as CSV, or the zip cannot be made.
pub fn write_zip<R, W>(package: Package<R>, out: W) -> std::io::Result<()>
where
    R: IntoIterator<Item = ReadingRow>,
    W: Write + Seek,
{
    let channels: Vec<_> = package.channels.iter().map(|(row, _)| row).collect();
    let options = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(zip::DateTime::default())
        .unix_permissions(0o644);
    let before = [
        ("datapackage.json", descriptor(&package).into_bytes()),
        ("stations.csv", csv_table("stations", &package.stations)?),
        ("horizons.csv", csv_table("horizons", &package.horizons)?),
        ("channels.csv", csv_table("channels", &channels)?),
    ];
    let mut after = Vec::new();
    if !package.clock_checks.is_empty() {
        after.push(("clock_checks.csv", csv_table("clock_checks", &package.clock_checks)?));
    }
    if !package.references.is_empty() {
        after.push(("references.csv", csv_table("references", &package.references)?));
    }
    after.push(("events.csv", csv_table("events", &package.events)?));
    after.push(("calibrations.csv", csv_table("calibrations", &package.calibrations)?));
    after.push(("flags.csv", flags_csv(&package.flags)?));
    if !package.verdicts.is_empty() {
        after.push(("verdicts.csv", csv_table("verdicts", &package.verdicts)?));
    }
    if !package.deliveries.is_empty() {
        after.push(("deliveries.csv", csv_table("deliveries", &package.deliveries)?));
    }
    let mut zip = ZipWriter::new(out);
    for (name, bytes) in before {
        zip.start_file(name, options)?;
        zip.write_all(&bytes)?;
    }
    zip.start_file("readings.csv", options)?;
    // By far the largest: never held as a whole.
    let mut lines = BufWriter::new(&mut zip);
    lines.write_all(header("readings").as_bytes())?;
    for (channel, readings) in package.channels {
        write_readings(&channel, readings, &mut lines)?;
    }
    lines.flush()?;
    drop(lines);
    for (name, bytes) in after {
        zip.start_file(name, options)?;
        zip.write_all(&bytes)?;
    }
    zip.finish()?;
    Ok(())
}
