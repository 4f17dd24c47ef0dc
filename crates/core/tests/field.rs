//! The day at the hole: every kind of entry at and beyond its limits, every rule of a table from both sides, logs in any order.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::calibration::Curve;
use ebrel_core::field::{
    Action, Around, Clock, ClockCheck, Deed, Disturbance, Entry, Limits, Log, LogKind, Neighbour, ProbeAtDepth,
    RepairKind, RuleKind, SoilVerdict, StepOutcome, Weather, check_entry, judge, limits, settling,
};
use ebrel_core::planning::Seat;
use ebrel_core::soil::Horizon;
use ebrel_core::units::{Principle, Quantity, UnixSeconds};
use proptest::prelude::*;
use std::collections::BTreeSet;

const DAY: i64 = 86_400;

fn entry(n: u32, at: i64, deed: Deed) -> Entry {
    Entry {
        id: format!("0197-entry-{n:04}"),
        log: "0197-log-0001".into(),
        station: "cut".into(),
        at: UnixSeconds(at),
        by: "TQ".into(),
        corrects: None,
        deed,
    }
}

fn around() -> Around {
    Around { serials: vec!["BD-1".into()], deepest_cm: Some(60.0), ports: Vec::new(), now: UnixSeconds(10 * DAY) }
}

/// What is said of a deed: nothing where it is taken.
fn refusal(deed: Deed) -> String {
    check_entry(&entry(1, 5 * DAY, deed), &Log::default(), &around()).map_or_else(|r| r.0, |()| String::new())
}

fn probe(depth_cm: f64, given_up: bool) -> Deed {
    let (serial, port, orientation) = ("BD-1".into(), "m15".into(), String::new());
    Deed::Probe { serial, depth_cm, port, orientation, given_up, repacked: false }
}

/// One deed of each kind that is taken.
fn every_kind() -> Vec<Deed> {
    let text = || "θ “quoted”, 5 %".to_owned();
    let check = ClockCheck { shown: UnixSeconds(5 * DAY + 40), truth: UnixSeconds(5 * DAY), set: true };
    vec![
        Deed::Begun { of: LogKind::Removal },
        Deed::Step { step: text(), does: text(), outcome: StepOutcome::Skipped, note: text() },
        Deed::Horizon { name: "A".into(), top_cm: 0.0, bottom_cm: 18.0, texture: text() },
        Deed::Hole { number: 2, depth_cm: 72.0 },
        Deed::Core { tin: "K12".into(), depth_cm: 30.0, volume_cm3: 100.0 },
        probe(15.0, true),
        Deed::Reading { serial: "BD-1".into(), repeats: vec![900.0, 901.5], said: text() },
        Deed::Layer { name: text(), kg: 0.0 },
        Deed::Channel { port: "m15".into(), value: -3.5 },
        Deed::Clock { node: "node 01".into(), check },
        Deed::Spot { point: "BD-1".into(), value: None, not_reached: text() },
        Deed::Removed { serial: "bd-1".into(), condition: text(), lost: true, refused: false },
        Deed::Photo { sha256: "a".repeat(64), caption: text(), taken: text(), place: None },
        Deed::Repair { of: RepairKind::ProbeExchanged, note: text() },
        Deed::Note { text: text() },
        Deed::Closed,
    ]
}

#[test]
fn every_kind_of_entry_is_taken_and_comes_back_from_json_as_it_was() {
    let mut kinds = BTreeSet::new();
    for (n, deed) in (0..).zip(every_kind()) {
        assert_eq!(refusal(deed.clone()), "", "{deed:?}");
        let written = entry(n, 5 * DAY, deed);
        let json = serde_json::to_value(&written).unwrap();
        kinds.insert(json["deed"]["kind"].as_str().unwrap().to_owned());
        assert_eq!(serde_json::from_value::<Entry>(json).unwrap(), written);
    }
    assert_eq!(kinds.len(), every_kind().len(), "each has a name of its own: {kinds:?}");
}

#[test]
fn a_number_at_its_limit_is_taken_and_one_beyond_it_is_told() {
    let depth = |cm| Deed::Hole { number: 1, depth_cm: cm };
    let core = |cm3| Deed::Core { tin: "K1".into(), depth_cm: 10.0, volume_cm3: cm3 };
    let layer = |kg| Deed::Layer { name: "A".into(), kg };
    let horizon = |top_cm, bottom_cm| Deed::Horizon { name: "Bw".into(), top_cm, bottom_cm, texture: String::new() };
    let taken = [depth(0.0), layer(0.0), layer(5000.0), horizon(0.0, 0.5), probe(85.0, false)];
    for deed in taken {
        assert_eq!(refusal(deed.clone()), "", "{deed:?}");
    }
    let told = [
        (layer(-0.1), "soil put back"),
        (layer(5000.1), "soil put back"),
        (layer(f64::NAN), "soil put back"),
        (depth(f64::INFINITY), "depth"),
        (core(0.0), "core"),
        (core(f64::NAN), "core"),
        (horizon(18.0, 18.0), "Horizon Bw must end below"),
        (horizon(18.0, 4.0), "Horizon Bw must end below"),
        (probe(85.1, false), "below the bottom of the hole (60 cm)"),
        (Deed::Channel { port: "m15".into(), value: f64::NAN }, "needs a number"),
        (
            Deed::Spot { point: "BD-1".into(), value: Some(f64::INFINITY), not_reached: String::new() },
            "BD-1 needs a number",
        ),
        (Deed::Spot { point: "BD-1".into(), value: None, not_reached: " ".into() }, "why BD-1 was not reached"),
        (Deed::Reading { serial: "BD-1".into(), repeats: Vec::new(), said: String::new() }, "needs a number"),
        (Deed::Core { tin: " ".into(), depth_cm: 10.0, volume_cm3: 100.0 }, "tin's number"),
        (
            Deed::Photo { sha256: "a".repeat(63), caption: String::new(), taken: String::new(), place: None },
            "number is damaged",
        ),
        (
            Deed::Photo { sha256: "g".repeat(64), caption: String::new(), taken: String::new(), place: None },
            "number is damaged",
        ),
        (Deed::Repair { of: RepairKind::Other, note: "\t".into() }, "Say what was changed"),
        (Deed::Removed { serial: String::new(), condition: String::new(), lost: false, refused: false }, "The label"),
        (
            Deed::Removed { serial: "BD-9".into(), condition: String::new(), lost: false, refused: false },
            "another study",
        ),
    ];
    for (deed, words) in told {
        let says = refusal(deed.clone());
        assert!(says.to_lowercase().contains(&words.to_lowercase()), "{deed:?}: {says}");
    }
    assert_eq!(refusal(probe(90.0, true)), "", "where a stone was met nothing lies");
}

#[test]
fn who_when_and_how_long_are_checked_whatever_was_done() {
    for deed in every_kind() {
        let good = entry(1, 5 * DAY, deed);
        let says = |e: Entry| check_entry(&e, &Log::default(), &around()).map_or_else(|r| r.0, |()| String::new());
        assert!(says(Entry { by: String::new(), ..good.clone() }).contains("initials"));
        assert_eq!(says(Entry { by: "θ".repeat(40), ..good.clone() }), "");
        assert!(says(Entry { by: "θ".repeat(41), ..good.clone() }).contains("initials"));
        assert_eq!(
            says(Entry { at: UnixSeconds(10 * DAY + 600), ..good.clone() }),
            "",
            "ten minutes ahead are a clock"
        );
        assert!(says(Entry { at: UnixSeconds(10 * DAY + 601), ..good.clone() }).contains("from the future"));
        assert!(says(Entry { id: "short".into(), ..good.clone() }).contains("no number of its own"));
        assert!(says(Entry { log: "0197 log'; --".into(), ..good.clone() }).contains("no number of its own"));
        assert!(says(Entry { corrects: Some(good.id.clone()), ..good.clone() }).contains("corrects itself"));
    }
    assert_eq!(refusal(Deed::Note { text: "θ".repeat(2000) }), "");
    assert!(refusal(Deed::Note { text: "θ".repeat(2001) }).contains("2000 characters"));
}

fn curve() -> Curve {
    Curve::from_coefficients(&[-0.2, 3e-4], 700.0, 2000.0, Some(0.006)).unwrap()
}

fn horizon() -> Horizon {
    Horizon { bottom_cm: 40.0, texture: "silt loam".into(), bulk_density_g_cm3: Some(1.34), ..Horizon::default() }
}

/// Tables of every kind of probe, with everything known and with nothing.
fn tables() -> Vec<Limits> {
    let (curve, horizon) = (curve(), horizon());
    let known = Weather { rain_mm: Some(35.0), dry_days: Some(9.0) };
    let mut tables = Vec::new();
    for (quantity, raw_unit, instrument) in [
        (Quantity::WaterContent, "mV", Some((250.0, 2500.0))),
        (Quantity::RawOutput, "mV", Some((250.0, 2500.0))),
        (Quantity::WaterTension, "kPa", Some((-200.0, 0.0))),
        (Quantity::SoilTemperature, "degC", Some((-40.0, 80.0))),
        (Quantity::Rain, "mm", None),
    ] {
        for full in [true, false] {
            let probe = ProbeAtDepth {
                quantity,
                raw_unit,
                instrument: instrument.filter(|_| full),
                resolution: full.then_some(0.01),
                curve: (quantity == Quantity::WaterContent).then_some(&curve),
                in_air: full.then_some(480.0),
                depth_cm: 15.0,
                horizon: full.then_some(&horizon),
            };
            tables.push(limits(&probe, if full { known } else { Weather::default() }));
        }
    }
    tables
}

#[test]
fn each_rule_is_silent_at_its_limit_and_speaks_beyond_it() {
    let mut spoke = BTreeSet::new();
    for table in tables() {
        for (i, rule) in table.rules.iter().enumerate() {
            // The rule alone, so that none before it speaks first.
            let alone = Limits { rules: vec![rule.clone()], ..table.clone() };
            let near = |figure: f64| 1e-6 * figure.abs().max(1.0);
            for (limit, beyond) in [(rule.low, -1.0), (rule.high, 1.0)].into_iter().filter_map(|(l, b)| Some((l?, b))) {
                let at = |figure: f64| -> Option<SoilVerdict> {
                    let raw_of = |value: f64| {
                        let (low, high) = (table.scale.first()?, table.scale.last()?);
                        Some(low.0 + (value - low.1) / (high.1 - low.1) * (high.0 - low.0))
                    };
                    let (repeats, beside) = match rule.of {
                        RuleKind::Raw => (vec![figure], None),
                        RuleKind::Spread => (vec![1000.0, 1000.0 + figure], None),
                        RuleKind::Value => (vec![raw_of(figure)?], None),
                        RuleKind::Off => {
                            let here = table.value_of(20.0)?;
                            (vec![20.0], Some(Neighbour { place: "30 cm".into(), value: here - figure }))
                        }
                    };
                    Some(judge(&alone, &repeats, beside.as_ref())?.verdict)
                };
                assert_eq!(at(limit - beyond * near(limit)), Some(SoilVerdict::Good), "rule {i} of {table:?}");
                assert_eq!(at(limit + beyond * near(limit)), Some(rule.verdict), "rule {i} of {table:?}");
                spoke.insert(rule.of.code());
            }
        }
    }
    assert_eq!(spoke.into_iter().collect::<Vec<_>>(), ["off", "raw", "spread", "value"]);
}

#[test]
fn a_table_says_what_it_does_not_know() {
    let [full, bare]: [Limits; 2] = tables()[..2].to_vec().try_into().unwrap();
    assert!(bare.rules.len() < full.rules.len());
    for unknown in ["pore space here is not known", "texture here is not known", "No gauge tells"] {
        assert!(bare.assumes.iter().any(|a| a.contains(unknown)), "{unknown}: {:?}", bare.assumes);
        assert!(!full.assumes.iter().any(|a| a.contains(unknown)), "{unknown}: {:?}", full.assumes);
    }
    assert!(full.assumes[0].contains("±") && full.assumes[0].contains("95 %"), "{:?}", full.assumes);
}

#[test]
fn how_long_a_record_settles_goes_by_principle_seat_and_what_disturbed_it() {
    let days = |principle, seat, disturbance, wetted: Option<i64>| {
        let settles = settling(principle, seat, disturbance, UnixSeconds(0), wetted.map(|d| UnixSeconds(d * DAY)));
        assert!(!settles.because.is_empty());
        settles.until.0 as f64 / DAY as f64
    };
    let (put_in, changed) = (Disturbance::Installed, Disturbance::Changed);
    for principle in [Principle::Dielectric, Principle::GranularMatrix, Principle::Gypsum, Principle::Thermometer] {
        let undisturbed = days(principle, Seat::Undisturbed, put_in, None);
        assert!(days(principle, Seat::Repacked, put_in, None) >= undisturbed, "{principle:?}");
        assert_eq!(days(principle, Seat::Undisturbed, changed, None), 1.0, "{principle:?}");
        assert!(days(principle, Seat::Undisturbed, put_in, Some(400)) <= undisturbed, "a late rain lengthens nothing");
    }
    assert_eq!(days(Principle::Dielectric, Seat::Undisturbed, put_in, Some(-3)), 14.0, "rain before it was put in");
    assert_eq!(
        days(Principle::Dielectric, Seat::Repacked, put_in, Some(3)),
        days(Principle::Gypsum, Seat::Repacked, put_in, None)
    );
    assert_eq!(days(Principle::RainGauge, Seat::Undisturbed, put_in, None), 0.0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whatever is read, what is said has its figures in it and ends with what to do.
    #[test]
    fn a_judgement_is_a_whole_sentence(raws in prop::collection::vec(-1e6f64..1e6, 1..5), beside in prop::option::of(-1.0f64..60.0), which in 0usize..10) {
        let table = &tables()[which];
        let beside = beside.map(|value| Neighbour { place: "30 cm".into(), value });
        let judged = judge(table, &raws, beside.as_ref()).unwrap();
        prop_assert!(!judged.says.contains(['{', '}']) && !judged.says.contains("NaN"), "{}", judged.says);
        prop_assert!(judged.says.ends_with(judged.does.words()), "{}", judged.says);
        prop_assert_eq!(judged.verdict == SoilVerdict::Good, judged.does == Action::GoOn);
        let (mut back, mut twice) = (raws.clone(), raws.clone());
        back.reverse();
        twice.extend(&raws);
        prop_assert_eq!(judge(table, &back, beside.as_ref()).unwrap().verdict, judged.verdict);
        prop_assert_eq!(judge(table, &twice, beside.as_ref()).unwrap().verdict, judged.verdict);
    }

    /// Corrections of anything, known or not, in rings too: nothing is lost, nothing doubled, and the order of arrival is nothing.
    #[test]
    fn a_log_loses_no_entry(times in prop::collection::vec((0i64..50, prop::option::of(0u32..20)), 1..16), turn in 0usize..16) {
        let entries: Vec<Entry> = (0..).zip(&times).map(|(n, (at, of))| {
            let corrects = of.filter(|of| *of != n).map(|of| format!("0197-entry-{of:04}"));
            Entry { corrects, ..entry(n, *at, Deed::Note { text: format!("{n}") }) }
        }).collect();
        let log = Log::of(&entries);
        let ids = |of: &[Entry]| of.iter().map(|e| e.id.clone()).collect::<BTreeSet<_>>();
        let (stands, corrected) = (ids(&log.stands), ids(&log.corrected));
        prop_assert_eq!(stands.len() + corrected.len(), entries.len());
        prop_assert_eq!(stands.union(&corrected).cloned().collect::<BTreeSet<_>>(), ids(&entries));
        prop_assert!(log.stands.windows(2).all(|w| (w[0].at, &w[0].id) <= (w[1].at, &w[1].id)), "in order of time");
        let mut turned = entries.clone();
        turned.rotate_left(turn % entries.len());
        turned.extend(entries.iter().rev().cloned());
        prop_assert_eq!(Log::of(&turned), log);
    }

    /// A corrected time is known no better than a check, and worse the further from one.
    #[test]
    fn a_clock_is_known_best_at_its_checks(ahead in -900i64..900, days in 2i64..60) {
        let truth = UnixSeconds(days * DAY);
        let check = ClockCheck { shown: UnixSeconds(truth.0 + ahead), truth, set: false };
        let clock = Clock::new(UnixSeconds(0), &[check]).unwrap();
        let known = |t: i64| clock.known_to(UnixSeconds(t));
        prop_assert!(known(check.shown.0) <= known(check.shown.0 / 2));
        prop_assert!(known(check.shown.0 + DAY) < known(check.shown.0 + 9 * DAY));
        prop_assert_eq!(clock.corrected(check.shown), truth);
        prop_assert_eq!(clock.is_right(), ahead == 0);
    }
}
