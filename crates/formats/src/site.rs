//! The plan of a site as GeoJSON (RFC 7946): stations and landmarks as points, longitude first, WGS 84.

use ebrel_core::field::{LandmarkKind, check_place};
use ebrel_core::quality::Place;
use geojson::{Feature, FeatureCollection, GeoJson, GeometryValue, JsonObject, JsonValue};
use thiserror::Error;

/// What a point is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PointOf {
    /// A station, by its code.
    Station(String),
    /// Something that stays where it is.
    Landmark(LandmarkKind),
}

/// A point of the site.
#[derive(Debug, Clone, PartialEq)]
pub struct SitePoint {
    /// What it is of.
    pub of: PointOf,
    /// Its name.
    pub name: String,
    /// Where it stands.
    pub place: Place,
    /// Height above the sea, m.
    pub elevation_m: Option<f64>,
    /// Whatever else there is to say of it.
    pub note: String,
}

/// What a file holds: every feature is a point or left out with its reason.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Site {
    /// Points in the order of the file.
    pub points: Vec<SitePoint>,
    /// Features that could not be taken: which one, counted from 1, and why.
    pub left_out: Vec<(usize, String)>,
}

/// Why a file could not be read at all.
#[derive(Debug, Error)]
pub enum SiteError {
    /// It is no GeoJSON.
    #[error("This is no GeoJSON ({0}): choose a file of features in longitude and latitude.")]
    NoGeoJson(String),
    /// Its numbers are in another system.
    #[error("This file is in the coordinates of “{0}”: export it anew in WGS 84, longitude and latitude.")]
    OtherSystem(String),
}

/// Reads a site. A point with a `code` is a station; one with a `name` is a landmark, of the `kind` that it says.
///
/// # Errors
/// [`SiteError`] if the file is no GeoJSON, or in other coordinates.
pub fn read(text: &str) -> Result<Site, SiteError> {
    let no = |e: geojson::Error| SiteError::NoGeoJson(e.to_string());
    let json = text.trim_start_matches('\u{feff}').parse::<GeoJson>().map_err(no)?;
    let foreign = match &json {
        GeoJson::FeatureCollection(all) => all.foreign_members.as_ref(),
        GeoJson::Feature(one) => one.foreign_members.as_ref(),
        GeoJson::Geometry(shape) => shape.foreign_members.as_ref(),
    };
    if let Some(name) = foreign.and_then(|m| m.get("crs")).and_then(|c| c.pointer("/properties/name")) {
        let name = name.as_str().unwrap_or_default();
        if !(name.is_empty() || name.ends_with("CRS84") || name.ends_with("4326")) {
            return Err(SiteError::OtherSystem(name.chars().take(80).collect()));
        }
    }
    let features = match json {
        GeoJson::FeatureCollection(all) => all.features,
        GeoJson::Feature(one) => vec![one],
        GeoJson::Geometry(_) => return Err(SiteError::NoGeoJson("a bare shape has no name".into())),
    };
    let mut site = Site::default();
    for (i, feature) in features.into_iter().enumerate() {
        match point(&feature) {
            Ok(point) => site.points.push(point),
            Err(why) => site.left_out.push((i + 1, why)),
        }
    }
    Ok(site)
}

/// The longest name or note taken, characters.
const LONGEST: usize = 200;

fn point(feature: &Feature) -> Result<SitePoint, String> {
    let word = |key: &str| {
        let value = feature.property(key).map(|v| v.as_str().map_or_else(|| v.to_string(), ToOwned::to_owned));
        value.filter(|v| v != "null").map(|v| v.trim().to_owned()).filter(|v| !v.is_empty())
    };
    let (code, name) = (word("code"), word("name"));
    let called = || name.clone().or_else(|| code.clone()).map_or_else(String::new, |n| format!("“{n}”: "));
    let Some(geometry) = &feature.geometry else { return Err(format!("{}it has no place", called())) };
    let GeometryValue::Point { coordinates } = &geometry.value else {
        return Err(format!("{}only points are taken, not {}", called(), geometry.value.type_name()));
    };
    let [longitude, latitude] = coordinates.as_slice() else {
        return match coordinates.as_slice() {
            [longitude, latitude, elevation, ..] => {
                finish((code, name), (*longitude, *latitude), Some(*elevation), word)
            }
            _ => Err(format!("{}a point needs longitude and latitude", called())),
        };
    };
    finish((code, name), (*longitude, *latitude), None, word)
}

fn finish(
    (code, name): (Option<String>, Option<String>),
    (longitude, latitude): (f64, f64),
    elevation_m: Option<f64>,
    word: impl Fn(&str) -> Option<String>,
) -> Result<SitePoint, String> {
    let Some(called) = name.clone().or_else(|| code.clone()) else {
        return Err("it has neither a code nor a name: give it one".into());
    };
    let place = check_place(latitude, longitude).map_err(|e| format!("“{called}”: {e}"))?;
    let elevation_m = elevation_m.filter(|e| (-500.0..9000.0).contains(e));
    let note = word("note").unwrap_or_default();
    if called.chars().count() > LONGEST || note.chars().count() > LONGEST {
        let begin: String = called.chars().take(40).collect();
        return Err(format!("“{begin}…”: names and notes have at most {LONGEST} characters"));
    }
    let kind = word("kind").and_then(|k| LandmarkKind::from_code(&k)).unwrap_or(LandmarkKind::Landmark);
    let of = match code {
        Some(code) => PointOf::Station(code),
        None => PointOf::Landmark(kind),
    };
    Ok(SitePoint { of, name: called, place, elevation_m, note })
}

/// Writes a site. `without_place` names the stations that are left out because nobody knows where they stand.
#[must_use]
pub fn write(name: &str, points: &[SitePoint], without_place: &[&str]) -> String {
    let feature = |p: &SitePoint| {
        let mut coordinates = vec![p.place.longitude, p.place.latitude];
        coordinates.extend(p.elevation_m);
        let mut properties = JsonObject::new();
        match &p.of {
            PointOf::Station(code) => properties.insert("code".into(), code.as_str().into()),
            PointOf::Landmark(kind) => properties.insert("kind".into(), kind.code().into()),
        };
        properties.insert("name".into(), p.name.as_str().into());
        if !p.note.is_empty() {
            properties.insert("note".into(), p.note.as_str().into());
        }
        Feature { properties: Some(properties), ..Feature::from(GeometryValue::new_point(coordinates)) }
    };
    let mut members = JsonObject::new();
    members.insert("name".into(), name.into());
    members.insert("without_place".into(), without_place.iter().map(|n| JsonValue::from(*n)).collect());
    let features = points.iter().map(feature).collect();
    let all = FeatureCollection { bbox: None, features, foreign_members: Some(members) };
    serde_json::to_string_pretty(&all).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn collection(features: &str) -> String {
        format!(r#"{{"type": "FeatureCollection", "features": [{features}]}}"#)
    }

    #[test]
    fn every_feature_is_taken_or_left_out_with_its_reason() {
        let text = collection(
            r#"{"type": "Feature", "geometry": {"type": "Point", "coordinates": [-3.2, 46.9, 210]}, "properties": {"code": "cut", "name": "Cut coupe"}},
            {"type": "Feature", "geometry": {"type": "Point", "coordinates": [-3.207, 46.903]}, "properties": {"name": "hut", "kind": "gateway", "note": "key under the stone"}},
            {"type": "Feature", "geometry": {"type": "Polygon", "coordinates": [[[0,0],[1,0],[1,1],[0,0]]]}, "properties": {"name": "fence"}},
            {"type": "Feature", "geometry": {"type": "Point", "coordinates": [0, 146.9]}, "properties": {"name": "swapped"}},
            {"type": "Feature", "geometry": {"type": "Point", "coordinates": [0, 1]}, "properties": {}},
            {"type": "Feature", "geometry": null, "properties": {"name": "nowhere"}}"#,
        );
        let site = read(&text).unwrap();
        assert_eq!((site.points.len(), site.left_out.len()), (2, 4));
        assert_eq!(site.points[0].of, PointOf::Station("cut".into()));
        assert_eq!((site.points[0].elevation_m, site.points[1].elevation_m), (Some(210.0), None));
        assert_eq!(site.points[1].of, PointOf::Landmark(LandmarkKind::Gateway));
        let why: Vec<&str> = site.left_out.iter().map(|l| l.1.as_str()).collect();
        assert!(why[0].contains("only points") && why[1].contains("latitude") && why[2].contains("neither"), "{why:?}");
        assert!(why[3].contains("no place") && site.left_out[3].0 == 6);
    }

    #[test]
    fn other_files_and_other_systems_are_told() {
        for bad in
            ["", "{}", "a,b\n1,2", r#"{"type": "Point", "coordinates": [1, 2]}"#, r#"{"type": "FeatureCollection"}"#]
        {
            assert!(read(bad).unwrap_err().to_string().contains("no GeoJSON"), "{bad}");
        }
        let crs = |name: &str| {
            format!(
                r#"{{"type": "FeatureCollection", "features": [], "crs": {{"type": "name", "properties": {{"name": "{name}"}}}}}}"#
            )
        };
        assert!(read(&crs("urn:ogc:def:crs:EPSG::25832")).unwrap_err().to_string().contains("WGS 84"));
        assert!(read(&crs("urn:ogc:def:crs:OGC:1.3:CRS84")).is_ok());
    }

    proptest! {
        /// What is written is read as it was.
        #[test]
        fn a_site_comes_back(points in prop::collection::vec((any::<bool>(), "[a-zθ\"<&]{1,20}", -90.0..=90.0f64, -180.0..=180.0f64, prop::option::of(0.0..4000.0f64)), 0..20)) {
            let points: Vec<SitePoint> = points.into_iter().map(|(station, name, latitude, longitude, elevation_m)| SitePoint {
                of: if station { PointOf::Station(name.clone()) } else { PointOf::Landmark(LandmarkKind::Landmark) },
                name, place: Place { latitude, longitude }, elevation_m, note: "by the gate".into(),
            }).collect();
            let back = read(&write("A site", &points, &["lost"])).unwrap();
            prop_assert_eq!(back.points, points);
            prop_assert!(back.left_out.is_empty());
        }
    }
}
