//! Cores beside an installed probe: its reading is taken from the record.

use crate::shell::errors::Problem;
use crate::shell::figures::read_field;
use ebrel_app::record::left_out;
use ebrel_core::bench::{Recorded, RunDraft, School};
use ebrel_core::series::{Belief, Believed, CalibrationHistory, LeftOut, View};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::runs::Run;

/// Readings this far around the core's time count, seconds.
const AROUND: i64 = 1800;

/// Fills in what the record has at the times of a run's cores.
pub async fn fill(store: &Store, run: &Run, draft: &mut RunDraft) -> Result<(), Problem> {
    if draft.school != School::Cores || draft.rows.iter().all(|r| r.at.trim().is_empty()) {
        return Ok(());
    }
    let offset = store.study(run.study_id).await?.utc_offset_minutes;
    let mut channels = Vec::new();
    for station in store.stations(run.study_id).await? {
        let mut flags = None;
        for channel in store.channels(station.id).await? {
            let here = Some(channel.placement.probe.id) == run.probe_id;
            if here && channel.stream.quantity == Quantity::RawOutput {
                if flags.is_none() {
                    flags = Some(store.flags(station.id).await?);
                }
                let out = left_out(channel.stream.id, flags.as_deref().unwrap_or_default(), &Belief::default());
                channels.push((channel.placement, store.series(channel.stream.id).await?, out));
            }
        }
    }
    for row in draft.rows.iter_mut().filter(|r| !r.at.trim().is_empty()) {
        row.recorded = Some(match read_field(&row.at, offset) {
            None => Recorded::Missing("Write the time of the core like 2026-06-22 08:30, in the study's time."),
            Some(_) if run.probe_id.is_none() => {
                Recorded::Missing("Choose the probe first: the record is asked for its reading.")
            }
            Some(at) => {
                let then = channels.iter().find(|(p, ..)| p.holds(at));
                match then {
                    None => Recorded::Missing(
                        "The probe was not in the ground then: look at its placements, or type the reading.",
                    ),
                    Some((_, series, out)) => {
                        let around = series.between(UnixSeconds(at.0 - AROUND), UnixSeconds(at.0 + AROUND + 1));
                        mean(around, out)
                    }
                }
            }
        });
    }
    Ok(())
}

/// Mean of the believed readings and its standard uncertainty, or why there is none.
fn mean(around: View<'_>, out: &LeftOut) -> Recorded {
    let history = CalibrationHistory::default();
    let believed = Believed::new(around, &history, &[], out.clone());
    let left_out = believed.left_out();
    let sound: Vec<f64> = believed.readings().map(|r| r.raw).filter(|v| v.is_finite()).collect();
    let n = sound.len() as f64;
    match (sound.len(), left_out) {
        (0, 0) => Recorded::Missing(
            "The record has no reading within half an hour of this time: type the reading of the handheld.",
        ),
        (0, _) => Recorded::Missing(
            "The record's readings within half an hour of this time are left out by a flag or a verdict: look at them in Review, or type the reading of the handheld.",
        ),
        _ => {
            let mean = sound.iter().sum::<f64>() / n;
            let squares = sound.iter().map(|v| (v - mean).powi(2)).sum::<f64>();
            let u = if n > 1.0 { (squares / (n - 1.0) / n).sqrt() } else { 0.0 };
            Recorded::Found { mean, u, left_out }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mean_of_the_half_hour_carries_its_scatter_and_leaves_flagged_readings_out() {
        let of = |values: &[f64], out: &[(i64, i64)]| {
            let out = LeftOut::of(out.iter().map(|(a, b)| (UnixSeconds(*a), UnixSeconds(*b))));
            mean(View { times: &[0, 900, 1800, 2700][..values.len()], values }, &out)
        };
        assert!(matches!(of(&[], &[]), Recorded::Missing(why) if why.contains("no reading within")));
        assert!(matches!(of(&[f64::NAN], &[]), Recorded::Missing(_)), "a hole in the record is no reading");
        assert_eq!(of(&[500.0], &[]), Recorded::Found { mean: 500.0, u: 0.0, left_out: 0 });
        assert!(matches!(of(&[500.0], &[(0, 900)]), Recorded::Missing(why) if why.contains("look at them in Review")));
        let Recorded::Found { mean, u, left_out } = of(&[500.0, 502.0, 6999.0, 504.0], &[(1800, 1800)]) else {
            panic!("three readings are left")
        };
        assert!((mean - 502.0).abs() < 1e-12 && (u - 2.0 / 3f64.sqrt()).abs() < 1e-12 && left_out == 1);
    }
}
