//! When a record has settled after its soil was disturbed.

use crate::planning::{SETTLE_BLOCK_DAYS, SETTLE_DAYS, SETTLE_REPACKED_DAYS, Seat};
use crate::units::{Principle, SpanSeconds, UnixSeconds};

/// What began a settling.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Disturbance {
    /// A probe was put in.
    Installed,
    /// The shield was moved, the program or firmware changed, a shrub was cut.
    Changed,
}

/// How long a record settles.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settling {
    /// From when it can be believed at the earliest.
    pub until: UnixSeconds,
    /// What it waits for, in words.
    pub because: &'static str,
}

const fn days(n: i64) -> SpanSeconds {
    SpanSeconds(n * SpanSeconds::DAY.0)
}

const DIELECTRIC: SpanSeconds = days(SETTLE_DAYS);
const MATRIX: SpanSeconds = days(SETTLE_BLOCK_DAYS);
const REPACKED: SpanSeconds = days(SETTLE_REPACKED_DAYS);
const THERMOMETER: SpanSeconds = days(3);
const CHANGED: SpanSeconds = days(1);

/// How long a probe's record settles from `begins`, by its principle and its seat. `wetted` is the first good wetting since, if
/// it is known: a dielectric probe in undisturbed soil has settled by then.
///
/// ```
/// use ebrel_core::field::{Disturbance, settling};
/// use ebrel_core::planning::Seat;
/// use ebrel_core::units::{Principle, UnixSeconds};
/// let of = |principle, wetted: Option<i64>| {
///     let wetted = wetted.map(|d| UnixSeconds(d * 86_400));
///     settling(principle, Seat::Undisturbed, Disturbance::Installed, UnixSeconds(0), wetted).until.0 / 86_400
/// };
/// assert_eq!([of(Principle::Dielectric, None), of(Principle::Dielectric, Some(5)), of(Principle::GranularMatrix, Some(5))], [14, 5, 21]);
/// ```
#[must_use]
pub fn settling(
    principle: Principle,
    seat: Seat,
    disturbance: Disturbance,
    begins: UnixSeconds,
    wetted: Option<UnixSeconds>,
) -> Settling {
    let of = |span: SpanSeconds, because| Settling { until: begins + span, because };
    if disturbance == Disturbance::Changed {
        return of(CHANGED, "a day after the change, to be told from it");
    }
    match (principle, seat) {
        (Principle::Dielectric | Principle::GranularMatrix | Principle::Gypsum, Seat::Repacked) => {
            of(REPACKED, "its seat was repacked: about six weeks and several wettings")
        }
        (Principle::Dielectric, Seat::Undisturbed) => {
            let settled = of(DIELECTRIC, "the first good wetting, or 14 days");
            let wet = wetted.filter(|w| *w > begins && *w < settled.until);
            wet.map_or(settled.clone(), |until| Settling { until, ..settled })
        }
        (Principle::GranularMatrix | Principle::Gypsum, Seat::Undisturbed) => {
            of(MATRIX, "a block takes about three weeks of wetting and drying")
        }
        (Principle::Thermometer, _) => of(THERMOMETER, "the soil's own temperature comes back within days"),
        (Principle::RainGauge | Principle::Node, _) => of(SpanSeconds(0), "it needs no settling"),
    }
}
