//! The plan of a site: taken in from GeoJSON, given out as such, and how a station is found again.

use super::pack::lying;
use crate::planning::{PlanError, StationPlan};
use ebrel_core::field::{LandmarkKind, Way, walking_order};
use ebrel_core::quality::Place;
use ebrel_core::units::{UnixSeconds, format_short};
use ebrel_formats::site::{PointOf, Site, SitePoint};
use ebrel_store::landmarks::Landmark;
use ebrel_store::stations::Station;
use ebrel_store::{Store, StoreError};

/// What became of a file of the site. `points` is the sum of placed, landmarks, unchanged, unknown and beyond.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SiteTaken {
    /// Points that the file held and that could be read.
    pub points: usize,
    /// Stations that got a place or another one, with how far they moved.
    pub placed: Vec<String>,
    /// Landmarks that were entered or moved.
    pub landmarks: Vec<String>,
    /// What was there already just so.
    pub unchanged: usize,
    /// Points of stations that the study does not have.
    pub unknown: Vec<String>,
    /// Landmarks beyond the number that a study keeps.
    pub beyond: usize,
    /// Features that could not be read, each with its reason.
    pub left_out: Vec<String>,
}

/// The most landmarks of a study: more are no marks to find something by.
pub const MOST_LANDMARKS: usize = 300;

/// Points nearer than this are the same, m: more than coordinates of six decimals tell.
const SAME_M: f64 = 0.1;

/// Takes the points of a site in: stations by their code, landmarks by their name.
///
/// A station that has a plan gets its place through the plan, so that plan and station say the same.
///
/// # Errors
/// [`PlanError`] if the database refuses, or a plan cannot be read.
pub async fn take_site(
    store: &Store,
    study: i64,
    site: &Site,
    by: &str,
    at: UnixSeconds,
) -> Result<SiteTaken, PlanError> {
    let stations = store.stations(study).await?;
    let mut known = store.landmarks(study).await?;
    let mut changed = Vec::new();
    let mut taken = SiteTaken { points: site.points.len(), ..SiteTaken::default() };
    taken.left_out = site.left_out.iter().map(|(n, why)| format!("Feature {n}: {why}.")).collect();
    for point in &site.points {
        match &point.of {
            PointOf::Station(code) => {
                let Some(station) = stations.iter().find(|s| s.code == *code) else {
                    taken
                        .unknown
                        .push(format!("No station of this study has the code “{code}”: make it in Plan first."));
                    continue;
                };
                let moved = place_of(station).map(|was| Way::between(was, point.place).metres);
                if moved.is_some_and(|m| m < SAME_M) && point.elevation_m.is_none_or(|e| Some(e) == station.elevation_m)
                {
                    taken.unchanged += 1;
                    continue;
                }
                put(store, station, point, by, at).await?;
                taken.placed.push(match moved {
                    Some(m) => format!("{}: moved by {} m", station.name, format_short((m * 10.0).round() / 10.0)),
                    None => format!("{}: has a place now", station.name),
                });
            }
            PointOf::Landmark(kind) => {
                let (name, note) = (point.name.clone(), point.note.clone());
                let landmark = Landmark { id: 0, name, kind: *kind, place: point.place, note, by: by.to_owned() };
                let full = known.len() >= MOST_LANDMARKS;
                let was = known.iter_mut().find(|l| l.name == landmark.name);
                let alike = was.as_ref().is_some_and(|was| {
                    let near = Way::between(was.place, landmark.place).metres < SAME_M;
                    near && was.kind == landmark.kind && was.note == landmark.note
                });
                if alike {
                    taken.unchanged += 1;
                    continue;
                }
                match was {
                    Some(was) => *was = landmark.clone(),
                    None if full => {
                        taken.beyond += 1;
                        continue;
                    }
                    None => known.push(landmark.clone()),
                }
                taken.landmarks.push(landmark.name.clone());
                changed.push(landmark);
            }
        }
    }
    let mut unit = store.unit().await?;
    for landmark in &changed {
        unit.keep_landmark(study, landmark).await?;
    }
    unit.commit().await?;
    Ok(taken)
}

async fn put(store: &Store, station: &Station, point: &SitePoint, by: &str, at: UnixSeconds) -> Result<(), PlanError> {
    let mut plan = StationPlan::load(store, station.id).await?;
    if plan.version == 0 {
        let mut unit = store.unit().await?;
        unit.place_station(station.id, point.place, point.elevation_m).await?;
        return Ok(unit.commit().await?);
    }
    let mut draft = plan.draft.clone();
    draft.latitude = point.place.latitude.into();
    draft.longitude = point.place.longitude.into();
    if let Some(elevation) = point.elevation_m {
        draft.elevation_m = elevation.into();
    }
    plan.keep(store, draft, ("place from a file of the site", by), at).await
}

/// Where a station stands, if both coordinates are known.
#[must_use]
pub fn place_of(station: &Station) -> Option<Place> {
    let (latitude, longitude) = station.latitude.zip(station.longitude)?;
    Some(Place { latitude, longitude })
}

/// How a station is found again from the nearest landmarks: "31 m at 114° (ESE) from the old oak".
#[must_use]
pub fn found_again(station: &Station, landmarks: &[Landmark]) -> Vec<String> {
    /// From two marks a place is fixed; a third only confuses.
    const MARKS: usize = 2;
    let Some(place) = place_of(station) else { return Vec::new() };
    let mut ways: Vec<(Way, &str)> =
        marks(landmarks).map(|l| (Way::between(l.place, place), l.name.as_str())).collect();
    ways.sort_by(|a, b| a.0.metres.total_cmp(&b.0.metres));
    ways.into_iter().take(MARKS).map(|(way, name)| format!("{} from {name}", way.words())).collect()
}

/// What a place is found by: not the points of a round, which are themselves to be found.
pub fn marks(landmarks: &[Landmark]) -> impl Iterator<Item = &Landmark> {
    landmarks.iter().filter(|l| l.kind != LandmarkKind::Point)
}

/// The walk of a round at a station: the points of which a place is known, in the order in which they are walked.
#[derive(Debug, Clone, PartialEq)]
pub struct Walk {
    /// The station's name.
    pub station: String,
    /// Where it begins: at the station, or at the first point where its place is not known.
    pub from: Place,
    /// Serials of the probes that are read, and where they lie.
    pub points: Vec<(String, Place)>,
}

impl Walk {
    /// The walk past probes of a station; `None` where no place of any is known. `labels` are their serials.
    #[must_use]
    pub fn past<'l>(
        station: &Station,
        labels: impl IntoIterator<Item = &'l str>,
        landmarks: &[Landmark],
    ) -> Option<Self> {
        let points: Vec<&Landmark> = landmarks.iter().filter(|l| l.kind == LandmarkKind::Point).collect();
        let place = |label: &str| points.iter().find(|l| l.name.eq_ignore_ascii_case(label)).map(|l| l.place);
        let found: Vec<(&str, Place)> = labels.into_iter().filter_map(|l| Some((l, place(l)?))).collect();
        let from = place_of(station).or_else(|| found.first().map(|f| f.1))?;
        let places: Vec<Place> = found.iter().map(|f| f.1).collect();
        let walk: Vec<(String, Place)> =
            walking_order(from, &places).into_iter().map(|i| (found[i].0.to_owned(), found[i].1)).collect();
        (!walk.is_empty()).then(|| Self { station: station.name.clone(), from, points: walk })
    }

    /// How each point is reached from the one before, in the walk's order: "1.2 m at 90° (E) from FT-03".
    #[must_use]
    pub fn ways(&self) -> Vec<String> {
        /// Nearer than this nobody walks, m.
        const THERE_M: f64 = 0.3;
        let mut here = (self.from, self.station.as_str());
        let mut ways = Vec::with_capacity(self.points.len());
        for (label, place) in &self.points {
            let way = Way::between(here.0, *place);
            ways.push(match way.metres {
                near if near < THERE_M => format!("at {}", here.1),
                _ => format!("{} from {}", way.words(), here.1),
            });
            here = (*place, label);
        }
        ways
    }

    /// Its length, m.
    #[must_use]
    pub fn metres(&self) -> f64 {
        let mut here = self.from;
        self.points.iter().map(|(_, place)| Way::between(std::mem::replace(&mut here, *place), *place).metres).sum()
    }
}

/// The walks of a study's rounds, by station.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn walks(store: &Store, stations: &[Station], landmarks: &[Landmark]) -> Result<Vec<Walk>, StoreError> {
    let mut walks = Vec::new();
    if landmarks.iter().all(|l| l.kind != LandmarkKind::Point) {
        return Ok(walks);
    }
    for station in stations {
        let lying = lying(store, station.id).await?;
        walks.extend(Walk::past(station, lying.iter().map(|p| p.probe.serial.as_str()), landmarks));
    }
    Ok(walks)
}

/// The points of a site as they go out, and the stations of which no place is known.
#[must_use]
pub fn points<'s>(stations: &'s [Station], landmarks: &[Landmark]) -> (Vec<SitePoint>, Vec<&'s str>) {
    let mut all = Vec::new();
    let mut nowhere = Vec::new();
    for s in stations {
        match place_of(s) {
            Some(place) => all.push(SitePoint {
                of: PointOf::Station(s.code.clone()),
                name: s.name.clone(),
                place,
                elevation_m: s.elevation_m,
                note: [s.treatment.as_str(), s.cover.as_str()].join("; ").trim_matches([';', ' ']).to_owned(),
            }),
            None => nowhere.push(s.name.as_str()),
        }
    }
    all.extend(landmarks.iter().map(|l| SitePoint {
        of: PointOf::Landmark(l.kind),
        name: l.name.clone(),
        place: l.place,
        elevation_m: None,
        note: l.note.clone(),
    }));
    (all, nowhere)
}
