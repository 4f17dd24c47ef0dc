//! Reading a package from a folder or a zip.

use super::rows::Rows;
use super::tables::{ChannelRow, EventRow, Package, ReadingRow, parse_time};
use crate::formula::bare;
use ebrel_core::units::Quantity;
use serde::de::DeserializeOwned;
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{BufRead, BufReader, Cursor, Read, Seek};
use std::path::Path;
use thiserror::Error;

/// Why a package cannot be read: where, kept apart from what.
#[derive(Debug, Error)]
pub enum PackageError {
    /// The folder or zip cannot be opened.
    #[error("{path}: {source}")]
    Open {
        /// The folder or file that was to be opened.
        path: String,
        /// What the disk or the archive said.
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
        /// The table with the row.
        file: &'static str,
        /// Line, counted from 1.
        line: u64,
        /// What is wrong and what to do.
        what: String,
    },
    /// A table that stands in the package more than once: which of them is meant?
    #[error("{0} stands in the package more than once: keep the one that is meant")]
    Twice(String),
    /// Several faults, in the order of the tables; `more` were found besides.
    #[error("{}{}", lines(faults), rest(*more))]
    Many {
        /// The first of them.
        faults: Vec<PackageError>,
        /// How many more there are.
        more: usize,
    },
}

fn lines(faults: &[PackageError]) -> String {
    faults.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

fn rest(more: usize) -> String {
    if more == 0 { String::new() } else { format!("\nand {more} more") }
}

/// Faults of a package as they are found: each is named, and the first hundred are kept.
#[derive(Default)]
struct Faults {
    kept: Vec<PackageError>,
    more: usize,
}

impl Faults {
    const KEPT: usize = 100;

    fn add(&mut self, fault: PackageError) {
        if self.kept.len() < Self::KEPT {
            self.kept.push(fault);
        } else {
            self.more += 1;
        }
    }

    fn row(&mut self, file: &'static str, line: u64, what: String) {
        self.add(PackageError::Row { file, line, what });
    }

    fn done(mut self) -> Result<(), PackageError> {
        match (self.kept.len(), self.more) {
            (0, _) => Ok(()),
            (1, 0) => Err(self.kept.remove(0)),
            (_, more) => Err(PackageError::Many { faults: self.kept, more }),
        }
    }
}

type Files = HashMap<String, Vec<u8>>;

/// The table that holds nearly everything.
const READINGS: &str = "readings.csv";

const TABLES: [&str; 12] = [
    "datapackage.json",
    "stations.csv",
    "horizons.csv",
    "channels.csv",
    "readings.csv",
    "clock_checks.csv",
    "references.csv",
    "events.csv",
    "calibrations.csv",
    "flags.csv",
    "verdicts.csv",
    "deliveries.csv",
];

/// The most that a package may hold once it is unpacked, bytes: some ten million readings. A small zip can unpack to
/// anything.
pub const UNPACKED_LIMIT: u64 = 512 * 1024 * 1024;

/// Reads a package from a folder, or from a zip file, up to [`UNPACKED_LIMIT`]. Readings are read one after another, so that little
/// more than they themselves is held.
///
/// # Errors
/// [`PackageError`] with every table and line that is wrong.
pub fn read_path(path: &Path) -> Result<Package, PackageError> {
    let open = |source| PackageError::Open { path: path.display().to_string(), source };
    if !path.is_dir() {
        let file = File::open(path).map_err(open)?;
        return read_archive(BufReader::new(file), &path.display().to_string());
    }
    let mut files = Files::new();
    let mut left = UNPACKED_LIMIT;
    for name in TABLES.into_iter().filter(|n| *n != READINGS) {
        let file = path.join(name);
        if file.is_file() {
            left = left.checked_sub(file.metadata().map_err(open)?.len()).ok_or(PackageError::TooLarge)?;
            files.insert(name.to_owned(), std::fs::read(file).map_err(open)?);
        }
    }
    let readings = path.join(READINGS);
    let readings = if readings.is_file() { Some(File::open(readings).map_err(open)?) } else { None };
    package(&files, readings.map(|r| (r, left)), Faults::default())
}

/// Reads a package from the bytes of a zip; `name` is for messages.
///
/// # Errors
/// [`PackageError`] with every table and line that is wrong.
pub fn read_zip(bytes: &[u8], name: &str) -> Result<Package, PackageError> {
    read_archive(Cursor::new(bytes), name)
}

fn read_archive<R: Read + Seek>(from: R, name: &str) -> Result<Package, PackageError> {
    let open = |source: std::io::Error| PackageError::Open { path: name.to_owned(), source };
    let mut archive = zip::ZipArchive::new(from).map_err(|e| open(e.into()))?;
    let (mut files, mut faults) = (Files::new(), Faults::default());
    let (mut left, mut readings) = (UNPACKED_LIMIT, None);
    for i in 0..archive.len() {
        let mut entry = archive.by_index(i).map_err(|e| open(e.into()))?;
        let file = entry.name().map_err(|e| open(e.into()))?.rsplit('/').next().unwrap_or_default().to_owned();
        if !TABLES.contains(&file.as_str()) {
            continue;
        }
        if files.contains_key(&file) || (file == READINGS && readings.is_some()) {
            faults.add(PackageError::Twice(file));
        } else if file == READINGS {
            readings = Some(i);
        } else {
            // What the entry claims of its size is not believed.
            let mut content = Vec::new();
            (&mut entry).take(left + 1).read_to_end(&mut content).map_err(open)?;
            left = left.checked_sub(content.len() as u64).ok_or(PackageError::TooLarge)?;
            files.insert(file, content);
        }
    }
    match readings {
        Some(i) => {
            let entry = archive.by_index(i).map_err(|e| open(e.into()))?;
            package(&files, Some((entry, left)), faults)
        }
        None => package::<std::io::Empty>(&files, None, faults),
    }
}

fn package<R: Read>(files: &Files, readings: Option<(R, u64)>, mut faults: Faults) -> Result<Package, PackageError> {
    let rows: Vec<ChannelRow> = table(files, "channels.csv", &mut faults)?;
    if !files.contains_key("channels.csv") {
        return Err(PackageError::Missing("channels.csv"));
    }
    let (readings, left) = readings.ok_or(PackageError::Missing(READINGS))?;
    check_channels(&rows, &mut faults);
    let events: Vec<EventRow> = table(files, "events.csv", &mut faults)?;
    for (line, e) in (2..).zip(&events) {
        if e.end.is_some_and(|end| end < e.start) {
            faults.row("events.csv", line, format!("the event “{}” ends before it starts", e.kind));
        }
    }
    let mut channels: Vec<(ChannelRow, Rows)> = rows.into_iter().map(|c| (c, Rows::default())).collect();
    read_readings(readings, left, &mut channels, &mut faults)?;
    let text = files.get("datapackage.json").and_then(|b| serde_json::from_slice::<serde_json::Value>(b).ok());
    let field = |name: &str| text.as_ref().and_then(|t| t.get(name)?.as_str()).unwrap_or_default().to_owned();
    let made = Package {
        title: field("title"),
        description: field("description"),
        stations: table(files, "stations.csv", &mut faults)?,
        horizons: table(files, "horizons.csv", &mut faults)?,
        channels,
        clock_checks: table(files, "clock_checks.csv", &mut faults)?,
        references: table(files, "references.csv", &mut faults)?,
        events,
        calibrations: table(files, "calibrations.csv", &mut faults)?,
        flags: table(files, "flags.csv", &mut faults)?,
        verdicts: table(files, "verdicts.csv", &mut faults)?,
        deliveries: table(files, "deliveries.csv", &mut faults)?,
        tests: text.as_ref().and_then(|t| serde_json::from_value(t.get("tests")?.clone()).ok()).unwrap_or_default(),
        study: text.as_ref().and_then(|t| serde_json::from_value(t.get("study")?.clone()).ok()).unwrap_or_default(),
    };
    faults.done().map(|()| made)
}

fn check_channels(rows: &[ChannelRow], faults: &mut Faults) {
    const FILE: &str = "channels.csv";
    let mut seen = HashSet::new();
    for (line, c) in (2..).zip(rows) {
        if !seen.insert(c.channel.as_str()) {
            faults.row(FILE, line, format!("the channel “{}” stands there twice", c.channel));
        }
        if Quantity::from_code(&c.quantity).is_none() {
            let known: Vec<_> = Quantity::ALL.iter().map(|q| q.code()).collect();
            faults.row(
                FILE,
                line,
                format!("“{}” is no quantity of a package; there are {}", c.quantity, known.join(", ")),
            );
        }
        if c.instrument_min.zip(c.instrument_max).is_some_and(|(least, most)| least > most) {
            faults.row(FILE, line, format!("the least that “{}” can tell lies over the greatest", c.channel));
        }
        if c.start.zip(c.end).is_some_and(|(start, end)| end < start) {
            faults.row(FILE, line, format!("“{}” ends before it starts", c.channel));
        }
    }
}

fn table<R: DeserializeOwned>(files: &Files, name: &'static str, faults: &mut Faults) -> Result<Vec<R>, PackageError> {
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
    let good = rows.filter_map(|row| row.map_err(|e| faults.add(row_error(name, &e))).ok());
    Ok(good.collect())
}

fn row_error(file: &'static str, error: &csv::Error) -> PackageError {
    PackageError::Row { file, line: error.position().map_or(1, csv::Position::line), what: error.to_string() }
}

/// A stream that ends with an error when more comes than is taken.
struct Limited<R> {
    from: R,
    left: u64,
}

/// What the error of [`Limited`] says.
const OVER: &str = "over the limit";

impl<R: Read> Read for Limited<R> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let n = self.from.read(into)?;
        self.left = self.left.checked_sub(n as u64).ok_or_else(|| std::io::Error::other(OVER))?;
        Ok(n)
    }
}

fn read_readings<R: Read>(
    from: R,
    left: u64,
    channels: &mut [(ChannelRow, Rows)],
    faults: &mut Faults,
) -> Result<(), PackageError> {
    let told = |e: &csv::Error| match e.kind() {
        csv::ErrorKind::Io(io) if io.to_string() == OVER => PackageError::TooLarge,
        _ => row_error(READINGS, e),
    };
    let mut from = BufReader::with_capacity(1 << 16, Limited { from, left });
    let marked = from.fill_buf().is_ok_and(|b| b.starts_with(b"\xef\xbb\xbf"));
    if marked {
        from.consume(3);
    }
    let mut reader = csv::Reader::from_reader(from);
    let headers = reader.headers().map_err(|e| told(&e))?.clone();
    let column = |name: &str| headers.iter().position(|h| h == name);
    let need = |name: &'static str| {
        column(name).ok_or_else(|| PackageError::Row {
            file: READINGS,
            line: 1,
            what: format!("the column “{name}” is missing"),
        })
    };
    let (channel, time, value) = (need("channel")?, need("time")?, need("value")?);
    let (raw, uncertainty) = (column("raw"), column("uncertainty"));
    let (node_time, delivery) = (column("node_time"), column("delivery"));
    let index: HashMap<String, usize> = channels.iter().enumerate().map(|(i, c)| (c.0.channel.clone(), i)).collect();
    let mut row = csv::StringRecord::new();
    let mut last: Option<(String, usize)> = None;
    loop {
        match reader.read_record(&mut row) {
            Ok(true) => {}
            Ok(false) => return Ok(()),
            Err(e) if e.is_io_error() => return Err(told(&e)),
            Err(e) => {
                faults.add(told(&e));
                continue;
            }
        }
        let line = row.position().map_or(0, csv::Position::line);
        let name = bare(&row[channel]);
        let at = match &last {
            Some((known, at)) if known == name => *at,
            _ => {
                let Some(at) = index.get(name) else {
                    faults.row(READINGS, line, format!("channel “{name}” is not in channels.csv"));
                    continue;
                };
                last = Some((name.to_owned(), *at));
                *at
            }
        };
        let number = |i: Option<usize>| -> Result<Option<f64>, String> {
            let text = i.and_then(|i| row.get(i)).unwrap_or("").trim();
            if text.is_empty() {
                return Ok(None);
            }
            text.parse().map(Some).map_err(|_| format!("“{text}” is no number"))
        };
        let read = || {
            let moment = |stamp: &str| parse_time(stamp).ok_or_else(|| format!("“{stamp}” is no RFC 3339 time"));
            let filled = |i: Option<usize>| i.and_then(|i| row.get(i)).filter(|text| !text.is_empty());
            let whole = |text: &str| text.parse().map_err(|_| format!("“{text}” is no number of a delivery"));
            Ok::<_, String>(ReadingRow {
                time: moment(&row[time])?,
                value: number(Some(value))?.unwrap_or(f64::NAN),
                raw: number(raw)?,
                uncertainty: number(uncertainty)?,
                node_time: filled(node_time).map(moment).transpose()?,
                delivery: filled(delivery).map(whole).transpose()?,
            })
        };
        match read() {
            Ok(reading) => channels[at].1.push(reading),
            Err(what) => faults.row(READINGS, line, what),
        }
    }
}
