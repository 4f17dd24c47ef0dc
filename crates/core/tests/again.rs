//! A record that grows, judged with a memory and without: what is found is the same.

use ebrel_core::quality::{
    Channel, Delivery, Event, EventKind, Findings, Flag, Judged, Reference, Repeat, Settings, StationContext, Test,
    check_again, check_station,
};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use proptest::prelude::*;

const STEP: i64 = 3600;
const DAY: i64 = 24;
const YEAR: i64 = 365 * DAY;

/// A number from −0.5 to 0.5 that looks like chance.
fn chance(i: i64, of: i64) -> f64 {
    let mixed = (i.wrapping_mul(7919) ^ of.wrapping_mul(104_729)).wrapping_mul(2_654_435_761).rem_euclid(1_000_003);
    mixed as f64 / 1_000_003.0 - 0.5
}

fn rains(i: i64) -> f64 {
    if i % (9 * DAY) < 3 { 4.0 } else { 0.0 }
}

fn heat(i: i64, cm: f64) -> f64 {
    let season = -9.0 * (i as f64 / YEAR as f64 * std::f64::consts::TAU).cos();
    let damped = (-cm / 10.0).exp();
    let day = 6.0 * damped * ((i as f64 / DAY as f64 - cm / 63.0) * std::f64::consts::TAU).sin();
    ((11.0 + season + day + 0.05 * chance(i, cm as i64)) * 100.0).round() / 100.0
}

fn water(i: i64, cm: f64) -> f64 {
    let since = (i % (9 * DAY)) as f64 - cm / 5.0;
    let front = if since > 0.0 { 0.05 * (-since / 90.0).exp() } else { 0.0 };
    let season = 0.05 * (i as f64 / YEAR as f64 * std::f64::consts::TAU).cos();
    ((0.25 + season + front + 0.002 * chance(i, cm as i64)) * 1e4).round() / 1e4
}

/// A station of three depths, two thermometers and a gauge, hour by hour.
#[derive(Clone)]
struct Made {
    series: Vec<Series>,
    references: Vec<Reference>,
    repeats: Vec<Repeat>,
    delivered: Vec<Delivery>,
    events: Vec<Event>,
}

const KINDS: [(Quantity, f64); 6] = [
    (Quantity::WaterContent, 5.0),
    (Quantity::WaterContent, 15.0),
    (Quantity::WaterContent, 15.0),
    (Quantity::SoilTemperature, 5.0),
    (Quantity::SoilTemperature, 15.0),
    (Quantity::Rain, 0.0),
];

impl Made {
    fn new(hours: i64) -> Self {
        let value = |(quantity, cm): (Quantity, f64), i: i64| match quantity {
            Quantity::WaterContent => water(i, cm),
            Quantity::SoilTemperature => heat(i, cm),
            _ => rains(i),
        };
        let one = |kind| Series {
            times: (0..hours).map(|i| i * STEP).collect(),
            values: (0..hours).map(|i| value(kind, i)).collect(),
        };
        let series = KINDS.iter().map(|kind| one(*kind)).collect();
        Self { series, references: Vec::new(), repeats: Vec::new(), delivered: Vec::new(), events: Vec::new() }
    }

    /// Only its first hours.
    fn until(&self, hours: i64) -> Self {
        let cut = |s: &Series| {
            let n = s.times.partition_point(|t| *t < hours * STEP);
            Series { times: s.times[..n].into(), values: s.values[..n].to_vec() }
        };
        Self { series: self.series.iter().map(cut).collect(), ..self.clone() }
    }

    fn judged<T>(&self, look: impl FnOnce(&StationContext<'_>) -> T) -> T {
        let channels: Vec<Channel<'_>> = self
            .series
            .iter()
            .zip(KINDS)
            .enumerate()
            .map(|(i, (s, (quantity, cm)))| Channel {
                node: "node",
                port: ["m05", "m15", "m15b", "t05", "t15", "rain"][i],
                depth_cm: (quantity != Quantity::Rain).then_some(cm),
                interval: Some(SpanSeconds(STEP)),
                placed: (Some(UnixSeconds(0)), None),
                references: if i == 0 { &self.references } else { &[] },
                repeats: if i == 0 { &self.repeats } else { &[] },
                delivered: &self.delivered,
                ..Channel::bare(["5 cm", "15 cm", "15 cm b", "5 cm", "15 cm", "rain"][i], quantity, s.view())
            })
            .collect();
        look(&StationContext::alone(&channels, &self.events))
    }

    fn fresh(&self) -> Findings {
        self.judged(|station| check_station(station, &Settings::default()))
    }

    fn again(&self, judged: &mut Judged) -> Findings {
        self.judged(|station| check_again(station, &Settings::default(), judged))
    }
}

/// A fault from an hour on, of so many hours.
#[derive(Debug, Clone, Copy)]
struct Fault {
    kind: usize,
    channel: usize,
    from: i64,
    long: i64,
}

impl Fault {
    fn spoil(self, made: &mut Made) {
        let Self { kind, channel, from, long } = self;
        let s = &mut made.series[channel];
        let (a, b) = (from as usize, ((from + long) as usize).min(s.values.len()));
        match kind {
            0 => s.values[a] += 0.3,
            1 => s.values[a..b].fill(0.2871),
            2 => (a..b).for_each(|i| s.values[i] += 0.06 * chance(i as i64, 5)),
            3 => s.values[a..b].iter_mut().enumerate().for_each(|(i, v)| *v += 2e-5 * i as f64),
            4 => s.values[a..b].fill(-9999.0),
            _ => {
                let keep = |i: &usize| !(a..b).contains(i);
                *s = Series {
                    times: (0..s.times.len()).filter(keep).map(|i| s.times[i]).collect(),
                    values: (0..s.values.len()).filter(keep).map(|i| s.values[i]).collect(),
                };
            }
        }
    }
}

const HOURS: i64 = 3 * YEAR + 60 * DAY;

fn fault() -> impl Strategy<Value = Fault> {
    (0usize..6, 0usize..5, 100..HOURS - 100, 1..2000i64).prop_map(|(kind, channel, from, long)| Fault {
        kind,
        channel,
        from,
        long,
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// Whatever came before and wherever the record is cut, a memory of an earlier state changes nothing of what is found.
    #[test]
    fn a_record_that_grows_is_found_as_it_is(
        mut faults in prop::collection::vec(fault(), 0..12),
        cuts in prop::collection::vec(2 * YEAR..HOURS, 2..4),
    ) {
        // Gaps last: they move what stands where.
        faults.sort_by_key(|f| f.kind);
        let mut made = Made::new(HOURS);
        faults.iter().for_each(|f| f.spoil(&mut made));
        let mut cuts = cuts;
        cuts.sort_unstable();
        let mut judged = Judged::default();
        for hours in cuts.into_iter().chain([HOURS]) {
            let now = made.until(hours);
            prop_assert_eq!(now.again(&mut judged), now.fresh());
        }
        // A reading of long ago is another one now.
        made.series[0].values[3000] += 0.3;
        prop_assert_eq!(made.again(&mut judged), made.fresh());
    }
}

#[test]
fn whatever_is_another_in_the_past_is_seen() {
    let made = Made::new(HOURS);
    let long_ago = UnixSeconds(200 * DAY * STEP);
    type Change = (&'static str, fn(&mut Made, UnixSeconds), Test);
    let changes: [Change; 6] = [
        ("a value", |m, at| m.series[1].values[(at.0 / STEP) as usize] += 0.2, Test::Spike),
        (
            "a reference",
            |m, at| m.references.push(Reference { time: at, value: 0.6, uncertainty: Some(0.01) }),
            Test::ReferenceApart,
        ),
        ("a repeat", |m, at| m.repeats.push(Repeat { time: at, first: 0.2, later: 0.3 }), Test::Repeated),
        (
            "an event",
            |m, at| m.events.push(Event { kind: EventKind::Visit, start: at, end: UnixSeconds(at.0 + 7200) }),
            Test::Visit,
        ),
        (
            "a delivery",
            |m, at| {
                let late = UnixSeconds(at.0 + 40 * DAY * STEP);
                let whole = |received_at, first, last| Delivery { received_at, first, last };
                m.delivered = vec![
                    whole(late, UnixSeconds(at.0 + 20 * DAY * STEP), late),
                    whole(UnixSeconds(late.0 + 9), at, UnixSeconds(at.0 + 9 * DAY * STEP)),
                ];
            },
            Test::Late,
        ),
        ("rain that fell", |m, at| m.series[5].values[(at.0 / STEP) as usize - 2] = 900.0, Test::Impossible),
    ];
    let mut judged = Judged::default();
    let before = made.again(&mut judged);
    for (what, change, test) in changes {
        let mut other = made.clone();
        change(&mut other, long_ago);
        let mut known = judged.clone();
        let found = other.again(&mut known);
        assert_eq!(found, other.fresh(), "{what}");
        let of = |f: &Findings| f.flags.iter().flatten().filter(|f| f.test == test).count();
        if test != Test::Impossible {
            assert!(of(&found) > of(&before), "{what} of long ago is told: {:?}", found.flags);
        }
        assert_eq!(made.again(&mut known), before, "and gone when it is taken back");
    }
}

#[test]
fn a_probe_that_stands_still_for_longer_than_the_present_is_stuck_until_now() {
    let mut made = Made::new(4 * YEAR + 60 * DAY);
    Fault { kind: 1, channel: 1, from: 3 * YEAR - 100 * DAY, long: 2 * YEAR }.spoil(&mut made);
    let stuck: Vec<(i64, i64)> = made.fresh().flags[1]
        .iter()
        .filter(|f| f.test == Test::Stuck)
        .map(|f| (f.start.0 / STEP, f.end.0 / STEP))
        .collect();
    assert_eq!(stuck, [(3 * YEAR - 100 * DAY, 4 * YEAR + 60 * DAY - 1)]);
}

#[test]
fn a_record_that_is_sent_again_as_a_whole_is_not_late() {
    let mut made = Made::new(3 * YEAR);
    let whole = |received_at| Delivery {
        received_at: UnixSeconds(received_at),
        first: UnixSeconds(0),
        last: UnixSeconds((3 * YEAR - 1) * STEP),
    };
    made.delivered = vec![whole(4 * YEAR * STEP), whole(4 * YEAR * STEP + 9)];
    let value = |i: i64| made.series[0].values[i as usize];
    made.repeats =
        (0..3 * YEAR).map(|i| Repeat { time: UnixSeconds(i * STEP), first: value(i), later: value(i) }).collect();
    let late: Vec<usize> =
        made.fresh().flags.iter().map(|of| of.iter().filter(|f| f.test == Test::Late).count()).collect();
    assert_eq!(late, [0, 1, 1, 1, 1, 1], "of the first channel each reading is known to have come before");
    let repeated = made.fresh().flags[0].iter().filter(|f| f.test == Test::Repeated).map(|f| f.readings).sum::<usize>();
    assert_eq!(repeated as i64, 3 * YEAR, "and each is counted once");
}

#[test]
fn things_of_one_test_at_one_time_stay_as_many_as_they_are() {
    // Some came again as they were and some with other values, among each other.
    let told = |hours: i64| {
        let mut made = Made::new(hours);
        let again = |i: i64| {
            let first = made.series[0].values[i as usize];
            Repeat { time: UnixSeconds(i * STEP), first, later: if i % 7 < 3 { first } else { first + 0.1 } }
        };
        made.repeats = (2000..2100).filter(|i| i % 5 != 0).map(again).collect();
        let found = made.fresh();
        let of = found.flags[0].iter().filter(|f| f.test == Test::Repeated);
        of.map(|f| (f.start, f.end, f.grade, f.readings)).collect::<Vec<_>>()
    };
    let short = told(YEAR);
    assert!(short.len() > 1, "{short:?}");
    assert_eq!(told(HOURS), short);
}

#[test]
fn a_stamp_of_a_lost_clock_makes_no_short_record_a_long_one() {
    let mut made = Made::new(150 * DAY);
    for (channel, from) in [(0, 500), (1, 1500), (3, 2500)] {
        Fault { kind: 0, channel, from, long: 1 }.spoil(&mut made);
        Fault { kind: 2, channel, from: from + 300, long: 60 }.spoil(&mut made);
    }
    let later = |s: &Series| Series { times: s.times.iter().map(|t| t + 40 * YEAR * STEP).collect(), ..s.clone() };
    made.series = made.series.iter().map(later).collect();
    let told = |made: &Made| -> Vec<Vec<(i64, i64, Test)>> {
        let of = |flags: &Vec<Flag>| {
            flags.iter().filter(|f| f.test != Test::Gap).map(|f| (f.start.0, f.end.0, f.test)).collect()
        };
        made.fresh().flags.iter().map(of).collect()
    };
    let before = told(&made);
    assert!(before[0].len() >= 2 && before[1].len() >= 2, "{before:?}");
    let lost = |s: &Series| Series {
        times: std::iter::once(0).chain(s.times.iter().copied()).collect(),
        values: std::iter::once(s.values[0]).chain(s.values.iter().copied()).collect(),
    };
    made.series = made.series.iter().map(lost).collect();
    assert_eq!(told(&made), before);
}

#[test]
fn a_silence_over_the_end_of_the_past_is_one_silence() {
    let mut made = Made::new(4 * YEAR);
    Fault { kind: 5, channel: 0, from: 2 * YEAR, long: 2 * YEAR - 10 * DAY }.spoil(&mut made);
    let gaps: Vec<(i64, i64)> = made.fresh().flags[0]
        .iter()
        .filter(|f| f.test == Test::Gap)
        .map(|f| (f.start.0 / STEP, f.end.0 / STEP))
        .collect();
    assert_eq!(gaps, [(2 * YEAR, 4 * YEAR - 10 * DAY - 1)]);
}
