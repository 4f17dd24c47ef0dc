//! Reading a package from a folder or a zip.

use super::tables::{ChannelRow, Package, ReadingRow, parse_time};
use crate::formula::bare;
use serde::de::DeserializeOwned;
use std::collections::HashMap;
use std::io::{Cursor, Read as _};
use std::path::Path;
use thiserror::Error;

/// Why a package cannot be read: where, kept apart from what.
#[derive(Debug, Error)]
pub enum PackageError {
    /// The folder or zip cannot be opened.
    #[error("{path}: {source}")]
    Open {
        /// Which.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// A table that must be there is not.
    #[error("{0} is missing: a record package needs channels.csv and readings.csv")]
    Missing(&'static str),
    /// More than is taken.
    #[error("the package holds more than {} MB once it is unpacked: split it, for instance by year", UNPACKED_LIMIT / 1024 / 1024)]
    TooLarge,
    /// A row is not what its table says.
    #[error("{file}, line {line}: {what}")]
    Row {
        /// Table.
        file: &'static str,
        /// Line, counted from 1.
        line: u64,
        /// What is wrong and what to do.
        what: String,
    },
}

type Files = HashMap<String, Vec<u8>>;

const TABLES: [&str; 9] = [
    "datapackage.json",
    "stations.csv",
    "horizons.csv",
    "channels.csv",
    "readings.csv",
    "clock_checks.csv",
    "events.csv",
    "calibrations.csv",
    "flags.csv",
];

/// The most that a package may hold once it is unpacked, bytes: some ten million readings. A small zip can unpack to
/// anything.
pub const UNPACKED_LIMIT: u64 = 512 * 1024 * 1024;

/// Reads a package from a folder, or from a zip file, up to [`UNPACKED_LIMIT`].
///
/// # Errors
/// [`PackageError`] with the table and line that are wrong.
pub fn read_path(path: &Path) -> Result<Package, PackageError> {
    let open = |source| PackageError::Open { path: path.display().to_string(), source };
    if !path.is_dir() {
        return read_zip(&std::fs::read(path).map_err(open)?, &path.display().to_string());
    }
    let mut files = Files::new();
    let mut left = UNPACKED_LIMIT;
    for name in TABLES {
        let file = path.join(name);
        if file.is_file() {
            left = left.checked_sub(file.metadata().map_err(open)?.len()).ok_or(PackageError::TooLarge)?;
            files.insert(name.to_owned(), std::fs::read(file).map_err(open)?);
        }
    }
    package(&files)
}

/// Reads a package from the bytes of a zip; `name` is for messages.
///
/// # Errors
/// [`PackageError`] with the table and line that are wrong.
pub fn read_zip(bytes: &[u8], name: &str) -> Result<Package, PackageError> {
    let open = |source: std::io::Error| PackageError::Open { path: name.to_owned(), source };
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|e| open(e.into()))?;
    let mut files = Files::new();
    let mut left = UNPACKED_LIMIT;
    for i in 0..archive.len() {
        let mut entry = archive.by_index(i).map_err(|e| open(e.into()))?;
        let file = entry.name().map_err(|e| open(e.into()))?.rsplit('/').next().unwrap_or_default().to_owned();
        if TABLES.contains(&file.as_str()) {
            // What the entry claims of its size is not believed.
            let mut content = Vec::new();
            (&mut entry).take(left + 1).read_to_end(&mut content).map_err(open)?;
            left = left.checked_sub(content.len() as u64).ok_or(PackageError::TooLarge)?;
            files.insert(file, content);
        }
    }
    package(&files)
}

fn package(files: &Files) -> Result<Package, PackageError> {
    let rows: Vec<ChannelRow> = table(files, "channels.csv")?;
    if !files.contains_key("channels.csv") {
        return Err(PackageError::Missing("channels.csv"));
    }
    let readings = files.get("readings.csv").ok_or(PackageError::Missing("readings.csv"))?;
    let mut channels: Vec<(ChannelRow, Vec<ReadingRow>)> = rows.into_iter().map(|c| (c, Vec::new())).collect();
    read_readings(readings, &mut channels)?;
    let text = files.get("datapackage.json").and_then(|b| serde_json::from_slice::<serde_json::Value>(b).ok());
    let field = |name: &str| text.as_ref().and_then(|t| t.get(name)?.as_str()).unwrap_or_default().to_owned();
    Ok(Package {
        title: field("title"),
        description: field("description"),
        stations: table(files, "stations.csv")?,
        horizons: table(files, "horizons.csv")?,
        channels,
        clock_checks: table(files, "clock_checks.csv")?,
        events: table(files, "events.csv")?,
        calibrations: table(files, "calibrations.csv")?,
        flags: table(files, "flags.csv")?,
    })
}

fn table<R: DeserializeOwned>(files: &Files, name: &'static str) -> Result<Vec<R>, PackageError> {
    let Some(bytes) = files.get(name) else { return Ok(Vec::new()) };
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let mut reader = csv::Reader::from_reader(bytes);
    let headers = reader.headers().map_err(|e| row_error(name, &e))?.clone();
    let rows = reader.records().map(|row| {
        let row = row?;
        let mut plain: csv::StringRecord = row.iter().map(bare).collect();
        plain.set_position(row.position().cloned());
        plain.deserialize(Some(&headers))
    });
    rows.map(|row| row.map_err(|e| row_error(name, &e))).collect()
}

fn row_error(file: &'static str, error: &csv::Error) -> PackageError {
    PackageError::Row { file, line: error.position().map_or(1, csv::Position::line), what: error.to_string() }
}

fn read_readings(bytes: &[u8], channels: &mut [(ChannelRow, Vec<ReadingRow>)]) -> Result<(), PackageError> {
    const FILE: &str = "readings.csv";
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let mut reader = csv::Reader::from_reader(bytes);
    let headers = reader.headers().map_err(|e| row_error(FILE, &e))?.clone();
    let column = |name: &str| headers.iter().position(|h| h == name);
    let need = |name: &'static str| {
        column(name).ok_or_else(|| PackageError::Row {
            file: FILE,
            line: 1,
            what: format!("the column “{name}” is missing"),
        })
    };
    let (channel, time, value) = (need("channel")?, need("time")?, need("value")?);
    let (raw, uncertainty) = (column("raw"), column("uncertainty"));
    let index: HashMap<String, usize> = channels.iter().enumerate().map(|(i, c)| (c.0.channel.clone(), i)).collect();
    let mut row = csv::StringRecord::new();
    let mut last: Option<(String, usize)> = None;
    while reader.read_record(&mut row).map_err(|e| row_error(FILE, &e))? {
        let line = row.position().map_or(0, csv::Position::line);
        let wrong = |what: String| PackageError::Row { file: FILE, line, what };
        let name = bare(&row[channel]);
        let at = match &last {
            Some((known, at)) if known == name => *at,
            _ => {
                let at = *index.get(name).ok_or_else(|| wrong(format!("channel “{name}” is not in channels.csv")))?;
                last = Some((name.to_owned(), at));
                at
            }
        };
        let number = |i: Option<usize>| -> Result<Option<f64>, PackageError> {
            let text = i.and_then(|i| row.get(i)).unwrap_or("").trim();
            if text.is_empty() {
                return Ok(None);
            }
            text.parse().map(Some).map_err(|_| wrong(format!("“{text}” is no number")))
        };
        let stamp = &row[time];
        let time = parse_time(stamp).ok_or_else(|| wrong(format!("“{stamp}” is no RFC 3339 time")))?;
        let (value, raw, uncertainty) = (number(Some(value))?.unwrap_or(f64::NAN), number(raw)?, number(uncertainty)?);
        channels[at].1.push(ReadingRow { time, value, raw, uncertainty });
    }
    Ok(())
}
