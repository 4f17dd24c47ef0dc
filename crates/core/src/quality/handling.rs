//! What people did to a record: soil that settles around a probe, and somebody at work beside it. True, but to be known.

use super::scene::Scene;
use super::screened::Screened;
use super::{Definition, Event, EventKind, Evidence, Flag, SettlingEvidence, VisitEvidence};
use crate::units::{Grade, Quantity, SpanSeconds, UnixSeconds};

pub(super) const SETTLING: Definition = Definition {
    title: "Settling",
    mark: "Se",
    grade: Grade::Condition,
    finds: "Readings between the day on which a probe was put in and the official start; where none was declared, as long as a \
            probe of its kind takes to settle. And those of the day after a new program, a treatment or a moved shield.",
    settings: &[],
};

pub(super) const VISIT: Definition = Definition {
    title: "Visit",
    mark: "V",
    grade: Grade::Condition,
    finds: "Readings taken while somebody worked at the station.",
    settings: &[],
};

/// Readings that settle: before a record counts, and after a change that gives them another meaning.
pub(super) fn settling(scene: &Scene<'_>) -> Vec<Flag> {
    let first = since_it_was_put_in(scene);
    let known = first.as_ref().map_or(i64::MIN, |f| f.end.0);
    let changes = scene.station.events.iter().filter(|e| e.kind.is_change()).filter(|e| e.start.0 > known);
    let mut flags: Vec<Flag> = first.into_iter().collect();
    let mut until = i64::MIN;
    for change in changes {
        let Some((from, to)) = day_after(scene, change).filter(|(from, _)| *from > until) else { continue };
        let Some((span, readings)) = readings_within(scene.of, from, to) else { continue };
        until = to;
        let evidence = Evidence::Settling(SettlingEvidence { days: 1.0.into() });
        let reason = format!("Within a day after {}: to be told from what was before.", change.kind.words());
        flags.push(Flag::new(SETTLING.grade, span, readings, 0.0, evidence, reason));
    }
    flags
}

/// Whether a change concerns what a channel measures: a program concerns every one, a treatment those in the soil, a shield the air.
const fn concerns(change: EventKind, quantity: Quantity) -> bool {
    match change {
        EventKind::ProgramChange => true,
        EventKind::ShieldMoved => {
            matches!(quantity, Quantity::AirTemperature | Quantity::BareAirTemperature | Quantity::RelativeHumidity)
        }
        _ => quantity.is_in_soil(),
    }
}

/// The day after a change, as far as the probe was there and is concerned.
fn day_after(scene: &Scene<'_>, change: &Event) -> Option<(i64, i64)> {
    let channel = scene.of.channel;
    let from = channel.placed.0.map_or(change.start, |p| p.max(change.start)).0;
    let to = (change.start + SpanSeconds::DAY).0.min(channel.placed.1.map_or(i64::MAX, |gone| gone.0)) - 1;
    (concerns(change.kind, channel.quantity) && from <= to).then_some((from, to))
}

/// Readings of a probe in the soil before its record counts.
fn since_it_was_put_in(scene: &Scene<'_>) -> Option<Flag> {
    let channel = scene.of.channel;
    let from = channel.placed.0.filter(|_| channel.quantity.is_in_soil())?;
    let gone = channel.placed.1.unwrap_or(UnixSeconds(i64::MAX));
    let starts = scene.station.events.iter().filter(|e| e.kind == EventKind::OfficialStart).map(|e| e.start);
    // Of several starts (another season's) the first after the probe was put in is its own.
    let official = starts.filter(|at| *at >= from && *at < gone).min();
    let until = official.or(channel.settled).filter(|until| *until > from)?;
    let (span, readings) = readings_within(scene.of, from.0, until.0 - 1)?;
    let long = SpanSeconds(until.0 - from.0);
    let reason = match official {
        Some(_) => format!("Before the official start, {} after the probe was put in.", long.in_words()),
        None => {
            format!(
                "The soil settles around the probe for {} after it was put in; no start was declared.",
                long.in_words()
            )
        }
    };
    let days = (long.0 as f64 / SpanSeconds::DAY.0 as f64).into();
    Some(Flag::new(SETTLING.grade, span, readings, 0.0, Evidence::Settling(SettlingEvidence { days }), reason))
}

/// Readings taken during visits, maintenance and installations; what overlaps is one.
pub(super) fn visits(scene: &Scene<'_>) -> Vec<Flag> {
    let mut events: Vec<&Event> = scene.station.events.iter().filter(|e| e.kind.is_at_work()).collect();
    events.sort_by_key(|e| (e.start, e.end, e.kind.code()));
    let mut joined: Vec<(i64, i64, &str)> = Vec::new();
    for e in events {
        match joined.last_mut() {
            Some(last) if e.start.0 <= last.1 => last.1 = last.1.max(e.end.0),
            _ => joined.push((e.start.0, e.end.0.max(e.start.0), e.kind.words())),
        }
    }
    let flag = |(from, to, words): (i64, i64, &str)| {
        let (span, readings) = readings_within(scene.of, from, to)?;
        let evidence = Evidence::Visit(VisitEvidence { minutes: ((to - from) as f64 / 60.0).into() });
        let reason = format!("Somebody was at the station for {}: {words}.", SpanSeconds(to - from).in_words());
        Some(Flag::new(VISIT.grade, span, readings, 0.0, evidence, reason))
    };
    joined.into_iter().filter_map(flag).collect()
}

/// First and last reading between two times (both inclusive), and how many there are; `None` without any.
fn readings_within(of: &Screened<'_>, from: i64, to: i64) -> Option<((i64, i64), usize)> {
    let times = of.channel.view.times;
    let (a, b) = (times.partition_point(|t| *t < from), times.partition_point(|t| *t <= to));
    (a < b).then(|| ((times[a], times[b - 1]), b - a))
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, series};
    use super::super::{Channel, Settings, StationContext, Test, check_station};
    use super::*;
    use crate::units::Quantity;

    const STEP: i64 = 900;

    fn event(kind: EventKind, start: i64, end: i64) -> Event {
        Event { kind, start: UnixSeconds(start * STEP), end: UnixSeconds(end * STEP) }
    }

    /// First and last reading, by their numbers, and how many.
    fn found(channel: Channel<'_>, events: &[Event], test: Test) -> Vec<(i64, i64, usize)> {
        let flags = check_station(&StationContext::alone(&[channel], events), &Settings::default()).flags.remove(0);
        let of = flags.iter().filter(|f| f.test == test);
        of.map(|f| (f.start.0 / STEP, f.end.0 / STEP, f.readings)).collect()
    }

    #[test]
    fn what_was_before_the_official_start_is_marked_and_what_came_after_is_not() {
        let s = series(400, |i| 0.3 + 1e-4 * (i as f64 / 9.0).sin());
        let at = |n: i64| Some(UnixSeconds(n * STEP));
        let probe = |placed, settled| Channel { placed, settled, ..channel(&s) };
        let declared = [event(EventKind::OfficialStart, 100, 100)];
        let of = |c, events: &[Event]| found(c, events, Test::Settling);
        assert_eq!(of(probe((at(10), None), at(300)), &declared), [(10, 99, 90)], "the declared start stands");
        assert_eq!(of(probe((at(10), None), at(300)), &[]), [(10, 299, 290)]);
        assert_eq!(
            of(probe((at(150), None), at(200)), &declared),
            [(150, 199, 50)],
            "a probe put in later settles anew"
        );
        let seasons = [declared[0], event(EventKind::OfficialStart, 350, 350)];
        assert_eq!(
            of(probe((at(10), None), at(300)), &seasons),
            [(10, 99, 90)],
            "a later season's start is another matter"
        );
        assert_eq!(of(probe((None, None), None), &declared), [], "nobody knows when it was put in");
        assert_eq!(
            of(probe((at(10), at(50)), at(300)), &declared),
            [(10, 299, 290)],
            "a start after its end is not its own"
        );
        let air = Channel { quantity: Quantity::AirTemperature, depth_cm: None, ..probe((at(10), None), at(300)) };
        assert_eq!(of(air, &declared), []);
    }

    #[test]
    fn a_new_program_a_treatment_and_a_moved_shield_begin_a_day_of_settling_of_what_they_concern() {
        let s = series(400, |i| 0.3 + 1e-4 * (i as f64 / 9.0).sin());
        let events = [
            event(EventKind::ProgramChange, 50, 50),
            event(EventKind::ProgramChange, 60, 60),
            event(EventKind::Treatment, 200, 250),
            event(EventKind::ShieldMoved, 300, 300),
            event(EventKind::Maintenance, 350, 350),
        ];
        assert_eq!(found(channel(&s), &events, Test::Settling), [(50, 145, 96), (200, 295, 96)]);
        let air = Channel { quantity: Quantity::AirTemperature, depth_cm: None, ..channel(&s) };
        assert_eq!(found(air, &events, Test::Settling), [(50, 145, 96), (300, 395, 96)], "a treatment is of the soil");
        let gone = Channel { placed: (None, Some(UnixSeconds(70 * STEP))), ..channel(&s) };
        assert_eq!(found(gone, &events[..1], Test::Settling), [(50, 69, 20)]);
    }

    #[test]
    fn a_visit_marks_its_readings_once_and_an_irrigation_none() {
        let s = series(400, |i| 0.3 + 1e-4 * (i as f64 / 9.0).sin());
        let events = [
            event(EventKind::Visit, 50, 52),
            event(EventKind::Maintenance, 51, 55),
            event(EventKind::Irrigation, 100, 104),
            event(EventKind::Visit, 900, 904),
        ];
        assert_eq!(found(channel(&s), &events, Test::Visit), [(50, 55, 6)]);
        let between = [Event { kind: EventKind::Visit, start: UnixSeconds(901), end: UnixSeconds(905) }];
        assert_eq!(found(channel(&s), &between, Test::Visit), [], "no reading falls into it");
    }
}
