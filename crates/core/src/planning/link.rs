//! Whether the radio holds: packets, the band's duty cycle, the margin of the link, and days the node stores alone.

use super::choices::Method;
use super::figures::Figure;
use super::plan::Plan;
use super::program::span;
use super::remark::{Remark, Severity, Step};
use crate::radio::{DutyCycle, Link, Packet, WetSoil, duty_cycle, link_margin, permittivity, soil_path, time_on_air};
use crate::units::{ParticleDensity, format_short};

/// Bandwidth of the packets, Hz.
const BANDWIDTH_HZ: f64 = 125_000.0;
/// Noise figure of a gateway, dB.
const NOISE_FIGURE_DB: f64 = 6.0;
/// Margin that a link needs in the field, for leaves, rain and a fallen mast, dB.
pub const SAFE_MARGIN_DB: f64 = 10.0;
/// Smallest ratio of signal to noise that is understood, by spreading factor 7 to 12, dB.
const LEAST_SNR_DB: [f64; 6] = [-7.5, -10.0, -12.5, -15.0, -17.5, -20.0];
/// Bytes that fit into one packet, protocol included, by spreading factor 7 to 12.
const LARGEST_PACKET: [u32; 6] = [235, 235, 128, 64, 64, 64];

/// Nearest distance of the plot, m, and its steps.
const NEAREST_M: f64 = 10.0;
const DISTANCES: u32 = 60;

/// The radio budget.
#[derive(Debug, Clone, PartialEq)]
pub struct Radio {
    /// Bytes to be sent each time, without the protocol's.
    pub bytes: u32,
    /// Packets they take.
    pub packets: u32,
    /// Time on air of all of them, ms.
    pub air_ms: f64,
    /// What the band allows for one packet.
    pub limit: DutyCycle,
    /// Margin over the planned distance, dB.
    pub margin_db: f64,
    /// Margin by distance: (m, dB).
    pub by_distance: Vec<(f64, f64)>,
    /// For a buried node: margin over the planned distance by water content (m³/m³, dB).
    pub by_wetness: Vec<(f64, f64)>,
    /// The water content beyond which a buried node falls silent, if there is one.
    pub silent_above: Option<f64>,
    /// Days that the node's memory bridges.
    pub stored_days: f64,
    /// Hours to hand over what was stored in the longest silence.
    pub catch_up_h: f64,
    /// The verdict in words.
    pub says: String,
    /// Whether it holds.
    pub holds: bool,
}

fn step(spreading: f64) -> usize {
    (spreading.round().clamp(7.0, 12.0) - 7.0) as usize
}

fn link(plan: &Plan, spreading: f64) -> Link {
    Link {
        frequency_hz: plan.get(Figure::Frequency) * 1e6,
        power_dbm: plan.get(Figure::Power),
        node_gain_dbi: plan.get(Figure::NodeGain),
        gateway_gain_dbi: plan.get(Figure::GatewayGain),
        extra_loss_db: plan.terrain.loss_db(),
        bandwidth_hz: BANDWIDTH_HZ,
        noise_figure_db: NOISE_FIGURE_DB,
        least_snr_db: LEAST_SNR_DB[step(spreading)],
    }
}

/// Loss from a buried node up through soil of water content `theta`, dB.
fn soil_loss(plan: &Plan, theta: f64) -> f64 {
    let depth = plan.get(Figure::NodeDepth);
    let layer = plan.soil.at(depth / 2.0).or(plan.soil.horizons().last());
    let soil = WetSoil {
        theta,
        sand: layer.and_then(|l| l.sand_pct).unwrap_or(40.0) / 100.0,
        clay: layer.and_then(|l| l.clay_pct).unwrap_or(20.0) / 100.0,
        density: layer.and_then(|l| l.bulk_density_g_cm3).unwrap_or(1.35),
        particles: ParticleDensity::of_organic(layer.and_then(|l| l.organic_matter_pct)).get(),
    };
    let frequency = plan.get(Figure::Frequency) * 1e6;
    soil_path(frequency, permittivity(frequency, &soil), depth / 100.0).total_db()
}

/// The radio budget of a plan.
#[must_use]
pub fn radio(plan: &Plan, remarks: &mut Vec<Remark>) -> Radio {
    let spreading = plan.get(Figure::Spreading);
    let period_s = plan.get(Figure::SendEvery) * 60.0;
    let overhead = plan.get(Figure::Overhead) as u32;
    let often = plan.program.tables.iter().min_by(|a, b| a.every_s.total_cmp(&b.every_s));
    let bytes = often.map_or(0.0, |t| t.bytes() as f64 * (period_s / t.every_s).max(1.0)) as u32;
    let room = LARGEST_PACKET[step(spreading)].saturating_sub(overhead).max(1);
    let packets = bytes.div_ceil(room).max(1);
    let sent = Packet {
        spreading: spreading as u32,
        bandwidth_hz: BANDWIDTH_HZ,
        payload_bytes: bytes.div_ceil(packets) + overhead,
        coding: 1,
    };
    let air = time_on_air(sent);
    let limit = duty_cycle(air.total_ms, plan.get(Figure::DutyCycle) / 100.0);
    let buried = plan.method == Method::Buried;
    let through_soil = |theta: f64| if buried { soil_loss(plan, theta) } else { 0.0 };
    let (distance, base) = (plan.get(Figure::Distance), link(plan, spreading));
    let margin_at = |metres: f64| link_margin(&base, metres) - through_soil(plan.get(Figure::WaterToday));
    let margin_db = margin_at(distance);
    // From ten metres to the longest legal distance, evenly on a logarithmic scale.
    let longest = Figure::Distance.spec().range.max;
    let at = |step: u32| NEAREST_M * (longest / NEAREST_M).powf(f64::from(step) / f64::from(DISTANCES));
    let by_distance = (0..=DISTANCES).map(at).map(|m| (m, margin_at(m))).collect();
    let over_air = link_margin(&base, distance);
    let by_wetness: Vec<(f64, f64)> = if buried {
        (0..=45).map(|i| 0.05 + f64::from(i) * 0.01).map(|theta| (theta, over_air - soil_loss(plan, theta))).collect()
    } else {
        Vec::new()
    };
    let silent_above = by_wetness.iter().find(|(_, db)| *db < 0.0).map(|(theta, _)| *theta);
    let outage = plan.get(Figure::Outage);
    let per_hour = 3600.0 / period_s * f64::from(packets);
    let spare = (f64::from(limit.per_hour) - per_hour).max(0.0);
    let mut radio = Radio {
        bytes,
        packets,
        air_ms: air.total_ms * f64::from(packets),
        limit,
        margin_db,
        by_distance,
        by_wetness,
        silent_above,
        stored_days: plan.program.memory(&plan.logger).days,
        catch_up_h: outage * 24.0 * per_hour / spare.max(1e-3),
        says: String::new(),
        holds: true,
    };
    verdict(plan, &mut radio, per_hour, remarks);
    radio
}

fn verdict(plan: &Plan, radio: &mut Radio, per_hour: f64, remarks: &mut Vec<Remark>) {
    if !plan.logger.radio {
        radio.says = format!("{} has no radio: the records are collected at each visit.", plan.logger.name);
        return;
    }
    let mut stops: Vec<(&str, String)> = Vec::new();
    let distance = format_short(plan.get(Figure::Distance));
    let margin = format_short((radio.margin_db * 10.0).round() / 10.0);
    if radio.margin_db < SAFE_MARGIN_DB {
        let says = format!(
            "The link has only {margin} dB over {distance} m; {SAFE_MARGIN_DB} are wanted. {}",
            stronger(plan, radio)
        );
        stops.push(("figures.distance_m", says));
    }
    if per_hour > f64::from(radio.limit.per_hour) {
        let allowed = radio.limit.per_hour;
        let says = format!(
            "{} packets an hour are needed; the band allows {allowed}: send more seldom, record fewer values, or lower the spreading factor.",
            format_short(per_hour)
        );
        stops.push(("figures.send_every_min", says));
    }
    let outage = plan.get(Figure::Outage);
    if radio.stored_days < outage {
        let says = format!(
            "The node stores {} days; the gateway may be silent for {}.",
            format_short(radio.stored_days.floor()),
            format_short(outage)
        );
        stops.push(("figures.outage_days", says));
    }
    if let Some(theta) = radio.silent_above.filter(|_| radio.margin_db >= SAFE_MARGIN_DB) {
        let says = format!(
            "Above {} m³/m³ the soil swallows the signal: the node stores until it dries. Bury it shallower if that comes often.",
            format_short(theta)
        );
        remarks.push(Remark::new(Step::Budgets, Severity::Weak, "figures.node_depth_cm", says));
    }
    radio.holds = stops.is_empty();
    radio.says = stops.first().map_or_else(|| fine(plan, radio, &margin), |(_, says)| says.clone());
    remarks.extend(stops.into_iter().map(|(at, says)| Remark::new(Step::Budgets, Severity::Stop, at, says)));
}

fn fine(plan: &Plan, radio: &Radio, margin: &str) -> String {
    let (many, verb) = if radio.packets == 1 { ("", "s") } else { ("s", "") };
    format!(
        "The link has {margin} dB to spare over {} m, and {} packet{many} of {:.0} ms every {} keep{verb} within the band's {} %.",
        format_short(plan.get(Figure::Distance)),
        radio.packets,
        radio.air_ms / f64::from(radio.packets),
        span(plan.get(Figure::SendEvery) * 60.0),
        format_short(plan.get(Figure::DutyCycle))
    )
}

/// What would bring the margin: a higher spreading factor, or a shallower or nearer node.
fn stronger(plan: &Plan, radio: &Radio) -> String {
    let now = plan.get(Figure::Spreading).round() as u32;
    let gain = |sf: u32| LEAST_SNR_DB[step(f64::from(now))] - LEAST_SNR_DB[step(f64::from(sf))];
    let missing = SAFE_MARGIN_DB - radio.margin_db;
    if let Some(sf) = (now + 1..=12).find(|sf| gain(*sf) >= missing) {
        return format!(
            "Spreading factor {sf} gives {} dB.",
            format_short(((radio.margin_db + gain(sf)) * 10.0).round() / 10.0)
        );
    }
    if plan.method == Method::Buried {
        return "Bury the node shallower, lead its antenna up, or bring the gateway nearer.".into();
    }
    let reach = plan.get(Figure::Distance) * 10f64.powf((radio.margin_db + gain(12) - SAFE_MARGIN_DB) / 20.0);
    format!(
        "Even spreading factor 12 reaches {} m so: raise the antennas, or set a second gateway.",
        format_short(reach.floor())
    )
}
