//! The plan of a site: taken in from GeoJSON, given out as such, and how a station is found again.

use crate::planning::{PlanError, StationPlan};
use ebrel_core::field::Way;
use ebrel_core::quality::Place;
use ebrel_core::units::{UnixSeconds, format_short};
use ebrel_formats::site::{PointOf, Site, SitePoint};
use ebrel_store::Store;
use ebrel_store::landmarks::Landmark;
use ebrel_store::stations::Station;

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
        landmarks.iter().map(|l| (Way::between(l.place, place), l.name.as_str())).collect();
    ways.sort_by(|a, b| a.0.metres.total_cmp(&b.0.metres));
    ways.into_iter().take(MARKS).map(|(way, name)| format!("{} from {name}", way.words())).collect()
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
