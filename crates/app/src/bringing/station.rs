//! A station of a package: the place, its nodes, and which probe lay where.

use super::report::{Readings, StationReport};
use super::rows::{self, Kept};
use super::{NotTaken, Taking};
use crate::record::StationRecord;
use ebrel_core::units::{DepthCm, Quantity, UnixSeconds};
use ebrel_formats::package::{ChannelRow, StationRow};
use ebrel_store::StoreError;
use ebrel_store::hands::{Hand, HandDeed};
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::probes::Probe;
use ebrel_store::stations::Station;
use std::collections::{BTreeSet, HashMap};

/// A station on its way in.
pub(super) struct Arriving<'p> {
    pub code: &'p str,
    pub id: i64,
    /// What was there before.
    pub before: Option<StationRecord>,
    pub channels: Vec<ArrivingChannel>,
    /// Placements that were made on the way.
    pub placed: BTreeSet<i64>,
    /// Channels whose probes have no serial.
    pub unnamed: Vec<String>,
    /// Channels whose limits are not those of what their probe is for.
    pub side_limits: usize,
    /// Nodes whose readings are kept at the times that their clocks showed.
    pub checked: BTreeSet<String>,
    pub report: StationReport,
}

/// A channel on its way in.
pub(super) struct ArrivingChannel {
    /// Place among the package's channels.
    pub index: usize,
    pub kept: Kept,
    pub stream: i64,
    /// The stream of raw values from which the values do not follow.
    pub beside: Option<i64>,
    pub placement: i64,
    pub probe: i64,
    pub node: String,
}

impl Arriving<'_> {
    /// The channel of this name.
    pub(super) fn channel(&self, names: &HashMap<&str, usize>, name: &str) -> Option<&ArrivingChannel> {
        let index = *names.get(name)?;
        self.channels.iter().find(|c| c.index == index)
    }
}

impl<'p> Taking<'p> {
    /// Places of the package's channels by name.
    pub(super) fn names(&self) -> HashMap<&'p str, usize> {
        self.package.channels.iter().enumerate().map(|(i, c)| (c.0.channel.as_str(), i)).collect()
    }

    /// A station with everything but readings, flags and verdicts.
    pub(super) async fn station(&mut self, code: &'p str) -> Result<Arriving<'p>, NotTaken> {
        let mut arriving = self.place(code).await?;
        self.channels(&mut arriving).await?;
        self.clock_checks(&mut arriving).await?;
        self.events(&mut arriving).await?;
        self.references(&mut arriving).await?;
        self.calibrations(&mut arriving).await?;
        Ok(arriving)
    }

    async fn place(&mut self, code: &'p str) -> Result<Arriving<'p>, NotTaken> {
        let code_here = self.target.codes.get(code).map_or(code, String::as_str).trim().to_owned();
        let given = self.package.stations.iter().find(|s| s.station == code).cloned().unwrap_or_default();
        let name = if given.name.is_empty() { code_here.clone() } else { given.name.clone() };
        let mut report = StationReport { code: code.into(), code_here: code_here.clone(), name, ..Default::default() };
        let row = 1 + self.package.stations.iter().position(|s| s.station == code).unwrap_or(0);
        if code_here.is_empty() {
            self.slips.add("stations.csv", row, "the station has no code: give it one");
        }
        let horizons = rows::horizons(self.package, code, &mut self.slips);
        let before = match self.store.station_called(&code_here).await {
            Ok(station) if station.code == code_here => Some(station),
            Ok(_) | Err(StoreError::NotFound(_) | StoreError::Rule(_)) => None,
            Err(other) => return Err(other.into()),
        };
        let (id, before) = match before {
            Some(station) => {
                if station.study_id != self.study.id {
                    let study = self.store.study(station.study_id).await?.name;
                    let says = format!(
                        "the station “{code_here}” is there in the study “{study}”: take the package into that study, or give the station another code"
                    );
                    self.slips.add("stations.csv", row, says);
                }
                let record = StationRecord::outline(self.store, station.id).await?;
                differences(&station, &given).into_iter().for_each(|says| report.remark(says));
                if !horizons.is_empty() && record.soil.horizons() != horizons {
                    report.remark("Its soil is another in the package; the one here stands.");
                }
                (station.id, Some(record))
            }
            None => {
                report.new = true;
                let station = Station {
                    id: 0,
                    study_id: self.study.id,
                    code: code_here.clone(),
                    name: report.name.clone(),
                    latitude: given.latitude,
                    longitude: given.longitude,
                    elevation_m: given.elevation_m,
                    treatment: given.treatment.clone(),
                    cover: given.cover.clone(),
                    known_bias: given.known_bias.clone(),
                };
                (self.unit.add_station(&station, &horizons).await?, None)
            }
        };
        if given.slope_pct.is_some() || given.aspect_deg.is_some() {
            report.remark("Slope and aspect have no place here; they stay in the package, which is kept.");
        }
        report.id = if self.brought.is_some() { id } else { 0 };
        Ok(Arriving {
            code,
            id,
            before,
            channels: Vec::new(),
            placed: BTreeSet::new(),
            unnamed: Vec::new(),
            side_limits: 0,
            checked: BTreeSet::new(),
            report,
        })
    }

    async fn channels(&mut self, arriving: &mut Arriving<'p>) -> Result<(), NotTaken> {
        let probes = self.store.probes().await?;
        let mut placed = match &arriving.before {
            Some(before) => self.store.placements(before.station.id).await?,
            None => Vec::new(),
        };
        for (index, (row, readings)) in self.package.channels.iter().enumerate() {
            let Some(quantity) = Quantity::from_code(&row.quantity).filter(|_| row.station == arriving.code) else {
                continue;
            };
            let at = index + 1;
            let mut kept = rows::kept(self.package, row, quantity, readings);
            let unit = quantity.unit();
            if quantity == Quantity::RawOutput {
                kept.unit = if kept.unit.is_empty() { "raw".into() } else { kept.unit };
            } else if row.unit.is_empty() && !kept.raw {
                kept.unit = unit.to_owned();
            } else if !row.unit.is_empty() && row.unit != unit {
                self.slips.add(
                    "channels.csv",
                    at,
                    format!("{} is given in {unit}, not in “{}”", quantity.code(), row.unit),
                );
                continue;
            }
            let node = if row.node.is_empty() { "logger".to_owned() } else { row.node.clone() };
            let port = if row.port.is_empty() { row.channel.clone() } else { row.port.clone() };
            let node_id = self.unit.ensure_node(arriving.id, &node).await?;
            let stream = self.unit.ensure_stream(node_id, &port, kept.quantity, &kept.unit, row.interval_s).await;
            let stream = match stream {
                Err(StoreError::Rule(says)) => {
                    self.slips.add("channels.csv", at, says);
                    continue;
                }
                stream => stream?,
            };
            let beside = if kept.beside {
                let port = format!("{port} raw");
                arriving.report.remark(format!(
                    "The values of {} do not follow from their raw values by the calibrations of the package: both are kept, the raw ones at port “{port}”.",
                    row.channel
                ));
                Some(self.unit.ensure_stream(node_id, &port, Quantity::RawOutput, "raw", row.interval_s).await?)
            } else {
                None
            };
            let Some(probe) = self.probe(arriving, at, row, quantity, &probes).await? else { continue };
            let first = readings.times.iter().min().copied().unwrap_or(0);
            let starts = row.start.unwrap_or(UnixSeconds(first));
            // Some packages name the last moment, and not the first one after it.
            let ends = row.end.map(|end| if readings.times.contains(&end.0) { UnixSeconds(end.0 + 1) } else { end });
            let lies = |t: &&i64| **t < starts.0 || ends.is_some_and(|e| **t >= e.0);
            let outside = readings.times.iter().filter(lies).count();
            if outside > 0 {
                arriving.report.remark(format!(
                    "{outside} readings of {} lie before its start or after its end: they are kept, but show only once its placement is corrected.",
                    row.channel
                ));
            }
            let new = NewPlacement {
                node_id,
                port,
                probe_id: probe,
                depth_cm: match row.depth_cm.map(DepthCm::new).transpose() {
                    Ok(depth) => depth,
                    Err(error) => {
                        self.slips.add("channels.csv", at, error);
                        continue;
                    }
                },
                orientation: row.orientation.clone(),
                starts,
                ends,
                note: row.note.clone(),
            };
            let Some(placement) = self.placement(arriving, at, &new, &mut placed).await? else { continue };
            arriving.report.channels += 1;
            arriving.channels.push(ArrivingChannel { index, kept, stream, beside, placement, probe, node });
        }
        if let [first, rest @ ..] = &arriving.unnamed[..] {
            let more = if rest.is_empty() { String::new() } else { format!(" and {} more", rest.len()) };
            arriving.report.remark(format!("No serial for {first}{more}: such a probe is called like its channel."));
        }
        if arriving.side_limits > 0 {
            arriving.report.remark(format!(
                "Range and step of {} channels, further quantities of their probes, have no place here; they stay in the package.",
                arriving.side_limits
            ));
        }
        Ok(())
    }

    /// The probe of a channel: the one of this serial, if it is there and can be the same.
    async fn probe(
        &mut self,
        arriving: &mut Arriving<'p>,
        at: usize,
        row: &ChannelRow,
        quantity: Quantity,
        known: &[Probe],
    ) -> Result<Option<i64>, NotTaken> {
        let serial = if row.serial.is_empty() {
            arriving.unnamed.push(row.channel.clone());
            row.channel.clone()
        } else {
            row.serial.clone()
        };
        // One probe may tell several quantities; its limits are those of what it is for.
        let main = rows::main_of_probe(self.package, row);
        if main.channel != row.channel && row.instrument_min.or(row.instrument_max).or(row.resolution).is_some() {
            arriving.side_limits += usize::from(
                (row.instrument_min, row.instrument_max, row.resolution)
                    != (main.instrument_min, main.instrument_max, main.resolution),
            );
        }
        let quantity = Quantity::from_code(&main.quantity).unwrap_or(quantity);
        let row = main;
        let probe = Probe {
            id: 0,
            serial,
            model: row.probe_model.clone(),
            principle: rows::principle(row, quantity),
            instrument_min: row.instrument_min,
            instrument_max: row.instrument_max,
            resolution: row.resolution,
        };
        if let Some(here) = known.iter().find(|p| p.serial == probe.serial) {
            if here.principle != probe.principle {
                let says = format!(
                    "the probe {} is of another kind here ({}): correct one of the two",
                    here.serial, here.model
                );
                self.slips.add("channels.csv", at, says);
                return Ok(None);
            }
            if (Probe { id: here.id, ..probe.clone() }) != *here {
                let says = format!("Probe {}: model or limits are others here, and stand.", here.serial);
                arriving.report.remark(says);
            }
        }
        Ok(Some(self.unit.ensure_probe(&probe).await?))
    }

    /// The placement of a channel: made, or the same one if it is there.
    async fn placement(
        &mut self,
        arriving: &mut Arriving<'p>,
        at: usize,
        new: &NewPlacement,
        placed: &mut Vec<Placement>,
    ) -> Result<Option<i64>, NotTaken> {
        let same = |p: &&Placement| {
            (p.node_id, &p.port, p.probe.id, p.starts) == (new.node_id, &new.port, new.probe_id, new.starts)
        };
        if let Some(here) = placed.iter().find(same) {
            if here.given() != *new {
                let says =
                    format!("Port {}: depth, end or note of the placement are others here, and stand.", new.port);
                arriving.report.remark(says);
            }
            // Another quantity of a probe that was placed just now is no placement of its own.
            if !arriving.placed.contains(&here.id) {
                arriving.report.count("placements", false);
            }
            return Ok(Some(here.id));
        }
        match self.unit.place(new).await {
            Ok(id) => {
                let hand = Hand { deed: HandDeed::Placed, by: self.target.by.clone(), at: self.target.now };
                self.unit.note_hand(id, &hand).await?;
                arriving.report.count("placements", true);
                arriving.placed.insert(id);
                placed.push(made(id, new));
                Ok(Some(id))
            }
            Err(StoreError::Rule(says)) => {
                self.slips.add("channels.csv", at, says);
                Ok(None)
            }
            Err(other) => Err(other.into()),
        }
    }
}

/// A placement that was made just now, to find it again.
fn made(id: i64, new: &NewPlacement) -> Placement {
    let probe = Probe {
        id: new.probe_id,
        serial: String::new(),
        model: String::new(),
        principle: ebrel_core::units::Principle::Node,
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    Placement {
        id,
        node_id: new.node_id,
        port: new.port.clone(),
        probe,
        depth_cm: new.depth_cm.map(DepthCm::get),
        orientation: new.orientation.clone(),
        starts: new.starts,
        ends: new.ends,
        note: new.note.clone(),
    }
}

/// What a package says otherwise of a station that is there.
fn differences(here: &Station, given: &StationRow) -> Vec<String> {
    let mut told = Vec::new();
    let mut tell = |what: &str, differ: bool| {
        if differ {
            told.push(format!("Its {what} is another in the package; what is here stands."));
        }
    };
    let differ = |here: Option<f64>, given: Option<f64>| given.is_some() && here != given;
    tell("name", !given.name.is_empty() && given.name != here.name);
    tell("place", differ(here.latitude, given.latitude) || differ(here.longitude, given.longitude));
    tell("height above the sea", differ(here.elevation_m, given.elevation_m));
    tell("treatment", !given.treatment.is_empty() && given.treatment != here.treatment);
    tell("cover", !given.cover.is_empty() && given.cover != here.cover);
    told
}

impl Readings {
    pub(super) fn add(&mut self, added: &ebrel_store::readings::Added) {
        self.new += added.new;
        self.known += added.known;
        self.contradicting += added.repeated;
    }
}
