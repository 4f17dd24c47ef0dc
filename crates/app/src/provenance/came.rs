//! How a reading came: by which delivery, and where in which file it stands.

use crate::importing::{ColumnPlan, Mapping, kept_at, latest};
use crate::record::ChannelRecord;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{self, Column, Recipe, Taker, Text};
use ebrel_formats::rfc3339;
use ebrel_store::batches::Origin;
use ebrel_store::imports::Import;
use ebrel_store::{Store, StoreError};
use serde::Serialize;
use std::path::Path;

/// How a reading came here.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Came {
    /// `file`, `message`, `hand`, `demo`, `package`, or `unknown` for readings of before deliveries were kept.
    pub by: &'static str,
    /// When it was received.
    pub received: Option<String>,
    /// Number of the delivery.
    pub delivery: Option<i64>,
    /// The file, if one brought it here.
    pub file: Option<FromFile>,
    /// The record package by which it came from where it was first received.
    pub package: Option<FromPackage>,
}

/// The record package that brought a reading, and what it says of where the reading was first received.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FromPackage {
    /// Number of the package.
    pub package: i64,
    /// Number of the study that it went into.
    pub study: Option<i64>,
    /// Name of the package as it was brought.
    pub name: String,
    /// SHA-256 of its bytes, under which it is kept.
    pub sha256: String,
    /// When it was brought.
    pub received: String,
    /// Who brought it.
    pub by: String,
    /// Name of the logger file that first brought the reading; empty where none did.
    pub first_file: String,
    /// SHA-256 of that file, which lies where it was imported.
    pub first_sha256: String,
    /// Who imported it there.
    pub first_by: String,
}

/// The file that brought a reading.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FromFile {
    /// Number of the import.
    pub import: i64,
    /// Name of the file as it was uploaded.
    pub name: String,
    /// SHA-256 of its bytes, under which it is kept.
    pub sha256: String,
    /// The line, counted from 1; `None` if the file cannot be read any more.
    pub line: Option<usize>,
    /// Who imported it.
    pub by: String,
}

pub(super) async fn came(
    store: &Store,
    data: &Path,
    channel: &ChannelRecord,
    shown: UnixSeconds,
    origin: Option<(i64, Origin)>,
) -> Result<Came, StoreError> {
    let Some((delivery, origin)) = origin else {
        return Ok(Came { by: "unknown", received: None, delivery: None, file: None, package: None });
    };
    let package = match store.package_of(delivery).await? {
        None => None,
        Some((id, first)) => {
            let package = store.package(id).await?;
            Some(FromPackage {
                package: id,
                study: package.study_id,
                name: package.file_name,
                sha256: package.sha256,
                received: rfc3339(package.received_at),
                by: package.received_by,
                first_file: first.file_name,
                first_sha256: first.sha256,
                first_by: first.by,
            })
        }
    };
    let file = match origin.import {
        None => None,
        Some(id) => {
            let import = store.import(id).await?;
            let line = line_in_file(data, &import, channel, shown).await;
            let (name, sha256, by) = (import.file_name, import.sha256, import.created_by);
            Some(FromFile { import: id, name, sha256, line, by })
        }
    };
    let (by, received) = (origin.source.code(), Some(rfc3339(origin.received_at)));
    Ok(Came { by, received, delivery: Some(delivery), file, package })
}

/// The line of the stored file in which a reading stands: the file is read again as it was imported.
async fn line_in_file(data: &Path, import: &Import, channel: &ChannelRecord, shown: UnixSeconds) -> Option<usize> {
    let recipe: Recipe = serde_json::from_str(&import.recipe).ok()?;
    let mapping: Mapping = serde_json::from_str(&import.mapping).ok()?;
    let stream = &channel.channel.stream;
    let of_stream = |(_, plan): &(usize, &ColumnPlan)| {
        plan.port == stream.port && plan.quantity == Some(stream.quantity) && plan.node(&mapping) == stream.node
    };
    let column = mapping.columns.iter().enumerate().find(of_stream)?.0;
    let path = kept_at(data, &import.sha256);
    let until = latest(import.created_at);
    let found = tokio::task::spawn_blocking(move || {
        let text = Text::of_file(path).ok()?;
        let mut finder = Finder { column, time: shown, seen: false, line: None };
        logger::pass(&text, &recipe, until, &mut finder).ok()?;
        finder.line
    });
    found.await.ok().flatten()
}

/// Finds the first line with a reading of a column at a time.
struct Finder {
    column: usize,
    time: UnixSeconds,
    seen: bool,
    line: Option<usize>,
}

impl Taker for Finder {
    fn reading(&mut self, reading: logger::Reading) {
        self.seen |= reading.column == self.column && reading.time == self.time;
    }

    fn line(&mut self, number: usize, _: &[Column]) -> bool {
        if self.seen {
            self.line = Some(number);
        }
        !self.seen
    }
}
