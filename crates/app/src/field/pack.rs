//! What a phone takes along to a station: its plan as steps, the table of limits of each probe, the register, cautions.

use super::outcome::{BY_HANDHELD, shown_by};
use super::site::Walk;
use crate::planning::{PlanError, StationPlan};
use crate::record::StationRecord;
use ebrel_core::calibration::Curve;
use ebrel_core::field::{Limits, ProbeAtDepth, Weather, limits, metres_from, usual_range};
use ebrel_core::planning::{PlannedProbe, SERVICES, Shelf, WorkAt};
use ebrel_core::series::Belief;
use ebrel_core::soil::Profile;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds, format_value, unit_for_people};
use ebrel_store::flags::StoredFlag;
use ebrel_store::in_force::InForce;
use ebrel_store::landmarks::Landmark;
use ebrel_store::placements::Placement;
use ebrel_store::probes::Probe;
use ebrel_store::stations::Station;
use ebrel_store::{Store, StoreError};
use serde::Serialize;

/// A step of the work as the phone shows it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PackStep {
    /// Key that an entry names it by.
    pub key: String,
    /// What to do.
    pub does: String,
    /// What can hurt, and what keeps it from doing so.
    pub caution: Option<&'static str>,
    /// What belongs to it: "check", "hole", "horizons", "cores", "probe", "layer", "leaving", "clock", "kit".
    pub about: &'static str,
    /// The hole's number, or the probe's place in the pack.
    pub number: Option<usize>,
    /// The layer's name.
    pub layer: Option<String>,
}

/// A probe as it is to be put in, or as it lies.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PackProbe {
    /// Serial, or what stands for it until it has one.
    pub label: String,
    /// Whether `label` is a serial, of the register or of the plan.
    pub known: bool,
    /// Its model.
    pub model: String,
    /// "15 cm".
    pub place: String,
    /// Depth of its sensing centre, cm.
    pub depth_cm: f64,
    /// The port it goes into.
    pub port: String,
    /// How it lies.
    pub orientation: String,
    /// How a reading of it is judged.
    pub limits: Limits,
    /// The range in which what a handheld shows of it lay within the last year, in the unit of its readings.
    pub usual: Option<(f64, f64)>,
    /// Its last believed reading in the record, and when that was; empty where there is none.
    pub last: String,
    /// Where it lies from the first point of the round, m to the east and to the north, if its place is known.
    pub at: Option<(f64, f64)>,
    /// How it is reached from the point before; empty where nobody knows.
    pub way: String,
}

/// A layer to be filled, or a horizon expected.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PackLayer {
    /// Its name.
    pub name: String,
    /// Upper and lower boundary, cm.
    pub span_cm: (f64, f64),
    /// Texture as planned.
    pub texture: String,
    /// Soil to put back as moist as it came out, kg; `None` where its density is not known.
    pub kg: Option<f64>,
}

/// Everything for one station.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Pack {
    /// Version of this form.
    pub format: u32,
    /// Number of the station.
    pub station: i64,
    /// Its code, by which entries name it.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Name of the study.
    pub study: String,
    /// Offset of the times shown, minutes east of UTC.
    pub offset_minutes: i64,
    /// When it was packed.
    pub made_at: UnixSeconds,
    /// Whether the study's present stands still (the demo): the phone then counts on from `made_at`.
    pub fixed_now: bool,
    /// Version of the plan; 0: none was made.
    pub plan_version: i64,
    /// What is not in order in the plan.
    pub stops: Vec<String>,
    /// The work in order.
    pub steps: Vec<PackStep>,
    /// Probes that are to be put in, the deepest first.
    pub probes: Vec<PackProbe>,
    /// Probes that lie there.
    pub installed: Vec<PackProbe>,
    /// Horizons as planned, with what goes back.
    pub layers: Vec<PackLayer>,
    /// What to take along, by shelf.
    pub kit: Vec<(&'static str, Vec<String>)>,
    /// Nodes of the station.
    pub nodes: Vec<String>,
    /// How the station is found again from landmarks.
    pub found_again: Vec<String>,
    /// Serials of the register.
    pub register: Vec<String>,
    /// Shown before anything is dug.
    pub caution: &'static str,
}

/// Packs a station for the day.
///
/// # Errors
/// [`PlanError`] if there is no such station, or something kept cannot be read.
pub async fn pack(store: &Store, station: i64, now: UnixSeconds) -> Result<Pack, PlanError> {
    let plan = StationPlan::load(store, station).await?;
    let register = store.probes().await?;
    let curves = store.calibrations_in_force().await?;
    let weather = weather(store, plan.study.id, now).await?;
    let found = &plan.found;
    let seen = store.soil_seen(station).await?.is_some_and(|s| s.stands);
    let soil = if seen { store.profile(station).await? } else { found.plan.soil.clone() };
    let mut probes: Vec<(usize, PackProbe)> = found
        .plan
        .buried()
        .map(|(place, probe)| (place, planned(&plan, (place, probe), &register, &curves, (&soil, weather))))
        .collect();
    probes.sort_by(|a, b| b.1.depth_cm.total_cmp(&a.1.depth_cm));
    let at = |probe: usize| probes.iter().position(|p| p.0 == probe);
    let steps = found.steps.iter().enumerate().flat_map(|(i, step)| {
        if step.at == WorkAt::Leaving {
            return leaving(i);
        }
        let (about, number, layer) = match &step.at {
            WorkAt::Check => ("check", None, None),
            WorkAt::Hole(hole) => ("hole", Some(*hole), None),
            WorkAt::Horizons => ("horizons", None, None),
            WorkAt::Cores => ("cores", None, None),
            WorkAt::Probe(probe) => ("probe", at(*probe), None),
            WorkAt::Layer(name) => ("layer", None, Some(name.clone())),
            // Taken apart above.
            WorkAt::Leaving => ("leaving", None, None),
        };
        let does = step.does.clone();
        vec![PackStep { key: format!("{about}-{i}"), does, caution: step.caution, about, number, layer }]
    });
    let steps = steps.collect();
    let layers = found.layers.iter().map(|l| {
        let texture = found.plan.soil.at(l.span_cm.0).map(|h| h.texture.clone()).unwrap_or_default();
        PackLayer { name: l.name.clone(), span_cm: l.span_cm, texture, kg: l.moist_kg }
    });
    let shelf = |shelf: Shelf| {
        let items = found.kit.iter().filter(|i| i.shelf == shelf).map(|i| i.what.clone());
        (shelf.name(), items.collect())
    };
    let record = StationRecord::load(store, station).await?;
    let flags = store.flags(station).await?;
    let lying_with_last = |p: Placement| PackProbe {
        usual: usual(&record, &flags, &p, now),
        last: last_reading(&record, &flags, &p),
        ..lies(&p, &plan, &curves, (&soil, weather))
    };
    let landmarks = store.landmarks(plan.study.id).await?;
    let mut installed: Vec<PackProbe> = lying(store, station).await?.into_iter().map(lying_with_last).collect();
    walk_past(&mut installed, &plan.station, &landmarks);
    let mut nodes: Vec<String> = store.streams(station).await?.into_iter().map(|s| s.node).collect();
    nodes.dedup();
    if nodes.is_empty() {
        nodes.push("node 01".into());
    }
    Ok(Pack {
        format: 1,
        station,
        code: plan.station.code.clone(),
        name: plan.station.name.clone(),
        study: plan.study.name.clone(),
        offset_minutes: plan.study.utc_offset_minutes,
        made_at: now,
        fixed_now: plan.study.fixed_now.is_some(),
        plan_version: plan.version,
        stops: found.stops(None).map(|r| r.says.clone()).collect(),
        steps,
        probes: probes.into_iter().map(|p| p.1).collect(),
        installed,
        layers: layers.collect(),
        kit: Shelf::ALL.into_iter().map(shelf).collect(),
        nodes,
        found_again: super::found_again(&plan.station, &landmarks),
        register: serials(&plan, register),
        caution: SERVICES,
    })
}

/// The probes that lie in the soil of a station, each once.
pub(super) async fn lying(store: &Store, station: i64) -> Result<Vec<Placement>, StoreError> {
    let all = store.placements(station).await?.into_iter();
    Ok(all.filter(|p| p.ends.is_none() && p.note != BY_HANDHELD && p.depth_cm.is_some()).collect())
}

/// Puts probes in the order in which a round walks past them; those whose place is not known come last, in the order they had.
fn walk_past(installed: &mut [PackProbe], station: &Station, landmarks: &[Landmark]) {
    let Some(walk) = Walk::past(station, installed.iter().map(|p| p.label.as_str()), landmarks) else { return };
    let origin = walk.points[0].1;
    for ((label, place), way) in walk.points.iter().zip(walk.ways()) {
        if let Some(probe) = installed.iter_mut().find(|p| p.label == *label) {
            let (east, north) = metres_from(origin, *place);
            probe.at = Some(((east * 10.0).round() / 10.0, (north * 10.0).round() / 10.0));
            probe.way = way;
        }
    }
    let turn = |p: &PackProbe| walk.points.iter().position(|w| w.0 == p.label).unwrap_or(usize::MAX);
    installed.sort_by_key(turn);
}

/// Serials that a label may say at a station: those of the register, and those that its plan names.
pub(super) fn serials(plan: &StationPlan, register: Vec<Probe>) -> Vec<String> {
    let mut serials: Vec<String> = register.into_iter().map(|p| p.serial).collect();
    let planned = plan.draft.probes.iter().filter(|p| !p.serial.is_blank()).map(|p| p.serial.trim().to_owned());
    serials.extend(planned.filter(|s| serials.iter().all(|known| !known.eq_ignore_ascii_case(s))).collect::<Vec<_>>());
    serials
}

/// The last look before leaving, line by line: none is left out without a reason.
fn leaving(at: usize) -> Vec<PackStep> {
    const LINES: [(&str, &str, &str); 6] = [
        ("leaving", "channels", "Every channel reads sensibly through the logger itself."),
        ("clock", "clock", "The clock: what the node shows, and what it truly is."),
        ("check", "record", "A record was really written: look at the last one."),
        ("check", "lid", "The lid is closed, the gasket clean, the strain relief tight."),
        ("kit", "kit", "Nothing is left behind: the kit is counted, the hole covered."),
        ("check", "somebody", "Somebody knows that you are leaving."),
    ];
    let step = |(about, key, does): (&'static str, &str, &str)| {
        let (key, does) = (format!("leaving-{at}-{key}"), does.to_owned());
        PackStep { key, does, caution: None, about, number: None, layer: None }
    };
    LINES.into_iter().map(step).collect()
}

fn planned(
    plan: &StationPlan,
    (place, probe): (usize, &PlannedProbe),
    register: &[Probe],
    curves: &InForce,
    (soil, weather): (&Profile, Weather),
) -> PackProbe {
    let found = &plan.found;
    let known = register.iter().find(|p| p.serial.eq_ignore_ascii_case(&probe.label));
    let horizon = soil.at(probe.depth_cm);
    let history = known.map(|k| curves.history(k.id, &k.model, horizon));
    let curve = history.as_ref().and_then(|h| h.curves().last()).map(|d| &d.curve);
    let quantity = probe.model.quantities.first().copied().unwrap_or(Quantity::RawOutput);
    let plugged = found.wiring.plugged.iter().find(|p| p.probe == place);
    let at = ProbeAtDepth {
        quantity: if curve.is_some() { Quantity::WaterContent } else { raw(quantity) },
        raw_unit: &probe.model.unit,
        instrument: Some(probe.model.range),
        resolution: known.and_then(|k| k.resolution),
        curve,
        in_air: probe.model.accept.as_ref().map(|a| a.air.0.midpoint(a.air.1)),
        depth_cm: probe.depth_cm,
        horizon,
    };
    PackProbe {
        label: probe.label.clone(),
        known: known.is_some() || !plan.draft.probes[probe.row].serial.is_blank(),
        model: probe.model.name.clone(),
        place: probe.place(),
        depth_cm: probe.depth_cm,
        port: plugged.and_then(|p| p.place(&probe.label)).unwrap_or_default(),
        orientation: probe.attitude.words(),
        limits: limits(&at, weather),
        usual: None,
        last: String::new(),
        at: None,
        way: String::new(),
    }
}

/// What a handheld shows of a quantity that a probe gives as a signal.
const fn raw(quantity: Quantity) -> Quantity {
    if quantity.is_moisture() { Quantity::RawOutput } else { quantity }
}

fn lies(
    placement: &Placement,
    plan: &StationPlan,
    curves: &InForce,
    (soil, weather): (&Profile, Weather),
) -> PackProbe {
    let depth_cm = placement.depth_cm.unwrap_or(0.0);
    let probe = &placement.probe;
    let model = plan.catalogue.probes.iter().find(|m| m.name == probe.model);
    let horizon = soil.at(depth_cm);
    let history = curves.history(probe.id, &probe.model, horizon);
    let curve: Option<&Curve> = history.curves().last().map(|d| &d.curve);
    // A model that the catalogue does not know is read as its principle is.
    let (shown, unit) = shown_by(probe.principle);
    let quantity = model.and_then(|m| m.quantities.first().copied()).unwrap_or(shown);
    let at = ProbeAtDepth {
        quantity: if curve.is_some() { Quantity::WaterContent } else { raw(quantity) },
        raw_unit: model.map_or(unit, |m| &m.unit),
        instrument: probe.instrument_min.zip(probe.instrument_max),
        resolution: probe.resolution,
        curve,
        in_air: None,
        depth_cm,
        horizon,
    };
    PackProbe {
        label: probe.serial.clone(),
        known: true,
        model: probe.model.clone(),
        place: format!("{depth_cm}\u{a0}cm"),
        depth_cm,
        port: placement.port.clone(),
        orientation: placement.orientation.clone(),
        limits: limits(&at, weather),
        usual: None,
        last: String::new(),
        at: None,
        way: String::new(),
    }
}

/// In which range a probe's readings, as they came, lay within the last year.
fn usual(record: &StationRecord, flags: &[StoredFlag], placement: &Placement, now: UnixSeconds) -> Option<(f64, f64)> {
    let year = SpanSeconds(365 * SpanSeconds::DAY.0);
    let c = record.channels.iter().find(|c| c.channel.placement.id == placement.id && c.is_main())?;
    let within = c.believed(flags, &Belief::default()).between(now - year, now);
    usual_range(&within.readings().map(|r| r.raw).collect::<Vec<_>>())
}

/// "0.140 m³/m³, 31 Aug 2026 23:45": what a probe's channels said last, each with its unit, and when.
fn last_reading(record: &StationRecord, flags: &[StoredFlag], placement: &Placement) -> String {
    let own = record.channels.iter().filter(|c| c.channel.placement.id == placement.id);
    let (mut parts, mut at) = (Vec::new(), None);
    for c in own {
        let view = c.view();
        // A week back is enough to find the last that is believed, and bounds the look.
        let Some(end) = view.times.last().map(|t| UnixSeconds(*t)) else { continue };
        let within = c
            .believed(flags, &Belief::default())
            .between(end - SpanSeconds(7 * SpanSeconds::DAY.0), end + SpanSeconds(1));
        if let Some(last) = within.readings().filter(|r| r.value.is_finite()).last() {
            let number = format_value(last.value, c.quantity().decimals());
            parts.push(format!("{number}\u{a0}{}", unit_for_people(c.unit())));
            at = at.max(Some(last.time));
        }
    }
    let Some(at) = at else { return String::new() };
    let offset = record.study.utc_offset_minutes;
    format!("{}, {}", parts.join(", "), ebrel_formats::minute(at, offset))
}

/// Rain of the last days at any gauge of the study.
async fn weather(store: &Store, study: i64, now: UnixSeconds) -> Result<Weather, PlanError> {
    const THREE_DAYS: i64 = 3 * 86_400;
    for station in store.stations(study).await? {
        for stream in store.streams(station.id).await?.into_iter().filter(|s| s.quantity == Quantity::Rain) {
            let series = store.series(stream.id).await?;
            let told = series.times.last().is_some_and(|last| now.0 - last < 86_400);
            if !told {
                continue;
            }
            let from = series.times.partition_point(|t| *t < now.0 - THREE_DAYS);
            let rain_mm = Some(series.values[from..].iter().filter(|v| v.is_finite()).sum());
            let wet = series.values.iter().rposition(|mm| *mm >= 0.2);
            let dry_days = wet.map(|i| (now.0 - series.times[i]) as f64 / 86_400.0);
            return Ok(Weather { rain_mm, dry_days });
        }
    }
    Ok(Weather::default())
}
