//! The demo's second study: twelve tubs of fern, read by handheld once a week for thirty weeks.

use ebrel_core::calibration::{Curve, Samples, recommend};
use ebrel_core::field::{Deed, Entry, LandmarkKind, LogKind, Way};
use ebrel_core::quality::{Event, EventKind, Place};
use ebrel_core::soil::Horizon;
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_simulator::BenchRun;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::calibrations::{Adoption, MadeWith, Subject};
use ebrel_store::events::StoredEvent;
use ebrel_store::landmarks::Landmark;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::responses::Response;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};

const TUBS: usize = 12;
const WEEKS: i64 = 30;
const WEEK_S: i64 = 7 * 86_400;
const MODEL: &str = "blade dielectric, 5 cm, analog 2.5 V";
/// The probe whose batch the calibration stands for.
const SERIAL: u32 = 430;

/// The door of the fern house.
const DOOR: Place = Place { latitude: 46.904_2, longitude: -3.206_5 };

/// Where a tub stands: two rows of six along the house, 1.2 m apart, 2 m between the rows.
fn place(tub: usize) -> Place {
    let row = Way { metres: 1.5 + 1.2 * (tub % 6) as f64, bearing_deg: 80.0 }.leads_to(DOOR);
    Way { metres: if tub < 6 { 1.0 } else { 3.0 }, bearing_deg: 350.0 }.leads_to(row)
}

/// What the handheld shows in a tub in a week, mV: six are kept wet, six dry down; hands and soil scatter a little.
fn shown(tub: usize, week: i64) -> f64 {
    let scatter = f64::from(((week * 7919 + tub as i64 * 104_729) % 41) as i32 - 20);
    let wet = 1580.0 + 15.0 * (week as f64 / 4.0).sin();
    let dry = 720.0 + 860.0 * (-(week as f64) / (9.0 + tub as f64 * 0.4)).exp();
    let value = if tub < TUBS / 2 { wet } else { dry };
    ((value + scatter) * 10.0).round() / 10.0
}

/// Puts the study in.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn seed(store: &Store, now: UnixSeconds) -> Result<(), StoreError> {
    let study = Study {
        id: 0,
        name: "Fern tubs".into(),
        question: "At which water content does royal fern stop growing?".into(),
        utc_offset_minutes: 0,
        fixed_now: Some(now.0),
    };
    let study_id = store.add_study(&study, None).await?;
    let text = String::new;
    let station = Station {
        id: 0,
        study_id,
        code: "tubs".into(),
        name: "Fern house".into(),
        latitude: Some(DOOR.latitude),
        longitude: Some(DOOR.longitude),
        elevation_m: None,
        treatment: "six tubs kept wet, six dried down".into(),
        cover: "royal fern in tubs, under glass".into(),
        known_bias: text(),
    };
    // One potting soil in all tubs: its class stands for its retention.
    let potting = Horizon {
        top_cm: 0.0,
        bottom_cm: 25.0,
        name: "tub".into(),
        texture: "loam".into(),
        organic_matter_pct: Some(9.0),
        bulk_density_g_cm3: Some(1.05),
        ..Horizon::default()
    };
    let station = store.add_station(&station, &[potting]).await?;
    let node = store.ensure_node(station, "handheld").await?;
    let begun = UnixSeconds(now.0 - now.0.rem_euclid(86_400) + 9 * 3600 - WEEKS * WEEK_S);
    let mut streams = Vec::with_capacity(TUBS);
    for tub in 0..TUBS {
        let serial = format!("FT-{:02}", tub + 1);
        let probe = Probe {
            id: 0,
            serial: serial.clone(),
            model: MODEL.into(),
            principle: Principle::Dielectric,
            instrument_min: Some(250.0),
            instrument_max: Some(2500.0),
            resolution: Some(0.1),
        };
        let probe_id = store.ensure_probe(&probe).await?;
        let kept = if tub < TUBS / 2 { "kept wet" } else { "dries down" };
        let new = NewPlacement {
            node_id: node,
            port: serial.clone(),
            probe_id,
            depth_cm: DepthCm::new(10.0).ok(),
            orientation: "level, blade on edge".into(),
            starts: UnixSeconds(begun.0 - 14 * 86_400),
            ends: None,
            note: format!("tub {}, {kept}", tub + 1),
        };
        store.place(&new).await?;
        streams.push((serial.clone(), store.ensure_stream(node, &serial, Quantity::RawOutput, "mV", None).await?));
    }
    let curve = calibrate(store, UnixSeconds(begun.0 - 14 * 86_400)).await?;
    let fronds = Response {
        id: 0,
        study_id,
        name: "frond length".into(),
        unit: "cm".into(),
        by: "N. Arvel".into(),
        at: now,
        values: fronds(&streams, begun, &curve),
    };
    store.add_response(&fronds).await?;
    let (entries, readings) = rounds(&streams, begun);
    let mut unit = store.unit().await?;
    for entry in &entries {
        unit.add_field_entry(station, entry, "N. Arvel", entry.at).await?;
    }
    unit.add_readings(&Origin::of(Source::Hand, now), readings).await?;
    for (tub, (serial, _)) in streams.iter().enumerate() {
        let (kind, by) = (LandmarkKind::Point, "N. Arvel".to_owned());
        let point = Landmark { id: 0, name: serial.clone(), kind, place: place(tub), note: String::new(), by };
        unit.keep_landmark(study_id, &point).await?;
    }
    unit.commit().await?;
    let last = entries.last().map_or(begun, |e| e.at);
    let event = StoredEvent {
        id: 0,
        event: Event { kind: EventKind::Visit, start: last, end: last },
        amount: None,
        unit: text(),
        note: "weekly round".into(),
        by: "NA".into(),
        client_id: None,
        revision: 1,
    };
    store.add_event(station, &event).await?;
    crate::reviewing::run(store, station).await?;
    Ok(())
}

/// Fronds stop growing below this content, m³/m³: the truth that the demo's threshold is held against.
pub const GROWTH_STOPS: f64 = 0.16;
/// Growth of a frond that lacks nothing, cm a day.
const GROWTH_CM: f64 = 0.34;
/// Over so much content below the threshold growth falls to nothing, m³/m³.
const FALLS_OVER: f64 = 0.14;

/// One calibration for all tubs, in their soil.
async fn calibrate(store: &Store, valid_from: UnixSeconds) -> Result<Curve, StoreError> {
    let thetas: Vec<f64> = (0..8).map(|i| 0.03 + 0.045 * f64::from(i)).collect();
    let run = BenchRun {
        serial: SERIAL,
        density: 1.05,
        volume_cm3: super::CORE_CM3,
        thetas: &thetas,
        outlier: None,
        packing_drift: 0.0,
    };
    let tins = run.samples();
    let raw: Vec<f64> = tins.iter().map(|t| t.raw_mv).collect();
    let theta: Vec<f64> = tins.iter().map(|t| (t.wet_g - t.dry_g) / super::CORE_CM3).collect();
    let recommendation = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
    let candidate = recommendation.form.and_then(|f| Some((f, recommendation.candidate(f)?.fit.as_ref().ok()?)));
    let (form, fit) = candidate.ok_or_else(|| StoreError::Rule("The tubs' calibration has no fit.".into()))?;
    let curve = Curve::from_fit(fit, form);
    let rows: Vec<_> = raw.iter().zip(&theta).map(|(r, t)| serde_json::json!({"raw": r, "theta": t})).collect();
    let adoption = Adoption {
        subject: Subject::Model(MODEL.into()),
        made_with: MadeWith { soil: "loam".into(), density: Some(1.05), logger: super::LOGGER.into() },
        run_id: None,
        valid_from,
        curve: curve.clone(),
        statement: recommendation.sentence.clone(),
        samples: serde_json::json!({ "samples": rows }).to_string(),
        by: "N. Arvel".into(),
        at: valid_from,
    };
    store.adopt(&adoption).await?;
    Ok(curve)
}

/// Frond lengths of each tub, measured on each round.
fn fronds(streams: &[(String, i64)], begun: UnixSeconds, curve: &Curve) -> Vec<(String, UnixSeconds, f64)> {
    let mut values = Vec::new();
    for (tub, (point, _)) in streams.iter().enumerate() {
        let mut length = 8.0 + 0.6 * (tub as f64 * 1.7).sin();
        for week in 0..WEEKS {
            if week > 0 {
                // What the soil held over the week, about.
                let theta = curve.theta(shown(tub, week - 1).midpoint(shown(tub, week)));
                let share = (1.0 - (GROWTH_STOPS - theta) / FALLS_OVER).clamp(0.0, 1.0);
                // No two fronds and no two weeks are alike.
                let luck = f64::from(((week * 6007 + tub as i64 * 3571) % 61) as i32 - 30) / 30.0;
                length += 7.0 * GROWTH_CM * (share + 0.12 * luck).max(0.0);
            }
            let at = UnixSeconds(begun.0 + week * WEEK_S + (tub as i64 + 1) * 60);
            values.push((point.clone(), at, (length * 10.0).round() / 10.0));
        }
    }
    values
}

/// One round a week: a tub a minute; in the eleventh week one was behind a closed door.
fn rounds(streams: &[(String, i64)], begun: UnixSeconds) -> (Vec<Entry>, Vec<Reading>) {
    let (mut entries, mut readings) = (Vec::new(), Vec::new());
    for week in 0..WEEKS {
        let log = format!("01970000-0000-7000-9000-{week:012}");
        let mut write = |minute: i64, deed: Deed| {
            let at = UnixSeconds(begun.0 + week * WEEK_S + minute * 60);
            let id = format!("{log}-{minute:03}");
            entries.push(Entry {
                id,
                log: log.clone(),
                station: "tubs".into(),
                at,
                by: "NA".into(),
                corrects: None,
                deed,
            });
            at
        };
        write(0, Deed::Begun { of: LogKind::Round });
        for (tub, (point, stream)) in streams.iter().enumerate() {
            let reached = !(week == 10 && tub == 8);
            let value = reached.then(|| shown(tub, week));
            let not_reached = if reached { String::new() } else { "the inner door was locked".to_owned() };
            let at = write(tub as i64 + 1, Deed::Spot { point: point.clone(), value, not_reached });
            readings.extend(value.map(|raw| Reading { stream: *stream, t: at.0, raw }));
        }
        write(TUBS as i64 + 1, Deed::Closed);
    }
    (entries, readings)
}
