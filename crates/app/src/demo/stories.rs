//! What the logs of the demo's other stations tell: what went otherwise than planned, and what was found on visits.

use super::beside::Story;
use super::field::{Writer, shown_at};
use crate::field::Pack;
use ebrel_core::field::{ClockCheck, Deed, Entry, LogKind, RepairKind};
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_simulator::three_rod_counts;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::placements::NewPlacement;
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError};

/// Days after the start on which somebody was there.
pub(super) const VISITS: [i64; 4] = [196, 411, 601, 790];
pub(super) const DAY: i64 = 86_400;
/// Days after the start on which the gateway's line was down; what nodes had kept came when it was mended.
pub(super) const OUTAGE: (i64, i64) = (872, 881);
/// How fast the uncut coupe's clock goes, seconds a week.
pub(super) const FAST_S_PER_WEEK: f64 = 40.0;
/// How deep a probe was really put in: the stone and the slip of the two installations.
pub(super) fn built_cm(serial: &str, planned: f64) -> f64 {
    match serial {
        "TR-0105" => 57.0,
        "BD-0432" => 12.0,
        _ => planned,
    }
}

/// From when to when the plugs were in each other's ports.
pub(super) fn swap_span(start: i64) -> (i64, i64) {
    (start + VISITS[1] * DAY + 10 * 3600, start + VISITS[2] * DAY + 10 * 3600)
}

/// When readings of a time arrived, by the gateway's line: those of the outage together at its end, all others in time.
pub(super) fn arrived(readings: Vec<Reading>, start: i64, end: i64) -> [(Origin, Vec<Reading>); 2] {
    let (from, to) = (start + OUTAGE.0 * DAY, start + OUTAGE.1 * DAY);
    let (kept, in_time) = readings.into_iter().partition(|r| (from..to).contains(&r.t));
    let of = |at| Origin::of(Source::Demo, UnixSeconds(at));
    [(of(end), in_time), (of(to + 1800), kept)]
}

/// The day of the installation, each with what went otherwise than planned.
pub(super) fn installation(story: &Story, pack: &Pack, start: UnixSeconds) -> Vec<Entry> {
    let number = if story.code == "uncut" { 10 } else { 20 };
    let mut log = Writer::new(pack, number, LogKind::Installation, UnixSeconds(start.0 + 7 * 3600));
    for step in &pack.steps {
        let Some(p) = step.number.filter(|_| step.about == "probe").and_then(|n| pack.probes.get(n)) else {
            if step.about == "horizons" {
                for layer in pack.layers.clone() {
                    // The subsoil lay deeper than the auger had said.
                    let at = |cm: f64| if cm == 38.0 { 42.0 } else { cm };
                    let (top_cm, bottom_cm) = (at(layer.span_cm.0), at(layer.span_cm.1));
                    log.write(Deed::Horizon { name: layer.name, top_cm, bottom_cm, texture: layer.texture });
                }
                log.done(&step.key, &step.does);
            } else {
                log.step(step);
            }
            continue;
        };
        let put = |depth_cm: f64, given_up: bool| Deed::Probe {
            serial: p.label.clone(),
            depth_cm,
            port: p.port.clone(),
            orientation: p.orientation.clone(),
            given_up,
            repacked: false,
        };
        if p.label == "TR-0105" {
            log.write(put(60.0, true));
            log.write(Deed::Note {
                text: "a flint as large as a fist at 60 cm: the probe went in above it, at 57".into(),
            });
        }
        log.write(put(built_cm(&p.label, p.depth_cm), false));
        log.reading(p, shown_at(p, 0.24 + 0.001 * p.depth_cm));
        if p.label == "BD-0432" {
            log.write(Deed::Note { text: "the lever slipped: 12 cm by the rule, not 15; left there".into() });
        }
        log.done(&step.key, &step.does);
    }
    log.write(Deed::Closed);
    log.entries
}

/// A visit with its clock check, and what was found or changed on it.
pub(super) fn visit(story: &Story, pack: &Pack, which: usize, at: UnixSeconds) -> Vec<Entry> {
    let uncut = story.code == "uncut";
    let number = if uncut { 11 } else { 21 } + which as u32;
    let mut log = Writer::new(pack, number, LogKind::Visit, at);
    let before = which.checked_sub(1).map_or(0, |w| VISITS[w] * DAY + 9 * 3600);
    let weeks = (VISITS[which] * DAY + 9 * 3600 - before) as f64 / (7 * DAY) as f64;
    let ahead = if uncut { (FAST_S_PER_WEEK * weeks).round() as i64 } else { 3 };
    let check = ClockCheck { shown: at + SpanSeconds(ahead), truth: at, set: uncut };
    log.write(Deed::Clock { node: story.node.into(), check });
    log.visited();
    let tells = match (uncut, which) {
        (true, 0) => "the clock gains 40 s a week; set right, watched",
        (true, 1) => "stools flail-cut beside the post by mistake, probes not touched",
        (true, 2) => "the twin at 15 cm read low since some weeks: a rod bent by a boar",
        (false, 1) => "gland opened to dry the box; all plugs out and in again",
        (false, 2) => {
            "readings at 5 and 15 cm had changed places since the last visit: plugs of A1 and A2 swapped, put right"
        }
        _ => "nothing out of order",
    };
    log.write(Deed::Note { text: tells.into() });
    if let Some(twin) = pack.probes.iter().find(|p| p.label == "TR-0103").filter(|_| uncut && which == 2) {
        let condition = "one rod bent".to_owned();
        log.write(Deed::Removed { serial: twin.label.clone(), condition, lost: false, refused: true });
        log.write(Deed::Probe {
            serial: "TR-0106".into(),
            depth_cm: twin.depth_cm,
            port: twin.port.clone(),
            orientation: twin.orientation.clone(),
            given_up: false,
            repacked: false,
        });
        log.reading(twin, three_rod_counts(106, 0.24));
        let note = format!("TR-0103 by TR-0106 at port {}", twin.port);
        log.write(Deed::Repair { of: RepairKind::ProbeExchanged, note });
    }
    if !uncut && which == 2 {
        let note = "plugs of A1 and A2 back in their ports".to_owned();
        log.write(Deed::Repair { of: RepairKind::PortChanged, note });
    }
    log.write(Deed::Closed);
    log.entries
}

/// Says in the ride edge's placements what the visits found: two probes at each other's ports for half a year.
pub(super) async fn swapped_ports(
    store: &Store,
    story: &Story,
    station: i64,
    start: UnixSeconds,
) -> Result<(), StoreError> {
    if story.code != "ride" {
        return Ok(());
    }
    let (from, to) = swap_span(start.0);
    let all = store.placements(station).await?;
    let mut lay = Vec::new();
    for (serial, other) in [("BD-0431", "A2"), ("BD-0432", "A1")] {
        let own: Vec<_> = all.iter().filter(|p| p.probe.serial == serial).collect();
        let [first] = own[..] else { return Ok(()) };
        lay.push((first.id, first.given(), other));
    }
    // Both ports are free before either probe is said to be at the other's.
    let mut unit = store.unit().await?;
    for (id, was, _) in &lay {
        unit.correct_placement(*id, was, &NewPlacement { ends: Some(UnixSeconds(from)), ..was.clone() }).await?;
    }
    for (_, was, other) in lay {
        let (port, ends) = (other.to_owned(), Some(UnixSeconds(to)));
        unit.place(&NewPlacement { port, starts: UnixSeconds(from), ends, ..was.clone() }).await?;
        unit.place(&NewPlacement { starts: UnixSeconds(to), ends: None, ..was }).await?;
    }
    unit.commit().await
}
