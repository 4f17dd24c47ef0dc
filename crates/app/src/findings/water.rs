//! Water in the profile of a station: storage, what each rain brought, drying, field capacity, what passed the sentinel.

use super::ground::{Ground, Rain, Selection};
use crate::planning::{PlanError, StationPlan};
use crate::record::{Flagged, StationRecord};
use ebrel_core::findings::{
    Capacity, Change, Counts, DrySpell, Profile, SeasonRates, StorageSeries, Stored, Wetting, WettingRules,
    capacity_as_seen, dry_spells, rates_by_season, wettings,
};
use ebrel_core::sun::sun_times;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use ebrel_core::water::{DepthError, Retention};
use ebrel_store::Store;

/// What is asked of a station's water.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct WaterAsked {
    /// Which part of the record.
    pub selection: Selection,
    /// Down to where, cm; `None`: the deepest probe.
    pub bottom_cm: Option<f64>,
    /// Depth of the sentinel, cm, if the plan or somebody says one.
    pub sentinel_cm: Option<f64>,
    /// Two moments between which a change is asked.
    pub change: Option<(UnixSeconds, UnixSeconds)>,
    /// Smallest fall of water that is listed, mm.
    pub least_mm: Option<f64>,
    /// Depths that are left out, cm.
    pub without_cm: Vec<f64>,
}

/// One level's field capacity, as seen and by its texture.
pub struct LevelCapacity {
    /// Depth, cm.
    pub depth_cm: f64,
    /// As the record has it.
    pub seen: Option<Capacity>,
    /// By texture (Saxton & Rawls 2006), if that is known.
    pub by_texture: Option<f64>,
}

/// All that is found.
pub struct WaterFindings {
    /// Levels of water content.
    pub depths: Vec<f64>,
    /// Depths with two probes at once.
    pub twins: Vec<f64>,
    /// Down to where the storage goes, cm.
    pub bottom_cm: f64,
    /// Times and mm of what is stored, thinned to at most some thousand.
    pub series: Vec<(UnixSeconds, Stored)>,
    /// Steps of the grid, and those at which some level had a gap.
    pub steps: (usize, usize),
    /// For each level, how many of the steps with a gap lacked it.
    pub lacking: Vec<usize>,
    /// The last storage that is known.
    pub last: Option<(UnixSeconds, Stored)>,
    /// Lowest and highest storage.
    pub extremes: Option<((UnixSeconds, f64), (UnixSeconds, f64))>,
    /// The change that was asked for: from, to, and how much; `None` inside if one moment is not known.
    pub change: Option<(UnixSeconds, UnixSeconds, Option<Change>)>,
    /// Whether a maker's curve was assumed somewhere.
    pub assumes_factory: bool,
    /// Where the rain comes from; `None` without any gauge.
    pub rain: Option<Option<String>>,
    /// Falls and what came of them.
    pub wettings: Vec<Wetting>,
    /// Which level is the sentinel.
    pub sentinel: Option<usize>,
    /// Dry spells.
    pub spells: Vec<DrySpell>,
    /// Drying by level and season.
    pub rates: Vec<SeasonRates>,
    /// mm of water that a unit of content at each level stands for.
    pub weights: Vec<f64>,
    /// Whether sunrise and sunset are those of the place, and not 6 and 18 h by the study's clock.
    pub knows_sun: bool,
    /// Field capacity by level.
    pub capacity: Vec<LevelCapacity>,
    /// What became of the readings.
    pub counts: Counts,
    /// The longest usual distance between two readings.
    pub between_readings: SpanSeconds,
    /// Probes that still tell raw output only.
    pub uncalibrated: usize,
}

/// More points than these a drawing does not show.
const DRAWN: usize = 1500;
/// A rain from which field capacity is read, mm.
pub const CAPACITY_MM: f64 = 8.0;
/// A rain that ends a dry spell, mm.
const SPELL_MM: f64 = 1.0;

/// Works a station's water out; `None` if no probe there tells water content.
///
/// # Errors
/// [`DepthError`] if no level is left, or the bottom is none.
pub fn water(of: &Flagged, neighbours: &[Flagged], asked: &WaterAsked) -> Option<Result<WaterFindings, DepthError>> {
    let ground = Ground::new(of, &asked.selection)?;
    let mut profile = ground.profile(Quantity::WaterContent);
    profile.levels.retain(|l| asked.without_cm.iter().all(|d| (d - l.depth_cm).abs() >= 0.5));
    if profile.levels.is_empty() {
        return None;
    }
    let rain = ground.rain(neighbours);
    Some(of_profile(&of.record, &ground, &profile, rain.as_ref(), asked))
}

fn of_profile(
    record: &StationRecord,
    ground: &Ground<'_>,
    profile: &Profile<'_>,
    rain: Option<&Rain>,
    asked: &WaterAsked,
) -> Result<WaterFindings, DepthError> {
    let (grid, offset) = (&profile.grid, record.study.utc_offset_minutes);
    let depths = profile.depths();
    let deepest = depths.last().copied().unwrap_or_default();
    let bottom_cm = asked.bottom_cm.unwrap_or(deepest);
    let storage = StorageSeries::of(profile, bottom_cm)?;
    let known: Vec<usize> = (0..grid.len()).filter(|i| storage.mm[*i].is_finite()).collect();
    let every = known.len().div_ceil(DRAWN).max(1);
    let at = |i: usize| Some((grid.time(i), storage.at(i)?));
    let counted: Vec<usize> = (0..depths.len()).filter(|l| storage.weights[*l] > 0.0).collect();
    let lack = |level: usize| profile.levels[level].values.iter().filter(|v| v.is_nan()).count();
    let extreme = |i: &usize| (grid.time(*i), storage.mm[*i]);
    let lowest = known.iter().min_by(|a, b| storage.mm[**a].total_cmp(&storage.mm[**b])).map(extreme);
    let highest = known.iter().max_by(|a, b| storage.mm[**a].total_cmp(&storage.mm[**b])).map(extreme);
    let sentinel = asked.sentinel_cm.and_then(|cm| nearest(&depths, cm)).filter(|s| *s > 0);
    let rules = WettingRules { least_mm: asked.least_mm.unwrap_or(5.0), ..WettingRules::default() };
    let falls = ground.falls(rain, &rules);
    let all_falls = ground.falls(rain, &WettingRules { least_mm: SPELL_MM, ..rules });
    let (sun, knows_sun) = sun_of(record, offset);
    let unknown = vec![f64::NAN; grid.len()];
    let sums = rain.map_or(&unknown, |r| &r.sums);
    let spells = dry_spells(profile, sums, &all_falls, &sun);
    let rates = rates_by_season(grid, &spells, depths.len(), offset);
    let seen = capacity_as_seen(profile, sums, &all_falls, CAPACITY_MM, &sun);
    let by_texture = |cm: f64| record.soil.at(cm).and_then(Retention::of_horizon).map(|r| r.field_capacity);
    let capacity =
        depths.iter().zip(seen).map(|(cm, seen)| LevelCapacity { depth_cm: *cm, seen, by_texture: by_texture(*cm) });
    let capacity = capacity.collect();
    let index = |t: UnixSeconds| grid.at(t).filter(|i| t <= grid.time(grid.len() - 1) && grid.time(*i) <= t);
    Ok(WaterFindings {
        twins: profile.levels.iter().filter(|l| l.has_twins()).map(|l| l.depth_cm).collect(),
        bottom_cm,
        series: storage.over(known.iter().copied().step_by(every)).map(|(i, s)| (grid.time(i), s)).collect(),
        steps: (grid.len(), grid.len() - known.len()),
        lacking: counted.iter().map(|l| lack(*l)).collect(),
        last: known.last().and_then(|i| at(*i)),
        extremes: lowest.zip(highest),
        change: asked.change.map(|(a, b)| {
            let change = index(a).zip(index(b)).and_then(|(i, j)| storage.change(i, j));
            (a, b, change)
        }),
        assumes_factory: storage.assumes_factory,
        rain: rain.map(|r| r.borrowed.clone()),
        wettings: wettings(profile, &falls, sentinel, &rules)?,
        sentinel,
        spells,
        rates,
        weights: storage.weights.clone(),
        knows_sun,
        capacity,
        counts: profile.counts(),
        between_readings: ground.between_readings(),
        uncalibrated: record.channels.iter().filter(|c| c.quantity() == Quantity::RawOutput).count(),
        depths,
    })
}

/// The level nearest to a depth that a plan names: a probe ends where the soil lets it, within five centimetres.
fn nearest(depths: &[f64], cm: f64) -> Option<usize> {
    const WITHIN_CM: f64 = 5.0;
    let off = |i: &usize| (depths[*i] - cm).abs();
    (0..depths.len()).min_by(|a, b| off(a).total_cmp(&off(b))).filter(|i| off(i) <= WITHIN_CM)
}

/// Sunrise and sunset of a day at the station; 6 and 18 h by the study's clock where its place is not known.
fn sun_of(record: &StationRecord, offset: i64) -> (impl Fn(i64) -> Option<(UnixSeconds, UnixSeconds)> + use<>, bool) {
    let place = record.place();
    let sun = move |day: i64| {
        let midnight = day * 86_400;
        let Some(place) = place else {
            let six = midnight + 6 * 3600 - offset * 60;
            return Some((UnixSeconds(six), UnixSeconds(six + 12 * 3600)));
        };
        sun_times(place.latitude, place.longitude, midnight).moments(midnight)
    };
    (sun, place.is_some())
}

/// Depth of the sentinel by the station's plan, cm.
///
/// # Errors
/// [`PlanError`] if the plan cannot be read.
pub async fn planned_sentinel(store: &Store, station: i64) -> Result<Option<f64>, PlanError> {
    let plan = StationPlan::load(store, station).await?;
    Ok(plan.found.plan.buried().find(|(_, p)| p.sentinel).map(|(_, p)| p.depth_cm))
}
