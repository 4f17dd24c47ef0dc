//! Cores beside an installed probe: its reading is taken from the record.

use crate::rooms::bench::draft::{Draft, Recorded, School};
use crate::shell::errors::Problem;
use crate::shell::figures::read_field;
use ebrel_core::series::View;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::runs::Run;

/// Readings this far around the core's time count, seconds.
const AROUND: i64 = 1800;

/// Fills in what the record has at the times of a run's cores.
pub async fn fill(store: &Store, run: &Run, draft: &mut Draft) -> Result<(), Problem> {
    if draft.school != School::Cores || draft.rows.iter().all(|r| r.at.trim().is_empty()) {
        return Ok(());
    }
    let offset = store.study(run.study_id).await?.utc_offset_minutes;
    let mut channels = Vec::new();
    for station in store.stations(run.study_id).await? {
        for channel in store.channels(station.id).await? {
            let here = Some(channel.placement.probe.id) == run.probe_id;
            if here && channel.stream.quantity == Quantity::RawOutput {
                channels.push((channel.placement, store.series(channel.stream.id).await?));
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
                let then = channels
                    .iter()
                    .find(|(p, _)| p.starts <= at && p.ends.is_none_or(|ends| at < ends))
                    .map(|(_, series)| series.between(UnixSeconds(at.0 - AROUND), UnixSeconds(at.0 + AROUND + 1)));
                match then.map(mean) {
                    None => Recorded::Missing(
                        "The probe was not in the ground then: look at its placements, or type the reading.",
                    ),
                    Some(None) => Recorded::Missing(
                        "The record has no reading within half an hour of this time: type the reading of the handheld.",
                    ),
                    Some(Some((mean, u))) => Recorded::Found(mean, u),
                }
            }
        });
    }
    Ok(())
}

/// Mean of readings and its standard uncertainty.
fn mean(view: View<'_>) -> Option<(f64, f64)> {
    let sound: Vec<f64> = view.values.iter().copied().filter(|v| v.is_finite()).collect();
    let n = sound.len() as f64;
    let mean = (n > 0.0).then(|| sound.iter().sum::<f64>() / n)?;
    let squares = sound.iter().map(|v| (v - mean).powi(2)).sum::<f64>();
    Some((mean, if n > 1.0 { (squares / (n - 1.0) / n).sqrt() } else { 0.0 }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mean_of_the_half_hour_carries_its_scatter() {
        let of = |values: &[f64]| mean(View { times: &[0; 4][..values.len()], values });
        assert_eq!(of(&[]), None);
        assert_eq!(of(&[f64::NAN]), None, "a hole in the record is no reading");
        assert_eq!(of(&[500.0]), Some((500.0, 0.0)));
        let (middle, u) = of(&[500.0, 502.0, f64::NAN, 504.0]).unwrap();
        assert!((middle - 502.0).abs() < 1e-12 && (u - 2.0 / 3f64.sqrt()).abs() < 1e-12);
    }
}
