//! From believed readings to answers: every number with its uncertainty, its method, and what was left out.
//!
//! A station's channels are put on one [`Grid`] of even times as [`Track`]s, which never bridge a gap. On them rest:
//! * [`Profile`]: contents by depth through time, water stored with its uncertainty ([`StorageSeries`]), and changes of it;
//! * [`wettings`]: what each rain brought, when the front came to each depth, what passed the sentinel;
//! * [`dry_spells`], [`capacity_as_seen`]: drying by day and by night, field capacity as the record has it;
//! * [`climate`]: reference evapotranspiration, growing degree days, frost;
//! * [`heat`]: daily extremes, waves by depth, thermal diffusivity by five methods;
//! * [`compare`]: stations paired by time, with intervals of a [block bootstrap](bootstrap);
//! * [`threshold`]: where a response breaks, and whether it does.

mod bootstrap;
mod capacity;
pub mod climate;
mod coverage;
mod drying;
mod front;
mod grid;
pub mod heat;
mod pairs;
mod profile;
mod storage;
mod threshold;
mod wetting;

pub use bootstrap::{BlockBootstrap, Interval, block_length};
pub use capacity::{Capacity, capacity_as_seen};
pub use coverage::{DayState, coverage};
pub use drying::{DrySpell, Rates, SeasonRates, dry_spells, rates_by_season};
pub use front::{Arrival, arrivals};
pub use grid::{ALWAYS, Counts, Grid, Track, sums};
pub use pairs::{
    BeforeAfter, Buffering, Comparison, Group, PairError, Paired, Part, before_after, buffering, compare, paired,
};
pub use profile::{Level, Profile};
pub use storage::{Change, FACTORY_HALF_WIDTH, StorageSeries, Stored};
pub use threshold::{Line, Point, Threshold, ThresholdError, TwoSegments, two_segments};
pub use wetting::{Fall, Inflow, Wetting, WettingRules, falls, wettings};

/// Two-sided 95 % of a normal distribution, in standard deviations.
pub(crate) const Z95: f64 = 1.959_963_984_540_054;

/// Calendar quarters as seasons name them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Season {
    /// December to February.
    Winter,
    /// March to May.
    Spring,
    /// June to August.
    Summer,
    /// September to November.
    Autumn,
}

impl Season {
    /// All four, from winter on.
    pub const ALL: [Self; 4] = [Self::Winter, Self::Spring, Self::Summer, Self::Autumn];

    /// The season of a month (1 to 12), as calendars north of the equator name them: south of it June is in the cold one.
    #[must_use]
    pub const fn of_month(month: u8) -> Self {
        match month {
            3..=5 => Self::Spring,
            6..=8 => Self::Summer,
            9..=11 => Self::Autumn,
            _ => Self::Winter,
        }
    }

    /// Its months in short.
    #[must_use]
    pub const fn months(self) -> &'static str {
        match self {
            Self::Winter => "Dec–Feb",
            Self::Spring => "Mar–May",
            Self::Summer => "Jun–Aug",
            Self::Autumn => "Sep–Nov",
        }
    }
}

/// Year and month (1 to 12) of a day counted from 1970, in the Gregorian calendar (Howard Hinnant's days-from-civil, inverted).
///
/// ```
/// use ebrel_core::findings::year_month;
/// assert_eq!((year_month(0), year_month(19_782), year_month(-1)), ((1970, 1), (2024, 2), (1969, 12)));
/// ```
#[must_use]
pub fn year_month(day: i64) -> (i32, u8) {
    let (year, month, _) = civil(day);
    (year, month)
}

/// Day of the year, from 1, of a day counted from 1970.
#[must_use]
pub fn day_of_year(day: i64) -> u16 {
    let (year, month, of_month) = civil(day);
    let leap = u16::from(year % 4 == 0 && (year % 100 != 0 || year % 400 == 0));
    let before = [0, 31, 59, 90, 120, 151, 181, 212, 243, 273, 304, 334][usize::from(month - 1)];
    before + of_month + if month > 2 { leap } else { 0 }
}

fn civil(day: i64) -> (i32, u8, u16) {
    let z = day + 719_468;
    let era = z.div_euclid(146_097);
    let of_era = z.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * of_year + 2) / 153;
    let of_month = of_year - (153 * shifted + 2) / 5 + 1;
    let month = if shifted < 10 { shifted + 3 } else { shifted - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year as i32, month as u8, of_month as u16)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_have_their_dates() {
        assert_eq!((day_of_year(0), day_of_year(59), day_of_year(19_782), day_of_year(19_783)), (1, 60, 60, 61));
        assert_eq!((year_month(19_783), day_of_year(20_088)), ((2024, 3), 366));
        assert_eq!(year_month(-719_468), (0, 3));
        for day in -3000..40_000 {
            let (year, month, of_month) = civil(day);
            assert!((1..=12).contains(&month) && (1..=31).contains(&of_month), "{year}-{month}-{of_month}");
        }
    }

    #[test]
    fn each_month_has_its_season() {
        let of: Vec<Season> = (1..=12).map(Season::of_month).collect();
        assert_eq!(
            (of[0], of[11], of[2], of[7], of[9]),
            (Season::Winter, Season::Winter, Season::Spring, Season::Summer, Season::Autumn)
        );
    }
}
