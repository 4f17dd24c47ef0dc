//! A record package taken in whole: it becomes stations of a new study or of one that is there, or is merged into those.
//!
//! Everything is one action: all of it stands, or nothing. What is there already stays as it is; what a package says otherwise is told.
//! Flags that come with a new station stand until something changes there and the tests run.

mod meaning;
mod report;
mod rows;
mod station;
mod times;

pub use report::{Readings, Report, StationReport};

use ebrel_core::calibration::Curve;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::package::Package;
use ebrel_store::calibrations::Subject;
use ebrel_store::packages::{BroughtPackage, FirstDelivery};
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError, Unit};
use report::Slips;
use std::collections::{BTreeMap, HashMap};
use thiserror::Error;

/// Where a package goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Whither {
    /// Into a study that is begun for it.
    New {
        /// The study's name.
        name: String,
        /// The account that is to own it.
        owner: Option<i64>,
    },
    /// Into a study that is there, by its number.
    Study(i64),
}

/// How a package is to be taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// Where it goes.
    pub whither: Whither,
    /// Other codes for stations, by the code that the package gives them.
    pub codes: BTreeMap<String, String>,
    /// Who takes it.
    pub by: String,
    /// Moment of it.
    pub now: UnixSeconds,
}

/// Why a package is not taken; nothing of it is then.
#[derive(Debug, Error)]
pub enum NotTaken {
    /// Rows that cannot stand, each with its table and row.
    #[error("{}", .0.join("\n"))]
    Slips(Vec<String>),
    /// Somebody took it already.
    #[error("this package was taken in already")]
    Already,
    /// The database refused.
    #[error(transparent)]
    Store(StoreError),
}

impl From<StoreError> for NotTaken {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Rule(sentence) => Self::Slips(vec![sentence]),
            other => Self::Store(other),
        }
    }
}

/// What would become of a package: everything but its readings is tried, and nothing stands.
///
/// # Errors
/// [`NotTaken`] with all that is wrong.
pub async fn look(store: &Store, package: &Package, target: &Target) -> Result<Report, NotTaken> {
    Ok(Taking::begin(store, package, target, None).await?.everything().await?.1)
}

/// The stations of a package and how much it holds of each, where it cannot be taken as it stands.
#[must_use]
pub fn outline(package: &Package) -> Report {
    let of = |code: &str| {
        let row = package.stations.iter().find(|s| s.station == code).map_or("", |s| s.name.as_str());
        let channels = package.channels.iter().filter(|c| c.0.station == code);
        let given = channels.clone().map(|c| c.1.len()).sum();
        StationReport {
            code: code.to_owned(),
            code_here: code.to_owned(),
            name: row.to_owned(),
            channels: channels.count(),
            readings: Readings { given, ..Readings::default() },
            ..StationReport::default()
        }
    };
    Report { stations: rows::stations(package).into_iter().map(of).collect(), ..Report::default() }
}

/// Takes a package in that was brought as `brought`.
///
/// # Errors
/// [`NotTaken`] with all that is wrong, or why the database refuses; nothing is stored then.
pub async fn take(
    store: &Store,
    package: &Package,
    target: &Target,
    brought: &BroughtPackage,
) -> Result<Report, NotTaken> {
    let (mut unit, report) = Taking::begin(store, package, target, Some(brought)).await?.everything().await?;
    let json = serde_json::to_string(&report).map_err(StoreError::from)?;
    unit.package_taken(brought.id, report.study, &json).await.map_err(|e| match e {
        StoreError::Stale => NotTaken::Already,
        other => NotTaken::Store(other),
    })?;
    unit.commit().await?;
    Ok(report)
}

/// A package on its way in. The write lock is held: what is read beside it does not change.
struct Taking<'p> {
    store: &'p Store,
    unit: Unit,
    package: &'p Package,
    target: &'p Target,
    study: Study,
    /// The package's number, and its deliveries with theirs; `None` where it is only looked at.
    brought: Option<(i64, Vec<(i64, FirstDelivery)>)>,
    /// Place in the deliveries by number in the package.
    deliveries: HashMap<u32, usize>,
    /// What was adopted on the way, by whom it serves and from when.
    adopted: Vec<((Subject, String, UnixSeconds), Curve)>,
    slips: Slips,
    report: Report,
}

impl<'p> Taking<'p> {
    async fn begin(
        store: &'p Store,
        package: &'p Package,
        target: &'p Target,
        brought: Option<&BroughtPackage>,
    ) -> Result<Self, NotTaken> {
        let mut unit = store.unit().await?;
        let mut report = Report::default();
        let study = match &target.whither {
            Whither::Study(id) => store.study(*id).await?,
            Whither::New { name, owner } => {
                let mut study = Study {
                    id: 0,
                    name: name.clone(),
                    question: package.study.question.clone(),
                    utc_offset_minutes: rows::offset(package),
                    fixed_now: None,
                };
                study.id = unit.add_study(&study, *owner).await?;
                report.new_study = true;
                study
            }
        };
        (report.study, report.study_name) = (study.id, study.name.clone());
        let offset = rows::offset(package);
        if offset != study.utc_offset_minutes {
            report.remarks.push(
                "The package shows its times at another offset than this study; readings are kept in UTC and are the same."
                    .into(),
            );
        }
        let mut slips = Slips::default();
        let (mut firsts, deliveries) = rows::deliveries(package, &mut slips);
        // What no row of the package tells of came by the package.
        firsts.push(FirstDelivery {
            received_at: target.now,
            source: ebrel_store::batches::Source::Package,
            file_name: String::new(),
            sha256: String::new(),
            by: target.by.clone(),
        });
        let brought = match brought {
            None => None,
            Some(package) => {
                let numbers = unit.begin_deliveries(package.id, &firsts).await?;
                Some((package.id, numbers.into_iter().zip(firsts).collect()))
            }
        };
        Ok(Self { store, unit, package, target, study, brought, deliveries, adopted: Vec::new(), slips, report })
    }

    async fn everything(mut self) -> Result<(Unit, Report), NotTaken> {
        let mut stations = Vec::new();
        for code in rows::stations(self.package) {
            stations.push(self.station(code).await?);
        }
        self.slips.refuse()?;
        let mut streams = Vec::new();
        for station in &mut stations {
            self.readings_of(station).await?;
            streams.extend(station.channels.iter().flat_map(|c| [Some(c.stream), c.beside]).flatten());
        }
        if let Some((package, _)) = &self.brought {
            self.unit.end_deliveries(*package, &streams).await?;
        }
        // A gauge of one station makes the tests of others due; what came with the package has seen it.
        for station in &mut stations {
            self.flags_of(station).await?;
        }
        self.slips.refuse()?;
        self.report.stations = stations.into_iter().map(|s| s.report).collect();
        Ok((self.unit, self.report))
    }
}
