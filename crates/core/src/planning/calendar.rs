//! When: preparation, installation, settling, visits, battery, recalibration, retrieval.

use super::choices::{Method, Seat, Stay};
use super::draft::{Draft, Typed};
use super::energy::Energy;
use super::figures::Figure;
use super::plan::Plan;
use super::remark::{Remark, Severity, Step};
use crate::units::{SpanSeconds, UnixSeconds};

/// An entry of the calendar: a day, or several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Short and stable, for the calendar's own number.
    pub code: String,
    /// Midnight of its first day.
    pub from: UnixSeconds,
    /// Midnight after its last day.
    pub until: UnixSeconds,
    /// What happened, or is to be done.
    pub what: String,
    /// What makes that the day.
    pub why: String,
    /// Days from one to the next, and how many, if it comes again and again.
    pub repeats: Option<(i64, u32)>,
}

/// Days until readings count, by what sits how.
pub(crate) const SETTLE_DAYS: i64 = 14;
pub(crate) const SETTLE_BLOCK_DAYS: i64 = 21;
pub(crate) const SETTLE_REPACKED_DAYS: i64 = 42;
/// Cycles of soaking and drying a tension probe before it is installed wet, and days of each.
const SOAK_CYCLES: i64 = 2;
const SOAK_CYCLE_DAYS: i64 = 3;
/// Days before machines come at which everything is out.
const BEFORE_MACHINES_DAYS: i64 = 7;

/// Days that this plan's probes take to settle, and why.
#[must_use]
pub fn settling(plan: &Plan) -> (i64, &'static str) {
    if plan.seat == Seat::Repacked || plan.method == Method::Slurry {
        (SETTLE_REPACKED_DAYS, "a repacked or slurry seat settles for about six weeks")
    } else if plan.buried().any(|(_, p)| p.model.is_block()) {
        (SETTLE_BLOCK_DAYS, "blocks settle for about three weeks")
    } else {
        (SETTLE_DAYS, "dielectric probes settle until the first good wetting, or two weeks")
    }
}

/// A day as `2026-03-14`, in seconds of its midnight; `None` if it is no date.
#[must_use]
pub fn read_day(text: &str) -> Option<UnixSeconds> {
    let mut parts = text.trim().splitn(3, '-');
    let (y, m, d) =
        (parts.next()?.parse::<i64>().ok()?, parts.next()?.parse::<i64>().ok()?, parts.next()?.parse::<i64>().ok()?);
    let leap = (y % 4 == 0 && y % 100 != 0) || y % 400 == 0;
    let length = [31, if leap { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let days = *length.get(usize::try_from(m - 1).ok()?)?;
    if !(1900..=2200).contains(&y) || !(1..=days).contains(&d) {
        return None;
    }
    // Days from civil (H. Hinnant 2013, "chrono-Compatible Low-Level Date Algorithms").
    let shifted = if m <= 2 { y - 1 } else { y };
    let era = shifted.div_euclid(400);
    let year_of_era = shifted - era * 400;
    let day_of_year = (153 * (if m > 2 { m - 3 } else { m + 9 }) + 2) / 5 + d - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    Some(UnixSeconds((era * 146_097 + day_of_era - 719_468) * 86_400))
}

/// The calendar of a plan; empty until a day of installation is given.
#[must_use]
pub fn calendar(draft: &Draft, plan: &Plan, energy: &Energy, remarks: &mut Vec<Remark>) -> Vec<Entry> {
    let mut day = |typed: &Typed, at: &str| {
        let read = read_day(typed);
        if read.is_none() && !typed.is_blank() {
            remarks.push(Remark::new(
                Step::Kit,
                Severity::Stop,
                at,
                format!("“{}” is no date: write it like 2026-03-14.", &**typed),
            ));
        }
        read
    };
    let (install, retrieve, machines) =
        (day(&draft.install, "install"), day(&draft.retrieve, "retrieve"), day(&draft.machines_on, "machines_on"));
    let Some(install) = install else {
        if draft.install.is_blank() {
            remarks.push(Remark::new(
                Step::Kit,
                Severity::Note,
                "install",
                "Give the day of installation, and the rest of the calendar follows.",
            ));
        }
        return Vec::new();
    };
    let days = |n: i64| SpanSeconds(n * 86_400);
    let end = retrieve.unwrap_or(install + days((plan.setting.months * 30.44).round() as i64));
    let mut order = |later: UnixSeconds, at: &str, what: &str| {
        if later <= install {
            remarks.push(Remark::new(
                Step::Kit,
                Severity::Stop,
                at,
                format!("{what} comes before the installation: put the dates in order."),
            ));
        }
        later > install
    };
    let in_order =
        order(end, "retrieve", "Retrieval") & machines.is_none_or(|m| order(m, "machines_on", "The machines' day"));
    if !in_order {
        return Vec::new();
    }
    let entry = |code: &str, from: UnixSeconds, length: i64, what: String, why: &str| Entry {
        code: code.to_owned(),
        from,
        until: from + days(length),
        what,
        why: why.to_owned(),
        repeats: None,
    };
    let station = &plan.setting.station;
    let mut entries = vec![
        entry(
            "order",
            install - days(56),
            1,
            format!("{station}: order probes, cable and spares"),
            "eight weeks for delivery",
        ),
        entry(
            "calibrate",
            install - days(28),
            5,
            format!("{station}: acceptance and calibration on the bench"),
            "oven and packing take a week",
        ),
        entry(
            "services",
            install - days(10),
            1,
            format!("{station}: have buried services located, ask the owner"),
            "before any hole",
        ),
        entry(
            "pack",
            install - days(1),
            1,
            format!("{station}: load the program, write a test record, pack by the list"),
            "the evening before",
        ),
        entry("install", install, 1, format!("{station}: install"), "deepest probe first"),
    ];
    if plan.buried().any(|(_, p)| p.model.is_block()) {
        let from = install - days(SOAK_CYCLES * SOAK_CYCLE_DAYS + 1);
        let cycles = SOAK_CYCLES * SOAK_CYCLE_DAYS;
        entries.push(entry(
            "soak",
            from,
            cycles,
            format!("{station}: soak blocks overnight, dry, {SOAK_CYCLES} times"),
            "they go in wet",
        ));
    }
    let (settle, why) = settling(plan);
    entries.push(entry(
        "settling",
        install + days(1),
        settle,
        format!("{station}: settling; readings are kept and marked"),
        why,
    ));
    entries.push(entry(
        "start",
        install + days(1 + settle),
        1,
        format!("{station}: declare the official start"),
        "with its reason and starting conditions",
    ));
    let every = plan.get(Figure::VisitEvery).round().max(1.0) as i64;
    repeated(
        &mut entries,
        entry(
            "visit",
            install + days(every),
            1,
            format!("{station}: visit"),
            "last record, clock, battery, enclosure, cables, reference reading",
        ),
        every,
        end,
    );
    let holds = if energy.solar.is_some() { None } else { energy.battery_days };
    if let Some(battery) = holds.map(|d| (d * 0.8).floor() as i64).filter(|d| *d >= 1) {
        repeated(
            &mut entries,
            entry(
                "battery",
                install + days(battery),
                1,
                format!("{station}: change the battery"),
                "at four fifths of its life",
            ),
            battery,
            end,
        );
    }
    let again = (plan.get(Figure::Recalibration) * 30.44).round() as i64;
    repeated(
        &mut entries,
        entry(
            "recalibrate",
            install + days(again),
            5,
            format!("{station}: check the calibration"),
            "cores beside the probes, or on the bench",
        ),
        again,
        end,
    );
    if let Some(machines) = machines {
        let why = if plan.stay == Stay::Seasonal {
            "and back in afterwards, with a new settling period"
        } else {
            "cables and posts out of their way"
        };
        entries.push(entry(
            "machines",
            machines - days(BEFORE_MACHINES_DAYS),
            1,
            format!("{station}: clear the way for machines"),
            why,
        ));
    }
    entries.push(entry(
        "retrieve",
        end,
        1,
        format!("{station}: retrieve"),
        "dig beside each cable and follow it; never pull",
    ));
    entries.sort_by_key(|e| e.from);
    entries
}

/// Adds an entry that comes again every so many days until the end.
fn repeated(entries: &mut Vec<Entry>, first: Entry, every: i64, end: UnixSeconds) {
    let left = (end - first.from).0;
    if left > 0 {
        let times = u32::try_from(left / (every * 86_400) + 1).unwrap_or(u32::MAX);
        entries.push(Entry { repeats: (times > 1).then_some((every, times)), ..first });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_read_and_what_is_no_day_is_not() {
        assert_eq!(read_day("1970-01-02"), Some(UnixSeconds(86_400)));
        assert_eq!(read_day("2024-02-29"), Some(UnixSeconds(1_709_164_800)));
        for wrong in ["2026-02-29", "2026-13-01", "14.3.2026", "", "2026-03", "26-03-01"] {
            assert_eq!(read_day(wrong), None, "{wrong}");
        }
    }
}
