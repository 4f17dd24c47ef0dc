//! A plan of the site to scale, north up: where stations and landmarks stand to each other. No map lies under it.

use ebrel_app::field::{Walk, marks, place_of};
use ebrel_core::field::{LandmarkKind, metres_from};
use ebrel_core::quality::Place;
use ebrel_store::landmarks::Landmark;
use ebrel_store::stations::Station;

/// Size of the drawing, px, and what is kept free at its edge.
const SIZE: (f64, f64) = (640.0, 420.0);
const EDGE: f64 = 44.0;
/// How many names are written at most.
const MOST_NAMES: usize = 60;
/// Height of a line and usual width of a letter, px.
const LINE: f64 = 17.0;
const LETTER: f64 = 7.6;

pub struct Spot {
    /// The station's number; `None` for a landmark.
    pub station: Option<i64>,
    pub gateway: bool,
    pub name: String,
    /// Whether the name is written.
    pub named: bool,
    pub x: f64,
    pub y: f64,
    /// Whether its name stands left of it.
    pub left: bool,
    /// Where its name stands: moved where another one stands already.
    pub name_y: f64,
    pub name_x: f64,
}

/// A round as it is walked.
pub struct Path {
    /// Its corners as an SVG polyline.
    pub line: String,
    /// Its points: place, number on the walk, serial.
    pub points: Vec<(f64, f64, usize, String)>,
}

/// The drawing.
pub struct SitePlan {
    pub size: (f64, f64),
    pub spots: Vec<Spot>,
    pub walks: Vec<Path>,
    /// Length of the scale bar, px, and what it stands for.
    pub bar: (f64, String),
    /// Stations of which no place is known.
    pub nowhere: Vec<String>,
}

/// What is to be drawn: where, its name, and what it is.
type Drawn<'a> = (Place, &'a str, Option<i64>, bool);

/// Draws the stations and landmarks whose place is known, and the walks of rounds past their points, if any is known.
pub fn site_plan(stations: &[Station], landmarks: &[Landmark], walks: &[Walk]) -> Option<SitePlan> {
    let of_stations = stations.iter().filter_map(|s| Some((place_of(s)?, s.name.as_str(), Some(s.id), false)));
    let marks = marks(landmarks).map(|l| (l.place, l.name.as_str(), None, l.kind == LandmarkKind::Gateway));
    let placed: Vec<Drawn<'_>> = of_stations.chain(marks).collect();
    let walked = walks.iter().flat_map(|w| w.points.iter().map(|p| p.1));
    let all: Vec<Place> = placed.iter().map(|p| p.0).chain(walked).collect();
    let n = all.len() as f64;
    let (latitude, longitude) = all.iter().fold((0.0, 0.0), |(a, b), p| (a + p.latitude / n, b + p.longitude / n));
    let flat = |place: Place| metres_from(Place { latitude, longitude }, place);
    let metres: Vec<(f64, f64)> = all.iter().copied().map(flat).collect();
    let reach = |of: fn(&(f64, f64)) -> f64| {
        let (low, high) = metres.iter().map(of).fold((f64::MAX, f64::MIN), |(a, b), v| (a.min(v), b.max(v)));
        (low.midpoint(high), (high - low).max(8.0))
    };
    if all.is_empty() {
        return None;
    }
    let ((x0, width), (y0, height)) = (reach(|m| m.0), reach(|m| m.1));
    let scale = ((SIZE.0 - 2.0 * EDGE) / width).min((SIZE.1 - 2.0 * EDGE) / height);
    let at = |m: &(f64, f64)| (one(0.5 * SIZE.0 + (m.0 - x0) * scale), one(0.5 * SIZE.1 - (m.1 - y0) * scale));
    let spot = |place: Place| at(&flat(place));
    let path = |walk: &Walk| {
        let points: Vec<(f64, f64)> = walk.points.iter().map(|p| spot(p.1)).collect();
        let corners = std::iter::once(spot(walk.from)).chain(points.iter().copied());
        let line: Vec<String> = corners.map(|(x, y)| format!("{x},{y}")).collect();
        let points =
            points.into_iter().zip(&walk.points).enumerate().map(|(i, ((x, y), p))| (x, y, i + 1, p.0.clone()));
        Path { line: line.join(" "), points: points.collect() }
    };
    let walks: Vec<Path> = walks.iter().map(path).collect();
    let marks: Vec<(f64, f64)> = placed.iter().map(|p| spot(p.0)).collect();
    let points = walks.iter().flat_map(|w| w.points.iter().map(|p| (p.0, p.1)));
    let mut taken: Vec<Area> = marks.iter().copied().chain(points).map(|(x, y)| Area::around(x, y)).collect();
    let mut spots: Vec<Spot> = Vec::new();
    for (i, ((_, name, station, gateway), (x, y))) in placed.iter().zip(&marks).enumerate() {
        // Of very many only the first have room for their names; the others tell them when they are pointed at.
        let named = i < MOST_NAMES;
        let (left, name_x, name_y) = if named { beside(name, (*x, *y), &taken) } else { (false, *x, *y) };
        if named {
            taken.push(Area::of_name(name, (left, name_x, name_y)));
        }
        let name = (*name).to_owned();
        spots.push(Spot { station: *station, gateway: *gateway, name, named, x: *x, y: *y, left, name_x, name_y });
    }
    let bar = [5000.0, 2000.0, 1000.0, 500.0, 200.0, 100.0, 50.0, 20.0, 10.0, 5.0];
    let bar_m = bar.into_iter().find(|m| m * scale <= 0.3 * SIZE.0).unwrap_or(5.0);
    let words = if bar_m >= 1000.0 { format!("{} km", bar_m / 1000.0) } else { format!("{bar_m} m") };
    let nowhere = stations.iter().filter(|s| s.latitude.is_none() || s.longitude.is_none());
    Some(SitePlan {
        size: SIZE,
        spots,
        walks,
        bar: (one(bar_m * scale), words),
        nowhere: nowhere.map(|s| s.name.clone()).collect(),
    })
}

/// What is taken on the drawing: left, top, right, bottom.
struct Area(f64, f64, f64, f64);

impl Area {
    fn around(x: f64, y: f64) -> Self {
        Self(x - 9.0, y - 9.0, x + 9.0, y + 9.0)
    }

    /// The room of a name that ends (`left`) or begins at a point of its base line.
    fn of_name(name: &str, (left, x, y): (bool, f64, f64)) -> Self {
        let width = LETTER * name.chars().count() as f64;
        let begins = if left { x - width } else { x };
        Self(begins, y - 13.0, begins + width, y + 4.0)
    }

    fn meets(&self, other: &Self) -> bool {
        self.0 < other.2 && other.0 < self.2 && self.1 < other.3 && other.1 < self.3
    }
}

/// Where a name stands best: beside its mark on the side with more room, else lower or higher, where nothing is yet.
fn beside(name: &str, (x, y): (f64, f64), taken: &[Area]) -> (bool, f64, f64) {
    let first = x > 0.6 * SIZE.0;
    let places = (0..60).flat_map(|i| {
        let step = f64::from((i + 1) / 2) * LINE * if i % 2 == 0 { 1.0 } else { -1.0 };
        [first, !first].map(|left| (left, one(if left { x - 12.0 } else { x + 12.0 }), one(y + 5.0 + step)))
    });
    let within = |a: &Area| a.0 >= 0.0 && a.2 <= SIZE.0 && a.1 >= 0.0 && a.3 <= SIZE.1;
    let free = |place: &(bool, f64, f64)| {
        let area = Area::of_name(name, *place);
        within(&area) && !taken.iter().any(|t| t.meets(&area))
    };
    let fallback = (first, one(if first { x - 12.0 } else { x + 12.0 }), one(y + 5.0));
    places.into_iter().find(free).unwrap_or(fallback)
}

fn one(v: f64) -> f64 {
    (v * 10.0).round() / 10.0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn station(name: &str, place: Option<(f64, f64)>) -> Station {
        let text = String::new;
        Station {
            id: 1,
            study_id: 1,
            code: text(),
            name: name.into(),
            latitude: place.map(|p| p.0),
            longitude: place.map(|p| p.1),
            elevation_m: None,
            treatment: text(),
            cover: text(),
            known_bias: text(),
        }
    }

    #[test]
    fn north_is_up_distances_are_true_and_what_has_no_place_is_named() {
        let south = station("south", Some((46.9, -3.2)));
        let north = station("north", Some((46.909, -3.2)));
        let east = station("east", Some((46.9, -3.19)));
        let plan = site_plan(&[south, north, east, station("lost", None)], &[], &[]).unwrap();
        let at = |name: &str| plan.spots.iter().find(|s| s.name == name).unwrap();
        assert!(at("north").y < at("south").y && at("east").x > at("south").x);
        // 0.009° of latitude are 1000.8 m; 0.01° of longitude here 759.8 m.
        let (up, right) = (at("south").y - at("north").y, at("east").x - at("south").x);
        assert!((right / up - 759.8 / 1000.8).abs() < 0.01, "{right} {up}");
        assert_eq!(plan.nowhere, ["lost"]);
        assert!(site_plan(&[station("lost", None)], &[], &[]).is_none() && site_plan(&[], &[], &[]).is_none());
        let alone = site_plan(&[station("one", Some((46.9, -3.2)))], &[], &[]).unwrap();
        assert!(alone.spots[0].x.is_finite() && alone.bar.0 > 0.0);
    }

    #[test]
    fn ten_thousand_stations_are_drawn_in_no_time_with_the_first_names() {
        let place = |i: usize| Some((46.9 + 1e-5 * (i % 97) as f64, -3.2 + 1e-5 * (i % 89) as f64));
        let many: Vec<Station> = (0..10_000).map(|i| station(&"n".repeat(40), place(i))).collect();
        let plan = site_plan(&many, &[], &[]).unwrap();
        assert_eq!((plan.spots.len(), plan.spots.iter().filter(|s| s.named).count()), (10_000, MOST_NAMES));
    }

    #[test]
    fn names_of_stations_at_one_place_stand_clear_of_each_other_around_the_middle() {
        let here = || station("a", Some((46.9, -3.2)));
        let plan = site_plan(&[here(), here(), here()], &[], &[]).unwrap();
        assert!(plan.spots.iter().all(|s| (s.x, s.y) == (320.0, 210.0)), "one place is in the middle");
        let areas: Vec<Area> =
            plan.spots.iter().map(|s| Area::of_name(&s.name, (s.left, s.name_x, s.name_y))).collect();
        for (i, a) in areas.iter().enumerate() {
            assert!(!areas[i + 1..].iter().any(|b| a.meets(b)), "two names lie on each other");
            assert!(a.1 >= 0.0 && a.3 <= SIZE.1, "and none leaves the drawing");
        }
    }
}
